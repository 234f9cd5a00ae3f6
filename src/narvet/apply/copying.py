"""A disk copied from one image to another: only what holds data; and both compared afterwards."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from narvet.block.granules import PIECE, data_runs
from narvet.block.leases import lease
from narvet.formats.images.chain import Link, chain, identify, new_image_file, open_links
from narvet.formats.images.contract import ImageFormat, ImageSpec
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import EndsWithDisk
from narvet.ground.errors import RefusedError, RequestError
from narvet.ground.extents import Extent
from narvet.ground.meter import copied, expected
from narvet.ground.offers import offers
from narvet.ground.rules.images import image_empty
from narvet.ground.rules.tables import table_cut_short
from narvet.ground.values import Frozen
from narvet.model.estate import NO_TABLE, Disk
from narvet.observe.images import survey


class Source(Frozen):
    """An image to be copied: with its bases, what is on it, and the bytes of its sectors.

    `sure` is whether something says the sector size: the image, the call, or what is on the disk.
    """

    links: tuple[Link, ...]
    found: Disk
    sector_size: int
    sure: bool

    @property
    def path(self) -> Path:
        """Where it lies."""
        return self.links[0].path

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self.links[0].facts.size

    @property
    def files(self) -> tuple[Path, ...]:
        """Every file that the disk is read from: of the image and of its bases."""
        return tuple(file for link in self.links for file in link.files)


def source_of(path: Path, trust: Trust = NOTHING_SAID, sector_size: int | None = None) -> Source:
    """Return an image that is to be copied, once it is clear what it is.

    `sector` is bytes, where its format does not record them; None lets the disk tell.

    Raises:
        RequestError: there is no such image, nothing says of which format it is, or it is cut short.
        ImageError: it or one of its bases is not sound.
    """
    links = chain(path, trust)
    found = survey(str(path), deep=False, trust=trust, sector_size=sector_size)
    facts = links[0].facts
    said = str(path.resolve()) in trust.formats
    cut = next((one for one in found.findings if image_empty.made(one) or table_cut_short.made(one)), None)
    if cut is not None and not (said and links[0].kind.name == "raw"):
        raise RequestError(f"{path}: {cut.message}; to copy it as it is, add --image-format {links[0].kind.name}")
    told = facts.sector_size or sector_size or found.image.sector_size
    return Source(tuple(links), found, told or 512, bool(told))


def copy_disk(source: Source, built: Path, kind: ImageFormat, spec: ImageSpec) -> tuple[Extent, ...]:
    """Write a disk, with all that its bases hold, to a new image; return the runs where its table was changed.

    The caller gives the image its name (see `staging.new_image`). Where the new disk is larger or smaller, its table
    follows to the new end; nothing but that may lie behind it.

    Raises:
        RefusedError: somebody writes to the image or to one of its bases.
    """
    changed: tuple[Extent, ...] = ()
    with lease(*source.files, change=False) as held:
        with open_links(source.links, spec.sector_size) as old, new_image_file(kind, built, spec) as new:
            runs = list(old.extents(0, min(old.size, spec.size)))
            expected(sum(length for _, length in runs))
            for offset, data in data_runs(old, runs):
                new.write(offset, data)
                copied(len(data))
            if spec.size != old.size and source.found.table != NO_TABLE:
                table = table_format(source.found.table)
                changed = table.follow_end(new, old.size) if offers(table, EndsWithDisk) else ()
        held.check()
    return changed


def verify_copy(
    source: Source,
    copy: Path,
    kind: ImageFormat,
    spec: ImageSpec,
    changed: Iterable[Extent] = (),
) -> None:
    """Read every byte of both disks anew and compare them, whatever their maps say; only `changed` runs may differ.

    What is found on the new disk, with the sectors that its image records, must be what is on the old one.

    Raises:
        RefusedError: they differ.
    """
    allowed = list(changed)
    there = identify(copy, Trust({os.path.realpath(copy): kind.name}))
    with open_links(source.links, source.sector_size) as old, open_links([there], spec.sector_size) as new:
        expected(new.size)
        for offset in range(0, new.size, PIECE):
            length = min(PIECE, new.size - offset)
            mine = old.read(offset, min(length, max(old.size - offset, 0))) if offset < old.size else b""
            its = new.read(offset, length)
            if mine.ljust(length, b"\0") != its and _differ(offset, mine.ljust(length, b"\0"), its, allowed):
                raise RefusedError(f"{copy.name}: what was written does not read back as it is in {source.path}")
            copied(length)
    found = survey(str(copy), deep=False, sector_size=spec.sector_size, trust=Trust({str(copy.resolve()): kind.name}))
    known = {one.message for one in source.found.findings}
    wrong = next((one for one in found.findings if one.level == "error" and one.message not in known), None)
    if wrong is not None:
        raise RefusedError(f"{copy.name}: {wrong.message}")
    parts = [[(part.start, part.entry.id) for part in one.partitions] for one in (source.found, found)]
    if (source.found.table_id, parts[0]) != (found.table_id, parts[1]):
        raise RefusedError(f"{copy.name}: its partitions are not those of {source.path}")


def _differ(offset: int, mine: bytes, its: bytes, allowed: list[Extent]) -> bool:
    import numpy as np

    unlike = np.flatnonzero(np.frombuffer(mine, dtype=np.uint8) != np.frombuffer(its, dtype=np.uint8)) + offset
    for start, length in allowed:
        unlike = unlike[(unlike < start) | (unlike >= start + length)]
    return bool(len(unlike))
