"""Facts for programs: the JSON objects behind `--json`. Sizes and offsets are bytes, ids are lower-case strings."""

from narvet.report.facts.looks import keys_facts, look_facts, survey_facts, taken_facts
from narvet.report.facts.plans import entry_facts, finding_facts, made_facts, review_facts, unlock_facts, where_of
from narvet.report.facts.works import (
    attach_facts,
    confirm_facts,
    device_facts,
    event_facts,
    key_facts,
    recast_facts,
    resized_facts,
    rule_facts,
    word_facts,
    write_facts,
)

__all__ = [
    "attach_facts",
    "confirm_facts",
    "device_facts",
    "entry_facts",
    "event_facts",
    "finding_facts",
    "key_facts",
    "keys_facts",
    "look_facts",
    "made_facts",
    "recast_facts",
    "resized_facts",
    "review_facts",
    "rule_facts",
    "survey_facts",
    "taken_facts",
    "unlock_facts",
    "where_of",
    "word_facts",
    "write_facts",
]
