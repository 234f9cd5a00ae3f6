"""Taking an NTFS apart that is not trusted: records, attributes, runs, indexes. Every length is checked before use."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from narvet.block.contract import BlockDevice
from narvet.block.linear import Linear
from narvet.block.window import Window
from narvet.block.zeros import Zeros
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.shape import Shape
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.units import Cluster
from narvet.ground.values import Frozen

MOST_RUNS = 1 << 16  # of one attribute
MOST_BLOCKS = 1 << 14  # of one index, 64 MiB
_MOST_RECORD = 1 << 16
_LARGEST_UNIT = 8  # as a power of two; Windows writes 4


class Volume(Frozen):
    """An NTFS on a device: its shape and its boot sector."""

    device: BlockDevice
    boot: r.BootSector
    shape: Shape


class Found(Frozen):
    """An attribute as found: its `value` if it is resident, else its runs, which start at cluster `lowest` of it.

    What lies behind `initialized` bytes of it reads as zeros. `unit` is the clusters that are compressed together.
    """

    type: int
    name: str
    value: bytes | None
    runs: tuple[tuple[Cluster | None, int], ...] = ()
    lowest: int = 0
    size: int = 0
    initialized: int = 0
    flags: int = 0
    unit: int = 0


def volume_of(device: BlockDevice) -> Volume | None:
    """Return the sizes of an NTFS, None without its signature.

    Raises:
        ImageError: a value of the boot sector breaks the specification.
    """
    if device.size < r.BootSector.size:
        return None
    boot = r.BootSector.decode(device.read(0, r.BootSector.size))
    if boot.oem_id != b"NTFS    " or boot.end_of_sector != 0xAA55:
        return None

    def check(good: bool, name: str, expected: str) -> None:
        if not good:
            raise ImageError(f"{name} is {getattr(boot, name)}, {expected} expected")

    sector_size, per = boot.bytes_per_sector, boot.sectors_per_cluster
    check(sector_size in (512, 1024, 2048, 4096), "bytes_per_sector", "512 to 4096")
    per_cluster = per if per <= 128 else 1 << 256 - per if 256 - per < 32 else 0
    good = per_cluster > 0 and not per_cluster & (per_cluster - 1) and per_cluster * sector_size <= 2 << 20
    check(good, "sectors_per_cluster", "a power of two up to 2 MiB")
    cluster = per_cluster * sector_size
    clusters = boot.number_of_sectors // per_cluster
    check(clusters > 0, "number_of_sectors", "one cluster or more")
    check(boot.mft_lcn < clusters, "mft_lcn", f"less than {clusters}")
    check(boot.mftmirr_lcn < clusters, "mftmirr_lcn", f"less than {clusters}")
    sizes = []
    for name in ("clusters_per_mft_record", "clusters_per_index_record"):
        value = getattr(boot, name)
        size = value * cluster if value > 0 else 1 << -value if -value < 32 else 0
        check(r.STRIDE <= size <= _MOST_RECORD and not size & (size - 1), name, "512 bytes to 64 KiB")
        sizes.append(size)
    return Volume(device, boot, Shape(sector_size, boot.number_of_sectors, cluster, *sizes))


def unprotected(data: bytes, magic: bytes, where: str) -> bytes:
    """Return a record with the last word of each 512 bytes put back from its update sequence.

    Raises:
        ImageError: it is not one, or was not written whole.
    """
    if data[:4] != magic:
        raise ImageError(f"{where} is none: it starts with {data[:4]!r}")
    first, words = int.from_bytes(data[4:6], "little"), int.from_bytes(data[6:8], "little")
    strides = len(data) // r.STRIDE
    if words != strides + 1 or first % 2 or first + 2 * words > r.STRIDE - 2:
        raise ImageError(f"{where} has an update sequence of {words} words at {first}")
    result = bytearray(data)
    number = data[first : first + 2]
    for stride in range(1, strides + 1):
        end = stride * r.STRIDE
        if data[end - 2 : end] != number:
            raise ImageError(f"{where} was not written whole, or is damaged")
        result[end - 2 : end] = data[first + 2 * stride : first + 2 * stride + 2]
    return bytes(result)


def attributes(volume: Volume, data: bytes, where: str) -> Iterator[Found]:
    """Yield the attributes of a record whose update sequence was undone."""
    return (one for _, one in placed_attributes(volume, data, where))


def placed_attributes(volume: Volume, data: bytes, where: str) -> Iterator[tuple[Extent, Found]]:
    """Yield the attributes of a record whose update sequence was undone, and the bytes of it that each takes."""
    head = r.FileRecord.decode(data)
    if head.bytes_in_use > len(data) or head.attrs_offset < r.FileRecord.size:
        raise ImageError(f"{where} says it uses {head.bytes_in_use} of {len(data)} bytes")
    place = head.attrs_offset
    while True:
        if place + 4 > head.bytes_in_use:
            raise ImageError(f"{where} has no end")
        if int.from_bytes(data[place : place + 4], "little") == r.END:
            return
        one = r.AttributeHead.decode(data[place:], where)
        if one.length < r.AttributeHead.size + r.ResidentHead.size or one.length % 8:
            raise ImageError(f"{where}: an attribute has {one.length} bytes")
        if place + one.length > head.bytes_in_use:
            raise ImageError(f"{where}: an attribute leaves the record")
        yield Extent(place, one.length), _attribute(volume, one, data[place : place + one.length], where)
        place += one.length


def _attribute(volume: Volume, head: r.AttributeHead, data: bytes, where: str) -> Found:
    name = data[head.name_offset : head.name_offset + 2 * head.name_length]
    if len(name) != 2 * head.name_length:
        raise ImageError(f"{where}: the name of an attribute leaves it")
    text = name.decode("utf-16-le", "replace")
    if not head.non_resident:
        rest = r.ResidentHead.decode(data[r.AttributeHead.size :], where)
        value = data[rest.value_offset : rest.value_offset + rest.value_length]
        if len(value) != rest.value_length:
            raise ImageError(f"{where}: the value of an attribute leaves it")
        return Found(head.type, text, value, size=len(value), flags=head.flags)
    runs = r.RunsHead.decode(data[r.AttributeHead.size :], where)
    pairs = _pairs(volume, data[runs.mapping_pairs_offset :], where)
    if sum(count for _, count in pairs) != (runs.highest_vcn + 1 - runs.lowest_vcn) & ((1 << 64) - 1):
        raise ImageError(f"{where}: the runs of an attribute do not add up to its clusters")
    if not runs.lowest_vcn and (runs.data_size > runs.allocated_size or runs.initialized_size > runs.data_size):
        raise ImageError(f"{where}: the sizes of an attribute do not fit one another")
    unit = 1 << runs.compression_unit if 0 < runs.compression_unit <= _LARGEST_UNIT else 0
    return Found(head.type, text, None, pairs, runs.lowest_vcn, runs.data_size, runs.initialized_size, head.flags, unit)


def _pairs(volume: Volume, data: bytes, where: str) -> tuple[tuple[Cluster | None, int], ...]:
    """Return runs unpacked: first cluster, None for a hole, and number of clusters."""
    runs: list[tuple[Cluster | None, int]] = []
    place = last = 0
    while place < len(data) and data[place]:
        lengths, steps = data[place] & 0xF, data[place] >> 4
        end = place + 1 + lengths + steps
        if not 0 < lengths <= 8 or steps > 8 or end > len(data) or len(runs) == MOST_RUNS:
            raise ImageError(f"{where}: the runs of an attribute are not sound")
        count = int.from_bytes(data[place + 1 : place + 1 + lengths], "little", signed=True)
        start = last + int.from_bytes(data[place + 1 + lengths : end], "little", signed=True)
        if count <= 0 or (steps and not 0 <= start <= volume.shape.clusters - count):
            raise ImageError(f"{where}: a run of {count} clusters at {start} leaves the volume")
        runs.append((Cluster(start) if steps else None, count))
        last, place = start if steps else last, end
    return tuple(runs)


def one_of(found: list[Found], kind: int, name: str, where: str) -> Found:
    """Return an attribute by type and name.

    Raises:
        ImageError: there is none.
    """
    for one in found:
        if one.type == kind and one.name == name:
            return one
    raise ImageError(f"{where} lacks its attribute 0x{kind:x} {name}".rstrip())


def system_file(volume: Volume, number: int) -> list[Found]:
    """Return the attributes of one of the first files, which lie at the start of the master file table."""
    where = f"record {number}"
    data = volume.device.read(
        volume.shape.start_of(volume.boot.mft_lcn) + number * volume.shape.record_size, volume.shape.record_size
    )
    data = unprotected(data, b"FILE", where)
    if not r.FileRecord.decode(data).flags & r.IN_USE:
        raise ImageError(f"{where} is not in use")
    return list(attributes(volume, data, where))


def content(volume: Volume, found: Found, most: int) -> BlockDevice:
    """Return what an attribute holds, as a device of at most `most` bytes."""
    if found.value is not None:
        raise ImageError("a resident attribute where runs are expected")
    parts: list[BlockDevice] = []
    for start, count in found.runs:
        size = count * volume.shape.cluster_size
        parts.append(Zeros(size) if start is None else Window(volume.device, volume.shape.start_of(start), size))
    return Window(Linear(parts, 512), 0, min(found.size, sum(part.size for part in parts), most))


def index_entries(
    volume: Volume, found: list[Found], name: str, where: str
) -> Iterator[tuple[list[tuple[r.IndexEntry, bytes]], str]]:
    """Yield the entries of each node of an index, with its place for messages; the last, empty one is left out."""
    root = next((one for one in found if one.type == r.INDEX_ROOT and one.name == name), None)
    if root is None or root.value is None or len(root.value) < r.IndexRoot.size + r.IndexHeader.size:
        raise ImageError(f"{where} has no index {name}")
    yield list(_entries(root.value[r.IndexRoot.size :], where)), where
    blocks = next((one for one in found if one.type == r.INDEX_ALLOCATION and one.name == name), None)
    bits = next((one for one in found if one.type == r.BITMAP and one.name == name), None)
    if blocks is None or bits is None:
        return
    there = content(volume, blocks, MOST_BLOCKS * volume.shape.index_size)
    used = (
        bits.value
        if bits.value is not None
        else content(volume, bits, MOST_BLOCKS // 8).read(0, min(bits.size, MOST_BLOCKS // 8))
    )
    for number in islice(range(there.size // volume.shape.index_size), MOST_BLOCKS):
        if number // 8 >= len(used) or not used[number // 8] >> number % 8 & 1:
            continue
        place = f"{where}, index block {number}"
        data = unprotected(there.read(number * volume.shape.index_size, volume.shape.index_size), b"INDX", place)
        yield list(_entries(data[r.IndexBlock.size :], place)), place


def _entries(data: bytes, where: str) -> Iterator[tuple[r.IndexEntry, bytes]]:
    """Yield entries and keys that follow an index header."""
    header = r.IndexHeader.decode(data)
    place = header.entries_offset
    if header.index_length > len(data):
        raise ImageError(f"{where} says it holds {header.index_length} bytes of {len(data)}")
    while True:
        if place + r.IndexEntry.size > header.index_length:
            raise ImageError(f"{where} has no end")
        one = r.IndexEntry.decode(data[place:])
        if one.length < r.IndexEntry.size or place + one.length > header.index_length:
            raise ImageError(f"{where}: an entry leaves it")
        if one.flags & r.ENTRY_IS_LAST:
            return
        if r.IndexEntry.size + one.key_length > one.length:
            raise ImageError(f"{where}: a key leaves its entry")
        yield one, data[place + r.IndexEntry.size : place + one.length]
        place += one.length
