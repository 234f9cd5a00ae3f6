"""The real block devices of this machine: what the kernel tells of each, what lies on it, and who uses it.

Everything comes from sysfs and proc (Documentation/ABI in the kernel's sources); nothing is chosen by position.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from narvet.block.file import FileDevice
from narvet.block.kernel import partitions_of, read_anew
from narvet.block.leases import users
from narvet.formats.signatures import content_of
from narvet.ground.errors import NarvetError, printable
from narvet.ground.units import counted
from narvet.model.devices import Device
from narvet.model.estate import NO_TABLE, Disk
from narvet.observe.images import survey

_BLOCK, _DEV = Path("/sys/block"), Path("/dev")
_SECTOR = 512  # sysfs counts sizes in these
_NOT_DISKS = ("ram", "zram", "sr", "fd", "nbd", "mtdblock")
_MOST_SIGNS = 64
_PAGE_HEAD = 4  # SPC-5, section 7.7.16: bytes before the serial in its page


def devices() -> tuple[Device, ...]:
    """Return the whole block devices that hold something or could."""
    mounts, swaps = _mounts(), _swaps()
    names = sorted(path.name for path in _BLOCK.iterdir()) if _BLOCK.is_dir() else []
    return tuple(
        one for name in names if not name.startswith(_NOT_DISKS) for one in _device(name, mounts, swaps) if one.size
    )


def device_at(path: str) -> Device:
    """Return one device, looked at anew.

    Raises:
        FileNotFoundError: there is none.
    """
    found = next(_device(Path(path).name, _mounts(), _swaps()), None)
    if found is None:
        raise FileNotFoundError(2, os.strerror(2), path)
    return found


def _device(name: str, mounts: Mapping[int, list[str]], swaps: set[int]) -> Iterator[Device]:
    folder, path = _BLOCK / name, _DEV / name.replace("!", "/")
    try:
        number = os.makedev(*map(int, _line(folder / "dev").split(":")))
        size = int(_line(folder / "size")) * _SECTOR
        sector = int(_line(folder / "queue" / "logical_block_size"))
    except (OSError, ValueError):  # it was taken out meanwhile
        return
    holds, found = _content(path, sector) if size else ("", None)
    own = _own(name, folder, path, number)
    yield Device(
        path=str(path),
        number=number,
        serial=_serial(folder),
        size=size,
        sector_size=sector,
        rotates=_told(folder / "queue" / "rotational") == "1",
        read_only=_told(folder / "ro") == "1",
        removable=_told(folder / "removable") == "1",
        model=_clean(_told(folder / "device" / "model")),
        holds=holds,
        found=found,
        users=tuple(dict.fromkeys(_users(name, folder, own, mounts, swaps))),
        partitions=tuple(partitions_of(str(path)).items()),
        mark=_mark(folder, size),
        mounts=tuple((part, at) for one, (part, _) in own.items() for at in mounts.get(one, ())),
        swaps=tuple(part for one, (part, _) in own.items() if one in swaps),
    )


def _mark(folder: Path, size: int) -> str:
    """Return what tells a device from others: its serial, else its number in the order of appearance since start."""
    serial = _serial(folder)
    here = f"{_told(folder / 'diskseq')} since {_told(Path('/proc/sys/kernel/random/boot_id'))}"
    return f"{serial or here}, {size}"


def _serial(folder: Path) -> str:
    """Return what a device calls itself: by its driver, or by its page of SCSI (SPC-5, section 7.7.16)."""
    for place in ("serial", "device/serial"):
        told = _told(folder / place)
        if told:
            return _clean(told)
    with suppress(OSError):
        page = (folder / "device" / "vpd_pg80").read_bytes()
        return _clean(page[_PAGE_HEAD : _PAGE_HEAD + page[3]].decode("ascii", "replace"))
    return ""


def _content(path: Path, sector: int) -> tuple[str, Disk | None]:
    """Return what lies on a device, in words and in full."""
    read_anew(str(path))
    try:
        found = survey(str(path), deep=False, sector_size=sector)
        if found.table != NO_TABLE or found.partitions:
            return _in_words(found), found
        with path.open("rb") as file:
            return content_of(FileDevice(file, sector)), None
    except (NarvetError, OSError) as error:
        told = error.strerror if isinstance(error, OSError) else str(error)
        return f"something that cannot be read ({printable(str(told))[:200]})", None


def _in_words(found: Disk) -> str:
    inside = [part.filesystem for part in found.partitions]
    kinds = [f"{one.kind} {printable(one.label)}".strip() if one else "nothing known" for one in inside]
    if found.table == NO_TABLE:
        return kinds[0]
    parts = f": {', '.join(kinds[:8])}" if kinds else ""
    return f"{found.table_name} with {counted(len(kinds), 'partition')}{parts}"


def _own(name: str, folder: Path, path: Path, number: int) -> dict[int, tuple[int, str]]:
    """Return a device and its partitions by their numbers there: the partition, 0 for all of it, and its path."""
    own = {number: (0, str(path))}
    for part in folder.glob(f"{name}*/partition"):
        with suppress(OSError, ValueError):
            device = os.makedev(*map(int, _line(part.parent / "dev").split(":")))
            own[device] = int(_line(part)), f"/dev/{part.parent.name}"
    return own


def _users(
    name: str, folder: Path, own: Mapping[int, tuple[int, str]], mounts: Mapping[int, list[str]], swaps: set[int]
) -> Iterator[str]:
    for one, (_, where) in own.items():
        yield from (f"{where} is mounted at {at}" for at in mounts.get(one, ()))
        if one in swaps:
            yield f"{where} is used for swap"
    for holder in (*folder.glob("holders/*"), *folder.glob(f"{name}*/holders/*")):
        yield f"it is part of {_told(holder / 'dm' / 'name') or holder.name}"
    for _, where in own.values():
        with suppress(OSError):
            yield from (f"{who} has {where} open" for who in users(Path(where), readers=False))


def _mounts() -> dict[int, list[str]]:
    """Return what is mounted from each device (proc(5), mountinfo)."""
    found: dict[int, list[str]] = {}
    with suppress(OSError):
        for line in Path("/proc/self/mountinfo").read_text(errors="replace").splitlines():
            words = line.split(" ")
            with suppress(ValueError, IndexError):
                at = printable(words[4].encode("latin-1", "replace").decode("unicode_escape"))
                found.setdefault(os.makedev(*map(int, words[2].split(":"))), []).append(at)
    return found


def _swaps() -> set[int]:
    found: set[int] = set()
    with suppress(OSError):
        for line in Path("/proc/swaps").read_text(errors="replace").splitlines()[1:]:
            with suppress(OSError, IndexError):
                found.add(os.stat(line.split()[0]).st_rdev)  # noqa: PTH116
    return found


def _line(path: Path) -> str:
    return path.read_text().strip()


def _told(path: Path) -> str:
    try:
        return path.read_text(errors="replace").strip()[:_MOST_SIGNS]
    except OSError:
        return ""


def _clean(text: str) -> str:
    return printable(text.strip().strip("\0").strip())[:_MOST_SIGNS]
