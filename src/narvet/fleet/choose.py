"""Which engine does the work of a call: other hosts, processes of this machine, or this process alone."""

from __future__ import annotations

from pathlib import Path

from narvet.fleet.engine import HERE, Engine
from narvet.ground.errors import RequestError


def engine_for(over: str | None = None, certificates: Path | None = None, jobs: int | None = None) -> Engine:
    """Return the engine that works over the hub at an address, HOST:PORT, or else with `jobs` processes here.

    `certificates` is the folder of those that this machine shows the hub. Without `jobs` there are as many processes as
    the machine has processors.

    Raises:
        RequestError: the address is none, or leaves this machine with nothing that seals it.
        RefusedError: no hub answers there.
    """
    if over is not None:
        from narvet.fleet.over import Over

        return Over(over, certificates)
    if certificates is not None:
        raise RequestError("certificates are for the way to a hub; name it with --over")
    if jobs == 1:
        return HERE
    from narvet.fleet.processes import Processes

    return Processes(jobs)
