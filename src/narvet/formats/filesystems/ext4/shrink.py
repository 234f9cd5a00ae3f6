"""An ext4 that exists made smaller: from its state, and how far what it keeps reaches, to the one it becomes. Pure.

Groups behind the new end go, with the copies and descriptors in them. What is free of the blocks that descriptors had
is kept for growth where the kernel's map of that can tell of it, and else given back.
"""

from __future__ import annotations

from typing import TypeVar

from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, cannot_shrink, refuse_unknown
from narvet.formats.filesystems.ext4.records import HARMLESS, UNDERSTOOD
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.ground.extents import Extent, cut, without
from narvet.ground.units import KIB
from narvet.ground.values import Frozen, replace


class Reach(Frozen):
    """How far what an ext4 keeps reaches: the least number of `blocks` it can have without anything being moved.

    `own` is, for groups whose maps and tables do not lie before them: the group, and the block behind those; ascending.
    `inodes` is those in use. `tables` is group, first block and end of every map and table, where clusters have many
    blocks.
    """

    blocks: int
    own: tuple[tuple[int, int], ...] = ()
    inodes: int = 0
    tables: tuple[tuple[int, int, int], ...] = ()

    def own_end(self, group: int) -> int:
        """Return the block behind the maps and tables of all groups up to one."""
        return max((end for one, end in self.own if one <= group), default=0)


class PlannedShrinking(Frozen):
    """An ext4 before and after; `moves` is whether what it keeps behind its new end is moved before that."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    moves: bool = False
    gives_up_map = False

    def footprint(self) -> int:
        """Return the most bytes that it writes: descriptors and superblocks with their copies, and some maps."""
        new = self.new
        flexes = (self.old.group_count - new.group_count >> new.groups_per_flex_log) + 2
        moved = min(self.old.block_count - new.block_count, (self.state.total - self.state.free) // new.block_size)
        blocks = moved if self.moves else 0
        blocks += (1 + len(new.copies)) * (2 + new.descriptor_blocks) + new.reserved_descriptor_blocks + flexes
        return blocks * max(new.block_size, 4 * KIB)


_SPARE, _SPARE_SHARE = 64, 256  # blocks, and a part of what is in use, that moved files may need besides
_UNMOVABLE = frozenset({"ea_inode", "inline_data", "stable_inodes", "quota", "project"})
"""Features that tell of files by their numbers, or count their blocks, in ways that moving does not follow."""

S = TypeVar("S", bound=PlannedShrinking)


def shrunk(kind: type[S], state: FilesystemState, size: int, *, moving: bool) -> S:
    """Return an ext4 made no larger than `size` bytes, as a `kind` of it; files may be moved for that with `moving`.

    Raises:
        CannotChangeError: something lies behind that end, or it may not be changed.
    """
    refuse_unknown(state, UNDERSTOOD | HARMLESS)
    old, reach = state.shape, state.account
    if not isinstance(old, Shape) or not isinstance(reach, Reach):
        raise CannotChangeError(f"the {state.kind} is damaged", "repair it in its guest")
    if not old.sparse:
        told = f"the {state.kind} has a copy of its superblock in every group, and is not made smaller here"
        raise CannotChangeError(told, "make a new disk, and copy the files")
    movable = old.cluster_blocks == 1 and not set(state.features) & _UNMOVABLE
    least = _least_moving(state, old, reach) if movable else reach.blocks
    blocks = _fitting(old, reach, size // old.unit * old.cluster_blocks, least if moving else reach.blocks)
    if blocks < (least if moving else reach.blocks):
        sizes = (one * old.block_size for one in (reach.blocks, least))
        raise cannot_shrink(state.kind, size, *sizes, moving=moving)
    new = _described(old, blocks, has_map="resize_inode" in state.features)
    new = replace(new, superuser_blocks=old.superuser_blocks * blocks // old.block_count)
    free, recorded = _left(state, old, new) if old.cluster_blocks == 1 else _left_of_clusters(state, old, new, reach)
    new = replace(new, recorded_overhead=recorded)
    return kind(state, replace(state, shape=new, free=free, account=None), old, new, blocks < reach.blocks)


def _left(state: FilesystemState, old: Shape, new: Shape) -> tuple[int, int]:
    """Return the bytes that are free then, and the clusters that the superblock says are not counted."""
    gone = old.block_count - new.block_count
    plain = [replace(one, recorded_overhead=0).overhead_blocks for one in (old, new)]
    recorded = old.recorded_overhead - plain[0] + plain[1] if old.recorded_overhead else 0
    return state.free - (gone - (plain[0] - plain[1])) * old.block_size, max(recorded, 0)


def _left_of_clusters(state: FilesystemState, old: Shape, new: Shape, reach: Reach) -> tuple[int, int]:
    """Return the same where blocks come in clusters, several tables in one: by what files keep, which stays."""
    end = (new.block_count - new.first_data_block) // new.cluster_blocks
    last = -(-(old.block_count - old.first_data_block) // old.cluster_blocks)
    held = sum(run.length for one in _taken(old, reach, old.group_count) for run in cut(one, end, last))
    back = sum(run.length for run in given_back(old, new, reach))
    free = state.free + (back + held - (last - end)) * old.unit
    return free, (new.size - free - (state.total - state.free)) // old.unit


def given_back(old: Shape, new: Shape, reach: Reach) -> list[Extent]:
    """Return the clusters that stay and are free then, by their numbers: groups that go kept something there."""
    end = (new.block_count - new.first_data_block) // new.cluster_blocks
    before = [run for one in _taken(old, reach, old.group_count) for run in cut(one, 0, end)]
    return list(without(before, _taken(new, reach, new.group_count)))


def _taken(shape: Shape, reach: Reach, groups: int) -> list[Extent]:
    """Return the clusters that hold superblocks, descriptors, maps or tables of so many groups, ascending."""
    starts = [shape.group_start(group) for group in (0, *shape.copies)]
    runs = [(start, start + shape.base_blocks(group)) for start, group in zip(starts, (0, *shape.copies), strict=True)]
    if shape.meta_from is not None:
        runs = [(shape.group_start(one), shape.group_start(one) + shape.base_blocks(one)) for one in range(groups)]
    runs += [(first, end) for group, first, end in reach.tables if group < groups]
    first, ratio = shape.first_data_block, shape.cluster_blocks
    clusters = sorted(((low - first) // ratio, -(-(high - first) // ratio)) for low, high in runs if low < high)
    found, reach_of_all = list[Extent](), 0
    for low, high in clusters:
        if high > reach_of_all:
            found.append(Extent(max(low, reach_of_all), high - max(low, reach_of_all)))
            reach_of_all = high
    return found


def _fitting(old: Shape, reach: Reach, blocks: int, least: int) -> int:
    """Return the most blocks from `least` up to `blocks` that hold the maps and tables of their groups."""
    blocks = min(blocks, old.block_count)
    while blocks > least and not _has_room(old, reach, blocks):
        blocks = old.group_start((blocks - 1 - old.first_data_block) // old.blocks_per_group)
    return blocks


def _has_room(old: Shape, reach: Reach, blocks: int) -> bool:
    """Return whether so many blocks hold the maps and tables of all groups that they have."""
    group = (blocks - 1 - old.first_data_block) // old.blocks_per_group
    return old.group_start(group) + old.base_blocks(group) < blocks and reach.own_end(group) <= blocks


def _least_moving(state: FilesystemState, old: Shape, reach: Reach) -> int:
    """Return the fewest blocks that hold everything, if it is moved, with some room for what leads to it."""
    used = (state.total - state.free) // old.block_size
    spare = _SPARE + used // _SPARE_SHARE
    low, high = old.first_data_block + 1, reach.blocks
    while low < high:
        blocks = (low + high) // 2
        new = _described(old, blocks, has_map="resize_inode" in state.features)
        room = blocks - replace(new, recorded_overhead=0).overhead_blocks - used - spare - _held(old, new, reach)
        fits = room >= 0 and new.group_count * old.inodes_per_group >= reach.inodes and _has_room(old, reach, blocks)
        low, high = (low, blocks) if fits else (blocks + 1, high)
    return low


def _held(old: Shape, new: Shape, reach: Reach) -> int:
    """Return the blocks that groups which go hold before the new end, and that are free only once they are gone."""
    flex = 1 << old.groups_per_flex_log
    end = min(-(-new.group_count // flex) * flex, old.group_count)
    own = {group for group, _ in reach.own}
    gone = sum(1 for group in range(new.group_count, end) if group not in own)
    bases = sum(old.base_blocks(group) - new.base_blocks(group) for group in (0, *new.copies))
    return gone * (2 + old.inode_table_blocks) + bases


def _described(old: Shape, blocks: int, *, has_map: bool) -> Shape:
    """Return the shape with so many blocks, and with the group descriptors that those need."""
    new = replace(old, block_count=blocks)
    if old.meta_from is not None:
        return replace(new, meta_from=min(old.meta_from, new.descriptor_blocks))
    if not has_map:
        return new
    spare = old.descriptor_blocks - new.descriptor_blocks
    most = old.block_size // 4  # entries of the map's block
    return replace(new, reserved_descriptor_blocks=min(old.reserved_descriptor_blocks + spare, most))
