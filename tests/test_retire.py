"""Disks removed for good: everything of them goes, in order, nothing else, and not while anything needs them."""

from __future__ import annotations

import json
import os
import pty
import random
import signal
import subprocess
import time
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from narvet.ground.errors import RequestError
from narvet.sheet.remove_disk import without_disk
from tests.program import PROGRAM, disk, facts, make_root, make_sheet, run

FSTAB = b"# kept  \n/dev/sda1 / ext4 defaults 0 1\n\n"


def everything(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in sorted(folder.rglob("*")) if path.is_file()}


def test_all_of_a_disk_goes_and_nothing_else(tmp_path: Path) -> None:
    """A disk in pieces with two partitions: its lines, its files, its tables; what others have stays to the byte."""
    make_root(tmp_path / "root", FSTAB)
    keys = 'size = "64 MiB"\nformat = "vmdk"\npieces = "20 MB"'
    kept = disk("a", 'size = "40 MiB"', 'at = "/srv/a"')
    gone = disk("b", keys, 'at = "/srv/b"\nsize = "30 MiB"', 'at = "/srv/c"')
    sheet = make_sheet(tmp_path, f"# about a\n{kept}\n# about b,\n# in two lines\n{gone}\n# the end\n")
    without = make_sheet(tmp_path / "other", f"# about a\n{kept}\n# the end\n").read_text()
    run("write", str(sheet), status=0)
    fstab = tmp_path / "root" / "etc" / "fstab"
    fstab.write_bytes(fstab.read_bytes() + b"LABEL=x /srv/x ext4 defaults 0 0")
    before = everything(tmp_path)
    assert "add --yes" in run("retire", str(sheet), "b", stdin=subprocess.DEVNULL, status=2).stderr
    assert everything(tmp_path) == before
    done = facts("retire", str(sheet), "b", "--yes")["done"]
    shelf = tmp_path / "shelf"
    assert done == [f"{tmp_path}/root/etc/fstab", str(shelf / "b.vmdk"), str(sheet)]
    assert [path.name for path in shelf.iterdir()] == ["a.raw"]
    lines = fstab.read_bytes()
    assert lines.startswith(FSTAB) and lines.count(b"\n") == 4 and b"/srv/a " in lines and lines.endswith(b"0 0")
    assert sheet.read_text() == without
    assert facts("confirm", str(sheet))["agrees"] and "All is as asked" in run("write", str(sheet), status=0).stdout
    told = [json.loads(line)["did"] for line in (tmp_path / "sheet.ledger.jsonl").read_text().splitlines()]
    assert told[-3:] == ["entries removed", "image removed", "taken out of the sheet"]
    assert 'there is no disk "b"' in run("retire", str(sheet), "b", "--yes", status=2).stderr


def test_a_copy_leaves_the_entries_of_what_it_was_copied_from(tmp_path: Path) -> None:
    """Both carry the same ids; only the original has entries."""
    make_root(tmp_path / "root", FSTAB)
    original = disk("a", 'size = "40 MiB"', 'at = "/srv/a"')
    run("write", str(make_sheet(tmp_path, original)), status=0)
    sheet = make_sheet(tmp_path, original + disk("copy", 'copy_of = "shelf/a.raw"'))
    run("write", str(sheet), status=0)
    before = (tmp_path / "root" / "etc" / "fstab").read_bytes()
    run("retire", str(sheet), "copy", "--yes", status=0)
    assert (tmp_path / "root" / "etc" / "fstab").read_bytes() == before and b"/srv/a" in before
    assert [path.name for path in (tmp_path / "shelf").iterdir()] == ["a.raw"]


def test_a_windows_disk(tmp_path: Path) -> None:
    """Its values leave the registry text; a volume that holds another's mount point stays until that one is retired."""
    disks = disk("p", 'size = "40 MiB"', 'at = "P:"') + disk("f", 'size = "40 MiB"', "at = 'P:\\f'")
    sheet = make_sheet(tmp_path, disks, guest='runs = "windows"')
    run("write", str(sheet), status=0)
    assert "disk f is mounted in a folder of it" in run("retire", str(sheet), "p", "--yes", status=2).stderr
    run("retire", str(sheet), "f", "--yes", status=0)
    assert len(facts("entries", str(sheet))["seedling"]) == 2
    assert facts("confirm", str(sheet))["agrees"]


def test_what_is_needed_stays(tmp_path: Path) -> None:
    """Children, copies still to be made, images of others, and whoever writes to it: named, and nothing is touched."""
    keys = 'size = "8 MiB"\nformat = "qcow2"'
    both, shelf = disk("a", keys, "") + disk("d", keys, ""), tmp_path / "shelf"
    run("write", str(make_sheet(tmp_path, both)), status=0)
    sheet = make_sheet(tmp_path, both + disk("c", 'copy_of = "shelf/a.qcow2"'))
    run("branch", str(shelf / "a.qcow2"), str(shelf / "child.qcow2"), status=0)
    (shelf / "d.qcow2").write_bytes(b"someone else's")
    before = everything(tmp_path)
    told = run("retire", str(sheet), "a", "--yes", status=2).stderr
    assert "disk c is to be a copy of it" in told and f"{shelf}/child.qcow2 is a child of its image" in told
    assert "was not made for it" in run("retire", str(sheet), "d", "--yes", status=2).stderr
    assert everything(tmp_path) == before
    (shelf / "child.qcow2").unlink()
    (shelf / "d.qcow2").unlink()
    assert "image-missing" in run("write", str(sheet), status=1).stderr
    run("write", str(sheet), "--anew", "d", status=0)
    with (shelf / "a.qcow2").open("r+b"):
        told = run("retire", str(sheet), "a", "--yes", status=3).stderr
    assert f"process {os.getpid()} (" in told and "has it open" in told and (shelf / "a.qcow2").exists()
    run("retire", str(sheet), "a", "--yes", status=0)
    run("retire", str(sheet), "d", "--yes", status=0)


def test_killed_at_any_moment_it_is_finished_by_retiring_again(tmp_path: Path) -> None:
    dice = random.Random(3)
    part = 'at = "/srv/a"'
    make_root(tmp_path / "root", FSTAB)
    for _ in range(12):
        sheet = make_sheet(tmp_path, disk("a", 'size = "64 MiB"\nformat = "vmdk"\npieces = "20 MB"', part) + disk("b"))
        run("write", str(sheet), status=0)
        process = subprocess.Popen([PROGRAM, "retire", str(sheet), "a", "--yes"], stdout=subprocess.DEVNULL)
        time.sleep(0.3 + dice.random() * 0.4)
        process.send_signal(signal.SIGKILL)
        process.wait()
        if "a" in tomllib.loads(sheet.read_text())["disk"]:
            run("retire", str(sheet), "a", "--yes", status=0)
        assert [path.name for path in (tmp_path / "shelf").iterdir()] == ["b.raw"]
        assert (tmp_path / "root" / "etc" / "fstab").read_bytes() == FSTAB


@pytest.mark.parametrize(("answer", "status"), [("n", 130), ("y", 0)])
def test_it_asks_first(tmp_path: Path, answer: str, status: int) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', ""))
    run("write", str(sheet), status=0)
    main, worker = pty.openpty()
    process = subprocess.Popen([PROGRAM, "retire", str(sheet), "a"], stdin=worker, stdout=worker, stderr=worker)
    os.close(worker)
    shown = b""
    while b"all it holds?" not in shown:
        shown += os.read(main, 1024)
    assert b"image removed" in shown and b"taken out of the sheet" in shown
    os.write(main, f"{answer}\n".encode())
    assert process.wait() == status
    os.close(main)
    assert (tmp_path / "shelf" / "a.raw").exists() == (answer == "n")


COMMENT = st.sampled_from(["", "\n", "# one\n", "\n# two\n", "   # three\n\n", "\n\n# four\n# five\n"])


@given(st.lists(COMMENT, min_size=7, max_size=7), st.integers(0, 2))
def test_whatever_stands_between_the_rest_of_a_sheet_stays(between: list[str], which: int) -> None:
    tables = [
        '[disk.a]\nsize = "1 GiB" # inline\n', '[[disk.a.partition]]\nat = """\n# no comment\n[disk.b]"""\n',
        "[disk.b]\nx = 1\n", "[[disk.b.partition]]\n", '["disk" . "c d"]\n', "[store.s]\n",
    ]  # fmt: skip
    text = "".join(gap + table for gap, table in zip(between, [*tables, ""], strict=True))
    name = ("a", "b", "c d")[which]
    expected: Any = tomllib.loads(text)
    del expected["disk"][name]
    result = without_disk(text, name, "s")
    assert {"disk": {}, **tomllib.loads(result)} == {"disk": {}, **expected}
    for number, table in enumerate(tables):
        assert (table in result) == ((number // 2 != which) if number < 5 else True)
    with pytest.raises(RequestError, match="take it out by hand"):
        without_disk('disk = {a = {size = "1 GiB"}}\n', "a", "s")
