"""One disk without a sheet: planned the same way as one of a sheet, and made at once."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from uuid import UUID, uuid4

from narvet.apply.staging import refuse_taken
from narvet.apply.steps import MakeImage
from narvet.block.publish import clear_folders
from narvet.formats.filesystems import filesystem
from narvet.formats.images import format_for
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, has_errors, image_place
from narvet.ground.rules import stores as rules
from narvet.ground.values import Frozen
from narvet.guests.contract import DiskAsked
from narvet.model.estate import Guest
from narvet.observe.stores import observe_store
from narvet.plan.disks import PlannedImage, plan_disk
from narvet.plan.partition_request import Site
from narvet.plan.resolve import check_disk_asked, resolve_disk
from narvet.sheet.base import form_of
from narvet.sheet.form import DiskForm
from narvet.sheet.machines import GuestForm
from narvet.sheet.read import disk_of
from narvet.sheet.resolved import DiskIds
from narvet.sheet.values import SYSTEMS, UNDATED
from narvet.usecases.layout import moment

_HERE = "here"  # a store's name, for a disk that no sheet has


class DiskWishes(Frozen):
    """What a disk without a sheet is to be, with one partition; None leaves a thing to the guest's system.

    Sizes are bytes. `runs` is the guest's system, `usable` what the guest must be able to fill in place of a size,
    `unit` the filesystem's allocation unit, `block_size` the unit that a thin image grows by. `mode` is octal digits.
    """

    size: int | None = None
    usable: int | None = None
    runs: str | None = None
    filesystem: str | None = None
    label: str | None = None
    purpose: str | None = None
    owner: str | None = None
    mode: str | None = None
    unit: int | None = None
    format: str | None = None
    space: str | None = None
    block_size: int | None = None
    pieces: int | None = None
    packed: bool = False
    table: str | None = None
    align: int | None = None
    sector_size: int | None = None


class Made(Frozen):
    """A disk that was made, unless findings of level error forbade it."""

    path: str
    system: str
    format: str
    image: PlannedImage
    findings: tuple[Finding, ...]

    @property
    def is_refused(self) -> bool:
        """Whether nothing was made."""
        return has_errors(self.findings)


def make(image: Path, wishes: DiskWishes, identity: UUID | None = None, *, dry: bool = False) -> Made:
    """Make one disk, at `image`: table, one partition, filesystem, owner and mode.

    Its ids follow from `identity` and the image's name; without one they are new each time. A `dry` call makes nothing.

    Raises:
        RequestError: a wish is not valid, or the name is taken.
        RefusedError: the system refused.
    """
    if not dry:
        clear_folders(image)
    refuse_taken(image)
    _refuse_without_effect(wishes)
    kind = format_for(image, wishes.format)
    name = re.sub(r"[^A-Za-z0-9_.-]", "-", image.stem).lstrip("_.-")[:63] or "disk"
    guest = form_of(GuestForm, {"runs": wishes.runs or SYSTEMS[0]})
    asked = DiskAsked(guest, _form(wishes, kind.name, str(image)), image_place(str(image)))
    ids = DiskIds(identity or uuid4(), name)
    site = Site(str(image), guest.runs, Guest(), ids, moment(UNDATED))
    planned, said = plan_disk(resolve_disk(name, asked), site)
    findings = (*check_disk_asked(asked), *said, *_room_checks(image, planned))
    if not has_errors(findings) and not dry:
        MakeImage(name, "", planned.wanted, planned.spec).apply()
    return Made(str(image), guest.runs, kind.name, planned, findings)


def _form(wishes: DiskWishes, format_name: str, where: str) -> DiskForm:
    """Return a disk as a sheet would have it.

    Raises:
        RequestError: a wish is not valid.
    """
    part = {
        "label": wishes.label, "filesystem": wishes.filesystem, "for": wishes.purpose, "owner": wishes.owner,
        "mode": wishes.mode, "block": wishes.unit,
    }  # fmt: skip
    disk = {
        "size": wishes.size, "usable": wishes.usable, "space": wishes.space, "block": wishes.block_size,
        "pieces": wishes.pieces, "packed": wishes.packed or None, "table": wishes.table, "align": wishes.align,
        "sector": wishes.sector_size,
    }  # fmt: skip
    content: dict[str, object] = {key: value for key, value in disk.items() if value is not None}
    content |= {"partition": [{key: value for key, value in part.items() if value is not None}]}
    return disk_of({"guest": "", "store": _HERE, "format": format_name, **content}, where)


def _room_checks(image: Path, planned: PlannedImage) -> Iterator[Finding]:
    """Yield why the folder cannot take the image."""
    there, where = observe_store(str(image.parent)), image_place(str(image.parent))
    needed, size = planned.wanted.image.stored, planned.wanted.size
    if not there.writable:
        yield rules.store_not_writable.error(where, there.path)
    elif needed > there.free:
        yield rules.store_without_room.error(where, needed, there.free, "make room there, or use another folder")
    elif size > there.free:
        yield rules.store_overpromised.warning(
            where,
            size,
            there.free,
            there.free,
            size - there.free,
            "watch that it does not fill up, or use another folder",
        )
    if there.largest_file is not None and size > there.largest_file:
        yield rules.image_over_file_limit.error(where, size, there.filesystem, there.path, there.largest_file)


def _refuse_without_effect(wishes: DiskWishes) -> None:
    """Raise RequestError for wishes that would change nothing about the disk."""
    kind = wishes.filesystem
    given = {
        "for": wishes.purpose, "owner": wishes.owner, "mode": wishes.mode, "unit": wishes.unit,
    }  # fmt: skip
    idle: list[str] = []
    if kind == "none":
        idle = [option for option, wish in given.items() if wish is not None]
    elif kind is not None and not filesystem(kind).keeps_owner:
        idle = [option for option in ("owner", "mode") if given[option] is not None]
    if idle:
        without = "without a filesystem" if kind == "none" else f"on {kind}, which keeps none"
        raise RequestError(f"--{idle[0]} has no effect {without}; leave one of them out")
    if wishes.table == "none":
        if wishes.align is not None:
            raise RequestError("--align has no effect without a table; leave one of them out")
        if kind == "none" and wishes.label is not None:
            raise RequestError("--label has no effect without a table and a filesystem; leave it out")
