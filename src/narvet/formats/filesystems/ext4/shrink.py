"""An ext4 that exists made smaller: from its state, and how far what it keeps reaches, to the one it becomes. Pure.

Groups behind the new end go, with the copies and descriptors in them. What is free of the blocks that descriptors had
is kept for growth where the kernel's map of that can tell of it, and else given back.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TypeVar

from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, cannot_shrink, refuse_unknown
from narvet.formats.filesystems.ext4.records import HARMLESS, UNDERSTOOD
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.ground.units import KIB


@dataclass(frozen=True)
class Reach:
    """How far what an ext4 keeps reaches: the least number of `blocks` it can have without anything being moved.

    `own` is, for groups whose maps and tables do not lie before them: the group, and the block behind those; ascending.
    `inodes` is those in use.
    """

    blocks: int
    own: tuple[tuple[int, int], ...] = ()
    inodes: int = 0

    def own_end(self, group: int) -> int:
        """Return the block behind the maps and tables of all groups up to one."""
        return max((end for one, end in self.own if one <= group), default=0)


@dataclass(frozen=True)
class PlannedShrinking:
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
    if not old.sparse or old.cluster_blocks > 1:
        what = "has units of several blocks" if old.sparse else "has a copy of its superblock in every group"
        told = f"the {state.kind} {what}, and is not made smaller here"
        raise CannotChangeError(told, "make a new disk, and copy the files")
    movable = not set(state.features) & _UNMOVABLE
    least = _least_moving(state, old, reach) if movable else reach.blocks
    blocks = _fitting(old, reach, size // old.block_size, least if moving else reach.blocks)
    if blocks < (least if moving else reach.blocks):
        sizes = (one * old.block_size for one in (reach.blocks, least))
        raise cannot_shrink(state.kind, size, *sizes, moving=moving)
    new = _described(old, blocks, has_map="resize_inode" in state.features)
    new = replace(new, superuser_blocks=old.superuser_blocks * blocks // old.block_count)
    gone = old.block_count - blocks
    plain = [replace(one, recorded_overhead=0).overhead_blocks for one in (old, new)]
    recorded = old.recorded_overhead - plain[0] + plain[1] if old.recorded_overhead else 0
    new = replace(new, recorded_overhead=max(recorded, 0))
    free = state.free - (gone - (plain[0] - plain[1])) * old.block_size
    return kind(state, replace(state, shape=new, free=free, account=None), old, new, blocks < reach.blocks)


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
