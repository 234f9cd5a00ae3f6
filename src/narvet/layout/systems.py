"""What the guest's system makes of a sheet: keys it has no use for, what it cannot use, and limits worth knowing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from narvet.findings import Finding
from narvet.layout.defaults import GPT_SINCE
from narvet.layout.model import LaidDisk, LaidPartition
from narvet.sheet.model import DiskForm, GuestForm, PartitionForm, Sheet
from narvet.units import GIB, KIB, show_binary, show_both, show_bytes

_OF_WINDOWS = ("access", "attributes")
_OF_LINUX = ("mode", "options", "needed")
_WINDOWS_USES = ("ntfs", "exfat", "fat32", "none")
_EXFAT_SINCE, _LARGE_SECTORS_SINCE, _LARGE_CLUSTERS_SINCE = (6, 0), (6, 2), (10, 0, 16299)
_LARGEST_OLD_CLUSTER = 64 * KIB
_LARGEST_FAT32_MADE = 32 * GIB  # by Windows itself; it uses larger ones
_LARGEST_FILE_FAT32 = 4 * GIB - 1
_COMPRESSED_UPTO = 4 * KIB
_MOST_CLUSTERS = (1 << 32) - 1


def check_systems(sheet: Sheet) -> Iterator[Finding]:
    """Yield what a sheet, as it was written, asks of guests whose systems cannot give it."""
    for name, guest in sheet.guest.items():
        keys = ("version", "letters") if guest.runs == "linux" else ("root",)
        yield from _without_effect(guest, keys, f"guest.{name}", guest.runs)
    for name, form in sheet.disk.items():
        guest = sheet.guest[form.guest]
        if guest.runs == "windows":
            yield from _table_checks(form, guest, f"disk.{name}")
        else:
            yield from _without_effect(form, ("set_aside",), f"disk.{name}", guest.runs)
        for index, part in enumerate(form.partition, 1):
            where = f"disk.{name}.partition {index}"
            yield from _without_effect(part, _OF_WINDOWS if guest.runs == "linux" else _OF_LINUX, where, guest.runs)
            yield from _place_checks(part, guest, where)
            if guest.runs == "windows":
                yield from _filesystem_checks(form, part, guest, where)


def _without_effect(
    form: GuestForm | DiskForm | PartitionForm, keys: Iterable[str], where: str, system: str
) -> Iterator[Finding]:
    for key in keys:
        if key in form.model_fields_set:
            told = f"{key} means nothing to a guest that runs {system}"
            yield Finding("key-without-effect", "error", f"{where}.{key}", told, f"leave {key} out")


def _place_checks(part: PartitionForm, guest: GuestForm, where: str) -> Iterator[Finding]:
    if part.at is None or part.at.startswith("/") == (guest.runs == "linux"):
        return
    remedy = 'use a path, such as "/srv/trials"' if guest.runs == "linux" else 'use a letter, such as "T:"'
    told = f"{part.at} is no place that a guest that runs {guest.runs} has"
    yield Finding("mount-point-not-possible", "error", f"{where}.at", told, remedy)


def _older(guest: GuestForm, since: tuple[int, ...]) -> bool:
    return guest.version is not None and guest.version < since


def _too_old(guest: GuestForm, what: str, since: tuple[int, ...], where: str, remedy: str) -> Finding:
    shown, needed = (".".join(map(str, version)) for version in (guest.version or (), since))
    return Finding("guest-too-old", "error", where, f"{what} needs Windows {needed}; the guest has {shown}", remedy)


def _table_checks(form: DiskForm, guest: GuestForm, where: str) -> Iterator[Finding]:
    if form.table == "none" and form.partition:
        yield Finding(
            "not-for-guest", "error", f"{where}.table", "Windows uses fixed disks by their partition table only",
            'use table = "gpt"',
        )  # fmt: skip
    if form.table not in (None, "gpt") and form.set_aside:
        told = f"{form.table} disks have nothing set aside"
        yield Finding("key-without-effect", "error", f"{where}.set_aside", told, "leave set_aside out")
    if form.table == "gpt" and _older(guest, GPT_SINCE):
        yield _too_old(guest, "a GPT", GPT_SINCE, f"{where}.table", 'use table = "mbr"')
    if form.sector == 4096 and _older(guest, _LARGE_SECTORS_SINCE):
        yield _too_old(guest, "a sector of 4096 bytes", _LARGE_SECTORS_SINCE, f"{where}.sector", "use sectors of 512")


def _filesystem_checks(form: DiskForm, part: PartitionForm, guest: GuestForm, where: str) -> Iterator[Finding]:
    kind = part.filesystem or "ntfs"
    if kind not in _WINDOWS_USES:
        told, remedy = f"Windows does not read {kind}", f"use {', '.join(_WINDOWS_USES[:-1])}"
        yield Finding("not-for-guest", "error", f"{where}.filesystem", told, remedy)
    if kind == "exfat" and _older(guest, _EXFAT_SINCE):
        yield _too_old(guest, "exfat", _EXFAT_SINCE, f"{where}.filesystem", "use ntfs")
    if kind != "ntfs":
        for key in (key for key in ("owner", "access") if key in part.model_fields_set):
            told = f"{kind} keeps no owners or rights"
            yield Finding("key-without-effect", "error", f"{where}.{key}", told, f"leave {key} out, or use ntfs")
    if form.table == "mbr" and part.attributes:
        told = "an MBR keeps no attributes of partitions"
        yield Finding("key-without-effect", "error", f"{where}.attributes", told, "leave attributes out, or use a GPT")
    large = kind == "ntfs" and part.block is not None and part.block > _LARGEST_OLD_CLUSTER
    if large and _older(guest, _LARGE_CLUSTERS_SINCE):
        what = f"an allocation unit over {show_binary(_LARGEST_OLD_CLUSTER)}"
        yield _too_old(guest, what, _LARGE_CLUSTERS_SINCE, f"{where}.block", "choose a smaller one")


def check_limits(disks: Iterable[LaidDisk], sheet: Sheet) -> Iterator[Finding]:
    """Yield what filesystems as laid out will keep people from doing."""
    for disk in disks:
        for part in disk.partitions:
            if part.geometry is None or not part.index:
                continue
            where, asked = f"disk.{disk.name}.partition {part.index}", sheet.disk[disk.name].partition[part.index - 1]
            if part.filesystem == "fat32":
                yield from _fat32_limits(disk, part, asked, where)
            if part.filesystem == "ntfs" and disk.runs == "windows":
                yield from _cluster_limits(part, asked, where)
            if disk.runs == "windows" and disk.table == "mbr" and part.at is None:
                told = "the guest gives it the next free letter: an MBR cannot say that it is to have none"
                yield Finding("letter-by-guest", "note", f"{where}.at", told, "give it a letter, or use a GPT")


def _fat32_limits(disk: LaidDisk, part: LaidPartition, asked: PartitionForm, where: str) -> Iterator[Finding]:
    if asked.purpose in ("database", "media"):
        yield Finding(
            "file-limit", "warning", f"{where}.filesystem",
            f"files on fat32 have at most {show_bytes(_LARGEST_FILE_FAT32)}, which those of a purpose such as "
            f"{asked.purpose} outgrow",
            f"use {'ntfs or exfat' if disk.runs == 'windows' else 'xfs, ext4 or exfat'}",
        )  # fmt: skip
    if disk.runs == "windows" and part.size > _LARGEST_FAT32_MADE:
        yield Finding(
            "larger-than-guest-makes", "warning", f"{where}.size",
            f"Windows uses a fat32 of {show_both(part.size)}, but itself makes none over "
            f"{show_both(_LARGEST_FAT32_MADE)}, so that the guest could not make it anew",
            "use exfat or ntfs, or a smaller partition",
        )  # fmt: skip


def _cluster_limits(part: LaidPartition, asked: PartitionForm, where: str) -> Iterator[Finding]:
    cluster = part.geometry.cluster
    if cluster > _COMPRESSED_UPTO:
        yield Finding(
            "cluster-limits", "note", where,
            f"with clusters of {show_binary(cluster)} the guest cannot compress files on it; "
            f"it can with {show_binary(_COMPRESSED_UPTO)} or less",
        )  # fmt: skip
    most = _MOST_CLUSTERS * cluster
    if asked.block is not None and most < 4 * part.size:
        yield Finding(
            "cluster-limits", "note", f"{where}.block",
            f"with clusters of {show_binary(cluster)} it can grow to {show_both(most)}, not further",
            "choose a larger allocation unit if it is to grow beyond",
        )  # fmt: skip
