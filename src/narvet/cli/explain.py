"""`narvet explain`."""

from __future__ import annotations

import click

from narvet.cli.common import AS_JSON, print_json, print_text
from narvet.errors import RequestError, nearest


@click.command("explain")
@click.argument("rules", nargs=-1)
@AS_JSON
def command(rules: tuple[str, ...], as_json: bool) -> None:
    """Tell what findings by RULES mean and the way out; without RULES, what each of them means.

    Example: narvet explain store-overpromised
    """
    from narvet.rules import RULES

    for rule in rules:
        if rule not in RULES:
            raise RequestError(f'there is no rule "{rule}"{nearest(rule, RULES)}')
    told = {rule: RULES[rule] for rule in rules or RULES}
    if as_json:
        print_json([{"rule": rule, **text._asdict()} for rule, text in told.items()])
    else:
        from narvet.report import text

        print_text(lambda marks: text.rules(told, marks, in_full=bool(rules)))
