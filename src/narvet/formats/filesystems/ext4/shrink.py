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

    `own` is, for groups that keep nothing and whose maps and tables do not lie before them: the group, and the block
    behind those; ascending.
    """

    blocks: int
    own: tuple[tuple[int, int], ...] = ()


@dataclass(frozen=True)
class PlannedShrinking:
    """An ext4 before and after."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    gives_up_map = False

    def footprint(self) -> int:
        """Return the most bytes that it writes: descriptors and superblocks with their copies, and some maps."""
        new = self.new
        flexes = (self.old.group_count - new.group_count >> new.groups_per_flex_log) + 2
        blocks = (1 + len(new.copies)) * (2 + new.descriptor_blocks) + new.reserved_descriptor_blocks + flexes
        return blocks * max(new.block_size, 4 * KIB)


S = TypeVar("S", bound=PlannedShrinking)


def shrunk(kind: type[S], state: FilesystemState, size: int) -> S:
    """Return an ext4 made no larger than `size` bytes, as a `kind` of it.

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
    blocks = _fitting(old, reach, size // old.block_size)
    if blocks < reach.blocks:
        raise cannot_shrink(state.kind, reach.blocks * old.block_size, size)
    new = _described(old, blocks, has_map="resize_inode" in state.features)
    new = replace(new, superuser_blocks=old.superuser_blocks * blocks // old.block_count)
    gone = old.block_count - blocks
    plain = [replace(one, recorded_overhead=0).overhead_blocks for one in (old, new)]
    recorded = old.recorded_overhead - plain[0] + plain[1] if old.recorded_overhead else 0
    new = replace(new, recorded_overhead=max(recorded, 0))
    free = state.free - (gone - (plain[0] - plain[1])) * old.block_size
    return kind(state, replace(state, shape=new, free=free, account=None), old, new)


def _fitting(old: Shape, reach: Reach, blocks: int) -> int:
    """Return the most blocks up to `blocks` with which the last group has room for what it keeps itself."""
    blocks = min(blocks, old.block_count)
    own = dict(reach.own)
    while blocks > reach.blocks:
        group = (blocks - 1 - old.first_data_block) // old.blocks_per_group
        start = old.group_start(group)
        if start + old.base_blocks(group) < blocks and own.get(group, 0) <= blocks:
            break
        blocks = start
    return blocks


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
