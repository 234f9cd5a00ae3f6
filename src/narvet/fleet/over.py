"""Calls done on hosts, through a hub."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any, Self
from uuid import uuid4

from narvet.fleet.engine import Outcome, Then, outcome_of
from narvet.fleet.network import distributed, endpoint, no_hub, opening_of, resource_of, security
from narvet.fleet.processes import PROCESS_GONE, carried_out
from narvet.fleet.standing import Standing, address_towards, stand
from narvet.fleet.wire import call_packed, unpacked
from narvet.ground.errors import NarvetError, RefusedError

_TIMEOUT = 10  # seconds to reach the hub, and to get an answer from it
_FETCH = 16
_LOOK = 10  # seconds between two looks whether the hub still answers
_SILENCE = 30  # seconds that it may take to
_ALL = -1
_SILENT = "the hub does not answer any more"


class Over:
    """Has calls done by the hosts that a hub at an address knows; those for this machine are done in this process."""

    def __init__(self, address: str, certificates: Path | None = None) -> None:
        found = distributed()
        self._address = address
        try:
            self._client = found.Client(
                endpoint(address, certificates), security=security(certificates), timeout=_TIMEOUT,
                set_as_default=False, direct_to_workers=False,
            )  # fmt: skip
        except OSError as error:
            raise no_hub(address, error) from None
        stand(Standing(None, address_towards(address), certificates))
        self._widths: dict[str, int] = {}
        self._open: set[str] = set()  # hosts that have the passphrase of what is sealed there
        self._gone: set[str] = set()  # hosts that a call was lost on
        self._fetch = ThreadPoolExecutor(_FETCH)  # an answer that is lost keeps only one waiting
        self._guard = threading.Lock()
        self._waiting: dict[str, tuple[str, Then]] = {}  # calls that the hub was given, by the engine's names for them
        self._is_silent = False
        self._over = threading.Event()
        threading.Thread(target=self._watch, name="hub", daemon=True).start()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    def meet(self, hosts: Iterable[str]) -> None:
        """Raise RefusedError if the hub does not know all of these hosts."""
        hosts = [host for host in hosts if host not in self._widths]
        if not hosts:
            return
        there = self._there()
        found = {host: there.get(resource_of(host), 0) for host in hosts}
        missing = [host for host, width in found.items() if not width]
        if missing:
            shown = ", ".join(missing[:12]) + (f" and {len(missing) - 12} more" if len(missing) > 12 else "")
            raise RefusedError(f"{self._address}: this hub does not know {shown}; start narvet host there")
        self._widths |= found
        self._open |= {host for host in hosts if there.get(opening_of(host))}

    def _there(self) -> dict[str, int]:
        """Return how many calls each host that is there does at once, by the engine's names for them."""
        there: dict[str, int] = {}
        for worker in self._about_hub(hosts=_ALL)["workers"].values():
            for name, amount in worker["resources"].items():
                there[name] = there.get(name, 0) + int(amount)
        return there

    def _is_back(self, host: str) -> bool:
        with suppress(RefusedError):
            return resource_of(host) in self._there()
        return False

    def _about_hub(self, hosts: int = 0) -> Any:
        """Return what the hub tells of itself, and of so many hosts.

        Raises:
            RefusedError: it does not answer.
        """
        try:
            return self._client.sync(self._client.scheduler.identity, n_workers=hosts, callback_timeout=_SILENCE)
        except Exception as error:  # whatever the engine makes of it
            raise RefusedError(f"{self._address}: the hub does not answer ({type(error).__name__})") from None

    def _watch(self) -> None:
        """Give up all that waits for the hub if that, though connected, answers nothing any more."""
        while not self._over.wait(_LOOK):
            if not self._waiting or not self._is_connected():
                continue
            try:
                self._about_hub()
            except RefusedError:
                with self._guard:
                    self._is_silent, waiting = True, list(self._waiting.values())
                    self._waiting.clear()
                for host, then in waiting:
                    then(_refused(host, _SILENT))

    def _is_connected(self) -> bool:
        """Return whether the hub is there; what is given to the engine while it is not is lost."""
        way = self._client.scheduler_comm
        return self._client.status == "running" and way is not None and not way.comm.closed()

    def width(self, host: str) -> int:
        """Return how many calls a host does at once, and one more, so that none has to wait for its next."""
        return self._widths.get(host, 1) + 1 if host else 1

    def is_far(self, host: str) -> bool:
        """Return whether a host is another machine."""
        return bool(host)

    def opens(self, host: str) -> bool:
        """Return whether a host was given the passphrase of what is sealed there."""
        return not host or host in self._open

    def begin(self) -> None:
        """Do nothing: the hosts are ready."""

    def submit(self, host: str, call: Callable[..., Any], args: Sequence[Any], then: Then) -> None:
        """Have a call done by a host."""
        if not host:
            then(outcome_of(call, args))
            return
        if self._is_silent or not self._is_connected():
            then(_refused(host, _SILENT if self._is_silent else "the hub is gone"))
            return
        if host in self._gone and not self._is_back(host):
            then(_refused(host, "it is not there any more"))
            return
        self._gone.discard(host)
        key = f"narvet-{uuid4().hex}"
        with self._guard:
            self._waiting[key] = host, then
        future = self._client.submit(
            carried_out, call_packed(call, *args), key=key, pure=False, retries=0, resources={resource_of(host): 1}
        )
        future.add_done_callback(lambda done: self._fetch.submit(self._hand_on, done, host, key))

    def _hand_on(self, done: Any, host: str, key: str) -> None:
        outcome = _outcome(done, host)
        if done.status != "finished":
            self._gone.add(host)
        with self._guard:
            told = self._waiting.pop(key, None)
        if told is not None:  # or it was given up
            told[1](outcome)

    def stop(self) -> None:
        """Leave the hub; what was not begun is dropped."""
        self._over.set()
        self._client.close(timeout=5)
        stand(Standing())
        self._fetch.shutdown(wait=False, cancel_futures=True)


def _outcome(done: Any, host: str) -> Outcome:
    """Return what a call came to; whatever goes wrong on the way is what it came to."""
    try:
        return _told(done, host)
    except Exception as error:
        what = str(error) if isinstance(error, NarvetError) else type(error).__name__
        return _refused(host, f"its answer was lost ({what})")


def _told(done: Any, host: str) -> Outcome:
    if done.status == "finished":
        outcome = unpacked(done.result(timeout=_TIMEOUT))
        done.release()
        return outcome if isinstance(outcome, Outcome) else Outcome(error=RefusedError(f"host {host}: not an answer"))
    told = "the hub is gone"
    if done.status == "error":
        error = done.exception(timeout=_TIMEOUT)
        said = f"{type(error).__name__} {error}"
        told = next((why for name, why in _WHY.items() if name in said), f"the hub tells of {type(error).__name__}")
    return _refused(host, told)


def _refused(host: str, told: str) -> Outcome:
    return Outcome(error=RefusedError(f"host {host}: {told}; see to it, and write again"))


_WHY = {
    "BrokenProcessPool": PROCESS_GONE,
    "KilledWorker": "it went away while it was at work",
    "NoValidWorkerError": "it is not there any more",
    "NoWorkerError": "it is not there any more",
}
