"""Swap as the Linux kernel documents it (include/linux/swap.h, union swap_header, version 1): one page describes it.

Pages are 4 KiB, as on every machine whose guests this is for. The kernel counts all pages but the first.
"""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import (
    NEVER_CHECKED,
    CannotChangeError,
    Capacity,
    FilesystemState,
    LinuxFilesystem,
    Loss,
    Options,
    UnfitError,
    refuse_unknown,
)
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.records import Record, raw, u32, uuid
from narvet.ground.rules import filesystems as rules
from narvet.ground.units import KIB, TIB, outside, show_both
from narvet.ground.values import Frozen, replace

PAGE = 4 * KIB
LEAST = 64 * KIB
MOST = 16 * TIB - PAGE  # last_page has 32 bits
MAGIC = b"SWAPSPACE2"


class SwapHeader(Record, title="swap header", size=PAGE):
    """The first page."""

    bootbits: bytes = raw(0, 1024, "", "left to a boot loader")
    version: int = u32(1024, "", "1")
    last_page: int = u32(1028, "pages", "number of the last one")
    nr_badpages: int = u32(1032, "", "0")
    sws_uuid: UUID = uuid(1036, "", "id")
    sws_volume: bytes = raw(1052, 16, "", "label, padded with NULs")
    padding: bytes = raw(1068, 3018, "", "zero")
    magic: bytes = raw(4086, 10, "", "SWAPSPACE2")


class Shape(Frozen):
    """The pages of swap. The first one describes the others; the kernel does not use the `bad` ones."""

    pages: int
    bad: int = 0

    @property
    def size(self) -> int:
        """Bytes of all pages."""
        return self.pages * PAGE

    @property
    def total(self) -> int:
        """Bytes that the guest adds to its swap."""
        return max(self.pages - 1 - self.bad, 0) * PAGE

    @property
    def unit(self) -> int:
        """Bytes of a page."""
        return PAGE

    @property
    def held_back(self) -> int:
        """Nothing: ordinary users can fill what is free."""
        return 0


class SwapOptions(Options, kw_only=True):
    """Options of swap: it has none of its own."""

    def plan(self, size: int) -> NewSwap:
        """Return swap of as many pages as fit into `size` bytes; UnfitError if those are too few or too many."""
        if not LEAST <= size <= MOST:
            raise UnfitError(f"swap is made {outside(size, LEAST, MOST)}", LEAST, MOST)
        return NewSwap(size, self, Shape(size // PAGE))

    def breakpoints(self) -> tuple[int, ...]:
        """Return the bounds."""
        return (LEAST, MOST)

    def mount_options(self) -> tuple[str, ...]:
        """Return none: swap is not mounted."""
        return ()


class NewSwap(Frozen):
    """Swap that is to be made in `size` bytes."""

    size: int
    options: SwapOptions
    shape: Shape

    def capacity(self) -> Capacity:
        """Return what the guest adds to its swap."""
        usable = self.shape.total
        losses = (("description", PAGE), ("too short for a page", self.size - self.shape.size))
        return Capacity(usable, usable, usable, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self) -> int:
        """Return the one page that is written."""
        return PAGE

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        return FilesystemState("swap", str(self.options.uuid), self.options.label, self.shape, self.shape.total)

    def write(self, device: BlockDevice) -> None:
        """Write the first page."""
        header = SwapHeader(
            version=1,
            last_page=self.shape.pages - 1,
            sws_uuid=self.options.uuid,
            sws_volume=self.options.label.encode(),
            magic=MAGIC,
        )
        device.write(0, header.encode())


class ResizedSwap(Frozen):
    """Swap that is to have more pages, or fewer."""

    before: FilesystemState
    state: FilesystemState

    def footprint(self) -> int:
        """Return nothing: the description is there already."""
        return 0

    def write(self, device: BlockDevice) -> None:
        """Write the number of pages; id, label and what a boot loader keeps there stay."""
        header = SwapHeader.decode(device.read(0, PAGE))
        device.write(0, replace(header, last_page=self.state.size // PAGE - 1).encode())


class Swap(LinuxFilesystem):
    """The filesystem behind `filesystem = "swap"`, though nothing is kept in it by name."""

    name = "swap"
    options = SwapOptions
    mount_type = "swap"
    check_pass = NEVER_CHECKED
    keeps_owner = False
    least = LEAST
    most = MOST
    label_limit = 16

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the page, whatever the sectors."""
        return tuple(unit for unit in (PAGE,) if unit >= sector_size)

    def read(
        self,
        device: BlockDevice,
        where: Place,
        *,
        deep: bool = True,  # noqa: ARG002 (the contract's; there is no more)
    ) -> FilesystemState | None:
        """Return what is found on the first page of a device that is not trusted."""
        if device.size < PAGE:
            return None
        header = SwapHeader.decode(device.read(0, PAGE))
        if header.magic != MAGIC:
            return None
        shape = Shape(header.last_page + 1, header.nr_badpages)
        label = header.sws_volume.split(b"\0")[0].decode("utf-8", "replace")
        found = tuple(_faults(header, shape, device.size, where))
        return FilesystemState("swap", str(header.sws_uuid), label, shape, shape.total, findings=found)

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Write the label."""
        header = SwapHeader.decode(device.read(0, PAGE))
        changed = replace(header, sws_volume=wanted.label.encode())
        if changed != header:
            device.write(0, changed.encode())

    def grown(self, state: FilesystemState, size: int) -> ResizedSwap:
        """Return swap of as many pages as fit; CannotChangeError where its page count cannot tell them."""
        refuse_unknown(state, frozenset())
        if size > MOST:
            raise CannotChangeError(f"swap has at most {show_both(MOST)}", "choose a smaller size", LEAST, MOST)
        return _resized(state, max(size // PAGE, state.size // PAGE))

    def reached(self, device: BlockDevice, state: FilesystemState) -> FilesystemState:  # noqa: ARG002 (the contract's)
        """Return its state: nothing in it is kept."""
        return state

    def shrunk(self, state: FilesystemState, size: int, *, moving: bool = False) -> ResizedSwap:  # noqa: ARG002
        """Return swap of as many pages as fit; CannotChangeError where those are too few."""
        refuse_unknown(state, frozenset())
        if size < LEAST or not isinstance(state.shape, Shape) or state.shape.bad:
            told = "swap with pages that are marked as bad cannot be made smaller"
            told = f"swap has at least {show_both(LEAST)}" if size < LEAST else told
            raise CannotChangeError(told, "choose a larger size, or make a new disk", LEAST)
        return _resized(state, size // PAGE)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield all but the description: what was swapped out is of no use to a guest that starts."""
        yield Extent(PAGE, device.size - PAGE)


def _resized(state: FilesystemState, pages: int) -> ResizedSwap:
    shape = Shape(pages, state.shape.bad if isinstance(state.shape, Shape) else 0)
    return ResizedSwap(state, replace(state, shape=shape, free=shape.total))


def _faults(header: SwapHeader, shape: Shape, there: int, where: Place) -> Iterator[Finding]:
    if header.version != 1:
        yield rules.swap_damaged.error(where, f"swap of version {header.version} is not known")
    elif header.last_page == 0 or shape.size > there:
        yield rules.filesystem_past_end.error(where, shape.size, there)


FILESYSTEM = Swap()
