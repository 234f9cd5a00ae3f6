"""What a running QEMU guest has plugged in, and where it has room: read from its monitor, nothing of it believed.

Everything that is asked for is documented in QEMU's QMP reference; whatever is missing or of another type reads as
"not known". Positions of several SCSI adapters count on, in the order of their paths.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from narvet.ground.values import Frozen
from narvet.hosts.qmp.monitor import CommandError, Monitor
from narvet.hosts.qmp.nodes import hold_of, slot_named
from narvet.model.controllers import Slot
from narvet.model.plugs import Plugged, Rates

_HOMES = ("/machine/peripheral", "/machine/peripheral-anon")
_MOST_DISKS, _DEEPEST = 4096, 16
_TARGETS = {"virtio-scsi": 256, "megasas": 128, "pvscsi": 64, "mptsas": 8, "lsi53c": 7, "am53c974": 7, "dc390": 7}
_BRIDGE = 0x0604  # PCI: class code of a bridge between buses


class ScsiBus(Frozen):
    """A SCSI bus: its path, and how many disks it takes; `first` is the position of its first one."""

    path: str
    targets: int
    first: int

    @property
    def name(self) -> str:
        """What the hypervisor calls it."""
        return self.path.rpartition("/")[2]

    def has(self, position: int) -> bool:
        """Return whether a position is on it."""
        return self.first <= position < self.first + self.targets


def scsi_buses(monitor: Monitor) -> list[ScsiBus]:
    """Return a guest's SCSI buses, with the positions that they have."""
    found: list[ScsiBus] = []
    for home in _HOMES:
        for adapter, kind in sorted(_children(monitor, home)):
            for part in (adapter, f"{adapter}/virtio-backend"):
                for path, inner in sorted(_children(monitor, part)):
                    if inner == "SCSI":
                        targets = next((most for name, most in _TARGETS.items() if kind.startswith(name)), 7)
                        first = sum(bus.targets for bus in found)
                        found.append(ScsiBus(path, targets, first))
    return found


def free_ports(monitor: Monitor) -> list[str]:
    """Return the buses behind bridges of a guest that nothing is plugged into."""
    return [
        str(one["qdev_id"])
        for one in _pci_devices(monitor.execute("query-pci"))
        if _of(one, "class_info", "class") == _BRIDGE and one.get("qdev_id") and not _of(one, "pci_bridge", "devices")
    ]


def _pci_devices(buses: Any, depth: int = 0) -> Iterator[dict[str, Any]]:
    for bus in buses if isinstance(buses, list) and depth < _DEEPEST else ():
        for one in bus.get("devices") or () if isinstance(bus, dict) else ():
            if isinstance(one, dict):
                yield one
                inside = _of(one, "pci_bridge", "devices")
                yield from _pci_devices([{"devices": inside}], depth + 1) if inside else ()


def plugged(monitor: Monitor) -> tuple[Plugged, ...]:
    """Return the disks that are plugged into a guest, by Narvet or by others."""
    answer = monitor.execute("query-block")
    buses = scsi_buses(monitor)
    rows = [row for row in answer if isinstance(row, dict)] if isinstance(answer, list) else []
    return tuple(_plugged(monitor, row, buses) for row in rows[:_MOST_DISKS] if row.get("inserted") and row.get("qdev"))


def _plugged(monitor: Monitor, row: dict[str, Any], buses: list[ScsiBus]) -> Plugged:
    inserted, handle = row["inserted"], str(row["qdev"])
    path = handle if handle.startswith("/") else f"/machine/peripheral/{handle}"
    path = path.removesuffix("/virtio-backend")
    size = _of(inserted, "image", "virtual-size")
    bytes_most, most = inserted.get("bps"), inserted.get("iops")
    return Plugged(
        path=_file_of(inserted.get("file"), monitor.process),
        handle=path,
        slot=_slot(monitor, path, buses),
        serial=_text(_property(monitor, path, "serial")),
        size=size if isinstance(size, int) else None,
        read_only=bool(inserted.get("ro")),
        hold=hold_of(cache) if isinstance(cache := inserted.get("cache"), dict) else None,
        ceiling=Rates(most or None, bytes_most or None) if isinstance(most, int) else None,
    )


def node_of(monitor: Monitor, there: Plugged) -> str:
    """Return the name of the node that a plugged disk reads from, empty where there is none."""
    answer = monitor.execute("query-block")
    for row in answer if isinstance(answer, list) else ():
        handle = str(row.get("qdev", "")) if isinstance(row, dict) else ""
        if handle and there.handle in (handle.removesuffix("/virtio-backend"), f"/machine/peripheral/{handle}"):
            return _text(_of(row, "inserted", "node-name"))
    return ""


def left_nodes(monitor: Monitor) -> list[str]:
    """Return the nodes that Narvet had made for disks and that no device reads."""
    nodes, devices = monitor.execute("query-named-block-nodes", flat=True), monitor.execute("query-block")
    read = {_text(_of(row, "inserted", "node-name")) for row in devices} if isinstance(devices, list) else set()
    names = [_text(_of(row, "node-name")) for row in nodes] if isinstance(nodes, list) else []
    return [name for name in names if slot_named(name) is not None and name not in read]


def _slot(monitor: Monitor, path: str, buses: list[ScsiBus]) -> Slot | None:
    """Return where a device is plugged in: by its bus, or by the name that Narvet gave it."""
    bus = _text(_property(monitor, path, "parent_bus"))
    for one in buses:
        target = _property(monitor, path, "scsi-id") if one.path == bus else None
        if isinstance(target, int):
            return "scsi", one.first + target
    channel, unit = bus.rpartition(".")[2], _property(monitor, path, "unit")
    if channel.isdecimal() and isinstance(unit, int):
        return ("sata", int(channel)) if _is_ahci(monitor, bus) else ("ide", 2 * int(channel) + unit)
    return slot_named(path.rpartition("/")[2])


def _is_ahci(monitor: Monitor, bus: str) -> bool:
    kind = _text(_property(monitor, bus.rpartition("/")[0], "type"))
    return "ahci" in kind


def _children(monitor: Monitor, path: str) -> Iterator[tuple[str, str]]:
    """Yield the paths of what lies below a path, with their types."""
    try:
        rows = monitor.execute("qom-list", path=path)
    except CommandError:
        return
    for row in rows[:_MOST_DISKS] if isinstance(rows, list) else ():
        kind = _text(row.get("type")) if isinstance(row, dict) else ""
        if kind.startswith("child<"):
            yield f"{path}/{row.get('name')}", kind[len("child<") : -1]


def _property(monitor: Monitor, path: str, name: str) -> Any:
    try:
        return monitor.execute("qom-get", path=path, property=name)
    except CommandError:
        return None


def _file_of(told: Any, process: int | None) -> str:
    """Return the real path of the file that a node is said to read, empty where it reads no file of this machine."""
    name = _named_in(told)
    if not name or "\0" in name:
        return ""
    if not name.startswith("/"):
        if process is None or ":" in name.partition("/")[0]:
            return ""
        name = f"/proc/{process}/cwd/{name}"
    return os.path.realpath(name) if Path(name).exists() else name


def _named_in(told: Any) -> str:
    """Return the name of the file in a description of a node: plain, or as JSON behind "json:"."""
    if not isinstance(told, str):
        return ""
    if not told.startswith("json:"):
        return told.removeprefix("file:")
    try:
        found: Any = json.loads(told[len("json:") :])
    except (ValueError, RecursionError):
        return ""
    for _ in range(_DEEPEST):
        if not isinstance(found, dict):
            return ""
        name = found.get("filename") or found.get("file.filename")
        if isinstance(name, str):
            return name
        found = found.get("file")
    return ""


def _of(found: Any, *keys: str) -> Any:
    for key in keys:
        found = found.get(key) if isinstance(found, dict) else None
    return found


def _text(found: Any) -> str:
    return found if isinstance(found, str) else ""
