"""The master boot record: its bytes, logical partitions, limits, and chains that lead nowhere."""

from __future__ import annotations

import random
import time
from pathlib import Path

import pytest

from narvet.block.memory import MemoryDevice
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.formats.tables.mbr import FORMAT
from narvet.ground.errors import NarvetError
from narvet.ground.units import MIB
from tests.program import HERE, disk, facts, make_sheet, rules, run

SIX = Table("mbr", "1a2b3c4d", tuple(
    PartitionEntry(number, start * MIB, 2 * MIB, "83", f"1a2b3c4d-{number:02x}")
    for number, start in ((1, 1), (2, 3), (3, 5), (5, 8), (6, 11), (7, 14))
))  # fmt: skip


def on_disk(table: Table = SIX, size: int = 20 * MIB, sector: int = 512) -> MemoryDevice:
    device = MemoryDevice(size, sector)
    FORMAT.write(device, table)
    return device


def test_bytes_of_three_primaries_and_three_logical_ones() -> None:
    device = on_disk()
    assert device.read(440, 72) == bytes.fromhex(
        "4d3c2b1a" "0000"  # disk signature
        "00" "feffff" "83" "feffff" "00080000" "00100000"  # from 1 MiB, 2 MiB
        "00" "feffff" "83" "feffff" "00180000" "00100000"
        "00" "feffff" "83" "feffff" "00280000" "00100000"
        "00" "feffff" "0f" "feffff" "ff3f0000" "01400000"  # extended: from the sector ahead of 8 MiB to 16 MiB
        "55aa"
    )  # fmt: skip
    assert device.read(8 * MIB - 512 + 446, 66) == bytes.fromhex(
        "00" "feffff" "83" "feffff" "01000000" "00100000"  # counted from this record
        "00" "feffff" "0f" "feffff" "00180000" "01100000"  # the next record, counted from the first one
        + "00" * 32 + "55aa"
    )  # fmt: skip
    assert device.read(14 * MIB - 512 + 462, 16) == bytes(16)  # the last one leads no further
    for sector in (512, 4096):
        assert FORMAT.read(on_disk(sector=sector), HERE) == (SIX, ())


def test_a_sheet_with_many_partitions(tmp_path: Path) -> None:
    """Numbers as guests count, types by filesystem, ids from the signature; starts stay on the alignment."""
    parts = ['filesystem = "xfs"\nsize = "20 MiB"', 'filesystem = "swap"\nsize = "5 MiB"', 'size = "3 MiB"']
    parts += ['filesystem = "fat32"\nsize = "40 MiB"', 'filesystem = "ntfs"\nsize = "9 MiB"', 'filesystem = "none"']
    sheet = make_sheet(tmp_path, disk("a", 'size = "100 MiB"\ntable = "mbr"', *parts))
    run("write", str(sheet), status=0)
    asked = facts("review", str(sheet))["disks"][0]
    found = facts("survey", str(tmp_path / "shelf" / "a.raw"))[0]
    assert [part["number"] for part in asked["partitions"]] == [1, 2, 3, 5, 6, 7]
    assert [part["type"] for part in found["partitions"]] == ["83", "82", "83", "0c", "07", "83"]
    assert (found["table"], found["table_id"]) == ("mbr", asked["table_id"]) and found["findings"] == []
    for one, there in zip(asked["partitions"], found["partitions"], strict=True):
        assert one["start"] % MIB == 0 and one["id"] == f"{asked['table_id']}-{one['number']:02x}"
        assert (one["start"], one["size"], one["id"]) == (there["start"], there["size"], there["id"])
    assert asked["partitions"][-1]["start"] + asked["partitions"][-1]["size"] == 100 * MIB
    assert facts("confirm", str(sheet))["agrees"]
    by_parts = disk("b", 'table = "mbr"', *(f'size = "{size} MiB"' for size in (3, 3, 3, 3, 3)))
    assert facts("review", str(make_sheet(tmp_path / "b", by_parts)))["disks"][0]["size"] == 18 * MIB
    large = make_sheet(tmp_path / "c", disk("c", 'size = "3 TiB"\ntable = "mbr"', 'size = "1 GiB"'))
    assert "size-over-table" in rules(facts("review", str(large), status=1))
    many = make_sheet(tmp_path / "d", disk("d", 'size = "1 GiB"\ntable = "mbr"', *['size = "2 MiB"'] * 61))
    assert "size-over-table" in rules(facts("review", str(many), status=1))


@pytest.mark.parametrize("target", [8 * MIB - 512, 9 * MIB, 0, 19 * MIB])
def test_chains_that_lead_back_or_nowhere_end(target: int) -> None:
    device = on_disk()
    device.write(11 * MIB - 512 + 470, ((target - 8 * MIB + 512) // 512 & 0xFFFFFFFF).to_bytes(4, "little"))
    table, found = FORMAT.read(device, HERE)
    assert table is not None and [part.number for part in table.partitions] == [1, 2, 3, 5, 6]
    assert [finding.rule for finding in found] == ["table-damaged"]


def test_what_is_no_table_is_not_taken_for_one() -> None:
    """A filesystem's boot sector has the same signature; wild entries make no table either, and nothing raises."""
    device, dice = on_disk(), random.Random(3)
    device.write(446, b"\x07")
    assert FORMAT.read(device, HERE) == (None, ())
    start = time.monotonic()
    for _ in range(2000):
        device = on_disk()
        for place in (0, 8 * MIB - 512, 11 * MIB - 512, 14 * MIB - 512):
            device.write(place + 446 + dice.randrange(64), dice.randbytes(dice.randrange(1, 8)))
        try:
            FORMAT.read(device, HERE)
        except NarvetError as error:
            assert str(error)
    assert time.monotonic() - start < 30
