"""Reading an image or device from the outside in: format, table, partitions, filesystems. Nothing in it is trusted."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, suppress
from itertools import pairwise
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.files import Folder
from narvet.block.names import is_working_name
from narvet.block.sectors import WithSectors
from narvet.block.window import Window
from narvet.formats.filesystems import candidates
from narvet.formats.filesystems.contract import FilesystemState, Shrinks
from narvet.formats.filesystems.trees import HasFiles
from narvet.formats.images import format_by_content, format_by_ending
from narvet.formats.images.chain import Link, OpenChain, base_changed, identify, opened_chain, parts_of
from narvet.formats.images.contract import ImageFacts
from narvet.formats.images.trust import Trust
from narvet.formats.pools.member import read_member
from narvet.formats.seals.header import Seal
from narvet.formats.seals.keyring import unsealed
from narvet.formats.seals.volume import read_seal
from narvet.formats.tables import NAMES as TABLES
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.formats.volumes import volumes_on
from narvet.ground.budget import budget
from narvet.ground.errors import GoneError, ImageError, NarvetError, UnsupportedError, UntrustedError
from narvet.ground.findings import Finding, Place, has_errors, image_place
from narvet.ground.offers import offers
from narvet.ground.rules import images as rules
from narvet.ground.rules import pools as pool_rules
from narvet.ground.rules import seals as seal_rules
from narvet.ground.values import Frozen, replace
from narvet.guests import SYSTEMS, guest_system
from narvet.guests.contract import IsRecognised
from narvet.model.estate import DEFAULT_SECTOR_SIZE, NO_TABLE, Disk, FoundSystem, Image, Partition

UNKNOWN_FORMAT = "unknown"
"""What an image is called that cannot be opened as any format."""

_SECTOR_SIZES = (512, 4096)  # tried in turn where the format does not record it and nobody says it
_BY_CONTENT = Trust(by_content=True)


class Look(Frozen):
    """How filesystems are looked at: `deep` for every fault, `reach` for how small each could be made.

    With `systems` they are also looked at for the systems of guests that live there.
    """

    deep: bool = False
    reach: bool = False
    systems: bool = False


def survey(
    path: str,
    *,
    deep: bool = True,
    reach: bool = False,
    systems: bool = False,
    trust: Trust = _BY_CONTENT,
    sector_size: int | None = None,
) -> Disk:
    """Return what is found at `path`; without `deep`, filesystems are only looked at for their facts.

    With `reach` those facts have how small a filesystem can be made, with `systems` which guests' systems live there.

    `trust` is what is said of the image, and `sector_size` the bytes of its sectors where its format does not record
    them; None lets the content tell.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        OSError: the system does not let it be read.
    """
    place, where = Path(path), image_place(path)
    try:
        with opened_chain(place, trust, changed_too=True) as opened, _budget(opened):
            return _inside(path, opened, sector_size, Look(deep, reach, systems))
    except UntrustedError as error:
        said = rules.base_elsewhere.error(where, str(error))
        return Disk(_image(path, identify(place, trust).facts, 0), findings=(said,))
    except GoneError as error:
        kind = format_by_ending(place) or UNKNOWN_FORMAT
        return Disk(Image(path, kind, "thin", 0), findings=(rules.volume_gone.error(where, str(error)),))
    except (ImageError, UnsupportedError) as error:
        size = place.stat().st_size
        damaged = rules.image_damaged.error(where, str(error))
        return Disk(Image(path, UNKNOWN_FORMAT, "thin", size, 0, size), findings=(damaged,))


def _systems(device: BlockDevice, found: Disk) -> Iterator[FoundSystem]:
    """Yield the systems of guests that live on a disk; what is not sound is told of elsewhere."""
    for volume in volumes_on(device, found.image.sector_size) if found.partitions else ():
        for system in map(guest_system, SYSTEMS):
            if offers(volume.kind, HasFiles) and offers(system, IsRecognised):
                with suppress(NarvetError):
                    there = system.recognise(volume.kind.tree(volume.device), volume.number)
                    yield from [there] if there else []


def is_image(path: Path) -> bool:
    """Return whether a file is one by its ending, or claims to be one by its content."""
    if format_by_ending(path):
        return True
    with Folder(path.parent) as files:
        return format_by_content(files.open(path.name)) is not None


def images_in(folder: Path) -> tuple[Path, ...]:
    """Return the images that lie in a folder, in order of their names; further files of one are not counted again.

    Raises:
        OSError: the system does not let the folder be read.
    """
    found: list[Path] = []
    for path in sorted(folder.iterdir()):
        with suppress(NarvetError, OSError):
            if path.is_file() and not is_working_name(path.name) and is_image(path):
                found.append(path)
    parts: set[Path] = set()
    for path in found:
        with suppress(NarvetError, OSError):
            parts |= set(parts_of(identify(path, _BY_CONTENT).kind, path))
    return tuple(path for path in found if path not in parts)


def survey_opened(path: str, opened: OpenChain, sector_size: int | None = None) -> Disk:
    """Return what is found in an image that is open, also one whose changes are not made yet; see `survey`.

    Raises:
        ImageError: it is not sound.
    """
    return _inside(path, opened, sector_size, Look())


def _budget(opened: OpenChain) -> AbstractContextManager[None]:
    return budget(sum(link.facts.allocated for link in opened.links))


def _inside(path: str, opened: OpenChain, sector_size: int | None, look: Look) -> Disk:
    image, where = opened.links[0].facts, image_place(path)
    if not image.size:
        return Disk(_image(path, image, 0), findings=(rules.image_empty.error(where),))
    known = image.sector_size or sector_size
    found: list[Disk] = []
    device = opened.device(known or _SECTOR_SIZES[0])
    for size in [known] if known else _SECTOR_SIZES:
        found.append(_by_table(path, image, WithSectors(device, size), look))
    best = max(found, key=_likelihood)
    if best.table == NO_TABLE:
        best = next((one for one in found if one.findings), best)
        if not best.findings:
            best = _without_table(path, image, device, look)
    changed = tuple(_base_findings(where, opened.links))
    unsaid = best.image.sector_size not in (0, DEFAULT_SECTOR_SIZE) and not image.sector_size
    systems = tuple(_systems(device, best)) if look.systems else ()
    notes = (rules.sector_not_recorded.note(where, image.format, best.image.sector_size),) if unsaid else ()
    return replace(best, findings=(*changed, *best.findings, *notes), systems=systems)


def _likelihood(found: Disk) -> tuple[bool, bool, int]:
    """Return how likely a disk has the sectors it was read with: an MBR reads with any, but makes sense with one."""
    sound = not has_errors(found.findings)
    return found.table != NO_TABLE, sound, sum(part.filesystem is not None for part in found.partitions)


def _base_findings(where: Place, links: tuple[Link, ...]) -> Iterator[Finding]:
    """Yield a finding for every child whose base is not what it was made from."""
    for child, base in pairwise(links):
        if base_changed(child, base):
            yield rules.base_changed.error(where, str(base.path), str(child.path))


def _image(path: str, image: ImageFacts, sector_size: int) -> Image:
    own = sector_size or image.sector_size
    return Image(
        path, image.format, image.space, image.size, own, image.allocated, image.block_size, image.base, image.attached,
        image.ordered,
    )  # fmt: skip


def survey_device(device: BlockDevice, image: Image, where: Place, look: Look) -> Disk:
    """Return what is found on a device that has no table, and that is called an image."""
    whole = PartitionEntry(0, 0, device.size, "", "")
    said: list[Finding] = []
    part = _partition(device, whole, where, look, said)
    if part.filesystem is None:
        return Disk(image, partitions=(part,) if part.seal else (), findings=tuple(said))
    found = Disk(image, partitions=(part,), findings=(*said, *part.filesystem.findings))
    return replace(found, systems=tuple(_systems(device, found)) if look.systems else ())


def _disk(
    path: str,
    image: ImageFacts,
    sector_size: int,
    table: Table | None,
    partitions: tuple[Partition, ...],
    findings: tuple[Finding, ...],
) -> Disk:
    inside = (finding for part in partitions if part.filesystem for finding in part.filesystem.findings)
    return Disk(
        image=_image(path, image, sector_size),
        table=table.kind if table else NO_TABLE,
        table_id=table.id if table else "",
        partitions=partitions,
        findings=(*findings, *inside),
    )


def _by_table(path: str, image: ImageFacts, device: BlockDevice, look: Look) -> Disk:
    """Return the disk by the first table found, or by none of them with what they have to say."""
    said: list[Finding] = []
    where = image_place(path)
    for name in TABLES:
        table, findings = table_format(name).read(device, where)
        said += findings
        if table is not None:
            parts = tuple(_partition(device, entry, where.part(entry.number), look, said) for entry in table.partitions)
            return _disk(path, image, device.sector_size, table, parts, tuple(said))
    return _disk(path, image, 0, None, (), tuple(said))


def _without_table(path: str, image: ImageFacts, device: BlockDevice, look: Look) -> Disk:
    """Return a disk that a filesystem fills, a blank one, or one of bytes that nothing is known about."""
    whole, where = PartitionEntry(0, 0, device.size, "", ""), image_place(path)
    told: list[Finding] = []
    part = _partition(device, whole, where, look, told)
    if part.filesystem is not None or part.member is not None or part.seal is not None or told:
        return _disk(path, image, 0, None, (part,), tuple(told))
    if next(device.extents(), None) is None:
        said = rules.image_blank.note(where, device.size)
    else:
        said = rules.bytes_not_known.warning(where)
    return _disk(path, image, 0, None, (), (said,))


def _partition(device: BlockDevice, entry: PartitionEntry, where: Place, look: Look, said: list[Finding]) -> Partition:
    """Return a partition with the filesystem on it, or with what it is in a pool."""
    inside = _filesystem(device, entry, where, look)
    if inside is not None:
        return Partition(entry, inside)
    try:
        window = Window(device, entry.start, entry.size)
        seal = read_seal(window)
        if seal is not None:
            return _sealed(window, entry, seal, where, look, said)
        member = read_member(window)
    except ImageError as error:
        if _is_on(device, entry):
            said.append(pool_rules.member_damaged.error(where, str(error)))
        return Partition(entry)
    return Partition(entry, member=member)


def _sealed(
    window: BlockDevice, entry: PartitionEntry, seal: Seal, where: Place, look: Look, said: list[Finding]
) -> Partition:
    """Return a sealed partition, with the filesystem inside where a passphrase opens it."""
    if seal.damaged:
        said.append(seal_rules.seal_damaged.warning(where, seal.damaged))
    if seal.why_locked:
        said.append(seal_rules.seal_not_known.warning(where, seal.why_locked))
    device = unsealed(window, seal, str(where))
    if device is None:
        return Partition(entry, seal=seal)
    whole = PartitionEntry(entry.number, 0, device.size, "", "")
    return Partition(entry, _filesystem(device, whole, where, look), seal=seal)


def _is_on(device: BlockDevice, entry: PartitionEntry) -> bool:
    """Return whether a partition lies on its disk."""
    return entry.start >= 0 and entry.end <= device.size


def _filesystem(device: BlockDevice, entry: PartitionEntry, where: Place, look: Look) -> FilesystemState | None:
    """Return the filesystem on a partition; a partition that leaves the disk has its finding already."""
    try:
        window = Window(device, entry.start, entry.size)
    except ImageError:
        return None
    for kind in candidates(window):
        found = kind.read(window, where, deep=look.deep)
        if found is not None:
            return kind.reached(window, found) if look.reach and offers(kind, Shrinks) else found
    return None
