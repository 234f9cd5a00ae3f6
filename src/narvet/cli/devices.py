"""`narvet devices`."""

from __future__ import annotations

import click

import narvet
from narvet.cli.common import AS_JSON, print_json, print_text


@click.command("devices")
@AS_JSON
def command(as_json: bool) -> None:
    """List the real block devices of this machine: path, serial, size, what each holds, and who uses it.

    Only the superuser can see what devices hold. Nothing is changed.

    Example: narvet devices
    """
    from narvet.report import facts, text

    found = narvet.list_devices()
    if as_json:
        print_json([facts.device_facts(one) for one in found])
    else:
        print_text(lambda _: text.devices(found))
