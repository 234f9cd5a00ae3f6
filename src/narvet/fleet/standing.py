"""Where this process stands: whether it does the work of a host, in which folder, and where other hosts reach it."""

from __future__ import annotations

import os
import socket
from pathlib import Path

from narvet.ground.errors import RefusedError, printable
from narvet.ground.values import Frozen


class Standing(Frozen):
    """What a process is among hosts.

    `folder` is the one that a host's stores and roots are in, None where it is no host's. `address` is what other hosts
    reach this machine at, empty where there are none; `certificates` is the folder of what seals the way, None where
    nothing does.
    """

    folder: Path | None = None
    address: str = ""
    certificates: Path | None = None


_standing = Standing()


def stand(standing: Standing) -> None:
    """Have this process stand somewhere among hosts; one of a host does steps in its folder, and nowhere else."""
    global _standing  # noqa: PLW0603 (a process is a host's, or is not)
    _standing = standing


def standing() -> Standing:
    """Return where this process stands."""
    return _standing


def address_towards(hub: str) -> str:
    """Return the address that this machine has on the way to a hub at HOST:PORT; empty if there is no way."""
    host, _, port = hub.rpartition(":")
    try:
        family, kind, _, _, where = socket.getaddrinfo(host.strip("[]"), int(port), type=socket.SOCK_DGRAM)[0]
        with socket.socket(family, kind) as way:
            way.connect(where)  # which sends nothing
            return str(way.getsockname()[0])
    except OSError:
        return ""


def placed(path: str) -> str:
    """Return a path that starts in this host's folder, if it is relative and this process is a host's."""
    return path if _standing.folder is None else os.path.join(_standing.folder, path)  # noqa: PTH118 (texts)


def stay_inside(*paths: str) -> None:
    """Raise RefusedError for a path that does not lie in this host's folder, if this process is one's."""
    folder = _standing.folder
    if folder is None:
        return
    top = os.path.realpath(folder)
    for path in paths:
        if os.path.commonpath((top, os.path.realpath(path))) != top:
            raise RefusedError(f"{printable(path)}: this host's folder is {folder}, and that is not in it")
