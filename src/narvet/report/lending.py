"""Disks that are lent: what is lent where, and a line for each client, as it is now."""

from __future__ import annotations

import time
from collections.abc import Iterable
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.text import Text

from narvet.ground.errors import printable
from narvet.ground.units import counted, show_binary
from narvet.ground.values import replace
from narvet.report.shapes import looks
from narvet.report.totals import headed

if TYPE_CHECKING:
    from narvet.lending.contract import Client, What

_WORDS = {"came": "comes", "took": "takes", "went": "goes", "refused": "is sent away"}


def event_line(what: What, client: Client, why: str) -> str:
    """Return what a client did as a sentence for a log."""
    who = f"client {client.number} from {client.address}"
    disk = f" {client.disk}" if client.disk and what == "took" else ""
    counts = f": {show_binary(client.read)} read, {show_binary(client.written)} written" if client.disk else ""
    told = counts if what in ("went", "refused") else ""
    reason = f"; {why}" if why and told else f": {why}" if why else ""
    fault = f"; its disk: {client.fault}" if client.fault and what != "came" else ""
    return printable(f"{who} {_WORDS[what]}{disk}{told}{reason}{fault}")


def lent_facts(what: What, client: Client, why: str) -> looks.LentFacts:
    """Return what a client did as a line of `lend --json`."""
    return {
        "what": what,
        "client": client.number,
        "address": client.address,
        "disk": client.disk or None,
        "sealed": client.is_sealed,
        "read": client.read,
        "written": client.written,
        "requests": client.requests,
        "why": why or None,
        "fault": client.fault or None,
    }


class View:
    """The clients that are there, with what each did in the last moment."""

    def __init__(self) -> None:
        self._before: dict[int, Client] = {}
        self._when = time.monotonic()
        self._speeds: dict[int, tuple[float, float]] = {}

    def shown(self, clients: Iterable[Client], where: str) -> RenderableType:
        """Return a line for each client, and how fast it reads and writes."""
        own, now = sorted(clients, key=lambda one: one.number), time.monotonic()
        if now - self._when >= 1:
            self._speeds = {one.number: self._speed(one, now - self._when) for one in own}
            self._before, self._when = {one.number: replace(one) for one in own}, now
        head = Text(f"{counted(len(own), 'client')} at {where}; Ctrl-C ends it.")
        if not own:
            return head
        table = headed("client", "~from", "~disk", "read", "a second", "written", "a second", "requests")
        for one in own:
            reading, writing = self._speeds.get(one.number, (0.0, 0.0))
            table.add_row(
                str(one.number), printable(one.address), printable(one.disk), show_binary(one.read),
                show_binary(int(reading)) if reading else "", show_binary(one.written),
                show_binary(int(writing)) if writing else "", str(one.requests),
            )  # fmt: skip
        return Group(head, table)

    def _speed(self, client: Client, seconds: float) -> tuple[float, float]:
        before = self._before.get(client.number)
        if before is None:
            return 0.0, 0.0
        return (client.read - before.read) / seconds, (client.written - before.written) / seconds
