"""`narvet survey`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, BASES, IMAGE_FORMAT, SECTOR, print_json, print_text, say, status_of
from narvet.errors import NarvetError, RefusedError


@click.command("survey")
@click.argument("paths", nargs=-1, required=True, type=click.Path(readable=False))
@IMAGE_FORMAT
@BASES
@SECTOR
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context,
    paths: tuple[str, ...],
    image_format: str | None,
    bases: tuple[Path, ...],
    sector: str | None,
    as_json: bool,
) -> None:
    """Show what is on images or devices, made by Narvet or by others; change nothing.

    What one of several paths has wrong does not keep the others from being shown.

    Example: narvet survey stores/vault/trials.raw
    """
    from narvet.images import trust
    from narvet.survey.probe import survey

    found, status = [], 0
    for path in paths:
        asked = trust.said(Path(path), image_format, bases, by_content=True)
        try:
            found.append(survey(path, trust=asked, sector=int(sector) if sector else None))
        except (NarvetError, OSError) as error:
            if len(paths) == 1:
                raise
            told = str(error) if isinstance(error, NarvetError) else f"{path}: {error.strerror}"
            say(told, err=True)
            status = max(status, error.status if isinstance(error, NarvetError) else RefusedError.status)
    said = [finding for one in found for finding in one.findings]
    if as_json:
        from narvet.report.facts import survey_facts

        print_json([survey_facts(one) for one in found])
    else:
        from narvet.report import text

        print_text(lambda marks: text.surveys(found, marks))
        print_text(lambda marks: text.findings(said, marks))
    ctx.exit(status or status_of(said))
