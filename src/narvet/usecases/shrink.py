"""A disk made smaller, without a sheet: image, table, the partition at its end and the filesystem in one go."""

from __future__ import annotations

from pathlib import Path
from shutil import disk_usage

from narvet.apply.change import ChangeDisk
from narvet.apply.copying import source_of
from narvet.apply.move import MoveImage
from narvet.block.locks import exclusive_lock
from narvet.block.publish import clear_folders, recover
from narvet.formats.images import image_format as format_named
from narvet.formats.images.chain import Link, chain
from narvet.formats.images.contract import Shortens
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.ground.errors import RefusedError, RequestError
from narvet.ground.findings import has_errors, image_place
from narvet.ground.meter import OnCopied, metered
from narvet.ground.offers import offers
from narvet.ground.units import align_up, show_both
from narvet.ground.values import replace
from narvet.model.estate import Disk
from narvet.observe.certainty import table_doubts
from narvet.observe.images import survey
from narvet.plan.diff import diff_disk
from narvet.plan.resize import shortened
from narvet.usecases.enlarge import Resized
from narvet.usecases.recast import RecastWishes, image_spec_for


def shrink(
    image: Path,
    size: int,
    *,
    move_files: bool = False,
    image_format: str | None = None,
    sector_size: int | None = None,
    dry: bool = False,
    on_copied: OnCopied | None = None,
) -> Resized:
    """Make the disk of an image smaller, with the partition at its end and the filesystem on that.

    `size` is bytes. With `move_files` files behind the new end are moved before it; otherwise nothing may lie there.
    A raw image is cut where it is; another one is written anew in its place, which needs room for that.
    `image_format` and `sector_size` say of the image what its name and content do not. `on_copied` is called with
    numbers of bytes that are moved, copied or compared. A `dry` call works out what would change, and changes nothing.

    Raises:
        RequestError: there is no such image, it cannot be made so, or its table is not certain.
        ImageError: the image is not sound.
        RefusedError: somebody uses it, it is the base of others, or the store has no room.
    """
    trust = trust_of_call(image, image_format, ())
    if not dry:
        clear_folders(image)
        with exclusive_lock(image):
            recover(image)
    (link, *bases), found = (
        chain(image, trust),
        survey(str(image), deep=False, reach=True, trust=trust, sector_size=sector_size),
    )
    _refuse(link, bases, found)
    kind, unit = format_named(link.facts.format), found.image.sector_size or sector_size or 512
    wished = align_up(kind.fit(align_up(size, unit), link.facts.block_size or None), unit)
    wanted, findings = shortened(found, wished, moving=move_files)
    changes = diff_disk(image_place(str(image)), wanted, replace(found, findings=()), is_copied=False)
    if wanted.size < found.size and not dry and not has_errors(findings):
        with metered(on_copied):
            _apply(link, found, wanted, trust, sector_size)
    return Resized(found, wanted, tuple(one for one in changes if isinstance(one.asked, int)), findings)


def _refuse(link: Link, bases: list[Link], found: Disk) -> None:
    """Raise RequestError for an image that is not made smaller."""
    doubts = table_doubts(found)
    if doubts:
        raise RequestError(f"{link.path}: its table cannot follow to another end: {doubts[0]}; repair it first")
    if bases:
        raise RequestError(f"{link.path}: it is a child of {bases[0].path}; fold it first, or recast it")
    if len(link.files) > 1:
        raise RequestError(f"{link.path}: it is kept in pieces; recast it to a single file first")


def _apply(link: Link, found: Disk, wanted: Disk, trust: Trust, sector_size: int | None) -> None:
    name = str(link.path)
    if offers(link.kind, Shortens):
        ChangeDisk(name, "", wanted, found, trust=trust).apply()
        return
    needed, room = found.image.stored, disk_usage(link.path.parent).free
    if needed > room:
        raise RefusedError(
            f"{link.path}: it is rewritten in its place, which takes up to {show_both(needed)} of its store, "
            f"which has {show_both(room)} left; make room there"
        )
    inside = replace(wanted, image=found.image)
    if inside.partitions != found.partitions:
        ChangeDisk(name, "", inside, found, trust=trust).apply()
    wishes = RecastWishes(link.kind.name, link.facts.space, wanted.size, link.facts.block_size or None)
    spec = image_spec_for(source_of(link.path, trust, sector_size), link.kind, link.path, wishes)
    MoveImage(name, "", found, wanted, spec, trust=trust).apply()
