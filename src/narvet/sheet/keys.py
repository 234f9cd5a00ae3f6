"""The keys of the sheet's forms as values: what each means, what kind of value it takes, what stands in for it. Pure.

Everything that lists keys asks here: docs/sheet.md, tables of requests and the options of `narvet draft`.
"""

from __future__ import annotations

from enum import Enum
from functools import lru_cache
from typing import Any, get_args

from msgspec import NODEFAULT

from narvet.ground.values import Frozen
from narvet.sheet.base import Form, fields_of, schema_of


class Kind(Enum):
    """What a key's value is in TOML."""

    TEXT = "text"
    WHOLE = "whole number"
    YES_OR_NO = "true or false"
    LIST = "list of texts"
    TABLES = "table, or list of tables"


class Key(Frozen):
    """A key of a form: its meaning and what stands in for it, both in Markdown, and the kind of its value."""

    meaning: str
    usual: str
    kind: Kind


@lru_cache
def keys_of(form: type[Form]) -> dict[str, Key]:
    """Return the keys of a form, in the order in which it declares them."""
    shapes = schema_of(form)["$defs"][form.__name__]["properties"]
    found = {}
    for field in fields_of(form):
        key, meant = field.encode_name, get_args(field.type)[-1].extra
        usual = meant["usual"] or ("required" if field.required else _shown(field.default))
        found[key] = Key(meant["meaning"], usual, _kind(shapes[key]))
    return found


def flat_keys(form: type[Form]) -> tuple[str, ...]:
    """Return the keys of a form whose values are no tables: those that a row of a table of requests can hold."""
    return tuple(key for key, found in keys_of(form).items() if found.kind is not Kind.TABLES)


def key_table(form: type[Form]) -> str:
    """Return the keys of a form as a Markdown table."""
    rows = [f"| `{key}` | {found.meaning} | {found.usual} |\n" for key, found in keys_of(form).items()]
    return "| key | | default |\n|---|---|---|\n" + "".join(rows)


def _shown(default: Any) -> str:
    if isinstance(default, bool):
        return "true" if default else "false"
    if default is NODEFAULT or not default:
        return ""
    return f"`{default}`" if isinstance(default, str) else str(default)


def _kind(shape: dict[str, Any]) -> Kind:
    """Return the kind of a key from its JSON schema."""
    shape = next((part for part in shape.get("anyOf", ()) if part.get("type") != "null"), shape)
    whole = shape.get("type") == "integer" or any(isinstance(value, int) for value in shape.get("enum", ()))
    match shape.get("type"):
        case "array":
            return Kind.TABLES if "$ref" in shape["items"] else Kind.LIST
        case "boolean":
            return Kind.YES_OR_NO
        case "object":
            return Kind.TABLES
        case _ if "$ref" in shape:
            return Kind.TABLES
        case _:
            return Kind.WHOLE if whole else Kind.TEXT
