"""Filesystems made larger: what is promised at any size, what is read back, and clusters that are numbered anew."""

from __future__ import annotations

from itertools import pairwise
from typing import Any
from uuid import UUID

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from narvet.block.delayed import Delayed
from narvet.block.memory import MemoryDevice
from narvet.block.window import Window
from narvet.formats.filesystems import NAMES, filesystem
from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, UnfitError, Wishes
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.formats.filesystems.fat.shift import Shift
from narvet.ground.findings import image_place
from narvet.ground.units import GIB, KIB, MIB, TIB

WHERE = image_place("it")
# Sizes one after another: within a group or table, across several, and from where no journal or bitmap had room.
LADDERS = {
    "ext4": ((6 * MIB, 9 * MIB, 200 * MIB), (130 * MIB, 131 * MIB, 20 * GIB), (3 * GIB, 3 * TIB)),
    "xfs": ((40 * MIB, 41 * MIB, 300 * MIB), (400 * MIB, 3 * GIB, 200 * GIB), (2 * GIB, TIB)),
    "swap": ((MIB, MIB + 4096, 300 * MIB), (GIB, 9 * TIB)),
    "ntfs": ((8 * MIB, 8 * MIB + 512, 90 * MIB), (300 * MIB, 40 * GIB), (GIB, 9 * TIB)),
    "exfat": ((6 * MIB, 7 * MIB, 200 * MIB), (300 * MIB, 20 * GIB), (40 * GIB, 2 * TIB)),
    "fat32": ((40 * MIB, 41 * MIB, 300 * MIB), (600 * MIB, 30 * GIB), (40 * GIB, TIB)),
}


def fresh(name: str, size: int, **wishes: Any) -> FilesystemState:
    """Return the state of one as it is made."""
    return filesystem(name).plan(size, Wishes(uuid=UUID(int=7), label="x", **wishes)).state()


@settings(max_examples=200, deadline=None)
@given(
    st.sampled_from(NAMES), st.integers(2 * MIB, 8 * TIB), st.integers(0, 1 << 21), st.integers(0, 1 << 21),
    st.sampled_from(("general", "database", "logs", "media")),
)  # fmt: skip
def test_promises_hold_at_any_size(name: str, size: int, first: int, second: int, purpose: Any) -> None:
    """Nothing shrinks, nothing is claimed twice, all adds up; in two steps no more is won than at once."""
    kind = filesystem(name)
    try:
        before = fresh(name, size, purpose=purpose)
    except UnfitError:
        assume(False)
    middle, last = sorted((size + first * 4 * KIB, size + second * 512 * KIB))
    try:
        at_once = kind.grown(before, last)
        step = kind.grown(before, middle)
        in_steps = kind.grown(step.state, last)
    except CannotChangeError as error:
        assert error.remedy
        assume(False)
    for growth, limit in ((at_once, last), (step, middle), (in_steps, last)):
        after, was = growth.state, growth.before
        assert was.size <= after.size <= limit
        assert was.total <= after.total <= limit
        assert was.free <= after.free <= after.total
        assert after.free - was.free <= after.size - was.size + was.size // 100  # what a moved map gives back
        assert (after.label, after.uuid, after.uid, after.mode) == (was.label, was.uuid, was.uid, was.mode)
        capacity = after.capacity(limit)
        assert capacity.available + sum(loss.size for loss in capacity.losses) == limit
        assert capacity.available <= capacity.free <= capacity.total
        assert growth.footprint() >= 0
        assert kind.grown(after, limit).state == after
        assert kind.grown(after, size).state == after
    assert in_steps.state.total <= at_once.state.total + max(at_once.state.total // 1000, 4 * MIB)


@pytest.mark.parametrize(("name", "ladder"), [(name, ladder) for name in NAMES for ladder in LADDERS[name]])
def test_what_was_promised_is_read_back(name: str, ladder: tuple[int, ...]) -> None:
    """A reader that follows everything finds just the promised state, and nothing to complain of, after every step."""
    kind = filesystem(name)
    device = MemoryDevice(ladder[-1])
    kind.plan(ladder[0], Wishes(uuid=UUID(int=7), label="x", uid=12, gid=34, mode=0o750)).write(device)
    for before, size in pairwise(ladder):
        found = kind.read(_cut(device, before), WHERE)
        assert found is not None and not found.findings
        growth = kind.grown(found, size)
        stored = _stored(device)
        kept = Delayed(_cut(device, size), before)
        growth.write(kept)
        assert kind.read(_cut(device, before), WHERE) == found, "what was there changed before its time"
        kept.replay(_cut(device, size))
        becomes = kind.read(_cut(device, size), WHERE)
        assert becomes == growth.state
        assert becomes is not None and not becomes.findings
        assert _stored(device) - stored <= growth.footprint() + 256 * KIB


def _cut(device: MemoryDevice, size: int) -> Any:

    return Window(device, 0, size)


def _stored(device: MemoryDevice) -> int:
    return sum(length for _, length in device.extents())


@settings(max_examples=200, deadline=None)
@given(st.integers(2, 400), st.data())
def test_clusters_numbered_anew_lie_where_they_lay(before: int, data: st.DataObject) -> None:
    """Each cluster has one new number; all but those that move stay where they are; chains lead through the same ones."""
    moved = data.draw(st.integers(0, before - 1))
    count = before + data.draw(st.integers(0, 50))
    shift = Shift(moved, before)
    old = np.arange(FIRST_CLUSTER, FIRST_CLUSTER + before)
    new = shift.all(old)
    assert sorted(new) == sorted(old)
    assert (new[moved:] == old[moved:] - moved).all()  # the first cluster itself lies so much further back
    assert list(new[:moved]) == list(range(shift.home, shift.home + moved))
    order = data.draw(st.permutations(range(before)))[: data.draw(st.integers(1, before))]
    chain = [int(old[index]) for index in order]
    table = np.zeros(before + FIRST_CLUSTER, dtype=np.uint32)
    table[:FIRST_CLUSTER] = (0x0FFFFFF8, 0xFFFFFFFF)
    for here, onward in zip(chain, [*chain[1:], 0x0FFFFFFF], strict=True):
        table[here] = onward | 0xA0000000
    shifted = shift.table(table, count, 0x0FFFFFFF)
    assert len(shifted) == count + FIRST_CLUSTER and (shifted[:FIRST_CLUSTER] == table[:FIRST_CLUSTER]).all()
    walked: list[int] = []
    here = int(shift.one(chain[0]))
    while here < 0x0FFFFFF8:
        walked.append(here)
        assert int(shifted[here]) >> 28 == 0xA, "bits that are no part of the number stay"
        here = int(shifted[here]) & 0x0FFFFFFF
    assert walked == [shift.one(one) for one in chain]
    assert int((shifted[FIRST_CLUSTER:] != 0).sum()) == len(chain)
    used = np.zeros(before, dtype=bool)
    used[list(order)] = True
    bits = shift.bits(used, count)
    assert sorted(np.flatnonzero(bits) + FIRST_CLUSTER) == sorted(walked)
    first, length = data.draw(st.integers(FIRST_CLUSTER, FIRST_CLUSTER + before - 1)), data.draw(st.integers(1, before))
    length = min(length, FIRST_CLUSTER + before - first)
    in_pieces = [one for start, run in shift.runs(first, length) for one in range(start, start + run)]
    assert in_pieces == [shift.one(one) for one in range(first, first + length)]
    assert shift.crosses(first, length) == (len(shift.runs(first, length)) == 2)
