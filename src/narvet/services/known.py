"""The services that this program speaks with, each once; their tokens come from a file that the environment names."""

from __future__ import annotations

import os
from functools import cache
from pathlib import Path

import tomli

from narvet.ground.errors import RequestError, printable
from narvet.services.calls import is_local
from narvet.services.client import Service
from narvet.services.tokens import check_private, checked

TOKENS = "NARVET_TOKENS"
"""The variable that names the file: TOML, a line "URL" = "TOKEN" for each service."""


_NAMED = set[str]()
"""The services that sheets of this run name."""


def service_named(url: str) -> Service:
    """Return the service at a URL that a sheet names, so that records may name it too.

    Raises:
        RequestError: the URL or the file of tokens is none.
    """
    _NAMED.add(_plain(url))
    return _service(_plain(url))


def service_recorded(url: str) -> Service:
    """Return the service that a record names, which is not trusted: only one that something else names is spoken with.

    Raises:
        RequestError: neither a sheet nor the file of tokens names it, and it is not on this machine; or as before.
    """
    plain = _plain(url)
    if plain not in _NAMED and not is_local(plain) and plain not in map(_plain, _tokens()[1]):
        raise RequestError(
            f"{printable(plain)[:200]}: only a record names this service; if that is right, add it to the file that "
            f"{TOKENS} names"
        )
    return _service(plain)


def _plain(url: str) -> str:
    return url.rstrip("/")


@cache
def _service(url: str) -> Service:
    path, tokens = _tokens()
    own = next((token for known, token in tokens.items() if _plain(known) == url), "")
    return Service(url, checked(own, path) if own else "")


def _tokens() -> tuple[Path, dict[str, object]]:
    """Return the file of tokens, and the tokens by the services they are for."""
    path = Path(os.environ.get(TOKENS, ""))
    if not os.environ.get(TOKENS):
        return path, {}
    try:
        check_private(path)
        return path, tomli.loads(path.read_text("utf-8"))
    except OSError as error:
        raise RequestError(f"{path}: {error.strerror}; {TOKENS} names a file with a token for each service") from None
    except ValueError:
        raise RequestError(f'{path}: this is not TOML; it needs a line "URL" = "TOKEN" for each service') from None
