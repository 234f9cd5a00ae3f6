"""What `--json` prints, as types: the functions in `facts` return them, and the published schemas are made from them.

Sizes and offsets are bytes, ids are lower-case strings; null stands for what is not there, or is not known.
"""

from __future__ import annotations

from typing import Any

from narvet.report.shapes.looks import KeysFacts, LentFacts, LookFacts, SurveyFacts, TakenFacts
from narvet.report.shapes.plans import MakeFacts, ReviewFacts
from narvet.report.shapes.works import (
    AttachFacts,
    BranchFacts,
    ConfirmFacts,
    DeviceFacts,
    DraftFacts,
    EventFacts,
    FoldFacts,
    KeyFacts,
    PictureFacts,
    RecastFacts,
    ReclaimFacts,
    ReportFacts,
    ResizedFacts,
    RetireFacts,
    RuleFacts,
    StandinFacts,
    TieFacts,
    WordFacts,
    WrapFacts,
    WriteFacts,
)

SHAPES: dict[str, Any] = {
    "attach": AttachFacts,
    "branch": BranchFacts,
    "confirm": ConfirmFacts,
    "detach": AttachFacts,
    "devices": list[DeviceFacts],
    "draft": DraftFacts,
    "enlarge": ResizedFacts,
    "entries": dict[str, list[str]],
    "explain": list[RuleFacts | KeyFacts | WordFacts],
    "fold": FoldFacts,
    "keys": KeysFacts,
    "lend": LentFacts,
    "look": LookFacts | TakenFacts,
    "history": list[EventFacts],
    "make": MakeFacts,
    "picture": PictureFacts,
    "recast": RecastFacts,
    "reclaim": ReclaimFacts,
    "report": ReportFacts,
    "retire": RetireFacts,
    "review": ReviewFacts,
    "shrink": ResizedFacts,
    "standin": StandinFacts,
    "survey": list[SurveyFacts],
    "tie": TieFacts,
    "unwrap": WrapFacts,
    "wrap": WrapFacts,
    "write": WriteFacts,
}
"""What each command prints with `--json`."""


def json_schema(command: str) -> dict[str, Any]:
    """Return the schema of what a command prints with `--json` (JSON Schema 2020-12); more keys may be added."""
    from pydantic import TypeAdapter

    made = TypeAdapter(SHAPES[command]).json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"narvet {command} --json", **made}
