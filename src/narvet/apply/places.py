"""Where the steps of a sheet are done, and how many write to a store at once. Pure."""

from __future__ import annotations

from collections.abc import Mapping

from narvet.ground.offers import offers
from narvet.ground.values import Frozen, field
from narvet.model.moves import IsElsewhere, Lies, Step
from narvet.sheet.hosts import THIS_MACHINE
from narvet.sheet.resolved import ResolvedSheet

_WRITERS, _WRITERS_FLASH = 2, 8


class Places(Frozen):
    """Where steps are done: the hosts of disks and guests by name, and how many write to a store at once, by disk."""

    disks: Mapping[str, str] = field(default_factory=dict)
    guests: Mapping[str, str] = field(default_factory=dict)
    stores: Mapping[str, str] = field(default_factory=dict)
    writers: Mapping[str, int] = field(default_factory=dict)

    def host(self, step: Step) -> str:
        """Return the host that a step is done on, empty for this machine."""
        if step.lies_in is Lies.ROOT:
            return self.guests.get(step.guest, THIS_MACHINE)
        if offers(step, IsElsewhere):
            return step.host
        name = str(getattr(step, "disk", ""))
        return self.disks.get(name, THIS_MACHINE) if step.lies_in is Lies.STORE else THIS_MACHINE

    def store(self, step: Step) -> str:
        """Return the store that a step writes to, where there is one."""
        return self.stores.get(str(getattr(step, "disk", "")), "") if step.lies_in is Lies.STORE else ""


EVERYTHING_HERE = Places()


def places_of(sheet: ResolvedSheet, left_over: Mapping[str, str] | None = None) -> Places:
    """Return where the steps of a sheet are done; `left_over` are hosts of images whose disks it no longer has."""
    hosts = {name: sheet.stores[disk.store].host or THIS_MACHINE for name, disk in sheet.disks.items()}
    hosts |= left_over or {}
    for name, disk in sheet.disks.items():
        for part in disk.partitions:
            if part.pool is not None:
                hosts.setdefault(part.pool, hosts[name])
    writers = {
        name: form.writers or (_WRITERS_FLASH if form.flash else _WRITERS)
        for name, form in sheet.stores.items()
        if form.host or form.writers
    }
    return Places(
        hosts,
        {name: form.host or THIS_MACHINE for name, form in sheet.guests.items()},
        {name: disk.store for name, disk in sheet.disks.items()},
        writers,
    )
