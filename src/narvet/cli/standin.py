"""`narvet standin`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, print_line, report_well
from narvet.cli.ended import ended_by_signals
from narvet.cli.job import job


@job("standin")
@click.argument("folder", type=A_PATH)
@click.option("--port", type=click.IntRange(0, 65535), default=8420, help="The port, 0 for one that is free.  [8420]")
@click.option("--token-file", type=A_PATH, help="Answer only those who know the first line of this file.")
@click.option("--trouble", type=click.FloatRange(0, 1), default=0.0, help="The share of calls that go wrong.  [0]")
@click.option("--delay", type=click.FloatRange(0, 3600), default=0.0, help="Seconds each step may take.  [0]")
@click.option("--seed", type=int, default=0, help="Which trouble comes when.  [0]")
@AS_JSON
def command(
    folder: Path, port: int, token_file: Path | None, trouble: float, delay: float, seed: int, as_json: bool
) -> None:
    """Run a small simulated storage service, to try and test against, until Ctrl-C or a signal ends it.

    It hands out volumes over HTTP as clouds do: ordered, filled, attached to guests, given back. FOLDER keeps them, and
    service.toml there says what it offers. Only this machine reaches it.

    Example: narvet standin cloud --port 8420
    """
    ended = ended_by_signals()
    token = narvet.token_from(token_file) if token_file else ""
    wanted = narvet.Trouble(rate=trouble, delay=delay, seed=seed)
    with narvet.stand_in(folder, port, token, wanted) as url:
        if as_json:
            print_line({"url": url, "folder": str(folder)})
        else:
            report_well(f"A service at {url}, its volumes in {folder}; Ctrl-C ends it.")
        ended.wait()
