"""Building records of the master file table and index blocks out of attributes, update sequences included."""

from __future__ import annotations

from collections.abc import Iterable

from narvet.formats.filesystems.ntfs import records as r
from narvet.ground.errors import BugError
from narvet.ground.units import align_up
from narvet.ground.values import Frozen


class Attribute(Frozen):
    """An attribute to be put into a record: resident if it has a `value`, else in clusters from `start` on.

    Without a start it is a hole. Sizes are bytes; `allocated` whole clusters.
    """

    type: int
    name: str = ""
    value: bytes | None = None
    start: int | None = None
    size: int = 0
    initialized: int | None = None
    cluster: int = 0
    indexed: bool = False

    def encode(self, instance: int) -> bytes:
        """Return its bytes, a multiple of eight."""
        name = self.name.encode("utf-16-le")
        if self.value is not None:
            name_offset = r.AttributeHead.size + r.ResidentHead.size
            value_offset = align_up(name_offset + len(name), 8)
            length = align_up(value_offset + len(self.value), 8)
            rest = r.ResidentHead(
                value_length=len(self.value), value_offset=value_offset, resident_flags=int(self.indexed)
            ).encode()
            body = (rest + name).ljust(value_offset - r.AttributeHead.size, b"\0") + self.value
        else:
            name_offset = r.AttributeHead.size + r.RunsHead.size
            pairs_offset = align_up(name_offset + len(name), 8)
            clusters = -(-self.size // self.cluster)
            pairs = mapping_pairs([(self.start, clusters)])
            length = align_up(pairs_offset + len(pairs), 8)
            rest = r.RunsHead(
                highest_vcn=max(clusters - 1, 0),
                mapping_pairs_offset=pairs_offset,
                allocated_size=clusters * self.cluster,
                data_size=self.size,
                initialized_size=self.size if self.initialized is None else self.initialized,
            ).encode()
            body = (rest + name).ljust(pairs_offset - r.AttributeHead.size, b"\0") + pairs
        head = r.AttributeHead(
            type=self.type,
            length=length,
            non_resident=int(self.value is None),
            name_length=len(self.name),
            name_offset=name_offset if name or self.value is None else 0x18,
            instance=instance,
        )
        return (head.encode() + body).ljust(length, b"\0")


def mapping_pairs(runs: Iterable[tuple[int | None, int]]) -> bytes:
    """Return runs of clusters packed: a byte of two lengths, the number of clusters, the step from the last start."""
    packed, last = bytearray(), 0
    for start, count in runs:
        length = _signed(count)
        step = b"" if start is None else _signed(start - last)
        packed += bytes([len(step) << 4 | len(length)]) + length + step
        last = last if start is None else start
    return bytes(packed) + b"\0"


def _signed(value: int) -> bytes:
    return value.to_bytes((value if value >= 0 else ~value).bit_length() // 8 + 1, "little", signed=True)


def file_record(number: int, sequence: int, flags: int, attributes: list[Attribute], size: int) -> bytes:
    """Return a record of `size` bytes.

    Raises:
        BugError: the attributes do not fit.
    """
    words = size // r.STRIDE + 1
    first = align_up(r.FileRecord.size + 2 * words, 8)
    ordered = sorted(attributes, key=lambda one: (one.type, one.name))
    body = b"".join(one.encode(instance) for instance, one in enumerate(ordered))
    in_use = first + len(body) + 8
    if in_use > size:
        raise BugError(f"ntfs: record {number} needs {in_use} bytes of {size}")
    head = r.FileRecord(
        magic=b"FILE",
        usa_ofs=r.FileRecord.size,
        usa_count=words,
        sequence_number=sequence,
        link_count=sum(one.type == r.FILE_NAME for one in attributes),
        attrs_offset=first,
        flags=flags,
        bytes_in_use=in_use,
        bytes_allocated=size,
        next_attr_instance=len(ordered),
        mft_record_number=number,
    )
    data = head.encode().ljust(first, b"\0") + body + r.END.to_bytes(4, "little")
    return protected(data.ljust(size, b"\0"), r.FileRecord.size)


def protected(data: bytes, usa_ofs: int) -> bytes:
    """Return a record with its update sequence: the last word of each 512 bytes kept apart, a number in its place."""
    number = b"\x01\x00"
    kept, result = bytearray(number), bytearray(data)
    for end in range(r.STRIDE, len(data) + 1, r.STRIDE):
        kept += result[end - 2 : end]
        result[end - 2 : end] = number
    result[usa_ofs : usa_ofs + len(kept)] = kept
    return bytes(result)


def entry(reference: int, key: bytes) -> bytes:
    """Return an entry of an index of names."""
    length = align_up(r.IndexEntry.size + len(key), 8)
    head = r.IndexEntry(reference=reference, length=length, key_length=len(key))
    return (head.encode() + key).ljust(length, b"\0")


def view_entry(key: bytes, data: bytes, padding: bytes = b"") -> bytes:
    """Return an entry of an index of another kind; it holds its data itself, at an offset that is kept in its head."""
    offset = r.IndexEntry.size + len(key)
    length = align_up(offset + len(data) + len(padding), 8)
    head = r.IndexEntry(reference=offset | len(data) << 16, length=length, key_length=len(key))
    return (head.encode() + key + data + padding).ljust(length, b"\0")
