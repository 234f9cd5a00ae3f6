"""What is to be said about sealed partitions and volumes: what unlocking takes, what a thin image gives away. Pure."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator

from narvet.ground.findings import Finding, Place
from narvet.ground.rules import seals as rules
from narvet.ground.units import KIB
from narvet.model.estate import Partition
from narvet.model.layout import PlannedDisk
from narvet.model.pools import PlannedPool


def check_seals(
    disks: Iterable[PlannedDisk], pools: Iterable[PlannedPool], closed: Container[str]
) -> Iterator[Finding]:
    """Yield what sealing means for guests and stores; `closed` are the hosts that were given no passphrase."""
    thin: set[str] = set()
    hosts: dict[str, str] = {}
    for disk in disks:
        host = hosts[disk.name] = disk.wanted.image.host
        if disk.wanted.image.space == "thin":
            thin.add(disk.name)
        if disk.origin is None:
            for part in disk.wanted.partitions:
                where = disk.place.part(part.mount.index if part.mount else part.number)
                yield from _check(part, where, is_thin=disk.name in thin)
                yield from _closed(part, where, host, closed)
    for pool in pools:
        names = {one.disk for one in pool.members.values()}
        for volume in pool.volumes:
            part = volume.wanted.partitions[0]
            yield from _check(part, volume.place, is_thin=bool(names & thin))
            yield from _closed(part, volume.place, next((hosts[one] for one in names if one in hosts), ""), closed)


def _closed(part: Partition, where: Place, host: str, closed: Container[str]) -> Iterator[Finding]:
    """Yield that a host cannot seal what is still to be sealed."""
    if part.seal is not None and not part.seal.slots and host in closed:
        yield rules.host_has_no_passphrase.warning(where, host)


def _check(part: Partition, where: Place, *, is_thin: bool) -> Iterator[Finding]:
    if part.seal is None:
        return
    slots = [slot.kdf.memory * KIB for slot in part.seal.slots]
    memory = max(slots, default=part.cost[0] or 0)
    if memory and not part.key_file:
        yield rules.unlocking_takes_memory.note(where, memory)
    if is_thin:
        yield rules.thin_shows_use.note(where)
