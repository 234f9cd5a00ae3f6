"""Guests' roots: links never lead out, fstab keeps every byte, mount points are made."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from narvet.guests.linux.fstab import fstab_line, parse_fstab, with_entries
from narvet.model.estate import MountEntry
from tests.program import disk, facts, make_root, make_sheet, rules, run

ODD = b"# kept\r\n\tUUID=AAAA-BBBB\t/boot vfat ro\n\nbroken\n\xff\xfe /odd ext4 defaults 0 0"
ONE = disk("a", 'size = "8 MiB"', 'at = "/srv/with space/a"\nowner = "1201:1300"\nmode = "0750"')


def test_entries_escape_and_read_back() -> None:
    entry = MountEntry("LABEL=a b", "/srv/tab\there#\\x", "ext4", "defaults,nofail", 0, 2)
    line = fstab_line(entry)
    assert line == "LABEL=a\\040b /srv/tab\\011here\\043\\134x ext4 defaults,nofail 0 2"
    read = parse_fstab(with_entries(ODD, [entry]))
    assert [one.file for one in read] == ["/boot", "/odd", entry.file]
    assert read[-1] == MountEntry(entry.spec, entry.file, "ext4", "defaults,nofail", 0, 2, 6)


WORDS = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), min_size=1, max_size=12)


@given(st.lists(st.tuples(WORDS, WORDS, st.booleans()), max_size=5), st.binary(max_size=200))
def test_any_entry_reads_back_and_any_fstab_is_kept(rows: list[tuple[str, str, bool]], before: bytes) -> None:
    """Whatever the names are, the line reads back as the entry; whatever the file held, it starts with it still."""
    entries = [
        MountEntry(f"LABEL={label}", "/srv/" + "-".join(place.split("/")), "ext4", "ro" if ro else "rw", 0, 2)
        for label, place, ro in rows
    ]
    kept = with_entries(before, entries)
    assert kept.startswith(before)
    added = parse_fstab(with_entries(b"# ours\n", entries))
    assert [(one.spec, one.file, one.mntops) for one in added] == [(one.spec, one.file, one.mntops) for one in entries]
    assert len(parse_fstab(kept)) == len(parse_fstab(before)) + len(entries)


def test_fstab_is_kept_to_the_byte_and_added_to_once(tmp_path: Path) -> None:
    fstab = make_root(tmp_path / "root", ODD) / "etc" / "fstab"
    fstab.chmod(0o640)
    sheet = make_sheet(tmp_path, ONE)
    run("write", str(sheet), status=0)
    first = fstab.read_bytes()
    line = facts("entries", str(sheet))["seedling"][0]
    assert first == ODD + b"\n" + line.encode() + b"\n"
    assert "\\040space" in line and line.startswith("UUID=") and line.endswith(" ext4 defaults,nofail 0 2")
    assert fstab.stat().st_mode & 0o7777 == 0o640
    place = tmp_path / "root" / "srv" / "with space" / "a"
    if os.geteuid() == 0:
        about = place.stat()
        assert (about.st_uid, about.st_gid, about.st_mode & 0o7777) == (1201, 1300, 0o750)
    assert place.is_dir()
    run("write", str(sheet), status=0)
    assert fstab.read_bytes() == first
    fstab.write_bytes(first.replace(b"defaults,nofail", b"noatime,nofail"))
    assert rules(facts("review", str(sheet))) == ["entry-kept"]
    fstab.write_bytes(first.replace(b"/srv/with", b"/mnt/with"))
    assert "uuid-in-use" in rules(facts("review", str(sheet), status=1))


def test_links_are_followed_as_the_guest_would_and_never_out(tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "fstab").write_bytes(b"# not the guest's\n")
    root = make_root(tmp_path / "root")
    sheet = make_sheet(tmp_path, ONE)
    for target in (outside / "fstab", Path("../../outside/fstab"), Path("fstab")):
        (root / "etc" / "fstab").unlink()
        (root / "etc" / "fstab").symlink_to(target)
        done = run("write", str(sheet), status=1)
        assert "root-unsafe" in done.stderr and not (tmp_path / "shelf" / "a.raw").exists()
    assert (outside / "fstab").read_bytes() == b"# not the guest's\n"
    (root / "etc" / "fstab").unlink()
    (root / "etc" / "fstab").symlink_to("/usr/tables/fstab")
    (root / "usr" / "tables").mkdir(parents=True)
    (root / "usr" / "tables" / "fstab").write_bytes(b"# inside\n")
    (root / "srv").symlink_to("/data/../../data")
    run("write", str(sheet), status=0)
    assert (root / "usr" / "tables" / "fstab").read_bytes().startswith(b"# inside\nUUID=")
    assert (root / "etc" / "fstab").is_symlink() and (root / "data" / "with space" / "a").is_dir()


@pytest.mark.parametrize("kind", ["pipe", "folder", "huge"])
def test_an_fstab_that_is_no_plain_file_is_not_read(tmp_path: Path, kind: str) -> None:
    fstab = make_root(tmp_path / "root") / "etc" / "fstab"
    fstab.unlink()
    if kind == "pipe":
        os.mkfifo(fstab)
    elif kind == "folder":
        fstab.mkdir()
    else:
        with fstab.open("wb") as file:
            file.truncate(1 << 40)
    assert "root-unsafe" in rules(facts("review", str(make_sheet(tmp_path, ONE)), status=1))


def test_entries_into_another_root(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, ONE)
    other = make_root(tmp_path / "other", b"# other\n")
    for added in (1, 0):
        done = run("entries", str(sheet), "seedling", "--into", str(other), status=0)
        assert f"{added} {'line' if added == 1 else 'lines'} added, {1 - added} were there" in done.stdout
    assert (other / "etc" / "fstab").read_bytes().startswith(b"# other\nUUID=")
    (other / "etc" / "fstab").write_bytes(b"/dev/sdb1 /srv/with\\040space/a ext4 defaults 0 2\n")
    assert "mount-point-in-use" in run("entries", str(sheet), "seedling", "--into", str(other), status=1).stderr
    run("entries", str(sheet), "seedling", "--into", str(tmp_path / "gone"), status=1)
    run("entries", str(sheet), "--into", str(other), status=2)
    run("entries", str(sheet), "nobody", status=2)
