"""`narvet explain`."""

from __future__ import annotations

import click

import narvet
from narvet.cli.common import AS_JSON, print_json, print_text


@click.command("explain")
@click.argument("rules", nargs=-1)
@AS_JSON
def command(rules: tuple[str, ...], as_json: bool) -> None:
    """Tell what findings by RULES mean and the way out; without RULES, what each of them means.

    Example: narvet explain store-overpromised
    """
    from narvet.report import facts, text

    for rule in rules:
        if rule not in narvet.RULES:
            raise narvet.RequestError(f'there is no rule "{rule}"{narvet.nearest(rule, narvet.RULES)}')
    chosen = {rule: narvet.RULES[rule] for rule in rules or narvet.RULES}
    if as_json:
        print_json(facts.rule_facts(chosen))
    else:
        print_text(lambda marks: text.rules(chosen, marks, in_full=bool(rules)))
