"""`narvet hub`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, print_line, report_well
from narvet.cli.ended import ended_by_signals
from narvet.cli.job import job
from narvet.cli.spread import CERTIFICATES


@job("hub")
@click.option("--at", default="127.0.0.1:8786", metavar="HOST:PORT", help="Where it is reached.  [127.0.0.1:8786]")
@CERTIFICATES
@AS_JSON
def command(at: str, certificates: Path | None, as_json: bool) -> None:
    """Run a hub, through which the hosts of a sheet are reached, until Ctrl-C or a signal ends it.

    Other machines reach it only with certificates, which both sides show: a folder with ca.pem, cert.pem and key.pem.

    Example: narvet hub --at 10.0.0.5:8786 --certificates keys
    """
    ended = ended_by_signals()
    with narvet.hub(at, certificates) as address:
        if as_json:
            print_line({"hub": address})
        else:
            report_well(f"A hub at {address}; Ctrl-C ends it.")
        ended.wait()
