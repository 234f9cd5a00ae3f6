"""A disk made larger where it is, without a sheet: image, table, partition and filesystem in one go."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from narvet.apply.change import ChangeDisk
from narvet.block.locks import exclusive_lock
from narvet.block.publish import clear_folders, recover
from narvet.formats.images import image_format as format_named
from narvet.formats.images.chain import chain
from narvet.formats.images.contract import Space
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, has_errors, image_place
from narvet.ground.units import align_up, show_both
from narvet.ground.values import Frozen, replace
from narvet.model.estate import Disk
from narvet.model.moves import Difference
from narvet.observe.certainty import table_doubts
from narvet.observe.images import survey
from narvet.plan.diff import diff_disk
from narvet.plan.resize import enlarged


class Resized(Frozen):
    """A disk before and after it got another size, what changed, and what is to be said about it.

    Where a finding is of level error nothing was changed.
    """

    before: Disk
    after: Disk
    changes: tuple[Difference, ...]
    findings: tuple[Finding, ...]


def enlarge(
    image: Path,
    size: int | None = None,
    *,
    partition: int | None = None,
    space: Space = "thin",
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    sector_size: int | None = None,
    dry: bool = False,
) -> Resized:
    """Make the disk of an image larger, with a partition and the filesystem on it.

    `size` is bytes, None to use only what is free on the disk. `partition` is a number, None for the last one on the
    disk. With `space` full what is added to the image gets its place at once. `image_format`, `bases` and `sector_size`
    say of the image what its name and content do not. A `dry` call works out what would change, and changes nothing.

    Raises:
        RequestError: there is no such image or partition, it cannot be made so, or its table is not certain.
        ImageError: the image or one of its bases is not sound.
        RefusedError: somebody uses it, it is the base of others, or the store has no room.
    """
    trust = trust_of_call(image, image_format, bases)
    if not dry:
        clear_folders(image)
        with exclusive_lock(image):
            recover(image)
    return enlarge_image(image, size, partition, space, trust, sector_size, dry=dry)


def enlarge_image(
    image: Path,
    size: int | None,
    partition: int | None,
    space: Space,
    trust: Trust,
    sector_size: int | None,
    *,
    dry: bool = False,
) -> Resized:
    """Make the disk of an image larger; see `enlarge`."""
    facts = chain(image, trust)[0].facts
    found = survey(str(image), deep=False, trust=trust, sector_size=sector_size)
    doubts = table_doubts(found)
    if doubts:
        raise RequestError(f"{image}: its table cannot follow to a larger disk's end: {doubts[0]}; repair it first")
    kind, unit = format_named(facts.format), found.image.sector_size or sector_size or 512
    wished = facts.size
    if size is not None:
        wished = align_up(kind.fit(align_up(size, unit), facts.block_size or None), unit)
    if wished > kind.most:
        raise RequestError(f"{image}: {kind.name} holds disks of at most {show_both(kind.most)}; recast it first")
    wanted, findings = enlarged(found, wished, partition)
    wanted = replace(wanted, image=replace(wanted.image, space=space))
    changes = diff_disk(image_place(str(image)), wanted, replace(found, findings=()), is_copied=False)
    grows = [one for one in changes if isinstance(one.asked, int)]
    if grows and not dry and not has_errors(findings):
        ChangeDisk(str(image), "", wanted, found, trust=trust).apply()
    return Resized(found, wanted, tuple(grows), findings)
