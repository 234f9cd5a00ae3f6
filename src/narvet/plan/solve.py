"""The smallest size whose filesystem offers so much to an ordinary user, found on the pure geometry."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

from narvet.formats.filesystems.contract import Filesystem, UnfitError, Wishes
from narvet.ground.units import KIB, align_down, align_up, show_apart

_DIP = 128 * KIB
"""Between two breakpoints what a filesystem offers grows with its size but for rounding, which stays below this."""


def smallest_size(filesystem: Filesystem, wishes: Wishes, wanted: int, step: int) -> int:
    """Return the smallest multiple of `step` bytes on which `filesystem` offers `wanted` bytes.

    Raises:
        UnfitError: no size it can be made at offers that much.
    """

    options = filesystem.options.of(wishes)

    def offers(size: int) -> bool:
        try:
            return options.plan(size).capacity().available >= wanted
        except UnfitError:
            return False

    points = [point for point in options.breakpoints() if point > wanted]
    borders = [max(wanted, filesystem.least), *points, filesystem.most + 1]
    for low, high in pairwise(borders):
        first, last = align_up(low, step), align_down(high - 1, step)
        if first > last:
            continue
        found = _smallest_between(offers, first, last, step)
        if found is not None:
            return found
    most = options.plan(align_down(filesystem.most, step)).capacity().available
    raise UnfitError(
        "{} offers an ordinary user at most {}, not {}".format(filesystem.name, *show_apart(most, wanted)),
        filesystem.least,
        filesystem.most,
    )


def smallest_growth(offers: Callable[[int], int], wanted: int, size: int, most: int, step: int) -> int | None:
    """Return the smallest size, from the `size` that a partition has, at which what is in it offers `wanted` bytes.

    Sizes above that are multiples of `step`. None if no size up to `most` does.
    """
    if offers(size) >= wanted:
        return size
    first, last = align_up(size + 1, step), align_down(most, step)
    high = align_up(size + 2 * (wanted - offers(size)) + step, step)
    while high < last and offers(high) < wanted:
        high *= 2
    return _smallest_between(lambda one: offers(one) >= wanted, first, min(high, last), step)


def _smallest_between(offers: Callable[[int], bool], first: int, last: int, step: int) -> int | None:
    """Return the smallest size from `first` to `last` that offers enough, where offers grow but for small dips."""
    if not offers(last):
        high = next((size for size in _back(last, first, step) if offers(size)), None)
        if high is None:
            return None
        last = high
    low = first - step
    while last - low > step:
        middle = low + align_down((last - low) // 2, step)
        if offers(middle):
            last = middle
        else:
            low = middle
    return min((size for size in _back(last, first, step) if offers(size)), default=last)


def _back(last: int, first: int, step: int) -> range:
    return range(last, max(first, last - align_up(_DIP, step)) - 1, -step)
