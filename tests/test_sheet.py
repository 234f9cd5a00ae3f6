"""Reading sheets: what is wrong is named with file, line, key path and the way out."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.program import disk, make_sheet, run

DISK = '[disk.a]\nguest = "seedling"\nstore = "shelf"\nsize = "64 MiB"\n'
PART = DISK + "[[disk.a.partition]]\n"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (DISK + 'frmat = "raw"', 'line 12: disk.a has no key "frmat"; the nearest is "format"'),
        (DISK + 'colour = "red"', "it has guest, store, device, size"),
        (DISK + 'format = "floppy"', "line 12: disk.a.format: 'floppy' is not known here; it can be raw"),
        (DISK + "sector = 1000", "disk.a.sector is 1000, 512 or 4096 expected"),
        (DISK.replace("64 MiB", "64"), "line 11: disk.a.size: \"64\" has no unit: did you mean 64 GiB"),
        (DISK.replace('"64 MiB"', "64"), "did you mean 64 GiB (68.72 GB) or 64 GB (59.6 GiB)?"),
        (DISK.replace("64 MiB", "0 B"), "a size of zero holds nothing"),
        (DISK.replace("shelf", "shlf"), 'line 10: disk.a.store: there is no store "shlf" in the sheet; the nearest is "shelf"'),
        (DISK + 'usable = "1 GB"', "give size or usable, not both"),
        (DISK + 'align = "1000 B"', "not whole sectors of 512"),
        (DISK + 'table = "none"', 'a disk with table = "none" has exactly one partition'),
        (PART + "[[disk.a.partition]]", "more than one partition takes the rest"),
        (PART + 'size = "5 GiB"\nusable = "1 GB"', "line 12: disk.a.partition 1: give size or usable, not both"),
        (PART + 'size = "120%"', "more than the whole"),
        (PART + 'at = "srv/x"', "line 13: disk.a.partition 1.at: a mount point is a path, such as"),
        (PART + 'at = "/"', "the guest's own root"),
        (PART + 'at = "/srv/../etc"', "no . or .."),
        (PART + 'owner = "a:b:c"', "an owner is a user, or user:group"),
        (PART + "mode = 750", 'octal digits as text, such as "0750"'),
        (PART + 'label = "a/b"', "characters that are not allowed"),
        (PART + '[[disk.a.partition]]\nsise = "1 GiB"', 'line 14: disk.a.partition 2 has no key "sise"; the nearest is "size"'),
        (DISK.replace('size = "64 MiB"', ""), "give the disk a size, or usable"),
        ('[disk."a/b"]', "characters that are not allowed"),
        ("[disk.a\n", "not valid TOML"),
        ("x = " + "[" * 3000, "not valid TOML"),
        (DISK + DISK, "not valid TOML"),
        ("dated = 2026-03-02", "has no key"),
    ],
)  # fmt: skip
def test_errors(tmp_path: Path, text: str, message: str) -> None:
    sheet = make_sheet(tmp_path, text)
    done = run("review", str(sheet), status=2)
    assert message in done.stderr.replace("\n", " ")
    assert str(sheet) in done.stderr and done.stdout == ""


def test_sheets_that_are_none(tmp_path: Path) -> None:
    for name, content in (("binary", b"\xff\xfe\0"), ("empty", b""), ("other", b"sheet = 2\n")):
        (tmp_path / name).write_bytes(content)
    for name, message in (
        ("gone", "there is no such sheet"),
        (".", "this is a folder"),
        ("binary", "line 1: not UTF-8 text"),
        ("empty", 'identity is missing; ids are derived from it: put in identity = "'),
        ("other", "sheet is 2, 1 expected"),
    ):
        assert message in run("review", str(tmp_path / name), status=2).stderr
    assert (
        "and 8 more"
        in run("review", str(make_sheet(tmp_path, "".join(f"[disk.d{n}]\n" for n in range(20)))), status=2).stderr
    )


def test_times_come_from_the_sheet_and_source_date_epoch(tmp_path: Path) -> None:
    """The same sheet gives the same bytes; SOURCE_DATE_EPOCH stands in for its date."""
    images = []
    for name, environment in (("one", {}), ("two", {}), ("three", {"SOURCE_DATE_EPOCH": "1772409600"})):
        folder = tmp_path / name
        folder.mkdir()
        sheet = make_sheet(folder, disk("a", 'size = "64 MiB"', 'at = "/srv/a"'))
        run("write", str(sheet), status=0, env={"PATH": "/usr/bin:/bin", **environment})
        images.append((folder / "shelf" / "a.raw").read_bytes())
    assert images[0] == images[1] != images[2]
    assert (1772409600).to_bytes(4, "little") in images[2]
