"""What a review or survey has to say: each finding follows a named rule and carries a way out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from narvet.rules import RULES

Level = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """One thing to be said about a sheet or an image.

    `where` names the place in the reader's terms (`disk.trials.partition 2`, a path), `message` holds the numbers, and
    `remedy` is what to do, empty only for a note that asks for nothing.
    """

    rule: str
    level: Level
    where: str
    message: str
    remedy: str = ""

    def __post_init__(self) -> None:
        if self.rule not in RULES:
            raise ValueError(f"{self.rule} is not a rule")


def has_errors(findings: tuple[Finding, ...] | list[Finding]) -> bool:
    """Return whether any finding forbids going on."""
    return any(finding.level == "error" for finding in findings)
