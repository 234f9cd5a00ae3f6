"""Facts of what was done, and of what is explained (shapes: `shapes.works`)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from narvet.ground.errors import flat
from narvet.report.facts.plans import change_facts, finding_facts, partition_facts, where_of

if TYPE_CHECKING:
    from narvet.ground.findings import Finding, Rule
    from narvet.model.devices import Device
    from narvet.model.moves import Difference, Step
    from narvet.report.shapes import works
    from narvet.usecases.attach import Attached, Attaching
    from narvet.usecases.enlarge import Resized
    from narvet.usecases.explain import ExplainedKey
    from narvet.usecases.history import Event
    from narvet.usecases.recast import Recast


def confirm_facts(differences: Sequence[Difference]) -> works.ConfirmFacts:
    """Return what `confirm --json` prints."""
    rows: list[works.DifferenceFacts] = [
        {"where": where_of(one), "asked": flat(one.texts[0]), "found": flat(one.texts[1])} for one in differences
    ]
    return {"agrees": not rows, "differences": rows}


def write_facts(done: Sequence[Step], findings: Iterable[Finding], *, dry: bool) -> works.WriteFacts:
    """Return what `write --json` prints: the paths that changed, in order, and the findings."""
    return {"done": [step.touches for step in done], "findings": finding_facts(findings), "dry": dry}


def rule_facts(rules: Mapping[str, Rule[...]]) -> list[works.RuleFacts]:
    """Return what `explain --json` prints."""
    return [{"rule": name, "meaning": rule.meaning, "way_out": rule.way_out} for name, rule in rules.items()]


def key_facts(keys: Iterable[ExplainedKey]) -> list[works.KeyFacts]:
    """Return what `explain --json` prints of keys."""
    return [{"key": one.key, "table": one.table, "meaning": one.meaning, "usual": one.usual} for one in keys]


def word_facts(words: Mapping[str, str]) -> list[works.WordFacts]:
    """Return what `explain --json` prints of words."""
    return [{"word": word, "meaning": meaning} for word, meaning in words.items()]


def resized_facts(done: Resized, *, dry: bool) -> works.ResizedFacts:
    """Return what `enlarge --json` and `shrink --json` print."""
    return {
        "path": done.after.path,
        "size": done.after.size,
        "changes": [change_facts(one) for one in done.changes],
        "partitions": [partition_facts(part, done.after) for part in done.after.partitions],
        "findings": finding_facts(done.findings),
        "dry": dry,
    }


def recast_facts(done: Recast, *, dry: bool) -> works.RecastFacts:
    """Return what `recast --json` prints."""
    return {
        "path": str(done.path),
        "format": done.format,
        "space": done.spec.space,
        "size": done.spec.size,
        "verified": done.is_verified,
        "remarks": [flat(remark) for remark in done.remarks],
        "dry": dry,
    }


def event_facts(event: Event) -> works.EventFacts:
    """Return what `history --json` prints of one thing that was done."""
    return {
        "when": event.when or None,
        "disk": event.disk or None,
        "guest": event.guest or None,
        "did": event.did or None,
        "touched": event.touched or None,
        "size": event.size,
    }


def device_facts(device: Device) -> works.DeviceFacts:
    """Return what `devices --json` prints of one."""
    return {
        "path": device.path,
        "serial": device.serial or None,
        "model": device.model or None,
        "size": device.size,
        "sector": device.sector_size,
        "rotates": device.rotates,
        "read_only": device.read_only,
        "removable": device.removable,
        "blank": device.is_blank,
        "holds": device.holds or None,
        "users": list(device.users),
        "partitions": {str(number): path for number, path in device.partitions},
    }


def attach_facts(done: Attaching, *, dry: bool) -> works.AttachFacts:
    """Return what `attach --json` and `detach --json` print."""
    lists: list[works.HandWorkFacts] = [
        {"guest": one.guest, "title": flat(one.title), "steps": [flat(step) for step in one.steps]}
        for one in done.by_hand
    ]
    return {"done": [_attached(one) for one in done.done], "by_hand": lists, "dry": dry}


def _attached(one: Attached) -> works.AttachedFacts:
    return {
        "disk": one.disk,
        "guest": one.guest,
        "did": one.did,
        "slot": one.slot,
        "serial": one.serial,
        "path": one.path,
    }
