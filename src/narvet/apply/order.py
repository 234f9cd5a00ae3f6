"""Which steps wait for which. Pure.

A step waits for those before it that are about the same thing: the same disk, image or root, and for a guest's entries
all that they mount.
"""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterable, Sequence

from narvet.model.moves import Lies, Step


def order(todo: Sequence[Step]) -> tuple[list[int], list[list[int]]]:
    """Return of each step how many it waits for, and which wait for it."""
    waits, waited_by = [0] * len(todo), [list[int]() for _ in todo]
    last: dict[tuple[str, str], int] = {}
    readers: dict[tuple[str, str], list[int]] = defaultdict(list)
    of_guest: dict[str, list[int]] = defaultdict(list)
    barrier = -1
    for number, step in enumerate(todo):
        changed, read = list(about(step)), [("path", os.path.normpath(path)) for path in reads(step)]
        before = {last[one] for one in (*changed, *read) if one in last}
        for one in changed:
            before |= set(readers.pop(one, ()))
        if step.comes_last or step.lies_in is Lies.ROOT:
            before |= set(of_guest[step.guest])
        if _waits_for_all(step):
            before |= set(range(number))
            barrier = number
        elif barrier >= 0:
            before.add(barrier)
        for other in before:
            waited_by[other].append(number)
        waits[number] = len(before)
        of_guest[step.guest].append(number)
        for one in read:
            readers[one].append(number)
        for one in changed:
            last[one] = number
    return waits, waited_by


def _waits_for_all(step: Step) -> bool:
    """Return whether a step takes something out of the sheet, which all others come before."""
    return step.lies_in is Lies.SHEET and step.comes_last and step.touches.endswith(".toml")


def reads(step: Step) -> Iterable[str]:
    """Return the paths of images that a step only reads: several may do so at once."""
    origin = getattr(step, "origin", None)
    if origin is not None:
        yield origin.path


def about(step: Step) -> Iterable[tuple[str, str]]:
    """Return what a step is about: two that share any of it are done one after the other."""
    yield "path", os.path.normpath(step.touches)
    for key in ("disk", "path"):
        if hasattr(step, key):
            yield key, str(getattr(step, key))
    root = getattr(step, "root", None)
    if root is not None:
        yield "path", os.path.normpath(root.path)
    for key in ("found", "old"):
        other = getattr(step, key, None)
        if other is not None and getattr(other, "path", None):
            yield "path", os.path.normpath(other.path)
    pool = getattr(step, "pool", None)
    for member in (*getattr(pool, "members", {}).values(), *getattr(pool, "leaving", {}).values()):
        yield "path", os.path.normpath(member.path)
        yield "disk", member.disk
