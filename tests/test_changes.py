"""A sheet that changed after it was written: disks grow, are corrected, move and change form, and nothing is lost."""

from __future__ import annotations

import itertools
import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import narvet
from narvet.apply import change
from narvet.block.changes import finish_changes
from narvet.block.window import Window
from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems.ext4.records import Superblock
from narvet.formats.filesystems.ext4.volume import superblock_on
from narvet.formats.filesystems.ext4.write import sign
from narvet.formats.images import NAMES as FORMATS
from narvet.formats.images import ending_of
from narvet.formats.images.chain import open_image
from narvet.formats.images.trust import Trust
from narvet.ground.units import GIB, MIB
from narvet.ground.values import replace
from narvet.report.facts import review_facts
from tests.program import digest, disk, facts, make_root, make_sheet, rules, run

BY_CONTENT = Trust(by_content=True)
INTO = "at = '/srv/a'"


def rewrite(sheet: Path, *changes: tuple[str, str]) -> None:
    """Change a sheet's text."""
    text = sheet.read_text()
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    sheet.write_text(text)


def settled(sheet: Path) -> Any:
    """Write a sheet: what the review says changes, nothing is left, and a second write finds nothing to do."""
    review = narvet.review(sheet)
    run("write", str(sheet), status=0)
    assert narvet.confirm(sheet).differences == ()
    assert narvet.write(sheet).done == ()
    left = [path.name for path in sheet.parent.rglob(".*") if "narvet" in path.name]
    assert left == []
    return facts_of(review)


def facts_of(review: narvet.Reviewed) -> Any:
    """Return the facts of a review, as its JSON has them."""
    return {key: list(value) if isinstance(value, Iterator) else value for key, value in review_facts(review)}


def content(image: Path, start: int = 0, length: int | None = None) -> str:
    """Return a checksum of a disk, or of a part of it."""
    with open_image(image, trust=BY_CONTENT) as device:
        return digest(device.read, start, device.size - start if length is None else length)


KINDS = [
    *((kind, 'space = "full"', "swap", True) for kind in FORMATS),
    ("raw", "", "ext4", True),
    ("vhd", "", "xfs", True),
    ("vhdx", "", "ntfs", True),
    ("vmdk", "", "exfat", True),
    ("vmdk", 'pieces = "40 MiB"', "xfs", True),
    ("vmdk", 'pieces = "40 MiB"\nspace = "full"', "fat32", True),
    ("qcow2", 'block = "512 B"', "ntfs", True),
    ("vhdx", "sector = 4096", "exfat", True),
    ("raw", 'table = "mbr"', "ntfs", True),
    ("qcow2", 'table = "none"', "xfs", True),
    *(("qcow2", "", kind, False) for kind in FILESYSTEMS),
    ("vhdx", "sector = 4096", "xfs", False),
]


@pytest.mark.parametrize(("kind", "keys", "filesystem", "at_once"), KINDS)
def test_every_floor_grows(
    tmp_path: Path, kind: str, keys: str, filesystem: str, at_once: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Again and again, in one change or in two; what the review promises is what is there."""
    at = "" if filesystem == "swap" else INTO
    part = f'filesystem = "{filesystem}"\n{at}'
    sheet = make_sheet(tmp_path, disk("a", f'size = "70 MiB"\nformat = "{kind}"\n{keys}', part))
    narvet.write(sheet)
    image = tmp_path / "shelf" / f"a{ending_of(kind)}"
    if not at_once:
        monkeypatch.setattr(change, "_AT_ONCE", -1)
    for old, new in itertools.pairwise(("70 MiB", "71 MiB", "600 MiB")):
        rewrite(sheet, (old, new))
        if at_once:
            review = settled(sheet)
        else:
            review = facts_of(narvet.review(sheet))
            assert len(narvet.write(sheet).done) == 1 and not narvet.write(sheet).done
            assert narvet.confirm(sheet).differences == ()
        (asked,), found = review["disks"], narvet.survey(image)
        assert (asked["state"], found.size, found.findings) == ("to change", asked["size"], ())
        for part_asked, there in zip(asked["partitions"], found.partitions, strict=True):
            inside = there.filesystem
            assert inside is not None and (part_asked["size"], part_asked["uuid"]) == (there.size, inside.uuid)
            assert part_asked["shows"]["free"] == inside.free
        assert {"size"} <= {one["what"] for one in review["changes"]} <= {"size", "total shown"}
        assert found.image.space == "full" if "full" in keys else found.image.stored < 150 * MIB


def test_a_large_growth_goes_through_two_changes_and_a_cut_between_them_is_finished(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "40 MiB"\nformat = "qcow2"', INTO))
    run("write", str(sheet), status=0)
    rewrite(sheet, ("40 MiB", "400 MiB"))
    monkeypatch.setattr(change, "_AT_ONCE", -1)
    with monkeypatch.context() as patch, pytest.raises(KeyboardInterrupt):
        patch.setattr(change.ChangeDisk, "_change", lambda *_, **__: (_ for _ in ()).throw(KeyboardInterrupt()))
        narvet.write(sheet)
    (found,) = facts("survey", str(tmp_path / "shelf" / "a.qcow2"))
    assert found["size"] == 400 * MIB and found["partitions"][0]["size"] < 40 * MIB and found["findings"] == []
    settled(sheet)


def test_usable_share_and_rest_follow_the_disk(tmp_path: Path) -> None:
    disks = disk("a", 'usable = "50 MiB"', INTO) + disk(
        "b", 'size = "100 MiB"', 'size = "50%"\nat = "/srv/b"', 'size = "10 MiB"\nfilesystem = "swap"'
    )  # fmt: skip
    sheet = make_sheet(tmp_path, disks)
    run("write", str(sheet), status=0)
    rewrite(sheet, ('usable = "50 MiB"', 'usable = "500 MiB"'))
    (asked, _) = settled(sheet)["disks"]
    assert asked["partitions"][0]["shows"]["available"] >= 500 * MIB
    rewrite(sheet, ('usable = "500 MiB"', 'usable = "400 MiB"'))
    assert settled(sheet)["changes"] == []  # it offers that already
    rewrite(sheet, ('"50%"', '"70%"'))
    told = run("write", str(sheet), status=1).stderr
    assert "neighbour-in-the-way" in told and "the next partition starts at" in " ".join(told.split())


def test_what_is_too_little_for_a_unit_is_said(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "100 MiB"\nalign = "512 B"', 'size = "50 MiB"\nfilesystem = "xfs"'))
    run("write", str(sheet), status=0)
    rewrite(sheet, ('"50 MiB"', f'"{50 * MIB + 512} B"'))
    review = settled(sheet)
    assert "too-little-to-grow" in rules(review) and [one["what"] for one in review["changes"]] == ["size"]


@pytest.mark.parametrize("kind", ["raw", "vhdx"])
def test_everything_is_corrected(tmp_path: Path, kind: str) -> None:
    """Labels, owner, mode, attributes, mount points, options, needed; then another guest has the disk."""
    parts = [
        f'size = "60 MiB"\nfilesystem = "{name}"\nlabel = "OLD{n}"'
        + ("" if name == "swap" else f'\nat = "/srv/{name}"')
        for n, name in enumerate(FILESYSTEMS)
    ]
    disks = disk("a", f'size = "500 MiB"\nformat = "{kind}"', *parts)
    disks += (
        '[guest.bench]\nroot = "bench"\n[guest.desk]\nruns = "windows"\n[disk.w]\nguest = "desk"\nstore = "shelf"\n'
    )
    disks += 'size = "200 MiB"\n[[disk.w.partition]]\nat = "T:"\n'
    sheet = make_sheet(tmp_path, disks)
    make_root(tmp_path / "bench")
    fstab = tmp_path / "root" / "etc" / "fstab"
    fstab.write_text("# mine\nUUID=0000-1111 /boot vfat defaults 0 2\n")
    run("write", str(sheet), status=0)
    own = '"/data/e"\nowner = "curator"\nmode = "2750"\noptions = ["noatime"]\nneeded = true'
    rewrite(
        sheet, ("OLD", "NEW"), ('"/srv/ext4"', own), ('"T:"', '"U:"\nlabel = "frames"\nattributes = ["read-only"]'),
        ('at = "/srv/xfs"', 'at = "/srv/xfs"\nowner = "1201:1300"\nmode = "0700"'),
    )  # fmt: skip
    settled(sheet)
    (found,) = facts("survey", str(tmp_path / "shelf" / f"a{ending_of(kind)}"))
    assert [part["filesystem"]["label"] for part in found["partitions"]] == [f"NEW{n}" for n in range(6)]
    assert [part["label"] for part in found["partitions"]] == [f"NEW{n}" for n in range(6)] and found["findings"] == []
    lines = fstab.read_text().splitlines()
    assert lines[:2] == ["# mine", "UUID=0000-1111 /boot vfat defaults 0 2"] and len(lines) == 8
    assert [line.split()[3] for line in lines if " /data/e " in line] == ["noatime"]
    assert not (tmp_path / "root" / "srv" / "ext4").exists() and (tmp_path / "root" / "data" / "e").is_dir()
    text = (tmp_path / "sheet.desk.reg").read_text("utf-16")
    assert '"\\\\DosDevices\\\\U:"=hex:' in text and '"\\\\DosDevices\\\\T:"=-' in text
    rewrite(sheet, ('guest = "seedling"', 'guest = "bench"'))
    settled(sheet)
    assert fstab.read_text().splitlines() == lines[:2] and not list((tmp_path / "root" / "srv").iterdir())
    assert len((tmp_path / "bench" / "etc" / "fstab").read_text().splitlines()) == 6


@pytest.mark.parametrize(("table", "count", "more"), [("gpt", 2, 2), ("mbr", 2, 1), ("mbr", 3, 3), ("mbr", 5, 2)])
def test_partitions_are_added(tmp_path: Path, table: str, count: int, more: int) -> None:
    """At the end, also as the first logical ones; on bytes that were something else before; the others stay as they are."""
    one = 'size = "20 MiB"\nat = "/srv/{}"'
    parts = [one.format(n) for n in range(count)]
    sheet = make_sheet(tmp_path, disk("a", f'size = "300 MiB"\ntable = "{table}"', *parts))
    run("write", str(sheet), status=0)
    image = tmp_path / "shelf" / "a.raw"
    with open_image(image, writable=True) as device:
        device.write(130 * MIB, b"\xa5" * (60 * MIB))
    there = narvet.survey(image).partitions
    before = [
        content(image, part.start, part.size) for part in there
    ]  # to the last byte, where a table's record could lie
    added = [one.format(n) + '\nfilesystem = "xfs"' for n in range(count, count + more)]
    keys = sheet.read_text()[: sheet.read_text().index("[disk.a]")]
    sheet.write_text(keys + disk("a", f'size = "300 MiB"\ntable = "{table}"', *parts, *added))
    settled(sheet)
    (found,) = facts("survey", str(image))
    kinds = [part["filesystem"]["kind"] for part in found["partitions"]]
    assert (
        kinds == ["ext4"] * count + ["xfs"] * more
        and found["findings"] == []
        and [content(image, part.start, part.size) for part in there] == before
    )


def test_records_between_logical_partitions_stay_free(tmp_path: Path) -> None:
    """Nothing grows over what leads to the next partition: by the sheet, or without one, up to a last one."""
    parts = [f'size = "20 MiB"\nat = "/srv/{n}"' for n in range(5)]
    sheet = make_sheet(tmp_path, disk("a", 'size = "300 MiB"\ntable = "mbr"', *parts))
    narvet.write(sheet)
    image = tmp_path / "shelf" / "a.raw"
    links = [part.entry.reach for part in narvet.survey(image).partitions[3:]]
    for number in ("3", "5"):
        assert "ends where another one starts" in run("enlarge", str(image), "--partition", number, status=2).stderr
    for at in (2, 3, 4):
        rewrite(sheet, (f'size = "20 MiB"\nat = "/srv/{at}"', f'size = "21 MiB"\nat = "/srv/{at}"'))
        if at < 4:
            assert "neighbour-in-the-way" in run("write", str(sheet), status=1).stderr
            rewrite(sheet, (f'size = "21 MiB"\nat = "/srv/{at}"', f'size = "20 MiB"\nat = "/srv/{at}"'))
    settled(sheet)
    run("enlarge", str(image), "--partition", "6", status=0)
    found = narvet.survey(image)
    assert found.findings == () and [part.entry.reach for part in found.partitions[3:]] == links
    assert all(link < part.start for link, part in zip(links, found.partitions[3:], strict=True))
    assert all(before.end <= after.entry.reach for before, after in itertools.pairwise(found.partitions))


def test_partitions_that_change_places_in_the_sheet_are_refused(tmp_path: Path) -> None:
    """Put in ahead, or swapped: no file may end up where others were. Over a third mount point it can be done."""
    one, other = ('size = "20 MiB"\nat = "/srv/a"', 'size = "20 MiB"\nat = "/srv/b"')
    sheet = make_sheet(tmp_path, disk("a", 'size = "100 MiB"', one, other))
    fstab = tmp_path / "root" / "etc" / "fstab"
    narvet.write(sheet)
    written, before = sheet.read_text(), fstab.read_text()
    head = written[: written.index("[disk.a]")]
    for parts in ((other, one), (one.replace("/srv/a", "/srv/new"), one, other)):
        sheet.write_text(head + disk("a", 'size = "100 MiB"', *parts))
        told = " ".join(run("write", str(sheet), status=1).stderr.split())
        assert "where the files of partition" in told and fstab.read_text() == before
    for first, second in (("/srv/c", "/srv/b"), ("/srv/c", "/srv/a"), ("/srv/b", "/srv/a")):
        sheet.write_text(
            head + disk("a", 'size = "100 MiB"', one.replace("/srv/a", first), other.replace("/srv/b", second))
        )
        settled(sheet)


def test_a_rest_that_ends_at_a_neighbour_is_told(tmp_path: Path) -> None:
    """The disk gets larger, the partition in its middle cannot; the room behind the last one can be used."""
    parts = ['at = "/srv/a"', 'size = "20 MiB"\nfilesystem = "swap"']
    sheet = make_sheet(tmp_path, disk("a", 'size = "100 MiB"', *parts))
    narvet.write(sheet)
    assert "rest-ends-early" not in rules(facts("review", str(sheet)))
    rewrite(sheet, ("100 MiB", "200 MiB"))
    told = facts("review", str(sheet))
    assert "rest-ends-early" in rules(told) and {one["what"] for one in told["changes"]} == {"size"}
    settled(sheet)
    text = sheet.read_text()
    added = disk("a", 'size = "200 MiB"', *parts, 'size = "90 MiB"\nat = "/srv/c"')
    sheet.write_text(text[: text.index("[disk.a]")] + added)
    settled(sheet)
    assert [part.size for part in narvet.survey(tmp_path / "shelf" / "a.raw").partitions][1:] == [20 * MIB, 90 * MIB]


def test_a_fifth_primary_partition_is_refused(tmp_path: Path) -> None:
    parts = ['size = "20 MiB"'] * 4
    sheet = make_sheet(tmp_path, disk("a", 'size = "300 MiB"\ntable = "mbr"', *parts))
    run("write", str(sheet), status=0)
    before = content(tmp_path / "shelf" / "a.raw")
    rewrite(sheet, ("[guest.", disk("a", 'size = "300 MiB"\ntable = "mbr"', *parts, *parts) + "[guest."), *())
    sheet.write_text(re.sub(r"\Z", "", sheet.read_text()[: sheet.read_text().rindex("[disk.a]")]))
    assert "image-differs" in run("write", str(sheet), status=1).stderr
    assert content(tmp_path / "shelf" / "a.raw") == before


def test_images_move_and_change_their_form(tmp_path: Path) -> None:
    """Store, name, format, space, block, swapped folders, alone and together with growth: the same disk, and nothing left."""
    (tmp_path / "bulk").mkdir()
    keys = 'size = "40 MiB"\nformat = "qcow2"'
    sheet = make_sheet(
        tmp_path, '[store.bulk]\npath = "bulk"\n' + disk("a", keys, INTO) + disk("b", keys + "\nspace = 'full'", "")
    )
    run("write", str(sheet), status=0)
    first, other = (content(tmp_path / "shelf" / f"{name}.qcow2") for name in "ab")

    def images() -> list[str]:
        return sorted(
            str(path.relative_to(tmp_path)) for folder in ("shelf", "bulk") for path in (tmp_path / folder).iterdir()
        )

    for changes, expected in (
        ([('[disk.a]\nguest = "seedling"\nstore = "shelf"', '[disk.a]\nguest = "seedling"\nstore = "bulk"')], ["bulk/a.qcow2", "shelf/b.qcow2"]),
        ([("disk.a", "disk.c"), ("[disk.c]", '[disk.c]\nwas = "a"'), (INTO, INTO + '\nlabel = "a"')], ["bulk/c.qcow2", "shelf/b.qcow2"]),
        ([('was = "a"\n', "")], ["bulk/c.qcow2", "shelf/b.qcow2"]),  # done, so the ledger remembers it
        ([('"qcow2"', '"vhdx"')], ["bulk/c.vhdx", "shelf/b.vhdx"]),
        ([('"vhdx"', '"vmdk"\npieces = "16 MiB"')], ["bulk/c-1.vmdk", "bulk/c-2.vmdk", "bulk/c-3.vmdk", "bulk/c.vmdk",
          "shelf/b-1.vmdk", "shelf/b-2.vmdk", "shelf/b-3.vmdk", "shelf/b.vmdk"]),
        ([('"vmdk"\npieces = "16 MiB"', '"vhdx"\nblock = "4 MiB"')], ["bulk/c.vhdx", "shelf/b.vhdx"]),
        ([('"4 MiB"', '"8 MiB"')], ["bulk/c.vhdx", "shelf/b.vhdx"]),
        ([('"shelf"\n\n', '"x"\n'), ('path = "bulk"', 'path = "shelf"'), ('path = "x"', 'path = "bulk"')], ["bulk/b.vhdx", "shelf/c.vhdx"]),
    ):  # fmt: skip
        rewrite(sheet, *changes)
        settled(sheet)
        assert images() == expected
        where = {Path(name).stem: tmp_path / name for name in expected}
        assert (content(where["c" if "c" in where else "a"]), content(where["b"])) == (first, other)
    rewrite(
        sheet, ('"8 MiB"', '"8 MiB"\nsector = 512'), ('store = "bulk"', 'store = "shelf"'), ('"40 MiB"', '"90 MiB"')
    )
    settled(sheet)
    assert images() == ["bulk/b.vhdx", "bulk/c.vhdx"]
    shutil.copy(tmp_path / "bulk" / "c.vhdx", tmp_path / "shelf" / "backup.vhdx")
    assert settled(sheet)["changes"] == []  # a copy of somebody's is no image left over by a move


def test_a_move_that_was_cut_off_is_finished_only_if_both_are_the_same(tmp_path: Path) -> None:
    (tmp_path / "bulk").mkdir()
    sheet = make_sheet(tmp_path, '[store.bulk]\npath = "bulk"\n' + disk("a", 'size = "20 MiB"\nformat = "vhdx"', INTO))
    run("write", str(sheet), status=0)
    old, new, ledger = tmp_path / "shelf" / "a.vhdx", tmp_path / "bulk" / "a.vhdx", tmp_path / "sheet.ledger.jsonl"
    rewrite(sheet, ('store = "shelf"', 'store = "bulk"'))
    shutil.copy(old, new)
    assert facts("write", str(sheet))["done"] == [] and old.exists()  # nothing says that a move was under way
    with ledger.open("a") as file:
        file.write('{"did": "moving", "disk": "a", "touched": "bulk/a.vhdx", "from": "shelf/a.vhdx"}\n')
    with open_image(new, writable=True) as device:
        device.write(15 * MIB, b"a guest went on with it")
    told = run("write", str(sheet), status=3).stderr
    assert "another content" in told and old.exists() and new.exists()
    shutil.copy(old, new)
    settled(sheet)
    assert not old.exists()


def test_a_base_and_a_child_stay_where_they_are(tmp_path: Path) -> None:
    (tmp_path / "bulk").mkdir()
    sheet = make_sheet(tmp_path, '[store.bulk]\npath = "bulk"\n' + disk("a", 'size = "20 MiB"\nformat = "qcow2"', INTO))
    run("write", str(sheet), status=0)
    base = tmp_path / "shelf" / "a.qcow2"
    run("branch", str(base), str(tmp_path / "bulk" / "child.qcow2"), status=0)
    before = base.read_bytes()
    for old, new in (('"20 MiB"', '"30 MiB"'), ('store = "shelf"', 'store = "bulk"')):
        rewrite(sheet, (old, new))
        assert "is a child of it" in run("write", str(sheet), status=3).stderr
        assert base.read_bytes() == before
        rewrite(sheet, (new, old))


def spoilt(image: Path, **fields: int) -> None:
    """Set fields of the ext4 superblock on the first partition of an image."""
    with open_image(image, writable=True) as device:
        inside = Window(device, MIB, 8 * MIB)
        superblock = superblock_on(inside)
        changed = sign(replace(superblock, **{name: getattr(superblock, name) | bit for name, bit in fields.items()}))
        assert isinstance(changed, Superblock)
        inside.write(1024, changed.encode())


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        ({"s_feature_incompat": 0x4}, "its journal holds changes that are not in place yet"),
        ({"s_state": 0x2}, "has seen errors in it"),
        ({"s_last_orphan": 12}, "removed while in use"),
        ({"s_feature_compat": 0x200}, "sparse_super2"),
        ({"s_feature_incompat": 0x80000000}, "incompat:0x80000000"),
        ({"s_feature_ro_compat": 0x10000}, "removed while in use"),
    ],
)
def test_what_is_not_clean_or_not_known_is_not_touched(tmp_path: Path, fields: dict[str, int], said: str) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "20 MiB"', INTO))
    run("write", str(sheet), status=0)
    image = tmp_path / "shelf" / "a.raw"
    spoilt(image, **fields)
    before = image.read_bytes()
    rewrite(sheet, ('"20 MiB"', '"40 MiB"'))
    assert said in " ".join(run("write", str(sheet), status=1).stderr.split())
    assert said in " ".join(run("enlarge", str(image), "--size", "40 MiB", status=1).stderr.split())
    assert image.read_bytes() == before


def test_a_disk_in_use_or_changed_meanwhile_is_not_touched(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "20 MiB"', INTO))
    run("write", str(sheet), status=0)
    image = tmp_path / "shelf" / "a.raw"
    rewrite(sheet, ('"20 MiB"', '"40 MiB"'))
    with image.open("rb"):
        assert "has it open" in run("write", str(sheet), status=3).stderr
    before = image.read_bytes()
    steps = narvet.review(sheet).steps
    spoilt(image, s_mnt_count=7, s_feature_incompat=0x4)
    with pytest.raises(narvet.RefusedError, match="changed since it was looked at"):
        steps[0].apply()
    image.write_bytes(before)
    monkeypatch.setattr(change, "survey_opened", lambda *_: steps[0].found)  # type: ignore[attr-defined]
    with pytest.raises(narvet.ImageError, match="would become 20971520"):
        narvet.write(sheet)
    finish_changes(image)
    assert image.read_bytes() == before


def test_disks_made_by_others_are_adopted(tmp_path: Path) -> None:
    """Ids, labels and places as they are: nothing to do at once; then they grow and are corrected like any other."""
    sheet = make_sheet(tmp_path, "")
    fstab = tmp_path / "root" / "etc" / "fstab"
    made = (
        ("one.vhdx", "ext4", "gpt"),
        ("two.raw", "xfs", "mbr"),
        ("three.qcow2", "ntfs", "none"),
        ("four.vmdk", "swap", "gpt"),
    )
    for name, kind, table in made:
        run(
            "make", str(tmp_path / "shelf" / name), "--size", "60 MiB", "--filesystem", kind, "--table", table, status=0
        )
        (found,) = facts("survey", str(tmp_path / "shelf" / name))
        words = {
            "ext4": "/srv/one ext4 noatime,nofail 0 2",
            "xfs": "/srv/two xfs defaults 0 0",
            "swap": "none swap defaults,nofail 0 0",
        }
        if kind in words:
            fstab.write_text(fstab.read_text() + f"UUID={found['partitions'][0]['filesystem']['uuid']} {words[kind]}\n")
    before, entries = {name: content(tmp_path / "shelf" / name) for name, _, _ in made}, fstab.read_text()
    options = [word for name, _, _ in made for word in ("--adopt", str(tmp_path / "shelf" / name))]
    assert facts("draft", str(sheet), *options)["disks"] == ["one", "two", "three", "four"]
    review = facts("review", str(sheet))
    assert {one["state"] for one in review["disks"]} == {"as asked"}
    assert {one["what"] for one in review["changes"]} == {"mount point"}  # the root is a new one
    assert rules(review) == []
    settled(sheet)
    assert {name: content(tmp_path / "shelf" / name) for name in before} == before and fstab.read_text() == entries
    rewrite(
        sheet,
        (f"{60 * MIB} B", "90 MiB"),
        (f"{58 * MIB} B", "80 MiB"),
        ("/srv/one", "/srv/uno"),
        ('label      = "one"', 'label      = "seeds"'),
    )
    text = re.sub(r'size += "\d+ B"', 'size = "rest"', sheet.read_text())
    sheet.write_text(text)
    settled(sheet)
    assert "/srv/uno ext4 noatime,nofail" in fstab.read_text() and "/srv/one" not in fstab.read_text()
    assert "already" in run("draft", str(sheet), "--adopt", str(tmp_path / "shelf" / "one.vhdx"), status=2).stderr


def test_what_is_left_over_can_be_retired(tmp_path: Path) -> None:
    sheet = make_sheet(
        tmp_path,
        disk("a", 'size = "20 MiB"', INTO)
        + disk("b", 'size = "20 MiB"\nformat = "vmdk"\npieces = "8 MiB"', 'at = "/srv/b"'),
    )
    run("write", str(sheet), status=0)
    sheet.write_text(sheet.read_text()[: sheet.read_text().index("[disk.b]")])
    (told,) = [one for one in facts("review", str(sheet))["findings"] if one["rule"] == "disk-left-over"]
    assert "retire b" in told["remedy"]
    assert "b.vmdk" in run("write", str(sheet), status=0).stderr and (tmp_path / "shelf" / "b.vmdk").exists()
    assert "add --yes" in run("retire", str(sheet), "b", status=2).stderr
    run("retire", str(sheet), "b", "--yes", status=0)
    assert [path.name for path in (tmp_path / "shelf").iterdir()] == ["a.raw"]
    assert "/srv/b" not in (tmp_path / "root" / "etc" / "fstab").read_text()
    assert facts("review", str(sheet))["findings"] == []


def test_enlarge_and_recast_without_a_sheet(tmp_path: Path) -> None:
    for kind in ("ext4", "exfat"):
        image, new = tmp_path / f"{kind}.vhdx", tmp_path / f"{kind}.qcow2"
        run("make", str(image), "--size", "80 MiB", "--filesystem", kind, status=0)
        done = facts("enlarge", str(image), "--size", "2 GiB")
        (found,) = facts("survey", str(image))
        assert found["findings"] == [] and found["size"] == 2 * GIB == done["size"]
        assert done["partitions"][0]["shows"]["total"] > 1900 * MIB
        assert "nothing to be changed" in run("enlarge", str(image), status=0).stdout
        run("recast", str(image), str(new), "--size", "3 GiB", "--verify", status=0)
        (found,) = facts("survey", str(new))
        assert found["findings"] == [] and found["partitions"][0]["filesystem"]["size"] > 2900 * MIB
        for words, said in (
            (["--size", "1 GiB"], "shrink"), (["--partition", "7", "--size", "4 GiB"], "no partition 7"),
        ):  # fmt: skip
            assert said in run("enlarge", str(image), *words, status=2).stderr
