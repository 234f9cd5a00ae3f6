"""What is to be said about sealed partitions and volumes: what unlocking takes, what a thin image gives away. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.ground.findings import Finding, Place
from narvet.ground.rules import seals as rules
from narvet.ground.units import KIB
from narvet.model.estate import Guest, Partition
from narvet.model.facts import Facts
from narvet.model.layout import PlannedDisk
from narvet.model.pools import PlannedPool


def check_seals(
    disks: Iterable[PlannedDisk], pools: Iterable[PlannedPool], facts: Facts, roots: Mapping[str, str | None]
) -> Iterator[Finding]:
    """Yield what sealing means for guests, stores and hosts; `roots` are the hosts of guests."""
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
                yield from _apart(part, where, facts, (host, disk.guest, roots[disk.guest] or ""))
    for pool in pools:
        names = {one.disk for one in pool.members.values()}
        for volume in pool.volumes:
            part = volume.wanted.partitions[0]
            yield from _check(part, volume.place, is_thin=bool(names & thin))
            host = next((hosts[one] for one in names if one in hosts), "")
            yield from _apart(part, volume.place, facts, (host, pool.guest, roots[pool.guest] or ""))


def _apart(part: Partition, where: Place, facts: Facts, lies: tuple[str, str, str]) -> Iterator[Finding]:
    """Yield that a host cannot seal what is still to be sealed, or that its key cannot come to another one's root.

    `lies` is the host that it lies on, its guest, and the host of that guest's root.
    """
    host, guest, other = lies
    if part.seal is None:
        return
    if not part.seal.slots and not facts.far.get(host, True):
        yield rules.host_has_no_passphrase.warning(where, host)
    if part.key_file and host != other and (host in facts.far or other in facts.far):
        found = facts.found.guests.get(guest, Guest(guest)).key_files.get(part.key_file)
        if found is None or part.seal.file_key is None or found.digest != part.seal.file_key.digest:
            told = f"its volume lies on {f'host {host}' if host else 'this machine'}, and no key leaves that"
            yield rules.key_file_in_the_way.error(where.key("sealed.key_file"), part.key_file, told, _ONE_HOST)


_ONE_HOST = "keep the disk on the host of its guest's root, or leave key_file out"


def _check(part: Partition, where: Place, *, is_thin: bool) -> Iterator[Finding]:
    if part.seal is None:
        return
    slots = [slot.kdf.memory * KIB for slot in part.seal.slots]
    memory = max(slots, default=part.cost[0] or 0)
    if memory and not part.key_file:
        yield rules.unlocking_takes_memory.note(where, memory)
    if is_thin:
        yield rules.thin_shows_use.note(where)
