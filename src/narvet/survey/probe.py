"""Reading an image or device from the outside in: format, table, partitions, filesystems. Nothing in it is trusted."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

from narvet.block.contract import BlockDevice, Extent
from narvet.block.window import Window
from narvet.errors import ImageError, UnsupportedError
from narvet.filesystems import candidates
from narvet.filesystems.contract import FilesystemFacts
from narvet.findings import Finding
from narvet.images.chain import chain, identify, open_image
from narvet.images.contract import ImageFacts, ImageFormat
from narvet.layout.facts import PartitionFound, Survey
from narvet.tables import NAMES as TABLES
from narvet.tables import table_format
from narvet.tables.contract import Partition, Table

_SECTORS = (512, 4096)  # tried in turn where the format does not record it


def survey(path: str, *, deep: bool = True) -> Survey:
    """Return what is found at `path`; without `deep`, filesystems are only looked at for their facts.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        OSError: the system does not let it be read.
    """
    place = Path(path)
    try:
        _, image = identify(place)
        return _inside(path, place, image, deep=deep)
    except (ImageError, UnsupportedError) as error:
        size = place.stat().st_size
        said = Finding("image-damaged", "error", path, str(error), "fetch it again, or mend it where it was made")
        return Survey(path, "unknown", "thin", size, 0, size, None, "none", "", (), (said,))


def _inside(path: str, place: Path, image: ImageFacts, *, deep: bool) -> Survey:
    if not image.size:
        empty = Finding("image-empty", "error", path, "the file holds no bytes", "write it anew, or fetch it again")
        return _survey(path, image, 0, None, (), (empty,))
    links = chain(place)
    changed = tuple(_base_findings(path, links))
    said: tuple[Finding, ...] = ()
    for sector in (image.sector,) if image.sector else _SECTORS:
        with open_image(place, sector) as device:
            found = _by_table(path, image, device, deep=deep)
        if found.table != "none":
            return replace(found, findings=(*changed, *found.findings))
        said = said or found.findings
    with open_image(place, image.sector or _SECTORS[0]) as device:
        found = _survey(path, image, 0, None, (), said) if said else _without_table(path, image, device, deep=deep)
    return replace(found, findings=(*changed, *found.findings))


def _base_findings(path: str, links: list[tuple[Path, ImageFormat, ImageFacts]]) -> Iterator[Finding]:
    """Yield a finding for every child whose base is not what it was made from."""
    for (child, _, facts), (base, _, there) in pairwise(links):
        if facts.base_link and there.link and facts.base_link != there.link:
            yield Finding(
                "base-changed", "error", path,
                f"{base} is not what {child} was made from: it was changed, or is another image",
                "put back the base as it was; what the child holds fits no other",
            )  # fmt: skip


def _survey(
    path: str,
    image: ImageFacts,
    sector: int,
    table: Table | None,
    partitions: tuple[PartitionFound, ...],
    findings: tuple[Finding, ...],
) -> Survey:
    inside = [finding for part in partitions if part.filesystem for finding in part.filesystem.findings]
    return Survey(
        path=path,
        format=image.format,
        space=image.space,
        size=image.size,
        sector=sector or image.sector,
        allocated=image.allocated,
        base=image.base,
        table=table.kind if table else "none",
        table_id=str(table.id) if table else "",
        partitions=partitions,
        findings=(*findings, *inside),
        block=image.block,
    )


def _by_table(path: str, image: ImageFacts, device: BlockDevice, *, deep: bool) -> Survey:
    """Return the survey by the first table found, or by none of them with what they have to say."""
    said: list[Finding] = []
    for name in TABLES:
        table, findings = table_format(name).read(device, path)
        said += findings
        if table is not None:
            parts = tuple(
                PartitionFound(part, _filesystem(device, part, f"{path} partition {part.number}", deep=deep))
                for part in table.partitions
            )
            return _survey(path, image, device.sector, table, parts, tuple(said))
    return _survey(path, image, 0, None, (), tuple(said))


def _without_table(path: str, image: ImageFacts, device: BlockDevice, *, deep: bool) -> Survey:
    """Return the survey of a filesystem that fills the disk, of a blank disk, or of bytes nothing is known about."""
    whole = Partition(0, 0, device.size, "", "")
    facts = _filesystem(device, whole, path, deep=deep)
    if facts is not None:
        return _survey(path, image, 0, None, (PartitionFound(whole, facts),), ())
    if next(device.extents(), None) is None:
        said = Finding("image-blank", "note", path, f"nothing has been written to its {device.size} bytes")
    else:
        said = Finding(
            "bytes-not-known", "warning", path, "it holds neither a table nor a filesystem that Narvet can read",
            "do not overwrite it unless you know what it is",
        )  # fmt: skip
    return _survey(path, image, 0, None, (), (said,))


def _filesystem(device: BlockDevice, part: Partition, where: str, *, deep: bool) -> FilesystemFacts | None:
    """Return the filesystem on a partition; a partition that leaves the disk has its finding already."""
    try:
        window = Window(device, part.start, part.size)
    except ImageError:
        return None
    for kind in candidates(window):
        facts = kind.read(window, where, deep=deep)
        if facts is not None:
            return facts
    return None


def unused(found: Survey, device: BlockDevice) -> Iterator[Extent]:
    """Yield the runs of a surveyed disk that its sound filesystems keep nothing in, ascending."""
    for part in sorted(found.partitions, key=lambda one: one.place.start):
        if part.filesystem is None or part.filesystem.findings:
            continue
        window = Window(device, part.place.start, part.place.size)
        for kind in candidates(window):
            if kind.read(window, "", deep=False) is not None:
                for start, length in kind.unused(window):
                    yield Extent(part.place.start + start, length)
                break
