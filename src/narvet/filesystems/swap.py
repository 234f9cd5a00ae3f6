"""Swap as the Linux kernel documents it (include/linux/swap.h, union swap_header, version 1): one page describes it.

Pages are 4 KiB, as on every machine whose guests this is for. The kernel counts all pages but the first.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from uuid import UUID

from narvet.block.contract import BlockDevice, Extent
from narvet.filesystems.contract import Capacity, FilesystemFacts, Loss, Options, UnfitError, Usual
from narvet.findings import Finding
from narvet.records import Record, at
from narvet.units import KIB, TIB, show_both

PAGE = 4 * KIB
LEAST = 64 * KIB
MOST = 16 * TIB - PAGE  # last_page has 32 bits
MAGIC = b"SWAPSPACE2"


class SwapHeader(Record, title="swap header", size=PAGE):
    """The first page."""

    bootbits: bytes = at(0, "1024s", "", "left to a boot loader")
    version: int = at(1024, "u32", "", "1")
    last_page: int = at(1028, "u32", "pages", "number of the last one")
    nr_badpages: int = at(1032, "u32", "", "0")
    sws_uuid: UUID = at(1036, "uuid", "", "id")
    sws_volume: bytes = at(1052, "16s", "", "label, padded with NULs")
    padding: bytes = at(1068, "3018s", "", "zero")
    magic: bytes = at(4086, "10s", "", "SWAPSPACE2")


@dataclass(frozen=True)
class Geometry:
    """So many pages of a partition of `size` bytes."""

    size: int
    options: Options
    pages: int


class Swap(Usual):
    """The filesystem behind `filesystem = "swap"`, though nothing is kept in it by name."""

    name = "swap"
    mount_type = "swap"
    check_pass = 0
    keeps_owner = False
    least = LEAST
    most = MOST
    label_limit = 16

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the page."""
        del sector
        return (PAGE,)

    def mount_options(self, options: Options) -> tuple[str, ...]:
        """Return none."""
        del options
        return ()

    def geometry(self, size: int, options: Options) -> Geometry:
        """Return how many pages fit."""
        if not LEAST <= size <= MOST:
            bounds = f"from {show_both(LEAST)} to {show_both(MOST)}"
            raise UnfitError(f"swap is made {bounds}, not at {show_both(size)}", LEAST, MOST)
        return Geometry(size, options, size // PAGE)

    def capacity(self, geometry: Geometry) -> Capacity:
        """Return what the guest adds to its swap."""
        usable = (geometry.pages - 1) * PAGE
        losses = (("description", PAGE), ("too short for a page", geometry.size - geometry.pages * PAGE))
        return Capacity(usable, usable, usable, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self, geometry: Geometry) -> int:
        """Return the one page that is written."""
        del geometry
        return PAGE

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the bounds."""
        del options
        return (LEAST, MOST)

    def write(self, device: BlockDevice, geometry: Geometry) -> None:
        """Write the first page."""
        options = geometry.options
        header = SwapHeader.of(
            version=1,
            last_page=geometry.pages - 1,
            sws_uuid=options.uuid,
            sws_volume=options.label.encode(),
            magic=MAGIC,
        )
        device.write(0, header.encode())

    def read(self, device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
        """Return what is found on a device that is not trusted."""
        del deep
        if device.size < PAGE:
            return None
        header = SwapHeader.decode(device.read(0, PAGE))
        if header.magic != MAGIC:
            return None
        found: tuple[Finding, ...] = ()
        size = (header.last_page + 1) * PAGE
        if header.version != 1:
            found = (_finding("filesystem-damaged", where, f"swap of version {header.version} is not known"),)
        elif header.last_page == 0 or size > device.size:
            told = f"its last page is {header.last_page}, but it lies on {device.size} bytes"
            found = (_finding("filesystem-past-end", where, told),)
        usable = max(header.last_page - header.nr_badpages, 0) * PAGE
        label = header.sws_volume.split(b"\0")[0].decode("utf-8", "replace")
        return FilesystemFacts("swap", str(header.sws_uuid), label, size, usable, usable, PAGE, findings=found)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield all but the description: what was swapped out is of no use to a guest that starts."""
        yield Extent(PAGE, device.size - PAGE)


def _finding(rule: str, where: str, message: str) -> Finding:
    return Finding(rule, "error", where, message, "make it anew: swap keeps nothing that is missed")


FILESYSTEM = Swap()
