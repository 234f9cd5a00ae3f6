"""What lies on devices is recognised before anything is written over it: by signatures written down here once more."""

from __future__ import annotations

import random
import struct
from pathlib import Path
from uuid import UUID

import pytest

from narvet.block.memory import MemoryDevice
from narvet.formats.signatures import NOT_KNOWN, content_of
from narvet.ground.units import KIB, MIB
from tests.program import disk, facts, make_sheet, rules, run

SIZE = 80 * MIB
BCACHE, BCACHEFS = UUID("c68573f6-4e1a-45ca-8265-f57f48ba6d81"), UUID("c68573f6-66ce-90a9-d96a-60cf803df7ef")
KINDS: dict[str, tuple[int, bytes]] = {
    "LUKS 1": (0, b"LUKS\xba\xbe\x00\x01"),
    "LUKS 2, second": (0x4000, b"SKUL\xba\xbe\x00\x02"),
    "a sealed volume": (0, b"\xeb\x58\x90-FVE-FS-"),
    "LVM, second sector": (512, b"LABELONE" + bytes(24)),
    "LVM, third sector": (1024, b"LABELONE"),
    "RAID 1.1": (0, struct.pack("<I", 0xA92B4EFC)),
    "RAID 1.2": (4096, struct.pack("<I", 0xA92B4EFC)),
    "RAID 1.0": (SIZE - 8192, struct.pack("<I", 0xA92B4EFC)),
    "RAID 0.90": (SIZE - 65536, struct.pack("<I", 0xA92B4EFC)),
    "DDF": (SIZE - 512, struct.pack(">I", 0xDE11DE11)),
    "bcache": (4096 + 24, BCACHE.bytes),
    "bcachefs": (4096 + 24, BCACHEFS.bytes),
    "btrfs": (0x10040, b"_BHRfS_M"),
    "ReFS": (3, b"ReFS\0\0\0\0"),
    "f2fs": (1024, struct.pack("<I", 0xF2F52010)),
    "nilfs2": (1024 + 6, struct.pack("<H", 0x3434)),
    "JFS": (0x8000, b"JFS1"),
    "ReiserFS": (0x10034, b"ReIsEr2Fs"),
    "GFS2": (0x10000, struct.pack(">I", 0x01161970)),
    "OCFS2": (8192, b"OCFSV2"),
    "APFS": (32, b"NXSB"),
    "HFS+": (1024, b"H+\0\4"),
    "UFS": (8192 + 1372, struct.pack("<I", 0x00011954)),
    "UFS2": (65536 + 1372, struct.pack("<I", 0x19540119)),
    "a storage pool": (128 * KIB + 5 * KIB, struct.pack("<Q", 0x00BAB10C)),
    "minix": (1024 + 16, struct.pack("<H", 0x138F)),
    "ISO 9660": (0x8000, b"\1CD001\1"),
    "squashfs": (0, b"hsqs"),
    "erofs": (1024, struct.pack("<I", 0xE0F5E1E2)),
    "cramfs": (0, struct.pack("<I", 0x28CD3D45)),
    "romfs": (0, b"-rom1fs-"),
    "a store of a hypervisor": (MIB, struct.pack("<I", 0xC001D00D)),
    "swap": (4086, b"SWAPSPACE2"),
    "a hibernated system": (4086, b"S1SUSPEND"),
    "Apple": (512, b"PM\0\0"),
    "BSD": (512, struct.pack("<I", 0x82564557)),
    "Sun": (508, struct.pack(">H", 0xDABE)),
    "SGI": (0, struct.pack(">I", 0x0BE5A941)),
    "GPT": (SIZE - 512, b"EFI PART"),
    "dynamic disk": (6 * 512, b"PRIVHEAD"),
    "tape archive": (257, b"ustar\00000"),
    "qcow2": (0, b"QFI\xfb\0\0\0\3"),
    "vhdx": (0, b"vhdxfile"),
    "MBR": (510, b"\x55\xaa"),
    "one byte at the start": (0, b"\1"),
    "one byte before 16 MiB": (16 * MIB - 1, b"\1"),
    "the last byte": (SIZE - 1, b"\1"),
}


@pytest.mark.parametrize("kind", KINDS)
def test_a_device_that_holds_something_is_not_blank(kind: str) -> None:
    offset, data = KINDS[kind]
    device = MemoryDevice(SIZE)
    assert content_of(device) == ""
    device.write(offset, data)
    told = content_of(device)
    assert told and (kind.startswith(("one byte", "the last")) == told.startswith(NOT_KNOWN)), told


def test_scattered_data_is_found_and_a_large_blank_device_is_read_in_bounds() -> None:
    class Counting(MemoryDevice):
        read_bytes = 0

        def read(self, offset: int, length: int) -> bytes:
            self.read_bytes += length
            return bytes(length) if not self.data else super().read(offset, length)

        data = False

    large = Counting(1 << 50)
    assert content_of(large) == "" and large.read_bytes < 64 * MIB
    chance = random.Random(3)
    device = MemoryDevice(SIZE)
    for _ in range(20):
        device.write(chance.randrange(17 * MIB, 60 * MIB), b"x" * 600_000)
    assert content_of(device).startswith(NOT_KNOWN)


def test_a_real_device_in_a_sheet_is_left_to_its_guest(tmp_path: Path) -> None:
    own = '[disk.stick]\nguest = "seedling"\ndevice = {serial = "S"}\n[[disk.stick.partition]]\nat = "/srv/stick"\n'
    sheet = make_sheet(tmp_path, disk("a") + own)
    review = facts("review", str(sheet))
    assert [one["name"] for one in review["disks"]] == ["a"] and rules(review) == ["written-inside"]
    run("write", str(sheet), status=0)
    for keys, told in (
        ("device = {}", "known by"),
        ('device = {serial = "S", only_blank = true}', "known by"),
        ("device = {only_blank = true}", "needs size"),
        ('device = {serial = "S"}\nstore = "shelf"', "leave out store"),
        ('size = "1 GiB"', "needs the store"),
    ):
        sheet = make_sheet(tmp_path, f'[disk.x]\nguest = "seedling"\n{keys}\n')
        assert told in run("review", str(sheet), status=2).stderr
    assert "no guest" in run("write", str(make_sheet(tmp_path, own)), "--inside", "other", status=2).stderr
    windows = make_sheet(tmp_path, own.replace('at = "/srv/stick"', ""), guest='runs = "windows"')
    assert "does not work" in run("confirm", str(windows), "--inside", "seedling", status=2).stderr
    assert "not a whole block device" in run("devices", str(tmp_path), status=2).stderr
    for one in facts("devices"):
        assert set(one) >= {"path", "serial", "size", "sector", "blank", "holds", "users"}
