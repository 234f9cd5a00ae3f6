"""`narvet host`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, print_line, report_well
from narvet.cli.ended import ended_by_signals
from narvet.cli.job import job
from narvet.cli.spread import CERTIFICATES, JOBS
from narvet.cli.unseal import PASSPHRASE_FILE, given_passphrases


@job("host")
@click.argument("name")
@click.argument("folder", type=A_PATH)
@click.option("--hub", "hub", default="127.0.0.1:8786", metavar="HOST:PORT", help="Its hub.  [127.0.0.1:8786]")
@JOBS
@CERTIFICATES
@PASSPHRASE_FILE
@click.option("--recovery", type=A_PATH, help="Add the recovery keys of disks that it seals to this file.")
@AS_JSON
def command(
    name: str,
    folder: Path,
    hub: str,
    jobs: int | None,
    certificates: Path | None,
    passphrase_file: Path | None,
    recovery: Path | None,
    as_json: bool,
) -> None:
    """Do on this machine what sheets want of host NAME, until Ctrl-C or a signal ends it.

    It does Narvet's own steps and nothing else, and only in FOLDER, which its stores and its guests' roots are in. If
    the hub goes away, it waits until that is there again. Sealed disks are for a host that has their passphrase; it
    stays here, and so do recovery keys.

    Example: narvet host rack3 /srv/narvet --hub 10.0.0.5:8786 --certificates keys
    """
    ended = ended_by_signals()
    passphrases = given_passphrases(passphrase_file)
    with narvet.host(name, folder, hub, jobs, certificates, passphrases=passphrases, recovery=recovery) as address:
        if as_json:
            print_line({"host": name, "folder": str(folder), "at": address})
        else:
            report_well(f"Host {name} works in {folder}; Ctrl-C ends it.")
        ended.wait()
