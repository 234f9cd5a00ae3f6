"""A hub, which hands calls out to hosts; and a host, which does them. Both run until they are told to end."""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import shutil
import stat
import threading
import time
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager, suppress
from importlib import import_module
from pathlib import Path
from tempfile import TemporaryDirectory, gettempdir
from typing import Any
from uuid import uuid4

from narvet.block.files import allow_files
from narvet.block.locks import exclusive_lock
from narvet.block.names import lock_name
from narvet.fleet.crew import Crew
from narvet.fleet.engine import processors
from narvet.fleet.network import (
    HOST_ANSWERS,
    HUB_ANSWERS,
    HUB_STREAMS,
    cut_down,
    distributed,
    endpoint,
    no_hub,
    opening_of,
    resource_of,
    security,
)
from narvet.fleet.processes import end_with_parent
from narvet.fleet.standing import Standing, address_towards, stand
from narvet.ground.errors import RefusedError, RequestError

_CONNECTIONS = 1 << 16  # three and more for each host
_NOWHERE = "127.0.0.1:0"  # where the engine's own pages would be, if it had any


@contextmanager
def hub(address: str, certificates: Path | None = None) -> Iterator[str]:
    """Run a hub at an address while the context lasts; it gives the address that it has, HOST:PORT.

    Raises:
        RequestError: the address is none, or leaves this machine with nothing that seals it.
        RefusedError: the system does not let it be used.
    """

    async def run(up: Callable[[str], None], over: asyncio.Event) -> None:
        scheduler = distributed().Scheduler(
            host=endpoint(address, certificates).rpartition(":")[0], port=int(address.rpartition(":")[2]),
            security=security(certificates), dashboard=False, dashboard_address=_NOWHERE, extensions={}, plugins=(),
        )  # fmt: skip
        cut_down(scheduler.handlers, HUB_ANSWERS)
        cut_down(scheduler.stream_handlers, HUB_STREAMS)
        async with scheduler:
            up(scheduler.address.rpartition("/")[2])
            await over.wait()

    endpoint(address, certificates)
    allow_files(_CONNECTIONS)
    with _running(run) as told:
        yield told


@contextmanager
def host(
    name: str,
    folder: Path,
    hub_address: str,
    jobs: int | None,
    certificates: Path | None,
    opening: Callable[[], None] | None = None,
) -> Iterator[str]:
    """Do the calls that a hub has for a host while the context lasts, in `jobs` processes, and only in a folder.

    `opening` is what each of them calls to be able to open what is sealed, None where this host opens nothing.

    Raises:
        RequestError: there is no such folder, or the address is none.
        RefusedError: no hub answers there.
    """
    folder = Path(os.path.realpath(folder))
    if not folder.is_dir():
        raise RequestError(f"{folder}: there is no such folder; name the one that this host's stores and roots are in")
    count = jobs or processors()
    address = endpoint(hub_address, certificates)
    rights = {resource_of(name): count} | ({opening_of(name): 1} if opening else {})
    standing = Standing(folder, address_towards(hub_address), certificates and certificates.resolve())

    async def run(up: Callable[[str], None], over: asyncio.Event) -> None:
        patience = _FIRST
        while not over.is_set():
            context = multiprocessing.get_context("spawn")
            pool = Crew(count, context, _begin, (standing, opening))
            list(pool.map(_ready, range(2 * count)))  # so that the first call need not wait for a process
            with _scratch() as scratch:
                worker = distributed().Worker(
                    address, nthreads=count, resources=rights, executor=pool, memory_limit=0,
                    local_directory=scratch, dashboard=False, dashboard_address=_NOWHERE, extensions={},
                    security=security(certificates), name=f"{name} {uuid4().hex}", death_timeout=patience,
                )  # fmt: skip
                cut_down(worker.handlers, HOST_ANSWERS)
                try:
                    await _work(worker, hub_address, up, over, first=patience == _FIRST)
                finally:
                    pool.shutdown(wait=False, cancel_futures=True)
            patience = _LATER

    with _running(run) as told:
        yield told


@contextmanager
def _scratch() -> Iterator[str]:
    """Give a folder for what the engine keeps while it works; those that killed hosts of this user left are removed."""
    for left in Path(gettempdir()).glob(f"{_SCRATCH}*"):
        with suppress(OSError, RefusedError):
            held, about = left / _HELD, left.lstat()
            own = stat.S_ISDIR(about.st_mode) and about.st_uid == os.geteuid()
            if own and lock_name(held).exists() and time.time() - about.st_mtime > _STARTING:
                with exclusive_lock(held):
                    shutil.rmtree(left, ignore_errors=True)
    with TemporaryDirectory(prefix=_SCRATCH) as folder, exclusive_lock(Path(folder) / _HELD):
        yield folder


_SCRATCH, _HELD = "narvet-host-", "host"
_STARTING = 60  # seconds in which another host may be about to hold its folder

_FIRST, _LATER = 15, 60  # seconds that a host waits for its hub: when it starts, and each time that the hub went away


async def _work(worker: Any, hub_address: str, up: Callable[[str], None], over: asyncio.Event, *, first: bool) -> None:
    """Have a host's part of the engine work until it loses its hub, or is to end.

    Raises:
        RefusedError: there is no hub at first.
    """
    try:
        async with worker:
            up(worker.address.rpartition("/")[2])
            waiting = [asyncio.ensure_future(one) for one in (worker.finished(), over.wait())]
            await asyncio.wait(waiting, return_when=asyncio.FIRST_COMPLETED)
            for one in waiting:
                one.cancel()
    except (OSError, TimeoutError) as error:
        if first:
            raise no_hub(hub_address, error) from None


def _ready(number: int) -> int:
    for name in _NEEDED:
        import_module(name)
    return number


_NEEDED = "narvet.apply.execute", "narvet.observe.gather", "distributed.worker", "numpy"
"""What most calls need, the engine's own part among it, so that the first one need not wait for that."""


def _begin(standing: Standing, opening: Callable[[], None] | None) -> None:
    end_with_parent()
    stand(standing)
    if opening is not None:
        opening()


@contextmanager
def _running(run: Callable[[Callable[[str], None], asyncio.Event], Coroutine[Any, Any, None]]) -> Iterator[str]:
    """Run something in a thread until the context ends; it gives the address that it told."""
    ready, told, wrong = threading.Event(), list[str](), list[BaseException]()
    loop, over = asyncio.new_event_loop(), asyncio.Event()

    def up(address: str) -> None:
        told.append(address)
        ready.set()

    def go() -> None:
        try:
            loop.run_until_complete(run(up, over))
        except BaseException as error:
            wrong.append(error)
        finally:
            ready.set()

    thread = threading.Thread(target=go, daemon=True)
    thread.start()
    ready.wait()
    if wrong:
        raise _refusal(wrong[0]) from None
    try:
        yield told[0]
    finally:
        loop.call_soon_threadsafe(over.set)
        thread.join(30)


def _refusal(error: BaseException) -> Exception:
    if isinstance(error, RefusedError | RequestError):
        return error
    return RefusedError(f"it cannot run here: {str(error)[:200] or type(error).__name__}")
