"""A small writer of registry hives of the tests' own, by the published documentation of the format; and a Windows root.

It shares nothing with the program: one bin, cells one after another, lists of one kind.
"""

from __future__ import annotations

import struct
from functools import reduce
from operator import xor
from pathlib import Path
from typing import Any
from uuid import UUID

from narvet.formats.filesystems.trees import Owner
from narvet.guests.roots import changed_root
from narvet.model.estate import Root
from tests.program import facts, run

SZ, BINARY, DWORD = 1, 3, 4
SECURITY = struct.pack("<BBHIIII", 1, 0, 0x8000, 0, 0, 0, 0)
MOMENT = 1772409600
Tree = dict[str, Any]


def number(value: int) -> tuple[int, bytes]:
    """Return a value that is a number."""
    return DWORD, struct.pack("<I", value)


def text(value: str) -> tuple[int, bytes]:
    """Return a value that is text."""
    return SZ, (value + "\0").encode("utf-16-le")


def hive(tree: Tree, minor: int = 5, spare: int = 1024) -> bytes:
    """Return a hive with keys and values: in a tree, dictionaries are keys, and pairs of type and bytes are values."""
    cells = bytearray()

    def put(content: bytes) -> int:
        place = 32 + len(cells)
        size = max(-(-(len(content) + 4) // 8) * 8, 8)
        cells.extend(struct.pack("<i", -size) + content.ljust(size - 4, b"\0"))
        return place

    keys = count(tree)
    security = put(b"sk\0\0" + struct.pack("<IIII", 32, 32, keys, len(SECURITY)) + SECURITY)

    def key(name: str, inside: Tree, flags: int) -> int:
        subkeys = sorted(
            ((one, what) for one, what in inside.items() if isinstance(what, dict)), key=lambda p: p[0].upper()
        )
        values = [(one, what) for one, what in inside.items() if not isinstance(what, dict)]
        plain = name.isascii()
        label = name.encode("ascii" if plain else "utf-16-le")
        at = put(bytes(76) + label)
        below = [(key(one, what, 0), one) for one, what in subkeys]
        listed = put(subkey_list(below, minor)) if below else 0xFFFFFFFF
        made = [put_value(put, one, kind, data) for one, (kind, data) in values]
        vlist = put(struct.pack(f"<{len(made)}I", *made)) if made else 0xFFFFFFFF
        for child, _ in below:
            struct.pack_into("<I", cells, child - 32 + 4 + 16, at)
        node = struct.pack(
            "<2sHQIIIIIIIIIIIIIIIHH", b"nk", flags | (0x20 if plain else 0), 0, 0, 0, len(below), 0, listed, 0xFFFFFFFF,
            len(made), vlist, security, 0xFFFFFFFF, max((2 * len(one) for _, one in below), default=0), 0,
            max((2 * len(one) for one, _ in values), default=0), max((len(data) for _, (_, data) in values), default=0), 0,
            len(label), 0,
        )  # fmt: skip
        cells[at - 32 + 4 : at - 32 + 4 + 76] = node
        return at

    root = key("ROOT", tree, 0x2C)
    size = -(-(32 + len(cells) + spare) // 4096) * 4096
    left = size - 32 - len(cells)
    content = b"hbin" + struct.pack("<IIQQI", 0, size, 0, 0, 0) + cells + struct.pack("<i", left).ljust(left, b"\0")
    head = struct.pack("<4sIIQIIIIIII", b"regf", 7, 7, 0, 1, minor, 0, 1, root, size, 1) + bytes(508 - 48)
    summed = reduce(xor, struct.unpack("<127I", head))
    return (head + struct.pack("<I", summed)).ljust(4096, b"\0") + content


def count(tree: Tree) -> int:
    """Return how many keys a tree has."""
    return 1 + sum(count(one) for one in tree.values() if isinstance(one, dict))


def subkey_list(below: list[tuple[int, str]], minor: int) -> bytes:
    """Return a list of subkeys: with hashes, with how names begin, or bare; over some hundred in parts."""
    data = (b"lh" if minor >= 5 else b"lf") + struct.pack("<H", len(below))
    for place, name in below:
        hashed = reduce(lambda total, sign: (total * 37 + ord(sign)) & 0xFFFFFFFF, name.upper(), 0)
        data += struct.pack("<I", place) + (
            struct.pack("<I", hashed) if minor >= 5 else name.encode("latin-1", "replace")[:4].ljust(4, b"\0")
        )
    return data


def put_value(put: Any, name: str, kind: int, data: bytes) -> int:
    """Put a value, its data inside it where that is small."""
    plain = name.isascii()
    label = name.encode("ascii" if plain else "utf-16-le")
    size, where = len(data) | 0x80000000, int.from_bytes(data.ljust(4, b"\0")[:4], "little")
    if len(data) > 4:
        size, where = len(data), put(data)
    return int(put(struct.pack("<2sHIIIHH", b"vk", len(label), size, where, kind, int(plain), 0) + label))


def windows_hives(letters: dict[str, bytes], policy: int | None = 2) -> dict[str, bytes]:
    """Return the hives of a small Windows by their names."""
    mounted = {f"\\DosDevices\\{letter}": (BINARY, data) for letter, data in letters.items()}
    parameters = {} if policy is None else {"SanPolicy": number(policy)}
    system = {
        "ControlSet001": {"Services": {"partmgr": {"Parameters": parameters}, "disk": {}}, "Control": {}},
        "Select": {"Current": number(1), "Default": number(1)},
        "MountedDevices": mounted,
        "Setup": {"CmdLine": text("")},
    }
    about = {
        "ProductName": text("Larkmoor Server"), "CurrentMajorVersionNumber": number(10), "CurrentVersion": text("6.3"),
        "CurrentMinorVersionNumber": number(0), "CurrentBuildNumber": text("20348"), "EditionID": text("ServerStandard"),
    }  # fmt: skip
    software = {"Microsoft": {"Windows NT": {"CurrentVersion": about}}}
    return {"SYSTEM": hive(system), "SOFTWARE": hive(software)}


def fill_windows(image: Path, hives: dict[str, bytes], partition: int = 2) -> Path:
    """Put hives into an ntfs of an image, where a Windows has them."""
    with changed_root(Root(str(image), partition, moment=MOMENT), lambda _: True) as root:
        folder = root.edited.root
        for name in ("Windows", "System32", "config"):
            folder = root.edited.make_folder(folder, name, Owner(0, 0, 0), {})
        for name, content in hives.items():
            root.edited.replace(folder, name, content)
    return image


def by_guid(guid: str) -> bytes:
    """Return what a letter's value holds for a partition of a GPT."""
    return b"DMIO:ID:" + UUID(guid).bytes_le


OTHER = by_guid("c2b8a9f4-17e2-4d6e-8c35-5a0de1c9b8f7")


def windows_image(folder: Path, name: str = "win.vhdx", policy: int | None = 2) -> Path:
    """Make an image with a small Windows root."""
    words = ("--size", "260 MiB", "--filesystem", "ntfs", "--runs", "windows")
    run("make", name, *words, status=0, cwd=folder)
    parts = facts("survey", str(folder / name))[0]["partitions"]
    system = next(part for part in parts if part["filesystem"])
    letters = {"C:": by_guid(system["id"]), "D:": OTHER}
    return fill_windows(folder / name, windows_hives(letters, policy), system["number"])
