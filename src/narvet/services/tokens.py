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
        mode = path.stat().st_mode
        with path.open("rb") as file:
            data = file.read(_LONGEST + 1)
    except OSError as error:
        raise RequestError(f"{path}: {error.strerror}; name a file with the token in it") from None
    if mode & 0o077:
        raise RequestError(f"{path}: others may read this token; give it mode 0600")
    line = data.partition(b"\n")[0].strip()
    if not line or len(line) > _LONGEST or not (line.isascii() and line.decode("ascii").isprintable()):
        raise RequestError(f"{path}: its first line is no token")
    return line.decode("ascii")
