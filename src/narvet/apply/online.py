"""A device changed while it is used: partitions added and made larger, mounted filesystems grown by the kernel."""

from __future__ import annotations

import os

from narvet.apply.device import OnDevice, tell_kernel
from narvet.block.file import FileDevice
from narvet.block.kernel import zero_out
from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import GrowsMounted
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import EndsWithDisk
from narvet.ground.errors import RefusedError
from narvet.ground.offers import offers
from narvet.ground.rules.tables import table_not_at_end
from narvet.ground.units import show_both
from narvet.ground.values import Frozen
from narvet.model.estate import Disk, Partition
from narvet.model.moves import Lies
from narvet.observe.devices import device_at


class ChangeDevice(OnDevice):
    """Add partitions to a device, and make others larger; what is on them stays in use."""

    found: Disk

    @property
    def summary(self) -> str:
        """What becomes of it, in a few words."""
        added = [f"partition {part.number} added, {show_both(part.size)}" for part in self._added()]
        return "; ".join([*added, *(f"partition {part.number} {show_both(part.size)}" for part in self._larger())])

    @property
    def intent(self) -> dict[str, object]:
        """What the ledger keeps beforehand, so that the next call knows what is left to be made larger after a cut."""
        return {"did": "changing device", "disk": self.disk, "larger": [part.number for part in self._larger()]}

    def _added(self) -> list[Partition]:
        there = {part.number for part in self.found.partitions}
        return [part for part in self.wanted.partitions if part.number not in there]

    def _larger(self) -> list[Partition]:
        there = {part.number: part for part in self.found.partitions}
        return [part for part in self.wanted.partitions if part.number in there and part.size > there[part.number].size]

    def apply(self) -> dict[str, object]:
        """Change it: new filesystems where nothing lies yet, then the table, then what the kernel knows.

        A cut before the table leaves the device as it was.

        Raises:
            RefusedError: it is not what it was, or the kernel does not take its partitions.
        """
        there = device_at(self.device.path)
        if there.found is None or _places(there.found) != _places(self.found) or there.mark != self.device.mark:
            raise RefusedError(f"{self.device.path}: it is not what it was; nothing was changed; write again")
        table = table_format(self.found.table)
        handle = os.open(self.device.path, os.O_RDWR | os.O_CLOEXEC)
        with os.fdopen(handle, "r+b", buffering=0) as file:
            device = FileDevice(file, self.device.sector_size)
            if offers(table, EndsWithDisk) and any(table_not_at_end.made(one) for one in there.found.findings):
                table.follow_end(device, self.found.size)
                os.fsync(handle)
            for part in self._added():
                zero_out(handle, part.start, part.size)
                if part.new is not None:
                    part.new.write(Window(device, part.start, part.size))
            os.fsync(handle)
            kept = {part.number: part.entry for part in self.found.partitions}
            changed = [part.entry for part in self.wanted.partitions if kept.get(part.number) != part.entry]
            table.change(device, changed)
            os.fsync(handle)
        tell_kernel(self.device.path, self.wanted)
        return {"did": "device changed", "disk": self.disk, "mark": self.device.mark}


class GrowMounted(Frozen):
    """Have the kernel make a mounted filesystem as large as its partition."""

    disk: str
    guest: str
    partition: Partition
    kind: str
    guest_may_run = True
    is_change = True
    comes_last = False
    lies_in = Lies.SHEET

    @property
    def touches(self) -> str:
        """The mount point."""
        return str(self.partition.at)

    @property
    def summary(self) -> str:
        """The filesystem in a few words."""
        return f"{self.kind} made {show_both(self.partition.size)}, as it is mounted"

    def apply(self) -> dict[str, object]:
        """Make it larger.

        Raises:
            RefusedError: the kernel refused.
        """
        kind = filesystem(self.kind)
        if offers(kind, GrowsMounted) and self.partition.at is not None:
            try:
                kind.grow_mounted(self.partition.at, self.partition.size)
            except OSError as error:
                raise RefusedError(
                    f"{self.partition.at}: the kernel does not make it larger: {error.strerror}; its partition is; "
                    "write again once that is seen to"
                ) from None
        return {"did": "grown as mounted", "disk": self.disk, "partition": self.partition.number}


def _places(disk: Disk) -> tuple[object, ...]:
    return disk.table_id, tuple((part.number, part.start, part.size) for part in disk.partitions)
