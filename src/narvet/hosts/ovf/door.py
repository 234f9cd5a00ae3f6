"""Disks put into a guest's description in OVF, and taken out again; its manifest is kept in step."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.publish import replace_content
from narvet.ground.errors import NarvetError, RefusedError, RequestError
from narvet.hosts.ovf.envelope import FORMATS, Drive, Envelope, NewDrive
from narvet.hosts.ovf.manifest import digest, digest_of, manifest_text, method_of, read_manifest
from narvet.model.controllers import slot_text
from narvet.model.layout import PlannedDisk
from narvet.model.plugs import DoorState, Plug, Plugged, Rates

_PACKAGE = ".ova"
_LARGEST = 32 << 20


class OvfDoor:
    """The description of one guest, in a file beside its images or near them."""

    def __init__(self, place: Path, guest: str) -> None:
        self._place, self._guest = place, guest
        self._folder = place.resolve().parent
        self._envelope = _read(place, guest)

    def state(self) -> DoorState:
        """Return the drives that are described."""
        drives = tuple(self._plugged(one) for one in self._envelope.drives() if one.file_id)
        return DoorState(KIND, str(self._place), is_open=True, plugged=drives)

    def _plugged(self, drive: Drive) -> Plugged:
        path = os.path.realpath(self._folder / drive.href) if drive.href and ":" not in drive.href else ""
        return Plugged(path, f"drive {drive.instance}", drive.slot)

    def obstacle(self, disk: PlannedDisk) -> str:
        """Return why a disk cannot be put into the description."""
        signed = self._place.with_suffix(".cert")
        if signed.exists():
            return f"{signed} signs the description as it is; remove it, as any change makes it void"
        if disk.wanted.image.base is not None or (disk.origin is not None and disk.origin.how == "child"):
            return "a description refers to whole images; fold the child into its base, or recast it"
        if disk.wanted.image.format == "vmdk" and disk.spec.pieces is not None:
            return "a description refers to images of one file; recast it without pieces"
        try:
            self._envelope.with_drive(self._new(disk))
        except NarvetError as error:
            return str(error)
        return ""

    def _new(self, disk: PlannedDisk) -> NewDrive:
        path, image = Path(disk.path).resolve(), disk.wanted.image
        if disk.plug.slot is None:
            raise RequestError("the guest has no slot left; give it another controller")
        return NewDrive(
            name=disk.name,
            slot=disk.plug.slot,
            href=Path(os.path.relpath(path, self._folder)).as_posix(),
            size=path.stat().st_size,
            capacity=disk.size,
            format=FORMATS["packed vmdk" if disk.spec.packed else image.format],
        )

    def plug(self, disk: PlannedDisk) -> Plugged:
        """Put a disk into the description, and its image and the new description into the manifest."""
        new = self._new(disk)
        self._become(self._envelope.with_drive(new), {new.href: Path(disk.path)})
        there = next((one for one in self.state().plugged if one.slot == new.slot), None)
        if there is None or there.path != str(Path(disk.path).resolve()):
            raise RefusedError(
                f"{self._place}: the disk does not show at {slot_text(new.slot)}, though it was put there"
            )
        return there

    def _become(self, text: bytes, added: dict[str, Path], *, gone: str = "") -> None:
        """Replace the description and its manifest.

        A disk is put into the description first, and out of the manifest first, so that the next call knows from what
        was left by a cut between the two which description the manifest is of.
        """
        manifest = self._place.with_suffix(".mf")
        digests = read_manifest(manifest)
        if digests is not None:
            self._check(digests, manifest, text)
            method = method_of(digests)
            digests |= {name: (method, digest_of(method, path)) for name, path in added.items()}
            digests.pop(gone, None)
            digests[self._place.name] = (method, digest(method, text))
            if gone:
                replace_content(manifest, manifest_text(digests).encode())
        replace_content(self._place, text)
        if digests is not None and not gone:
            replace_content(manifest, manifest_text(digests).encode())
        self._envelope = _read(self._place, self._guest)

    def _check(self, digests: dict[str, tuple[str, str]], manifest: Path, text: bytes) -> None:
        """Raise RefusedError unless the manifest is of the description: this one, the one to be, or the one before."""
        method, value = digests.get(self._place.name, ("", ""))
        if not value or value in (digest(method, self._envelope.text), digest(method, text)):
            return
        before = (self._envelope.without_drive(one) for one in self._envelope.drives())
        if not any(digest(method, one) == value for one in before):
            raise RefusedError(
                f"{manifest}: it is not that of the description beside it, which somebody changed; see to that first"
            )

    def _is_in_manifest(self, digests: dict[str, tuple[str, str]]) -> bool:
        method, value = digests.get(self._place.name, ("", ""))
        return not digests or (bool(method) and digest(method, self._envelope.text) == value)

    def unplug(self, there: Plugged, seconds: float) -> None:  # noqa: ARG002 (the contract's: nobody has to let go)
        """Take a disk out of the description and the manifest."""
        for drive in self._envelope.drives():
            if f"drive {drive.instance}" == there.handle:
                others = {one.file_id for one in self._envelope.drives() if one.instance != drive.instance}
                gone = drive.href if drive.file_id not in others else ""
                self._become(self._envelope.without_drive(drive), {}, gone=gone)
                return

    def tidy(self) -> None:
        """Do nothing: nobody has an image open."""

    def enlarge(self, there: Plugged, size: int) -> None:  # noqa: ARG002 (the contract's)
        """Refuse: nobody runs that could make an image larger.

        Raises:
            RefusedError: always.
        """
        raise RefusedError(f"{self._place}: the guest is only described here; write the sheet, and attach again")

    def is_outdated(self, disk: PlannedDisk, there: Plugged) -> bool:
        """Return whether the description or its manifest tell of an earlier state of a disk's file."""
        text, href, path = self._renewed(disk, there)
        digests = read_manifest(self._place.with_suffix(".mf"))
        method, value = (digests or {}).get(href, ("", ""))
        fits = digests is None or (bool(value) and digest_of(method, path) == value)
        return text != self._envelope.text or not fits or not self._is_in_manifest(digests or {})

    def renew(self, disk: PlannedDisk, there: Plugged) -> None:
        """Say what a disk's file is now."""
        text, href, path = self._renewed(disk, there)
        self._become(text, {href: path})

    def _renewed(self, disk: PlannedDisk, there: Plugged) -> tuple[bytes, str, Path]:
        """Return the description with a disk's file as it is now, the file's name in it, and its path."""
        path = Path(disk.path)
        drive = next(one for one in self._envelope.drives() if f"drive {one.instance}" == there.handle)
        text = self._envelope.with_file(drive.file_id, size=path.stat().st_size, capacity=disk.size)
        return text, drive.href, path


def _read(place: Path, guest: str) -> Envelope:
    if place.suffix.lower() == _PACKAGE:
        raise RequestError(
            f"{place}: a package is unwrapped first, with narvet unwrap; its description is the door then"
        )
    with place.open("rb") as file:
        return Envelope(file.read(_LARGEST), str(place), guest)


class OvfDoorKind:
    """Doors to descriptions of guests."""

    name = "ovf"

    def unkept(self, plug: Plug) -> Iterator[str]:
        """Yield what a description has no words for."""
        told: dict[str, Callable[[Plug], bool]] = {
            "read_only": lambda one: one.read_only,
            "shared": lambda one: one.shared,
            "hold": lambda one: one.hold != "safe",
            "ceiling": lambda one: one.ceiling != Rates(),
            "floor": lambda one: one.floor != Rates(),
            "flash": lambda one: one.flash,
        }
        yield from (key for key, is_said in told.items() if is_said(plug))

    def look(self, place: Path, guest: str) -> DoorState:
        """Return what is described, or why the description cannot be read."""
        try:
            return OvfDoor(place, guest).state()
        except NarvetError as error:
            return DoorState(self.name, str(place), problem=str(error))
        except OSError as error:
            return DoorState(self.name, str(place), problem=f"{place}: {error.strerror or error}")

    @contextmanager
    def open(self, place: Path, guest: str) -> Iterator[OvfDoor]:
        """Hold the description for this process alone.

        Raises:
            RefusedError: another Narvet is at work on it.
            RequestError, ImageError: it is not a description, or not one of this guest.
        """
        with exclusive_lock(place):
            yield OvfDoor(place, guest)


KIND = OvfDoorKind.name
DOOR = OvfDoorKind()
