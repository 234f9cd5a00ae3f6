"""The same disk in another format, thin or full, larger, or smaller where nothing lies at its end."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.apply.copying import Source, copy_disk, source_of, verify_copy
from narvet.apply.staging import new_image, refuse_taken, rights_of
from narvet.block.publish import clear_folders
from narvet.formats.images import format_for
from narvet.formats.images.chain import identify
from narvet.formats.images.contract import ImageFormat, ImageSpec, Space, check_fits
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.formats.tables import table_format
from narvet.ground.errors import RequestError
from narvet.ground.ids import derive
from narvet.ground.meter import OnCopied, metered
from narvet.ground.units import align_up, show_apart, show_bytes
from narvet.ground.values import Frozen
from narvet.model.estate import NO_TABLE
from narvet.observe.certainty import table_doubts


class RecastWishes(Frozen):
    """What the new image is to be; None leaves a thing to the format, or to the disk as it is. Sizes are bytes."""

    format: str | None = None
    space: Space = "thin"
    size: int | None = None
    block_size: int | None = None
    pieces: int | None = None
    packed: bool = False


AS_IT_IS = RecastWishes()


class Recast(Frozen):
    """A disk that was written to another image, and what a person should know of that."""

    path: Path
    format: str
    spec: ImageSpec
    is_verified: bool
    remarks: tuple[str, ...]


def recast(
    image: Path,
    new: Path,
    wishes: RecastWishes = AS_IT_IS,
    *,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    sector_size: int | None = None,
    verify: bool = False,
    dry: bool = False,
    on_copied: OnCopied | None = None,
) -> Recast:
    """Write the disk of an image, with all that its bases hold, to a new image; the old one stays as it is.

    `image_format` is what the image is read by where its ending does not tell, `bases` are bases that may lie
    elsewhere, `sector_size` is bytes, where the image does not record them. With `verify` every byte of both disks is
    read afterwards and compared. `on_copied` is called with numbers of bytes done. A `dry` call looks whether it can be
    done, and writes nothing.

    Raises:
        RequestError: there is no such image, the new name is taken, or the format cannot hold the disk so.
        ImageError: the image or one of its bases is not sound.
        RefusedError: somebody writes to the image, the system refused, or the copy is not the same.
    """
    if not dry:
        clear_folders(new)
    kind = format_for(new, wishes.format)
    source = source_of(image, trust_of_call(image, image_format, bases), sector_size)
    spec = image_spec_for(source, kind, new, wishes)
    if dry:
        refuse_taken(new)
        return Recast(new, kind.name, spec, False, tuple(_remarks(source, kind, spec, wishes.size)))
    with new_image(new, kind, rights=rights_of(image)) as built, metered(on_copied):
        changed = copy_disk(source, built, kind, spec)
        if verify:
            verify_copy(source, built, kind, spec, changed)
        inside = _grown_inside(source, built, spec) if spec.size > source.size and not spec.packed else ()
    remarks = (*_remarks(source, kind, spec, wishes.size), *inside)
    return Recast(new, kind.name, spec, verify, remarks)


def _grown_inside(source: Source, built: Path, spec: ImageSpec) -> tuple[str, ...]:
    """Make the last partition of a larger disk larger, and what lies on it; return what kept that from happening."""
    trust = Trust({os.path.realpath(built): identify(built, Trust(by_content=True)).kind.name})
    if not source.found.partitions or source.found.findings:
        return ()
    from narvet.usecases.enlarge import enlarge_image

    done = enlarge_image(built, None, None, spec.space, trust, spec.sector_size)
    errors = (one.message for one in done.findings if one.level == "error")
    return tuple(f"the disk is larger, what is on it is not: {message}" for message in errors)


def image_spec_for(source: Source, kind: ImageFormat, new: Path, wishes: RecastWishes) -> ImageSpec:
    """Return what the image of another kind, or of another size, is to be.

    A guest may know the disk by its image's id, which is kept where there is one.

    Raises:
        RequestError: the format cannot hold the disk so, or something lies behind a smaller end, or its table cannot
            follow.
    """
    facts = source.links[0].facts
    wanted = facts.size if wishes.size is None else wishes.size
    fitting = align_up(kind.fit(align_up(wanted, source.sector_size), wishes.block_size), source.sector_size)
    if fitting > facts.size:
        _check_can_grow(source)
    elif fitting < facts.size:
        _check_can_shrink(source, fitting)
    native_id = facts.id or derive(NAMESPACE_URL, "recast", new.name, fitting)
    spec = ImageSpec(
        fitting, source.sector_size, wishes.space, native_id, block_size=wishes.block_size, pieces=wishes.pieces,
        packed=wishes.packed,
    )  # fmt: skip
    check_fits(kind, spec)
    return spec


def _remarks(source: Source, kind: ImageFormat, spec: ImageSpec, asked: int | None) -> Iterator[str]:
    """Yield what a person should know of the new image: a size that was rounded up, sectors that it does not record."""
    wanted = source.size if asked is None else asked
    if spec.size != wanted:
        yield (
            f"{kind.name} cannot have exactly {show_bytes(wanted)}; the disk gets {show_bytes(spec.size)}, "
            f"{show_bytes(spec.size - wanted)} more"
        )
    if source.sure and spec.sector_size != 512 and not kind.records_sector:
        yield f"{kind.name} does not record the sector size; attach the disk with sectors of {spec.sector_size} bytes"


def _check_can_shrink(source: Source, size: int) -> None:
    """Raise RequestError if anything of a disk lies behind byte `size`, or may."""
    there, asked = show_apart(source.size, size)
    found, end = source.found, size
    if not found.partitions:
        raise RequestError(f"the disk has {there}; it is not known that it can be cut to {asked}; leave it as it is")
    _check_can_grow(source)
    reach = max(part.end for part in found.partitions)
    if found.table != NO_TABLE:
        end = table_format(found.table).bounds(size, source.sector_size).end
    elif found.partitions[0].filesystem is not None:
        reach = found.partitions[0].filesystem.size
    if reach > end:
        raise RequestError(
            f"the disk has {there}, and something up to byte {show_bytes(reach)}; with {asked} that would be cut off; "
            "shrink it first, or ask for more"
        )


def _check_can_grow(source: Source) -> None:
    if source.found.table == NO_TABLE:
        return
    doubts = table_doubts(source.found)
    if doubts:
        raise RequestError(
            f"{source.path}: its table cannot follow to another end: {doubts[0]}; recast it to a format and size "
            "that it has, or repair it first"
        )
