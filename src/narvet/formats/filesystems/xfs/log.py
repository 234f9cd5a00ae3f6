"""Whether the log of an XFS is clean: its last record tells of an unmount. Read from a device that is not trusted."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs.records import LogHeader, LogOperation

_UNIT = 512
_MAGIC = 0xFEEDBABE
_UNMOUNT = 0x20
_LONGEST = 1024  # units of a record: the largest buffer, 256 KiB, with its headers


def is_clean(device: BlockDevice, start: int, size: int) -> bool:
    """Return whether nothing in the log of `size` bytes at `start` is to be replayed.

    Cycle numbers start every 512 bytes, the current one up to the head and the one before it from there on; the record
    that ends at the head must be an unmount's.
    """
    units = size // _UNIT
    if not units:
        return False
    current = _cycle(device, start)
    low, high = 0, units  # the head lies in between: all up to `low` is of the current cycle
    while high - low > 1:
        middle = (low + high) // 2
        if _cycle(device, start + middle * _UNIT) == current:
            low = middle
        else:
            high = middle
    return _ends_with_unmount(device, start, units, high % units)


def _cycle(device: BlockDevice, offset: int) -> int:
    data = device.read(offset, 8)
    first = int.from_bytes(data[:4], "big")
    return int.from_bytes(data[4:], "big") if first == _MAGIC else first


def _ends_with_unmount(device: BlockDevice, start: int, units: int, head: int) -> bool:
    for back in range(2, min(_LONGEST, units)):
        place = (head - back) % units
        header = LogHeader.decode(device.read(start + place * _UNIT, LogHeader.size))
        if header.h_magicno != _MAGIC:
            continue
        length = 1 + max(header.h_size - 1, 0) // (32 << 10) if header.h_version & 2 else 1
        if header.h_num_logops != 1 or length + -(-header.h_len // _UNIT) != back:
            return False
        data = device.read(start + (place + length) % units * _UNIT, LogOperation.size)
        return bool(LogOperation.decode(data).oh_flags & _UNMOUNT)
    return False
