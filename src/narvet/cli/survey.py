"""`narvet survey`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import AS_JSON, BASES, IMAGE_FORMAT, SECTOR, print_json, print_text, status_of
from narvet.cli.job import job
from narvet.cli.speak import say
from narvet.cli.unseal import unseals


@job("survey")
@click.argument("paths", nargs=-1, required=True, type=click.Path(readable=False))
@IMAGE_FORMAT
@BASES
@SECTOR
@click.option("--brief", is_flag=True, help="A line for each image, and the findings of level error and warning.")
@unseals()
@AS_JSON
@click.pass_context
def command(ctx: click.Context, /, paths: tuple[str, ...], brief: bool, as_json: bool, **known: Any) -> None:
    """Show what is on images or devices, made by Narvet or by others; change nothing.

    A folder stands for the images in it, each told in a line before they follow one by one. What one of several paths
    has wrong does not keep the others from being shown.

    Example: narvet survey stores/vault/trials.raw
    """
    from narvet.report import facts, text

    found, status = _surveys(paths, known)
    pools = narvet.survey_pools(found)
    findings = [*(one for disk in found for one in disk.findings), *(one for pool in pools for one in pool.findings)]
    if as_json:
        print_json([facts.survey_facts(one, found, pools) for one in found])
    else:
        in_folders = any(Path(path).is_dir() for path in paths)
        print_text(
            lambda marks: text.in_lines(found) if brief else text.surveys(found, marks, pools, in_brief=in_folders)
        )
        shown = [one for one in findings if one.level == "error" or not (brief and one.level == "note")]
        print_text(lambda marks: text.findings(shown, marks))
    ctx.exit(status or status_of(findings))


def _surveys(paths: tuple[str, ...], known: dict[str, Any]) -> tuple[list[narvet.Disk], int]:
    """Return what is found, and the exit status by those of several paths that could not be read."""
    found: list[narvet.Disk] = []
    status = 0
    for path in paths:
        try:
            inside = [str(one) for one in narvet.images_in(Path(path))] if Path(path).is_dir() else [path]
        except (narvet.NarvetError, OSError) as error:
            if len(paths) == 1:
                raise
            inside, status = [], max(status, _told(path, error))
        for one in inside:
            try:
                found.append(narvet.survey(one, **known))
            except (narvet.NarvetError, OSError) as error:
                if [one] == list(paths):
                    raise
                status = max(status, _told(one, error))
    return found, status


def _told(path: str, error: Exception) -> int:
    """Say why a path could not be read, and return the exit status that this leads to."""
    ours = isinstance(error, narvet.NarvetError)
    say(str(error) if ours else f"{path}: {getattr(error, 'strerror', error)}", err=True)
    return int(getattr(error, "status", narvet.RefusedError.status))
