"""An XFS that is not trusted: its superblock's sizes, checked, and where its groups lie."""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.file_blocks import Files
from narvet.formats.filesystems.xfs.options import SMALLEST_GROUP
from narvet.formats.filesystems.xfs.shape import Shape
from narvet.formats.filesystems.xfs.trees import Group
from narvet.ground.errors import ImageError
from narvet.ground.values import Frozen

MOST_GROUPS = 1 << 13  # some seconds; what was enlarged a thousandfold has more groups than any one made large
_SECTORS = (512, 1024, 2048, 4096, 8192, 16384, 32768)
_FULL = r.RMAPBT | r.REFLINK


class Volume(Frozen):
    """An XFS on a device: its shape and its superblock."""

    device: BlockDevice
    shape: Shape
    superblock: r.Superblock

    @property
    def uuid(self) -> UUID:
        """The id that its blocks carry, which is not the one shown once that was changed."""
        other = self.superblock.sb_features_incompat & r.META_UUID
        return self.superblock.sb_meta_uuid if other else self.superblock.sb_uuid

    def has(self, feature: int) -> bool:
        """Return whether a read-only compatible feature is in use."""
        return bool(self.superblock.sb_features_ro_compat & feature)

    def group(self, number: int) -> Group:
        """Return what is needed to read the trees of a group."""
        shape = self.shape
        start = number * shape.group_blocks * shape.block_size
        return Group(number, start, shape.length(number), shape.block_size, self.uuid)

    def groups(self) -> Iterator[Group]:
        """Yield the groups, at most `MOST_GROUPS` of them."""
        for number in range(min(self.shape.group_count, MOST_GROUPS)):
            yield self.group(number)

    def files(self) -> Files:
        """Return what is needed to follow its files."""
        superblock, block = self.superblock, self.shape.block_size
        return Files(
            self.device, block, block << superblock.sb_dirblklog, superblock.sb_agblklog, self.shape.group_blocks,
            self.shape.inode_size,
        )  # fmt: skip


def volume_of(device: BlockDevice, superblock: r.Superblock) -> Volume:
    """Return an XFS with its sizes checked.

    Raises:
        ImageError: a value of the superblock breaks the specification; the first one is named.
    """

    def check(good: bool, name: str, expected: str) -> None:
        if not good:
            raise ImageError(f"{name} is {getattr(superblock, name)}, {expected} expected")

    block, sector_size = superblock.sb_blocksize, superblock.sb_sectsize
    check(1024 <= block <= 65536 and not block & (block - 1), "sb_blocksize", "a power of two from 1 to 64 KiB")
    check(sector_size in _SECTORS and sector_size <= block, "sb_sectsize", "a power of two up to the block size")
    agblocks, agcount = superblock.sb_agblocks, superblock.sb_agcount
    check(agblocks * block >= SMALLEST_GROUP, "sb_agblocks", f"{SMALLEST_GROUP} bytes or more")
    check(superblock.sb_agblklog == (agblocks - 1).bit_length(), "sb_agblklog", "the bits of sb_agblocks")
    check(agcount > 0, "sb_agcount", "one or more")
    inside = (agcount - 1) * agblocks < superblock.sb_dblocks <= agcount * agblocks
    check(inside, "sb_dblocks", "as many as the groups have")
    inode = superblock.sb_inodesize
    check(256 <= inode <= 2048 and not inode & (inode - 1), "sb_inodesize", "a power of two from 256 to 2048")
    log_group, log_start = divmod(superblock.sb_logstart, 1 << superblock.sb_agblklog)
    shape = Shape(
        block_size=block,
        sector_size=sector_size,
        block_count=superblock.sb_dblocks,
        group_blocks=agblocks,
        log_blocks=superblock.sb_logblocks if superblock.sb_logstart else 0,
        log_group=log_group,
        log_start=log_start,
        stripe_unit=superblock.sb_unit,
        full=superblock.sb_features_ro_compat & _FULL == _FULL,
        inode_size=inode,
    )
    if superblock.sb_logstart:
        there = log_group < agcount and log_start + superblock.sb_logblocks <= shape.length(log_group)
        check(there and superblock.sb_logblocks > 0, "sb_logblocks", "a log inside its group")
    return Volume(device, shape, superblock)
