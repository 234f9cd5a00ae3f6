"""An ext4 that exists made larger: from its state, however it was made, to the one it becomes. Pure.

Group descriptors go on where they lie together as long as blocks are reserved for them; then each meta block group
holds its own. What is known of features says whether a filesystem may be changed at all.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TypeVar

from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, refuse_unknown
from narvet.formats.filesystems.ext4.geometry import RESERVED_MOST
from narvet.formats.filesystems.ext4.options import LEAST, MOST, Ext4Options
from narvet.formats.filesystems.ext4.records import COMPAT, HARMLESS, INCOMPAT, OTHER_COMPAT, UNDERSTOOD
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.ground.units import KIB, show_both
from narvet.ground.values import Frozen, replace

_META_BG = next(bit for bit, name in INCOMPAT.items() if name == "meta_bg")
_BLOCKS_32 = (1 << 32) - 1
_INODES = (1 << 32) - 1
_ROUNDED = 8  # blocks that growing in steps may leave out of a share


class PlannedGrowth(Frozen):
    """An ext4 before and after; `gives_up_map` is whether the map of what growth may use is no longer needed."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    gives_up_map: bool = False

    def footprint(self) -> int:
        """Return the most bytes that it stores."""
        old, new = self.old, self.new
        groups = new.group_count - old.group_count
        copies = len(new.copies) - len(old.copies)
        flexes = -(-groups >> new.groups_per_flex_log) + 1
        per_flex = (2 + new.inode_table_blocks) << new.groups_per_flex_log
        bitmaps = flexes * (per_flex // new.blocks_per_group + 2) + 2
        tables = copies * (1 + new.descriptor_blocks) + new.reserved_descriptor_blocks
        if new.meta_from is not None:
            tables = new.table_blocks - old.table_blocks + 2 * copies
        if not {"metadata_csum", "uninit_bg"} & set(self.before.features):
            bitmaps += 2 * groups
        return (bitmaps + tables) * max(new.block_size, 4 * KIB)


G = TypeVar("G", bound=PlannedGrowth)


def grown(kind: type[G], state: FilesystemState, size: int) -> G:
    """Return an ext4 made as large as `size` bytes allow, as a `kind` of it; as it is where nothing is gained.

    Raises:
        CannotChangeError: it cannot be made so large, or may not be changed.
    """
    refuse_unknown(state, UNDERSTOOD | HARMLESS)
    old = state.shape
    if not isinstance(old, Shape):
        raise CannotChangeError(f"the {state.kind} is damaged", "repair it in its guest")
    if not old.sparse:
        raise CannotChangeError(
            f"the {state.kind} has a copy of its superblock in every group, an old form", "let its guest do it"
        )
    blocks = _fitting(old, size)
    if blocks <= old.block_count:
        return kind(state, state, old, old)
    _check(state, old, blocks)
    new, gives_up = _described(old, blocks, has_map="resize_inode" in state.features)
    added = new.block_count - old.block_count
    taken = _added_overhead(old, new)
    kept = old.superuser_blocks * blocks // old.block_count
    cap = RESERVED_MOST // old.block_size
    recorded = old.recorded_overhead + taken // old.cluster_blocks if old.recorded_overhead else 0
    new = replace(
        new, superuser_blocks=max(old.superuser_blocks, min(kept, cap)), recorded_overhead=recorded & 0xFFFFFFFF
    )
    free = state.free + (added - taken + gives_up) * old.block_size
    features = state.features if new.meta_from == old.meta_from else _with_meta_groups(state.features)
    return kind(state, replace(state, shape=new, free=free, features=features), old, new, gives_up)


def _with_meta_groups(features: tuple[str, ...]) -> tuple[str, ...]:
    """Return the features of one whose descriptors go on in meta block groups, in the order of their bits."""
    earlier = {*COMPAT.values(), *OTHER_COMPAT.values(), *(name for bit, name in INCOMPAT.items() if bit < _META_BG)}
    ahead = [name for name in features if name in earlier and name != "resize_inode"]
    return (*ahead, "meta_bg", *(name for name in features if name not in earlier))


def _fitting(old: Shape, size: int) -> int:
    """Return the most blocks in `size` bytes that pay: a last group that cannot hold its own metadata is left out."""
    blocks = size // old.unit * old.cluster_blocks
    groups, tail = divmod(blocks - old.first_data_block, old.blocks_per_group)
    if not tail or groups < old.group_count:
        return blocks
    whole = replace(old, block_count=blocks)
    has_super = groups in whole.copies
    own = old.clustered((1 + old.descriptor_blocks + old.reserved_descriptor_blocks if has_super else 0) + 2)
    starts_chunk = groups % (1 << old.groups_per_flex_log) == 0 or groups == old.group_count
    own += old.clustered(2 + old.inode_table_blocks) if starts_chunk else 0
    return blocks if tail > own else old.first_data_block + groups * old.blocks_per_group


def _check(state: FilesystemState, old: Shape, blocks: int) -> None:
    limits = [
        (MOST // old.block_size, "is made here for at most"),
        (_INODES // old.inodes_per_group * old.blocks_per_group, "has inodes for at most"),
    ]
    if "64bit" not in state.features:
        limits.append((_BLOCKS_32, "counts its blocks with 32 bits, so it has at most"))
    for most, why in limits:
        if blocks > most:
            most_bytes = most // old.cluster_blocks * old.unit
            raise CannotChangeError(
                f"the {state.kind} {why} {show_both(most_bytes)}",
                "choose a smaller size, or a new disk",
                LEAST,
                most_bytes,
            )


def _described(old: Shape, blocks: int, *, has_map: bool) -> tuple[Shape, bool]:
    """Return the shape with so many blocks, its group descriptors placed, and whether the map for growth goes."""
    new = replace(old, block_count=blocks)
    if old.meta_from is not None:
        return new, False
    more = new.descriptor_blocks - old.descriptor_blocks
    reserve = old.reserved_descriptor_blocks if has_map else 0
    if more <= reserve or not more:
        return replace(new, reserved_descriptor_blocks=old.reserved_descriptor_blocks - more), False
    return replace(
        new,
        meta_from=old.descriptor_blocks + reserve,
        reserved_descriptor_blocks=old.reserved_descriptor_blocks - reserve,
    ), has_map


def _added_overhead(old: Shape, new: Shape) -> int:
    """Return the blocks that the metadata of the groups added take, by whole clusters."""
    if old.cluster_blocks == 1:
        plain = [replace(one, recorded_overhead=0).overhead_blocks for one in (old, new)]
        return plain[1] - plain[0]
    tables = sum(
        new.clustered((end - first) * (2 + new.inode_table_blocks)) for first, end in new.chunks(old.group_count)
    )
    bases = sum(new.clustered(new.base_blocks(group)) for group in range(old.group_count, new.group_count))
    return tables + bases


def unlike(options: Ext4Options, planned: Shape, found: Shape) -> Iterator[tuple[str, str]]:
    """Yield the keys of its own that a filesystem made otherwise does not follow, and why."""
    many = min(planned.group_count, found.group_count) > 1  # of a single group the size decides too
    if options.inode_each is not None and many and planned.inodes_per_group != found.inodes_per_group:
        yield "inode_each", f"it has {found.inodes_per_group} inodes in a group, not {planned.inodes_per_group}"
    if options.journal is not None and options.journal // found.block_size != found.journal_blocks:
        yield "journal", f"its journal has {show_both(found.journal_blocks * found.block_size)}"
    if options.reserved is not None:
        wanted = found.block_count * options.reserved.numerator // options.reserved.denominator
        if abs(wanted - found.superuser_blocks) > max(_ROUNDED, found.block_count >> 20):
            kept = show_both(found.superuser_blocks * found.block_size)
            yield "reserved", f"it keeps {kept} for the superuser, not {show_both(wanted * found.block_size)}"
