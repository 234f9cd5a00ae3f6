"""`narvet explain`."""

from __future__ import annotations

import click

import narvet
from narvet.cli.common import AS_JSON, print_json, print_text
from narvet.cli.job import job


@job("explain")
@click.argument("words", nargs=-1)
@AS_JSON
def command(words: tuple[str, ...], as_json: bool) -> None:
    """Tell what WORDS mean: rules of findings with the way out, or keys of a sheet; without WORDS, every rule.

    Example: narvet explain store-overpromised usable
    """
    from narvet.report import facts, text

    rules = {word: narvet.RULES[word] for word in words or narvet.RULES if word in narvet.RULES}
    keys = narvet.explained_keys([word for word in words if word not in narvet.RULES])
    if as_json:
        print_json([*facts.rule_facts(rules), *facts.key_facts(keys)])
        return
    if rules:
        print_text(lambda marks: text.rules(rules, marks, in_full=bool(words)))
    if keys:
        print_text(lambda _: text.keys(keys))
