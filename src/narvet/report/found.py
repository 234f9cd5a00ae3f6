"""What was found on images, as text: pure functions from values to what rich prints."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from narvet.ground.errors import printable
from narvet.ground.sids import name_of as account_of
from narvet.ground.units import counted, show_binary, show_both, show_bytes
from narvet.report.cores import band_of, member_bands, name_of
from narvet.report.text import core
from narvet.report.totals import headed

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import FilesystemState
    from narvet.model.estate import Disk, Partition
    from narvet.model.pools import FoundPool
    from narvet.report.terminal import Marks

_POINTS = 6  # mount points that are spelt out


def in_depth(
    found: Sequence[Disk], marks: Marks, pools: Iterable[FoundPool] = (), *, in_brief: bool = False
) -> RenderableType:
    """Return what was found at each path; `in_brief` has a line for each ahead of that."""
    parts: list[RenderableType] = [in_lines(found), ""] if in_brief else []
    for one in found:
        parts += [_survey(one, found, marks), ""]
    for pool in pools:
        parts += [_pool(pool), ""]
    return Group(*parts)


def _pool(pool: FoundPool) -> RenderableType:
    from narvet.report import pools

    return pools.found(pool)


def in_lines(found: Iterable[Disk]) -> RenderableType:
    """Return a line for each image that was found."""
    table = headed("image", "size", "stored", "~format", "~holds")
    for one in found:
        every = [
            f"{name_of(part)} {part.filesystem.kind if part.filesystem else _of_pool(part)}".strip()
            for part in one.partitions
        ]
        inside = ", ".join(every) or "nothing known"
        sizes = show_binary(one.size), show_binary(one.image.stored)
        table.add_row(Text(one.path, "name"), *sizes, one.image.format, f"{one.table_name}: {inside}")
    return table


def _of_pool(part: Partition) -> str:
    """Return what a partition is in a pool, empty if it is in none."""
    if part.member is None:
        return "sealed" if part.seal else ""
    return f"of pool {printable(part.member.pool.name)}" if part.member.pool else "of no pool yet"


def _survey(found: Disk, every: Sequence[Disk], marks: Marks) -> RenderableType:
    image = found.image
    head = Text.assemble((image.path, "name"), f"  {show_both(image.size)}, {image.format}, {image.space}")
    if image.block_size:
        head.append(f" in blocks of {show_binary(image.block_size)}")
    head.append(f"; {show_binary(image.stored)} stored")
    if image.base is not None:
        head.append(f"; a child of {printable(image.base)}")
    table = (
        f"{found.table_name} {found.table_id}, sectors of {show_bytes(image.sector_size)}"
        if found.table_id
        else "no table"
    )
    rows = [band for part in found.partitions for band in (member_bands(part) or [band_of(part, found)])]
    inside = [Padding(core(rows, marks), (0, 0, 0, 2))] if rows else []
    known = [(part, part.filesystem) for part in found.partitions if part.filesystem]
    details = [Padding(Text(line, overflow="fold"), (0, 0, 0, 2)) for line in _links(known, marks)]
    details = [Padding(_details(known), (0, 0, 0, 2)), *details] if known else []
    details += [Padding(Text(line, overflow="fold"), (0, 0, 0, 2)) for line in _systems(found, every)]
    return Group(head, Text(table, "dim"), *inside, *details)


def _systems(found: Disk, every: Sequence[Disk]) -> Iterable[str]:
    """Yield what lives on a disk, and what its partitions are to the systems on the disks that were looked at."""
    from narvet.usecases.survey import used_as

    for one in found.systems:
        version = f", {'kernel ' if one.runs == 'linux' else ''}{one.version}" if one.version else ""
        points = [printable(at) for _, at in one.mounts if at != "none"]
        more = f" and {counted(len(points) - _POINTS, 'more place')}" if len(points) > _POINTS else ""
        mounts = f"; it mounts {', '.join(points[:_POINTS])}{more}" if points else ""
        yield f"{_numbered(one.partition)}: {printable(one.name)} lives here{version}{mounts}"
    for use in used_as(found, every):
        if not any(use.image == f"{found.path}:{one.partition}" for one in found.systems):
            what = "swap" if use.at == "none" else printable(use.at)
            yield f"{_numbered(use.partition)}: {what} of {printable(use.system)} on {use.image}"


def _numbered(partition: int) -> str:
    return f"partition {partition}" if partition else "the disk"


def _links(known: Sequence[tuple[Partition, FilesystemState]], marks: Marks) -> list[str]:
    """Return the folders that lead to other volumes, a line each."""
    return [
        f"{name_of(part)}: {printable(path)} {marks.arrow} {printable(target)}"
        for part, inside in known
        for path, target in inside.links
    ]


def _details(known: Sequence[tuple[Partition, FilesystemState]]) -> RenderableType:
    """Return what is known of each filesystem, a row each."""
    table = headed("", "~id", "free", "~root")
    for part, inside in known:
        owner = f"{inside.uid}:{inside.gid} {inside.mode:04o}" if inside.mode is not None else ""
        owner = owner or account_of(inside.rights.partition("D:")[0].removeprefix("O:"))
        table.add_row(Text(name_of(part), "name"), inside.uuid, show_binary(inside.free), owner)
    return table
