"""What a server and whoever speaks with its clients in some protocol know of each other."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from narvet.ground.values import Frozen
from narvet.lending.contract import Client
from narvet.lending.wire import SocketWire

PATIENCE = 30.0
"""Seconds that a client has for each step until it has a disk."""


class Visit(Frozen):
    """One client's visit: who it is and its wire, which the server closes.

    `keep` gives the server another wire in place of the first; `took` says that the client has its disk now.
    """

    client: Client
    wire: SocketWire
    keep: Callable[[SocketWire], None]
    took: Callable[[], object]
    is_ending: Callable[[], bool]


class Speaker(Protocol):
    """Lends disks in one protocol."""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what is lent."""

    def about(self, name: str) -> str:
        """Return what a disk is, for people."""

    def url(self, name: str, address: str, path: str) -> str:
        """Return where a disk is, as most clients take it: at HOST:PORT, or at a socket's path."""

    def speak(self, visit: Visit) -> None:
        """Speak with a client until it goes, and have what it wrote on stable storage then.

        Raises:
            WireClosedError: it has gone.
            RefusedClientError: it does not keep to the protocol, or is not let in.
        """

    def end(self) -> None:
        """Close what is still open once the last client has gone."""
