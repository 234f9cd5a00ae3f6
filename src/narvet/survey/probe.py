"""Reading an image or device from the outside in: format, table, partitions, filesystems. Nothing in it is trusted."""

from __future__ import annotations

import stat
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.window import Window
from narvet.errors import ImageError, RequestError
from narvet.filesystems import NAMES as FILESYSTEMS
from narvet.filesystems import filesystem
from narvet.filesystems.contract import FilesystemFacts
from narvet.findings import Finding
from narvet.images import NAMES as FORMATS
from narvet.images import image_format
from narvet.images.contract import ImageFacts
from narvet.layout.facts import PartitionFound, Survey
from narvet.tables import NAMES as TABLES
from narvet.tables import table_format
from narvet.tables.contract import Partition, Table

_SECTORS = (512, 4096)  # tried in turn where the format does not record it


def survey(path: str) -> Survey:
    """Return what is found at `path`.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        OSError: the system does not let it be read.
    """
    place = Path(path)
    try:
        mode = place.stat().st_mode
    except (FileNotFoundError, NotADirectoryError):
        raise RequestError(f"{path}: there is no such file") from None
    if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
        what = "a folder" if stat.S_ISDIR(mode) else "neither a file nor a block device"
        raise RequestError(f"{path}: this is {what}; name an image")
    image = next(facts for facts in (image_format(name).facts(place) for name in FORMATS) if facts is not None)
    if not image.size:
        empty = Finding("image-empty", "error", path, "the file holds no bytes", "write it anew, or fetch it again")
        return _survey(path, image, 0, None, (), (empty,))
    said: tuple[Finding, ...] = ()
    for sector in (image.sector,) if image.sector else _SECTORS:
        with image_format(image.format).open(place, sector) as device:
            found = _by_table(path, image, device)
        if found.table != "none":
            return found
        said = said or found.findings
    with image_format(image.format).open(place, image.sector or _SECTORS[0]) as device:
        return _survey(path, image, 0, None, (), said) if said else _without_table(path, image, device)


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
        sector=sector,
        allocated=image.allocated,
        base=image.base,
        table=table.kind if table else "none",
        table_id=str(table.id) if table else "",
        partitions=partitions,
        findings=(*findings, *inside),
    )


def _by_table(path: str, image: ImageFacts, device: BlockDevice) -> Survey:
    """Return the survey by the first table found, or by none of them with what they have to say."""
    said: list[Finding] = []
    for name in TABLES:
        table, findings = table_format(name).read(device, path)
        said += findings
        if table is not None:
            parts = tuple(
                PartitionFound(part, _filesystem(device, part, f"{path} partition {part.number}"))
                for part in table.partitions
            )
            return _survey(path, image, device.sector, table, parts, tuple(said))
    return _survey(path, image, 0, None, (), tuple(said))


def _without_table(path: str, image: ImageFacts, device: BlockDevice) -> Survey:
    """Return the survey of a filesystem that fills the disk, of a blank disk, or of bytes nothing is known about."""
    whole = Partition(0, 0, device.size, "", "")
    facts = _filesystem(device, whole, path)
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


def _filesystem(device: BlockDevice, part: Partition, where: str) -> FilesystemFacts | None:
    """Return the filesystem on a partition; a partition that leaves the disk has its finding already."""
    try:
        window = Window(device, part.start, part.size)
    except ImageError:
        return None
    for name in FILESYSTEMS:
        facts = filesystem(name).read(window, where)
        if facts is not None:
            return facts
    return None
