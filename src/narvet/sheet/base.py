"""What all tables of a sheet share: how a key is declared, once, with its type, default and meaning."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from functools import lru_cache
from typing import Any, TypeVar

from msgspec import NODEFAULT, Meta, ValidationError, convert, structs

from narvet.ground.values import Frozen

F = TypeVar("F", bound="Form")


def means(meaning: str, usual: str = "") -> Meta:
    """Return what a key means, in Markdown, and what stands in for it where the default is not a plain value."""
    return Meta(description=plain(meaning), extra={"meaning": meaning, "usual": usual})


def plain(meaning: str) -> str:
    """Return what a key means without Markdown."""
    return re.sub(r"\[([^]]*)\]\([^)]*\)", r"\1", meaning).replace("`", "")


def names(names: Iterable[str]) -> str:
    """Return names as a list in Markdown."""
    return ", ".join(f"`{name}`" for name in names)


class Form(Frozen, forbid_unknown_fields=True):
    """What all tables of a sheet share: no unknown keys, no change after reading."""

    def has(self, name: str) -> bool:
        """Return whether a field is anything but what stands in for it where the sheet does not have it."""
        usual = _usual(type(self))
        return name not in usual or bool(getattr(self, name) != usual[name])

    def given(self, names: Iterable[str]) -> list[str]:
        """Return the keys of those fields that the form has, in order of the alphabet."""
        return sorted(key_of(type(self), name) for name in names if self.has(name))


class Written(type):
    """The type of a kind of value that stands in a sheet in a way of its own.

    `read` makes the value from what stands there, or raises ValueError; `schema` is its JSON schema. `is_size` says
    that a number of bytes can be read too, where values do not come from a sheet.
    """

    read: Any
    schema: Mapping[str, Any]
    is_size: bool

    def __instancecheck__(cls, value: object) -> bool:
        """Return that a value is of this kind: whatever `read` returns is."""
        return True


def form_of(kind: type[F], content: object, *, in_bytes: bool = False) -> F:
    """Return a form with this content, as TOML gives it; with `in_bytes` sizes may be numbers of bytes.

    Raises:
        ValueError: it is not valid, or does not agree with itself.
    """
    try:
        return convert(content, kind, dec_hook=_in_bytes if in_bytes else _read)
    except ValidationError as error:
        raise ValueError(str(error)) from None


def _read(kind: Any, value: Any) -> Any:
    return kind.read(value)


def _in_bytes(kind: Any, value: Any) -> Any:
    return kind.read(f"{value} B" if kind.is_size and type(value) is int else value)


def schema_of(form: type[Form]) -> dict[str, Any]:
    """Return the JSON schema of a form, for editors (JSON Schema 2020-12)."""
    from msgspec import json

    return json.schema(form, schema_hook=_schema_of_written)


def _schema_of_written(kind: Any) -> dict[str, Any]:
    return dict(kind.schema)


def key_of(form: type[Form], name: str) -> str:
    """Return the key of a sheet that a field of a form stands for."""
    return form.__struct_encode_fields__[form.__struct_fields__.index(name)]


@lru_cache
def fields_of(form: type[Form]) -> tuple[structs.FieldInfo, ...]:
    """Return the fields of a form, in order."""
    return structs.fields(form)


@lru_cache
def _usual(form: type[Form]) -> dict[str, Any]:
    """Return what stands in for the fields of a form that need not be there."""
    found = {}
    for one in fields_of(form):
        if one.default is not NODEFAULT:
            found[one.name] = one.default
        elif one.default_factory is not NODEFAULT:
            found[one.name] = one.default_factory()
    return found
