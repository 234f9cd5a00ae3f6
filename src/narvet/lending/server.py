"""A server of disks: it listens, has a thread for each client, and ends so that nothing acknowledged is lost."""

from __future__ import annotations

import os
import socket
import stat
import threading
import time
from contextlib import suppress
from pathlib import Path

from narvet.ground.errors import RequestError
from narvet.ground.values import Frozen
from narvet.lending.contract import Client, OnClient
from narvet.lending.visit import Speaker, Visit
from narvet.lending.wire import RefusedClientError, SocketWire, WireClosedError

MOST_CLIENTS = 256
"""Clients at once; further ones are sent away."""
_BACKLOG = 64
_LAST_WORDS = 10.0  # seconds that answers under way have when the server ends


class Address(Frozen):
    """Where a server listens: a host and a port, or the path of a socket in a folder."""

    host: str = "127.0.0.1"
    port: int = 0
    path: str = ""

    @property
    def is_local(self) -> bool:
        """Whether only this machine reaches it."""
        return bool(self.path) or self.host == "localhost" or self.host.startswith("127.") or self.host == "::1"

    def __str__(self) -> str:
        if self.path:
            return self.path
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"


class Server:
    """Lends disks in the protocol of its speaker at an address, from `start` to `end`."""

    def __init__(self, speaker: Speaker, address: Address, heard: OnClient) -> None:
        self._speaker = speaker
        self._heard = heard
        self._socket = _listening(address)
        self._wires: dict[int, SocketWire] = {}
        self._threads: dict[int, threading.Thread] = {}
        self._guard = threading.Lock()
        self._ending = threading.Event()
        self._accepting = threading.Thread(target=self._accept, name="lend", daemon=True)
        self.address = address if address.path else _bound(address, self._socket)
        self.clients: dict[int, Client] = {}

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what is lent."""
        return self._speaker.names

    def about(self, name: str) -> str:
        """Return what a disk is, for people."""
        return self._speaker.about(name)

    def url(self, name: str) -> str:
        """Return where a disk is, as most clients take it."""
        return self._speaker.url(name, str(self.address), self.address.path)

    def start(self) -> None:
        """Begin to listen."""
        self._accepting.start()

    def end(self) -> None:
        """Take no more requests, answer those that are under way, and let every client go.

        What was acknowledged is on stable storage once this returns, as each client's disk is flushed when it goes.
        """
        self._ending.set()
        with suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()
        if self.address.path:
            Path(self.address.path).unlink(missing_ok=True)
        if self._accepting.is_alive():
            self._accepting.join(_LAST_WORDS)
        for wire in self._open():
            wire.end_reading()
        until = time.monotonic() + _LAST_WORDS
        for thread in list(self._threads.values()):
            thread.join(max(until - time.monotonic(), 0))
        for wire in self._open():
            wire.close()
        for thread in list(self._threads.values()):
            thread.join()
        self._speaker.end()

    def _open(self) -> list[SocketWire]:
        with self._guard:
            return list(self._wires.values())

    def _accept(self) -> None:
        number = 0
        while not self._ending.is_set():
            try:
                sock, where = self._socket.accept()
            except OSError:
                if self._ending.is_set():
                    return
                time.sleep(0.1)  # out of handles: others have to go first
                continue
            number += 1
            client = Client(number, _shown(where))
            if len(self._threads) >= MOST_CLIENTS:
                sock.close()
                self._heard("refused", client, f"{MOST_CLIENTS} clients are here already")
                continue
            if sock.family != socket.AF_UNIX:
                sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
            thread = threading.Thread(target=self._speak, args=(client, SocketWire(sock)), daemon=True)
            with self._guard:
                self._threads[number] = thread
            thread.start()

    def _speak(self, client: Client, wire: SocketWire) -> None:
        """Have one client from its first byte to its last."""
        self._keep(client, wire)
        try:
            self._heard("came", client, "")
            self._serve(client, wire)
        finally:
            with self._guard:
                last = self._wires.pop(client.number, wire)
                self.clients.pop(client.number, None)
            last.close()
            self._threads.pop(client.number, None)

    def _serve(self, client: Client, wire: SocketWire) -> None:
        visit = Visit(
            client, wire, lambda other: self._keep(client, other), lambda: self._heard("took", client, ""),
            self._ending.is_set,
        )  # fmt: skip
        try:
            self._speaker.speak(visit)
        except WireClosedError as error:
            self._heard("went", client, "" if client.disk else str(error))
        except RefusedClientError as error:
            self._heard("refused", client, str(error))
        except Exception as error:  # what one client brings about must not end the others
            self._heard("refused", client, f"{type(error).__name__}: {error}")
        else:
            self._heard("went", client, "")

    def _keep(self, client: Client, wire: SocketWire) -> None:
        with self._guard:
            self._wires[client.number] = wire
            self.clients[client.number] = client
        if self._ending.is_set():
            wire.end_reading()


def _listening(address: Address) -> socket.socket:
    """Return a socket that listens.

    Raises:
        RequestError: the address cannot be had.
    """
    try:
        if address.path:
            _clear(address.path)
            sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            before = os.umask(0o177)
            try:
                sock.bind(address.path)
            finally:
                os.umask(before)
        else:
            family = socket.AF_INET6 if ":" in address.host else socket.AF_INET
            sock = socket.socket(family, socket.SOCK_STREAM)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.bind((address.host, address.port))
        sock.listen(_BACKLOG)
    except OSError as error:
        told = error.strerror or str(error)
        raise RequestError(f"{address}: nothing can listen there: {told}; give another address, --at") from None
    return sock


def _clear(path: str) -> None:
    """Remove a socket that an earlier run left and nobody listens at."""
    with suppress(OSError):
        if not stat.S_ISSOCK(os.lstat(path).st_mode):
            return
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as tried:
            try:
                tried.connect(path)
            except ConnectionRefusedError:
                Path(path).unlink()


def _bound(address: Address, sock: socket.socket) -> Address:
    return Address(address.host, sock.getsockname()[1])


def _shown(where: object) -> str:
    if isinstance(where, tuple) and len(where) >= 2:
        return f"[{where[0]}]:{where[1]}" if ":" in str(where[0]) else f"{where[0]}:{where[1]}"
    return "this machine"
