"""The target: which sessions there are, and the units that each initiator has."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager

from narvet.ground.values import Draft, field
from narvet.lending.contract import Client, Shelf
from narvet.lending.iscsi.chap import Logins
from narvet.lending.iscsi.login import log_in
from narvet.lending.iscsi.session import Session
from narvet.lending.scsi.unit import Unit
from narvet.lending.visit import PATIENCE, Visit
from narvet.lending.wire import SocketWire

_MOST_HOMES = 256
_OTHERS_GO = 20.0  # seconds that a session has to end once the same initiator begins it anew


class _Home(Draft):
    """The units of an initiator, or of all of them, as long as it may come back; `is_left` once it has logged out."""

    units: Mapping[int, Unit]
    stack: ExitStack
    sessions: int = 0
    is_left: bool = False


class _Running(Draft):
    wire: SocketWire
    has_ended: threading.Event = field(default_factory=threading.Event)


class IscsiSpeaker:
    """Lends what is on a shelf as the units of one target, numbered in the shelf's order.

    An initiator that has disks of its own keeps them while it is away without having logged out.
    """

    def __init__(self, shelf: Shelf, target: str, logins: Logins | None = None) -> None:
        self._shelf = shelf
        self._target = target
        self._logins = logins
        self._homes: dict[str, _Home] = {}
        self._running: dict[tuple[str, bytes], _Running] = {}
        self._handles = itertools.cycle(range(1, 1 << 16))
        self._guard = threading.Lock()

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what is lent."""
        return self._shelf.names

    def about(self, name: str) -> str:
        """Return what a disk is, for people."""
        disk = self._shelf.about(name)
        return f"{disk.about}, unit {self._shelf.names.index(name)}" if disk else ""

    def url(self, name: str, address: str, path: str) -> str:
        """Return where a disk is: address, target and unit, as hypervisors take it."""
        del path
        return f"iscsi://{address}/{self._target}/{self._shelf.names.index(name)}"

    def speak(self, visit: Visit) -> None:
        """Let an initiator log in, and serve its session."""
        wire, client = visit.wire, visit.client
        wire.patience(PATIENCE)
        with ExitStack() as stack:

            def let_in(initiator: str, isid: bytes) -> None:
                stack.enter_context(self._only(wire, initiator, isid))

            logged_in = log_in(wire, self._target, self._logins, next(self._handles), let_in)
            address = _shown(wire)
            if logged_in.is_discovery:
                client.disk = "discovery"
                Session(wire, {}, logged_in, client, self._target, address).serve(visit.is_ending)
                return
            client.disk = ", ".join(self._shelf.names)
            home = stack.enter_context(self._home(logged_in.initiator, client))
            visit.took()
            wire.patience(None)
            session = Session(wire, home.units, logged_in, client, self._target, address)
            session.serve(visit.is_ending)
            home.is_left = session.has_logged_out

    @contextmanager
    def _only(self, wire: SocketWire, initiator: str, isid: bytes) -> Iterator[None]:
        """End the session that an initiator begins anew, before it goes on (RFC 7143, section 6.3.5)."""
        key, own = (initiator, isid), _Running(wire)
        with self._guard:
            before = self._running.get(key)
            self._running[key] = own
        if before is not None:
            before.wire.close()
            before.has_ended.wait(_OTHERS_GO)
        try:
            yield
        finally:
            own.has_ended.set()
            with self._guard:
                if self._running.get(key) is own:
                    del self._running[key]

    @contextmanager
    def _home(self, initiator: str, client: Client) -> Iterator[_Home]:
        """Give an initiator its units; what it wrote is on stable storage once it goes, however it does."""
        key = self._key(initiator)
        with self._guard:
            home = self._homes.get(key) or self._made(key, client)
            home.sessions, home.is_left = home.sessions + 1, False
        try:
            yield home
        finally:
            try:
                for unit in home.units.values():
                    unit.disk.flush()
            finally:
                with self._guard:
                    home.sessions -= 1
                    if home.is_left and key and not home.sessions:
                        self._homes.pop(key).stack.close()

    def _key(self, initiator: str) -> str:
        """Return whose units an initiator has: its own, or those that everybody shares."""
        shared = all(disk is None or disk.is_shared for disk in map(self._shelf.about, self._shelf.names))
        return "" if shared else initiator

    def _made(self, key: str, client: Client) -> _Home:
        if len(self._homes) >= _MOST_HOMES:
            away = next((key for key, home in self._homes.items() if not home.sessions), None)
            if away is not None:
                self._homes.pop(away).stack.close()
        with ExitStack() as stack:
            disks = [stack.enter_context(self._shelf.lend(name, client)) for name in self._shelf.names]
            units = {number: Unit(number, disk) for number, disk in enumerate(disks)}
            home = self._homes[key] = _Home(units, stack.pop_all())
        return home

    def end(self) -> None:
        """Close all units."""
        with ExitStack() as stack:
            for home in self._homes.values():
                stack.push(home.stack)
            self._homes.clear()


def _shown(wire: SocketWire) -> str:
    """Return where an initiator reached the target (TargetAddress: RFC 7143, section 13.8)."""
    host, port = wire.sock.getsockname()[:2]
    return f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
