"""README and docs are true: what they show is run and compared, every call in them exists, every link leads somewhere."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tomllib
from itertools import pairwise
from pathlib import Path

import click
import pytest

import narvet
from narvet.cli.main import cli
from tests.program import PROGRAM, run

TOP = Path(__file__).parent.parent
PAGES = [TOP / "README.md", TOP / "CONTRIBUTING.md", *sorted((TOP / "docs").rglob("*.md"))]
BLOCK = re.compile(r"^```console\n(.*?)^```", re.MULTILINE | re.DOTALL)
SHOWN = [page for page in PAGES if BLOCK.search(page.read_text())]


def calls(page: Path) -> list[tuple[str, str]]:
    """Return the calls in the blocks of a page, in order, and what they show."""
    text = "".join(BLOCK.findall(page.read_text()))
    found = [part.partition("\n") for part in re.split(r"^\$ ", text, flags=re.MULTILINE) if part]
    return [(call, shown) for call, _, shown in found]


def pattern(shown: str) -> str:
    """Return what a block shows as a pattern: … stands for something in a line, ... on a line for any lines."""
    lines = [
        r"(?:.*\n)*?" if line == "..." else re.escape(line).replace("…", ".*?") + r"\n" for line in shown.splitlines()
    ]
    return "".join(lines)


@pytest.mark.parametrize("page", SHOWN, ids=lambda page: page.name)
def test_what_a_page_shows_is_what_comes_back(page: Path, tmp_path: Path) -> None:
    where = {**os.environ, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}", "PYTHONIOENCODING": "utf-8"}
    for call, shown in calls(page):
        done = subprocess.run(
            ["bash", "-c", call], cwd=tmp_path, env=where, capture_output=True, text=True, check=False
        )
        said = "".join(f"{line.rstrip()}\n" for line in (done.stdout + done.stderr).splitlines())
        assert re.fullmatch(pattern(shown), said), f"$ {call}\n{said}"


def test_sheets_and_tables_in_pages_are_valid(tmp_path: Path) -> None:
    """What README shows of the example is in it; tables of a sheet and of requests are taken."""
    example = tomllib.loads((TOP / "src/narvet/demo/larkmoor/sheet.toml").read_text())
    (shown,) = re.findall(r"^```toml\n(.*?)^```", (TOP / "README.md").read_text(), re.MULTILINE | re.DOTALL)
    for name, keys in tomllib.loads(shown)["disk"].items():
        assert {key: example["disk"][name][key] for key in keys} == keys
    for page in PAGES:
        for block in re.findall(r"^```toml\n(.*?)^```", page.read_text(), re.MULTILINE | re.DOTALL):
            assert tomllib.loads(block)
    (table,) = re.findall(r"^```\n(disk,.*?)^```", (TOP / "docs" / "commands.md").read_text(), re.MULTILINE | re.DOTALL)
    (tmp_path / "r.csv").write_text(table)
    run("draft", str(tmp_path / "s.toml"), "--from", str(tmp_path / "r.csv"), status=0)


def words_of(text: str) -> list[list[str]]:
    """Return the calls of narvet that stand in backquotes."""
    inline = re.findall(r"`narvet ([^`]+)`", re.sub(r"```.*?```", "", text, flags=re.DOTALL))
    return [part.split() for one in inline for part in re.split(r", narvet |`, `narvet ", one)]


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_call_and_link_of_a_page_exists(page: Path) -> None:
    text = page.read_text()
    whole = click.Context(cli)
    for words in words_of(text):
        if words[0] == "--debug" or not words[0].islower():
            continue
        command = cli.get_command(whole, words[0].rstrip(".,;:"))
        assert command is not None or words[0].startswith("--"), words
        options = {name for param in command.params for name in param.opts} if command else {"--version"}
        for option in re.findall(r"--[a-z-]+", " ".join(words)):
            assert option in options | {"--help", "--json"}, (page.name, words)
    for link in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", text):
        assert "://" in link or (page.parent / link).exists(), (page.name, link)


def test_the_script_of_the_library_page_runs(tmp_path: Path) -> None:
    (script,) = re.findall(
        r"^```python\n(.*?)^```", (TOP / "docs" / "library.md").read_text(), re.MULTILINE | re.DOTALL
    )
    done = subprocess.run([sys.executable, "-c", script], cwd=tmp_path, capture_output=True, text=True, check=True)
    assert "1 steps done\nas asked: True\ndisk " in done.stdout and done.stderr == ""
    found = narvet.table(narvet.review(tmp_path / "sheet.toml").layout)
    assert len(found.rows) == 1 and "<td>readings</td>" in found._repr_html_() and "<td>2\xa0000" in found._repr_html_()


def test_completion_knows_commands_disks_guests_and_rules(example: Path) -> None:
    for words, found in (
        ("narvet re", "review report recast reclaim retire"),
        ("narvet review no", "notes"),
        ("narvet write --only tr", "trials"),
        ("narvet entries sheet.toml ", "germination coldroom imaging frontdesk"),
        ("narvet confirm --inside co", "coldroom"),
        ("narvet explain store-m", "store-missing"),
        ("narvet explain prom", "promised"),
        ("narvet write --rev", "--reviewed"),
    ):
        for shell in ("bash", "zsh", "fish"):
            last = words.rpartition(" ")[2]
            count = last if shell == "fish" else str(len(words.split(" ")) - 1)
            env = {**os.environ, "_NARVET_COMPLETE": f"{shell}_complete", "COMP_WORDS": words, "COMP_CWORD": count}
            said = subprocess.run([PROGRAM], cwd=example, env=env, capture_output=True, text=True, check=True).stdout
            assert all(re.search(rf"(^|,|\n){re.escape(word)}(\n|\t|$)", said) for word in found.split()), (
                shell,
                words,
                said,
            )


def test_the_manual_is_one(tmp_path: Path) -> None:
    """Every command and option stands in it, and man's own formatter has nothing to say about it."""
    page = TOP / "docs" / "narvet.1"
    text = page.read_text()
    whole = click.Context(cli)
    for name in cli.list_commands(whole):
        assert f'.SS "narvet {name} ' in text
    assert all(not line.startswith("'") for line in text.splitlines())
    done = subprocess.run(
        ["bash", "-c", f"command -v groff >/dev/null && groff -man -Tutf8 -ww {page} || true"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stderr == ""


@pytest.mark.parametrize("columns", [40, 80, 200])
def test_widths(example: Path, columns: int) -> None:
    """No line is wider than the terminal but paths and entries that are one word; no number stands apart from its unit."""
    wide = {**os.environ, "COLUMNS": str(columns)}
    sheet = str(example / "sheet.toml")
    for words in (["review", sheet], ["review", sheet, "--brief"], ["confirm", sheet], ["history", sheet], ["explain"]):
        lines = run(*words, env=wide, status=0).stdout.splitlines()
        for line in lines:
            assert line == line.rstrip()
            assert len(line) <= columns or " " not in line.strip() or line.startswith("Mark") or line.endswith("."), (
                line
            )
        for before, after in pairwise(lines):
            assert not (re.search(r"\d$", before) and re.match(r"\s*([kKMGTP]i?)?B\b", after)), (before, after)
