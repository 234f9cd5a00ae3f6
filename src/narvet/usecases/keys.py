"""The keys of a sealed volume: listed, added, changed, removed; its headers put back from a copy.

Before each change the headers are copied to a file of their own. The last key stays, and what is done is known to leave
one that somebody has: whoever removes a key must open the volume by another.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import Literal

from narvet.block.contract import BlockDevice
from narvet.block.memory import MemoryDevice
from narvet.block.names import sync_folder
from narvet.formats.images.chain import commit_images, devices_of, opened_chain
from narvet.formats.images.held import staged_images
from narvet.formats.images.trust import trust_of_call
from narvet.formats.seals.header import Seal
from narvet.formats.seals.keyring import keyring
from narvet.formats.seals.keys import cost_of, recovery_key
from narvet.formats.seals.volume import add_key, drop_key, key_of, read_seal, write_headers
from narvet.formats.volumes import places_over, sealed_over
from narvet.ground.errors import ImageError, RefusedError, RequestError
from narvet.ground.units import MIB
from narvet.ground.values import Frozen, replace

_MOST_COPY = 64 * MIB  # bytes of headers that are copied
_PIECE = 1 << 20


class KeyChange(Frozen):
    """What becomes of the keys: one more by `passphrase`, None for a recovery key; or the one in a `slot` goes.

    `change` puts a new key in the place of the one that opened the volume. `memory` is bytes that a new one costs,
    `passes` how often it goes over them; None leaves both to this machine.
    """

    what: Literal["add", "recovery", "change", "remove"]
    passphrase: bytes | None = None
    slot: int | None = None
    memory: int | None = None
    passes: int | None = None


class Keys(Frozen):
    """The keys of a sealed volume: which it is, its header, what was done, the copy of the headers as they were."""

    image: str
    place: int | str
    seal: Seal
    did: str = ""
    recovery: str = ""
    backup: str = ""


def keys(
    image: Path,
    *,
    place: int | str | None = None,
    change: KeyChange | None = None,
    backup: Path | None = None,
    members: Sequence[Path] = (),
    image_format: str | None = None,
    dry: bool = False,
) -> Keys:
    """Return the keys of a sealed volume of an image, once they are changed if they are to be.

    `place` is the number of its partition, or its name in a pool with that of the pool; it may be left out where just
    one is sealed. `members` are further images that its pool lies on. `backup` is where the headers are copied to
    before; beside the image if it is None.

    Raises:
        RequestError: there is no such volume, or it cannot be changed so.
        RefusedError: no passphrase opens it, or somebody uses the image.
    """
    trust = trust_of_call(image, image_format, (), by_content=True)
    if change is None:
        with ExitStack() as stack:
            opened = [stack.enter_context(opened_chain(one, trust, changed_too=True)) for one in (image, *members)]
            where, _, seal = _chosen(image, *devices_of(opened), place)
            return Keys(str(image), where, seal)
    with staged_images((image, *members), trust) as (staged, check):
        where, device, seal = _chosen(image, *devices_of([one.chain for one in staged]), place)
        before = _headers(device, seal)
        after, did, spare = _changed(device, seal, change, f"{image}:{where}")
        if dry:
            return Keys(str(image), where, after, did)
        copy = backup or image.with_name(f"{image.name}.{where}.seal-{seal.seqid}")
        _keep(copy, before)
        device.flush()
        commit_images(staged, check)
    return Keys(str(image), where, after, did, spare, str(copy))


def _chosen(
    image: Path, devices: Sequence[BlockDevice], sizes: Sequence[int], place: int | str | None
) -> tuple[int | str, BlockDevice, Seal]:
    found = list(sealed_over(devices, sizes))
    own = [one for one in found if place in (None, one[0])]
    if len(own) == 1:
        return own[0]
    there = ", ".join(str(one[0]) for one in found)
    if not own:
        which = f"sealed are {there}" if there else "nothing on it is sealed"
        raise RequestError(f"{image}: there is no sealed volume{'' if place is None else f' at {place}'}; {which}")
    raise RequestError(f"{image}: several volumes are sealed, {there}; say which, such as {image}:{own[0][0]}")


def _changed(device: BlockDevice, seal: Seal, change: KeyChange, name: str) -> tuple[Seal, str, str]:
    """Change the keys on a device that is staged; return the volume with them, what was done, and a recovery key."""
    if seal.version != 2:
        raise RequestError(f"{name}: it is sealed by version 1 of the format, which is only read")
    if seal.why_locked:
        raise RequestError(f"{name}: {seal.why_locked}; let its guest do it")
    numbers = [one.number for one in seal.slots]
    if change.what == "remove" and change.slot not in numbers:
        raise RequestError(f"{name}: there is no key {change.slot}; it has {', '.join(map(str, numbers))}")
    if change.what == "remove" and len(numbers) == 1:
        raise RequestError(f"{name}: it has one key only, and the last one stays; add another first")
    key, slot = _opened(device, seal, name, change.slot if change.what == "remove" else None)
    becomes, spare, new = seal, "", change.passphrase
    if change.what != "remove":
        spare = recovery_key() if new is None else ""
        cost = cost_of(memory=change.memory, passes=change.passes)
        becomes = add_key(device, becomes, key, cost, new if new is not None else spare.encode())
    gone = change.slot if change.what == "remove" else slot if change.what == "change" else None
    if gone is not None:
        becomes = drop_key(device, becomes, gone)
    becomes = replace(becomes, seqid=seal.seqid + 1, damaged="")
    write_headers(device, becomes)
    added = [one.number for one in becomes.slots if one.number not in numbers]
    did = [f"key {one} added" for one in added] + ([f"key {gone} removed"] if gone is not None else [])
    read = read_seal(device)
    if read is None or read.slots != becomes.slots or key_of_added(device, read, change, spare) != key:
        raise ImageError(f"{name}: the headers would not read as they are to; nothing was changed")
    return becomes, ", ".join(did), spare


def key_of_added(device: BlockDevice, seal: Seal, change: KeyChange, spare: str) -> bytes | None:
    """Return the key that what was added opens; where nothing was added, that which the keyring opens."""
    words = change.passphrase if change.passphrase is not None else spare.encode()
    if change.what == "remove":
        return keyring().key(device, seal, "")
    found = key_of(device, seal, words)
    return found[0] if found else None


def _opened(device: BlockDevice, seal: Seal, name: str, but: int | None) -> tuple[bytes, int]:
    """Return the volume's key, and the slot that a passphrase opened, which is not the one that is to go.

    Raises:
        RefusedError: no passphrase opens one.
    """
    rest = replace(seal, slots=tuple(one for one in seal.slots if one.number != but))
    ring = keyring()
    for passphrase in ring.given:
        found = key_of(device, rest, passphrase)
        if found is not None:
            ring.remember(seal, found[0])
            return found
    asked = ring.ask(name, False)
    found = key_of(device, rest, asked) if asked is not None else None
    if found is None:
        what = "it" if but is None else "a key other than the one that is to go"
        raise RefusedError(f"{name}: no passphrase that was given opens {what}; add --unseal to be asked for one")
    ring.remember(seal, found[0])
    return found


def _headers(device: BlockDevice, seal: Seal) -> bytes:
    return device.read(0, min(seal.offset, _MOST_COPY))


def _keep(copy: Path, data: bytes) -> None:
    """Write headers to a new file that only its owner reads, on stable storage; what is zeros stays a hole."""
    try:
        handle = os.open(copy, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_NOFOLLOW, 0o600)
    except OSError as error:
        raise RequestError(
            f"{copy}: {error.strerror}; name another file for the copy of the headers, --backup"
        ) from None
    with os.fdopen(handle, "wb") as file:
        file.truncate(len(data))
        for at in range(0, len(data), _PIECE):
            part = data[at : at + _PIECE]
            if any(part):
                file.seek(at)
                file.write(part)
        file.flush()
        os.fsync(file.fileno())
    sync_folder(copy.absolute().parent)


def put_back(
    image: Path, copy: Path, *, place: int | str | None = None, members: Sequence[Path] = (), dry: bool = False
) -> Keys:
    """Put the headers of a sealed volume back from a copy: its keys are then those that it had when that was made.

    `place` and `members` are as for `keys`; a partition of which neither header reads has to be named.

    Raises:
        RequestError: the copy is none, or is of another volume.
        RefusedError: somebody uses the image.
    """
    data = _read_copy(copy)
    memory = MemoryDevice(len(data))
    memory.write(0, data)
    kept = read_seal(memory)
    if kept is None or kept.version != 2 or kept.offset > len(data):
        raise RequestError(f"{copy}: this is no copy of the headers of a sealed volume")
    trust = trust_of_call(image, None, (), by_content=True)
    with staged_images((image, *members), trust) as (staged, check):
        places = dict(places_over(*devices_of([one.chain for one in staged])))
        where = place if place is not None else _place_of(kept, places)
        if where is None or where not in places:
            raise RequestError(f"{image}: say which partition or volume the headers are of, such as {image}:1")
        device = places[where]
        there = None
        with suppress(ImageError):
            there = read_seal(device)
        if (there is not None and there.uuid != kept.uuid) or device.size < kept.offset:
            raise RequestError(f"{copy}: these are the headers of another volume than {image}:{where}")
        if not dry:
            device.write(0, data[: kept.offset])
            device.flush()
            commit_images(staged, check)
    return Keys(str(image), where, kept, "headers put back")


def _place_of(kept: Seal, places: Mapping[int | str, BlockDevice]) -> int | str | None:
    for place, device in places.items():
        with suppress(ImageError):
            there = read_seal(device)
            if there is not None and there.uuid == kept.uuid:
                return place
    return None


def _read_copy(copy: Path) -> bytes:
    try:
        with copy.open("rb") as file:
            data = file.read(_MOST_COPY + 1)
    except OSError as error:
        raise RequestError(f"{copy}: {error.strerror}; name a copy of headers") from None
    if len(data) > _MOST_COPY:
        raise RequestError(f"{copy}: this is too large for a copy of the headers of a sealed volume")
    return data
