"""A host, as `narvet host` runs it: with the passphrases of its sealed disks where it is given any.

They are given where it runs, and stay there. What one of its processes opened is open to all of them, so trying a
passphrase costs its time and memory once for each volume.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator, MutableMapping, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from uuid import uuid4

from narvet.fleet import hub
from narvet.fleet.processes import end_with_parent
from narvet.formats.seals.keyring import Keyring, have_keyring
from narvet.formats.seals.recovery import RecoveryFile
from narvet.ground.errors import RequestError


@contextmanager
def host(
    name: str,
    folder: Path,
    hub_address: str,
    jobs: int | None = None,
    certificates: Path | None = None,
    *,
    passphrases: Sequence[bytes] = (),
    recovery: Path | None = None,
) -> Iterator[str]:
    """Do what a hub has for a host while the context lasts, in `jobs` processes, and only in a folder.

    With `passphrases` it seals disks, by the first of them, and opens sealed ones; recovery keys of new ones are added
    to the file `recovery`. It gives the address that it has, HOST:PORT.

    Raises:
        RequestError: there is no such folder, the address is none, or there is no file for recovery keys.
        RefusedError: no hub answers there.
    """
    if not passphrases:
        if recovery is not None:
            raise RequestError("--recovery is for what is sealed; add --passphrase-file FILE, or leave it out")
        with hub.host(name, folder, hub_address, jobs, certificates) as address:
            yield address
        return
    if recovery is None:
        raise RequestError(
            "with a passphrase this host seals disks; name the file for their recovery keys with --recovery FILE"
        )
    file = RecoveryFile(recovery.absolute())
    file.begin(again=True)
    with _shared() as (keys, files):
        begin = partial(_begin, list(passphrases), keys, files, file)
        with hub.host(name, folder, hub_address, jobs, certificates, begin) as address:
            yield address


@contextmanager
def _shared() -> Iterator[tuple[MutableMapping[bytes, bytes], MutableMapping[str, bytes]]]:
    """Give two tables that all processes of this host have; nothing of them lies in any file."""
    from multiprocessing import get_context
    from multiprocessing.managers import SyncManager

    nowhere = f"\0narvet-{uuid4().hex}" if sys.platform == "linux" else None
    manager = SyncManager(nowhere, ctx=get_context("spawn"))
    manager.start(end_with_parent)
    try:
        yield manager.dict(), manager.dict()
    finally:
        manager.shutdown()


def _begin(
    given: list[bytes], keys: MutableMapping[bytes, bytes], files: MutableMapping[str, bytes], file: RecoveryFile
) -> None:
    """Have a process of this host open and seal what it is given."""
    have_keyring(Keyring(given, keep=file.add, turn=file.turn, keys=keys, files=files))
