"""The errors, split by whose fault they are; each class carries the exit status a command ends with.

A message is one or two short sentences: what is wrong, where, and what to do.
"""

from __future__ import annotations

from typing import ClassVar


class NarvetError(Exception):
    """The root of every error Narvet raises on purpose."""

    status: ClassVar[int] = 3


class RequestError(NarvetError):
    """The call or the sheet is wrong; the person asking can mend it."""

    status = 2


class UnsupportedError(NarvetError):
    """Valid by its specification, but not something Narvet can do yet."""

    status = 2


class ImageError(NarvetError):
    """The bytes of an image break their format's specification."""

    status = 1


class RefusedError(NarvetError):
    """The system refused: no room, no permission, an I/O error, another Narvet at work."""

    status = 3


class BugError(NarvetError):
    """Narvet broke a promise to itself; nothing the person asking did is wrong."""

    status = 3
