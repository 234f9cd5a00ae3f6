"""What every call can be asked: to do nothing yet, to do some of it, to be sure, to be quiet, to keep a log."""

from __future__ import annotations

import filecmp
import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import narvet
from narvet.model.estate import Estate, Store
from narvet.model.facts import Facts
from narvet.plan.layout import plan
from narvet.plan.mark import different, mark_of, read_mark
from narvet.plan.resolve import settled
from narvet.sheet.read import parse_sheet
from tests.program import PROGRAM, disk, facts, make_sheet, run, talk

SAID = "Nothing was changed. This would be done:"


def state(folder: Path) -> dict[str, tuple[int, bytes]]:
    """Return what lies in a folder, and when it was last changed."""
    every = (path for path in sorted(folder.rglob("*")) if not path.is_symlink())
    return {str(path): (path.stat().st_mtime_ns, path.read_bytes() if path.is_file() else b"") for path in every}


PART = 'at = "/srv/a"\nlabel = "a"'
DRY = [
    ["write", "sheet.toml"],
    ["write", "changed.toml"],
    ["make", "new.vhdx", "--size", "40 MiB", "--identity", "5f0c1b52-0d0e-4f4a-9d55-0d6a3c1f2b11"],
    ["recast", "shelf/a.vhdx", "new.qcow2"],
    ["enlarge", "free.vhdx", "--size", "96 MiB"],
    ["shrink", "free.vhdx", "--size", "48 MiB"],
    ["branch", "free.vhdx", "child.vhdx"],
    ["fold", "leaf.qcow2"],
    ["tie", "leaf.qcow2", "moved.qcow2"],
    ["reclaim", "full.vhdx"],
    ["attach", "sheet.toml", "a"],
    ["detach", "sheet.toml", "a"],
    ["retire", "sheet.toml", "b", "--yes"],
    ["entries", "sheet.toml", "seedling", "--into", "other"],
    ["draft", "sheet.toml", "--guest", "seedling", "--store", "shelf", "--size", "1 GiB", "--disk", "more"],
    ["draft", "blank.toml", "--blank"],
    ["draft", "sheet.toml", "--adopt", "free.vhdx"],
    ["picture", "sheet.toml", "--to", "new.png"],
    ["demo", "new"],
]


@pytest.fixture(scope="module")
def ground(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with something for every command to change; no test changes it."""
    folder = tmp_path_factory.mktemp("ground")
    sheet = make_sheet(folder, disk("a", 'size = "64 MiB"\nformat = "vhdx"', PART) + disk("b"))
    run("write", str(sheet), "--only", "a", status=0)
    text = sheet.read_text()
    (folder / "changed.toml").write_text(
        text.replace("64 MiB", "96 MiB").replace('"a"\n', '"c"\n').replace("/srv/a", "/srv/c")
    )
    (folder / "changed.ledger.jsonl").write_bytes((folder / "sheet.ledger.jsonl").read_bytes())
    for name, space in (("free.vhdx", "thin"), ("full.vhdx", "full")):
        run("make", str(folder / name), "--size", "64 MiB", "--space", space, status=0)
    run("make", str(folder / "base.qcow2"), "--size", "40 MiB", status=0)
    run("branch", str(folder / "base.qcow2"), str(folder / "leaf.qcow2"), status=0)
    (folder / "moved.qcow2").write_bytes((folder / "base.qcow2").read_bytes())
    stamp = (folder / "base.qcow2").stat().st_mtime_ns
    os.utime(folder / "moved.qcow2", ns=(stamp, stamp))
    (folder / "other" / "etc").mkdir(parents=True)
    (folder / "other" / "etc" / "fstab").write_text("# empty\n")
    return folder


@pytest.mark.parametrize("words", DRY, ids=lambda words: " ".join(words[:3]))
def test_a_dry_call_tells_and_changes_nothing(ground: Path, words: list[str]) -> None:
    before = state(ground)
    done = run(*words, "--dry", status=0, cwd=ground)
    assert SAID in done.stdout and len(done.stdout.splitlines()) > 1, done.stdout
    if words[0] not in ("entries", "demo"):
        assert facts(*words, "--dry", cwd=ground)["dry"] is True
    assert state(ground) == before


def test_a_dry_call_tells_what_is_then_done(tmp_path: Path) -> None:
    """The same lines, in the same order; and a second one has nothing to tell."""
    sheet = str(make_sheet(tmp_path, disk("a", 'size = "8 MiB"', PART) + disk("b")))
    told = run("write", sheet, "--dry", status=0).stdout.replace(f"{SAID}\n", "")
    assert run("write", sheet, status=0).stdout == told
    assert "All is as asked" in run("write", sheet, "--dry", status=0).stdout


def test_only_some_disks_are_written(tmp_path: Path) -> None:
    """What is not named stays as if nothing were asked of it: images, entries, also wrong ones, and its errors."""
    windows = '[guest.imaging]\nruns = "windows"\n' + "".join(
        disk(name, 'size = "40 MiB"', f'at = "{letter}:"').replace("seedling", "imaging")
        for name, letter in (("x", "X"), ("y", "Y"))
    )
    linux = "".join(disk(name, 'size = "8 MiB"', f'at = "/srv/{name}"') for name in "abc")
    sheet = make_sheet(
        tmp_path,
        linux + windows + disk("bad", 'size = "1 MiB"\nslot = "scsi 0"').replace('"1 MiB"', '"3 TiB"\ntable = "mbr"'),
    )
    assert "size-over-table" in run("write", str(sheet), status=1).stderr
    run("write", str(sheet), "--only", "a", "--only", "x", status=0)
    assert sorted(path.name for path in (tmp_path / "shelf").iterdir()) == ["a.raw", "x.raw"]
    fstab, registry = tmp_path / "root" / "etc" / "fstab", tmp_path / "sheet.imaging.reg"
    assert (
        fstab.read_text().count("/srv/") == 1
        and "X:" in registry.read_text("utf-16")
        and "Y:" not in registry.read_text("utf-16")
    )
    assert "All is as asked" in run("write", str(sheet), "--only", "a", "--only", "x", status=0).stdout
    sheet.write_text(sheet.read_text().replace("/srv/a", "/srv/z").replace('"X:"', '"Z:"'))
    run("write", str(sheet), "--only", "b", "--only", "y", status=0)
    lines = fstab.read_text()
    assert "/srv/a" in lines and "/srv/b" in lines and "/srv/z" not in lines
    assert all(letter in registry.read_text("utf-16") for letter in ("X:", "Y:")) and "Z:" not in registry.read_text(
        "utf-16"
    )
    run("write", str(sheet), "--only", "a,b,c", "--only", "x,y", status=0)
    assert fstab.read_text().count("/srv/") == 3 and "/srv/z" in fstab.read_text()
    sheet.write_text(re.sub(r"\[disk\.bad\][^\[]*", "", sheet.read_text()))
    assert facts("confirm", str(sheet))["agrees"] and "All is as asked" in run("write", str(sheet), status=0).stdout


def test_a_disk_that_starts_from_another_needs_it(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', PART) + disk("b", 'copy_of = "shelf/a.raw"'))
    done = run("write", str(sheet), "--only", "b", status=1)
    assert "start-not-written" in done.stderr and "add --only a" in done.stderr
    assert list((tmp_path / "shelf").iterdir()) == []
    run("write", str(sheet), "--only", "a", status=0)
    sheet.write_text(sheet.read_text().replace('"8 MiB"', '"16 MiB"'))
    assert "start-not-written" in run("write", str(sheet), "--only", "b", status=1).stderr  # it is to change first
    run("write", str(sheet), "--only", "b,a", status=0)
    assert sorted(path.name for path in (tmp_path / "shelf").iterdir()) == ["a.raw", "b.raw"]


def test_what_was_reviewed_is_what_is_written(tmp_path: Path) -> None:
    """A sheet edited, a disk changed, room gone: each is named. What is not different, like a comment, is no matter."""
    names = [f"d{number}" for number in range(6)]
    sheet = make_sheet(tmp_path, "".join(disk(name, 'size = "8 MiB"', "") for name in names), store='room = "1 GB"')
    mark = facts("review", str(sheet))["mark"]
    assert f"Mark of this review: {mark}" in run("review", str(sheet), status=0).stdout
    text = sheet.read_text()
    for old, new, told in (
        ("[disk.d3]\n", '[disk.d3]\nhold = "direct"\n', "disk d3"),
        ('room = "1 GB"', 'room = "10 MB"', "the findings"),
        ('room = "1 GB"', 'room = "2 GB"', "the stores"),
        ('"8 MiB"', '"9 MiB"', "more than one"),
    ):
        sheet.write_text(text.replace(old, new))
        done = run("write", str(sheet), "--reviewed", mark, status=2)
        assert told in done.stderr and ("disk" in told) == ("disk d3" in done.stderr), done.stderr
    sheet.write_text(f"# a comment\n{text}")
    assert list((tmp_path / "shelf").iterdir()) == []
    run("write", str(sheet), "--reviewed", mark, "--only", "d1", status=0)
    assert "disk d1;" in run("write", str(sheet), "--reviewed", mark, status=2).stderr
    assert "is not a mark" in run("write", str(sheet), "--reviewed", "abc", status=2).stderr
    mark = facts("review", str(sheet))["mark"]
    with (tmp_path / "shelf" / "d1.raw").open("r+b") as file:
        file.truncate(9 << 20)
    assert "disk d1" in run("write", str(sheet), "--reviewed", mark, status=2).stderr


@given(number=st.integers(0, 39), size=st.integers(9, 1 << 20))
def test_one_changed_disk_is_told_by_the_mark(number: int, size: int) -> None:
    known = Facts(Estate(stores={"shelf": Store("shelf")}))
    text = 'sheet = 1\nidentity = "5f0c1b52-0d0e-4f4a-9d55-0d6a3c1f2b11"\n[store.shelf]\npath = "."\n[guest.seedling]\n'
    text += "".join(disk(f"d{n}", 'size = "8 MiB"') for n in range(40))
    before, after = (plan(settled(parse_sheet(one, Path("s"))), known) for one in (text, text.replace(f'[disk.d{number}]\nguest = "seedling"\nstore = "shelf"\nsize = "8 MiB"', f'[disk.d{number}]\nguest = "seedling"\nstore = "shelf"\nsize = "{size} MiB"')))  # fmt: skip
    mark = read_mark(str(mark_of(before)))
    assert mark == mark_of(before) and list(different(mark, before)) == []
    assert next(different(mark, after)) == f"disk d{number}"


@pytest.mark.parametrize("answer", ["n", "y", "--yes"])
def test_on_a_terminal_writing_asks_before_something_changes(tmp_path: Path, answer: str) -> None:
    """Once, with what would change; new things are made without a question."""
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', PART))
    status, shown = talk(["write"], [], tmp_path)
    assert status == 0 and "a.raw" in shown and "?" not in shown.replace("[?", "")
    sheet.write_text(
        sheet.read_text().replace('"8 MiB"', '"16 MiB"').replace("/srv/a", "/srv/b") + disk("new", 'size = "8 MiB"')
    )
    before = state(tmp_path)
    words, answers = (["write", "--yes"], []) if answer == "--yes" else (["write"], [answer])
    status, shown = talk(words, answers, tmp_path)
    assert status == (130 if answer == "n" else 0)
    if answer == "n":
        listed = shown.partition("Go on?")[0]
        assert (
            "8 MiB" in listed.replace("\xa0", " ")
            and "1 entry changed" in listed.replace("\xa0", " ")
            and "new.raw" not in listed
            and "Nothing was changed" in shown
        )
        assert state(tmp_path) == before
    else:
        assert (tmp_path / "shelf" / "a.raw").stat().st_size == 16 << 20 and facts("confirm", str(sheet))["agrees"]


def test_the_sheet_need_not_be_named(tmp_path: Path) -> None:
    """The one sheet of a folder is meant, among other files in TOML; without one, or with several, it is said."""
    assert "There is no sheet in this folder" in run("review", status=2, cwd=tmp_path).stderr
    make_sheet(tmp_path, disk("a", 'size = "8 MiB"', PART))
    (tmp_path / "pyproject.toml").write_text('[project]\nname = "other"\n')
    (tmp_path / "broken.toml").write_text("[[[")
    run("write", status=0, cwd=tmp_path)
    assert "disk.a" not in run("review", "a", status=0, cwd=tmp_path).stderr
    assert (
        run("review", "sheet.toml", "a", status=0, cwd=tmp_path).stdout
        == run("review", "a", status=0, cwd=tmp_path).stdout
    )
    assert "UUID=" in run("entries", "seedling", status=0, cwd=tmp_path).stdout
    assert (
        'no disk "aa" in the sheet; the nearest is "a"' in run("retire", "aa", "--yes", status=2, cwd=tmp_path).stderr
    )
    assert "Missing argument 'DISK" in run("detach", status=2, cwd=tmp_path).stderr
    assert "There is no place" in run("entries", "seedling", "b", status=2, cwd=tmp_path).stderr
    (tmp_path / "two.toml").write_text("sheet = 1\n")
    assert "There are 2 sheets in this folder" in run("write", status=2, cwd=tmp_path).stderr


def test_quiet_strict_and_a_log(tmp_path: Path) -> None:
    """Quiet: errors only. Strict: warnings count in the status. The log has the call, each step, and the end."""
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', PART) + disk("b", 'size = "9 TiB"', ""))
    done = run("review", str(sheet), "--quiet", status=0)
    assert (done.stdout, done.stderr) == ("", "")
    assert "store-overpromised" in run("review", str(sheet), "--strict", status=1).stdout
    log = tmp_path / "log.txt"
    done = run("write", str(sheet), "--quiet", "--strict", "--log", str(log), status=1)
    assert (done.stdout, done.stderr) == ("", "") and (tmp_path / "shelf" / "a.raw").exists()
    sheet.write_text(sheet.read_text() + "[guest.\x1b]\n")
    done = run("write", str(sheet), "--quiet", "--log", str(log), status=2)
    assert "not valid TOML" in done.stderr and done.stdout == ""
    lines = log.read_text().splitlines()
    assert all(re.match(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ (INFO|WARNING|ERROR) [^\x1b]+$", line) for line in lines), (
        lines
    )
    ends = [line.split(" ", 2)[2] for line in lines if " ended " in line]
    assert ends == ["ended with status 1", "ended with status 2"]
    assert sum("called: write" in line for line in lines) == 2 and any(
        "WARNING store-overpromised" in line for line in lines
    )
    assert [line for line in lines if "step 1 of" in line][1].endswith("is done") and "not valid TOML" in lines[-2]
    assert run("review", str(sheet), "--log", str(tmp_path / "no" / "log"), status=3).stderr.endswith(
        "No such file or directory\n"
    )


def stopped(words: list[str], folder: Path, ready: Iterator[bool]) -> tuple[int, str]:
    """Stop a call from the keyboard once something is ready; return its status and what it said."""
    process = subprocess.Popen(
        [PROGRAM, *words], cwd=folder, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True
    )
    while process.poll() is None and not next(ready):
        time.sleep(0.005)
    process.send_signal(signal.SIGTERM)  # as SIGINT, which a shell has its background ignore
    _, said = process.communicate(timeout=60)
    return process.returncode, said


def test_stopped_from_the_keyboard_it_says_what_is_finished(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, "".join(disk(f"d{n:02}", 'size = "256 MiB"\nspace = "full"', "") for n in range(12)))
    there = tmp_path / "shelf" / "d01.raw"
    status, said = stopped(["write"], tmp_path, iter(there.exists, None))
    assert status == 130, said
    found = re.search(
        r"Stopped\. Of 12 steps (\d+) (?:is|are) finished, the last on (\S+?)\. What was finished stays; write",
        said.replace("\xa0", " "),
    )
    assert found and int(found[1]) >= 1 and found[2].endswith(f"d{int(found[1]) - 1:02}.raw"), said
    assert len(list((tmp_path / "shelf").glob("*.raw"))) - int(found[1]) in (0, 1)  # one may have just got its name
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"] and narvet.review(sheet).steps == ()


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["recast", "a.raw", "b.vhdx", "--verify", "--image-format", "raw"], "Nothing of the new image is left"),
        (["reclaim", "c.qcow2"], "The image is as it was, or done"),
        (["fold", "d.qcow2"], "The disk is whole: read through the child as before, or, where that is gone, folded"),
    ],
    ids=lambda one: one[0],
)
def test_each_command_says_what_a_stop_left(tmp_path: Path, words: list[str], told: str) -> None:
    """Stopped while it copies: status 130, what is left in its own words, and called again it finishes."""
    (tmp_path / "a.raw").write_bytes(os.urandom(1 << 20) * 256)
    if words[0] != "recast":
        run("recast", "a.raw", "c.qcow2", "--image-format", "raw", status=0, cwd=tmp_path)
    if words[0] == "fold":
        run("branch", "c.qcow2", "d.qcow2", status=0, cwd=tmp_path)
        script = "from pathlib import Path; from narvet.formats.images.chain import open_image; import os\n"
        script += "from narvet.formats.images.trust import Trust\n"
        script += "with open_image(Path('d.qcow2'), writable=True, trust=Trust(by_content=True)) as disk:\n"
        script += "    [disk.write(n << 20, os.urandom(1 << 20)) for n in range(250)]\n"
        subprocess.run([sys.executable, "-c", script], cwd=tmp_path, check=True)
    before = (tmp_path / "a.raw").read_bytes() if words[0] == "recast" else b""
    if words[0] == "fold":
        run("recast", "d.qcow2", "was.raw", status=0, cwd=tmp_path)
    names = sorted(path.name for path in tmp_path.iterdir())
    started = time.monotonic()
    status, said = stopped(words, tmp_path, iter(lambda: time.monotonic() - started > 0.9, None))
    if status == 130:
        assert f"Stopped. {told}" in said, said
        left = [
            one for one in sorted(path.name for path in tmp_path.iterdir()) if "mark" not in one and "fold" not in one
        ]
        assert left == [one for one in names if one in left or (words[0], one) != ("fold", "d.qcow2")]
        if words[-1] in left or words[0] == "recast":
            run(*words, status=0, cwd=tmp_path)
    if words[0] == "fold":
        run("recast", "c.qcow2", "is.raw", status=0, cwd=tmp_path)
        assert filecmp.cmp(tmp_path / "was.raw", tmp_path / "is.raw", shallow=False)
    assert words[0] != "recast" or (tmp_path / "a.raw").read_bytes() == before


@pytest.mark.parametrize("on_terminal", [True, False])
def test_progress_tells_how_much_of_how_much(tmp_path: Path, on_terminal: bool) -> None:
    """On a terminal: bytes of all bytes, how fast, how long still, in the units used everywhere; silent elsewhere."""
    image = tmp_path / "a.raw"
    image.write_bytes(os.urandom(1 << 20) * 192)
    words = ["recast", "a.raw", "b.qcow2", "--verify", "--image-format", "raw"]
    if not on_terminal:
        done = run(*words, status=0, cwd=tmp_path)
        assert done.stderr == "" and done.stdout.count("\n") == 1
        return
    status, shown = talk(words, [], tmp_path)
    told = re.findall(
        r"b\.qcow2.*?([\d.]+) MiB of (\d+) MiB, [\d.]+ [KMG]iB/s, \d:\d\d:\d\d left", shown.replace("\xa0", " ")
    )
    assert status == 0 and told and {whole for _, whole in told} <= {"192", "384"}, shown[-900:]
    assert [float(done) for done, _ in told] == sorted(float(done) for done, _ in told)


def test_what_is_shown_again_is_counted(tmp_path: Path) -> None:
    """Notes on what is as asked are counted; of many alike the first are shown; --long has all, --brief no notes."""
    sheet = make_sheet(tmp_path, "".join(disk(f"d{n:02}", 'size = "8388610 B"', "") for n in range(9)))
    plain, long, brief = (run("review", str(sheet), *words, status=0).stdout for words in ([], ["--long"], ["--brief"]))
    assert plain.count("note size-rounded") == 4 and "5 more notes of size-rounded; --long shows all." in plain
    assert long.count("note size-rounded") == 9 and long.count("The guest will show") == 9
    assert "9 notes; --long shows all." in brief and "note size-rounded" not in brief and "UUID=" not in brief
    assert "5 more notes of size-rounded; narvet review --long shows all." in run("write", str(sheet), status=0).stderr
    again = run("review", str(sheet), status=0).stdout
    assert "note size-rounded" not in again and "9 notes shown before, on disks that are as asked" in again
    assert "size-rounded" not in run("write", str(sheet), status=0).stderr
