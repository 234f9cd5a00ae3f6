"""The questions of `narvet draft` on a terminal: each answer is checked at once, and none is lost."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.speak import say

_HELP, _BACK, _NOTHING = "?", "<", "-"


def ask_all(sheet: Path) -> narvet.Request:
    """Ask for a disk of a sheet until every question has an answer, and return it all.

    Raises:
        click.Abort: somebody stopped it; the answers so far are kept, and offered the next time.
    """
    state, earlier = narvet.interview(sheet), narvet.kept_answers(sheet)
    say("Enter takes what stands in brackets; ? explains a question, < goes back, - leaves an answer out.", err=True)
    if earlier:
        say("Your answers of last time are offered again.", err=True)
    try:
        while (question := state.next()) is not None:
            answer = _ask(question, earlier.get(question.key, question.usual))
            if answer == _BACK:
                state = state.back()
                continue
            if answer == _HELP:
                _explain(question)
                continue
            answer = "" if answer == _NOTHING else answer
            fault = state.fault(question.key, answer)
            if fault:
                say(f"  {fault}", err=True)
                continue
            understood = state.understood(question.key, answer)
            if understood:
                say(f"  {understood}", err=True)
            earlier[question.key] = answer
            state = state.answered(question.key, answer)
    except click.Abort:
        if earlier:
            path = narvet.keep_answers(sheet, earlier)
            say(f"\nYour answers are kept in {path}; narvet draft {sheet} offers them again.", err=True)
        raise
    return state.request()


def _ask(question: narvet.Question, usual: str) -> str:
    names = ", ".join(choice.name for choice in question.choices)
    text = f"{question.text} ({names})" if names else question.text
    sign = " " if text.endswith("?") and not usual else ": "
    return str(click.prompt(text, default=usual, show_default=bool(usual), err=True, prompt_suffix=sign)).strip()


def _explain(question: narvet.Question) -> None:
    say(f"  {question.about[:1].upper()}{question.about[1:]}.", err=True)
    for choice in question.choices:
        say(f"    {choice.name}: {choice.about}" if choice.about else f"    {choice.name}", err=True)
