"""Lending over NBD, from a client's first byte to its last."""

from __future__ import annotations

from narvet.lending.contract import Shelf
from narvet.lending.nbd import handshake, transmission
from narvet.lending.visit import PATIENCE, Visit
from narvet.lending.wire import SocketWire


class NbdSpeaker:
    """Lends what is on a shelf; with `sealing` every connection is sealed before anything is told."""

    def __init__(self, shelf: Shelf, sealing: handshake.Sealing | None = None) -> None:
        self._shelf = shelf
        self._sealing = sealing

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what is lent."""
        return self._shelf.names

    def about(self, name: str) -> str:
        """Return what a disk is, for people."""
        disk = self._shelf.about(name)
        return disk.about if disk else ""

    def url(self, name: str, address: str, path: str) -> str:
        """Return where a disk is, by the URIs of the protocol's project (doc/uri.md)."""
        return f"nbd+unix:///{name}?socket={path}" if path else f"nbd://{address}/{name}"

    def speak(self, visit: Visit) -> None:
        """Agree with a client on a disk, and answer its requests."""
        visit.wire.patience(PATIENCE)
        wire, agreed = handshake.agree(visit.wire, self._shelf, self._sealing)
        if isinstance(wire, SocketWire):
            visit.client.is_sealed = wire is not visit.wire
            visit.keep(wire)
            wire.patience(None)
        fault: Exception | None = None
        with self._shelf.lend(agreed.name, visit.client) as disk:
            visit.client.disk = disk.name
            visit.took()
            try:
                transmission.serve(wire, disk, agreed, visit.client, visit.is_ending)
            except Exception as error:  # the disk is closed well, however its client goes
                fault = error
        if fault is not None:
            raise fault

    def end(self) -> None:
        """Do nothing: a disk of one client is closed as that goes."""
