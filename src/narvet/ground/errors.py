"""The errors, split by whose fault they are; each class carries the exit status a command ends with.

A message is one or two short sentences: what is wrong, where, and what to do.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable
from difflib import get_close_matches
from typing import ClassVar

_MOST_LISTED = 60  # keys and names in a message


class NarvetError(Exception):
    """The root of every error Narvet raises on purpose."""

    status: ClassVar[int] = 3


class RequestError(NarvetError):
    """The call or the sheet is wrong; the person asking can correct it."""

    status = 2


class UnsupportedError(NarvetError):
    """Valid by its specification, but not something Narvet can do yet."""

    status = 2


class ImageError(NarvetError):
    """The bytes of an image break their format's specification."""

    status = 1


class GoneError(ImageError):
    """What an image stands for lies elsewhere, and is there no more."""


class UntrustedError(ImageError):
    """An image names another file that Narvet does not follow unasked."""


class RefusedError(NarvetError):
    """The system refused: no room, no permission, an I/O error, another Narvet at work."""

    status = 3


class UnfinishedError(NarvetError):
    """Several parts of some work were not done, each for a reason of its own; the others are."""

    status = 1


class BugError(NarvetError):
    """Narvet broke a promise to itself; nothing the person asking did is wrong."""

    status = 3


def nearest(asked: str, known: Iterable[str]) -> str:
    """Return the end of a message about a word that is not known: the nearest known one, or, of few, all of them."""
    words = list(known)
    near = get_close_matches(asked, words, n=1, cutoff=0.6)
    if near:
        return f'; the nearest is "{near[0]}"'
    return f"; it has {', '.join(words)}" if 0 < len(words) <= _MOST_LISTED else ""


def printable(text: str, keep: str = "") -> str:
    """Return a text that is not trusted with a mark in place of whatever a terminal might obey, but for `keep`.

    Marked are control and format characters, what is no character at all, and the parts of names that are no UTF-8.
    """
    if text.isprintable():
        return text
    return "".join(sign if is_harmless(sign) or sign in keep else "\N{REPLACEMENT CHARACTER}" for sign in text)


def flat(text: str) -> str:
    """Return a text for programs and files: with plain spaces where no line may end, and no blanks at line ends."""
    return "\n".join(line.rstrip(" ") for line in text.replace("\N{NO-BREAK SPACE}", " ").split("\n"))


def is_harmless(text: str) -> bool:
    """Return whether all characters only show something: also spaces of all widths, but nothing that breaks lines."""
    return text.isprintable() or all(sign.isprintable() or unicodedata.category(sign) == "Zs" for sign in text)
