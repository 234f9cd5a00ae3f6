"""Every filesystem by the same measures: numbers that add up, bytes that read back, damage that is told."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from typing import Any, cast
from uuid import UUID

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems import NAMES, filesystem
from narvet.formats.filesystems.contract import UnfitError, Wishes
from narvet.formats.filesystems.fat.exfat_shape import checksum, upcase_table
from narvet.formats.filesystems.upcase import capitals
from narvet.ground.units import GIB, KIB, MIB, TIB
from narvet.plan.solve import smallest_size
from tests.program import HERE, disk, facts, make_sheet, rules, run

SIZES = (40 * MIB + 512, 700 * MIB, 5 * GIB + 4096, 3 * TIB)
MOST = {name: filesystem(name).most for name in NAMES}
KNOWN_AS = UUID("dfffbcdb-06ed-58a1-816e-248d46307df8")


def made(name: str, size: int, **options: Any) -> MemoryDevice:
    """Return a disk with one filesystem on it."""
    device, kind = MemoryDevice(size, options.get("sector", 512)), filesystem(name)
    kind.plan(size, Wishes(uuid=KNOWN_AS, **options)).write(device)
    return device


@settings(max_examples=120, deadline=None)
@given(
    st.sampled_from(NAMES), st.integers(2 * MIB, 64 * TIB), st.sampled_from((512, 4096)),
    st.sampled_from(("general", "database", "logs", "media")), st.sampled_from((0, 64 * KIB, MIB)),
)  # fmt: skip
def test_numbers_add_up_at_any_size(name: str, size: int, sector: int, purpose: Any, chunk: int) -> None:
    kind, options = filesystem(name), Wishes(KNOWN_AS, "S", purpose, sector, chunk=chunk, stripe=4 * chunk)
    try:
        new: Any = kind.plan(size // sector * sector, options)
    except UnfitError as error:
        assert error.remedy or not error.least <= size <= error.most or "hold the metadata" in str(error)
        return
    shows = new.capacity()
    assert 0 < shows.available <= shows.free <= shows.total <= size
    assert sum(loss.size for loss in shows.losses) + shows.available == size // sector * sector
    assert all(loss.size > 0 for loss in shows.losses)


@pytest.mark.parametrize(("name", "size"), [(name, size) for name in NAMES for size in SIZES if size <= MOST[name]])
def test_reads_what_it_wrote(name: str, size: int) -> None:
    device, kind = made(name, size, label="SEEDS"), filesystem(name)
    found, new = kind.read(device, HERE), kind.plan(size, Wishes(uuid=KNOWN_AS))
    promised = new.capacity()
    assert found is not None and found.findings == ()
    assert (found.kind, found.label, found.uuid) == (name, "SEEDS", kind.native_id(KNOWN_AS))
    assert (found.total, found.free) == (promised.total, promised.free)
    runs = list(device.extents())
    assert sum(run.length for run in runs) <= new.footprint()
    again = made(name, size, label="SEEDS")
    assert runs == list(again.extents()) and all(again.read(*run) == device.read(*run) for run in runs)
    used = bytearray(40 * MIB)
    for start, length in kind.unused(device):
        used[min(start, len(used)) : start + length] = b"x" * (min(start + length, len(used)) - min(start, len(used)))
    for start, length in runs:  # what was written is never called unused
        if name != "swap" and start < len(used):
            assert not any(used[start + n] and device.read(start + n, 1) != b"\0" for n in range(0, length, 61)), start
    with pytest.raises(UnfitError):
        smallest_size(kind, Wishes(), 65 * TIB, MIB)
    wanted = promised.available
    least = smallest_size(kind, Wishes(uuid=KNOWN_AS), wanted, MIB)
    assert kind.plan(least, Wishes(uuid=KNOWN_AS)).capacity().available >= wanted
    assert least <= -(-size // MIB) * MIB


def protected(name: str, size: int) -> Iterator[range]:
    """Yield the bytes whose damage must be told: all that a checksum, a copy or a count covers."""
    new: Any = filesystem(name).plan(size, Wishes(uuid=KNOWN_AS))
    if name == "swap":
        yield from (range(1024, 1028), range(4086, 4096))
    elif name == "fat32":
        first, second = new.shape.reserved * 512, (new.shape.reserved + new.shape.table) * 512
        yield from (
            range(13, 65),
            range(66, 90),
            range(510, 516),
            range(996, 1000),
            range(1020, 1024),
            range(3072, 3137),
            range(3138, 3584),
        )
        yield from (range(first, first + 12), range(second, second + 12))
    elif name == "exfat":
        heap, cluster, table = new.shape.heap * 512, new.shape.unit, new.shape.fat_offset * 512
        yield from (range(106), range(108, 112), range(113, 6144), range(6144, 6250), range(6257, 12288))
        yield from (range(heap, heap + 1), range(heap + cluster, heap + cluster + len(upcase_table())))
        yield range(table + 4 * new.shape.root, table + 4 * new.shape.root + 4)
    elif name == "xfs":
        for group in range(new.shape.group_count):
            start = group * new.shape.group_blocks * 4096
            yield range(start, start + 2048)
            yield range(start + 4096, start + new.shape.first_free * 4096)
        chunk = new.shape.root_chunk * 4096
        yield range(chunk, chunk + 32 * KIB)
    elif name == "ntfs":
        places = {key: place * new.shape.unit for key, (place, _) in new.places.items()}
        copy, mirror = new.shape.sectors * 512, 4 * new.shape.record_size
        yield from (range(512), range(copy, copy + 512), range(places["mirror"], places["mirror"] + mirror))
        yield from (range(places["table"], places["table"] + mirror), range(places["map"], places["map"] + 32))
        for start in (places["secure"], places["secure"] + 256 * KIB):
            yield range(start, start + 100)
    else:
        device = made(name, size)
        block = new.shape.block_size
        table = max(2 * KIB, block)
        maps = [int.from_bytes(device.read(table + 4 * n, 4), "little") * block for n in range(3)]
        root = int.from_bytes(device.read(maps[2] + 256 + 0x28 + 20, 4), "little") * block
        yield from (range(1024, 2048), range(table, table + 64), range(maps[0], maps[0] + block))
        yield from (range(maps[1], maps[1] + new.shape.inodes_per_group // 8), range(maps[2], maps[2] + 11 * 256))
        yield range(root, root + block)
        for copy in new.shape.copies:
            start = (new.shape.first_data_block + copy * new.shape.blocks_per_group) * block
            yield range(start, start + 1024)


@pytest.mark.parametrize(
    ("name", "size"),
    [
        ("swap", MIB),
        ("fat32", 40 * MIB),
        ("exfat", 40 * MIB),
        ("ntfs", 40 * MIB),
        ("xfs", 330 * MIB),
        ("ext4", 20 * MIB),
    ],
)
def test_damage_to_any_structure_is_told(name: str, size: int) -> None:
    device, kind, dice = made(name, size), filesystem(name), random.Random(size)
    places = [place for part in protected(name, size) for place in part]
    places = dice.sample(places, min(len(places), 900))
    for place in places:
        kept = device.read(place, 1)
        device.write(place, bytes([kept[0] ^ 1 << dice.randrange(8)]))
        found = kind.read(device, HERE)
        assert found is None or [one for one in found.findings if one.level != "note"], place
        device.write(place, kept)
    clean = kind.read(device, HERE)
    assert clean is not None and clean.findings == ()


@pytest.mark.parametrize("name", NAMES)
def test_wild_bytes_stay_bounded(name: str) -> None:
    """Thousands of wild values anywhere in what was written: findings or none, never an exception or a wait."""
    device, kind, dice = made(name, 330 * MIB), filesystem(name), random.Random(5)
    starts = [place for start, length in device.extents() for place in range(start, start + length, 512)][:600]
    start = time.monotonic()
    for _ in range(600):
        kept = []
        for _ in range(dice.randrange(1, 6)):
            place = dice.choice(starts) + 4 * dice.randrange(100)
            kept.append((place, device.read(place, 4)))
            wild = dice.choice((0, 1, 0xFFFF, 0xFFFFFFFF, 0x7FFFFFFF, dice.getrandbits(32)))
            device.write(place, wild.to_bytes(4, dice.choice(("little", "big"))))
        found = kind.read(device, HERE)
        if found is not None and not found.findings:
            assert sum(length for _, length in kind.unused(device)) <= device.size
        for place, data in reversed(kept):
            device.write(place, data)
    assert time.monotonic() - start < 90


def test_the_table_of_capitals() -> None:
    """The 128 first units are as the specification demands; packed, it unpacks to the same; sums are known ones."""
    table = capitals()
    assert list(table[:128]) == [unit - 32 if 97 <= unit <= 122 else unit for unit in range(128)]
    assert (table[0xE9], table[0x3B1], table[0x44F], table[0xDF]) == (0xC9, 0x391, 0x42F, 0xDF)
    packed, unpacked = memoryview(upcase_table()).cast("H"), list[int]()
    units = iter(packed)
    for unit in units:
        unpacked += range(len(unpacked), len(unpacked) + next(units)) if unit == 0xFFFF else [unit]
    assert unpacked + list(range(len(unpacked), 1 << 16)) == list(table)
    assert (checksum(b""), checksum(b"\x01\x02"), checksum(b"\x01\x02", (0,))) == (0, 0x80000002, 2)


ENTRIES = """
[[disk.a.partition]]
filesystem = "fat32"
size = "1 GiB"
at = "/srv/a b"
owner = "curator:lab"
mode = "2750"
[[disk.a.partition]]
filesystem = "xfs"
size = "1 GiB"
at = "/srv"
for = "database"
needed = true
[[disk.a.partition]]
filesystem = "swap"
size = "1 GiB"
[[disk.a.partition]]
filesystem = "exfat"
size = "1 GiB"
at = "/srv/media"
options = ["ro", "noexec"]
"""


def test_entries_of_every_kind(tmp_path: Any) -> None:
    """Types, options, dump and pass; outer mount points first, swap last; the guest's own lines stay."""
    sheet = make_sheet(
        tmp_path, disk("a", 'size = "9 GiB"') + ENTRIES, store='flash = true\nstripe = {chunk = "64 KiB", disks = 3}'
    )
    review = facts("review", str(sheet))
    ids = [part["uuid"] for part in review["disks"][0]["partitions"]]
    assert review["entries"]["seedling"] == [
        f"UUID={ids[1]} /srv xfs noatime,discard 0 0",
        f"UUID={ids[0].upper()} /srv/a\\040b vfat uid=1201,gid=1300,dmask=0027,fmask=0137,discard,nofail 0 0",
        f"UUID={ids[3].upper()} /srv/media exfat ro,noexec,discard,nofail 0 0",
        f"UUID={ids[2]} none swap discard,nofail 0 0",
    ]
    types = [part["type"][:8] for part in review["disks"][0]["partitions"]]
    assert types == ["ebd0a0a2", "0fc63daf", "0657fd6d", "ebd0a0a2"]
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    for keys, rule in (
        ('filesystem = "xfs"\nreserved = "2%"', "key-without-effect"),
        ('filesystem = "fat32"\nblock = "3 KiB"', "key-without-effect"),
        ('filesystem = "ext4"\njournal = "1 MiB"', "key-without-effect"),
        ('filesystem = "fat32"\nlabel = "seeds*"', "label-not-possible"),
        ('filesystem = "xfs"\nlabel = "a label too long"', "label-too-long"),
        ('filesystem = "xfs"\nsize = "9 MiB"', "filesystem-too-small"),
    ):
        told = facts("review", str(make_sheet(tmp_path / "b", disk("a", 'size = "9 GiB"', keys))), status=1)
        assert rules(told) == [rule], told["findings"]
    for keys, message in (
        ('filesystem = "swap"\nat = "/x"', "swap is not mounted"),
        ('reserved = "60%"', "at most half"),
        ('options = ["a,b"]', "characters that are not allowed"),
    ):
        assert (
            message
            in run("review", str(make_sheet(tmp_path / "c", disk("a", 'size = "9 GiB"', keys))), status=2).stderr
        )


def test_a_review_looks_and_a_confirmation_checks(tmp_path: Any) -> None:
    """Damage deep inside costs a review nothing to pass over; survey and confirm read everything and tell."""
    parts = [f'filesystem = "{name}"\nsize = "40 MiB"' for name in NAMES if name != "swap"]
    sheet = make_sheet(tmp_path, disk("a", 'size = "300 MiB"', *parts))
    run("write", str(sheet), status=0)
    image = tmp_path / "shelf" / "a.raw"
    layout = facts("review", str(sheet))["disks"][0]["partitions"]
    starts = {part["filesystem"]: part["start"] for part in layout}
    exfat, ntfs = (cast(Any, filesystem(name).plan(40 * MIB, Wishes())) for name in ("exfat", "ntfs"))
    places = {
        "ext4": starts["ext4"] + 2048 + 7,  # a group descriptor
        "xfs": starts["xfs"] + 4096 + 60,  # a tree of free space
        "fat32": starts["fat32"] + 32 * 512 + 40,  # one of the two tables
        "exfat": starts["exfat"] + exfat.shape.heap * 512 + exfat.shape.unit,  # the table of capitals
        "ntfs": starts["ntfs"] + ntfs.places["mirror"][0] * 4096 + 99,
    }
    for name, place in places.items():
        with image.open("r+b") as file:
            file.seek(place)
            kept = file.read(1)
            file.seek(place)
            file.write(bytes([kept[0] ^ 0x21]))
        assert facts("review", str(sheet))["disks"][0]["state"] == "as asked", name
        assert not facts("confirm", str(sheet), status=1)["agrees"], name
        assert set(rules(facts("survey", str(image), status=1)[0])) == {"filesystem-damaged"}, name
        with image.open("r+b") as file:
            file.seek(place)
            file.write(kept)
    assert facts("confirm", str(sheet))["agrees"]
