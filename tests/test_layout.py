"""The layout: places as properties, and every finding from a sheet that calls for it."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from narvet.formats.tables.gpt import FORMAT
from narvet.ground.units import MIB, TIB, align_down, align_up
from narvet.plan.place import PartSize, pieces, place
from tests.program import disk, facts, make_root, make_sheet, rules, run

ALIGNS = st.sampled_from((4096, 65536, MIB, 3 * MIB))
PARTS = st.lists(
    st.one_of(st.integers(1, 40 * MIB), st.fractions(Fraction(1, 100), Fraction(1, 6)), st.just("rest")), max_size=6
).filter(lambda sizes: sizes.count("rest") <= 1)


@given(st.integers(1 * MIB, 64 * TIB), PARTS, ALIGNS, st.sampled_from((512, 4096)))
def test_partitions_are_aligned_disjoint_inside_and_add_up(
    size: int, sizes: list[PartSize], align: int, sector: int
) -> None:
    size = size // sector * sector
    bounds = FORMAT.bounds(size, sector)
    places = place(sizes, bounds, align, sector)
    assert all(spot.start % align == 0 and spot.length % sector == 0 for spot in places)
    assert all(one.end <= two.start for one, two in pairwise(places))
    if all(spot.end <= bounds.end for spot in places):
        parts = pieces(size, FORMAT.reserved(size, sector), tuple(enumerate(places, 1)))
        assert parts[0].start == 0 and sum(piece.size for piece in parts) == size
        assert all(one.start + one.size == two.start for one, two in pairwise(parts))
    if "rest" in sizes and places[sizes.index("rest")].length:
        assert align_up(places[-1].end, align) == align_down(bounds.end, align)


FSTAB = b"""UUID=11111111-2222-4333-8444-555555555555 /srv/old ext4 defaults 0 2
LABEL=herbs /srv/herbs ext4 defaults 0 2
"""


@pytest.mark.parametrize(
    ("rule", "status", "disks", "extra"),
    [
        ("partition-past-end", 1, disk("a", 'size = "64 MiB"', 'size = "64 MiB"'), {}),
        ("rest-is-empty", 1, disk("a", 'size = "64 MiB"', 'size = "62 MiB"', 'size = "rest"'), {}),
        ("disk-too-small", 1, disk("a", 'size = "16 KiB"', ""), {}),
        ("size-over-table", 1, disk("a", 'size = "1 GiB"', *['size = "3 MiB"'] * 129), {}),
        ("size-rounded", 0, disk("a", 'size = "67108865 B"', ""), {}),
        ("filesystem-too-small", 1, disk("a", 'size = "4 MiB"', 'size = "1 MiB"'), {}),
        ("filesystem-too-large", 1, disk("a", 'size = "65 TiB"', ""), {}),
        ("filesystem-too-large", 1, disk("a", "", 'usable = "64 TiB"'), {}),
        ("partition-misaligned", 0, disk("a", 'size = "64 MiB"\nalign = "512 B"', ""), {}),
        ("label-too-long", 1, disk("a", 'size = "64 MiB"', 'label = "seventeen-letters"'), {}),
        ("owner-unknown", 1, disk("a", 'size = "64 MiB"', 'owner = "nobody:lab"'), {}),
        ("owner-unknown", 1, disk("a", 'size = "64 MiB"', 'owner = "4294967295"'), {}),
        ("owner-unknown", 1, disk("a", 'size = "64 MiB"', 'owner = "curator"'), {"guest": ""}),
        ("mount-point-twice", 1, disk("a", 'size = "64 MiB"', 'at = "/srv/a"') + disk("b", 'size = "64 MiB"', 'at = "/srv/a/"'), {}),
        ("mount-points-nested", 0, disk("a", 'size = "64 MiB"', 'at = "/srv/a"') + disk("b", 'size = "64 MiB"', 'at = "/srv/a/b/c"'), {}),
        ("mount-point-in-use", 1, disk("a", 'size = "64 MiB"', 'at = "/srv/old"'), {}),
        ("mount-point-not-empty", 0, disk("a", 'size = "64 MiB"', 'at = "/etc"'), {}),
        ("mount-point-not-possible", 1, disk("a", 'size = "64 MiB"', 'at = "/etc/fstab/x"'), {}),
        ("label-in-use", 1, disk("a", 'size = "64 MiB"', 'at = "/srv/a"\nlabel = "herbs"'), {}),
        ("slot-not-offered", 1, disk("a", 'size = "64 MiB"\nslot = "scsi 16"'), {}),
        ("slot-taken", 1, disk("a", 'size = "64 MiB"\nslot = "scsi 2"') + disk("b", 'size = "64 MiB"\nslot = "scsi 2"'), {}),
        ("slot-taken", 1, disk("a", 'size = "64 MiB"\nslot = "scsi 0"'), {"guest": 'taken = ["scsi 0"]'}),
        ("no-slot-left", 1, disk("a") + disk("b"), {"guest": 'slots = ["scsi 3"]'}),
        ("store-without-room", 1, disk("a", 'size = "64 MiB"\nspace = "full"'), {"store": 'room = "60 MiB"'}),
        ("store-overpromised", 0, disk("a", 'size = "64 GiB"', ""), {"store": 'room = "64 GiB"\nkeep_free = "1%"'}),
        ("store-missing", 1, disk("a"), {"store": "", "gone": "shelf"}),
        ("root-missing", 1, disk("a"), {"gone": "root/etc"}),
        ("zone-differs", 1, disk("a"), {"store": 'zone = "north"', "guest": 'zone = "south"'}),
    ],
)  # fmt: skip
def test_findings(tmp_path: Path, rule: str, status: int, disks: str, extra: dict[str, str]) -> None:
    make_root(tmp_path / "root", FSTAB)
    gone = extra.pop("gone", None)
    sheet = make_sheet(tmp_path, disks, **extra)
    if gone:
        run_away = tmp_path / gone
        run_away.rename(tmp_path / "elsewhere")
    review = facts("review", str(sheet), status=status)
    assert rule in rules(review)
    finding = next(one for one in review["findings"] if one["rule"] == rule)
    assert finding["level"] == ("error" if status else finding["level"])
    assert finding["remedy"] or finding["level"] == "note"
    shown = run("review", str(sheet), status=status).stdout
    assert rule in shown and finding["where"] in shown
    written = run("write", str(sheet), status=status)
    if status:
        assert "Nothing was written" in written.stdout and rule in written.stderr
        assert not list(tmp_path.glob("shelf/*")) and not list(tmp_path.glob("*.jsonl"))


def test_defaults_slots_and_a_better_store(tmp_path: Path) -> None:
    """A ten-line sheet works; slots are the next free ones; a store with room is named."""
    (tmp_path / "attic").mkdir()
    disks = (
        disk("a", 'size = "90 GiB"\nslot = "scsi 1"') + disk("b", 'size = "1 GiB"') + disk("c", 'size = "1 GiB"', "")
    )
    extra = 'room = "50 GiB"\n[store.attic]\npath = "attic"\nroom = "1 TB"'
    sheet = make_sheet(tmp_path, disks, extra, 'taken = ["scsi 0"]')
    review = facts("review", str(sheet))
    assert review["title"] == "sheet"
    assert [one["slot"] for one in review["disks"]] == ["scsi 1", "scsi 2", "scsi 3"]
    over = next(one for one in review["findings"] if one["rule"] == "store-overpromised")
    assert "move disks to store attic, which has 1 TB (931.32 GiB) left" in over["remedy"]
    part = review["disks"][2]["partitions"][0]
    assert (part["label"], part["filesystem"], part["start"]) == ("c", "ext4", MIB)
    store = review["stores"][0]
    assert store["promised"] == 92 << 30 and store["left"] == store["room"] - store["kept"] - store["promised"]


def test_usable_and_sizes_from_the_partitions(tmp_path: Path) -> None:
    disks = (
        disk("a", 'usable = "100 MB"', "")
        + disk("b", "", 'usable = "30 MB"', 'size = "5 MiB"')
        + disk("c", 'usable = "10 MiB"\ntable = "none"', "")
        + disk("d", 'size = "101 MiB"', 'size = "25%"', 'size = "rest"', 'size = "10 MiB"\nfilesystem = "none"')
    )
    made = {one["name"]: one for one in facts("review", str(make_sheet(tmp_path, disks)))["disks"]}
    available = {
        (name, part["number"]): part["shows"]["available"]
        for name, one in made.items()
        for part in one["partitions"]
        if part["shows"]
    }
    assert 100_000_000 <= available["a", 1] < 100_000_000 + MIB
    assert 30_000_000 <= available["b", 1] < 30_000_000 + MIB
    assert 10 * MIB <= available["c", 0] < 11 * MIB
    assert made["c"]["table_id"] is None and made["c"]["partitions"][0]["size"] == made["c"]["size"]
    end = made["b"]["partitions"][1]["start"] + 5 * MIB
    assert made["b"]["size"] == end + MIB
    assert [part["size"] for part in made["d"]["partitions"]] == [24 * MIB, 65 * MIB, 10 * MIB]


def test_a_large_file_is_known_not_to_fit_before_writing(tmp_path: Path) -> None:
    """Most filesystems hold files of at most 16 TiB: said beforehand where the one below the store is such."""
    sheet = make_sheet(tmp_path, disk("a", 'size = "16 TiB"', ""))
    image = tmp_path / "probe"
    with image.open("wb") as file:
        try:
            file.truncate(16 * TIB)
            fits = True
        except OSError:
            fits = False
    image.unlink()
    assert ("image-over-file-limit" in rules(facts("review", str(sheet), status=None))) == (not fits)


ALIKE = (
    ('size = "64 MiB"', 'size = "100%"\nfilesystem = "none"'),
    ('size = "64 MiB"', 'size = "1 B"\nfilesystem = "none"'),
    ('size = "64 MiB"', 'size = "100%"\nfilesystem = "ext4"'),
    ('size = "64 MiB"', 'size = "100%"\nfilesystem = "ext4"\nlabel = "its own"\nfor = "media"\nat = "/srv/x"'),
    ('size = "64 MiB"\nalign = "4 KiB"', 'filesystem = "ext4"'),
    ('size = "64 MiB"\nsector = 4096', 'filesystem = "ext4"'),
    ('size = "64 MiB"\ntable = "mbr"', 'filesystem = "ext4"'),
    ('size = "64 MiB"\ntable = "none"', 'filesystem = "ext4"'),
    ('size = "64 MiB"\nformat = "qcow2"\nblock = "1 MiB"', 'filesystem = "ext4"'),
    ('size = "64 MiB"\nformat = "vhd"\nblock = "1 MiB"', 'filesystem = "ext4"'),
    ('size = "64 MiB"\nspace = "full"', 'filesystem = "ext4"'),
    ('size = "67108000 B"\nalign = "3 KiB"', 'size = "62 MiB"\nfilesystem = "none"'),
    ('size = "64 MiB"', 'size = "62 MiB"\nfilesystem = "ext4"', 'size = "rest"\nfilesystem = "ext4"'),
)  # fmt: skip


def test_a_disk_is_planned_alike_alone_and_among_others_of_its_size(tmp_path: Path) -> None:
    """What disks share as their sizes are the same is nothing in which they differ."""
    every = (*ALIKE, ALIKE[11], ALIKE[4])
    tables = [disk(f"d{n}", f'slot = "scsi {n}"\n{keys}', *parts) for n, (keys, *parts) in enumerate(every)]
    together = facts("review", str(make_sheet(tmp_path, "".join(tables))), status=None)
    for number, (planned, own) in enumerate(zip(together["disks"], tables, strict=True)):
        alone = facts("review", str(make_sheet(tmp_path, own)), status=None)
        assert alone["disks"] == [planned]
        mine = [
            [one for one in found["findings"] if f"{one['where']}.".startswith(f"disk.d{number}.")]
            for found in (alone, together)
        ]
        assert mine[0] == mine[1]
    assert {"size-rounded", "alignment-unusual"} & set(rules(together)), rules(together)
