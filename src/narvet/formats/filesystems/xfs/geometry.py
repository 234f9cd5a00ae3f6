"""An XFS planned: from a size and options to its shape, and what a guest will show of it.

Departures from the plainest layout, and why:

* below `FULL_FROM` there are no reverse mappings and reference counts: their reservations and the larger log they
  need would take much of so small a filesystem;
* extent counts keep 32 bits, which guests from kernel 5.10 on read.
"""

from __future__ import annotations

from functools import lru_cache
from typing import TypeVar

from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, UnfitError
from narvet.formats.filesystems.xfs.options import LEAST, MOST, SMALLEST_GROUP, XfsOptions
from narvet.formats.filesystems.xfs.shape import SET_ASIDE, Shape, hidden_blocks, kept_back
from narvet.ground.errors import BugError
from narvet.ground.units import GIB, KIB, MIB, TIB, align_up, outside, show_both
from narvet.ground.values import Frozen, replace

UNITS = (KIB, 2 * KIB, 4 * KIB)
FULL_FROM = 300 * MIB
LARGEST_GROUP = TIB
# What the largest transactions need in the largest groups (xfs_log_calc_minimum_size gives 17 MiB, and 7 MiB without
# the trees of owners and references), with room for kernels that want more.
LOG_LEAST_FULL, LOG_LEAST = 32 * MIB, 7 * MIB
LOG_MOST = 2 * GIB - 64 * MIB  # the kernel takes less than 2 GiB,
LOG_MOST_BLOCKS = 1 << 20  # and no more blocks than these


class PlannedXfs(Frozen):
    """An XFS that is to be made in `size` bytes."""

    size: int
    options: XfsOptions
    shape: Shape

    def capacity(self) -> Capacity:
        """Return what statvfs gives on the fresh mount, and where the rest of the partition went."""
        return _capacity(self.size, self.shape)

    def footprint(self) -> int:
        """Return the most bytes that writing the filesystem stores."""
        shape = self.shape
        unit = max(shape.block_size, 4 * KIB)
        return shape.group_count * (shape.first_free * shape.block_size + unit) + 64 * KIB

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        options = self.options
        return FilesystemState(
            "xfs", str(options.uuid), options.label, self.shape, self.capacity().free,
            options.uid, options.gid, options.mode,
        )  # fmt: skip


@lru_cache(maxsize=1024)
def _capacity(size: int, shape: Shape) -> Capacity:
    block = shape.block_size
    aside = min(SET_ASIDE * shape.group_count, shape.free_blocks)
    kept = kept_back(shape.block_count, shape.free_blocks - aside)
    hidden = min(hidden_blocks(shape), shape.free_blocks - aside - kept)
    free = shape.free_blocks - aside - kept - hidden
    losses = [
        ("log", shape.log_blocks * block),
        ("kept for growth of the trees", hidden * block),
        ("kept for transactions", kept * block),
        ("group headers, roots of trees", shape.group_count * shape.first_free * block),
        ("set aside in each group", aside * block),
        ("first inodes", shape.chunk_blocks * block),
        ("too short for a group", size - shape.size),
    ]
    parts = tuple(Loss(what, size) for what, size in losses if size)
    found = Capacity(shape.total, free * block, free * block, parts)
    if found.available + sum(loss.size for loss in found.losses) != size:
        raise BugError(f"xfs: the parts of {size} bytes do not add up")
    return found


N = TypeVar("N", bound=PlannedXfs)


def plan(kind: type[N], size: int, options: XfsOptions) -> N:
    """Return an XFS to be made in `size` bytes, as a `kind` of it.

    Raises:
        UnfitError: the size is outside what XFS is made for here, or the log asked for does not fit.
    """
    block = options.unit or 4 * KIB
    if not LEAST <= size <= MOST:
        raise UnfitError(f"xfs is made {outside(size, LEAST, MOST)}", LEAST, MOST)
    count = -(-size // LARGEST_GROUP) if size > 4 * LARGEST_GROUP else max(min(size // (32 * MIB), 4), 1)
    if options.stripe > options.chunk and size >= GIB:  # many disks serve many groups at once
        count = max(count, min(size // (512 * MIB), 16))
    blocks, unit = size // block, max(options.chunk // block, 1)
    group = min(align_up(-(-blocks // count), unit), LARGEST_GROUP // block)
    whole, rest = divmod(blocks, group)
    if rest * block < SMALLEST_GROUP and whole:
        blocks, rest = whole * group, 0
    chunk = options.chunk
    stripe_unit = chunk // block if chunk > block and chunk % block == 0 else 0
    bare = Shape(block, options.sector_size, blocks, group, stripe_unit=stripe_unit, full=size >= FULL_FROM)
    log_group = bare.group_count // 2  # the one in the middle
    start = align_up(bare.first_free, stripe_unit) if stripe_unit and bare.group_count > 1 else bare.first_free
    shape = replace(bare, log_group=log_group, log_start=start)
    return kind(size, options, replace(shape, log_blocks=_log_blocks(size, options, shape)))


def _log_blocks(size: int, options: XfsOptions, shape: Shape) -> int:
    block = shape.block_size
    least = (LOG_LEAST_FULL if shape.full else LOG_LEAST) // block
    room = shape.length(shape.log_group) - shape.first_free - shape.stripe_unit - 2 * shape.chunk_blocks
    most = min(LOG_MOST // block, LOG_MOST_BLOCKS, room * 3 // 4)
    if options.journal is None:
        usual = 2 if options.purpose == "database" else 1  # many small commits
        wanted = usual * max(min(size // 64, 64 * MIB), size // 2048)
        return max(min(wanted // block, most), least)
    if not least <= options.journal // block <= most:
        bounds = f"{show_both(least * block)} to {show_both(most * block)}"
        message = f"the log of an xfs of {show_both(size)} has {bounds}, not {show_both(options.journal)}"
        raise UnfitError(message, LEAST, MOST, "choose a size between, or leave journal out")
    return options.journal // block


def breakpoints(options: XfsOptions) -> tuple[int, ...]:
    """Return the sizes at which a rule of this module changes, ascending, the bounds included."""
    sizes = {LEAST, FULL_FROM, 64 * MIB, 96 * MIB, 128 * MIB, 4 * GIB, 128 * GIB, MOST}
    sizes |= {number * LARGEST_GROUP + 1 for number in range(4, MOST // LARGEST_GROUP)}
    if options.stripe:
        sizes |= {GIB, *(number * 512 * MIB for number in range(3, 17))}
    return tuple(sorted(sizes))
