"""`narvet explain`."""

from __future__ import annotations

import click

import narvet
from narvet.cli.common import AS_JSON, print_json, print_text
from narvet.cli.job import job


def _complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    del ctx, param
    return [name for name in narvet.explained_names() if name.startswith(incomplete)]


@job("explain")
@click.argument("words", nargs=-1, shell_complete=_complete)
@AS_JSON
def command(words: tuple[str, ...], as_json: bool) -> None:
    """Tell what WORDS mean: rules of findings with the way out, keys of a sheet, or words that Narvet uses.

    Without WORDS it lists every rule. `explain words` lists every word.

    Example: narvet explain store-overpromised usable
    """
    from narvet.report import facts, text

    every = words == ("words",)
    rules = {word: narvet.RULES[word] for word in words or narvet.RULES if word in narvet.RULES}
    meant = {word: narvet.WORDS[word] for word in (narvet.WORDS if every else words) if word in narvet.WORDS}
    others = [] if every else [word for word in words if word not in (*rules, *meant) or word in narvet.KEYS]
    keys = narvet.explained_keys(others)
    if as_json:
        print_json([*facts.rule_facts(rules), *facts.key_facts(keys), *facts.word_facts(meant)])
        return
    if rules:
        print_text(lambda marks: text.rules(rules, marks, in_full=bool(words)))
    if keys:
        print_text(lambda _: text.keys(keys))
    if meant:
        print_text(lambda _: text.words(meant))
