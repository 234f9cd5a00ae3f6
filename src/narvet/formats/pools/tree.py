"""A pool as its text says: members, volumes and the extents each takes; and the same text with changes. Pure.

What a text says besides stays in it: a change touches what it is about and nothing else.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Literal
from uuid import UUID

from narvet.formats.pools.text import Section, Value, inner, listed, number, sections, words
from narvet.ground.errors import ImageError
from narvet.ground.values import Frozen

Spread = Literal["linear", "striped", "mirrored"]
SPREADS: tuple[Spread, ...] = ("linear", "striped", "mirrored")

SECTOR = 512
_MOST_SECTORS = 1 << 54  # of a device: 8 EiB
_MOST_EXTENTS = 1 << 40
_MOST_PARTS = 1024  # members that one segment goes over
_MOST_SEGMENTS = 200_000
_ID_SIGNS = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
_ID = re.compile(r"[0-9A-Za-z!#]{32}")
_GROUPS = (6, 4, 4, 4, 4, 4, 6)
_NAME = re.compile(r"[A-Za-z0-9_.+][A-Za-z0-9_.+-]{0,126}", re.ASCII)
_RESERVED = re.compile(
    r"\.\.?|snapshot.*|pvmove.*|.*(_c?mlog|_mimage|_pmspare|_r(image|meta)|_t(data|meta)|_v(data|origin)).*"
)
_IMAGE, _META = "rimage", "rmeta"
_MIRROR = "raid1"
_PLAIN = "striped"


def pool_id(first: UUID, second: UUID) -> str:
    """Return the id of a pool, a member or a volume that follows from two UUIDs, without hyphens."""
    value = int.from_bytes(first.bytes + second.bytes)
    signs = []
    for _ in range(32):
        value, sign = divmod(value, len(_ID_SIGNS))
        signs.append(_ID_SIGNS[sign])
    return "".join(signs)


def written_id(plain: str) -> str:
    """Return an id as texts have it: in groups, with hyphens."""
    groups, place = [], 0
    for length in _GROUPS:
        groups.append(plain[place : place + length])
        place += length
    return "-".join(groups)


def is_name(name: str) -> bool:
    """Return whether a pool or a volume can be called so."""
    return _NAME.fullmatch(name) is not None and _RESERVED.fullmatch(name) is None


class Member(Frozen):
    """A member by its name in the text: `size` and `start` of its extents are bytes, `count` is extents."""

    name: str
    id: str
    size: int
    start: int
    count: int
    hint: str = ""


class Segment(Frozen):
    """`count` extents of a volume from its extent `start`, of one `kind` as the text calls it.

    `parts` are members, or volumes within, each with its first extent there; `chunk` is bytes on one part before the
    next one's turn, 0 for a single part. A kind that is not known has no parts, only names that it `mentions`.
    """

    start: int
    count: int
    kind: str
    parts: tuple[tuple[str, int], ...] = ()
    chunk: int = 0
    mentions: tuple[str, ...] = ()


class PoolVolume(Frozen):
    """A volume; one that is not `visible` is a part of another one."""

    name: str
    id: str
    visible: bool
    segments: tuple[Segment, ...]

    @property
    def count(self) -> int:
        """Its extents."""
        return sum(one.count for one in self.segments)

    @property
    def spread(self) -> Spread | None:
        """How it lies on the members, None if that is of a kind that is not known."""
        kinds = {one.kind for one in self.segments}
        if kinds == {_PLAIN}:
            return "striped" if any(len(one.parts) > 1 for one in self.segments) else "linear"
        return "mirrored" if kinds == {_MIRROR} else None

    @property
    def width(self) -> int:
        """The members that it goes over side by side, or its copies."""
        return max((len(one.parts) for one in self.segments), default=1)

    @property
    def chunk(self) -> int:
        """Bytes on one member before the next one's turn, 0 for none."""
        return max((one.chunk for one in self.segments), default=0)

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of its segments, as the text calls them."""
        return tuple(sorted({one.kind for one in self.segments}))


@dataclass(frozen=True)
class Pool:
    """A pool as a text has it; `extent` is bytes. `tree` is all that the text says."""

    name: str
    id: str
    seqno: int
    extent: int
    members: tuple[Member, ...]
    volumes: tuple[PoolVolume, ...]
    tree: Section = field(compare=False, repr=False)

    def member(self, name: str) -> Member:
        """Return a member by its name in the text; ImageError if there is none."""
        for one in self.members:
            if one.name == name:
                return one
        raise ImageError(f"pool {self.name} has no member {name!r:.40}")

    def volume(self, name: str) -> PoolVolume:
        """Return a volume by its name; ImageError if there is none."""
        for one in self.volumes:
            if one.name == name:
                return one
        raise ImageError(f"pool {self.name} has no volume {name!r:.40}")

    @property
    def shown(self) -> tuple[PoolVolume, ...]:
        """The volumes that a guest sees."""
        return tuple(one for one in self.volumes if one.visible)

    def copies(self, volume: PoolVolume) -> tuple[tuple[Segment, ...], ...]:
        """Return the copies of a volume, each as segments over members; ImageError for kinds that are not known."""
        if volume.spread is None:
            raise ImageError(f"volume {volume.name} is of a kind that is not known here: {', '.join(volume.kinds)}")
        if volume.spread != "mirrored":
            return (volume.segments,)
        (segment,) = volume.segments if len(volume.segments) == 1 else (None,)
        if segment is None:
            raise ImageError(f"volume {volume.name} is mirrored in several segments, which is not known here")
        return tuple(self.volume(name).segments for name, _ in segment.parts)

    def inner_volumes(self, volume: PoolVolume) -> tuple[PoolVolume, ...]:
        """Return the volumes that are parts of another one: its copies, and what tells of their state."""
        if volume.spread != "mirrored":
            return ()
        names = [name for one in volume.segments for name, _ in one.parts]
        names += [name.replace(f"_{_IMAGE}_", f"_{_META}_") for name in names]
        return tuple(one for one in self.volumes if one.name in names)

    def taken(self) -> dict[str, list[tuple[int, int]]]:
        """Return the extents that volumes take of each member, as ascending runs of first extent and count."""
        runs: dict[str, list[tuple[int, int]]] = {one.name: [] for one in self.members}
        for volume in self.volumes:
            for segment in volume.segments:
                for name, first in segment.parts:
                    if name in runs:
                        runs[name].append((first, segment.count // len(segment.parts) if segment.kind == _PLAIN else 0))
        return {name: sorted(run for run in own if run[1]) for name, own in runs.items()}

    @property
    def total(self) -> int:
        """Bytes of all extents."""
        return sum(one.count for one in self.members) * self.extent

    @property
    def free(self) -> int:
        """Bytes of the extents that no volume takes."""
        return self.total - sum(count for own in self.taken().values() for _, count in own) * self.extent

    def bytes_of(self, volume: PoolVolume) -> int:
        """Return the bytes that a volume takes of the members, with its copies and what tells of their state."""
        known = {one.name for one in self.members}
        every = (one for part in (volume, *self.inner_volumes(volume)) for one in part.segments)
        return sum(
            one.count * self.extent
            for one in every
            if one.kind == _PLAIN and any(name in known for name, _ in one.parts)
        )

    @property
    def is_known(self) -> bool:
        """Whether it is certain which extents are free: kinds that are not known lie on other volumes only."""
        members = {one.name for one in self.members}
        every = (one for volume in self.volumes for one in volume.segments)
        return not any(members & set(one.mentions) for one in every)


def read_pool(root: Section) -> Pool:
    """Return the pool that a text tells of.

    Raises:
        ImageError: it does not make sense.
    """
    name, tree = next(sections(root), ("", {}))
    if not tree or not _NAME.fullmatch(name):
        raise ImageError("the text of a pool names no pool")
    extent = number(tree, "extent_size", 1 << 31, 1) * SECTOR
    members = tuple(_member(*one) for one in sections(inner(tree, "physical_volumes")))
    volumes = tuple(_volume(*one) for one in sections(inner(tree, "logical_volumes")))
    pool = Pool(name, _id(tree), number(tree, "seqno", 1 << 62), extent, members, volumes, root)
    _check(pool)
    return pool


def _id(section: Section) -> str:
    plain = words(section, "id").replace("-", "")
    if not _ID.fullmatch(plain):
        raise ImageError(f"the text of a pool has {plain!r:.60} as an id")
    return plain


def _member(name: str, section: Section) -> Member:
    start = number(section, "pe_start", _MOST_SECTORS) * SECTOR
    count = number(section, "pe_count", _MOST_EXTENTS)
    size = section.get("dev_size", 0)
    hint = section.get("device", "")
    return Member(
        name,
        _id(section),
        size * SECTOR if isinstance(size, int) and 0 <= size <= _MOST_SECTORS else 0,
        start,
        count,
        hint if isinstance(hint, str) else "",
    )


def _volume(name: str, section: Section) -> PoolVolume:
    if not _NAME.fullmatch(name):
        raise ImageError(f"the text of a pool has a volume called {name!r:.60}")
    wanted = number(section, "segment_count", _MOST_SEGMENTS)
    segments = tuple(_segment(one) for key, one in sections(section) if key.startswith("segment"))
    if len(segments) != wanted:
        raise ImageError(f"volume {name} has {len(segments)} segments, not {wanted}")
    reach = 0
    for segment in sorted(segments, key=lambda one: one.start):
        if segment.start != reach:
            raise ImageError(f"volume {name} has a segment at extent {segment.start}, not at {reach}")
        reach += segment.count
    ordered = tuple(sorted(segments, key=lambda one: one.start))
    return PoolVolume(name, _id(section), "VISIBLE" in listed(section, "status"), ordered)


def _segment(section: Section) -> Segment:
    start, count = number(section, "start_extent", _MOST_EXTENTS), number(section, "extent_count", _MOST_EXTENTS, 1)
    kind = words(section, "type").partition("+")[0]
    if kind == _PLAIN:
        parts = _parts(listed(section, "stripes"))
        if number(section, "stripe_count", _MOST_PARTS, 1) != len(parts) or count % len(parts):
            raise ImageError(f"a segment of {count} extents goes over {len(parts)} members")
        chunk = number(section, "stripe_size", 1 << 31, 1) * SECTOR if len(parts) > 1 else 0
        return Segment(start, count, kind, parts, chunk)
    if kind == _MIRROR:
        names = [one for one in listed(section, "raids") if isinstance(one, str)]
        return Segment(start, count, kind, tuple((one, 0) for one in names if f"_{_META}_" not in one))
    mentioned = (one for value in section.values() if not isinstance(value, dict) for one in _flat(value))
    return Segment(start, count, kind, mentions=tuple(one for one in mentioned if isinstance(one, str)))


def _flat(value: Value) -> tuple[int | str, ...]:
    return value if isinstance(value, tuple) else (value,)


def _parts(flat: tuple[int | str, ...]) -> tuple[tuple[str, int], ...]:
    pairs = tuple(
        (name, first)
        for name, first in zip(flat[::2], flat[1::2], strict=False)
        if isinstance(name, str) and isinstance(first, int) and 0 <= first <= _MOST_EXTENTS
    )
    if not pairs or 2 * len(pairs) != len(flat) or len(pairs) > _MOST_PARTS:
        raise ImageError(f"the text of a pool has {flat!r:.60} as the parts of a segment")
    return pairs


def _check(pool: Pool) -> None:
    """Raise ImageError where volumes take extents that no member has, or the same ones."""
    if len({one.id for one in pool.members}) != len(pool.members):
        raise ImageError(f"pool {pool.name} has two members with one id")
    counts: dict[str, int] = {one.name: one.count for one in pool.members}
    inside = {one.name for one in pool.volumes}
    for volume in pool.volumes:
        for segment in volume.segments:
            _check_segment(volume, segment, counts, inside)
    for name, runs in pool.taken().items():
        reach = 0
        for first, count in runs:
            if first < reach:
                raise ImageError(f"two volumes of pool {pool.name} take the same extents of member {name}")
            reach = first + count
    for volume in pool.shown:
        if volume.spread is not None:
            _check_copies(pool, volume, counts)


def _check_segment(volume: PoolVolume, segment: Segment, counts: Mapping[str, int], inside: Collection[str]) -> None:
    for name, first in segment.parts:
        if name not in inside and (segment.kind != _PLAIN or name not in counts):
            raise ImageError(f"volume {volume.name} lies on {name!r:.40}, which its pool has not")
        if segment.kind == _PLAIN and name in counts and first + segment.count // len(segment.parts) > counts[name]:
            raise ImageError(f"volume {volume.name} ends behind member {name}")


def _check_copies(pool: Pool, volume: PoolVolume, counts: Mapping[str, int]) -> None:
    for copy in pool.copies(volume):
        if any(one.kind != _PLAIN or any(part[0] not in counts for part in one.parts) for one in copy):
            raise ImageError(f"volume {volume.name} lies on other volumes, which is not known here")
        if sum(one.count for one in copy) != volume.count:
            raise ImageError(f"the copies of volume {volume.name} are not as large as it is")


def empty_pool(name: str, plain_id: str, extent: int, moment: int) -> Pool:
    """Return a pool without members and volumes, before its first text; `extent` is bytes, `moment` since 1970."""
    own: Section = {
        "id": written_id(plain_id),
        "seqno": 0,
        "format": "lvm2",
        "status": ("RESIZEABLE", "READ", "WRITE"),
        "flags": (),
        "extent_size": extent // SECTOR,
        "max_lv": 0,
        "max_pv": 0,
        "metadata_copies": 0,
        "physical_volumes": {},
        "logical_volumes": {},
    }
    root: Section = {
        name: own,
        "contents": "Text Format Volume Group",
        "version": 1,
        "description": "",
        "creation_host": "narvet",
        "creation_time": moment,
    }
    return read_pool(root)


def _changed(pool: Pool, change: Callable[[Section], None]) -> Pool:
    root = deepcopy(pool.tree)
    own = root[pool.name]
    if not isinstance(own, dict):
        raise ImageError(f"pool {pool.name} is no section")
    change(own)
    return read_pool(root)


def numbered(pool: Pool, moment: int) -> Pool:
    """Return a pool as its next text has it: with the number after that of the last one, written at a `moment`."""

    def change(own: Section) -> None:
        own["seqno"] = pool.seqno + 1

    root = _changed(pool, change).tree
    return read_pool({**root, "creation_time": moment, "creation_host": "narvet", "description": ""})


def with_members(pool: Pool, members: Iterable[Member]) -> Pool:
    """Return a pool with these members: others go, those it has get their size, new ones get a name of their own."""
    wanted = {one.id: one for one in members}

    def change(own: Section) -> None:
        known = inner(own, "physical_volumes")
        old = {_id(section): (name, section) for name, section in sections(known)}
        for plain, (name, section) in old.items():
            if plain not in wanted:
                del known[name]
            else:
                section |= {"dev_size": wanted[plain].size // SECTOR, "pe_count": wanted[plain].count}
        free = (f"pv{at}" for at in range(len(wanted) + len(known) + 1) if f"pv{at}" not in known)
        for plain, member in wanted.items():
            if plain not in old:
                known[next(free)] = _member_section(member)
        own["physical_volumes"] = known

    return _changed(pool, change)


def _member_section(member: Member) -> Section:
    return {
        "id": written_id(member.id),
        **({"device": member.hint} if member.hint else {}),
        "status": ("ALLOCATABLE",),
        "flags": (),
        "dev_size": member.size // SECTOR,
        "pe_start": member.start // SECTOR,
        "pe_count": member.count,
    }


def renamed(pool: Pool, old: str, new: str) -> Pool:
    """Return a pool one of whose volumes has another name, with its parts."""
    volume = pool.volume(old)
    names = {old: new} | {
        one.name: one.name.replace(f"{old}_", f"{new}_", 1)
        for one in pool.inner_volumes(volume)
        if one.name.startswith(f"{old}_")
    }

    def change(own: Section) -> None:
        known = inner(own, "logical_volumes")
        own["logical_volumes"] = {names.get(name, name): _with_names(one, names) for name, one in known.items()}

    return _changed(pool, change)


def _with_names(value: Value | Section, names: Mapping[str, str]) -> Value | Section:
    if isinstance(value, dict):
        return {key: _with_names(one, names) for key, one in value.items()}
    if isinstance(value, tuple):
        return tuple(names.get(one, one) if isinstance(one, str) else one for one in value)
    return value


class Copies(Frozen):
    """What a volume takes: for each of its copies segments over members, and the extent that tells of its state."""

    segments: tuple[tuple[Segment, ...], ...]
    states: tuple[tuple[str, int], ...] = ()


def with_volume(pool: Pool, name: str, plain_id: str, copies: Copies, moment: int, ids: Callable[[str], str]) -> Pool:
    """Return a pool in which a volume has these extents; it is added if there is none of that name.

    `ids` gives the ids of volumes within it by their names.
    """
    there = {one.name for one in pool.volumes}
    count = sum(one.count for one in copies.segments[0])

    def put(known: Section, called: str, plain: str, segments: Iterable[Section], *, visible: bool) -> None:
        numbered_segments = {f"segment{at}": one for at, one in enumerate(segments, 1)}
        old = inner(known, called) if called in there else _volume_section(plain, moment, visible=visible)
        kept = {key: value for key, value in old.items() if not key.startswith("segment")}
        known[called] = {**kept, "segment_count": len(numbered_segments), **numbered_segments}

    def change(own: Section) -> None:
        known = inner(own, "logical_volumes")
        if len(copies.segments) == 1:
            put(known, name, plain_id, map(_segment_section, copies.segments[0]), visible=True)
        else:
            put(known, name, plain_id, [_mirror_section(name, count, len(copies.segments))], visible=True)
            for at, segments in enumerate(copies.segments):
                image, meta = f"{name}_{_IMAGE}_{at}", f"{name}_{_META}_{at}"
                put(known, image, ids(image), map(_segment_section, segments), visible=False)
                if meta not in there:
                    state = _segment_section(Segment(0, 1, _PLAIN, (copies.states[at],)))
                    put(known, meta, ids(meta), [state], visible=False)
        own["logical_volumes"] = known

    return _changed(pool, change)


def _volume_section(plain: str, moment: int, *, visible: bool) -> Section:
    return {
        "id": written_id(plain),
        "status": ("READ", "WRITE", *(("VISIBLE",) if visible else ())),
        "flags": (),
        "creation_time": moment,
        "creation_host": "narvet",
    }


def _segment_section(segment: Segment) -> Section:
    flat: list[int | str] = []
    for name, first in segment.parts:
        flat += [name, first]
    stripes: Section = {"stripe_count": len(segment.parts)}
    if len(segment.parts) > 1:
        stripes["stripe_size"] = segment.chunk // SECTOR
    return {
        "start_extent": segment.start,
        "extent_count": segment.count,
        "type": _PLAIN,
        **stripes,
        "stripes": tuple(flat),
    }


def _mirror_section(name: str, count: int, copies: int) -> Section:
    parts = [one for at in range(copies) for one in (f"{name}_{_META}_{at}", f"{name}_{_IMAGE}_{at}")]
    region = 1024  # sectors: the unit in which the kernel notes what is not alike yet
    while count and region < 1 << 24 and region * 65536 < count * 8192:
        region *= 2
    return {
        "start_extent": 0,
        "extent_count": count,
        "type": _MIRROR,
        "device_count": copies,
        "region_size": region,
        "raids": tuple(parts),
    }


def with_segments(pool: Pool, becomes: Mapping[str, tuple[Segment, ...]]) -> Pool:
    """Return a pool some of whose volumes, by their names, lie elsewhere; they stay as large as they are."""

    def change(own: Section) -> None:
        known = inner(own, "logical_volumes")
        for name, segments in becomes.items():
            kept = {key: value for key, value in inner(known, name).items() if not key.startswith("segment")}
            written = {f"segment{at}": _segment_section(one) for at, one in enumerate(segments, 1)}
            known[name] = {**kept, "segment_count": len(written), **written}
        own["logical_volumes"] = known

    return _changed(pool, change)


def without_volume(pool: Pool, name: str) -> Pool:
    """Return a pool without a volume and its parts."""
    gone = {name, *(one.name for one in pool.inner_volumes(pool.volume(name)))}

    def change(own: Section) -> None:
        known = inner(own, "logical_volumes")
        own["logical_volumes"] = {one: value for one, value in known.items() if one not in gone}

    return _changed(pool, change)


def states_of(pool: Pool, volume: PoolVolume) -> Iterator[PoolVolume]:
    """Yield the volumes within a mirrored one that tell of the state of its copies."""
    return (one for one in pool.inner_volumes(volume) if f"_{_META}_" in one.name)
