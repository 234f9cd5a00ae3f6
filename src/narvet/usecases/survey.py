"""Images and devices looked at, no matter who made them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from narvet.formats.images import format_by_ending
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, pool_place
from narvet.ground.rules import pools as rules
from narvet.ground.rules.images import bytes_not_known
from narvet.model.estate import Disk, Partition
from narvet.model.pools import FoundPool
from narvet.observe import images
from narvet.observe.images import UNKNOWN_FORMAT, Look
from narvet.observe.pools import pools_on


def images_in(folder: Path) -> tuple[Path, ...]:
    """Return the images that lie in a folder, in order of their names.

    Raises:
        RequestError: there is none.
        OSError: the system does not let the folder be read.
    """
    found = images.images_in(folder)
    if not found:
        raise RequestError(f"{folder}: there is no image in this folder")
    return found


def survey(
    path: Path | str,
    *,
    deep: bool = True,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    sector_size: int | None = None,
) -> Disk:
    """Return what is on an image or a device; nothing is changed, and nothing in it is trusted.

    Without `deep`, filesystems are only looked at for their facts. `image_format` is what it is read by; otherwise its
    ending tells, or its content. `bases` are bases that may lie elsewhere, `sector_size` is bytes, where the image does
    not record them.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        OSError: the system does not let it be read.
    """
    trust = trust_of_call(Path(path), image_format, bases, by_content=True)
    found = images.survey(str(path), deep=deep, systems=True, trust=trust, sector_size=sector_size)
    if image_format is None and any(map(bytes_not_known.made, found.findings)) and _says_nothing(Path(path)):
        return replace(found, image=replace(found.image, format=UNKNOWN_FORMAT))
    return found


def survey_pools(found: Sequence[Disk], *, deep: bool = True) -> tuple[FoundPool, ...]:
    """Return the pools whose members lie on images that were looked at, and what lies on their volumes.

    Without `deep`, filesystems are only looked at for their facts.
    """
    members = {one.path: one for one in found if any(part.member is not None for part in one.partitions)}
    formats = {os.path.realpath(path): one.image.format for path, one in members.items()}
    pools = pools_on(members, Trust(formats, by_content=True), Look(deep, systems=True)) if members else ()
    return tuple(replace(one, findings=(*one.findings, *_not_looked_at(one))) for one in pools)


def _not_looked_at(found: FoundPool) -> Iterator[Finding]:
    for name in found.missing:
        place, hint = pool_place(found.pool.name), found.pool.member(name).hint
        yield rules.member_not_looked_at.warning(place, found.pool.name, name, hint)


@dataclass(frozen=True)
class UsedAs:
    """What a partition is to a guest's system: where it is mounted, by the entries of which system on which image."""

    partition: int
    at: str
    system: str
    image: str


def used_as(disk: Disk, every: Iterable[Disk]) -> Iterator[UsedAs]:
    """Yield what the partitions of a disk are to the systems that live on some disks, itself among them or not."""
    known = {source: part.number for part in disk.partitions for source in _sources(part)}
    for other in every:
        for system in other.systems:
            for source, at in system.mounts:
                number = known.get(source)
                if number is not None:
                    yield UsedAs(number, at, system.name, f"{other.path}:{system.partition}")


def _sources(part: Partition) -> Iterator[str]:
    """Yield what a partition can be called where it is mounted."""
    inside = part.filesystem
    if inside is not None:
        yield f"UUID={inside.uuid.lower()}"
        yield from [f"LABEL={inside.label}"] if inside.label else []
    yield from [f"PARTUUID={part.entry.id.lower()}"] if part.entry.id else []
    yield from [f"PARTLABEL={part.entry.label}"] if part.entry.label else []


def _says_nothing(path: Path) -> bool:
    """Return whether a file's name does not tell either of which format it is."""
    return path.is_file() and format_by_ending(path) is None
