"""What all calls have in common: options, exit statuses, the nearest right word; and answers that are checked one by one."""

from __future__ import annotations

import json
import random
import re
import time
from pathlib import Path
from uuid import UUID

import click
import pytest
from hypothesis import given
from hypothesis import strategies as st

import narvet
from narvet.cli.main import cli
from narvet.ground.errors import RequestError
from narvet.report.handover import parts
from narvet.report.paper import Code, Heading, Part, Rows, Steps, Words
from narvet.report.setting import set_page
from narvet.sheet.draft import drafted, new_sheet
from narvet.sheet.form import Sheet
from narvet.sheet.read import parse_sheet
from narvet.usecases.interview import Interview, forget_answers, interview, keep_answers, kept_answers, kept_path
from tests.program import IDENTITY, disk, facts, make_sheet, run

ONLY_LOOK = {"review", "survey", "devices", "confirm", "history", "explain"}
SERVE = {"host", "hub", "lend", "standin"}  # until it is ended; a try of it would be the thing itself
WHOLE = click.Context(cli)


@pytest.mark.parametrize("name", cli.list_commands(WHOLE))
def test_every_command_has_what_all_have(name: str) -> None:
    command = cli.get_command(WHOLE, name)
    assert command is not None and command.help and command.help.partition("\n")[0].endswith((".", ","))
    options = {option for param in command.params for option in param.opts}
    assert {"--quiet", "--strict", "--log"} <= options
    assert ("--dry" in options) == (name not in {*ONLY_LOOK, *SERVE})
    assert ("--json" in options) == (name != "demo")
    assert all(param.help for param in command.params if isinstance(param, click.Option))
    shown = run(name, "--help", status=0, env={"COLUMNS": "80", "PATH": "/usr/bin:/bin"}).stdout
    assert f"Example: narvet {name} " in shown or f"Example: narvet {name}\n" in shown
    assert all(len(line) <= 80 for line in shown.splitlines())


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["reveiw"], 'the nearest is "review"'),
        (["write", "--reviwed", "x"], "--reviewed"),
        (["review", "sheet.toml", "trails"], 'the nearest is "trials"'),
        (["write", "sheet.toml", "--only", "trails"], 'the nearest is "trials"'),
        (["attach", "sheet.toml", "trails"], 'the nearest is "trials"'),
        (["retire", "sheet.toml", "trails", "--yes"], 'the nearest is "trials"'),
        (["entries", "sheet.toml", "seedlng"], 'the nearest is "seedling"'),
        (["history", "sheet.toml", "trails"], 'the nearest is "trials"'),
        (["explain", "store-mising"], 'the nearest is "store-missing"'),
        (["explain", "usabel"], 'the nearest is "usable"'),
        (["explain", "promissed"], 'the nearest is "promised"'),
        (["make", "a.raw", "--size", "5 gib"], 'did you mean "5 GiB"?'),
        (["make", "a.raw", "--size", "5 GiB", "--filesystem", "ext5"], "'ext4'"),
        (["review", "typo.toml"], 'the nearest is "guest"'),
    ],
    ids=lambda words: " ".join(words) if isinstance(words, list) else "",
)
def test_a_near_miss_is_told_the_right_word(tmp_path: Path, words: list[str], told: str) -> None:
    sheet = make_sheet(tmp_path, disk("trials", 'size = "8 MiB"', ""))
    run("write", str(sheet), status=0)
    (tmp_path / "typo.toml").write_text(sheet.read_text().replace("guest = ", "gest = "))
    done = run(*words, status=2, cwd=tmp_path)
    assert told in done.stderr and done.stdout == "", done.stderr
    assert sorted(path.name for path in (tmp_path / "shelf").iterdir()) == ["trials.raw"]


def test_exit_statuses(tmp_path: Path) -> None:
    """0 clean, 1 not as asked, 2 the call or the sheet, 3 the system; the same for people and for programs."""
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', ""))
    (tmp_path / "bad.toml").write_text("sheet = 2\n")
    (tmp_path / "torn.qcow2").write_bytes(b"QFI\xfb\0\0\0\x09")
    for words, status in (
        (["confirm", str(sheet)], 1), (["report", str(sheet), "--to", "r.md"], 1), (["write", str(sheet)], 0),
        (["confirm", str(sheet)], 0), (["report", str(sheet), "--to", "s.md"], 0), (["review", "bad.toml"], 2),
        (["review", "none.toml"], 2), (["survey", "torn.qcow2"], 1), (["survey", "none.raw"], 2),
        (["make", "no/a.raw", "--size", "8 MiB"], 2), (["picture", str(sheet), "--to", "no/p.svg"], 3),
        (["review", str(sheet), "--table", "no/t.csv"], 3), (["recast", "torn.qcow2", "b.raw"], 1),
    ):  # fmt: skip
        done = run(*words, status=status, cwd=tmp_path)
        assert (done.stderr == "") == (status == 0) or status == 1, (words, done)
        assert not done.stderr or done.stderr.endswith("\n")


def test_written_in_parts_it_is_what_it_is_at_once(tmp_path: Path) -> None:
    """Disks written some at a time, in any order, are to the byte what one write makes of them, entries too."""
    names = list("abcdef")
    tables = "".join(disk(name, 'size = "40 MiB"', f'size = "20 MiB"\nat = "/srv/{name}"', "") for name in names)
    whole = make_sheet(tmp_path / "whole", tables)
    run("write", str(whole), status=0)
    dice = random.Random(5)
    for attempt in range(3):
        sheet = make_sheet(tmp_path / str(attempt), tables)
        left = dice.sample(names, len(names))
        while left:
            some, left = left[: dice.randint(1, 3)], left[3:] if len(left) > 3 else []
            rest = [
                name for name in names if name not in some and not (sheet.parent / "shelf" / f"{name}.raw").exists()
            ]
            run("write", str(sheet), "--only", ",".join(some), status=0)
            assert not any((sheet.parent / "shelf" / f"{name}.raw").exists() for name in rest)
        run("write", str(sheet), status=0)
        assert facts("confirm", str(sheet))["agrees"]
        for name in names:
            own, other = ((one.parent / "shelf" / f"{name}.raw").read_bytes() for one in (sheet, whole))
            assert own == other, name
        fstabs = [sorted((one.parent / "root" / "etc" / "fstab").read_text().splitlines()) for one in (sheet, whole)]
        assert fstabs[0] == fstabs[1]


ANSWERS = st.one_of(
    st.sampled_from(["", "germination", "coldroom", "linux", "windows", "vault", "shelf", "stores/x", "100 GB", "8 GiB", "rest",
                     "ext4", "xfs", "ntfs", "swap", "database", "/srv/a", "P:", "1200:1200", "curator", "Users", "a label"]),
    st.text(max_size=12),
)  # fmt: skip


@given(st.lists(ANSWERS, min_size=12, max_size=40))
def test_whatever_answers_are_taken_make_a_sheet(answers: list[str]) -> None:
    """An answer is refused at once with a sentence, or it can stand: what was taken altogether is a valid sheet."""
    text = new_sheet("", UUID(IDENTITY))
    talk = Interview(Path("/nowhere/sheet.toml"), text, parse_sheet(text, Path("s")))
    for answer in answers:
        question = talk.next()
        if question is None:
            break
        fault = talk.fault(question.key, answer)
        assert "\n" not in fault
        if not fault:
            assert talk.answered(question.key, answer).back() == talk
            talk = talk.answered(question.key, answer)
    if talk.next() is None:
        made = drafted(text, [talk.request()], "s")
        assert isinstance(parse_sheet(made.text, Path("s")), Sheet) and len(made.disks) == 1


@pytest.mark.parametrize(
    "kept",
    [b"", b"[]", b"null", b'{"guest": 3}', b'{"guest": "g", "nonsense": "x"}', b"[" * 9000, b'"' * 99999, b"\xff\xfe"],
)
def test_kept_answers_are_not_trusted(tmp_path: Path, kept: bytes) -> None:
    sheet = tmp_path / "sheet.toml"
    kept_path(sheet).write_bytes(kept)
    assert kept_answers(sheet) == ({"guest": "g"} if b"nonsense" in kept else {})
    question = interview(sheet).next()
    assert question is not None and question.key == "guest"
    forget_answers(sheet)
    assert kept_path(sheet).exists() == (b"nonsense" not in kept)
    if b"nonsense" not in kept:
        with pytest.raises(RequestError, match="holds something else"):
            keep_answers(sheet, {"guest": "g"})
        assert kept_path(sheet).read_bytes() == kept


def test_what_is_there_is_not_written_over(tmp_path: Path) -> None:
    """Neither a table nor a page without --replace; and no line of a log goes into a file that is none."""
    sheet = str(make_sheet(tmp_path, disk("a", 'size = "8 MiB"', "")))
    run("write", sheet, status=0)
    for name, words in (("t.csv", ["review", "--table"]), ("p.md", ["report", "--to"]), ("p.svg", ["picture", "--to"])):
        (tmp_path / name).write_text("mine")
        call = [words[0], sheet, words[1], str(tmp_path / name)]
        assert "is there already" in run(*call, status=2).stderr and (tmp_path / name).read_text() == "mine"
        run(*call, "--replace", status=0)
        assert (tmp_path / name).read_text() != "mine"
    image = tmp_path / "shelf" / "a.raw"
    for path in (image, Path(sheet), tmp_path):
        before = path.read_bytes() if path.is_file() else b""
        assert "is not a log of Narvet" in run("review", sheet, "--log", str(path), status=2).stderr
        assert not path.is_file() or path.read_bytes() == before


def test_what_else_lies_in_a_folder_costs_no_time(tmp_path: Path) -> None:
    """Files that are made to be read slowly, beside the sheet that is looked for."""
    make_sheet(tmp_path, disk("a", 'size = "8 MiB"', ""))
    (tmp_path / "dots.toml").write_text("a" + ".a" * 200_000 + " = 1\n")
    (tmp_path / "deep.toml").write_text("x = " + "[" * 100_000)
    (tmp_path / "binary.toml").write_bytes(bytes(range(256)) * 1000)
    (tmp_path / "folder.toml").mkdir()
    (tmp_path / "loop.toml").symlink_to("loop.toml")
    start = time.monotonic()
    assert "a.raw" in run("write", status=0, cwd=tmp_path).stdout
    assert time.monotonic() - start < 10


ODD = "<b>|`*_[x](y)\\ # 種\x1b[31m\u202e"


@pytest.mark.parametrize("ending", ["html", "md", "pdf"])
def test_a_page_shows_whatever_it_is_given(tmp_path: Path, ending: str) -> None:
    """Every part with texts that markup or a terminal would obey; long tables and code go on over pages."""
    every: list[Part] = [Heading(ODD, 1)]
    for number in range(40):
        every += [Words(f"{ODD} {number}", "warning"), Steps([ODD, "second"]), Code([ODD, "```", "  ````", "x" * 400])]
    every.append(Rows(("a", "b"), [(ODD, str(number)) for number in range(400)], frozenset({1})))
    page = tmp_path / f"page.{ending}"
    set_page(every, page)
    data = page.read_bytes()
    assert len(data) > 4000 and (ending == "pdf" or (b"\x1b" not in data and "\u202e".encode() not in data))
    if ending == "html":
        assert "<b>" not in data.decode() and data.decode().count("<tr>") == 401
    if ending == "md":
        fences = [line for line in data.decode().splitlines() if re.fullmatch("`{3,}", line)]
        assert fences.count("`````") == 80 and data.decode().count("\n| ") == 401


def test_a_page_about_very_many_disks(tmp_path: Path) -> None:
    """All of them stand in it; pictures are left to a command of their own. No second goes by for each."""
    guests = "".join(f'[guest.g{number}]\nslots = ["scsi 0-255"]\n' for number in range(3))
    tables = "".join(disk(f"d{n}", 'size = "1 GiB"', "").replace("seedling", f"g{n % 3}") for n in range(450))
    sheet = make_sheet(tmp_path, guests + tables)
    start = time.monotonic()
    done = narvet.handover(sheet)
    every = list(parts(done))
    set_page(every, tmp_path / "page.html")
    assert time.monotonic() - start < 60
    text = (tmp_path / "page.html").read_text()
    assert all(f">d{number}<" in text for number in range(450)) and "are too many for this page" in text
    assert "450\xa0disks of 450 not written yet" in text


def test_the_log_has_what_the_ledger_has(tmp_path: Path) -> None:
    """Each step begins and ends in the log, in the order of the ledger; what is planned is never logged as done."""
    sheet = make_sheet(tmp_path, "".join(disk(name, 'size = "8 MiB"', f'at = "/srv/{name}"') for name in "abc"))
    log = tmp_path / "l.txt"
    run("write", str(sheet), "--dry", "--log", str(log), status=0)
    assert "step 1" not in log.read_text()
    run("write", str(sheet), "--log", str(log), status=0)
    lines = log.read_text().splitlines()
    begun = [re.search(r"step (\d+) of (\d+) begins: (.*?): ", line) for line in lines]
    steps = [(int(found[1]), int(found[2]), found[3]) for found in begun if found]
    ledger = [json.loads(line) for line in (tmp_path / "sheet.ledger.jsonl").read_text().splitlines()]
    assert [(number, 7) for number in range(1, 8)] == [step[:2] for step in steps]
    assert [Path(step[2]).name for step in steps] == [Path(line["touched"]).name for line in ledger]
    assert sum(line.endswith("is done") for line in lines) == 7


def test_a_table_of_a_layout_is_shown_by_notebooks(tmp_path: Path) -> None:
    sheet = make_sheet(
        tmp_path, disk("a", 'size = "8 MiB"', 'label = "<i>"') + disk("b", 'size = "8 MiB"', 'size = "3 MiB"', "")
    )
    layout = narvet.review(sheet).layout
    found = narvet.table(layout)
    assert len(found.rows) == 3 and len(narvet.table(layout, ["b"]).rows) == 2
    shown = found._repr_html_()
    assert "&lt;i&gt;" in shown and "<i>" not in shown and "8\xa0388\xa0608" in shown
    assert all(len(row) == len(found.headings) for row in found.rows)
    assert str(found).splitlines()[0].split()[:3] == ["disk", "guest", "store"]
