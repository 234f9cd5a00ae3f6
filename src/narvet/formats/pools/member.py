"""One member of a pool on its partition: its label, its rings of texts, and the newest text in them.

A ring has room for several texts, so that a new one never lies over the one that counts: its header then leads to it.
Nothing that is read is trusted.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from narvet.block.contract import BlockDevice
from narvet.formats.pools import records as r
from narvet.formats.pools.text import MOST_TEXT, encode, parse
from narvet.formats.pools.tree import Member, Pool, read_pool
from narvet.ground.errors import ImageError, RequestError
from narvet.ground.extents import Extent
from narvet.ground.units import KIB, MIB, align_down, align_up, show_bytes
from narvet.ground.values import Frozen, replace

MOST_RUNS = 16  # of extents, or rings, that are read of one member
LEAST = 4 * MIB
"""Bytes of the smallest member: both rings, and some room between them."""
_FIRST_RING, _DATA, _LAST_RING = 4 * KIB, MIB, MIB


class MemberShape(Frozen):
    """Where things lie on a member of `size` bytes: extents from byte `start`, and its rings of texts."""

    id: str
    size: int
    start: int
    rings: tuple[Extent, ...]

    @property
    def end(self) -> int:
        """The first byte that extents cannot take."""
        return min((one.start for one in self.rings if one.start >= self.start), default=self.size)

    def member(self, extent: int, hint: str = "") -> Member:
        """Return the member for the text of a pool with extents of so many bytes."""
        return Member("", self.id, self.size, self.start, max(self.end - self.start, 0) // extent, hint)

    def resized(self, size: int) -> MemberShape:
        """Return the same on a partition of `size` bytes: a ring at the end goes to the new end."""
        rings = tuple(
            Extent(align_down(size - one.length, 4 * KIB), one.length) if one.start >= self.start else one
            for one in self.rings
        )
        return replace(self, size=size, rings=rings)


class MemberState(Frozen):
    """A member as it was found, with the newest text on it, None for one that no pool has yet.

    `stale` tells that its rings do not all hold that text; `problems` tells what does not read; `is_blank` that all its
    rings are as a fresh member's.
    """

    shape: MemberShape
    pool: Pool | None = None
    stale: bool = False
    problems: tuple[str, ...] = ()
    is_blank: bool = False


def fresh_shape(plain_id: str, size: int) -> MemberShape:
    """Return how a new member of `size` bytes, at least `LEAST`, is laid out: a ring at either end."""
    last = align_down(size - _LAST_RING, MIB)
    return MemberShape(plain_id, size, _DATA, (Extent(_FIRST_RING, _DATA - _FIRST_RING), Extent(last, size - last)))


def is_member(device: BlockDevice) -> bool:
    """Return whether a device carries the label of a member."""
    return _label(device) is not None


def _label(device: BlockDevice) -> tuple[int, r.Label, bytes] | None:
    data = device.read(0, min(device.size, r.LABEL_PLACES.stop))
    for place in r.LABEL_PLACES:
        sector = data[place : place + r.LABEL_SECTOR]
        if len(sector) == r.LABEL_SECTOR and sector.startswith(r.LABEL_MAGIC):
            label = r.Label.decode(sector[: r.Label.size])
            if label.type == r.LABEL_TYPE:
                return place, label, sector
    return None


def read_member(device: BlockDevice) -> MemberState | None:
    """Return the member that a device is, None if it is none.

    Raises:
        ImageError: its label does not make sense.
    """
    found = _label(device)
    if found is None:
        return None
    place, label, sector = found
    if label.sector_xl * r.LABEL_SECTOR != place or r.checksum(sector[20:]) != label.crc_xl:
        raise ImageError("the label of a pool's member is damaged")
    if not r.Label.size <= label.offset_xl <= r.LABEL_SECTOR - r.MemberHeader.size:
        raise ImageError("the label of a pool's member leads nowhere")
    shape = _shape(sector, label.offset_xl)
    if shape.size > device.size:
        raise ImageError(
            f"a pool's member has {show_bytes(shape.size)}, and its partition {show_bytes(device.size)}: it was cut"
        )
    return _with_texts(device, shape)


def _shape(sector: bytes, offset: int) -> MemberShape:
    head = r.MemberHeader.decode(sector[offset : offset + r.MemberHeader.size])
    place = offset + r.MemberHeader.size
    lists: list[list[Extent]] = []
    for _ in range(2):
        runs: list[Extent] = []
        while True:
            if place + r.Run.size > len(sector) or len(runs) > MOST_RUNS:
                raise ImageError("the label of a pool's member lists runs without end")
            run = r.Run.decode(sector[place : place + r.Run.size])
            place += r.Run.size
            if not run.offset:
                break
            runs.append(Extent(run.offset, run.length))
        lists.append(runs)
    data, rings = lists
    plain = head.pv_uuid.decode("ascii", "replace")
    if not plain.isprintable():
        raise ImageError("the label of a pool's member has no id")
    if len(data) != 1:
        raise ImageError(f"a pool's member has {len(data)} runs of extents, not one")
    if any(one.length < 2 * r.RING_HEADER or one.end > head.device_size_xl for one in rings):
        raise ImageError("a ring of a pool's member does not lie on it")
    return MemberShape(plain, head.device_size_xl, data[0].start, tuple(rings))


def _with_texts(device: BlockDevice, shape: MemberShape) -> MemberState:
    texts: list[Pool | None] = []
    problems: list[str] = []
    blank = bool(shape.rings)
    for ring in shape.rings:
        try:
            place = _place(device, ring)
            blank = blank and not place.offset
            counts = place.offset and not place.flags & r.IGNORED
            texts.append(_pool(device, ring, place) if counts else None)
        except ImageError as error:
            blank = False
            problems.append(str(error))
    newest = max((one for one in texts if one is not None), key=lambda one: one.seqno, default=None)
    if newest is None and problems:
        raise ImageError(problems[0])
    stale = bool(problems) or any(one is None or one != newest for one in texts if newest is not None)
    return MemberState(shape, newest, stale, tuple(problems), blank)


def _header(device: BlockDevice, ring: Extent) -> bytes:
    data = device.read(ring.start, r.RING_HEADER)
    head = r.RingHeader.decode(data[: r.RingHeader.size])
    if head.magic != r.RING_MAGIC or head.checksum_xl != r.checksum(data[4:]):
        raise ImageError("the header of a pool's ring is damaged")
    if (head.start, head.length) != (ring.start, ring.length):
        raise ImageError("the header of a pool's ring is of another place")
    return data


def _place(device: BlockDevice, ring: Extent) -> r.TextPlace:
    """Return where the newest text of a ring lies; one that has none is at its byte 0."""
    data = _header(device, ring)
    place = r.TextPlace.decode(data[r.RingHeader.size : r.RingHeader.size + r.TextPlace.size])
    if not place.offset:
        return place
    most = min(ring.length - r.RING_HEADER, MOST_TEXT)
    if not r.RING_HEADER <= place.offset < ring.length or not 0 < place.length <= most:
        raise ImageError("a pool's ring leads to a text outside of it")
    return place


def _pool(device: BlockDevice, ring: Extent, place: r.TextPlace) -> Pool:
    data = b"".join(device.read(*run) for run in _runs(ring, place.offset, place.length))
    if r.checksum(data) != place.checksum:
        raise ImageError("the text of a pool is damaged")
    return read_pool(parse(data))


def _runs(ring: Extent, offset: int, size: int) -> Iterator[Extent]:
    """Yield where a text lies on the member: what does not fit at the ring's end goes on behind its header."""
    first = min(size, ring.length - offset)
    yield Extent(ring.start + offset, first)
    if size > first:
        yield Extent(ring.start + r.RING_HEADER, size - first)


def write_member(device: BlockDevice, shape: MemberShape, *, in_use: bool = False) -> None:
    """Make a device a member: label and empty rings; what was there goes where they lie."""
    for ring in shape.rings:
        device.zero(*ring)
        _write_header(device, ring, None)
    device.zero(0, _FIRST_RING)
    write_label(device, shape, in_use=in_use)


def write_label(device: BlockDevice, shape: MemberShape, *, in_use: bool) -> None:
    """Write the label of a member, where it has one already or else in the second sector."""
    found = _label(device)
    place = found[0] if found else r.LABEL_SECTOR
    lists = b"".join(
        b"".join(r.Run(offset=start, length=length).encode() for start, length in (*runs, (0, 0)))
        for runs in (((shape.start, 0),), shape.rings)
    )
    extension = r.Extension(version=2, flags=r.IN_USE if in_use else 0).encode() + r.Run().encode()
    body = r.MemberHeader(pv_uuid=shape.id.encode(), device_size_xl=shape.size).encode() + lists + extension
    label = r.Label(id=r.LABEL_MAGIC, sector_xl=place // r.LABEL_SECTOR, offset_xl=r.Label.size, type=r.LABEL_TYPE)
    sector = (label.encode() + body).ljust(r.LABEL_SECTOR, b"\0")
    label = replace(label, crc_xl=r.checksum(sector[20:]))
    device.write(place, label.encode() + sector[r.Label.size :])


def _write_header(device: BlockDevice, ring: Extent, place: r.TextPlace | None) -> None:
    head = r.RingHeader(magic=r.RING_MAGIC, version=1, start=ring.start, length=ring.length)
    data = (head.encode() + (place.encode() if place else b"")).ljust(r.RING_HEADER, b"\0")
    head = replace(head, checksum_xl=r.checksum(data[4:]))
    device.write(ring.start, head.encode() + data[r.RingHeader.size :])


def write_texts(device: BlockDevice, rings: tuple[Extent, ...], pool: Pool) -> None:
    """Write the text of a pool into every ring of a member, behind the one that each has, and have them lead to it.

    Raises:
        RequestError: a ring is too small for it.
    """
    text = encode(pool.tree)
    for ring in rings:
        old: r.TextPlace | None = None
        with suppress(ImageError):  # one that is damaged is made anew
            old = _place(device, ring)
        offset = _next(ring, old if old and old.offset else None, len(text), pool.name)
        for start, length in _runs(ring, offset, len(text)):
            done = 0 if start == ring.start + offset else ring.length - offset
            device.write(start, text[done : done + length])
        place = r.TextPlace(offset=offset, length=len(text), checksum=r.checksum(text))
        _write_header(device, ring, place)


def _next(ring: Extent, old: r.TextPlace | None, size: int, name: str) -> int:
    """Return where in a ring the next text starts: in a sector of its own behind the old one, or round its end."""
    room = ring.length - r.RING_HEADER
    before = old.length if old else 0
    if size + before + 2 * r.LABEL_SECTOR > room:
        raise RequestError(
            f"pool {name}: its text has {show_bytes(size)}, for which the rings of a member, with "
            f"{show_bytes(ring.length)}, are too small; have fewer volumes in it, or make a new pool"
        )
    if old is None:
        return r.RING_HEADER
    offset = align_up(old.offset + old.length, r.LABEL_SECTOR)
    return offset if offset < ring.length else r.RING_HEADER + align_up(offset - ring.length, r.LABEL_SECTOR)


def erase_member(device: BlockDevice, shape: MemberShape) -> None:
    """Make a member that a pool no longer has one of nobody's: no label, no texts."""
    device.zero(0, r.LABEL_PLACES.stop)
    for ring in shape.rings:
        device.zero(*ring)
