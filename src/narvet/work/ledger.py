"""The ledger beside the sheet: what was done, when, with which ids; one JSON object a line, only ever appended.

Nothing relies on it: what exists is read from the disks themselves.
"""

from __future__ import annotations

import json
import os
from datetime import UTC, datetime
from pathlib import Path


def ledger_path(sheet: Path) -> Path:
    """Return where a sheet's ledger is kept."""
    return sheet.with_suffix(".ledger.jsonl")


def record(ledger: Path, touched: str, what: dict[str, object]) -> None:
    """Append one line, on stable storage when this returns."""
    moment = datetime.now(UTC).isoformat(timespec="seconds")
    line = json.dumps({"when": moment, "touched": touched, **what}, ensure_ascii=False)
    with ledger.open("a", encoding="utf-8") as file:
        file.write(line + "\n")
        file.flush()
        os.fsync(file.fileno())
