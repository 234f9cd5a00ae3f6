"""What can be had of a storage service: volumes ordered, enlarged, attached, given back, each exactly once."""

from __future__ import annotations

import base64
import hashlib
import time
from collections.abc import Callable, Mapping
from types import TracebackType

import httpx

from narvet.ground.values import Frozen, field
from narvet.services.calls import Calls, NotDoneError, Waits
from narvet.services.words import Machine, Offer, State, Stored, Volume, told

MOST_AT_ONCE = 4 << 20
"""Bytes of a volume that one call moves."""
_MOST_TRIES = 100  # orders of one key of which each volume was given back
_FIRST_LOOK, _LONGEST_LOOK = 0.05, 3.0  # seconds between two looks at a volume

OnState = Callable[[Volume], object]


class Wanted(Frozen):
    """A volume to be ordered; `bytes` is a size that its class has."""

    zone: str
    kind: str
    bytes: int
    tags: Mapping[str, str] = field(default_factory=dict)


class Service:
    """A storage service at a URL.

    Every method raises NotDoneError (a RefusedError) where the service does not do what is asked, or does not answer,
    and ImageError where it answers otherwise than services do.
    """

    def __init__(self, url: str, token: str = "", waits: Waits | None = None) -> None:
        self._waits = waits or Waits()
        self._calls = Calls(url, token, self._waits)
        self.url = self._calls.url

    def __enter__(self) -> Service:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._calls.close()

    def offer(self) -> Offer:
        """Return what can be ordered."""
        return told(Offer, self._calls.ask("GET", "/v1/offer"), self.url)

    def guests(self) -> tuple[Machine, ...]:
        """Return the guests that volumes can be attached to."""
        return told(tuple[Machine, ...], self._calls.ask("GET", "/v1/guests"), self.url)

    def volumes(self, tag: str, value: str) -> tuple[Volume, ...]:
        """Return the volumes with a tag."""
        data = self._calls.ask("GET", "/v1/volumes", params={"tag": f"{tag}={value}"})
        return told(tuple[Volume, ...], data, self.url)

    def volume(self, number: str) -> Volume | None:
        """Return a volume as it is now, None where there is none any more."""
        try:
            return told(Volume, self._calls.ask("GET", f"/v1/volumes/{number}"), self.url)
        except NotDoneError as error:
            if error.code == 404:
                return None
            raise

    def order(self, key: str, wanted: Wanted, on_state: OnState = lambda _: None) -> Volume:
        """Return the volume that was ordered by a key, ordered now if it was not yet, once it is ready.

        One that cannot be made is given back, and another ordered. The same key never leaves two.
        """
        order = {"zone": wanted.zone, "class": wanted.kind, "bytes": wanted.bytes, "tags": dict(wanted.tags)}
        for number in range(1, _MOST_TRIES + 1):
            path = f"/v1/orders/{key}" if number == 1 else f"/v1/orders/{key}.{number}"
            try:
                volume = told(Volume, self._calls.ask("PUT", path, json=order), self.url)
            except NotDoneError as error:
                if error.code == 410:  # that of an earlier time was given back
                    continue
                raise
            found = self._until(volume.id, ("ready", "attached", "failed"), on_state)
            if found is None:
                continue
            if found.state != "failed":
                return found
            self.give_back(found.id)
        raise NotDoneError(f"{self.url}: the volume could not be made in {_MOST_TRIES} tries; ask the service's people")

    def enlarge(self, number: str, size: int) -> Volume:
        """Make a volume `size` bytes large."""
        return told(Volume, self._calls.ask("PUT", f"/v1/volumes/{number}/size", json={"bytes": size}), self.url)

    def attach(
        self, number: str, guest: str, position: int | None = None, on_state: OnState = lambda _: None
    ) -> Volume:
        """Attach a volume to a guest, and return it once it is there; without a position at the first that is free."""
        place = {"guest": guest, "position": position}
        self._calls.ask("PUT", f"/v1/volumes/{number}/place", json=place)
        return self._there(self._until(number, ("attached",), on_state), number)

    def detach(self, number: str, on_state: OnState = lambda _: None) -> Volume:
        """Detach a volume, and return it once it is free."""
        self._calls.ask("DELETE", f"/v1/volumes/{number}/place")
        return self._there(self._until(number, ("ready", "failed"), on_state), number)

    def give_back(self, number: str, on_state: OnState = lambda _: None) -> None:
        """Give a volume back with all its bytes, and return once it is gone; one that is gone already is no fault."""
        try:
            self._calls.ask("DELETE", f"/v1/volumes/{number}")
        except NotDoneError as error:
            if error.code != 404:
                raise
        self._until(number, (), on_state)

    def _there(self, volume: Volume | None, number: str) -> Volume:
        if volume is None:
            raise NotDoneError(f"{self.url}: volume {number} is gone; somebody else gave it back")
        return volume

    def _until(self, number: str, states: tuple[State, ...], on_state: OnState) -> Volume | None:
        """Look at a volume, less and less often, until it is in a state, or gone."""
        ends, wait = time.monotonic() + self._waits.step, _FIRST_LOOK
        while True:
            volume = self.volume(number)
            if volume is None or volume.state in states:
                return volume
            on_state(volume)
            if time.monotonic() > ends:
                raise NotDoneError(f"{self.url}: volume {number} is {volume.state} for too long; try again later")
            self._waits.sleep(wait)
            wait = min(1.5 * wait, _LONGEST_LOOK)

    # Bytes.

    def read(self, number: str, offset: int, length: int) -> bytes:
        """Return bytes of a volume, at most `MOST_AT_ONCE`."""

        def came_well(headers: httpx.Headers, data: bytes) -> bool:
            return len(data) == length and headers.get("Content-Digest") == digest(data)

        return self._calls.ask(
            "GET", f"/v1/volumes/{number}/content", params={"at": offset, "length": length}, check=came_well
        )

    def write(self, number: str, offset: int, data: bytes) -> None:
        """Write bytes to a volume, at most `MOST_AT_ONCE`; they are on stable storage once this returns."""
        headers = {"Content-Digest": digest(data), "Content-Type": "application/octet-stream"}
        self._calls.ask("PUT", f"/v1/volumes/{number}/content", params={"at": offset}, content=data, headers=headers)

    def zero(self, number: str, offset: int, length: int) -> None:
        """Make a range of a volume read as zeros."""
        self._calls.ask("DELETE", f"/v1/volumes/{number}/content", params={"at": offset, "length": length})

    def stored(self, number: str, offset: int, length: int) -> Stored:
        """Return the runs of a range that may hold something, the first of them at least."""
        params = {"at": offset, "length": length}
        return told(Stored, self._calls.ask("GET", f"/v1/volumes/{number}/stored", params=params), self.url)


def digest(data: bytes) -> str:
    """Return the digest of some bytes as a header has it (RFC 9530)."""
    return f"sha-256=:{base64.b64encode(hashlib.sha256(data).digest()).decode()}:"
