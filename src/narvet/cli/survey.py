"""`narvet survey`."""

from __future__ import annotations

import click

from narvet.cli.common import AS_JSON, print_json, print_text, status_of


@click.command("survey")
@click.argument("paths", nargs=-1, required=True, type=click.Path(readable=False))
@AS_JSON
@click.pass_context
def command(ctx: click.Context, paths: tuple[str, ...], as_json: bool) -> None:
    """Show what is on images or devices, whoever made them; change nothing.

    Example: narvet survey stores/vault/trials.raw
    """
    from narvet.survey.probe import survey

    found = [survey(path) for path in paths]
    said = [finding for one in found for finding in one.findings]
    if as_json:
        from narvet.report.facts import survey_facts

        print_json([survey_facts(one) for one in found])
    else:
        from narvet.report import text

        print_text(lambda marks: text.surveys(found, marks))
        print_text(lambda marks: text.findings(said, marks))
    ctx.exit(status_of(said))
