"""Disks plugged into a running QEMU guest, taken out, made larger and limited, over its monitor."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.ground.errors import RefusedError
from narvet.ground.units import show_bytes
from narvet.hosts.qmp.machine import free_ports, left_nodes, node_of, plugged, scsi_buses
from narvet.hosts.qmp.monitor import CommandError, Monitor, monitor
from narvet.hosts.qmp.nodes import DEVICES, DRIVERS, FOLLOWS_BASES, GROWS, device, limits, name_of, node
from narvet.model.controllers import controller_of, slot_text
from narvet.model.layout import PlannedDisk
from narvet.model.plugs import DoorState, Plug, Plugged, Rates

_RUNNING = ("running", "paused", "prelaunch", "suspended", "io-error", "watchdog", "debug")
_LOOKS_EACH = 1.0  # seconds between two looks at whether a disk is gone, in case an event is missed
_GONE, _KEPT = "DEVICE_DELETED", "DEVICE_UNPLUG_GUEST_ERROR"


class QmpDoor:
    """The monitor of one guest."""

    def __init__(self, place: Path, spoken_to: Monitor) -> None:
        self._place = place
        self._monitor = spoken_to

    def state(self) -> DoorState:
        """Return what is plugged in now."""
        status = self._monitor.execute("query-status")
        runs = isinstance(status, dict) and status.get("status") in _RUNNING
        there = plugged(self._monitor)
        return DoorState(KIND, str(self._place), is_open=True, runs=runs, plugged=there, grows=GROWS)

    def obstacle(self, disk: PlannedDisk) -> str:
        """Return why a disk cannot be plugged in here as things are."""
        plug, image = disk.plug, disk.wanted.image
        if plug.slot is None:
            return "the guest has no slot left; give it another controller"
        name = slot_text(plug.slot)
        if not controller_of(plug.slot).live or plug.slot[0] not in DEVICES:
            return f"a disk at {name} is plugged in while the guest is off; shut it down, or choose another slot"
        if image.format not in DRIVERS:
            return f"the hypervisor does not read {image.format}"
        is_child = image.base is not None or (disk.origin is not None and disk.origin.how == "child")
        if is_child and image.format not in FOLLOWS_BASES:
            return f"the hypervisor does not read a {image.format} through its base; recast it to qcow2"
        if plug.slot[0] == "scsi" and not any(one.has(plug.slot[1]) for one in scsi_buses(self._monitor)):
            return f"the guest, as it runs, has no SCSI adapter with {name}; start it with one, or choose another slot"
        return ""

    def plug(self, disk: PlannedDisk) -> Plugged:
        """Plug a disk in; what an interruption left of an earlier try goes first."""
        plug = disk.plug
        name = name_of(plug.slot) if plug.slot else ""
        self.tidy()
        try:
            self._monitor.execute("blockdev-add", **node(disk, str(Path(disk.path).resolve())))
        except CommandError as error:
            raise RefusedError(f"{disk.path}: the hypervisor does not open it: {error}") from None
        try:
            self._add_device(disk)
            if plug.ceiling != Rates():
                self._limit(name, plug.ceiling)
        except BaseException:
            self._take_back(name)
            raise
        there = next((one for one in plugged(self._monitor) if one.handle.endswith(f"/{name}")), None)
        if there is None:
            self._take_back(name)
            raise RefusedError(f"{disk.path}: the hypervisor took it, but does not show it at {plug.slot_name}")
        return there

    def tidy(self) -> None:
        """Close images that Narvet had opened and no device reads any more."""
        for name in left_nodes(self._monitor):
            self._monitor.execute("blockdev-del", **{"node-name": name})

    def _add_device(self, disk: PlannedDisk) -> None:
        plug = disk.plug
        buses: list[tuple[str | None, int]] = [(None, 0)]
        if plug.slot is not None and plug.slot[0] == "scsi":
            buses = [(one.name, plug.slot[1] - one.first) for one in scsi_buses(self._monitor) if one.has(plug.slot[1])]
        else:
            buses += [(port, 0) for port in free_ports(self._monitor)]
        refused = "there is no bus for it"
        for bus, target in buses:
            try:
                self._monitor.execute("device_add", **device(disk, bus, target))
            except CommandError as error:
                refused = str(error)
            else:
                return
        raise RefusedError(f"{disk.path}: the hypervisor does not plug it in at {plug.slot_name}: {refused}")

    def _take_back(self, name: str) -> None:
        """Take out what was plugged in only in part."""
        with suppress(RefusedError):
            self._monitor.execute("device_del", id=name)
        with suppress(RefusedError):
            self._monitor.execute("blockdev-del", **{"node-name": name})

    def unplug(self, there: Plugged, seconds: float) -> None:
        """Take a disk out, and wait for the guest to let it go; what opened its image is closed then."""
        name = node_of(self._monitor, there)
        if not self._is_let_go(there, seconds):
            raise RefusedError(
                f"{there.where}: the guest does not let go of {there.path or there.handle} within {seconds:g} seconds; "
                "unmount it inside and see that the guest runs, then detach it again"
            )
        ends = time.monotonic() + _LOOKS_EACH
        while name and not name.startswith("#"):
            try:
                self._monitor.execute("blockdev-del", **{"node-name": name})
            except CommandError as error:
                if "Cannot find" in str(error) or "Failed to find" in str(error):
                    return
                if time.monotonic() > ends:
                    raise RefusedError(f"{there.path}: the hypervisor does not close it: {error}") from None
                time.sleep(_LOOKS_EACH / 10)
            else:
                return

    def _is_let_go(self, there: Plugged, seconds: float) -> bool:
        ends = time.monotonic() + seconds
        while (left := ends - time.monotonic()) > 0:
            wait, asked = min(left, _LOOKS_EACH), {"id": there.handle}
            for event in self._monitor.execute_and_wait("device_del", asked, wait, _GONE, _KEPT):
                about = event.get("data", {})
                if about.get("path") == there.handle and event.get("event") == _KEPT:
                    return False
                if about.get("path") == there.handle:
                    return True
            if not any(one.handle == there.handle for one in plugged(self._monitor)):
                return True
        return False

    def enlarge(self, there: Plugged, size: int) -> None:
        """Make the image of a disk that is plugged in larger, and tell the guest."""
        try:
            asked = {"node-name": node_of(self._monitor, there), "size": size}
            self._monitor.execute("block_resize", **asked)
        except CommandError as error:
            kinds = " and ".join(GROWS)
            raise RefusedError(
                f"{there.path}: the hypervisor does not make it {show_bytes(size)} while the guest runs, which it does "
                f"with {kinds} images: {error}"
            ) from None

    def is_outdated(self, disk: PlannedDisk, there: Plugged) -> bool:
        """Return whether a disk that is plugged in has another ceiling than asked for."""
        return there.ceiling is not None and there.ceiling != disk.plug.ceiling

    def renew(self, disk: PlannedDisk, there: Plugged) -> None:
        """Give a disk that is plugged in the ceiling that is asked for."""
        self._limit(there.handle, disk.plug.ceiling)

    def _limit(self, name: str, ceiling: Rates) -> None:
        self._monitor.execute("block_set_io_throttle", **limits(name, ceiling))


class QmpDoorKind:
    """Doors to running QEMU guests."""

    name = "qmp"

    def unkept(self, plug: Plug) -> Iterator[str]:
        """Yield what the hypervisor cannot promise, or a controller not tell the guest."""
        if plug.floor != Rates():
            yield "floor"
        if plug.flash and plug.slot is not None and plug.slot[0] == "virtio":
            yield "flash"

    def look(self, place: Path, guest: str) -> DoorState:  # noqa: ARG002 (a monitor is of one guest)
        """Return what is seen of the guest, also that it is off, or that the monitor does not answer."""
        try:
            with monitor(place, only_look=True) as spoken_to:
                return QmpDoor(place, spoken_to).state()
        except (FileNotFoundError, ConnectionRefusedError):
            return DoorState(self.name, str(place))
        except RefusedError as error:
            return DoorState(self.name, str(place), runs=True, problem=str(error))
        except OSError as error:
            return DoorState(self.name, str(place), problem=f"{place}: {error.strerror or error}")

    @contextmanager
    def open(self, place: Path, guest: str) -> Iterator[QmpDoor]:  # noqa: ARG002 (likewise)
        """Hold the monitor for this process alone.

        Raises:
            RefusedError: the guest is off, or its monitor does not answer.
        """
        with ExitStack() as stack:
            try:
                stack.enter_context(exclusive_lock(place))
                spoken_to = stack.enter_context(monitor(place))
            except (FileNotFoundError, ConnectionRefusedError):
                raise RefusedError(f"{place}: nobody listens there, so the guest is off; start it first") from None
            yield QmpDoor(place, spoken_to)


KIND = QmpDoorKind.name
DOOR = QmpDoorKind()
