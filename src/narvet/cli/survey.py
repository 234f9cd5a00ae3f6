"""`narvet survey`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import AS_JSON, BASES, IMAGE_FORMAT, SECTOR, print_json, print_text, status_of
from narvet.cli.job import job
from narvet.cli.speak import say
from narvet.cli.spread import CERTIFICATES, OVER
from narvet.cli.unseal import unseals


@job("survey")
@click.argument("paths", nargs=-1, required=True, type=click.Path(readable=False))
@IMAGE_FORMAT
@BASES
@SECTOR
@click.option("--brief", is_flag=True, help="A line for each image, and the findings of level error and warning.")
@OVER
@CERTIFICATES
@unseals()
@AS_JSON
@click.pass_context
def command(ctx: click.Context, /, paths: tuple[str, ...], brief: bool, as_json: bool, **known: Any) -> None:
    """Show what is on images or devices, made by Narvet or by others; change nothing.

    A folder stands for the images in it, each told in a line before they follow one by one. What one of several paths
    has wrong does not keep the others from being shown. With --over hosts look, and each path is HOST:PATH.

    Example: narvet survey stores/vault/trials.raw
    """
    from narvet.report import facts, text
    from narvet.report import found as here

    over, certificates = known.pop("over"), known.pop("certificates")
    wishes = narvet.SurveyWishes(**known | {"bases": tuple(map(str, known["bases"]))})
    if over is None and certificates is None:
        there = narvet.survey_paths(paths, wishes)
    else:
        engine = narvet.engine_for(over, certificates)
        with narvet.working_with(engine):
            try:
                there = narvet.survey_on_hosts([_host_and_path(path) for path in paths], wishes)
            finally:
                engine.stop()
    for told, _ in there.problems:
        say(told, err=True)
    found, pools = list(there.disks), there.pools
    findings = [*(one for disk in found for one in disk.findings), *(one for pool in pools for one in pool.findings)]
    if as_json:
        print_json([facts.survey_facts(one, found, pools) for one in found])
    else:
        in_folders = any(len(found) > len(paths) or Path(path).is_dir() for path in paths)
        print_text(
            lambda marks: here.in_lines(found) if brief else here.in_depth(found, marks, pools, in_brief=in_folders)
        )
        shown = [one for one in findings if one.level == "error" or not (brief and one.level == "note")]
        print_text(lambda marks: text.findings(shown, marks))
    ctx.exit(max((status for _, status in there.problems), default=0) or status_of(findings))


def _host_and_path(text: str) -> tuple[str, str]:
    """Return the host and the path that stand for something on a host, HOST:PATH."""
    host, colon, path = text.partition(":")
    if not (host and colon and path):
        raise narvet.RequestError(f"{text}: over a hub, say on which host it lies: HOST:PATH")
    return host, path
