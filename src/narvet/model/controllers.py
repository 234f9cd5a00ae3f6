"""Controllers of guests as values: how many disks each takes, when, with which sectors, and who sees them. Pure.

A slot is a controller and a position, "scsi 1". Positions of several controllers of one kind count on: where each has
16, `scsi 16` is the first of the second one.
"""

from __future__ import annotations

from collections.abc import Mapping

from narvet.ground.errors import nearest
from narvet.ground.values import Frozen

Slot = tuple[str, int]
"""A controller's name and a position on it, from 0."""

Version = tuple[int, ...]


class Controller(Frozen):
    """A kind of controller.

    `positions` is the most disks it takes. `live` is whether it takes and gives up a disk while the guest runs,
    wherever it is. `large_sectors` is whether its disks may have sectors of 4096 bytes, `protects` whether they can be
    kept from being written to, `starts` whether guests can be started from them everywhere. `since` has the first
    version of each system that sees its disks by itself, None where it needs a driver that it does not bring.
    `standard` is what it follows.
    """

    name: str
    positions: int
    live: bool
    large_sectors: bool
    protects: bool
    starts: bool
    since: Mapping[str, Version | None]
    standard: str


_EVERY: Version = (0, 0)

CONTROLLERS: Mapping[str, Controller] = {
    one.name: one
    for one in (
        Controller(
            "ide", 4, live=False, large_sectors=False, protects=False, starts=True,
            since={"linux": _EVERY, "windows": _EVERY},
            standard="ATA, parallel: two channels of two disks",
        ),
        Controller(
            "sata", 30, live=False, large_sectors=True, protects=False, starts=True,
            since={"linux": (2, 6, 19), "windows": (6, 0)},
            standard="AHCI 1.3",
        ),
        Controller(
            "scsi", 256, live=True, large_sectors=True, protects=True, starts=True,
            since={"linux": _EVERY, "windows": _EVERY},
            standard="SCSI, whichever adapter",
        ),
        Controller(
            "nvme", 64, live=True, large_sectors=True, protects=True, starts=False,
            since={"linux": (3, 3), "windows": (6, 3)},
            standard="NVM Express",
        ),
        Controller(
            "virtio", 64, live=True, large_sectors=True, protects=True, starts=True,
            since={"linux": (2, 6, 25), "windows": None},
            standard="VIRTIO, block device",
        ),
    )
}  # fmt: skip
"""Every kind of controller that a sheet can name, by its name."""


def controller_of(slot: Slot) -> Controller:
    """Return the controller of a slot."""
    return CONTROLLERS[slot[0]]


def slot_text(slot: Slot) -> str:
    """Return a slot as it is written."""
    return f"{slot[0]} {slot[1]}"


def check_position(controller: str, last: int) -> None:
    """Return if there is such a controller, with such a position.

    Raises:
        ValueError: there is none.
    """
    known = CONTROLLERS.get(controller)
    if known is None:
        raise ValueError(f'"{controller}" is not a controller that is known here{nearest(controller, CONTROLLERS)}')
    if last >= known.positions:
        raise ValueError(f"{controller} has the positions 0 to {known.positions - 1}")


def controller_table() -> str:
    """Return the controllers as a Markdown table."""
    rows = (
        f"| `{one.name} 0-{one.positions - 1}` | {one.standard} | {'running' if one.live else 'off'} "
        f"| {'512, 4096' if one.large_sectors else '512'} | {'yes' if one.protects else 'no'} "
        f"| {_since(one, 'linux')} | {_since(one, 'windows')} "
        f"| {'yes' if one.starts else 'not everywhere'} |\n"
        for one in CONTROLLERS.values()
    )
    head = "| slots | standard | the guest may be | sectors | read-only | Linux | Windows | guests start from it |\n"
    return head + "|---|---|---|---|---|---|---|---|\n" + "".join(rows)


def _since(one: Controller, system: str) -> str:
    since = one.since[system]
    if since is None:
        return "with a driver"
    return "yes" if since == _EVERY else f"from {version_text(since)} on"


def version_text(version: Version) -> str:
    """Return a version as it is written."""
    return ".".join(map(str, version))
