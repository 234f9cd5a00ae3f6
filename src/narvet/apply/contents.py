"""What lies on a partition or volume, written: a filesystem, sealed or not, or a member of a pool."""

from __future__ import annotations

from collections.abc import Iterable

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import ReadsLittle
from narvet.formats.pools.member import write_member
from narvet.formats.seals.device import SealedDevice
from narvet.formats.seals.keyring import change_file_key, seal_new, unsealed
from narvet.ground.errors import RefusedError
from narvet.ground.extents import Extent, gaps, without
from narvet.ground.findings import Place, image_place
from narvet.ground.offers import offers
from narvet.model.estate import Partition


def make_content(device: BlockDevice, part: Partition, where: Place) -> None:
    """Write what is to lie on a partition or volume that is new, and reads as zeros.

    Raises:
        RequestError: it is to be sealed, and there is no passphrase.
    """
    if part.member is not None:
        write_member(device, part.member.shape)
    if part.new is None:
        return
    if part.seal is None:
        part.new.write(device)
        return
    inside = seal_new(device, part.seal, str(where), part.cost, for_file=bool(part.key_file))
    part.new.write(inside)
    inside.made_real(used_runs(inside, part))


def change_keys(device: BlockDevice, part: Partition, where: Place) -> None:
    """Give what is there, and is sealed, a key for a file in its guest's root, or take that away, as is asked.

    Raises:
        RefusedError: no passphrase opens it.
    """
    if part.seal is not None and part.there is not None:
        change_file_key(device, str(where), wanted=bool(part.key_file))


def used_runs(device: BlockDevice, part: Partition) -> tuple[Extent, ...]:
    """Return the runs that a guest reads of a filesystem as they lie there, as far as others certainly need not be."""
    if part.filesystem is None:
        return ()
    kind = filesystem(part.filesystem.kind)
    if kind.read(device, image_place(""), deep=False) is None:
        return ()
    return tuple(kind.relied_on(device) if offers(kind, ReadsLittle) else gaps(kind.unused(device), device.size))


def inner_of(device: BlockDevice, part: Partition, where: Place) -> BlockDevice:
    """Return what a filesystem that is there already lies on: the device, or what is inside if it is sealed.

    Raises:
        RefusedError: no passphrase opens it.
    """
    if part.seal is None:
        return device
    inside = unsealed(device, part.seal, str(where))
    if inside is None:
        raise RefusedError(f"{where}: it is sealed, and no passphrase that was given opens it; nothing was changed")
    return inside


def fill_new(device: BlockDevice, part: Partition, before: Iterable[Extent]) -> None:
    """Write zeros, sealed, where a filesystem that was given another size keeps something now and did not `before`."""
    if not isinstance(device, SealedDevice):
        return
    device.made_real(without(used_runs(device, part), sorted(before)))
