"""From a sheet and facts to a layout: the one function that everything Narvet shows and writes follows from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from narvet.findings import Finding
from narvet.layout.compare import Difference, compare, is_ours
from narvet.layout.defaults import settled
from narvet.layout.disks import lay_disk
from narvet.layout.earlier import check_earlier
from narvet.layout.facts import Facts, Survey
from narvet.layout.letters import folder_mounts, registry_values
from narvet.layout.model import LaidDisk, Layout
from narvet.layout.mounts import check_mounts, entries_of
from narvet.layout.origins import check_origins, lay_origin
from narvet.layout.rooms import lay_stores
from narvet.layout.slots import assign_slots
from narvet.layout.systems import check_limits, check_systems
from narvet.sheet.model import Sheet
from narvet.units import show_bytes

_SHOWN_DIFFERENCES = 3


def work_out(sheet: Sheet, facts: Facts) -> Layout:
    """Return the sheet worked out. The same sheet and facts always give the same layout."""
    slots, found = assign_slots(sheet)
    found += check_systems(sheet)
    sheet = settled(sheet)
    folders, said = folder_mounts(sheet)
    found += said
    disks: list[LaidDisk] = []
    for name, form in sheet.disk.items():
        if form.copy_of is form.base is None:
            disk, said = lay_disk(sheet, name, form, facts, slots[name], folders)
        else:
            disk, said = lay_origin(sheet, name, form, facts, slots[name])
        found += said
        found += _zone_check(sheet, disk)
        if name in facts.images:
            disk = _with_state(disk, facts, found)
        disks.append(disk)
    stores, said = lay_stores(sheet, disks, facts)
    found += said
    for name in sheet.guest:
        found += facts.roots[name].findings if name in facts.roots else ()
    found += check_limits(disks, sheet)
    found += check_mounts(disks, facts)
    found += _registry_checks(facts)
    found += check_origins(disks, facts)
    found += check_earlier(disks, facts, sheet.identity)
    return Layout(
        title=sheet.title,
        disks=tuple(disks),
        stores=stores,
        entries=entries_of(disks),
        registry=registry_values(disks),
        roots={name: _goes_into(name, facts) for name in sheet.guest},
        findings=tuple(found),
    )


def _goes_into(guest: str, facts: Facts) -> str | None:
    """Return the path of a guest's root or of its registry text, if it has one."""
    if guest in facts.registry:
        return facts.registry[guest].path
    return facts.roots[guest].path if guest in facts.roots else None


def _registry_checks(facts: Facts) -> Iterator[Finding]:
    for guest, there in facts.registry.items():
        if there.problem:
            remedy = "move it away, or name the sheet or the guest differently"
            yield Finding("entries-in-the-way", "error", f"guest.{guest}", there.problem, remedy)


def _zone_check(sheet: Sheet, disk: LaidDisk) -> Iterator[Finding]:
    store, guest = sheet.store[disk.store].zone, sheet.guest[disk.guest].zone
    if store and guest and store != guest:
        yield Finding(
            "zone-differs", "error", f"disk.{disk.name}",
            f"store {disk.store} is in zone {store}, guest {disk.guest} in zone {guest}",
            "keep the disk in a store of the guest's zone",
        )  # fmt: skip


def _with_state(disk: LaidDisk, facts: Facts, found: list[Finding]) -> LaidDisk:
    """Return the disk with what its existing image makes of it: as asked, or in the way."""
    image = facts.images[disk.name]
    if not is_ours(disk, facts.origins.get(disk.name), image):
        found.append(_in_the_way(disk, image))
        return replace(disk, state="in the way")
    every = compare(disk, image)
    differences = [difference for difference in every if difference.lasting]
    if not differences:
        found += map(_not_as_asked, every)
        return replace(disk, state="as asked")
    told = "; ".join(f"{one.where} is {one.shown[1]}, not {one.shown[0]}" for one in differences[:_SHOWN_DIFFERENCES])
    found.append(
        Finding(
            "image-differs", "error", f"disk.{disk.name}", f"its image {disk.path} was made differently: {told}",
            "set the sheet back to what the image is, or move the image away to have a new one made",
        )
    )  # fmt: skip
    return replace(disk, state="in the way")


def _not_as_asked(difference: Difference) -> Finding:
    asked, there = difference.shown
    return Finding(
        "not-as-asked", "warning", difference.where, f"it is {there}, not {asked}; Narvet leaves it as it is",
        "change it in the guest, or set the sheet to what it is",
    )  # fmt: skip


def _in_the_way(disk: LaidDisk, image: Survey) -> Finding:
    what = f"a file of {show_bytes(image.size)}"
    if image.table != "none":
        what += f" with a {image.table} table {image.table_id}"
    elif image.partitions:
        what += " with a filesystem"
    fault = next((finding for finding in image.findings if finding.level == "error"), None)
    told = f" ({fault.message})" if fault else ""
    return Finding(
        "image-in-the-way", "error", f"disk.{disk.name}",
        f"{disk.path} is there already: {what} that was not made for this disk{told}",
        "move it away, or give the disk another name or store",
    )  # fmt: skip
