"""The text by which values are brought into the registry of a Windows guest: written, read back, and put in place.

UTF-16 with a byte order mark: a first line that tells the version, keys in brackets, a line for each value. Binary
values are `hex:` and their bytes. Only the one key that ties letters and volumes to disks is written.
"""

from __future__ import annotations

import codecs
import re
import struct
from collections.abc import Iterable
from pathlib import Path
from uuid import UUID

from narvet.block.publish import replace_content
from narvet.ground.units import show_bytes
from narvet.model.estate import Guest, RegistryValue

HEAD = "Windows Registry Editor Version 5.00"
KEY = "[HKEY_LOCAL_MACHINE\\SYSTEM\\MountedDevices]"
MOUNTED_DEVICES = "MountedDevices"
POLICY_PATH, POLICY, ONLINE = "Services\\partmgr\\Parameters", "SanPolicy", 1
"""Where a Windows keeps how it treats disks that it sees for the first time: 1 brings all of them online."""

POLICY_LINES = (f"[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\{POLICY_PATH}]", f'"{POLICY}"=dword:{ONLINE:08x}')
LARGEST = 16 << 20
BY_GUID = b"DMIO:ID:"
"""What a value starts with that holds a partition's GUID."""

_VALUE = re.compile(r'"((?:[^"\\]|\\.)*)"=(?:hex:([0-9a-f]{2}(?:,[0-9a-f]{2})*)|-)')


def value_line(value: RegistryValue) -> str:
    """Return a value as a line."""
    name = value.name.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{name}"=' + (f"hex:{value.data.hex(',')}" if value.data else "-")


def value_meaning(value: RegistryValue) -> tuple[str, str]:
    """Return what a value is of, a letter or a volume, and what that is known by."""
    data = value.data
    what = value.name.rpartition("\\")[2]
    if not data:
        return what, "taken back from the disk that had it"
    if data.startswith(BY_GUID):
        return what, f"partition {UUID(bytes_le=data[len(BY_GUID) :])}"
    signature, offset = struct.unpack("<IQ", data)
    return what, f"disk {signature:08x}, {show_bytes(offset)} from its start"


def registry_text(values: Iterable[RegistryValue], *, online: bool = False) -> bytes:
    """Return the whole file; with `online` it also has the guest not hold new disks offline."""
    lines = [HEAD, "", KEY, *map(value_line, values), *(("", *POLICY_LINES) if online else ()), ""]
    return codecs.BOM_UTF16_LE + "\r\n".join(lines).encode("utf-16-le")


def parse_registry_text(data: bytes) -> tuple[tuple[RegistryValue, ...], bool] | None:
    """Return the values of a file that Narvet wrote, and whether it has new disks online; None if it is another."""
    try:
        text = data.decode("utf-16")
    except UnicodeDecodeError:
        return None
    lines = [line for line in text.split("\r\n") if line]
    online = tuple(lines[-2:]) == POLICY_LINES
    lines = lines[:-2] if online else lines
    matches = [_VALUE.fullmatch(line) for line in lines[2:]]
    if lines[:2] != [HEAD, KEY] or None in matches or not text.endswith("\r\n"):
        return None
    values = tuple(
        RegistryValue(re.sub(r"\\(.)", r"\1", match[1]), bytes.fromhex((match[2] or "").replace(",", "")))
        for match in matches
        if match
    )
    return values, online


def guest_with_text(name: str, path: Path, *, asks_online: bool = False) -> Guest:
    """Return a guest with what lies at `path`, where its registry text belongs."""
    if not path.exists() and not path.is_symlink():
        return Guest(name, str(path), asks_online=asks_online)
    if not path.is_file() or path.is_symlink() or path.stat().st_size > LARGEST:
        return Guest(name, str(path), problem=f"{path} is there already, and is not a plain file of Narvet's")
    found = parse_registry_text(path.read_bytes())
    problem = "" if found is not None else f"{path} is there already, and is not a registry text of Narvet's"
    values, online = found or (None, False)
    new_disks = "online" if online else ""
    return Guest(name, str(path), values=values, problem=problem, new_disks=new_disks, asks_online=asks_online)


def write_registry(path: Path, values: Iterable[RegistryValue], *, online: bool = False) -> None:
    """Put a guest's registry text in place, all at once."""
    replace_content(path, registry_text(values, online=online))
