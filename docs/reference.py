"""Write what the code itself says into a folder of docs: the sheet's schema and tables of keys, the rules.

Usage: python docs/reference.py [FOLDER]
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from narvet.ground.rules import table
from narvet.model.controllers import controller_table
from narvet.sheet.form import DiskForm, Form, GuestForm, PartitionForm, Sheet, StoreForm, schema
from narvet.sheet.keys import key_table

FORMS: dict[str, type[Form]] = {
    "sheet": Sheet,
    "store": StoreForm,
    "guest": GuestForm,
    "disk": DiskForm,
    "partition": PartitionForm,
}


def write(folder: Path) -> None:
    """Bring the generated files and parts of files in a folder up to date."""
    (folder / "sheet.schema.json").write_text(json.dumps(schema(), indent=2) + "\n")
    (folder / "findings.md").write_text(table())
    page = folder / "sheet.md"
    text = page.read_text()
    tables = {f"keys of {name}": (key_table(form), name) for name, form in FORMS.items()}
    for what, (written, name) in {**tables, "controllers": (controller_table(), "controllers")}.items():
        start, end = f"<!-- {what}: made by `make reference` -->\n", f"<!-- end of {name} -->"
        before, found, rest = text.partition(start)
        if not found or end not in rest:
            raise SystemExit(f"{page} has no place for {what}")
        text = before + start + written + end + rest.partition(end)[2]
    page.write_text(text)


if __name__ == "__main__":
    write(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent)
