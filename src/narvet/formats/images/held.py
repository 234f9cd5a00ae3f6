"""Images held while they are changed: their names, their files and their bases' against everybody else."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from narvet.block.leases import Lease, lease
from narvet.block.locks import exclusive_lock
from narvet.block.publish import recover
from narvet.formats.images.chain import Link, StagedImage, chain, staged_image
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.trust import Trust
from narvet.ground.budget import budget


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


@contextmanager
def staged_images(paths: Iterable[str | Path], trust: Trust) -> Iterator[tuple[list[StagedImage], Callable[[], None]]]:
    """Hold images that are about to be changed together, and open them so that nothing changes before `commit_images`.

    Yields them, each once, in the order of the paths, with what is to be called right before.

    Raises:
        RefusedError: another Narvet is at work on one, somebody uses it, or it is the base of others.
        ImageError: one is not sound, or a base is not to be trusted.
    """
    with ExitStack() as stack:
        real = list(dict.fromkeys(os.path.realpath(one) for one in paths))
        held = [stack.enter_context(held_image(Path(one), trust)) for one in real]
        for one in real:
            refuse_with_children(Path(one), ())
        stack.enter_context(budget(sum(link.facts.allocated for links, _ in held for link in links)))

        def check() -> None:
            for _, leased in held:
                leased.check()

        yield [stack.enter_context(staged_image(links)) for links, _ in held], check
