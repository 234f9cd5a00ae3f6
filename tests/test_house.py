"""The house's own rules: what the pure floors import, how fast a plain command starts, what the docs must name."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from importlib import import_module
from pathlib import Path
from shutil import copy

import narvet
from narvet.ground.rules import RULES
from tests.program import run

TOP = Path(__file__).parents[1]
SOURCE = TOP / "src" / "narvet"
PURE = (
    "ground",
    "model",
    "plan",
    "sheet/form.py",
    "sheet/keys.py",
    "sheet/values.py",
    "sheet/resolved.py",
    "sheet/draft.py",
    "guests/*/mounts.py",
    "guests/*/checks.py",
    "guests/linux/owners.py",
    "formats/filesystems/*/geometry.py",
    "formats/filesystems/*/shape.py",
)
WORLD = {"os", "io", "pathlib", "time", "random", "socket", "subprocess", "shutil", "tempfile", "sys"}
WORDED_OTHERWISE = set[str]()  # rules of which only other wordings are used
ALLOWED = {"budget.py": {"time"}}  # it bounds the time that reading hostile images takes
LINUX_ONLY = {"fcntl", "resource", "pwd", "grp", "termios"}


def modules(*patterns: str) -> list[Path]:
    paths = [path for pattern in patterns for path in SOURCE.glob(pattern)]
    return [file for path in paths for file in ([path] if path.is_file() else path.rglob("*.py"))]


def imported(tree: ast.AST) -> set[str]:
    names = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            names |= {alias.name.split(".")[0] for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module.split(".")[0])
    return names


def test_pure_floors_know_nothing_of_the_world() -> None:
    checked = modules(*PURE)
    assert len(checked) > 40
    for path in checked:
        assert not imported(ast.parse(path.read_text())) & (WORLD - ALLOWED.get(path.name, set())), path


def test_nothing_linux_only_is_imported_at_the_top() -> None:
    for path in SOURCE.rglob("*.py"):
        top = ast.Module(
            [node for node in ast.parse(path.read_text()).body if isinstance(node, ast.Import | ast.ImportFrom)], []
        )
        assert not imported(top) & LINUX_ONLY, path


def test_a_plain_command_starts_without_the_large_packages() -> None:
    script = "import sys; sys.argv = ['narvet', '--version']\nfrom narvet.cli.main import cli\n"
    script += "try: cli()\nexcept SystemExit: pass\nprint(*sys.modules)"
    loaded = set(
        subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout.split()
    )
    assert not loaded & {"numpy", "msgspec", "pydantic", "rich", "reportlab", "jinja2", "logging", "openpyxl", "crc32c"}
    assert re.fullmatch(r"narvet \d+\.\d+\.\d+\n", run("--version", status=0).stdout)


def test_the_library_offers_what_it_says() -> None:
    """Every name loads, is documented, and is what type checkers are told it is."""
    hinted = {
        (alias.asname or alias.name): f"{node.module}.{alias.name}"
        for node in ast.walk(ast.parse((SOURCE / "__init__.py").read_text()))
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("narvet.")
        for alias in node.names
    }
    assert sorted(narvet.__all__) == sorted(hinted)
    for name, home in hinted.items():
        module, _, own = home.rpartition(".")
        assert getattr(narvet, name) is getattr(import_module(module), own), name


def test_the_pages_that_the_code_writes_are_current(tmp_path: Path) -> None:
    pages: tuple[str, ...] = ("sheet.md", "sheet.schema.json", "findings.md", "words.md", "narvet.1")
    pages += tuple(f"schemas/{path.name}" for path in (TOP / "docs" / "schemas").iterdir())
    copy(TOP / "docs" / "sheet.md", tmp_path)
    subprocess.run([sys.executable, str(TOP / "docs" / "reference.py"), str(tmp_path)], check=True)
    for page in pages:
        assert (TOP / "docs" / page).read_text() == (tmp_path / page).read_text(), "make reference writes it anew"


def test_docs_name_every_rule_command_and_picture() -> None:
    assert list(RULES) == sorted(RULES)
    used = {
        match.replace("_", "-")
        for path in SOURCE.rglob("*.py")
        for match in re.findall(r"\b(\w+)\.(?:error|warning|note)\(", path.read_text())
    }
    declared = set(RULES)
    assert declared <= used | WORDED_OTHERWISE, declared - used
    readme = (TOP / "README.md").read_text()
    for picture in (TOP / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in readme
