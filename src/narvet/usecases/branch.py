"""A child of a base image, which keeps only its differences from it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.apply.staging import new_image, refuse_taken, rights_of
from narvet.block.leases import lease
from narvet.block.publish import clear_folders
from narvet.formats.images import format_for
from narvet.formats.images.chain import Link, chain, new_image_file
from narvet.formats.images.children import base_of
from narvet.formats.images.contract import ImageFormat, ImageSpec, check_fits
from narvet.formats.images.trust import NOTHING_SAID, Trust, trust_of_call
from narvet.ground.ids import derive
from narvet.ground.values import Frozen


class Branched(Frozen):
    """A child that was made, by its format, and the base it keeps its differences from."""

    path: Path
    format: str
    base: Path


def branch(
    base: Path,
    child: Path,
    format_name: str | None = None,
    *,
    block_size: int | None = None,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    dry: bool = False,
) -> Branched:
    """Make `child`, an image that keeps only its differences from `base`, which must not change from then on.

    `format_name` is the child's, otherwise its ending tells; `block_size` is the bytes of the unit it grows by.
    `image_format` is what the base is read by where its ending does not tell, `bases` are bases that may lie elsewhere.
    A `dry` call looks whether it can be done, and makes nothing.

    Raises:
        RequestError: the name is taken, the format makes no children, or not of such a base, or has no such blocks.
        ImageError: the base is not sound.
        RefusedError: somebody writes to the base, or the system refused.
    """
    kind = format_for(child, format_name)
    if dry:
        refuse_taken(child)
        _child_spec(chain(base, trust_of_call(base, image_format, bases)), child, kind, block_size)
        return Branched(child, kind.name, base)
    clear_folders(child)
    with new_image(child, kind, rights=rights_of(base)) as built:
        make_child(base, built, child, kind, block_size, trust_of_call(base, image_format, bases))
    return Branched(child, kind.name, base)


def make_child(
    base: Path, built: Path, child: Path, kind: ImageFormat, block_size: int | None = None, trust: Trust = NOTHING_SAID
) -> None:
    """Make an image that keeps only its differences from `base`; it is put together at `built` and named `child`.

    Raises:
        RequestError: the format makes no children, or not of such a base, or has no such blocks.
        RefusedError: something is writing to the base.
    """
    links = chain(base, trust)
    spec = _child_spec(links, child, kind, block_size)
    files = [file for link in links for file in link.files]
    with lease(*files, change=False) as held, new_image_file(kind, built, spec):
        held.check()


def _child_spec(links: list[Link], child: Path, kind: ImageFormat, block_size: int | None) -> ImageSpec:
    below, sector_size = base_of(links[0], child, kind)
    own_id = derive(NAMESPACE_URL, "child", child.name, below.link)
    spec = ImageSpec(below.size, sector_size, "thin", own_id, block_size=block_size, base=below)
    check_fits(kind, spec)
    return spec
