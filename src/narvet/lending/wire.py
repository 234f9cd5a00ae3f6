"""A connection to one client: bytes read exactly, bytes sent whole, over a plain socket or a sealed one."""

from __future__ import annotations

import io
import socket
from contextlib import suppress
from typing import Protocol, cast

_BUFFER = 1 << 16


class WireClosedError(Exception):
    """The client has gone, or says nothing for too long."""


class Wire(Protocol):
    """The two directions of a connection."""

    def take(self, length: int) -> bytes:
        """Return exactly so many bytes; WireClosedError where they do not come."""

    def take_into(self, room: memoryview) -> None:
        """Fill some memory; WireClosedError where the bytes do not come."""

    def give(self, *parts: bytes | memoryview) -> None:
        """Send bytes; WireClosedError where nobody takes them."""


class SocketWire:
    """A wire over a socket."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        self._reader = cast(io.BufferedReader, sock.makefile("rb", buffering=_BUFFER))

    def patience(self, seconds: float | None) -> None:
        """Wait at most so long for each byte from now on, None for ever."""
        self.sock.settimeout(seconds)

    def take(self, length: int) -> bytes:
        """Return exactly so many bytes."""
        try:
            found = self._reader.read(length)
        except (OSError, ValueError) as error:
            raise WireClosedError(str(error)) from None
        if found is None or len(found) != length:
            raise WireClosedError("the connection ended")
        return found

    def take_into(self, room: memoryview) -> None:
        """Fill some memory."""
        done = 0
        try:
            while done < len(room):
                count = self._reader.readinto(room[done:])
                if not count:
                    raise WireClosedError("the connection ended")
                done += count
        except (OSError, ValueError) as error:
            raise WireClosedError(str(error)) from None

    def give(self, *parts: bytes | memoryview) -> None:
        """Send bytes, all at once where the socket takes several parts."""
        try:
            if len(parts) == 1:
                self.sock.sendall(parts[0])
            elif sum(map(len, parts)) <= _BUFFER:
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
            self._reader.close()
        with suppress(OSError):
            self.sock.close()
