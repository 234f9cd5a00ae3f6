"""Sentences on the terminal; light, as every call needs it."""

from __future__ import annotations

import sys

import click

from narvet.ground.errors import flat, printable


def say(sentence: str, *, err: bool = False) -> None:
    """Print a sentence with nothing in it that a terminal might obey."""
    stream = sys.stderr if err else sys.stdout
    text = printable(sentence, keep="\n")
    click.echo(text if stream.isatty() else flat(text), err=err)
