"""What the hypervisor is told of a disk: the node that opens its image, and the device that the guest sees. Pure.

Names follow from the slot, so that a later call knows what an earlier one began (QEMU QMP reference, block devices).
"""

from __future__ import annotations

from typing import Any

from narvet.ground.errors import BugError
from narvet.model.controllers import Slot
from narvet.model.layout import PlannedDisk
from narvet.model.plugs import Hold, Plug, Rates

DRIVERS = {"raw": "raw", "vhd": "vpc", "vhdx": "vhdx", "qcow2": "qcow2", "vmdk": "vmdk"}
"""What the hypervisor calls the formats."""

GROWS = ("raw", "qcow2")
"""The formats whose images it makes larger by itself."""

FOLLOWS_BASES = ("qcow2", "vmdk")
"""The formats whose children it reads through their bases."""

DEVICES = {"scsi": "scsi-hd", "virtio": "virtio-blk-pci", "nvme": "nvme"}
"""The device of each controller that it takes while the guest runs."""

_NO_ROTATION, _ROTATION_UNSAID = 1, 0  # SBC-4, section 6.6.2: medium rotation rate


def name_of(slot: Slot) -> str:
    """Return the name of the device and node of a slot."""
    return f"narvet-{slot[0]}-{slot[1]}"


def slot_named(name: str) -> Slot | None:
    """Return the slot that a device's name tells, None for a device of others."""
    match name.split("-"):
        case ["narvet", controller, position] if controller in DEVICES and position.isdecimal() and len(position) < 4:
            return controller, int(position)
        case _:
            return None


def node(disk: PlannedDisk, path: str) -> dict[str, Any]:
    """Return the node that opens a disk's image at a path, as blockdev-add takes it."""
    plug = disk.plug
    common = {
        "read-only": plug.read_only,
        "discard": "unmap" if plug.gives_back else "ignore",
        "cache": {"direct": plug.hold == "direct", "no-flush": plug.hold == "fast"},
    }
    inside = {"driver": "file", "filename": path, "node-name": f"{name_of(_slot(plug))}-file", **common}
    return {"driver": DRIVERS[disk.wanted.image.format], "node-name": name_of(_slot(plug)), "file": inside, **common}


def device(disk: PlannedDisk, bus: str | None, target: int) -> dict[str, Any]:
    """Return the device that the guest sees, as device_add takes it; `target` is the position on its bus."""
    plug, sector = disk.plug, disk.wanted.image.sector_size or 512
    controller, _ = slot = _slot(plug)
    made: dict[str, Any] = {
        "driver": DEVICES[controller],
        "id": name_of(slot),
        "drive": name_of(slot),
        "serial": plug.serial,
        "logical_block_size": sector,
        "physical_block_size": sector,
    }
    if plug.shared:
        made["share-rw"] = True
    if bus is not None:
        made["bus"] = bus
    if controller == "scsi":
        made |= {"scsi-id": target, "lun": 0, "channel": 0}
        made["rotation_rate"] = _NO_ROTATION if plug.flash else _ROTATION_UNSAID
    return made


def limits(name: str, ceiling: Rates) -> dict[str, Any]:
    """Return the arguments that give a device a ceiling; 0 is none."""
    none = dict.fromkeys(("bps_rd", "bps_wr", "iops_rd", "iops_wr"), 0)
    return {"id": name, "bps": ceiling.bytes or 0, "iops": ceiling.operations or 0, **none}


def hold_of(cache: dict[str, Any]) -> Hold:
    """Return how writes are held back, from what the hypervisor tells of a node's cache."""
    if cache.get("no-flush"):
        return "fast"
    return "direct" if cache.get("direct") else "safe"


def _slot(plug: Plug) -> Slot:
    if plug.slot is None:
        raise BugError("a disk without a slot is to be plugged in")
    return plug.slot
