"""The services that this program speaks with, each once; their tokens come from a file that the environment names."""

from __future__ import annotations

import os
import tomllib
from functools import cache
from pathlib import Path

from narvet.ground.errors import RequestError
from narvet.services.client import Service
from narvet.services.tokens import check_private, checked

TOKENS = "NARVET_TOKENS"
"""The variable that names the file: TOML, a line "URL" = "TOKEN" for each service."""


@cache
def service_at(url: str) -> Service:
    """Return the service at a URL, with its token if there is one for it.

    Raises:
        RequestError: the URL or the file of tokens is none.
    """
    return Service(url, _token_for(url))


def _token_for(url: str) -> str:
    named = os.environ.get(TOKENS)
    if not named:
        return ""
    path = Path(named)
    try:
        check_private(path)
        found = tomllib.loads(path.read_text("utf-8"))
    except OSError as error:
        raise RequestError(f"{path}: {error.strerror}; {TOKENS} names a file with a token for each service") from None
    except ValueError:
        raise RequestError(f'{path}: this is not TOML; it needs a line "URL" = "TOKEN" for each service') from None
    own = next((token for known, token in found.items() if known.rstrip("/") == url.rstrip("/")), "")
    return checked(own, path) if own else ""
