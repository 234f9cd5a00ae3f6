"""What lies on the members of a pool, read without the product's code: tables for a kernel's own mapping of devices.

It knows as much of the format as that needs: the label, the newest text that a ring's header leads to, and of the text
the volumes with their segments.
"""

from __future__ import annotations

import re
import struct
import zlib
from dataclasses import dataclass, field


@dataclass
class Text:
    """A pool's text taken apart: sections by name, values as written."""

    values: dict[str, str] = field(default_factory=dict)
    inner: dict[str, Text] = field(default_factory=dict)


def checksum(data: bytes) -> int:
    """Return the checksum of labels and texts, bit by bit of a byte as it is defined."""
    return zlib.crc32(data, 0xF597A6CF ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def member_id(start: bytes) -> str:
    """Return the id in the label of a member, which must be sound."""
    label = start[512:1024]
    assert label[:8] == b"LABELONE" and label[24:32] == b"LVM2 001"
    sector, crc, offset = struct.unpack_from("<QII", label, 8)
    assert sector == 1 and crc == checksum(label[20:])
    return label[offset : offset + 32].decode()


def rings(start: bytes) -> list[tuple[int, int]]:
    """Return offset and size of the rings that the label of a member leads to."""
    label = start[512:1024]
    lists: list[list[tuple[int, int]]] = [[], []]
    place = struct.unpack_from("<I", label, 20)[0] + 40
    for found in lists:
        while (run := struct.unpack_from("<QQ", label, place)) != (0, 0):
            found.append(run)
            place += 16
        place += 16
    return lists[1]


def newest(ring: bytes) -> bytes:
    """Return the text that the header of a ring leads to, which must be sound."""
    assert ring[4:20] == b" LVM2 x[5A%r0N*>" and struct.unpack_from("<I", ring)[0] == checksum(ring[4:512])
    offset, size, crc, _ = struct.unpack_from("<QQII", ring, 40)
    assert struct.unpack_from("<Q", ring, 64)[0] == 0
    text = ring[offset : offset + size]
    text += ring[512 : 512 + size - len(text)]
    assert checksum(text) == crc and text.endswith(b"\0")
    return text[:-1]


def taken_apart(text: bytes) -> Text:
    """Return a text as sections."""
    stack = [Text()]
    for line in text.decode().splitlines():
        if line.endswith(" {"):
            inner = Text()
            stack[-1].inner[line[:-2]] = inner
            stack.append(inner)
        elif line == "}":
            stack.pop()
        elif " = " in line:
            key, _, value = line.partition(" = ")
            stack[-1].values[key] = value
    assert len(stack) == 1
    return stack[0]


def tables(text: bytes, devices: dict[str, str]) -> list[tuple[str, list[str]]]:
    """Return the devices to be made, in order, each with its rows; `devices` are the members' by their ids."""
    root = taken_apart(text)
    (name, pool), *_ = root.inner.items()
    extent = int(pool.values["extent_size"])
    places = {
        member: (devices[one.values["id"].strip('"').replace("-", "")], int(one.values["pe_start"]))
        for member, one in pool.inner["physical_volumes"].inner.items()
    }
    made: list[tuple[str, list[str]]] = []
    volumes = pool.inner["logical_volumes"].inner
    for volume, one in sorted(volumes.items(), key=lambda pair: "VISIBLE" in pair[1].values["status"]):
        rows = []
        for segment in one.inner.values():
            start, count = (int(segment.values[key]) * extent for key in ("start_extent", "extent_count"))
            if segment.values["type"] == '"raid1"':
                parts = [f"/dev/map-{name}-{part}" for part in re.findall(r'"([^"]+)"', segment.values["raids"])]
                copies = f"{segment.values['device_count']} {' '.join(parts)}"
                rows.append(f"{start} {count} raid raid1 3 0 region_size {segment.values['region_size']} {copies}")
                continue
            parts = [
                f"{places[member][0]} {places[member][1] + int(first) * extent}"
                for member, first in re.findall(r'"([^"]+)", (\d+)', segment.values["stripes"])
            ]
            kind = "linear" if len(parts) == 1 else f"striped {len(parts)} {segment.values['stripe_size']}"
            rows.append(f"{start} {count} {kind} {' '.join(parts)}")
        made.append((f"{name}-{volume}", rows))
    return made
