"""Images as other makers write them, put together plainly by the specifications, field by field, without Narvet's code.

Narvet never writes these forms; it must read them. The hypervisor reads the same files in the guest's boot, so that a
mistake here shows there.
"""

from __future__ import annotations

import random
import struct
import zlib
from collections.abc import Callable
from pathlib import Path
from uuid import UUID

import crc32c

MIB = 1 << 20
SIZE = 3 * MIB


def sample(seed: int = 1) -> bytes:
    """Return the disk of every image here: text that packs well, noise that does not, and nothing at all."""
    dice = random.Random(seed)
    content = bytearray(SIZE)
    content[0 : MIB // 2] = (b"seeds of the larkmoor " * (MIB // 22 + 1))[: MIB // 2]
    content[MIB : MIB + 200_000] = dice.randbytes(200_000)
    content[-70_000:] = dice.randbytes(70_000)
    return bytes(content)


def _padded(data: bytes, step: int) -> bytes:
    return data.ljust(-(-len(data) // step) * step, b"\0")


def qcow2(path: Path, content: bytes, *, version: int = 3, bits: int = 16, packed: str = "", order: int = 4) -> None:
    """A qcow2 of version 2 or 3: refcounts of 1 << order bits, clusters packed by deflate or zstd if asked."""
    cluster = 1 << bits
    clusters = [content[start : start + cluster].ljust(cluster, b"\0") for start in range(0, len(content), cluster)]
    tables = -(-len(clusters) * 8 // cluster)
    l1, l2 = 1 * cluster, 2 * cluster
    data_start = l2 + tables * cluster
    entries, data = [], bytearray()
    for number, piece in enumerate(clusters):
        if not any(piece):
            entries.append(1 if version == 3 and number % 2 else 0)  # a cluster that reads as zeros, or none at all
            continue
        small = _pack(piece, packed)
        place = data_start + len(data)
        if small is not None and len(small) < cluster:
            sectors = (place % 512 + len(small) - 1) // 512
            entries.append(1 << 62 | sectors << (62 - (bits - 8)) | place)
            data += small
        else:
            data += bytes(-len(data) % cluster)
            entries.append(1 << 63 | data_start + len(data))
            data += piece
    data += bytes(-len(data) % cluster)
    counts_table = data_start + len(data)
    counts = counts_table + cluster
    used = counts // cluster + 1
    refcounts = bytearray(cluster)
    for number in range(used):
        if order >= 3:
            width = (1 << order) // 8
            refcounts[number * width : (number + 1) * width] = (1).to_bytes(width, "big")
        else:
            per = 8 >> order
            refcounts[number // per] |= 1 << (number % per << order)
    _count_packed(refcounts, entries, bits, order)
    header = struct.pack(
        ">4sIQIIQIIQQIIQ", b"QFI\xfb", version, 0, 0, bits, len(content), 0, tables, l1, counts_table, 1, 0, 0
    )
    if version == 3:
        header += struct.pack(">QQQII", 8 if packed == "zstd" else 0, 0, 0, order, 112)
        header += struct.pack(">B7x", 1 if packed == "zstd" else 0) + bytes(8)
    file = bytearray(_padded(header, cluster))
    file += _padded(struct.pack(f">{tables}Q", *(1 << 63 | l2 + n * cluster for n in range(tables))), cluster)
    file += struct.pack(f">{len(entries)}Q", *entries).ljust(tables * cluster, b"\0")
    file += data + _padded(struct.pack(">Q", counts), cluster) + refcounts
    path.write_bytes(file)


def _pack(piece: bytes, kind: str) -> bytes | None:
    if kind == "deflate":
        stream = zlib.compressobj(6, zlib.DEFLATED, -12)
        return stream.compress(piece) + stream.flush()
    if kind == "zstd":
        import zstandard

        return zstandard.ZstdCompressor().compress(piece)
    return None


def _count_packed(refcounts: bytearray, entries: list[int], bits: int, order: int) -> None:
    """Packed clusters share clusters of the file, whose count is the number of those that touch them."""
    if order != 4:
        return
    touched: dict[int, int] = {}
    for entry in entries:
        if entry >> 62 == 1:
            shift = 62 - (bits - 8)
            place = entry & ((1 << shift) - 1)
            end = place - place % 512 + (((entry & ((1 << 62) - 1)) >> shift) + 1) * 512
            for number in range(place >> bits, (end - 1 >> bits) + 1):
                touched[number] = touched.get(number, 0) + 1
    for number, count in touched.items():
        refcounts[2 * number : 2 * number + 2] = count.to_bytes(2, "big")


def _sparse_header(
    capacity: int, grain: int, flags: int, descriptor: int, rgd: int, gd: int, first: int, packed: int = 0
) -> bytes:
    head = struct.pack(
        "<4sIIQQQQIQQQB4sH", b"KDMV", 3 if packed else 1, flags, capacity, grain, 1 if descriptor else 0, descriptor, 512,
        rgd, gd, first, 0, b"\n \r\n", packed,
    )  # fmt: skip
    return head.ljust(512, b"\0")


def _text(kind: str, extents: list[str], cid: str = "5eed5eed") -> bytes:
    lines = [
        "# Disk DescriptorFile",
        "version=1",
        f"CID={cid}",
        "parentCID=ffffffff",
        f'createType="{kind}"',
        "# Extent description",
        *extents,
    ]
    lines += ["", 'ddb.virtualHWVersion = "4"', 'ddb.geometry.cylinders = "6"', 'ddb.geometry.heads = "16"']
    lines += ['ddb.geometry.sectors = "63"', 'ddb.adapterType = "ide"']
    return ("\n".join(lines) + "\n").encode()


def vmdk_for_transport(path: Path, content: bytes) -> None:
    """The packed one-way form: grains one after another behind markers, tables and a footer at the end."""
    grain, capacity = 128, len(content) // 512
    text = _padded(_text("streamOptimized", [f'RW {capacity} SPARSE "{path.name}"']), 512).ljust(20 * 512, b"\0")
    end = (1 << 64) - 1
    file = bytearray(_sparse_header(capacity, grain, 0x30001, 20, 0, end, 128, 1) + text).ljust(128 * 512, b"\0")
    table = [0] * 512
    for number, start in enumerate(range(0, len(content), grain * 512)):
        piece = content[start : start + grain * 512].ljust(grain * 512, b"\0")
        if any(piece):
            small = zlib.compress(piece)
            table[number] = len(file) // 512
            file += _padded(struct.pack("<QI", start // 512, len(small)) + small, 512)
    file += struct.pack("<QII", 4, 0, 1).ljust(512, b"\0")  # marker: a grain table of 4 sectors
    place = len(file) // 512
    file += struct.pack("<512I", *table)
    file += struct.pack("<QII", 1, 0, 2).ljust(512, b"\0")  # marker: the grain directory
    directory = len(file) // 512
    file += struct.pack("<I", place).ljust(512, b"\0")
    file += struct.pack("<QII", 1, 0, 3).ljust(512, b"\0")  # marker: the footer
    file += _sparse_header(capacity, grain, 0x30001, 20, 0, directory, 128, 1)
    file += bytes(512)  # marker: end of stream
    path.write_bytes(file)


def vmdk_flat_pieces(path: Path, content: bytes) -> None:
    """A descriptor, a flat piece that starts later in its file, a piece of zeros, and another flat one."""
    third = len(content) // 3 // 512 * 512
    (path.parent / f"{path.stem}-f001.vmdk").write_bytes(bytes(1024) + content[:third])
    rest = content[third:]
    (path.parent / f"{path.stem}-f002.vmdk").write_bytes(rest)
    extents = [
        f'RW {third // 512} FLAT "{path.stem}-f001.vmdk" 2',
        f'RW {len(rest) // 512} FLAT "{path.stem}-f002.vmdk" 0',
    ]
    path.write_bytes(_text("twoGbMaxExtentFlat", extents))


def vmdk_sparse_pieces(path: Path, content: bytes) -> None:
    """A descriptor and two sparse pieces."""
    half = len(content) // 2 // 65536 * 65536
    extents = []
    for number, part in enumerate((content[:half], content[half:]), 1):
        name = f"{path.stem}-s{number:03}.vmdk"
        _sparse_piece(path.parent / name, part)
        extents.append(f'RW {len(part) // 512} SPARSE "{name}"')
    path.write_bytes(_text("twoGbMaxExtentSparse", extents))


def _sparse_piece(path: Path, content: bytes) -> None:
    grain, first = 128, 128
    table, data = [0] * 512, bytearray()
    for number, start in enumerate(range(0, len(content), grain * 512)):
        piece = content[start : start + grain * 512].ljust(grain * 512, b"\0")
        if any(piece):
            table[number] = first + len(data) // 512
            data += piece
    head = _sparse_header(len(content) // 512, grain, 0x3, 0, 1, 6, first)
    both = b"".join(struct.pack("<I", place).ljust(512, b"\0") + struct.pack("<512I", *table) for place in (2, 7))
    path.write_bytes((head + both).ljust(first * 512, b"\0") + data)


def vhd_child(path: Path, base: Path, above: dict[int, bytes]) -> None:
    """A child of a VHD that holds single sectors (number to content), named by a relative path alone."""
    footer = bytearray(base.read_bytes()[-512:])
    size = int.from_bytes(footer[48:56], "big")
    footer[16:24] = (512).to_bytes(8, "big")
    footer[60:64] = (4).to_bytes(4, "big")
    parent, footer[68:84] = bytes(footer[68:84]), UUID(int=0xC41D).bytes
    footer[64:68] = bytes(4)
    footer[64:68] = (~sum(footer) & 0xFFFFFFFF).to_bytes(4, "big")
    block, name = 2 * MIB, f".\\{base.name}".encode("utf-16-le")
    entries = -(-size // block)
    locator = struct.pack(">4sIIIQ", b"W2ru", 512, len(name), 0, 2048)
    head = struct.pack(">8sQQIII", b"cxsparse", (1 << 64) - 1, 1536, 0x10000, entries, block)
    header = bytearray(head + bytes(4) + parent + bytes(8) + base.name.encode("utf-16-be").ljust(512, b"\0") + locator)
    header = header.ljust(1024, b"\0")
    header[36:40] = (~sum(header) & 0xFFFFFFFF).to_bytes(4, "big")
    table = [0xFFFFFFFF] * entries
    body, place = bytearray(), 2560 // 512
    for number in sorted({sector * 512 // block for sector in above}):
        table[number] = place + len(body) // 512
        bits, data = bytearray(512), bytearray(b"\xee" * block)  # what does not count must not be read
        for sector, content in above.items():
            inside = sector - number * block // 512
            if 0 <= inside < block // 512:
                bits[inside // 8] |= 0x80 >> inside % 8
                data[inside * 512 : inside * 512 + 512] = content
        body += bits + data
    file = bytes(footer) + bytes(header) + struct.pack(f">{entries}I", *table).ljust(512, b"\xff") + _padded(name, 512)
    path.write_bytes(file + bytes(body) + bytes(footer))


def vhdx_with_log(path: Path, made: Path, offset: int, content: bytes, *, break_at: int | None = None) -> None:
    """A VHDX as a crash leaves it: `content` for 4 KiB sectors from `offset` of the file lies in the log only."""
    file = bytearray(made.read_bytes())
    guid, sequence, log = UUID(int=0x106).bytes_le, 77, 1 * MIB
    parts = [content[start : start + 4096] for start in range(0, len(content), 4096)]
    descriptors = b"".join(
        struct.pack("<4s4s8sQQ", b"desc", part[-4:], part[:8], offset + 4096 * number, sequence)
        for number, part in enumerate(parts)
    )
    head = -(-(64 + len(descriptors)) // 4096) * 4096
    sectors = b"".join(struct.pack("<4sI4084sI", b"data", 0, part[8:-4], sequence) for part in parts)
    tail = start = 3 * 4096  # the entry need not lie at the log's start
    entry = (
        bytearray(
            struct.pack(
                "<4sIIIQII16sQQ",
                b"loge",
                0,
                head + len(sectors),
                tail,
                sequence,
                len(parts),
                0,
                guid,
                len(file),
                len(file),
            )
            + descriptors
        ).ljust(head, b"\0")
        + sectors
    )
    entry[4:8] = struct.pack("<I", crc32c.crc32c(bytes(entry)))
    if break_at is not None:
        entry[break_at] ^= 1
    file[log + start : log + start + len(entry)] = entry
    for place in (64 << 10, 128 << 10):
        header = file[place : place + 4096]
        header[8:16] = struct.pack("<Q", 100 + (place >> 17))
        header[48:64] = guid
        header[4:8] = bytes(4)
        header[4:8] = struct.pack("<I", crc32c.crc32c(bytes(header)))
        file[place : place + 4096] = header
    path.write_bytes(file)


READ_BY_ALL: dict[str, Callable[[Path, bytes], None]] = {
    "two.qcow2": lambda path, content: qcow2(path, content, version=2),
    "deflate.qcow2": lambda path, content: qcow2(path, content, packed="deflate"),
    "zstd.qcow2": lambda path, content: qcow2(path, content, packed="zstd"),
    "small.qcow2": lambda path, content: qcow2(path, content, bits=14),
    "bit.qcow2": lambda path, content: qcow2(path, content, order=0),
    "wide.qcow2": lambda path, content: qcow2(path, content, order=6),
    "transport.vmdk": vmdk_for_transport,
    "flat.vmdk": vmdk_flat_pieces,
    "sparse.vmdk": vmdk_sparse_pieces,
}
"""Images whose disk is the content given, by the name of their file."""
