"""Images lent over the network: opened and held as long as it lasts, and closed as if they had never been open."""

from __future__ import annotations

import itertools
import os
import re
import socket
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.leases import lease
from narvet.block.publish import clear_folders
from narvet.formats.images.chain import Link, identify, open_links, opened_chain
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.held import held_image
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.formats.seals.keyring import opened
from narvet.formats.volumes import places_over
from narvet.ground.errors import RefusedError, RequestError
from narvet.ground.units import show_binary
from narvet.ground.values import Frozen
from narvet.lending.certificates import Certificates
from narvet.lending.contract import Client, Lent, OnClient, OneForAll, Shelf
from narvet.lending.iscsi.chap import Logins
from narvet.lending.iscsi.target import IscsiSpeaker
from narvet.lending.nbd.speaker import NbdSpeaker
from narvet.lending.server import Address, Server
from narvet.lending.visit import Speaker
from narvet.model.estate import DEFAULT_SECTOR_SIZE
from narvet.observe.images import survey
from narvet.usecases.branch import branch

Place = int | str | None
"""A partition by its number, a volume by its name with that of its pool, or the whole disk."""


class OverNbd(Frozen):
    """Lending over NBD, each image a disk of its own; with `certificates` every connection is sealed."""

    certificates: Certificates | None = None

    def speaker(self, shelf: Shelf) -> Speaker:
        """Return who speaks with the clients."""
        return NbdSpeaker(shelf, self.certificates)


class OverIscsi(Frozen):
    """Lending over iSCSI, the images as units 0 and on of one target; with `logins` only to those who know a secret."""

    target: str
    logins: Logins | None = None

    def speaker(self, shelf: Shelf) -> Speaker:
        """Return who speaks with the clients.

        Raises:
            RequestError: the target's name is none.
        """
        if not _TARGET.fullmatch(self.target):
            raise RequestError(
                f"{self.target}: this is no name of a target; give one like iqn.2026-11.org.example:vault, in small "
                "letters"
            )
        return IscsiSpeaker(shelf, self.target, self.logins)


_TARGET = re.compile(
    r"(iqn\.\d{4}-\d{2}\.[a-z0-9.-]+(:[a-z0-9.:-]+)?|eui\.[0-9a-f]{16}|naa\.[0-9a-f]{16}([0-9a-f]{16})?)"
)


class LendWishes(Frozen):
    """How images are lent.

    `child_each` is a folder in which each client gets a child of its own, in `child_format`; it is thrown away once the
    client goes, unless `keep`. `bases` may lie elsewhere than beside their children. `sector_size` is bytes, where an
    image does not record them; None lets its content tell.
    """

    read_only: bool = False
    image_format: str | None = None
    bases: tuple[Path, ...] = ()
    child_each: Path | None = None
    child_format: str = "qcow2"
    keep: bool = False
    sector_size: int | None = None


@contextmanager
def lend(
    images: Sequence[tuple[Path, Place]],
    address: Address,
    heard: OnClient,
    wishes: LendWishes | None = None,
    over: OverNbd | OverIscsi | None = None,
) -> Iterator[Server]:
    """Lend images, or what is at a place on them, at an address as long as the context lasts.

    Raises:
        RequestError: there is no such image or place, two have one name, or nothing can listen at the address.
        ImageError: an image is not sound.
        RefusedError: somebody uses an image, or it is the base of others.
    """
    wishes = wishes or LendWishes()
    _check_folder(wishes)
    with ExitStack() as stack:
        shelf: Shelf
        names = _names(images)
        if wishes.child_each is None:
            shelf = OneForAll(
                {name: stack.enter_context(_lent(name, *one, wishes)) for name, one in zip(names, images, strict=True)}
            )
        else:
            shelf = ChildEach(wishes)
            for name, one in zip(names, images, strict=True):
                shelf.bases[name] = stack.enter_context(_base(name, *one, wishes))
        server = Server((over or OverNbd()).speaker(shelf), address, heard)
        stack.callback(server.end)
        server.start()
        yield server


def _names(images: Sequence[tuple[Path, Place]]) -> list[str]:
    """Return the names that images are lent by: those of their files, without the ending where that is enough.

    Raises:
        RequestError: two would have one name.
    """
    names = list[str]()
    for whole in (False, True):
        names = [(path.name if whole else path.stem) + ("" if place is None else f":{place}") for path, place in images]
        if len(set(names)) == len(names):
            return names
    twice = next(name for name in names if names.count(name) > 1)
    raise RequestError(f"{twice}: two images have this name; lend them by calls of their own")


@contextmanager
def _lent(name: str, image: Path, place: Place, wishes: LendWishes) -> Iterator[Lent]:
    """Hold an image, and open it for everybody who takes it."""
    trust = trust_of_call(image, wishes.image_format, wishes.bases)
    sector_size = _sector_size(image, trust, wishes.sector_size)
    with ExitStack() as stack:
        if wishes.read_only:
            device, links = stack.enter_context(_to_be_read(image, trust, sector_size))
        else:
            links, leased = stack.enter_context(held_image(Path(os.path.realpath(image)), trust))
            refuse_with_children(Path(os.path.realpath(image)), ())
            device = stack.enter_context(open_links(links, sector_size, writable=True))
            leased.check()
        inner = _at(image, place, device, sector_size)
        identity = f"{_machine()}\0{os.path.realpath(image)}\0{place}"
        lent = Lent(name, inner, _about(inner, links[0]), read_only=wishes.read_only, identity=identity)
        yield lent
        lent.flush()


def _machine() -> str:
    """Return what tells this machine from others, so that their disks are never taken for the same one."""
    with suppress(OSError):
        return Path("/etc/machine-id").read_text("ascii", "replace").strip() or socket.gethostname()
    return socket.gethostname()


def _sector_size(image: Path, trust: Trust, told: int | None) -> int:
    """Return the bytes of a disk's sectors: as its image records them, as they are told, or as its content has them."""
    known = identify(image, trust).facts.sector_size or told
    return known or survey(str(image), deep=False, trust=trust).image.sector_size or DEFAULT_SECTOR_SIZE


@contextmanager
def _to_be_read(image: Path, trust: Trust, sector_size: int) -> Iterator[tuple[BlockDevice, tuple[Link, ...]]]:
    with opened_chain(image, trust) as found, lease(*(file for one in found.links for file in one.files), change=False):
        yield found.device(sector_size), found.links


def _at(image: Path, place: Place, device: BlockDevice, sector_size: int) -> BlockDevice:
    """Return what is at a place of a disk, unsealed where a passphrase opens it.

    Raises:
        RequestError: there is no such place.
        RefusedError: it is sealed, and no passphrase opens it.
    """
    if place is None:
        return device
    there = dict(places_over([device], [sector_size]))
    if place not in there:
        known = ", ".join(str(one) for one in there if one) or "no partitions"
        raise RequestError(f"{image}: there is no {place} on it; it has {known}")
    found = opened(there[place], f"{image}:{place}")
    if found is None:
        raise RefusedError(f"{image}:{place}: it is sealed, and no passphrase that was given opens it")
    return found


def _about(device: BlockDevice, link: Link) -> str:
    return f"{show_binary(device.size)}, {link.kind.name}"


class _Base(Frozen):
    """An image of which each client gets a child."""

    image: Path
    place: Place
    looked_at: Lent


@contextmanager
def _base(name: str, image: Path, place: Place, wishes: LendWishes) -> Iterator[_Base]:
    trust = trust_of_call(image, wishes.image_format, wishes.bases)
    sector_size = _sector_size(image, trust, wishes.sector_size)
    with _to_be_read(image, trust, sector_size) as (device, links):
        inner = _at(image, place, device, sector_size)
        yield _Base(image, place, Lent(name, inner, f"{_about(inner, links[0])}, a child for each", is_shared=False))


@dataclass
class ChildEach:
    """Images of which each client has a child of its own, made when it comes."""

    wishes: LendWishes
    bases: dict[str, _Base] = field(default_factory=dict)
    _numbers: Iterator[int] = field(default_factory=lambda: itertools.count(1), repr=False)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what can be lent."""
        return tuple(self.bases)

    def about(self, name: str) -> Lent | None:
        """Return the base, to be looked at only; without a name the only one there is."""
        if not name and len(self.bases) == 1:
            return next(iter(self.bases.values())).looked_at
        return self.bases[name].looked_at if name in self.bases else None

    @contextmanager
    def lend(self, name: str, client: Client) -> Iterator[Lent]:
        """Make a child for a client, and have it closed, and thrown away unless it is to be kept, once that goes."""
        looked_at = self.about(name)
        if looked_at is None or self.wishes.child_each is None:
            raise KeyError(name)
        base = self.bases[looked_at.name]
        del client
        child = self._made(base, self.wishes.child_each)
        wishes = LendWishes(bases=(*self.wishes.bases, base.image), sector_size=self.wishes.sector_size)
        try:
            with _lent(child.name, child, base.place, wishes) as lent:
                yield lent
        finally:
            if not self.wishes.keep:
                with suppress(OSError):
                    child.unlink()

    def _made(self, base: _Base, folder: Path) -> Path:
        """Make a child under a name that nothing has."""
        while True:
            child = folder / f"{base.image.stem}-{next(self._numbers)}.{self.wishes.child_format}"
            if not os.path.lexists(child):
                bases = self.wishes.bases
                branch(base.image, child, image_format=self.wishes.image_format, bases=bases)
                return child


def _check_folder(wishes: LendWishes) -> None:
    """Raise RequestError unless children can be made in the folder that is named for them."""
    folder = wishes.child_each
    if folder is not None and not folder.is_dir():
        raise RequestError(f"{folder}: there is no such folder for the children; make it, or name another")
    if folder is not None:
        clear_folders(folder / "any")
