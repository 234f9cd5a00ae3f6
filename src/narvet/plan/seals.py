"""What is to be said about sealed partitions and volumes: what unlocking takes, what a thin image gives away. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from narvet.ground.findings import Finding, Place
from narvet.ground.rules import seals as rules
from narvet.ground.units import KIB
from narvet.model.estate import Partition
from narvet.model.layout import PlannedDisk
from narvet.model.pools import PlannedPool


def check_seals(disks: Iterable[PlannedDisk], pools: Iterable[PlannedPool]) -> Iterator[Finding]:
    """Yield what sealing means for guests and stores."""
    thin: set[str] = set()
    for disk in disks:
        if disk.wanted.image.space == "thin":
            thin.add(disk.name)
        if disk.origin is None:
            for part in disk.wanted.partitions:
                where = disk.place.part(part.mount.index if part.mount else part.number)
                yield from _check(part, where, is_thin=disk.name in thin)
    for pool in pools:
        names = {one.disk for one in pool.members.values()}
        for volume in pool.volumes:
            yield from _check(volume.wanted.partitions[0], volume.place, is_thin=bool(names & thin))


def _check(part: Partition, where: Place, *, is_thin: bool) -> Iterator[Finding]:
    if part.seal is None:
        return
    slots = [slot.kdf.memory * KIB for slot in part.seal.slots]
    memory = max(slots, default=part.cost[0] or 0)
    if memory and not part.key_file:
        yield rules.unlocking_takes_memory.note(where, memory)
    if is_thin:
        yield rules.thin_shows_use.note(where)
