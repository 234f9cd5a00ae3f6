"""Which findings are shown, and how many are only counted: what was shown before, and the many that are alike. Pure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from narvet.ground.findings import Finding, has_errors
from narvet.ground.rules import filesystems, guests, images, plugs
from narvet.ground.units import counted
from narvet.model.layout import Layout

if TYPE_CHECKING:
    from narvet.usecases.layout import Reviewed

_MOST_ALIKE = {"error": 20, "warning": 6, "note": 4}
_OF_THE_SHEET = (
    filesystems.cluster_limits, filesystems.growth_limited, guests.letter_by_guest, images.sector_not_recorded,
    images.size_rounded, plugs.not_through_door,
)  # fmt: skip
_ALL = "--long shows all"


def findings_to_show(layout: Layout, disks: Sequence[str], depth: str) -> tuple[list[Finding], list[str]]:
    """Return the findings of a layout that are shown, and sentences that count the rest.

    With `disks` only what is found about them is shown. `depth` is "brief" for no notes, "long" for everything, empty
    for what is new: what follows from the sheet alone was shown when the disk was written.
    """
    every = layout.findings
    own = [one for one in every if not disks or (one.where.kind == "disk" and one.where.name in disks)]
    left = (
        [f"{counted(len(every) - len(own), 'more finding')} on the rest of the sheet."] if len(own) < len(every) else []
    )
    if depth == "long" or disks:
        return own, left
    if depth == "brief":
        shown = [one for one in own if one.level != "note"]
        return shown, _sentence(len(own) - len(shown), "note", f"; {_ALL}.")
    known = _known(layout)
    fresh = [one for one in own if not (_follows_from_sheet(one) and one.where.name in known)]
    before = _sentence(len(own) - len(fresh), "note", f" shown before, on disks that are as asked; {_ALL}.")
    few, many = _few_alike(fresh, _ALL)
    return few, [*many, *before]


def _follows_from_sheet(one: Finding) -> bool:
    """Return whether it is a note on a disk that follows from the sheet alone: shown when the disk was new."""
    return one.level == "note" and one.where.kind == "disk" and any(rule.made(one) for rule in _OF_THE_SHEET)


def still_to_say(layout: Layout) -> tuple[list[Finding], list[str]]:
    """Return the findings that writing a layout shows, and sentences that count more of these.

    Where errors stop it, notes are left out; those that were shown before are not counted either.
    """
    stopped = has_errors(layout.findings)
    known = _known(layout)
    left = [one for one in layout.findings if not (_follows_from_sheet(one) and one.where.name in known)]
    return _few_alike([one for one in left if one.level != "note" or not stopped], f"narvet review {_ALL}")


def verdict(reviewed: Reviewed) -> str:
    """Return in a sentence what writing a sheet would do, or what keeps it from being written."""
    layout = reviewed.layout
    errors = sum(one.level == "error" for one in layout.findings)
    if errors:
        them = "it" if errors == 1 else "them"
        return f"{counted(errors, 'error')}: nothing would be written; correct {them} first."
    if not reviewed.steps:
        all_well = "Writing would change nothing; what is not as asked is listed above."
        return all_well if layout.differences else "All is as asked; writing would change nothing."
    states = Counter(disk.state for disk in layout.disks)
    pools = Counter(pool.state for pool in layout.pools)
    guests = {step.guest for step in reviewed.steps if step.comes_last and step.guest}
    told = [
        f"make {counted(states['to make'], 'disk')}" if states["to make"] else "",
        f"change {counted(states['to change'], 'disk')}" if states["to change"] else "",
        f"make {counted(pools['to make'], 'pool')}" if pools["to make"] else "",
        f"change {counted(pools['to change'], 'pool')}" if pools["to change"] else "",
        f"write entries of {counted(len(guests), 'guest')}" if guests else "",
    ]
    parts = [one for one in told if one] or [f"take {counted(len(reviewed.steps), 'step')}"]
    return f"Writing would {' and '.join(filter(None, (', '.join(parts[:-1]), parts[-1])))}."


def _known(layout: Layout) -> set[str]:
    return {disk.name for disk in layout.disks if disk.state == "as asked"}


def _few_alike(found: Sequence[Finding], rest: str) -> tuple[list[Finding], list[str]]:
    """Return the first findings of each rule and level, and sentences that count others, with what shows the `rest`."""
    seen: Counter[tuple[str, str]] = Counter()
    shown = []
    for one in found:
        seen[one.rule, one.level] += 1
        if seen[one.rule, one.level] <= _MOST_ALIKE[one.level]:
            shown.append(one)
    return shown, [
        f"{counted(count - _MOST_ALIKE[level], f'more {level}')} of {rule}; {rest}."
        for (rule, level), count in seen.items()
        if count > _MOST_ALIKE[level]
    ]


def _sentence(count: int, what: str, rest: str) -> list[str]:
    return [f"{counted(count, what)}{rest}"] if count else []
