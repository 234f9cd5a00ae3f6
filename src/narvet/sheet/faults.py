"""What is wrong with the content of a sheet: each fault with the path of its key, and words that name it. Pure.

The package that makes forms stops at the first thing that is wrong. So it is asked once more for each part of a form
that it refused, and all is told in one go.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from types import UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin
from uuid import uuid4

from narvet.ground.errors import nearest
from narvet.sheet.base import Form, fields_of, form_of
from narvet.sheet.lines import KeyPath

Fault = tuple[KeyPath, str]
_KINDS = {
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "str": "text",
    "array": "a list",
    "object": "a table",
}
_MOST_SHOWN = 60
_OTHER_KIND = re.compile(r"Expected `(?P<kinds>[^`]+)`, got .*")
_SAID = (
    (r"Expected `int` >= (-?\d+)", r"{shown} is {value}, at least \1 expected"),
    (r"Expected `int` <= (-?\d+)", r"{shown} is {value}, at most \1 expected"),
    (r"Expected `str` of length >= \d+", r"{shown} is empty"),
    (r"Expected `str` of length <= (\d+)", r"{shown} has more than \1 characters"),
    (r"Expected `str` matching regex .*", r"{shown}: {value} has characters that are not allowed there, or too many"),
    (r"Invalid UUID", r"{shown} is {value}, a UUID expected"),
)
"""What the package says of a value, and what Narvet says instead."""


def faults_of(kind: Any, value: object, path: KeyPath = (), *, in_bytes: bool = False) -> Iterator[Fault]:
    """Yield what is wrong with a value that is to be of a kind: a form, or the type of one of its keys.

    `path` is where it stands; with `in_bytes` sizes may be numbers of bytes.
    """
    try:
        form_of(kind, value, in_bytes=in_bytes)
    except ValueError as error:
        inside = _inside(kind, value, path, in_bytes=in_bytes)
        yield next(inside, None) or (path, _words(kind, value, path, str(error)))
        yield from inside


def _inside(kind: Any, value: object, path: KeyPath, *, in_bytes: bool) -> Iterator[Fault]:
    """Yield what is wrong with the parts of a value."""
    members = _members(kind)
    if isinstance(value, list):
        for each in (get_args(one)[0] for one in members if get_origin(one) is tuple):
            for index, one in enumerate(value):
                yield from faults_of(each, one, (*path, index), in_bytes=in_bytes)
    if not isinstance(value, dict):
        return
    for form in (one for one in members if _is_form(one)):
        yield from _in_form(form, value, path, in_bytes=in_bytes)
    for names, each in (get_args(one) for one in members if get_origin(one) is dict):
        for name, one in value.items():
            yield from faults_of(names, name, (*path, name))
            yield from faults_of(each, one, (*path, name), in_bytes=in_bytes)


def _in_form(form: type[Form], value: Mapping[str, object], path: KeyPath, *, in_bytes: bool) -> Iterator[Fault]:
    fields = {one.encode_name: one for one in fields_of(form)}
    for key in value:
        if key not in fields:
            told = f'{show_path(path) or "the sheet"} has no key "{key}"{nearest(key, list(fields))}'
            yield (*path, key), told
    for key, field in fields.items():
        if key in value:
            yield from faults_of(field.type, value[key], (*path, key), in_bytes=in_bytes)
        elif field.required and (*path, key) == ("identity",):
            yield (key,), f'identity is missing; ids are derived from it: put in identity = "{uuid4()}"'
        elif field.required:
            yield (*path, key), f"{show_path((*path, key))} is missing"


def _words(kind: Any, value: object, path: KeyPath, message: str) -> str:
    """Return what is wrong with a value, from the message of the package that refused it."""
    shown = show_path(path)
    if message.startswith("Invalid enum value"):
        return f"{shown} is {_shown(value)}, {_either(kind)} expected"
    if match := _OTHER_KIND.fullmatch(message):
        kinds = [_KINDS.get(one, one) for one in match["kinds"].split(" | ") if one != "null"]
        return f"{shown or 'the sheet'} is {_shown(value)}, {' or '.join(kinds)} expected"
    for pattern, words in _SAID:
        if match := re.fullmatch(pattern, message, re.DOTALL):
            return match.expand(words).format(shown=shown, value=_shown(value))
    return f"{shown}: {message}" if shown else message


def _shown(value: object) -> str:
    """Return a value as it is named in a message."""
    if isinstance(value, dict | list):
        return "a table" if isinstance(value, dict) else "a list"
    text = str(value).lower() if isinstance(value, bool) else f"{value!r}" if isinstance(value, str) else str(value)
    return text if len(text) <= _MOST_SHOWN else f"{text[:_MOST_SHOWN]}…"


def _either(kind: Any) -> str:
    """Return the words that a value can be one of."""
    words = [repr(word) for one in _members(kind) if get_origin(one) is Literal for word in get_args(one)]
    return " or ".join([part for part in (", ".join(words[:-1]), words[-1]) if part])


def show_path(path: KeyPath) -> str:
    """Return a key path as a person counts: disk.trials.partition 2.size."""
    text = ""
    for part in path:
        text += f" {part + 1}" if isinstance(part, int) else f".{part}"
    return text.removeprefix(".")


def _members(kind: Any) -> list[Any]:
    """Return what a value of a kind can be: the types that stand in it, without what is told of them."""
    if get_origin(kind) is Annotated:
        return _members(get_args(kind)[0])
    if get_origin(kind) in (Union, UnionType):
        return [member for one in get_args(kind) for member in _members(one)]
    return [kind]


def _is_form(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, Form)
