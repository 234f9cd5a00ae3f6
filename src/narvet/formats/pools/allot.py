"""Which extents of a pool's members become a volume's: made, larger, smaller, moved off a member. Pure.

A volume stays where it is: what it gets more comes behind its end where that is free, or else from the first run that
has room for all of it, so that it has few segments.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping

from narvet.formats.pools.tree import Copies, Pool, PoolVolume, Segment, Spread
from narvet.ground.values import Frozen, replace

_PLAIN = "striped"


class NoRoomError(Exception):
    """A pool has not enough free extents where they are needed: `lacking` of them."""

    def __init__(self, lacking: int) -> None:
        super().__init__(lacking)
        self.lacking = lacking


class Kind(Frozen):
    """How a volume lies on its members: over `width` of them side by side, or in so many copies; `chunk` is bytes."""

    spread: Spread = "linear"
    width: int = 1
    chunk: int = 0

    @property
    def step(self) -> int:
        """The extents that its size is a multiple of."""
        return self.width if self.spread == "striped" else 1


class Transfer(Frozen):
    """`count` extents that go from one place of the members, by name and first extent, to another."""

    source: tuple[str, int]
    target: tuple[str, int]
    count: int


class Free:
    """The free runs of members, ascending; what is taken is gone."""

    def __init__(self, runs: Mapping[str, list[tuple[int, int]]]) -> None:
        self._runs = {name: list(own) for name, own in runs.items()}

    @property
    def names(self) -> tuple[str, ...]:
        """The members."""
        return tuple(self._runs)

    def total(self, name: str) -> int:
        """Return the free extents of a member."""
        return sum(count for _, count in self._runs[name])

    def behind(self, name: str, first: int) -> int:
        """Return how many extents are free from one on."""
        return next((count - (first - at) for at, count in self._runs.get(name, ()) if at <= first < at + count), 0)

    def largest(self, name: str) -> tuple[int, int]:
        """Return the largest free run of a member, the first of several."""
        return max(self._runs.get(name, ()), key=lambda run: run[1], default=(0, 0))

    def fitting(self, name: str, count: int) -> int | None:
        """Return where the first run of a member with room for `count` extents starts."""
        return next((at for at, have in self._runs.get(name, ()) if have >= count), None)

    def take(self, name: str, first: int, count: int) -> None:
        """Take extents that are free."""
        kept: list[tuple[int, int]] = []
        for at, have in self._runs[name]:
            if not at <= first < at + have:
                kept.append((at, have))
                continue
            kept += [(at, first - at), (first + count, at + have - first - count)]
        self._runs[name] = [run for run in kept if run[1]]


def free_of(pool: Pool, without: Collection[str] = ()) -> Free:
    """Return the extents of a pool that no volume takes; those of members in `without` are not offered."""
    taken, runs = pool.taken(), dict[str, list[tuple[int, int]]]()
    for member in pool.members:
        if member.name in without:
            continue
        own, reach = list[tuple[int, int]](), 0
        for first, count in (*taken[member.name], (member.count, 0)):
            if first > reach:
                own.append((reach, first - reach))
            reach = max(reach, first + count)
        runs[member.name] = own
    return Free(runs)


def allotted(pool: Pool, volume: PoolVolume | None, kind: Kind, count: int, without: Collection[str] = ()) -> Copies:
    """Return what a volume of `count` extents takes: an existing one made larger or smaller, or a new one.

    Raises:
        NoRoomError: the pool has no room for it.
    """
    free = free_of(pool, without)
    there = pool.copies(volume) if volume else ((),) * (kind.width if kind.spread == "mirrored" else 1)
    if volume is not None and count <= volume.count:
        return Copies(tuple(_cut(one, count) for one in there))
    if kind.spread == "striped":
        return Copies((_striped(free, there[0], kind, count),))
    if kind.spread == "linear":
        return Copies((_linear(free, there[0], count, free.names),))
    return _mirrored(free, there, count)


def most(pool: Pool, volume: PoolVolume | None, kind: Kind, without: Collection[str] = ()) -> int:
    """Return the most extents that a volume can have."""
    low, high = (volume.count if volume else 0) // kind.step, sum(one.count for one in pool.members) // kind.step + 1
    while high - low > 1:
        middle = (low + high) // 2
        try:
            allotted(pool, volume, kind, middle * kind.step, without)
            low = middle
        except NoRoomError:
            high = middle
    return low * kind.step


def _cut(segments: Iterable[Segment], count: int) -> tuple[Segment, ...]:
    return tuple(
        one if one.start + one.count <= count else replace(one, count=count - one.start)
        for one in segments
        if one.start < count
    )


def _linear(free: Free, there: tuple[Segment, ...], count: int, names: Iterable[str]) -> tuple[Segment, ...]:
    """Return segments of `count` extents that begin as they are `there`, on the members called `names`."""
    segments = list(there)
    allowed = set(names)
    used = [name for one in there for name, _ in one.parts if name in allowed]
    order = list(dict.fromkeys((*reversed(used), *(name for name in free.names if name in allowed))))
    reach = sum(one.count for one in there)
    while reach < count:
        name, first, size = _next_run(free, segments, order, count - reach)
        free.take(name, first, size)
        last = segments[-1] if segments else None
        if last and len(last.parts) == 1 and last.parts[0] == (name, first - last.count):
            segments[-1] = replace(last, count=last.count + size)
        else:
            segments.append(Segment(reach, size, _PLAIN, ((name, first),)))
        reach += size
    return tuple(segments)


def _next_run(free: Free, segments: list[Segment], order: list[str], lacking: int) -> tuple[str, int, int]:
    """Return member, first extent and count of what comes next: behind the end, or where all fits, or the most."""
    last = segments[-1] if segments else None
    if last and len(last.parts) == 1 and last.parts[0][0] in order:
        name, first = last.parts[0][0], last.parts[0][1] + last.count
        behind = free.behind(name, first)
        if behind:
            return name, first, min(behind, lacking)
    for name in order:
        at = free.fitting(name, lacking)
        if at is not None:
            return name, at, lacking
    runs = [(name, *free.largest(name)) for name in order]
    name, first, size = max(runs, key=lambda run: run[2], default=("", 0, 0))
    if not size:
        raise NoRoomError(lacking)
    return name, first, min(size, lacking)


def _striped(free: Free, there: tuple[Segment, ...], kind: Kind, count: int) -> tuple[Segment, ...]:
    segments, reach = list(there), sum(one.count for one in there)
    while reach < count:
        each = (count - reach) // kind.width
        last = segments[-1] if segments else None
        if last and len(last.parts) == kind.width and last.chunk == kind.chunk:
            height = last.count // kind.width
            behind = min(free.behind(name, first + height) for name, first in last.parts)
            size = min(behind, each)
            if size:
                for name, first in last.parts:
                    free.take(name, first + height, size)
                segments[-1] = replace(last, count=last.count + size * kind.width)
                reach += size * kind.width
                continue
        names = sorted(free.names, key=lambda name: -free.largest(name)[1])[: kind.width]
        runs = [(name, *free.largest(name)) for name in names]
        size = min(min((run[2] for run in runs), default=0), each)
        if len(runs) < kind.width or not size:
            raise NoRoomError(count - reach)
        for name, first, _ in runs:
            free.take(name, first, size)
        parts = tuple((name, first) for name, first, _ in runs)
        segments.append(Segment(reach, size * kind.width, _PLAIN, parts, kind.chunk))
        reach += size * kind.width
    return tuple(segments)


def _mirrored(free: Free, there: tuple[tuple[Segment, ...], ...], count: int) -> Copies:
    """Return the copies of a mirrored volume, no member of one being a member of another."""
    owners: dict[str, int] = {name: at for at, one in enumerate(there) for part in one for name, _ in part.parts}
    is_new = not any(there)
    states: list[tuple[str, int]] = []
    if is_new:
        first = sorted(free.names, key=lambda name: -free.total(name))[: len(there)]
        if len(first) < len(there):
            raise NoRoomError(count)
        owners = {name: at for at, name in enumerate(sorted(first, key=free.names.index))}
        for name in owners:
            at = free.fitting(name, 1)
            if at is None:
                raise NoRoomError(1)
            states.append((name, at))
            free.take(name, at, 1)
    copies = []
    for at, own in enumerate(there):
        while True:
            names = [name for name in free.names if owners.get(name) == at]
            lacking = count - sum(one.count for one in own) - sum(map(free.total, names))
            if lacking <= 0:
                break
            others = [name for name in free.names if name not in owners]
            best = max(others, key=free.total, default=None)
            if best is None or not free.total(best):
                raise NoRoomError(lacking)
            owners[best] = at
        copies.append(_linear(free, own, count, names))
    return Copies(tuple(copies), tuple(states))


def moved_off(pool: Pool, leaving: Collection[str]) -> tuple[dict[str, tuple[Segment, ...]], tuple[Transfer, ...]]:
    """Return the segments, by volume, of those that have extents on `leaving` members, and where these extents go.

    Parts that lie side by side, and copies of one volume, do not come to lie on one member.

    Raises:
        NoRoomError: the other members have no room for them.
    """
    free = free_of(pool, leaving)
    becomes: dict[str, tuple[Segment, ...]] = {}
    transfers: list[Transfer] = []
    for volume in pool.volumes:
        apart = _apart(pool, volume)
        if not any(name in leaving for one in volume.segments for name, _ in one.parts):
            continue
        segments: list[Segment] = []
        for one in volume.segments:
            segments += _segment_off(free, one, leaving, apart, transfers)
        becomes[volume.name] = tuple(segments)
        apart.update(name for one in segments for name, _ in one.parts)
    return becomes, tuple(transfers)


def _apart(pool: Pool, volume: PoolVolume) -> set[str]:
    """Return the members that the other copies of a mirrored volume lie on, if a volume is one of its copies."""
    found: set[str] = set()
    for outer in pool.shown:
        inner = pool.inner_volumes(outer)
        if volume in inner:
            mine = volume.name.rpartition("_")[2]
            for one in inner:
                if one.name.rpartition("_")[2] != mine:
                    found |= {name for part in one.segments for name, _ in part.parts}
    return found


def _segment_off(
    free: Free, one: Segment, leaving: Collection[str], apart: Collection[str], transfers: list[Transfer]
) -> Iterator[Segment]:
    """Yield what a segment becomes; it is cut where its parts come to lie in several runs."""
    width = len(one.parts)
    parts, reach, height = list(one.parts), one.start, one.count // width
    if not any(name in leaving for name, _ in parts):
        yield one
        return
    while height:
        size, used = height, {name for name, _ in parts if name not in leaving}
        targets: list[tuple[str, int]] = []
        for name, first in parts:
            if name not in leaving:
                targets.append((name, first))
                continue
            offered = [other for other in free.names if other not in used and other not in apart]
            best = next((other for other in offered if free.fitting(other, size) is not None), None)
            best = best or max(offered, key=lambda other: free.largest(other)[1], default=None)
            at = free.fitting(best, size) if best is not None else None
            if best is not None and at is None:
                at, size = free.largest(best)
            if best is None or at is None or not size:
                raise NoRoomError(height)
            used.add(best)
            targets.append((best, at))
        for source, target in zip(parts, targets, strict=True):
            if source != target:
                free.take(target[0], target[1], size)
                transfers.append(Transfer(source, target, size))
        yield Segment(reach, size * width, one.kind, tuple(targets), one.chunk)
        reach, height = reach + size * width, height - size
        parts = [(name, first + size) for name, first in parts]
