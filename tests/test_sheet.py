"""Reading sheets: what is wrong is named with file, line, key path and the way out."""

from __future__ import annotations

import copy
import datetime
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import tomlkit

from narvet.sheet.base import Form
from narvet.sheet.contents import PartitionForm, SealForm, VolumeForm
from narvet.sheet.form import DeviceForm, DiskForm, PoolForm, RatesForm, Sheet, schema
from narvet.sheet.keys import keys_of
from narvet.sheet.lines import KeyPath
from narvet.sheet.machines import DoorForm, GuestForm, HostForm, RootForm, StoreForm, StripeForm
from narvet.sheet.read import faults_in
from tests.program import IDENTITY, disk, make_sheet, run

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


WHOLE: dict[str, Any] = {
    "sheet": 1,
    "identity": IDENTITY,
    "host": {"rack": {}},
    "store": {"shelf": {"path": "shelf", "stripe": {"chunk": "64 KiB", "disks": 2}}},
    "guest": {"seedling": {"root": {"image": "root.raw"}, "door": {"ovf": "seedling.ovf"}}},
    "disk": {
        "a": {
            "guest": "seedling", "store": "shelf", "size": "9 GiB", "ceiling": {"operations": 5},
            "partition": [{"sealed": {}, "size": "1 GiB"}, {"pool": "p"}],
        },
        "b": {"guest": "seedling", "size": "9 GiB", "device": {"only_blank": True}, "partition": [{}]},
    },
    "pool": {"p": {"guest": "seedling", "volume": [{"name": "v", "size": "1 GiB"}]}},
}  # fmt: skip
"""A sheet that has a table of every kind."""
TABLES: dict[type[Form], KeyPath] = {
    Sheet: (),
    HostForm: ("host", "rack"),
    StoreForm: ("store", "shelf"),
    StripeForm: ("store", "shelf", "stripe"),
    GuestForm: ("guest", "seedling"),
    RootForm: ("guest", "seedling", "root"),
    DoorForm: ("guest", "seedling", "door"),
    DiskForm: ("disk", "a"),
    RatesForm: ("disk", "a", "ceiling"),
    DeviceForm: ("disk", "b", "device"),
    PartitionForm: ("disk", "a", "partition", 0),
    SealForm: ("disk", "a", "partition", 0, "sealed"),
    PoolForm: ("pool", "p"),
    VolumeForm: ("pool", "p", "volume", 0),
}
ODD: tuple[Any, ...] = (
    -1, 0, 1, 4096, 1 << 70, 1.5, float("inf"), True, "", "x", "x\n", "x" * 300, "64 MiB", "C:", "/srv/x", "scsi 1", "1.2",
    "\u202e", datetime.date(2026, 3, 2), datetime.time(1), [], ["x"], [1], [[]], [{}], {}, {"x": 1}, {"": ""}, "none",
)  # fmt: skip

LINKS = ("disk", "guest", "store", "pool", "host", "base", "partition", "was", "count", "left_out", "digits")
"""Keys whose values can be wrong for what others say."""


def with_value(content: dict[str, Any], path: KeyPath, key: str | int, value: Any) -> dict[str, Any]:
    made = copy.deepcopy(content)
    table: Any = made
    for part in path:
        table = table[part]
    table[key] = copy.deepcopy(value)
    return made


@pytest.mark.parametrize("form", TABLES)
def test_every_key_takes_what_its_schema_says_and_tells_of_all_else(form: type[Form]) -> None:
    """What editors are told of a sheet is judged by a package that has nothing to do with how it is read."""
    judge, path = jsonschema.Draft202012Validator(schema()), TABLES[form]
    assert not faults_in(WHOLE)
    cases = [((*path, key), value) for key in keys_of(form) for value in ODD]
    for where, value in [*cases, *((path, value) for value in (3, "x", [], [3], True) if path)]:
        content = with_value(WHOLE, where[:-1], str(where[-1]) if len(where) > len(path) else where[-1], value)
        found = faults_in(content)
        near = [
            (named(at[: len(path)]), words)
            for at, words in found
            if where[: len(at)] == at or at[: len(where)] == where
        ]
        assert len(near) == len(found) or where[-1] in LINKS, (where, value, found)
        assert all(name in words and len(words) < 1000 for name, words in near), (where, value, near)
        if not found:
            judge.validate({**content, **({"dated": str(content["dated"])} if "dated" in content else {})})


def named(path: KeyPath) -> str:
    return "".join(f" {part + 1}" if isinstance(part, int) else f".{part}" for part in path).removeprefix(".")


def test_all_that_is_wrong_is_told_at_once(tmp_path: Path) -> None:
    content = with_value(WHOLE, ("disk", "a", "partition", 0), "labl", "x")
    for path, key, value in (
        (("disk", "a"), "size", 64),
        (("disk", "a", "partition", 1), "number", 0),
        (("guest", "seedling"), "runs", "beans"),
        (("pool", "p", "volume", 0), "over", 1),
        ((), "identity", "mine"),
    ):
        content = with_value(content, path, key, value)
    sheet = make_sheet(tmp_path, "")
    sheet.write_text(tomlkit.dumps(content))
    told = run("review", str(sheet), status=2).stderr
    for words in (
        "identity is 'mine', a UUID expected",
        "guest.seedling.runs is 'beans', 'linux' or 'windows' expected",
        'disk.a.size: "64" has no unit',
        'disk.a.partition 1 has no key "labl"; the nearest is "label"',
        "disk.a.partition 2.number is 0, at least 1 expected",
        "pool.p.volume 1.over is 1, at least 2 expected",
    ):
        assert words in told.replace("\n", " ")
    assert told.count(", line ") == 6
