"""Images and devices looked at, no matter who made them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from narvet.fleet.engine import all_of
from narvet.fleet.standing import placed, stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.formats.images import format_by_ending
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.ground.errors import NarvetError, RefusedError, RequestError
from narvet.ground.findings import Finding, pool_place
from narvet.ground.rules import pools as rules
from narvet.ground.rules.images import bytes_not_known
from narvet.ground.values import Frozen, replace
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


class Surveyed(Frozen):
    """What is on several images, the pools that lie on them, and what could not be read: why, and an exit status."""

    disks: tuple[Disk, ...] = ()
    pools: tuple[FoundPool, ...] = ()
    problems: tuple[tuple[str, int], ...] = ()


class SurveyWishes(Frozen):
    """How images are looked at; see `survey`."""

    deep: bool = True
    image_format: str | None = None
    bases: tuple[str, ...] = ()
    sector_size: int | None = None


def survey_paths(paths: Sequence[str], wishes: SurveyWishes | None = None) -> Surveyed:
    """Return what is on images, devices, and the images in folders; what one has wrong does not keep the others back.

    Raises:
        RequestError: a single path cannot be read; likewise the other errors of `survey`.
    """
    return _gathered(paths, wishes or SurveyWishes(), alone=len(paths) == 1)


def _gathered(paths: Sequence[str], known: SurveyWishes, *, alone: bool) -> Surveyed:
    """Return what is on images; of one that is `alone` what is wrong is raised."""
    found: list[Disk] = []
    problems: list[tuple[str, int]] = []
    for path in paths:
        try:
            inside = [str(one) for one in images_in(Path(path))] if Path(path).is_dir() else [path]
        except (NarvetError, OSError) as error:
            if alone:
                raise
            inside = []
            problems.append(_problem(path, error))
        for one in inside:
            try:
                found.append(_surveyed(one, known))
            except (NarvetError, OSError) as error:
                if alone and one == path:
                    raise
                problems.append(_problem(one, error))
    return Surveyed(tuple(found), survey_pools(found, deep=known.deep), tuple(problems))


def survey_on_hosts(asked: Sequence[tuple[str, str]], wishes: SurveyWishes) -> Surveyed:
    """Return what hosts find at paths; `asked` are hosts and paths, which start in a host's folder if relative.

    Raises:
        RefusedError: a host is not there.
    """
    paths: dict[str, list[str]] = {}
    for host, path in asked:
        paths.setdefault(host, []).append(path)
    each = all_of(survey_there, [(host, (host, tuple(own), wishes, len(asked) == 1)) for host, own in paths.items()])
    return Surveyed(
        tuple(disk for one in each for disk in one.disks),
        tuple(pool for one in each for pool in one.pools),
        tuple(problem for one in each for problem in one.problems),
    )


@runs_elsewhere
def survey_there(host: str, paths: Sequence[str], wishes: SurveyWishes, alone: bool) -> Surveyed:
    """Return what is found at paths of this host, whose name stands before them; see `_gathered` for `alone`."""
    here = [placed(path) for path in paths]
    stay_inside(*here, *map(placed, wishes.bases))
    found = _gathered(here, replace(wishes, bases=tuple(map(placed, wishes.bases))), alone=alone)
    problems = tuple((f"host {host}: {why}", status) for why, status in found.problems)

    def told(findings: Iterable[Finding]) -> tuple[Finding, ...]:
        return tuple(
            replace(one, where=replace(one.where, name=f"{host}:{one.where.name}"))
            if one.where.kind == "image"
            else one
            for one in findings
        )

    def disk(one: Disk) -> Disk:
        image = replace(one.image, path=f"{host}:{one.path}", host=host)
        return replace(one, image=image, findings=told(one.findings))

    pools = tuple(
        replace(
            pool,
            places={plain: replace(one, path=f"{host}:{one.path}") for plain, one in pool.places.items()},
            volumes={name: disk(one) for name, one in pool.volumes.items()},
            findings=told(pool.findings),
        )
        for pool in found.pools
    )
    return Surveyed(tuple(map(disk, found.disks)), pools, problems)


def _surveyed(path: str, known: SurveyWishes) -> Disk:
    bases = tuple(map(Path, known.bases))
    return survey(path, deep=known.deep, image_format=known.image_format, bases=bases, sector_size=known.sector_size)


def _problem(path: str, error: Exception) -> tuple[str, int]:
    """Return why a path could not be read, and the exit status that this leads to."""
    if isinstance(error, NarvetError):
        return str(error), error.status
    return f"{path}: {getattr(error, 'strerror', error)}", RefusedError.status


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


class UsedAs(Frozen):
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
