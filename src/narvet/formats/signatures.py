"""What marks content as not blank: the signatures of open formats, by where they stand. Data, and one pure function.

This only names what is there, so that nobody writes over it; what Narvet reads and writes itself is in the packages
beside it.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.ground.units import KIB, MIB

NOT_KNOWN = "data of no format that is known here"
"""What is said of content without a signature."""

_NAMED: tuple[tuple[str, int, bytes], ...] = (
    ("a LUKS volume", 0, b"LUKS\xba\xbe"),
    ("a LUKS volume, its second header", 16 * KIB, b"SKUL\xba\xbe"),
    ("a sealed volume of Windows", 3, b"-FVE-FS-"),
    ("a member of a volume group", 0, b"LABELONE"),
    ("a member of a volume group", 512, b"LABELONE"),
    ("a member of a volume group", 1024, b"LABELONE"),
    ("a member of a volume group", 1536, b"LABELONE"),
    ("a member of a Linux RAID", 0, b"\xfc\x4e\x2b\xa9"),
    ("a member of a Linux RAID", 4096, b"\xfc\x4e\x2b\xa9"),
    ("a member of a Linux RAID", -8 * KIB, b"\xfc\x4e\x2b\xa9"),
    ("a member of a Linux RAID", -64 * KIB, b"\xfc\x4e\x2b\xa9"),
    ("a member of a firmware RAID", -512, b"\xde\x11\xde\x11"),
    ("a member of a firmware RAID", -1024, b"Intel Raid ISM Cfg Sig. "),
    ("a bcache device", 4096 + 24, bytes.fromhex("c68573f64e1a45ca8265f57f48ba6d81")),
    ("a member of a storage pool", 512, b"!Stra0tis\x86\xff\x02^\x41rh"),
    ("a volume without duplicates", 0, b"dmvdo001"),
    ("a member of an object store", 0, b"bluestore block device"),
    ("a dynamic disk of Windows", 3072, b"PRIVHEAD"),
    ("a storage space of Windows", 4096, b"SPACEDB "),
    ("btrfs", 64 * KIB + 64, b"_BHRfS_M"),
    ("ReFS", 3, b"ReFS\0\0\0\0"),
    ("HPFS", 8192, b"\x49\xe8\x95\xf9"),
    ("f2fs", 1024, b"\x10\x20\xf5\xf2"),
    ("nilfs2", 1030, b"\x34\x34"),
    ("JFS", 32 * KIB, b"JFS1"),
    ("ReiserFS", 64 * KIB + 52, b"ReIsEr"),
    ("Reiser4", 64 * KIB, b"ReIsEr4"),
    ("GFS2", 64 * KIB, b"\x01\x16\x19\x70"),
    ("OCFS2", 8192, b"OCFSV2"),
    ("bcachefs", 4096 + 24, bytes.fromhex("c68573f666ce90a9d96a60cf803df7ef")),
    ("APFS", 32, b"NXSB"),
    ("HFS+", 1024, b"H+\0\x04"),
    ("HFS+", 1024, b"HX\0\x05"),
    ("HFS", 1024, b"BD"),
    ("UFS", 8192 + 1372, b"\x54\x19\x01\0"),
    ("UFS2", 64 * KIB + 1372, b"\x19\x01\x54\x19"),
    ("BeFS", 32, b"1SFB"),
    ("minix", 1040, b"\x7f\x13"),
    ("minix", 1040, b"\x8f\x13"),
    ("minix", 1040, b"\x68\x24"),
    ("an ISO 9660 image", 32 * KIB + 1, b"CD001"),
    ("UDF", 32 * KIB + 1, b"BEA01"),
    ("squashfs", 0, b"hsqs"),
    ("erofs", 1024, b"\xe2\xe1\xf5\xe0"),
    ("cramfs", 0, b"\x45\x3d\xcd\x28"),
    ("romfs", 0, b"-rom1fs-"),
    ("a store of a hypervisor", 2 * MIB, b"\x5e\xf1\xab\x2f"),
    ("a store of a hypervisor", MIB, b"\x0d\xd0\x01\xc0"),
    ("swap", 4086, b"SWAPSPACE2"),
    ("swap of the old kind", 4086, b"SWAP-SPACE"),
    ("a hibernated system", 4086, b"S1SUSPEND"),
    ("swap with pages of 64 KiB", 64 * KIB - 10, b"SWAPSPACE2"),
    ("an Apple partition map", 512, b"PM\0\0"),
    ("a BSD disk label", 512, b"\x57\x45\x56\x82"),
    ("a Sun disk label", 508, b"\xda\xbe"),
    ("an SGI disk label", 0, b"\x0b\xe5\xa9\x41"),
    ("a GPT, its second copy", -512, b"EFI PART"),
    ("a GPT, its second copy", -4096, b"EFI PART"),
    ("a tape archive", 257, b"ustar"),
    ("an image of the format qcow2", 0, b"QFI\xfb"),
    ("an image of the format vhdx", 0, b"vhdxfile"),
    ("an image of the format vhd", -512, b"conectix"),
    ("a master boot record", 510, b"\x55\xaa"),
)
_POOL_MARK, _POOL_PLACES = b"\x0c\xb1\xba\0", range(128 * KIB, 256 * KIB, KIB)
_ENDS = 16 * MIB  # bytes at either end that are read whole
_SAMPLES, _SAMPLE = 256, 64 * KIB  # further looks, spread evenly, and bytes of each


def content_of(device: BlockDevice) -> str:
    """Return what a device that Narvet knows nothing on holds, by its signature, empty if it looks blank.

    Both ends are read, and as many places between as time allows on a disk of any size.
    """
    size = device.size
    for name, offset, signature in _NAMED:
        start = offset if offset >= 0 else size + offset
        if 0 <= start <= size - len(signature) and device.read(start, len(signature)) == signature:
            return name
    rings = device.read(0, min(size, 256 * KIB))
    if any(rings[place : place + 4] == _POOL_MARK for place in _POOL_PLACES):
        return "a member of a storage pool"
    for start, length in _looks(size):
        data = device.read(start, length)
        if data.count(0) != length:
            first = next(place for place, sign in enumerate(data) if sign)
            return f"{NOT_KNOWN}, at byte {start + first}"
    return ""


def _looks(size: int) -> Iterator[tuple[int, int]]:
    """Yield the runs that are read."""
    head, tail = min(_ENDS, size), max(size - _ENDS, 0)
    for start in (*range(0, head, MIB), *range(max(tail, head), size, MIB)):
        yield start, min(MIB, size - start)
    between = tail - head
    if between > 0:
        step = max(between // _SAMPLES, _SAMPLE)
        yield from ((start, min(_SAMPLE, size - start)) for start in range(head, tail, step))
