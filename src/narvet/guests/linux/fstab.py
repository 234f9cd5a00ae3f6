"""The text of fstab, by the manual page fstab(5): lines read, made and added, every other byte kept."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from narvet.model.estate import MountEntry

_BLANKS = re.compile(rb"[ \t]+")  # nothing else separates fields
_ESCAPE = re.compile(rb"\\([0-7]{3})")
_ESCAPED = str.maketrans({sign: f"\\{ord(sign):03o}" for sign in " \t\n\\#"})


def parse_fstab(content: bytes) -> tuple[MountEntry, ...]:
    """Return the entries of an fstab; comments, blank lines and lines without a mount point are passed over."""
    entries = []
    for number, line in enumerate(content.split(b"\n"), 1):
        fields = _BLANKS.split(line.strip(b" \t\r"))
        if len(fields) < 2 or fields[0].startswith(b"#"):
            continue
        spec, file, kind, options, freq, passno, *_ = *map(_unescape, fields), *[""] * 4
        entries.append(MountEntry(spec, _plain(file), kind, options, _number(freq), _number(passno), number))
    return tuple(entries)


def fstab_line(entry: MountEntry) -> str:
    """Return an entry as a line of fstab, without its end."""
    fields = (entry.spec, entry.file, entry.vfstype, entry.mntops)
    return " ".join([*(field.translate(_ESCAPED) for field in fields), str(entry.freq), str(entry.passno)])


def with_entries(content: bytes, entries: Iterable[MountEntry]) -> bytes:
    """Return an fstab with lines added at its end; what it held before is kept to the byte."""
    lines = "".join(fstab_line(entry) + "\n" for entry in entries).encode("utf-8", "surrogateescape")
    joint = b"\n" if content and lines and not content.endswith(b"\n") else b""
    return content + joint + lines


def with_lines(content: bytes, entries: Mapping[int, MountEntry]) -> bytes:
    """Return an fstab with entries in the place of some lines, counted from 1; every other byte is kept."""
    lines = content.split(b"\n")
    for number, entry in entries.items():
        lines[number - 1] = fstab_line(entry).encode("utf-8", "surrogateescape")
    return b"\n".join(lines)


def without_lines(content: bytes, numbers: Iterable[int]) -> bytes:
    """Return an fstab without some lines, counted from 1; every other byte is kept."""
    gone = set(numbers)
    return b"\n".join(line for number, line in enumerate(content.split(b"\n"), 1) if number not in gone)


def _unescape(field: bytes) -> str:
    return _ESCAPE.sub(lambda match: bytes([int(match[1], 8) & 0xFF]), field).decode("utf-8", "surrogateescape")


def _plain(file: str) -> str:
    """Return a mount point without doubled or trailing slashes, as mount points are compared."""
    return "/" + "/".join(part for part in file.split("/") if part) if file.startswith("/") else file


def _number(text: str) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else 0
