"""What Windows cannot use of a sheet, by its version, and limits worth knowing. Pure."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.formats.filesystems import filesystem
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as filesystem_rules
from narvet.ground.rules import guests as rules
from narvet.ground.units import GIB, KIB, show_binary
from narvet.guests.contract import DiskAsked
from narvet.model.estate import Partition
from narvet.model.layout import PlannedDisk
from narvet.sheet.contents import PartitionForm
from narvet.sheet.form import DiskForm
from narvet.sheet.machines import GuestForm
from narvet.sheet.resolved import ResolvedDisk, ResolvedPartition

GPT_SINCE = (5, 2)
"""The first version of Windows that uses data disks with a GPT."""

FILESYSTEMS = ("ntfs", "exfat", "fat32")
_EXFAT_SINCE, _LARGE_SECTORS_SINCE, _LARGE_CLUSTERS_SINCE = (6, 0), (6, 2), (10, 0, 16299)
_LARGEST_OLD_CLUSTER = 64 * KIB
_LARGEST_FAT32_MADE = 32 * GIB  # by Windows itself; it uses larger ones
_COMPRESSED_UPTO = 4 * KIB
_MOST_CLUSTERS = (1 << 32) - 1


def check_disk(asked: DiskAsked) -> Iterator[Finding]:
    """Yield what the guest's version of Windows cannot use of a disk as asked."""
    form, guest, place = asked.disk, asked.guest, asked.place
    if form.table == "none" and form.partition:
        reason = "Windows uses fixed disks by their partition table only"
        yield rules.not_for_guest.error(place.key("table"), reason, 'use table = "gpt"')
    if form.table not in (None, "gpt") and form.set_aside:
        reason = f"{form.table} disks have nothing set aside"
        yield filesystem_rules.value_not_possible.error(place.key("set_aside"), reason, "leave set_aside out")
    if form.table == "gpt" and is_older(guest, GPT_SINCE):
        yield _too_old(guest, "a GPT", GPT_SINCE, place.key("table"), 'use table = "mbr"')
    if form.sector_size == 4096 and is_older(guest, _LARGE_SECTORS_SINCE):
        what = "a sector of 4096 bytes"
        yield _too_old(guest, what, _LARGE_SECTORS_SINCE, place.key("sector"), "use sectors of 512")
    for index, part in enumerate(form.partition, 1):
        yield from _check_partition(form, part, guest, place.part(index))


def is_older(guest: GuestForm, since: tuple[int, ...]) -> bool:
    """Return whether a guest's version, if it is known, comes before another."""
    return guest.version is not None and guest.version < since


def _too_old(guest: GuestForm, what: str, since: tuple[int, ...], place: Place, remedy: str) -> Finding:
    shown, needed = (".".join(map(str, version)) for version in (guest.version or (), since))
    return rules.guest_too_old.error(place, what, f"Windows {needed}", shown, remedy)


def _check_partition(form: DiskForm, part: PartitionForm, guest: GuestForm, place: Place) -> Iterator[Finding]:
    if part.pool is not None:
        remedy = "use one larger disk, or mount another volume in a folder of the first"
        yield rules.not_for_guest.error(place.key("pool"), "Windows does not read the pools that Narvet makes", remedy)
        return
    if part.sealed:
        reason = "Windows seals its volumes in a format of its own, which is not open"
        yield rules.not_for_guest.error(place.key("sealed"), reason, "leave sealed out, and let the guest seal it")
    kind = part.filesystem or FILESYSTEMS[0]
    if kind not in (*FILESYSTEMS, "none"):
        remedy = f"use {', '.join(FILESYSTEMS)}"
        yield rules.not_for_guest.error(place.key("filesystem"), f"Windows does not read {kind}", remedy)
    if kind == "exfat" and is_older(guest, _EXFAT_SINCE):
        yield _too_old(guest, "exfat", _EXFAT_SINCE, place.key("filesystem"), "use ntfs")
    if kind == "none" or not filesystem(kind).keeps_rights:
        for key in (key for key in ("owner", "access") if part.has(key)):
            reason, remedy = f"{kind} keeps no owners or rights", f"leave {key} out, or use ntfs"
            yield filesystem_rules.value_not_possible.error(place.key(key), reason, remedy)
    if form.table == "mbr" and part.attributes:
        reason, remedy = "an MBR keeps no attributes of partitions", "leave attributes out, or use a GPT"
        yield filesystem_rules.value_not_possible.error(place.key("attributes"), reason, remedy)
    large = kind == "ntfs" and part.block is not None and part.block > _LARGEST_OLD_CLUSTER
    if large and is_older(guest, _LARGE_CLUSTERS_SINCE):
        what = f"an allocation unit over {show_binary(_LARGEST_OLD_CLUSTER)}"
        yield _too_old(guest, what, _LARGE_CLUSTERS_SINCE, place.key("block"), "choose a smaller one")


def check_limits(disk: PlannedDisk, asked: ResolvedDisk) -> Iterator[Finding]:
    """Yield what filesystems as planned will keep people from doing."""
    for part in disk.wanted.partitions:
        if part.new is None or part.mount is None or part.filesystem is None:
            continue
        place, wish = asked.place.part(part.mount.index), asked.partitions[part.mount.index - 1]
        if part.filesystem.kind == "fat32":
            yield from _fat32_limits(part, wish, place)
        if part.filesystem.kind == "ntfs":
            yield from _cluster_limits(part, wish, place)
        if disk.wanted.table == "mbr" and part.at is None:
            yield rules.letter_by_guest.note(place.key("at"))


def _fat32_limits(part: Partition, asked: ResolvedPartition, place: Place) -> Iterator[Finding]:
    largest = filesystem("fat32").largest_file
    if largest is not None and asked.purpose in ("database", "media"):
        where = place.key("filesystem")
        yield filesystem_rules.file_limit.warning(where, "fat32", largest, asked.purpose, "ntfs or exfat")
    if part.size > _LARGEST_FAT32_MADE:
        limits = part.size, _LARGEST_FAT32_MADE
        yield filesystem_rules.larger_than_guest_makes.warning(place.key("size"), "fat32", *limits)


def _cluster_limits(part: Partition, asked: ResolvedPartition, place: Place) -> Iterator[Finding]:
    cluster = part.new.shape.unit if part.new else 0
    if cluster > _COMPRESSED_UPTO:
        yield filesystem_rules.cluster_limits.note(place, cluster, _COMPRESSED_UPTO)
    most = _MOST_CLUSTERS * cluster
    if asked.unit is not None and most < 4 * part.size:
        yield filesystem_rules.growth_limited.note(place.key("block"), cluster, most)
