"""Tokens that services know their customers by: from files that only their owner reads."""

from __future__ import annotations

from pathlib import Path

from narvet.ground.errors import RequestError

_LONGEST = 4096


def token_from(path: Path) -> str:
    """Return the first line of a file.

    Raises:
        RequestError: it cannot be read, others can read it, or it holds no token.
    """
    try:
        check_private(path)
        with path.open("rb") as file:
            data = file.read(_LONGEST + 1)
    except OSError as error:
        raise RequestError(f"{path}: {error.strerror}; name a file with the token in it") from None
    return checked(data.partition(b"\n")[0].strip().decode("latin-1"), path)


def check_private(path: Path) -> None:
    """Raise RequestError where others than its owner can read a file, OSError where there is none."""
    if path.stat().st_mode & 0o077:
        raise RequestError(f"{path}: others may read this token; give it mode 0600")


def checked(token: object, path: Path) -> str:
    """Return a token of a file.

    Raises:
        RequestError: it is none.
    """
    if not isinstance(token, str) or not 0 < len(token) <= _LONGEST or not (token.isascii() and token.isprintable()):
        raise RequestError(f"{path}: it holds what is no token")
    return token
