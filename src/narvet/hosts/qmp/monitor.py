"""A monitor spoken to from plain code: commands and events one after another, each with a bound of time.

The protocol itself is QEMU's own package's. A monitor serves one client at a time: another one gets no greeting.
"""

from __future__ import annotations

import asyncio
import os
import socket
import struct
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from qemu.qmp import ExecuteError, QMPClient

from narvet.ground.errors import RefusedError, printable

_GREETING = 3.0  # seconds in which a monitor that is free has greeted, also on a busy host
_GLANCE, _ANSWER = 5.0, 60.0  # seconds for one command: to look, and to work, as opening an image can take some
_LOOK, _WORK = 30.0, 36000.0  # seconds for all of them
_LONGEST_PATH = 107  # bytes of a socket's name (unix(7))


class CommandError(RefusedError):
    """The hypervisor refused a command; the text is its own."""


class Monitor:
    """A monitor that has greeted. `process` is the hypervisor's number here, None where the system does not tell."""

    def __init__(
        self, runner: asyncio.Runner, client: QMPClient, place: Path, process: int | None, *, only_look: bool
    ) -> None:
        self._runner = runner
        self._seconds, in_all = (_GLANCE, _LOOK) if only_look else (_ANSWER, _WORK)
        self._ends = time.monotonic() + in_all
        self._client = client
        self._place = place
        self.process = process

    def execute(self, command: str, **arguments: Any) -> Any:
        """Send a command to the hypervisor and return what it replies.

        Raises:
            CommandError: the hypervisor refused it.
            RefusedError: it does not answer.
        """
        seconds = min(self._seconds, max(self._ends - time.monotonic(), 0))
        try:
            return self._runner.run(asyncio.wait_for(self._client.execute(command, arguments), seconds))
        except ExecuteError as error:
            raise CommandError(printable(error.error.error.desc)[:500]) from None
        except Exception as error:  # of whatever kind: the other end need not follow the protocol
            raise RefusedError(f"{self._place}: the guest's hypervisor does not answer: {_told(error)}") from None

    def execute_and_wait(self, command: str, arguments: dict[str, Any], seconds: float, *events: str) -> Iterator[Any]:
        """Yield the events of some names that come after a command, in at most so many seconds."""
        with self._client.listener(events) as heard:
            with suppress(CommandError):
                self.execute(command, **arguments)
            ends = self._runner.get_loop().time() + seconds
            while (left := ends - self._runner.get_loop().time()) > 0:
                try:
                    yield self._runner.run(asyncio.wait_for(heard.get(), left))
                except TimeoutError:
                    return
                except Exception as error:  # likewise
                    raise RefusedError(f"{self._place}: the guest's hypervisor is gone: {_told(error)}") from None


@contextmanager
def monitor(place: Path, *, only_look: bool = False) -> Iterator[Monitor]:
    """Hold the monitor at a socket; with `only_look` it has to answer soon.

    Raises:
        RefusedError: it does not greet in time, as another program has it, or is no monitor.
        FileNotFoundError, ConnectionRefusedError: nobody listens there: the guest is off.
    """
    link = _connected(place)
    with link, asyncio.Runner() as runner:
        client = QMPClient()
        try:
            runner.run(asyncio.wait_for(client.connect(link), _GREETING))
        except TimeoutError:
            raise RefusedError(
                f"{place}: the guest's monitor does not greet; another program has it, end that one's use of it first"
            ) from None
        except Exception as error:  # likewise
            raise RefusedError(f"{place}: this is not the monitor of a guest: {_told(error)}") from None
        try:
            yield Monitor(runner, client, place, _peer(link), only_look=only_look)
        finally:
            with suppress(Exception):  # it is over either way
                runner.run(asyncio.wait_for(client.disconnect(), _GREETING))


def _connected(place: Path) -> socket.socket:
    """Return a connection to a socket, by a short way where its name is too long for the system."""
    if place.exists() and not place.is_socket():
        raise RefusedError(f"{place}: this is not a socket; correct the guest's door")
    link = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_CLOEXEC)
    link.settimeout(_GREETING)
    folder: int | None = None
    try:
        name = str(place)
        if len(os.fsencode(name)) > _LONGEST_PATH:
            folder = os.open(place.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            name = f"/proc/self/fd/{folder}/{place.name}"
        link.connect(name)
    except BaseException:
        link.close()
        raise
    finally:
        if folder is not None:
            os.close(folder)
    link.setblocking(False)
    return link


def _peer(link: socket.socket) -> int | None:
    """Return the number of the process at the other end (unix(7), SO_PEERCRED)."""
    if not hasattr(socket, "SO_PEERCRED"):
        return None
    number: int = struct.unpack("3i", link.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))[0]
    return number or None


def _told(error: BaseException) -> str:
    return printable(str(error) or type(error).__name__).splitlines()[0][:200]
