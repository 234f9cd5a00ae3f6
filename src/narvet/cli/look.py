"""`narvet look`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, DRY, IMAGE_FORMAT, print_json, print_text, tell, with_partition
from narvet.cli.job import job
from narvet.cli.speak import say
from narvet.cli.unseal import unseals


@job("look")
@click.argument("image", metavar="IMAGE[:PLACE]")
@click.argument("inside", metavar="[PATH]", default="/")
@click.option("--out", type=A_PATH, help="Copy the file at PATH to this new file.")
@click.option("--member", "members", type=A_PATH, multiple=True, help="A further image that the volume's pool lies on.")
@IMAGE_FORMAT
@BASES
@unseals()
@DRY
@AS_JSON
def command(image: str, inside: str, out: Path | None, dry: bool, as_json: bool, **known: Any) -> None:
    """Show what lies at PATH inside a filesystem of IMAGE: a folder's names, or a small file's text.

    Nothing is mounted, and nothing is changed. PLACE is the number of a partition, or a volume with its pool, such as
    cold.readings; it can be left out where only one has files. Without PATH the names in its root are listed.

    Example: narvet look stores/vault/trials.raw:1 /results
    """
    from narvet.report import facts
    from narvet.report.inside import looked as shown
    from narvet.report.inside import shown_text

    path, partition = with_partition(image)
    if out is not None:
        _take_out(path, inside, out, partition=partition, dry=dry, as_json=as_json, **known)
        return
    if dry:
        raise click.UsageError("Without --out nothing would be changed; leave --dry out.")
    found = narvet.look(path, inside, partition=partition, **known)
    text = shown_text(found.content) if found.content is not None else None
    if as_json:
        print_json(facts.look_facts(found, text))
    elif text is not None:
        click.echo(text, nl=not text.endswith("\n"))
    else:
        print_text(lambda marks: shown(found, marks))
        if found.node.kind == "file":
            why = "It is not text." if found.content is not None else "It is too large to be shown."
            say(f"{why} --out FILE takes it out.", err=True)


def _take_out(path: Path, inside: str, out: Path, *, dry: bool, as_json: bool, **known: Any) -> None:
    from narvet.report import facts
    from narvet.report.progress import counting

    with counting(str(out)) as count:
        found = narvet.take_out(path, inside, out, count, dry=dry, **known)
    size = narvet.show_both(found.node.size)
    tell(as_json, facts.taken_facts(found, str(out), dry=dry), f"{out}: {size}, from {found.inside} in {path}", dry=dry)
