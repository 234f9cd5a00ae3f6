"""The values of a sheet: what may stand for each kind of key, as text in, as a typed value out. Sizes become bytes.

Only what can be judged from the value alone is checked here, with an error that shows how it is written.
"""

from __future__ import annotations

import re
from fractions import Fraction
from typing import TYPE_CHECKING, Annotated, Any, Literal

from msgspec import Meta

from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.images import NAMES as FORMATS
from narvet.formats.tables import NAMES as TABLES
from narvet.ground.errors import is_harmless
from narvet.ground.units import MIB, parse_share, parse_size
from narvet.model.controllers import Slot, check_position
from narvet.model.plugs import HOLDS, MOST_OF_SERIAL, Hold
from narvet.sheet.base import Written

LATEST = 1 << 33  # seconds since 1970 that every filesystem here can store
UNDATED = 946684800  # 2000-01-01, for sheets that give no date: never the clock
_NAME = r"[A-Za-z0-9][A-Za-z0-9_.-]{0,62}"
_SLOT = re.compile(r"(?P<controller>[a-z]+) (?P<first>\d{1,4})(?:-(?P<last>\d{1,4}))?")
_LETTER = re.compile("([A-Za-z]):")
_NOT_IN_NAMES = re.compile(r'[\x00-\x1f<>:"/|?*]')
_DEVICES = re.compile(r"(CON|PRN|AUX|NUL|COM[0-9]|LPT[0-9])(\..*)?", re.IGNORECASE)
_LONGEST_NAME = 255  # UTF-16 units
_SHOWN = r"[^\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2066-\u2069/]+"  # nothing a terminal obeys
_SIZE_TEXT = "a number and a unit: B, kB MB GB TB PB (powers of 1000), KiB MiB GiB TiB PiB (powers of 1024)"


def _size(value: Any) -> int:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        raise ValueError('a size is text, such as "100 GiB"')
    return parse_size(str(value))


def _positive(value: Any) -> int:
    size = _size(value)
    if size == 0:
        raise ValueError("a size of zero holds nothing")
    return size


def _part_size(value: Any) -> int | Fraction | Literal["rest"]:
    if value == "rest":
        return "rest"
    share = parse_share(value) if isinstance(value, str) else None
    return _positive(value) if share is None else share


def _kept(value: Any) -> int | Fraction:
    share = parse_share(value) if isinstance(value, str) else None
    return _size(value) if share is None else share


def _reserved(value: Any) -> Fraction:
    share = parse_share(value) if isinstance(value, str) else None
    if share is None or share > Fraction(1, 2):
        raise ValueError('a share of at most half, such as "2%"')
    return share


def _chunk(value: Any) -> int:
    size = _size(value)
    if size < 4096 or size > 64 * MIB or size & (size - 1):
        raise ValueError("a chunk is a power of two from 4 KiB to 64 MiB")
    return size


def _one_of(names: tuple[str, ...]) -> Written:
    def check(value: Any) -> str:
        if value not in names:
            raise ValueError(f"{value!r} is not known here; it can be {', '.join(names)}")
        return str(value)

    return _written(check, {"enum": list(names)})


def _mode(value: Any) -> int:
    if not isinstance(value, str) or not re.fullmatch("[0-7]{3,4}", value):
        raise ValueError('a mode is three or four octal digits as text, such as "0750"')
    return int(value, 8)


def _mount_point(value: Any) -> str:
    if isinstance(value, str) and (match := _LETTER.match(value)):
        return _below_letter(match[1].upper(), value[2:])
    if not isinstance(value, str) or not value.startswith("/"):
        raise ValueError('a mount point is a path, such as "/srv/trials", or a letter, such as "T:"')
    parts = [part for part in value.split("/") if part]
    if not parts:
        raise ValueError("/ is the guest's own root; a data disk is mounted below it")
    if ".." in parts or "." in parts or not is_harmless(value):
        raise ValueError("a mount point has no . or .. and no control characters in it")
    return "/" + "/".join(parts)


def _below_letter(letter: str, rest: str) -> str:
    """Return a letter, or a folder on its volume, as Windows writes it ([MS-FSCC], section 2.1.5)."""
    parts = [part for part in rest.split("\\") if part]
    if rest and not rest.startswith("\\"):
        raise ValueError('a folder on a volume is written "T:\\\\frames": letter, colon, backslash, names')
    for part in parts:
        if (
            _NOT_IN_NAMES.search(part)
            or part[-1] in " ."
            or len(part.encode("utf-16-le")) > 2 * _LONGEST_NAME
            or _DEVICES.fullmatch(part)
        ):
            raise ValueError(f'"{part}" cannot be the name of a folder in Windows')
    return "\\".join([f"{letter}:", *parts])


def _letter(value: Any) -> str:
    match = _LETTER.fullmatch(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError('a letter is written with its colon, such as "C:"')
    return f"{match[1].upper()}:"


def _version(value: Any) -> tuple[int, ...]:
    if not isinstance(value, str) or not re.fullmatch(r"\d{1,3}\.\d{1,3}(\.\d{1,6})?", value):
        raise ValueError('a version is what the system itself says, as text, such as "10.0.17763"')
    return tuple(map(int, value.split(".")))


def owner(value: Any) -> str:
    """Return an owner as a sheet has it.

    Raises:
        ValueError: it is none.
    """
    part = r"(?:\d{1,10}|[A-Za-z_][A-Za-z0-9_.-]*\$?)"
    account = r"[A-Za-z][A-Za-z0-9 _.$-]*(?:\\[A-Za-z0-9 _.$-]+)?"
    if not isinstance(value, str) or not re.fullmatch(f"{part}(?::{part})?|{account}", value):
        raise ValueError('an owner is a user, or user:group, by name or number, such as "trials:lab" or "1200:1200"')
    return value


def _slot(value: Any) -> Slot:
    match = _SLOT.fullmatch(value) if isinstance(value, str) else None
    if match is None or match["last"]:
        raise ValueError('a slot is a controller and a position, such as "scsi 1"')
    check_position(match["controller"], int(match["first"]))
    return match["controller"], int(match["first"])


def _slot_range(value: Any) -> tuple[Slot, ...]:
    match = _SLOT.fullmatch(value) if isinstance(value, str) else None
    if match is None:
        raise ValueError('slots are a controller and positions, such as "scsi 0-15" or "scsi 3"')
    first, last = int(match["first"]), int(match["last"] or match["first"])
    check_position(match["controller"], max(first, last))
    return tuple((match["controller"], position) for position in range(first, last + 1))


def _moment(value: Any) -> int:
    """Return seconds since 1970 of a TOML date or time; what has no zone is taken as UTC."""
    from datetime import UTC, date, datetime

    if not isinstance(value, date):
        raise ValueError("dated is a date, such as 2026-03-02")
    moment = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day, tzinfo=UTC)
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC)
    seconds = int(moment.timestamp())
    if not 0 <= seconds < LATEST:
        raise ValueError("dated is from 1970 to 2242")
    return seconds


def _written(read: Any, schema: dict[str, Any], *, is_size: bool = False) -> Written:
    """Return the type of a kind of value that `read` makes from what stands in a sheet."""
    return Written("Written", (), {"read": staticmethod(read), "schema": schema, "is_size": is_size})


def _text(pattern: str, example: str) -> dict[str, Any]:
    return {"type": "string", "pattern": f"^{pattern}$", "examples": [example]}


def matching(pattern: str, most: int | None = None) -> Meta:
    """Return what a text must match as a whole, and how many characters it has at most."""
    return Meta(pattern=rf"^{pattern}$(?!\n)", max_length=most)  # for `$` alone, a line may end there


def _sized(read: Any, words: str, *examples: str) -> Written:
    return _written(read, {"type": "string", "description": words, "examples": list(examples)}, is_size=True)


if TYPE_CHECKING:
    Size = int
    Chunk = int
    Room = int
    Kept = int | Fraction
    PartSize = int | Fraction | Literal["rest"]
    Share = Fraction
    SlotKey = Slot
    Slots = tuple[Slot, ...]
    MountPoint = str
    Letter = str
    Version = tuple[int, ...]
    Owner = str
    Moment = int
    Mode = int
    HoldName = Hold
    FilesystemName = str
    FormatName = str
    TableName = str
else:
    Size = _sized(_positive, _SIZE_TEXT, "120 GiB", "100 GB")
    Chunk = _sized(_chunk, _SIZE_TEXT, "64 KiB")
    Room = _sized(_size, _SIZE_TEXT, "120 GiB", "100 GB")
    Kept = _sized(_kept, f'{_SIZE_TEXT}; or a share, "25%"', "10%", "40 GiB")
    PartSize = _sized(_part_size, f'{_SIZE_TEXT}; or a share, "25%"; or "rest"', "80 GiB", "25%", "rest")
    Share = _written(_reserved, {"type": "string", "examples": ["2%"]})
    SlotKey = _written(_slot, _text(r"[a-z]+ \d+", "scsi 1"))
    Slots = _written(_slot_range, _text(r"[a-z]+ \d+(-\d+)?", "scsi 0-15"))
    MountPoint = _written(
        _mount_point,
        {"type": "string", "pattern": r"^(/.+|[A-Za-z]:(\\.+)?)$", "examples": ["/srv/trials", "T:", "T:\\frames"]},
    )
    Letter = _written(_letter, _text("[A-Za-z]:", "C:"))
    Version = _written(_version, _text(r"\d+\.\d+(\.\d+)?", "10.0.17763"))
    Owner = _written(owner, _text(".+", "trials:lab"))
    Moment = _written(_moment, {"format": "date-time"})
    Mode = _written(_mode, _text("[0-7]{3,4}", "0750"))
    HoldName = _one_of(HOLDS)
    FilesystemName = _one_of((*FILESYSTEMS, "none"))
    FormatName = _one_of(FORMATS)
    TableName = _one_of((*TABLES, "none"))

PathText = Annotated[str, Meta(min_length=1, max_length=4096, pattern=r"^[^\x00]+$")]
Name = Annotated[str, matching(_NAME)]
NativeId = Annotated[str, matching(r"[0-9A-Fa-f]{4,16}(-[0-9A-Fa-f]{4,12}){0,4}")]
PoolId = Annotated[str, matching(r"[0-9A-Za-z]{6}(-[0-9A-Za-z]{4}){5}-[0-9A-Za-z]{6}")]
Number = Annotated[int, Meta(ge=1, le=16384)]
Label = Annotated[str, matching(_SHOWN, 255)]
Serial = Annotated[str, matching(rf"[A-Za-z0-9][A-Za-z0-9_.-]{{0,{MOST_OF_SERIAL - 1}}}")]
MountOption = Annotated[str, matching(r"[A-Za-z0-9_.:=/+-]+", 200)]
Right = Literal["full", "change", "read"]
Attribute = Literal["read-only", "hidden", "no-letter"]
System = Literal["linux", "windows"]
SYSTEMS: tuple[System, ...] = ("linux", "windows")
