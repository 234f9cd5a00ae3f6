"""Who may log in where disks are lent: secrets from a file that only its owner reads."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from narvet.ground.errors import RequestError
from narvet.lending.iscsi.chap import LEAST_SECRET, Logins


def read_logins(path: Path) -> Logins:
    """Return the secrets of clients (`[clients]`, NAME = SECRET), and the server's own (`[server]`, `name`, `secret`).

    Raises:
        RequestError: the file cannot be read, others can read it, or it is not of that form.
    """
    try:
        mode = path.stat().st_mode
        found: dict[str, Any] = tomllib.loads(path.read_text("utf-8"))
    except OSError as error:
        raise RequestError(f"{path}: {error.strerror}; name a file with [clients] NAME = SECRET") from None
    except ValueError:
        raise RequestError(f"{path}: this is not TOML; it needs [clients] with a line NAME = SECRET for each") from None
    if mode & 0o077:
        raise RequestError(f"{path}: others may read these secrets; give it mode 0600")
    clients, server = found.pop("clients", None), found.pop("server", {})
    if found or not isinstance(clients, dict) or not clients or not isinstance(server, dict):
        raise RequestError(f"{path}: it needs [clients] with a line NAME = SECRET for each, and may have [server]")
    if server and set(server) != {"name", "secret"}:
        raise RequestError(f"{path}: [server] needs name and secret")
    for name, secret in (*clients.items(), *((server["name"], server["secret"]) for _ in server and (1,))):
        if (
            not isinstance(name, str)
            or not isinstance(secret, str)
            or not 0 < len(name) <= 255
            or "\0" in name + secret
        ):
            raise RequestError(f"{path}: {name}: names and secrets are text")
        if not LEAST_SECRET <= len(secret.encode()) <= 255:
            raise RequestError(f"{path}: {name}: its secret needs {LEAST_SECRET} to 255 bytes")
    if server and server["secret"] in clients.values():
        raise RequestError(f"{path}: the server and a client have one secret, which shows neither; give two")
    return Logins(clients, server.get("name", ""), server.get("secret", ""))
