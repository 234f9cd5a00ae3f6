"""An image of one host that another host reads: lent over NBD for one step, to the one that was told its name.

Where there are no other hosts, the same is read where it lies.
"""

from __future__ import annotations

import hmac
import os
import queue
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from uuid import uuid4

from narvet.apply.copying import source_of
from narvet.apply.staging import rights_of
from narvet.block.contract import BlockDevice
from narvet.block.granules import Content, Digest, content_of, data_runs, fresh_key, whole_granules
from narvet.block.leases import Lease, Stamps, lease, stamps
from narvet.block.locks import exclusive_lock
from narvet.block.publish import recover
from narvet.block.resized import ResizedDevice
from narvet.fleet.claims import Run, claimed
from narvet.fleet.network import PEM_NAMES
from narvet.fleet.standing import standing, stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.formats.images.chain import identify, new_image_file, open_links
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.contract import ImageFormat, ImageSpec
from narvet.formats.images.trust import Trust
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import EndsWithDisk
from narvet.ground.errors import NarvetError, RefusedError
from narvet.ground.meter import copied, expected
from narvet.ground.offers import offers
from narvet.ground.values import Frozen, replace
from narvet.lending.certificates import Certificates
from narvet.lending.contract import Client, Lent, What
from narvet.lending.nbd.client import context_of, lent_disk
from narvet.lending.nbd.speaker import NbdSpeaker
from narvet.lending.server import Address, Server
from narvet.model.estate import NO_TABLE

_PATIENCE = 20.0  # seconds until somebody takes what is lent
_SILENCE = 300.0  # seconds without a request after which who took it is taken to be gone


class Lending(Frozen):
    """What is lent: the disk of the image at `path`, with sectors of so many bytes, as it would be with `size` bytes.

    A `size` of None leaves it as it is. With `moves` the image is about to go: nothing may stand on it, neither in its
    folder nor in `folders`, and no other Narvet gets it meanwhile.
    """

    path: str
    trust: Trust
    sector_size: int
    size: int | None = None
    moves: bool = False
    folders: tuple[str, ...] = ()


class Offer(Frozen):
    """A disk that is lent: where, under which name, and to whom its image's `rights` let it be read and written.

    `stamps` are those of the image's files. Without an address it is read where it lies, by this process.
    """

    lending: Lending
    rights: int
    stamps: Stamps = ()
    address: str = ""
    port: int = 0
    name: str = ""


@runs_elsewhere
def offer(lending: Lending, run: Run | None = None) -> Offer:
    """Lend an image until the one who takes it lets go of it; this returns once it can be taken.

    Raises:
        RequestError: there is no such image.
        RefusedError: somebody uses it, or others stand on it.
    """
    lending = replace(lending, trust=lending.trust.settled())
    if not standing().address:
        stay_inside(lending.path)
        with _held(lending) as device:
            return _offer(lending, device)
    told: queue.SimpleQueue[Offer | Exception] = queue.SimpleQueue()
    threading.Thread(target=_lend, args=(lending, run, told), name="offer", daemon=True).start()
    answer = told.get()
    if isinstance(answer, Exception):
        raise answer
    return answer


def _offer(lending: Lending, device: _HeldDevice) -> Offer:
    return Offer(lending, rights_of(Path(lending.path)), device.before)


@contextmanager
def taken(offered: Offer) -> Iterator[BlockDevice]:
    """Take a disk that was offered; flushing it tells whether nobody has written to it until then.

    Raises:
        RefusedError: it is not lent any more, or somebody uses it.
    """
    if not offered.address:
        with _held(offered.lending) as device:
            yield device
        return
    folder = standing().certificates
    context = None if folder is None else context_of(*(folder / name for name in PEM_NAMES))
    with lent_disk((offered.address, offered.port), offered.name, context) as disk:
        yield disk


@runs_elsewhere
def give_back(offered: Offer, run: Run | None = None) -> None:
    """Have what was offered lent no longer, as nobody will take it; nothing happens where it is not lent any more."""
    del run
    if offered.address:
        with suppress(RefusedError), taken(offered):
            pass


def receive(offered: Offer, built: Path, kind: ImageFormat, spec: ImageSpec) -> None:
    """Write a disk that was offered to a new image, and read that again: it must hold what came.

    Raises:
        RefusedError: it does not, the disk is not lent any more, or somebody wrote to it.
    """
    with taken(offered) as old, new_image_file(kind, built, spec) as new:
        if old.size != spec.size:
            raise RefusedError(f"{old.size} bytes are lent where {spec.size} are expected")
        runs, digest = list(whole_granules(old.extents(), old.size)), Digest(old.size, fresh_key())
        expected(sum(length for _, length in runs))
        for offset, data in data_runs(old, runs):
            new.write(offset, data)
            digest.add(offset, data)
            copied(len(data))
        old.flush()
    came = digest.content
    if content_at(built, kind.name, spec.sector_size, came.key) != came:
        raise RefusedError("what was written does not read back as it came")


def content_at(path: Path, format_name: str, sector_size: int, key: bytes) -> Content:
    """Return what the disk of an image of a format holds, which has no base, by the key of a comparison."""
    link = identify(path, Trust({os.path.realpath(path): format_name}))
    with open_links([link], sector_size) as device:
        return content_of(device, key)


@runs_elsewhere
def content_held(path: str, format_name: str, sector_size: int, run: Run | None = None) -> Content:
    """Return what the disk of an image holds, while nobody may write to it, by a new key.

    Raises:
        RequestError: there is no such image.
        RefusedError: somebody uses it.
    """
    stay_inside(path)
    with claimed(run), lease(Path(path), change=False) as held:
        content = content_at(Path(path), format_name, sector_size, fresh_key())
        held.check()
    return content


def at_size(device: BlockDevice, size: int | None, table: str) -> ResizedDevice:
    """Return a disk as it would be with `size` bytes, None for as many as it has: its table follows to its end."""
    seen = ResizedDevice(device, device.size if size is None else size)
    known: object = table_format(table) if table != NO_TABLE else None
    if seen.size != device.size and offers(known, EndsWithDisk):
        known.follow_end(seen, device.size)
    return seen


class _HeldDevice:
    """A disk that is read; flushing it tells whether its image is what it was, and nobody else has begun to use it."""

    def __init__(self, device: BlockDevice, files: tuple[Path, ...], held: Lease) -> None:
        self._files = files
        self.before = stamps(files)
        self._held = held
        self.size, self.sector_size = device.size, device.sector_size
        self.read, self.write, self.zero, self.extents = device.read, device.write, device.zero, device.extents

    def flush(self) -> None:
        """Raise RefusedError if somebody else uses the image, or has changed it."""
        self._held.check()
        if stamps(self._files) != self.before:
            raise RefusedError(f"{self._files[0]}: it was changed while it was being read; write again")


@contextmanager
def _held(lending: Lending) -> Iterator[_HeldDevice]:
    """Hold an image as it is to be lent."""
    stay_inside(lending.path)
    path = Path(os.path.realpath(lending.path))
    with ExitStack() as stack:
        if lending.moves:
            stack.enter_context(exclusive_lock(path))
            recover(path)
            refuse_with_children(path, lending.folders)
        source = source_of(path, lending.trust, lending.sector_size)
        if lending.moves and len(source.links) > 1:
            raise RefusedError(f"{path}: it is a child of {source.links[1].path}; fold it before it is moved")
        held = stack.enter_context(lease(*source.files, change=False))
        device = stack.enter_context(open_links(source.links, lending.sector_size))
        yield _HeldDevice(at_size(device, lending.size, source.found.table), source.files, held)


class _LentAfar(Lent):
    """A disk of which a flush tells whether nobody has written to it."""

    def flush(self) -> None:
        """Raise RefusedError if somebody has."""
        self._device.flush()


class _ForOne:
    """What is lent to the first one who knows its name; it is let go of before that one hears that it may go."""

    def __init__(self, lent: Lent, stack: ExitStack) -> None:
        self._lent = lent
        self._stack = stack
        self._guard = threading.Lock()
        self._is_taken = False

    names = ()

    def about(self, name: str) -> Lent | None:
        """Return the disk for its name, as long as nobody has taken it."""
        is_known = hmac.compare_digest(name.encode(), self._lent.name.encode())
        return self._lent if is_known and not self._is_taken else None

    @contextmanager
    def lend(self, name: str, client: Client) -> Iterator[Lent]:
        """Lend it once."""
        del client
        with self._guard:
            if self.about(name) is None:
                raise KeyError(name)
            self._is_taken = True
        with self._stack:
            yield self._lent


def _lend(lending: Lending, run: Run | None, told: queue.SimpleQueue[Offer | Exception]) -> None:
    """Lend an image until who took it has gone, says nothing any more, or nobody comes."""
    here, gone = standing(), threading.Event()

    def heard(what: What, client: Client, why: str) -> None:
        del why
        if what in ("went", "refused") and client.disk:
            gone.set()

    try:
        with ExitStack() as stack:
            stack.enter_context(claimed(run))
            device = stack.enter_context(_held(lending))
            name = uuid4().hex
            shelf = _ForOne(_LentAfar(name, device, read_only=True), stack)
            folder = here.certificates
            ca, cert, key = (None if folder is None else folder / one for one in PEM_NAMES)
            sealing = Certificates(cert, key, ca) if cert is not None and key is not None else None
            server = Server(NbdSpeaker(shelf, sealing), Address(here.address), heard)
            server.start()
            told.put(replace(_offer(lending, device), address=here.address, port=server.address.port, name=name))
            try:
                _wait(server, gone)
            finally:
                server.end()
    except (NarvetError, OSError) as error:
        told.put(error)


def _wait(server: Server, gone: threading.Event) -> None:
    """Return once who took a disk has gone, or asks for nothing any more."""
    asked, since = -1, time.monotonic()
    while not gone.wait(1):
        now = sum(client.requests for client in list(server.clients.values()))
        if now != asked:
            asked, since = now, time.monotonic()
        elif time.monotonic() - since > (_SILENCE if asked else _PATIENCE):
            return
