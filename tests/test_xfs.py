"""XFS: groups that add up, trees of several levels, logs in every state, and each fault that a survey names."""

from __future__ import annotations

from typing import Any
from uuid import UUID

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import UnfitError, Wishes
from narvet.formats.filesystems.xfs import FILESYSTEM, NewXfs
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import sealed
from narvet.formats.filesystems.xfs.log import is_clean
from narvet.formats.filesystems.xfs.options import LEAST, MOST, SMALLEST_GROUP
from narvet.formats.filesystems.xfs.trees import BY_BLOCK, Group, records_of
from narvet.ground.errors import ImageError
from narvet.ground.units import GIB, KIB, MIB, TIB
from narvet.ground.values import replace
from tests.program import HERE

XFS = filesystem("xfs")
KNOWN_AS = UUID("dfffbcdb-06ed-58a1-816e-248d46307df8")
SIZE = 330 * MIB
BLOCK = 4 * KIB


def plan(size: int, wishes: Wishes) -> NewXfs:
    return FILESYSTEM.options.of(wishes).plan(size)


def made() -> tuple[MemoryDevice, NewXfs]:
    device, new = MemoryDevice(SIZE), plan(SIZE, Wishes(uuid=KNOWN_AS, label="seeds"))
    new.write(device)
    return device, new


def told(device: MemoryDevice) -> list[str]:
    found = XFS.read(device, HERE)
    assert found is not None
    return [finding.message for finding in found.findings]


def change(device: MemoryDevice, place: int, size: int, record: Any, field: str, rest_at: int, **values: Any) -> None:
    """Change fields of a record that is followed by other bytes, its checksum made anew."""
    data = device.read(place, size)
    device.write(
        place, sealed(replace(record.decode(data), **{field: bytes(4)}, **values), field, size, data[rest_at:])
    )


@settings(max_examples=150, deadline=None)
@given(
    st.integers(LEAST, MOST), st.sampled_from((KIB, 2 * KIB, 4 * KIB)), st.sampled_from((512, 4096)),
    st.sampled_from((0, 64 * KIB, MIB)), st.integers(1, 12),
)  # fmt: skip
def test_groups_add_up_and_hold_what_lies_in_them(size: int, block: int, sector: int, chunk: int, disks: int) -> None:
    options = Wishes(sector_size=sector, unit=max(block, sector), chunk=chunk, stripe=chunk * disks)
    try:
        new = plan(size // sector * sector, options)
    except UnfitError:
        assert size < LEAST + MIB
        return
    block, last = new.shape.block_size, new.shape.group_count - 1
    lengths = {group: new.shape.length(group) for group in {0, new.shape.log_group, last}}
    assert last * new.shape.group_blocks + lengths[last] == new.shape.block_count <= size // block
    assert all(SMALLEST_GROUP <= length * block <= TIB for length in lengths.values())
    for group, length in lengths.items():
        reach = 0
        for start, count in new.shape.taken(group):
            assert start >= reach and count > 0
            reach = start + count
        assert reach <= length
    assert new.shape.root_chunk % new.shape.chunk_blocks == 0
    if new.shape.stripe_unit and new.shape.group_count > 1:
        assert new.shape.log_start % new.shape.stripe_unit == 0 and new.shape.group_blocks % new.shape.stripe_unit == 0


def test_the_log_asked_for_is_made_or_refused() -> None:
    assert plan(GIB, Wishes(journal=100 * MIB)).shape.log_blocks == 100 * MIB // BLOCK
    for journal in (MIB, 31 * MIB, 300 * MIB):
        with pytest.raises(UnfitError, match=r"the log of an xfs of 1\sGiB .* has 32\sMiB") as caught:
            plan(GIB, Wishes(journal=journal))
        assert "leave journal out" in caught.value.remedy


GROUP = Group(3, 7 * MIB, 4096, BLOCK, KNOWN_AS)


def tree_block(level: int, entries: bytes, count: int, **fields: Any) -> bytes:
    head = r.TreeBlock(
        bb_magic=b"AB3B", bb_level=level, bb_numrecs=count, bb_uuid=KNOWN_AS, bb_owner=3, **fields
    )  # fmt: skip
    return sealed(head, "bb_crc", BLOCK, entries)


def node(children: list[int], level: int) -> bytes:
    """Return a node: a key for each child, room for as many as fit, then the children."""
    most = (BLOCK - r.TreeBlock.size) // 12
    keys = b"".join(r.FreeRun(ar_startblock=n, ar_blockcount=1).encode() for n, _ in enumerate(children))
    return tree_block(
        level, keys.ljust(8 * most, b"\0") + b"".join(n.to_bytes(4, "big") for n in children), len(children)
    )


def three_levels() -> tuple[MemoryDevice, list[tuple[int, int]]]:
    """Return a disk with a tree of three levels at block 10 of a group, and the runs in it."""
    device = MemoryDevice(64 * MIB)
    runs = [(100 + 3 * n, 2) for n in range(1000)]
    leaves = list(range(20, 30))
    for index, place in enumerate(leaves):
        part = runs[100 * index : 100 * index + 100]
        data = b"".join(r.FreeRun(ar_startblock=start, ar_blockcount=count).encode() for start, count in part)
        device.write(GROUP.start + place * BLOCK, tree_block(0, data, len(part)))
    device.write(GROUP.start + 11 * BLOCK, node(leaves[:4], 1))
    device.write(GROUP.start + 12 * BLOCK, node(leaves[4:], 1))
    device.write(GROUP.start + 10 * BLOCK, node([11, 12], 2))
    return device, runs


def test_a_tree_of_three_levels_is_read_in_order() -> None:
    device, runs = three_levels()
    found = records_of(device, GROUP, BY_BLOCK, 10, 3)
    assert list(zip(found["ar_startblock"].tolist(), found["ar_blockcount"].tolist(), strict=True)) == runs


@pytest.mark.parametrize(
    ("place", "content", "message"),
    [
        (10, node([10, 12], 2), "block 10 of the tree of free space by block is not one of level 1"),
        (10, node([11, 5000], 2), "block 5000 of the tree .* does not lie in the group"),
        (12, node([20, 0], 1), "block 0 of the tree .* does not lie in the group"),
        (25, tree_block(0, b"", 506), "has 506 records, more than fit"),
        (25, tree_block(1, b"", 0), "is not one of level 0"),
        (25, tree_block(0, b"", 0)[:-1] + b"?", "does not match its checksum"),
        (25, tree_block(0, b"", 0, bb_blkno=1).replace(b"AB3B", b"AB3C"), "is not one of level 0"),
    ],
)
def test_damaged_trees_are_refused_by_name(place: int, content: bytes, message: str) -> None:
    device, _ = three_levels()
    device.write(GROUP.start + place * BLOCK, content)
    with pytest.raises(ImageError, match=message):
        records_of(device, GROUP, BY_BLOCK, 10, 3)
    with pytest.raises(ImageError, match="has 13 levels"):
        records_of(device, GROUP, BY_BLOCK, 10, 13)


def log_of(cycle: int, head: int, *, unmount: bool) -> MemoryDevice:
    """Return a log of 64 units whose last record, of two units, ends at `head`, in the middle of a cycle."""
    device = MemoryDevice(64 * 512)
    for unit in range(64):
        current = cycle if unit < head else cycle - 1
        device.write(unit * 512, current.to_bytes(4, "big"))
    first = (head - 2) % 64
    current = cycle if first < head else cycle - 1
    header = r.LogHeader(
        h_magicno=0xFEEDBABE, h_cycle=current, h_version=2, h_len=512, h_num_logops=1, h_size=32 << 10
    )  # fmt: skip
    device.write(first * 512, header.encode())
    operation = r.LogOperation(oh_tid=cycle, oh_flags=0x20 if unmount else 0x1)
    device.write((head - 1) % 64 * 512, operation.encode())
    return device


@pytest.mark.parametrize("head", [2, 3, 17, 40, 62, 63, 64])
def test_logs_are_clean_only_after_an_unmount(head: int) -> None:
    """Wherever the head lies, also where the last record ends with the log itself."""
    for cycle in (2, 900):
        assert is_clean(log_of(cycle, head, unmount=True), 0, 64 * 512)
        assert not is_clean(log_of(cycle, head, unmount=False), 0, 64 * 512)
    assert not is_clean(MemoryDevice(64 * 512), 0, 64 * 512)
    assert not is_clean(MemoryDevice(0), 0, 0)


def test_each_fault_is_named() -> None:
    """Headers and trees whose checksums match, but which do not agree with one another."""
    group = 0x5280 * BLOCK
    cases: list[tuple[tuple[Any, ...], dict[str, Any], str]] = [
        ((512, 512, r.FreeHeader, "agf_crc", 224), {"agf_freeblks": 5}, "do not add up to what its header says"),
        ((512, 512, r.FreeHeader, "agf_crc", 224), {"agf_longest": 5}, "do not add up to what its header says"),
        ((512, 512, r.FreeHeader, "agf_crc", 224), {"agf_length": 5}, "its agf says 5 blocks, 21120 expected"),
        ((group + 512, 512, r.FreeHeader, "agf_crc", 224), {"agf_seqno": 3}, "group 1: its agf is not one"),
        ((512, 512, r.FreeHeader, "agf_crc", 224), {"agf_levels": (1, 0, 1)}, "free space by size has 0 levels"),
        ((1024, 512, r.InodeHeader, "agi_crc", 344), {"agi_count": 128}, "its inodes do not add up"),
        ((group, 512, r.Superblock, "sb_crc", 264), {"sb_dblocks": 9}, "tells of another filesystem"),
        ((0, 512, r.Superblock, "sb_crc", 264), {"sb_fdblocks": 9}, "free blocks, the superblock says 9"),
        ((0, 512, r.Superblock, "sb_crc", 264), {"sb_rootino": 1 << 40}, "sb_rootino is 1099511627776"),
        (
            (0, 512, r.Superblock, "sb_crc", 264),
            {"sb_agblocks": 1},
            "sb_agblocks is 1, 16777216 bytes or more expected",
        ),
        ((0, 512, r.Superblock, "sb_crc", 264), {"sb_features_incompat": 0x1B}, "marked as in need of repair"),
        ((BLOCK, BLOCK, r.TreeBlock, "bb_crc", 56), {"bb_numrecs": 1}, "do not add up to what its header says"),
        ((2 * BLOCK, BLOCK, r.TreeBlock, "bb_crc", 56), {"bb_numrecs": 1}, "its two trees of free space differ"),
        ((4 * BLOCK, BLOCK, r.TreeBlock, "bb_crc", 56), {"bb_numrecs": 0}, "its tree of free inodes is not what"),
        ((5 * BLOCK, BLOCK, r.TreeBlock, "bb_crc", 56), {"bb_numrecs": 5}, "do not make up the group"),
        ((16 * BLOCK + 512, 512, r.Inode, "di_crc", 176), {"di_ino": 7}, "inode 129 is not one"),
        ((16 * BLOCK, 512, r.Inode, "di_crc", 176), {"di_mode": 0o100644}, "not one of a folder"),
    ]
    for where, values, message in cases:
        device, _ = made()
        assert told(device) == []
        change(device, *where, **values)
        assert any(message in one for one in told(device)), (message, told(device))


def test_one_in_use_and_ones_that_are_not_checked() -> None:
    device, new = made()
    log = (new.shape.log_group * new.shape.group_blocks + new.shape.log_start) * BLOCK
    operation = device.read(log + 512, 12)
    device.write(log + 512, operation[:9] + b"\x01" + operation[10:])
    found = XFS.read(device, HERE)
    assert found is not None and [one.rule for one in found.findings] == ["filesystem-needs-recovery"]
    device, _ = made()
    change(device, 0, 512, r.Superblock, "sb_crc", 264, sb_versionnum=0xB4A4)
    found = XFS.read(device, HERE)
    assert found is not None and [one.rule for one in found.findings] == ["filesystem-not-checked"]
    assert (found.label, found.size) == ("seeds", SIZE)
    short = MemoryDevice(SIZE - MIB)
    short.write(0, made()[0].read(0, 64 * KIB))
    found = XFS.read(short, HERE)
    assert found is not None and [one.rule for one in found.findings] == ["filesystem-past-end"]
