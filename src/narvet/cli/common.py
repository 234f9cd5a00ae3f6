"""What commands share: the sheet argument, `--json`, and how results and findings are printed."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import click

from narvet.findings import Finding, has_errors

SHEET = click.argument("sheet", type=click.Path(path_type=Path, readable=False))
AS_JSON = click.option("--json", "as_json", is_flag=True, help="Print facts for programs.")


def print_json(facts: Any) -> None:
    """Print facts, the only thing on standard output."""
    click.echo(json.dumps(facts, indent=2, ensure_ascii=False))


def print_text(render: Callable[[Any], Any]) -> None:
    """Print what `render` makes for the marks that the terminal can show."""
    from narvet.report.terminal import console, marks

    console().print(render(marks()))


def print_findings(found: Sequence[Finding]) -> None:
    """Print findings on standard error."""
    if found:
        from narvet.report import text
        from narvet.report.terminal import marks, message_console

        message_console().print(text.findings(found, marks()))


def status_of(found: Sequence[Finding]) -> int:
    """Return the exit status that findings lead to."""
    return 1 if has_errors(list(found)) else 0
