"""Steps on real devices inside a guest: a blank one written, its partitions told to the kernel, filesystems mounted."""

from __future__ import annotations

import os
from pathlib import Path

from narvet.block.file import FileDevice
from narvet.block.kernel import mount, partitions_of, runs_of, swap_on, tell_partitions, zero_out
from narvet.block.window import Window
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import Table
from narvet.ground.errors import RefusedError
from narvet.ground.meter import copied, expected
from narvet.ground.units import show_both, show_bytes
from narvet.ground.values import Frozen
from narvet.model.devices import Device
from narvet.model.estate import NO_TABLE, Disk, Partition
from narvet.model.moves import Lies
from narvet.observe.devices import device_at

_AT_ONCE = 1 << 30  # bytes of a device that read as zeros by one call


class OnDevice(Frozen):
    """A step on a real device of a guest, which may run; `wanted` is the disk as it is to be there."""

    disk: str
    guest: str
    wanted: Disk
    device: Device
    guest_may_run = True
    is_change = False
    comes_last = False
    lies_in = Lies.SHEET

    @property
    def touches(self) -> str:
        """The device."""
        return self.device.path


class WriteDevice(OnDevice):
    """Write table and filesystems to a blank device that nobody uses; the table comes last.

    With `was_begun` it is not blank, but holds what an earlier try, which was cut off, had written.
    """

    was_begun: bool = False

    @property
    def summary(self) -> str:
        """The device in a few words."""
        return f"{show_both(self.wanted.size)}, {self.wanted.table_name}"

    @property
    def intent(self) -> dict[str, object]:
        """What the ledger keeps beforehand, so that the next try knows what a cut left."""
        return {"did": "writing device", "disk": self.disk, "mark": self.device.mark}

    def apply(self) -> dict[str, object]:
        """Write it, in an order in which a cut leaves a device that nothing takes for more than it is.

        Raises:
            RefusedError: it is another device by now, or not blank any more, or somebody uses it.
        """
        there = device_at(self.device.path)
        same = (there.number, there.serial, there.size) == (self.device.number, self.device.serial, self.device.size)
        if not same or there.users or there.read_only or not (there.is_blank or self.was_begun):
            told = there.holds or "; ".join(there.users) or "another device has its name"
            raise RefusedError(f"{self.device.path}: it is not what it was: {told}; nothing was written")
        handle = os.open(self.device.path, os.O_RDWR | os.O_EXCL | os.O_CLOEXEC)
        with os.fdopen(handle, "r+b", buffering=0) as file:
            device = FileDevice(file, self.device.sector_size)
            for part in self.wanted.partitions:
                self._clear(handle, part)
                if part.new is not None:
                    part.new.write(Window(device, part.start, part.size))
            os.fsync(handle)
            if self.wanted.table != NO_TABLE:
                entries = tuple(part.entry for part in self.wanted.partitions)
                table = Table(self.wanted.table, self.wanted.table_id, entries)
                for run in table_format(self.wanted.table).reserved(self.wanted.size, self.device.sector_size):
                    zero_out(handle, run.start, run.size)
                table_format(self.wanted.table).write(device, table)
            os.fsync(handle)
        tell_kernel(self.device.path, self.wanted)
        return {"did": "device", "disk": self.disk, "size": self.wanted.size, "mark": self.device.mark}

    def _clear(self, handle: int, part: Partition) -> None:
        """Make a partition read as zeros, which its filesystem counts on."""
        expected(part.size)
        for start in range(part.start, part.end, _AT_ONCE):
            length = min(_AT_ONCE, part.end - start)
            zero_out(handle, start, length)
            copied(length)


class TellKernel(OnDevice):
    """Have the kernel take the partitions of a device that was written earlier."""

    summary = "partitions told to the kernel"

    @property
    def is_needed(self) -> bool:
        """Whether the kernel lacks one of them, or has it of another size."""
        there = runs_of(self.device.path)
        parts = (part for part in self.wanted.partitions if part.number)
        return any(there.get(part.number) != (part.start, part.size) for part in parts)

    def apply(self) -> dict[str, object]:
        """Tell it.

        Raises:
            RefusedError: it does not take them.
        """
        tell_kernel(self.device.path, self.wanted)
        return {"did": "partitions told", "disk": self.disk}


def tell_kernel(path: str, disk: Disk) -> None:
    """See that the kernel has every partition of a disk.

    Raises:
        RefusedError: it does not take them.
    """
    wanted = {part.number: (part.start, part.size) for part in disk.partitions if part.number}
    if not wanted:
        return
    handle = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    try:
        tell_partitions(handle, path, wanted)
    except OSError as error:
        raise RefusedError(
            f"{path}: it is written, but the kernel does not take its partitions: {error.strerror}; "
            "restart the guest, and write again"
        ) from None
    finally:
        os.close(handle)


class MountVolume(Frozen):
    """Mount a filesystem as its entry says, and hold what it shows against what was promised."""

    disk: str
    guest: str
    device: str
    partition: Partition
    kind: str
    options: str
    promised: bool
    guest_may_run = True
    is_change = False
    comes_last = True
    lies_in = Lies.SHEET

    @property
    def touches(self) -> str:
        """The mount point."""
        return self.partition.at or self.device

    @property
    def summary(self) -> str:
        """The filesystem in a few words."""
        capacity = self.partition.capacity
        if self.partition.at is None or capacity is None:
            return "used for swap" if self.partition.at is None else f"{self.kind} mounted"
        return f"{self.kind} mounted, {show_both(capacity.available)} available to fill"

    def apply(self) -> dict[str, object]:
        """Mount it.

        Raises:
            RefusedError: the kernel does not have the partition, does not mount it, or shows something else.
        """
        node = node_of(self.device, self.partition)
        if self.partition.at is None:
            swap_on(node)
            return {"did": "swap used", "disk": self.disk, "device": node}
        mount(node, self.partition.at, self.kind, self.options)
        told = mounted_otherwise(self.partition) if self.promised else ""
        if told:
            raise RefusedError(f"{self.partition.at}: it is mounted, but {told}")
        return {"did": "mounted", "disk": self.disk, "device": node, "at": self.partition.at}


def node_of(device: str, part: Partition) -> str:
    """Return the path of a partition, or of the device that a filesystem fills.

    Raises:
        RefusedError: the kernel does not have that partition.
    """
    if part.number == 0:
        return device
    known = partitions_of(device)
    if part.number not in known or not Path(known[part.number]).exists():
        raise RefusedError(f"{device}: the kernel does not have its partition {part.number}; restart the guest")
    return known[part.number]


def mounted_otherwise(part: Partition) -> str:
    """Return how what a mounted filesystem shows differs from what was promised, empty where it does not."""
    capacity = part.capacity
    if capacity is None or part.at is None:
        return ""
    shown = os.statvfs(part.at)
    names = ("total", "free", "available")
    counts = (shown.f_blocks, shown.f_bfree, shown.f_bavail)
    for name, count, promised in zip(names, counts, (capacity.total, capacity.free, capacity.available), strict=True):
        if count * shown.f_frsize != promised:
            return f"{name} shown is {show_bytes(count * shown.f_frsize)}, not {show_bytes(promised)}"
    return ""
