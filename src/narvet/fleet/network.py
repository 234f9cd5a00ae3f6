"""The distributed engine, made safe: what its parts read of the network is only what Narvet's own calls need.

The engine (Dask's) sends calls as pickles. Here they are read by a reader that knows a handful of names, the one call
`carried_out` among them. A hub and a host answer only the requests that those calls need.
"""

from __future__ import annotations

import asyncio
import io
import logging
import pickle
import pickletools
import sys
from collections.abc import Awaitable, Callable, MutableMapping
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any

from narvet.ground.errors import RefusedError, RequestError

_KNOWN = {
    ("builtins", "bytes"),
    ("dask._expr", "LLGExpr"),
    ("dask._expr", "Expr._reconstruct"),
    ("dask._task_spec", "Task"),
    ("narvet.fleet.processes", "carried_out"),
}
_NEVER = {"PUT", "BINPUT", "LONG_BINPUT", "EXT1", "EXT2", "EXT4", "INST", "OBJ", "PERSID", "BINPERSID"}
"""Signs of pickles that today's writers do not write; the first of them can ask for any amount of memory."""
_ERRORS = ("distributed.", "asyncio.", "concurrent.futures", "builtins")
PEM_NAMES = ("ca.pem", "cert.pem", "key.pem")
"""The files of a folder of certificates: whose count, the own one, and its key."""
_LOCAL = ("127.0.0.1", "::1", "localhost")

_CONNECT = 10  # seconds until an address answers
_GREETING = 30  # seconds that a new connection may stay silent

HUB_ANSWERS = {
    "identity", "echo", "connection_stream", "register-client", "register-worker", "unregister", "gather",
    "heartbeat_worker", "subscribe_worker_status", "get_task_status", "versions", "add_keys", "who_has", "missing",
}  # fmt: skip
HUB_STREAMS = {
    "add-keys", "cancel-keys", "client-desires-keys", "client-releases-keys", "close-client", "heartbeat-client",
    "keep-alive", "long-running", "release-worker-data", "report-key", "request-refresh-who-has", "reschedule",
    "steal-response", "task-erred", "task-finished", "update-graph", "worker-status-change", "log-event",
    "subscribe-topic", "unsubscribe-topic",
}  # fmt: skip
HOST_ANSWERS = {"identity", "echo", "connection_stream", "ping", "gather", "get_data", "keys", "free_keys", "terminate",
                "versions"}  # fmt: skip


class _Reader(pickle.Unpickler):
    def find_class(self, module: str, name: str) -> Any:
        """Return one of the names that calls need, or an error's class."""
        if (module, name) in _KNOWN:
            found: Any = import_module(module)
            for part in name.split("."):
                found = getattr(found, part)
            return found
        if module.startswith(_ERRORS) and name.isidentifier():
            kind = getattr(sys.modules.get(module), name, None)
            if isinstance(kind, type) and issubclass(kind, BaseException):
                return kind
        raise pickle.UnpicklingError(f"{module[:60]}.{name[:60]} does not come over the network")


def _loads(data: Any, *, buffers: Any = ()) -> Any:
    for sign, _, _ in pickletools.genops(bytes(data)):
        if sign.name in _NEVER:
            raise pickle.UnpicklingError(f"{sign.name} does not come over the network")
    return _Reader(io.BytesIO(data), buffers=buffers or None).load()


def _without_place(told: Callable[..., Any]) -> Callable[..., Any]:
    """Return what reads an error that another process tells of, but not where in its code that was."""

    def read(exception: Any, traceback: Any = None, **_: Any) -> tuple[Any, Any, None]:
        del traceback  # one that does not read would be waited for without end
        return (*told(exception)[:2], None)

    return read


def _in_time(connect: Callable[..., Awaitable[Any]]) -> Callable[..., Awaitable[Any]]:
    """Return what connects to an address, and waits no longer for its first word than for the connection."""

    from dask.utils import parse_timedelta

    async def connected(address: str, timeout: Any = None, **how: Any) -> Any:
        seconds = parse_timedelta(timeout or _CONNECT, default="seconds")
        return await asyncio.wait_for(connect(address, timeout=timeout, **how), seconds)

    return connected


def _greeted(taking: Callable[..., Awaitable[Any]], close: str) -> Callable[..., Awaitable[Any]]:
    """Return what takes a connection, and ends it where it stays silent: nobody is to hold all that there are."""

    async def taken(self: Any, way: Any, *more: Any) -> Any:
        late = asyncio.get_running_loop().call_later(_GREETING, getattr(way, close))
        try:
            return await taking(self, way, *more)
        finally:
            late.cancel()

    return taken


def no_hub(address: str, error: Exception) -> RefusedError:
    """Return what is told where no hub answers at an address."""
    late = isinstance(error, TimeoutError) or "timed out" in str(error).lower()
    why = "in time" if late else f"({str(error)[:100] or type(error).__name__})"
    return RefusedError(f"{address}: no hub answers there {why}; start one: narvet hub")


class _Guarded:
    """A module of pickling whose reader is the one of this module."""

    loads = staticmethod(_loads)

    def __init__(self, module: Any) -> None:
        self._module = module

    def __getattr__(self, name: str) -> Any:
        return getattr(self._module, name)


@cache
def distributed() -> Any:
    """Return the engine's package, made safe, with its settings; the same each time."""
    import dask
    import distributed as found

    for name in ("client", "core", "nanny", "scheduler", "worker", "worker_state_machine", "protocol.serialize",
                 "protocol.core", "protocol.numpy", "shuffle._core", "comm.core", "comm.tcp"):  # fmt: skip
        import_module(f"distributed.{name}")
    _read_little(found)
    _wait_little(found)
    for name in (*logging.root.manager.loggerDict, "asyncio"):  # what went wrong is told by Narvet, once
        if name.startswith(("distributed", "asyncio", "tornado")):
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    dask.config.set(_SETTINGS)
    return found


def _read_little(found: Any) -> None:
    """Have the engine read pickles by the reader of this module, wherever it has one."""
    import distributed.protocol.pickle as own

    plain = own.loads
    for name, module in _modules():
        if getattr(module, "pickle", None) in (pickle, own) and name != "distributed.protocol":
            module.pickle = _Guarded(module.pickle)
    _replace(plain, _loads)
    _replace(found.core.clean_exception, _without_place(found.core.clean_exception))
    own.loads = _loads


def _wait_little(found: Any) -> None:
    """Have the engine wait neither for who does not answer nor for who says nothing."""
    _replace(found.comm.core.connect, _in_time(found.comm.core.connect))
    listening, sealed = found.comm.core.BaseListener, found.comm.tcp.TLSListener
    listening.on_connection = _greeted(listening.on_connection, "abort")
    sealed._prepare_stream = _greeted(sealed._prepare_stream, "close")


def _modules() -> list[tuple[str, Any]]:
    return [(name, one) for name, one in sys.modules.items() if name.startswith("distributed") and one is not None]


def _replace(old: Callable[..., Any], new: Callable[..., Any]) -> None:
    """Put another function in the place of one of the engine's, wherever that goes by its own name."""
    for _, module in _modules():
        if getattr(module, old.__name__, None) is old:
            setattr(module, old.__name__, new)


_SETTINGS = {
    "distributed.scheduler.allowed-failures": 0,
    "distributed.scheduler.no-workers-timeout": "10s",
    "distributed.scheduler.worker-ttl": "60s",
    "distributed.scheduler.work-stealing": False,
    "distributed.scheduler.http.routes": [],
    "distributed.scheduler.default-task-durations": {},
    "distributed.worker.http.routes": [],
    "distributed.worker.profile.enabled": False,
    "distributed.worker.memory.target": False,
    "distributed.worker.memory.spill": False,
    "distributed.worker.memory.pause": False,
    "distributed.worker.memory.terminate": False,
    "distributed.comm.timeouts.connect": _CONNECT,
    "distributed.comm.timeouts.tcp": "20s",
    "distributed.client.heartbeat": "5s",
    "distributed.admin.tick.interval": "1h",  # nobody asks how busy its loop is, 50 times a second
    "distributed.admin.tick.limit": "1h",
    "distributed.admin.system-monitor.interval": "5s",
    "distributed.version": 2,
}


def cut_down(answers: MutableMapping[str, Callable[..., Any]], known: set[str]) -> None:
    """Remove the requests that a hub or host would answer, but for those that are known."""
    for name in set(answers) - known:
        del answers[name]


def resource_of(host: str) -> str:
    """Return what the engine calls the right to do work on a host."""
    return f"narvet {host}"


def opening_of(host: str) -> str:
    """Return what the engine calls that a host opens what is sealed on it."""
    return f"narvet sealed {host}"


def is_local(address: str) -> bool:
    """Return whether an address, HOST:PORT, is only for this machine."""
    return address.rpartition(":")[0].strip("[]") in _LOCAL


def endpoint(address: str, certificates: Path | None) -> str:
    """Return an address as the engine writes it.

    Raises:
        RequestError: it is none, or leaves this machine with nothing that seals it.
    """
    host, colon, port = address.rpartition(":")
    if not colon or not host or not port.isascii() or not port.isdecimal() or int(port) > 65535 or "/" in host:
        raise RequestError(f"{address}: an address is HOST:PORT, 10.0.0.5:8786")
    if certificates is None and not is_local(address):
        raise RequestError(f"{address}: it is not this machine's; name certificates for both sides with --certificates")
    return f"{'tls' if certificates else 'tcp'}://{address}"


def security(certificates: Path | None) -> Any:
    """Return what seals connections and tells both sides who is there, from the files in a folder; None without one.

    Raises:
        RequestError: a file is missing.
    """
    if certificates is None:
        return None
    ca, cert, key = (certificates / name for name in PEM_NAMES)
    for path in (ca, cert, key):
        if not path.is_file():
            raise RequestError(f"{path}: there is no such file; the folder has {', '.join(PEM_NAMES)}, in PEM")
    pair = {f"tls_{who}_{what}": str(path) for who in ("client", "scheduler", "worker")
            for what, path in (("cert", cert), ("key", key))}  # fmt: skip
    return distributed().Security(tls_ca_file=str(ca), require_encryption=True, **pair)
