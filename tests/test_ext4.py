"""ext4's arithmetic as properties, and its reader against damage; what is right the real kernel says elsewhere."""

from __future__ import annotations

import random
import struct
import time
from uuid import UUID

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems.contract import Purpose, UnfitError, Wishes
from narvet.formats.filesystems.ext4 import FILESYSTEM, NewExt4
from narvet.formats.filesystems.ext4.groups import spread
from narvet.ground.units import GIB, KIB, MIB, TIB
from narvet.plan.solve import smallest_size
from tests.program import HERE

SIZES = st.one_of(st.integers(2 * MIB, 300 * MIB), st.integers(300 * MIB, 3 * TIB), st.integers(3 * TIB, 64 * TIB))
PURPOSES = st.sampled_from(("general", "database", "logs", "media"))
SECTORS = st.sampled_from((512, 4096))


def plan(size: int, wishes: Wishes) -> NewExt4:
    return FILESYSTEM.options.of(wishes).plan(size)


def made(size: int, **options: object) -> MemoryDevice:
    device = MemoryDevice(size)
    plan(size, Wishes(**options)).write(device)  # type: ignore[arg-type]
    return device


def test_bytes_of_a_small_one() -> None:
    """The first structures of a 2 MiB filesystem, field by field as the kernel's documentation has them."""
    device = made(2 * MIB, uuid=UUID(int=0xABCD), label="seeds", mode=0o2750, uid=0x12345, gid=7, made=1772409600)
    superblock = device.read(1024, 1024)
    assert superblock[:0x2C] == bytes.fromhex(
        "00010000" "00080000" "14000000"  # 256 inodes, 2048 blocks, 20 of them kept for the superuser
        "a6070000" "f5000000"  # free: 1958 blocks, 245 inodes
        "01000000" "00000000" "00000000"  # first block 1; blocks and clusters of 1024 bytes
        "00200000" "00200000" "00010000"  # in a group: 8192 blocks, 8192 clusters, 256 inodes
    )  # fmt: skip
    assert superblock[0x38:0x3E] == bytes.fromhex("53ef01000200")  # magic, clean, read-only on errors
    assert superblock[0x54:0x5A] == bytes.fromhex("0b0000000001")  # first inode 11, of 256 bytes
    assert superblock[0x5C:0x68] == bytes.fromhex("38000000c22200006b040000")  # features; no journal so small
    assert superblock[0x68:0x7E] == bytes(14) + b"\xab\xcd" + b"seeds\0"
    descriptor = device.read(2048, 64)
    bitmap, inodes, table = struct.unpack("<III", descriptor[:12])
    assert (bitmap, inodes, table) == (18, 19, 20)  # behind superblock, descriptors and 15 blocks kept for growth
    assert struct.unpack("<HHHH", descriptor[12:20]) == (1958, 245, 2, 4)  # free blocks and inodes, folders, zeroed
    root = device.read(table * 1024 + 256, 256)
    assert root[:8] == bytes.fromhex("e845452300040000")  # folder 2750, lower half of the owner, 1024 bytes
    assert root[0x10:0x14] == (1772409600).to_bytes(4, "little") and root[0x78:0x7A] == b"\x01\x00"
    assert root[0x18:0x24] == bytes.fromhex("070003000200000000000800")  # group, 3 names, stored, extents
    assert root[0x28:0x40] == bytes.fromhex(
        "0af3" "0100" "0400" "0000" "00000000"  # one extent of at most four, no levels below
        "00000000" "0100" "0000" "54000000"  # its first block, one block, lies at block 84
    )  # fmt: skip
    folder = device.read(84 * 1024, 1024)
    assert folder[:20] == bytes.fromhex("020000000c0001022e000000020000000c000202")
    assert folder[24:42] == bytes.fromhex("0b000000dc030a02") + b"lost+found"
    assert folder[-12:-4] == bytes.fromhex("000000000c0000de")


@given(SIZES, PURPOSES, SECTORS)
def test_the_parts_add_up_to_the_whole(size: int, purpose: Purpose, sector: int) -> None:
    new = plan(size, Wishes(purpose=purpose, sector_size=sector))
    found = new.capacity()
    assert found.available + sum(loss.size for loss in found.losses) == size
    assert 0 < found.available <= found.free <= found.total <= size
    assert new.shape.group_count * new.shape.inodes_per_group < 1 << 32
    places = spread(new.shape)  # raises where the groups do not add up
    starts = np.concatenate([places.block_bitmap, places.inode_bitmap, places.inode_table])
    lengths = np.ones(len(starts), dtype=np.int64)
    lengths[-new.shape.group_count :] = new.shape.inode_table_blocks
    ordered = np.argsort(starts)
    starts, ends = starts[ordered], (starts + lengths)[ordered]
    assert (ends[:-1] <= starts[1:]).all(), "two of them lie on the same blocks"
    group, place = np.divmod(starts - new.shape.first_data_block, new.shape.blocks_per_group)
    assert (place >= places.base[group]).all(), "one lies on a superblock or on descriptors"
    assert (place + ends - starts <= places.length[group]).all(), "one passes the end of its group"
    assert sum(run.length for runs in places.used.values() for run in runs) >= int((ends - starts).sum())
    assert len(places.journal) <= 4


@given(st.integers(MIB, 150 * MIB), PURPOSES, st.sampled_from((4 * KIB, 64 * KIB, MIB)))
def test_usable_finds_the_smallest(wanted: int, purpose: Purpose, step: int) -> None:
    options = Wishes(purpose=purpose)

    def offers(size: int) -> bool:
        return plan(size, options).capacity().available >= wanted

    found = smallest_size(FILESYSTEM, options, wanted, step)
    assert found % step == 0 and offers(found)
    lowest = max(2 * MIB, found - 600 * step)
    assert not any(offers(size) for size in range(found - step, lowest - 1, -step))


@given(st.integers(2 * MIB, 60 * TIB), PURPOSES)
def test_usable_is_tight_at_any_size(wanted: int, purpose: Purpose) -> None:
    options = Wishes(purpose=purpose)
    found = smallest_size(FILESYSTEM, options, wanted, MIB)
    assert plan(found, options).capacity().available >= wanted
    assert plan(found - MIB, options).capacity().available < wanted


def test_sizes_outside_are_refused() -> None:
    for size in (0, 2 * MIB - 1, 64 * TIB + 1):
        with pytest.raises(UnfitError, match=r"from 2\s(?:MiB \(2.1\sMB\)|097\s152\sB) to (?:64\sTiB|70\s368)"):
            plan(size, Wishes())
    with pytest.raises(UnfitError, match="at most"):
        smallest_size(FILESYSTEM, Wishes(), 64 * TIB, MIB)


@pytest.mark.parametrize("size", [2 * MIB + 512, 40 * MIB, 700 * MIB, 2 * TIB + 5 * MIB, 9 * TIB])
def test_reads_what_it_wrote(size: int) -> None:
    device = made(size, uuid=UUID(int=7), label="käfer", uid=70001, gid=5, mode=0o2770)
    found = FILESYSTEM.read(device, HERE)
    promised = plan(size, Wishes()).capacity()
    assert found is not None and found.findings == ()
    assert (found.kind, found.label, found.uuid) == ("ext4", "käfer", str(UUID(int=7)))
    assert (found.total, found.free) == (promised.total, promised.free)
    assert (found.uid, found.gid, found.mode) == (70001, 5, 0o2770)
    assert {"metadata_csum", "extents", "64bit", "flex_bg", "csum_seed"} <= set(found.features)


def test_same_options_same_bytes_and_writes_only_what_it_says() -> None:
    first, second = made(3 * GIB, uuid=UUID(int=9)), made(3 * GIB, uuid=UUID(int=9))
    runs = list(first.extents())
    assert runs == list(second.extents())
    assert all(first.read(*run) == second.read(*run) for run in runs)
    assert sum(run.length for run in runs) <= plan(3 * GIB, Wishes()).footprint()


@pytest.mark.parametrize("size", [3 * MIB, 2 * TIB + 5 * MIB])
def test_every_damaged_byte_of_the_first_superblock_descriptor_and_root_is_reported(size: int) -> None:
    block = KIB if size < 64 * MIB else 4 * KIB
    table = 2 * KIB if block == KIB else block
    device = made(size, uuid=UUID(int=3))
    inode = int.from_bytes(device.read(table + 8, 4), "little") * block + 256
    for offset in (*range(1024, 1024 + 1024, 3), *range(table, table + 64), *range(inode, inode + 256, 3)):
        kept = device.read(offset, 1)
        device.write(offset, bytes([kept[0] ^ 0x21]))
        found = FILESYSTEM.read(device, HERE)
        assert found is None or [finding.level for finding in found.findings][:1] in (["error"], ["warning"]), offset
        assert found is not None or offset in (1080, 1081), offset
        device.write(offset, kept)
    clean = FILESYSTEM.read(device, HERE)
    assert clean is not None and clean.findings == ()


def test_hostile_superblocks_stay_bounded() -> None:
    """Thousands of superblocks with wild values and no checksums: a finding or a value, never an exception or a wait."""
    dice = random.Random(20260302)
    clean = made(70 * MIB, uuid=UUID(int=3))
    start = time.monotonic()
    for _ in range(3000):
        device = MemoryDevice(70 * MIB)
        block = bytearray(clean.read(1024, 1024))
        block[0x65] &= ~0x04  # without metadata_csum, so that wild values are believed
        for _ in range(dice.randrange(1, 6)):
            offset = dice.choice((0x0, 0x4, 0x14, 0x18, 0x1C, 0x20, 0x28, 0x58, 0x60, 0xCE, 0xFE, 0x104, 0x150, 0x260))
            block[offset : offset + 4] = dice.choice((0, 1, 7, 0xFFFF, 0xFFFFFFFF, dice.getrandbits(32))).to_bytes(
                4, "little"
            )
        device.write(1024, bytes(block))
        device.write(4096, clean.read(4096, 4096))
        FILESYSTEM.read(device, HERE)
    assert time.monotonic() - start < 60
