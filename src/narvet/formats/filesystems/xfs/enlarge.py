"""Writing a grown XFS: fresh groups behind the old end, then the last old group longer, then all superblocks.

The two trees of free space of the last old group are written anew, in the blocks that they have; if a record more makes
them need another block, that comes from the group's own list of blocks for its trees, whose owner it keeps.
"""

from __future__ import annotations

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import group_bytes, sealed
from narvet.formats.filesystems.xfs.grow import PlannedGrowth
from narvet.formats.filesystems.xfs.read import free_header, inode_header
from narvet.formats.filesystems.xfs.rebuild import FreeList, placed, write_tree
from narvet.formats.filesystems.xfs.trees import BY_BLOCK, BY_COUNT, Group, blocks_of, records_of, sound
from narvet.formats.filesystems.xfs.volume import Volume, volume_of
from narvet.ground.errors import ImageError
from narvet.ground.values import replace


def enlarge(device: BlockDevice, grown: PlannedGrowth) -> None:
    """Write a grown XFS to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
        CannotChangeError: the last group's trees have no block to grow by.
    """
    superblock = r.Superblock.decode(device.read(0, 512))
    volume = volume_of(device, superblock)
    old, new = grown.old, grown.new
    if volume.shape != old:
        raise ImageError("the filesystem was changed while it was being made larger")
    if new == old:
        return
    added = new.block_count - old.block_count
    last = old.group_count - 1
    longer = new.length(last) - old.length(last)
    fresh = range(old.group_count, new.group_count)
    first = len(group_bytes(new, fresh[0], superblock)) // new.block_size if fresh else 0
    counts = superblock.sb_fdblocks + added - first * len(fresh)
    changed = replace(superblock, sb_dblocks=new.block_count, sb_agcount=new.group_count, sb_fdblocks=counts)
    for group in fresh:
        start = group * new.group_blocks * new.block_size
        device.write(start, group_bytes(new, group, replace(changed, sb_inprogress=1)))
    if longer:
        _lengthen(volume, volume.group(last), longer)
    for group in range(1, old.group_count):
        _change_copy(volume, group, changed)
    device.write(
        0,
        sealed(changed, "sb_crc", old.sector_size, device.read(r.Superblock.size, old.sector_size - r.Superblock.size)),
    )


def _change_copy(volume: Volume, group: int, superblock: r.Superblock) -> None:
    """Write the new sizes to a group's copy of the superblock; one that is not sound becomes as the first."""
    place, size = volume.group(group).start, volume.shape.sector_size
    data = volume.device.read(place, size)
    copy = r.Superblock.decode(data) if sound(data, r.Superblock, "sb_crc") else replace(superblock, sb_inprogress=1)
    copy = replace(
        copy, sb_dblocks=superblock.sb_dblocks, sb_agcount=superblock.sb_agcount, sb_fdblocks=superblock.sb_fdblocks
    )
    volume.device.write(place, sealed(copy, "sb_crc", size, data[r.Superblock.size :]))


def _lengthen(volume: Volume, group: Group, longer: int) -> None:
    """Make a group longer by free blocks."""
    agf, agi = free_header(volume, group), inode_header(volume, group)
    runs = records_of(volume.device, group, BY_BLOCK, agf.agf_roots[0], agf.agf_levels[0]).copy()
    if len(runs) and int(runs[-1]["ar_startblock"]) + int(runs[-1]["ar_blockcount"]) == group.blocks:
        runs[-1]["ar_blockcount"] += longer
    else:
        runs = np.append(runs, np.array([(group.blocks, longer)], dtype=runs.dtype))
    by_count = runs[np.lexsort((runs["ar_startblock"], runs["ar_blockcount"]))]
    spare = FreeList(volume, group, agf)
    roots, levels, used = list(agf.agf_roots), list(agf.agf_levels), 0
    for tree, records in ((BY_BLOCK, runs), (BY_COUNT, by_count)):
        number = 0 if tree is BY_BLOCK else 1
        blocks = blocks_of(volume.device, group, tree, roots[number], levels[number])
        levels_now = placed(volume, tree, blocks, len(records), spare.take)
        write_tree(volume, group, tree, records, levels_now)
        used += sum(map(len, levels_now)) - sum(map(len, blocks))
        roots[number], levels[number] = levels_now[-1][0], len(levels_now)
    changed = replace(
        agf,
        agf_length=agf.agf_length + longer,
        agf_roots=tuple(roots),
        agf_levels=tuple(levels),
        agf_freeblks=agf.agf_freeblks + longer,
        agf_longest=int(runs["ar_blockcount"].max()),
        agf_btreeblks=agf.agf_btreeblks + used,
        agf_flfirst=spare.first,
        agf_flcount=spare.count,
    )
    size = volume.shape.sector_size
    for at, record, field in (
        (1, changed, "agf_crc"),
        (2, replace(agi, agi_length=agi.agi_length + longer), "agi_crc"),
    ):
        rest = volume.device.read(group.start + at * size + record.size, size - record.size)
        volume.device.write(group.start + at * size, sealed(record, field, size, rest))
