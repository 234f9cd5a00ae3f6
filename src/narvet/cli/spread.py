"""What the commands share whose work can be done by other hosts, or by several processes."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar

import click

import narvet
from narvet.cli.common import A_PATH

F = TypeVar("F", bound=Callable[..., Any])

CERTIFICATES = click.option(
    "--certificates", type=A_PATH, metavar="FOLDER", help="Seal the way to the hub: ca.pem, cert.pem and key.pem."
)
OVER = click.option("--over", metavar="ADDRESS", help="Have the hosts do it, through the hub at HOST:PORT.")
JOBS = click.option("--jobs", type=click.IntRange(1, 256), help="Processes that work here.  [one each processor]")


def spreads(command: F) -> F:
    """Give a command the choice of who does its work."""

    @wraps(command)
    def call(*args: Any, over: str | None, certificates: Path | None, jobs: int | None, **known: Any) -> Any:
        if over is not None and jobs is not None:
            raise narvet.RequestError("--jobs is for this machine; each host has its own number; leave it out")
        engine = narvet.engine_for(over, certificates, jobs)
        with narvet.working_with(engine):
            try:
                return command(*args, **known)
            finally:
                engine.stop()

    found: Any = call
    for option in (
        JOBS,
        CERTIFICATES,
        OVER,
    ):
        found = option(found)
    return found  # type: ignore[no-any-return]
