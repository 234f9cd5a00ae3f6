"""A sheet to be filled in: every key with its meaning, those that a disk needs with a value. Pure."""

from __future__ import annotations

from textwrap import fill
from uuid import UUID

from narvet.sheet.base import Form, plain
from narvet.sheet.contents import PartitionForm
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.keys import Kind, keys_of
from narvet.sheet.machines import GuestForm, StoreForm

_WIDTH = 100
_HEAD = """\
# A sheet for Narvet. Take the # from before a key to use it, and give it a value; tables can be repeated under other
# names. `narvet review` shows what comes of it, and writes nothing.
"""
_TABLES: tuple[tuple[str, type[Form], dict[str, str]], ...] = (
    ("", Sheet, {"sheet": "1", "identity": ""}),
    ("[store.shelf]", StoreForm, {"path": '"stores/shelf"'}),
    ("[guest.first]", GuestForm, {"runs": '"linux"'}),
    ("[disk.first]", DiskForm, {"guest": '"first"', "store": '"shelf"', "size": '"10 GiB"'}),
    ("[[disk.first.partition]]", PartitionForm, {"at": '"/srv/first"'}),
)


def blank_sheet(identity: UUID) -> str:
    """Return a sheet of one disk that can be reviewed as it is, with every other key in comments."""
    parts = [_HEAD]
    for header, form, values in _TABLES:
        given = {**values, "identity": f'"{identity}"'} if form is Sheet else values
        parts.append(f"{header}\n" if header else "")
        parts += [_key(key, form, given.get(key)) for key in keys_of(form) if not _is_tables(form, key)]
    return "\n".join(parts).replace("\n\n\n", "\n\n")


def _is_tables(form: type[Form], key: str) -> bool:
    """Return whether a key stands for tables of their own, which follow further down."""
    return keys_of(form)[key].kind is Kind.TABLES and key in ("store", "guest", "disk", "partition")


def _key(key: str, form: type[Form], value: str | None) -> str:
    known = keys_of(form)[key]
    usual = plain(known.usual)
    told = plain(known.meaning) + (f". Default: {usual}" if usual and not usual.startswith("required") else "")
    about = fill(told, _WIDTH, initial_indent="# ", subsequent_indent="# ", break_long_words=False)
    return f"{about}\n{key} = {value}\n" if value is not None else f"{about}\n# {key} =\n"
