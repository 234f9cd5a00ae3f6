"""`narvet devices`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, print_json, print_text
from narvet.cli.job import job


@job("devices")
@click.argument("paths", nargs=-1, type=A_PATH)
@AS_JSON
def command(paths: tuple[Path, ...], as_json: bool) -> None:
    """List the real block devices of this machine, or those at PATHS: serial, size, what each holds, who uses it.

    Only the superuser can see what devices hold. Nothing is changed.

    Example: narvet devices
    """
    from narvet.report import facts, text

    found = narvet.list_devices(paths)
    if as_json:
        print_json([facts.device_facts(one) for one in found])
    else:
        print_text(lambda _: text.devices(found))
