"""`narvet host`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, print_line, report_well
from narvet.cli.ended import ended_by_signals
from narvet.cli.job import job
from narvet.cli.spread import CERTIFICATES, JOBS


@job("host")
@click.argument("name")
@click.argument("folder", type=A_PATH)
@click.option("--hub", "hub", default="127.0.0.1:8786", metavar="HOST:PORT", help="Its hub.  [127.0.0.1:8786]")
@JOBS
@CERTIFICATES
@AS_JSON
def command(name: str, folder: Path, hub: str, jobs: int | None, certificates: Path | None, as_json: bool) -> None:
    """Do on this machine what sheets want of host NAME, until Ctrl-C or a signal ends it.

    It does Narvet's own steps and nothing else, and only in FOLDER, which its stores and its guests' roots are in. If
    the hub goes away, it waits until that is there again.

    Example: narvet host rack3 /srv/narvet --hub 10.0.0.5:8786 --certificates keys
    """
    ended = ended_by_signals()
    with narvet.host(name, folder, hub, jobs, certificates) as address:
        if as_json:
            print_line({"host": name, "folder": str(folder), "at": address})
        else:
            report_well(f"Host {name} works in {folder}; Ctrl-C ends it.")
        ended.wait()
