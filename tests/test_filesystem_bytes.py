"""The bytes of the first structures of each filesystem, field by field, held against their specifications by eye."""

from __future__ import annotations

from uuid import UUID

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.ground.units import MIB

KNOWN_AS = UUID("dfffbcdb-06ed-58a1-816e-248d46307df8")
OPTIONS = Wishes(KNOWN_AS, "SEEDS", uid=1200, gid=1300, mode=0o2750, made=1772409600, start=MIB)


def made(name: str, size: int) -> MemoryDevice:
    """Return a disk with one filesystem on it, dated 2026-03-02."""
    device, kind = MemoryDevice(size), filesystem(name)
    kind.plan(size, OPTIONS).write(device)
    return device


def test_swap() -> None:
    device = made("swap", MIB)
    assert device.read(1024, 44) == bytes.fromhex(
        "01000000"  # version
        "ff000000"  # last page
        "00000000"  # bad pages
        "dfffbcdb06ed58a1816e248d46307df8"
        "53454544530000000000000000000000"  # SEEDS
    )
    assert device.read(4086, 10) == b"SWAPSPACE2"


def test_fat32() -> None:
    device = made("fat32", 40 * MIB)
    boot = bytes.fromhex(
        "eb5890" "4e41525645542020"  # jump, NARVET
        "0002" "01" "2000" "02"  # bytes of a sector, sectors of a cluster, reserved sectors, tables
        "0000" "0000" "f8" "0000"  # no root of fixed size, no 16-bit size, fixed disk, no 16-bit table
        "3f00" "ff00" "00080000" "00400100"  # sectors of a track, heads, sectors ahead, sectors of the volume
        "80020000" "0000" "0000" "02000000" "0100" "0600"  # of a table, flags, version, root, information, copy
        "000000000000000000000000" "80" "00" "29" "dbbcffdf"  # reserved, drive, state, signature, serial number
        "5345454453202020202020" "4641543332202020" "cd18"  # SEEDS, FAT32, code that ends at once
    )  # fmt: skip
    assert device.read(0, 92) == boot == device.read(6 * 512, 92)
    assert device.read(996, 12) == bytes.fromhex("72724161df3a010002000000")  # free clusters, where to look first
    for table in (32, 32 + 640):
        assert device.read(table * 512, 16) == bytes.fromhex("f8ffff0fffffff0fffffff0f00000000")
    assert device.read((32 + 1280) * 512, 32) == bytes.fromhex(
        "5345454453202020202020" "08" "00" "00" "0000" "0000" "0000" "0000"  # SEEDS, a label
        "0000" "625c" "0000" "00000000"  # midnight, 2026-03-02
    )  # fmt: skip


def test_exfat() -> None:
    device = made("exfat", 40 * MIB)
    assert device.read(0, 64) == b"\xeb\x76\x90EXFAT   ".ljust(64, b"\0")
    assert device.read(64, 56) == bytes.fromhex(
        "0008000000000000" "0040010000000000"  # sectors ahead of the volume, of it
        "18000000" "50000000" "68000000" "f3270000"  # table, its length, heap, clusters
        "04000000" "dbbcffdf" "0001" "0000"  # root, serial number, revision, flags
        "09" "03" "01" "80" "00" "00000000000000"  # shifts of sector and cluster, tables, drive, percent in use
    )  # fmt: skip
    assert device.read(61440, 96) == bytes.fromhex(
        "83" "05" "53004500450044005300" + "00" * 20  # label of 5 characters
        + "81" "00" + "00" * 18 + "02000000" "ff04000000000000"  # bitmap in cluster 2, 1279 bytes
        "82" "000000" "08a2834c" + "00" * 12 + "03000000" "9808000000000000"  # table of capitals in cluster 3
    )  # fmt: skip
    assert device.read(12288, 20) == bytes.fromhex("f8ffffff" + 4 * "ffffffff")  # each a chain of one
    assert device.read(11 * 512, 512) == bytes.fromhex("685dad6a") * 128  # checksum of the boot region
    assert device.read(0, 6144) == device.read(6144, 6144)
    assert device.read(104 * 512, 2) == b"\x07\x00"  # three clusters in use


def test_ntfs() -> None:
    device = made("ntfs", 40 * MIB)
    boot = bytes.fromhex(
        "eb5290" "4e54465320202020" "0002" "08" "0000" "0000000000"  # NTFS, sector, sectors of a cluster
        "f8" "0000" "3f00" "ff00" "00080000" "00000000" "80008000"  # media, track, heads, sectors ahead
        "ff3f010000000000" "6702000000000000" "ff13000000000000"  # sectors, table, mirror
        "f6" "000000" "01" "000000" "a158ed06dbbcffdf" "00000000"  # records of 1 KiB, index blocks, serial number
    )  # fmt: skip
    assert device.read(0, 84) == boot == device.read(40 * MIB - 512, 84)
    volume = 0x267 * 4096 + 3 * 1024
    assert device.read(volume, 56) == bytes.fromhex(
        "46494c45" "3000" "0300" "0000000000000000"  # FILE, update sequence of three words
        "0300" "0100" "3800" "0100" "70010000" "00040000"  # sequence number, names, attributes, in use, bytes
        "0000000000000000" "0500" "0000" "03000000" "0100" "0000" "0000" "0000"  # next attribute, number, sequence
    )  # fmt: skip
    assert device.read(volume + 510, 2) == device.read(volume + 1022, 2) == b"\x01\x00"
    text = device.read(volume, 1024)
    assert "SEEDS".encode("utf-16-le") in text and "$Volume".encode("utf-16-le") in text
    label = text.index("SEEDS".encode("utf-16-le"))
    assert text[label - 24 : label] == bytes.fromhex(
        "60000000" "28000000" "00" "00" "1800" "0000" "0200"  # $VOLUME_NAME, 40 bytes, resident, third
        "0a000000" "1800" "00" "00"  # ten bytes from 24 on
    )  # fmt: skip


def test_xfs() -> None:
    device = made("xfs", 330 * MIB)
    assert device.read(0, 128) == bytes.fromhex(
        "58465342" "00001000" "0000000000014a00" "0000000000000000" "0000000000000000"  # XFSB, block, blocks
        "dfffbcdb06ed58a1816e248d46307df8" "0000000000010007"  # id, log: block 7 of group 2
        "0000000000000080" "0000000000000081" "0000000000000082"  # inodes of the root and of what is not there
        "00000001" "00005280" "00000004" "00000000" "00002000"  # blocks of a group, groups, blocks of the log
        "b4a5" "0200" "0200" "0008" "534545445300000000000000"  # version, sector, inode, inodes of a block, SEEDS
        "0c" "09" "09" "03" "0f" "00" "00" "19"  # their logarithms, percent for inodes
    )  # fmt: skip
    assert device.read(128, 24) == bytes.fromhex("0000000000000040000000000000003d00000000000129dc")
    assert device.read(200, 24) == bytes.fromhex("0000018a0000018a000000000000000f0000000b00000000")
    assert device.read(512, 64) == bytes.fromhex(
        "58414746" "00000001" "00000000" "00005280"  # XAGF, version, group, blocks
        "00000001" "00000002" "00000005" "00000001" "00000001" "00000001"  # roots and levels
        "00000001" "00000000" "00000000" "00005271" "00005268" "00000000"  # empty list, free blocks, longest run
    )  # fmt: skip
    assert device.read(5 * 4096 + 56, 144) == bytes.fromhex(
        "00000000" "00000001" "fffffffffffffffd" "0000000000000000"  # headers: the filesystem's own
        "00000001" "00000002" "fffffffffffffffb" "0000000000000000"  # trees of free space
        "00000003" "00000002" "fffffffffffffffa" "0000000000000000"  # trees of inodes
        "00000005" "00000001" "fffffffffffffffb" "0000000000000000"  # this tree
        "00000006" "00000001" "fffffffffffffff8" "0000000000000000"  # tree of reference counts
        "00000010" "00000008" "fffffffffffffff9" "0000000000000000"  # the first inodes
    )  # fmt: skip
    assert device.read(3 * 4096 + 56, 16) == bytes.fromhex("000000800000403dfffffffffffffff8")
    root = device.read(16 * 4096, 184)
    assert root[:24] == bytes.fromhex("494e45e803010000000004b0000005140000000200000000")
    assert root[152:182] == bytes.fromhex("0000000000000080dfffbcdb06ed58a1816e248d46307df8000000000080")
    log = (2 * 0x5280 + 7) * 4096
    assert device.read(log, 20) == bytes.fromhex("feedbabe00000001000000020000020000000001")
    assert device.read(log + 512, 12) == bytes.fromhex("0000000100000008aa200000")
