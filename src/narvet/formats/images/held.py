"""An image held while it is changed: its name, its files and its bases' against everybody else."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.leases import Lease, lease
from narvet.block.locks import exclusive_lock
from narvet.block.publish import recover
from narvet.formats.images.chain import Link, chain
from narvet.formats.images.trust import Trust


@contextmanager
def held_image(path: Path, trust: Trust) -> Iterator[tuple[tuple[Link, ...], Lease]]:
    """Hold an image that is about to be changed, with its bases; what a cut left of an earlier change is made first.

    Raises:
        RefusedError: another Narvet is at work on it, or somebody uses it.
        ImageError: it is not sound, or a base is not to be trusted.
    """
    with exclusive_lock(path):
        recover(path)
        links = tuple(chain(path, trust))
        bases = [file for link in links[1:] for file in link.files]
        with lease(*links[0].files, change=True) as leased, lease(*bases, change=False):
            yield links, leased
