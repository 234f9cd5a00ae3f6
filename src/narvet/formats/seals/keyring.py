"""The passphrases that a call may use, and the keys that they opened; nothing of it is ever written down.

Whatever reads a sealed volume asks here. Without a keyring, or without the right passphrase, what is inside stays
unknown.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, MutableMapping
from contextlib import AbstractContextManager, contextmanager, nullcontext
from contextvars import ContextVar
from dataclasses import dataclass, field
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.seals.device import SealedDevice
from narvet.formats.seals.header import Seal
from narvet.formats.seals.keys import cost_of, file_key, recovery_key
from narvet.formats.seals.volume import add_file_key, drop_key, inside, key_of, make_seal, read_seal, write_headers
from narvet.ground.errors import RefusedError, RequestError
from narvet.ground.values import replace

LONGEST = 512
"""Bytes of a passphrase that guests take."""

Ask = Callable[[str, bool], bytes | None]
"""Asks for the passphrase of something by its name, a new one or one that it has; None where nobody answers."""
Keep = Callable[[str, str], object]
"""Keeps the recovery key of something that was sealed, before that has its name."""


@dataclass
class Keyring:
    """Passphrases that were given, how others are asked for, and where recovery keys go.

    What several processes have to share are the tables of what was opened, and whose turn it is to try a passphrase,
    which takes much memory.
    """

    given: list[bytes] = field(default_factory=list, repr=False)
    ask: Ask = lambda _, __: None
    keep: Keep | None = None
    turn: Callable[[], AbstractContextManager[object]] = nullcontext
    keys: MutableMapping[bytes, bytes] = field(default_factory=dict, repr=False)
    files: MutableMapping[str, bytes] = field(default_factory=dict, repr=False)
    _asked: set[bytes] = field(default_factory=set, repr=False)

    def key(self, device: BlockDevice, seal: Seal, name: str) -> bytes | None:
        """Return the key of a sealed volume, None where no passphrase opens it."""
        mark = seal.digest.digest + seal.digest.salt
        if mark in self.keys or mark in self._asked:
            return self.keys.get(mark)
        with self.turn():
            if mark not in self.keys:
                self._open(device, seal, name)
        self._asked.add(mark)
        return self.keys.get(mark)

    def _open(self, device: BlockDevice, seal: Seal, name: str) -> None:
        """Try every passphrase on a sealed volume, and remember its key if one opens it."""
        for passphrase in self._tried(name):
            found = key_of(device, seal, passphrase)
            if found is not None:
                self.remember(seal, found[0])
                if passphrase not in self.given:
                    self.given.append(passphrase)
                return

    def _tried(self, name: str) -> Iterator[bytes]:
        yield from list(self.given)
        asked = self.ask(name, False)
        if asked is not None:
            yield asked

    def new(self, name: str) -> bytes:
        """Return the passphrase for something that is to be sealed.

        Raises:
            RequestError: none was given, and nobody answers.
        """
        found = self.given[0] if self.given else self.ask(name, True)
        if found is None:
            raise RequestError(
                f"{name} is to be sealed: put its passphrase into a file and add --passphrase-file FILE, or into the "
                "environment as NARVET_PASSPHRASE"
            )
        if not 1 <= len(found) <= LONGEST:
            raise RequestError(f"the passphrase has {len(found)} bytes; from 1 to {LONGEST} are taken")
        if found not in self.given:
            self.given.append(found)
        return found

    def remember(self, seal: Seal, key: bytes) -> None:
        """Keep the key of something that is open now, or was sealed just now."""
        self.keys[seal.digest.digest + seal.digest.salt] = key
        if seal.file_key is not None:
            self.files[seal.uuid] = file_key(key, seal.file_key.salt)

    def file(self, uuid: str) -> bytes | None:
        """Return what the key file of a sealed volume is to hold, None where its key is not known."""
        return self.files.get(uuid)


_current: ContextVar[Keyring | None] = ContextVar("keyring", default=None)


@contextmanager
def unsealing(ring: Keyring) -> Iterator[Keyring]:
    """Have sealed volumes opened by a keyring while the context lasts."""
    token = _current.set(ring)
    try:
        yield ring
    finally:
        _current.reset(token)


def have_keyring(ring: Keyring) -> None:
    """Have sealed volumes opened by a keyring from now on, in a process that does nothing else."""
    _current.set(ring)


def keyring() -> Keyring:
    """Return the keyring that is set, an empty one if none is."""
    return _current.get() or Keyring()


def unsealed(device: BlockDevice, seal: Seal, name: str = "") -> SealedDevice | None:
    """Return what is inside a sealed volume, None where no passphrase opens it; `name` is what it is called."""
    key = keyring().key(device, seal, name or f"the sealed volume {seal.uuid}")
    return inside(device, seal, key) if key is not None else None


def opened(device: BlockDevice, name: str = "") -> BlockDevice | None:
    """Return a device as it is, or what is inside if it is sealed, None where no passphrase opens that.

    Raises:
        ImageError: its header is not sound.
    """
    seal = read_seal(device)
    return device if seal is None else unsealed(device, seal, name)


def change_file_key(device: BlockDevice, name: str, *, wanted: bool) -> None:
    """Give a sealed volume a key for a file in its guest's root, or take that away.

    Raises:
        RefusedError: no passphrase opens it.
        RequestError: there is no free slot.
    """
    seal = read_seal(device)
    if seal is None or (seal.file_key is not None) == wanted:
        return
    key = keyring().key(device, seal, name)
    if key is None:
        raise RefusedError(f"{name}: it is sealed, and no passphrase that was given opens it; nothing was changed")
    if wanted:
        seal = add_file_key(device, seal, key)
    elif seal.file_key is not None:
        seal = drop_key(device, seal, seal.file_key.slot)
    write_headers(device, replace(seal, seqid=seal.seqid + 1))
    keyring().remember(seal, key)


def seal_new(
    device: BlockDevice, wanted: Seal, name: str, cost: tuple[int | None, int | None], *, for_file: bool
) -> SealedDevice:
    """Seal a device by the passphrase that the keyring has for it, and by a recovery key; return what is inside.

    `cost` is what trying a passphrase is to cost: bytes of memory, and passes. `for_file` adds a key for a file.

    Raises:
        RequestError: there is no passphrase.
    """
    ring, spare = keyring(), recovery_key()
    passphrases = (ring.new(name), spare.encode())
    if ring.keep is not None:
        ring.keep(name, spare)
    kdf = cost_of(memory=cost[0], passes=cost[1])
    about = str(UUID(wanted.uuid)), wanted.label, wanted.sector_size
    with ring.turn():
        seal, key = make_seal(device, *about, kdf, passphrases, for_file=for_file)
    ring.remember(seal, key)
    return inside(device, seal, key)
