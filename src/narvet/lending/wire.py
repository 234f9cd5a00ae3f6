"""A connection to one client: bytes read exactly, bytes sent whole, over a plain socket or a sealed one."""

from __future__ import annotations

import socket
from contextlib import suppress
from typing import Protocol

_BUFFER = 1 << 16


class WireClosedError(Exception):
    """The client has gone, or says nothing for too long."""


class RefusedClientError(Exception):
    """A client that does not keep to the protocol, asks for what there is not, or is not let in."""


class Wire(Protocol):
    """The two directions of a connection."""

    def take(self, length: int) -> bytes:
        """Return exactly so many bytes; WireClosedError where they do not come."""

    def take_into(self, room: memoryview) -> None:
        """Fill some memory; WireClosedError where the bytes do not come."""

    def give(self, *parts: bytes | memoryview) -> None:
        """Send bytes; WireClosedError where nobody takes them."""


class SocketWire:
    """A wire over a socket; what came ahead of what was taken is kept."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        self._ahead = b""

    def patience(self, seconds: float | None) -> None:
        """Wait at most so long for each byte from now on, None for ever."""
        self.sock.settimeout(seconds)

    def take(self, length: int) -> bytes:
        """Return exactly so many bytes."""
        data = self._ahead or (self._some() if length else b"")
        while len(data) < length:
            data += self._some()
        self._ahead = data[length:]
        return data[:length]

    def _some(self) -> bytes:
        try:
            data = self.sock.recv(_BUFFER)
        except (OSError, ValueError) as error:
            raise WireClosedError(str(error)) from None
        if not data:
            raise WireClosedError("the connection ended")
        return data

    def take_into(self, room: memoryview) -> None:
        """Fill some memory."""
        done = min(len(self._ahead), len(room))
        room[:done] = self._ahead[:done]
        self._ahead = self._ahead[done:]
        try:
            while done < len(room):
                count = self.sock.recv_into(room[done:])
                if not count:
                    raise WireClosedError("the connection ended")
                done += count
        except (OSError, ValueError) as error:
            raise WireClosedError(str(error)) from None

    def give(self, *parts: bytes | memoryview) -> None:
        """Send bytes, all at once where the socket takes several parts."""
        try:
            if len(parts[-1]) <= _BUFFER:
                self.sock.sendall(b"".join(parts))
            else:
                for part in parts:
                    self.sock.sendall(part)
        except (OSError, ValueError) as error:
            raise WireClosedError(str(error)) from None

    def end_reading(self) -> None:
        """Let no further request come; what is under way is still answered."""
        with suppress(OSError):
            socket.socket.shutdown(self.sock, socket.SHUT_RD)  # that of a sealed one would end its sealing

    def close(self) -> None:
        """End the connection at once."""
        with suppress(OSError):
            socket.socket.shutdown(self.sock, socket.SHUT_RDWR)
        with suppress(OSError):
            self.sock.close()
