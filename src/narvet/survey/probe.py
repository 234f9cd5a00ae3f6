"""Reading an image or device from the outside in: format, table, partitions, filesystems. Nothing in it is trusted."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.window import Window
from narvet.budget import budget
from narvet.errors import ImageError, UnsupportedError, UntrustedError
from narvet.filesystems import candidates
from narvet.filesystems.contract import FilesystemFacts
from narvet.findings import Finding
from narvet.images.chain import Link, base_changed, chain, identify, open_chain
from narvet.images.contract import ImageFacts
from narvet.images.trust import Trust
from narvet.layout.facts import DEFAULT_SECTOR, PartitionFound, Survey, sector_not_recorded
from narvet.tables import NAMES as TABLES
from narvet.tables import table_format
from narvet.tables.contract import Partition, Table

_SECTORS = (512, 4096)  # tried in turn where the format does not record it and nobody says it
_BY_CONTENT = Trust(by_content=True)


def survey(path: str, *, deep: bool = True, trust: Trust = _BY_CONTENT, sector: int | None = None) -> Survey:
    """Return what is found at `path`; without `deep`, filesystems are only looked at for their facts.

    `trust` is what is said of the image, and `sector` the bytes of its sectors where its format does not record them;
    None lets the content tell.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        OSError: the system does not let it be read.
    """
    place = Path(path)
    try:
        try:
            links = chain(place, trust, changed_too=True)
        except UntrustedError as error:
            return _not_followed(path, identify(place, trust).facts, str(error))
        with budget(sum(link.facts.allocated for link in links)):
            return _inside(path, links, sector, deep=deep)
    except (ImageError, UnsupportedError) as error:
        size = place.stat().st_size
        said = Finding("image-damaged", "error", path, str(error), "fetch it again, or repair it where it was made")
        return Survey(path, "unknown", "thin", size, 0, size, None, "none", "", (), (said,))


def _inside(path: str, links: list[Link], sector: int | None, *, deep: bool) -> Survey:
    image = links[0].facts
    if not image.size:
        empty = Finding("image-empty", "error", path, "the file holds no bytes", "write it anew, or fetch it again")
        return _survey(path, image, 0, None, (), (empty,))
    changed = tuple(_base_findings(path, links))
    found: list[Survey] = []
    for size in [image.sector or sector] if image.sector or sector else _SECTORS:
        with open_chain(links, size or 0) as device:
            found.append(_by_table(path, image, device, deep=deep))
    best = max(found, key=_likelihood)
    if best.table == "none":
        best = next((one for one in found if one.findings), best)
        if not best.findings:
            with open_chain(links, image.sector or sector or _SECTORS[0]) as device:
                best = _without_table(path, image, device, deep=deep)
    unsaid = best.sector not in (0, DEFAULT_SECTOR) and not image.sector
    notes = (sector_not_recorded(image.format, best.sector, path),) if unsaid else ()
    return replace(best, findings=(*changed, *best.findings, *notes))


def _not_followed(path: str, image: ImageFacts, message: str) -> Survey:
    said = Finding("base-elsewhere", "error", path, message, "name the base, if it is the right one")
    return _survey(path, image, 0, None, (), (said,))


def _likelihood(found: Survey) -> tuple[bool, bool, int]:
    """Return how likely a disk has the sectors it was read with: an MBR reads with any, but makes sense with one."""
    sound = not any(finding.level == "error" for finding in found.findings)
    return found.table != "none", sound, sum(part.filesystem is not None for part in found.partitions)


def _base_findings(path: str, links: list[Link]) -> Iterator[Finding]:
    """Yield a finding for every child whose base is not what it was made from."""
    for child, base in pairwise(links):
        if base_changed(child, base):
            yield Finding(
                "base-changed", "error", path,
                f"{base.path} is not what {child.path} was made from: it was changed, or is another image",
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
