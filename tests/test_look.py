"""`narvet look`: what lies inside an image, as people and programs see it; a file taken out; what is refused, and how."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from narvet.formats.filesystems.trees import Owner
from narvet.guests.roots import changed_root
from narvet.model.estate import Root
from tests.program import disk, facts, make_sheet, run, talk

LONG = 3 << 20


@pytest.fixture
def image(tmp_path: Path) -> Path:
    """An image with an ext4 and an xfs, and files of every kind in the first."""
    sheet = make_sheet(
        tmp_path,
        disk(
            "a",
            'size = "200 MiB"\nformat = "vhdx"',
            'size = "90 MiB"\nlabel = "field"',
            'size = "rest"\nfilesystem = "xfs"',
        ),
    )
    run("write", str(sheet), status=0)
    path = tmp_path / "shelf" / "a.vhdx"
    with changed_root(Root(str(path), 1, moment=1772409600), lambda _: True) as root:
        tree = root.edited
        folder = tree.make_folder(tree.root, "Samen \x1b[31m\u202e", Owner(7, 8, 0o2750), {})
        tree.make_folder(folder, "leer", Owner(0, 0, 0o700), {})
        for name, content in {
            "notes.txt": "Größe\r\nzweite Zeile\x1b[2J\n".encode(),
            "wide.txt": "breit\n".encode("utf-16"),
            "binary": bytes(range(256)) * 20,
            "zeros": bytes(LONG),
            "": b"",
        }.items():
            if name:
                tree.replace(tree.root, name, content)
    return path


def test_what_people_see(image: Path) -> None:
    there = f"{image}:1"
    shown = run("look", there, status=0).stdout
    assert "\x1b" not in shown and "\u202e" not in shown and 'ext4 "field" on partition 1' in shown
    assert "7:8 2750" in shown and "2026-03-02 00:00" in shown and "3 MiB" in shown
    assert shown.index("binary") < shown.index("notes.txt") < shown.index("zeros")
    done = run("look", there, "notes.txt", status=0)
    assert done.stdout == "Größe\nzweite Zeile\ufffd[2J\n" and done.stderr == ""
    assert run("look", there, "//./lost+found/../wide.txt", status=0).stdout == "breit\n"
    done = run("look", there, "/binary", status=0)
    assert "file, 5 KiB" in done.stdout and "It is not text. --out FILE takes it out." in done.stderr
    assert "too large to be shown" in run("look", there, "/zeros", status=0).stderr
    assert talk(["look", there], [], image.parent)[0] == 0


def test_what_programs_see(image: Path) -> None:
    found = facts("look", f"{image}:1", "/")
    names = {one["name"].encode("utf-8", "surrogatepass").decode(): one for one in found["entries"]}
    assert [one for one in names if one.startswith("Samen")] and names["notes.txt"]["size"] == 26
    assert (names["binary"]["mode"], names["binary"]["uid"], names["binary"]["changed"]) == (
        "0644",
        0,
        "2026-03-02T00:00:00Z",
    )
    assert facts("look", f"{image}:2", "/")["entries"] == [] and facts("look", f"{image}:2")["filesystem"] == "xfs"
    assert facts("look", f"{image}:1", "/binary")["text"] is None


def test_files_taken_out(image: Path, tmp_path: Path) -> None:
    out = tmp_path / "taken"
    done = facts("look", f"{image}:1", "/binary", "--out", str(out), "--dry")
    assert done["size"] == 5120 and done["dry"] and not out.exists()
    facts("look", f"{image}:1", "/binary", "--out", str(out))
    assert out.read_bytes() == bytes(range(256)) * 20 and not list(tmp_path.glob(".*narvet*"))
    run("look", f"{image}:1", "/zeros", "--out", str(tmp_path / "z"), status=0)
    assert (tmp_path / "z").stat().st_size == LONG
    before = out.read_bytes()
    for words, status, told in (
        (("/notes.txt", "--out", str(out)), 2, "it is there already; name a new file"),
        (("/notes.txt", "--out", str(tmp_path / "no" / "x")), 2, "there is no such folder"),
        (("/lost+found", "--out", str(tmp_path / "y")), 2, "is no file, but a folder"),
    ):
        assert told in run("look", f"{image}:1", *words, status=status).stderr
    assert out.read_bytes() == before and not (tmp_path / "y").exists()


def test_what_is_refused_says_what_there_is(image: Path, tmp_path: Path) -> None:
    for words, told in (
        ((str(image),), 'files lie on ext4 "field" on partition 1, xfs "a-2" on partition 2; say which, such as'),
        ((f"{image}:7",), "there is no filesystem on partition 7; it has"),
        ((f"{image}:1", "/gone/deep"), "/gone/deep is not there"),
        ((f"{image}:1", "/notes.txt/x"), "is not there"),
        ((str(tmp_path / "none.raw"),), "there is no such file"),
        ((f"{image}:1", "/", "--dry"), "Without --out nothing would be changed"),
    ):
        done = run("look", *words, status=2)
        assert told in done.stderr.replace("\n", " "), done.stderr
    (tmp_path / "blank.raw").write_bytes(bytes(1 << 20))
    assert "no filesystem with files" in run("look", str(tmp_path / "blank.raw"), status=2).stderr
    os.truncate(image, image.stat().st_size // 2)
    assert run("look", f"{image}:1", "/binary").returncode == 1
