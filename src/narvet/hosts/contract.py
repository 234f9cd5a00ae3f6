"""What a door to a guest's hypervisor does: shows what is plugged in, plugs in, takes out, announces a larger disk."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from narvet.model.layout import PlannedDisk
    from narvet.model.plugs import DoorState, Plug, Plugged


class Door(Protocol):
    """An open door to one guest."""

    def state(self) -> DoorState:
        """Return what is plugged in now.

        Raises:
            RefusedError: the hypervisor does not answer, or says something that is not understood.
        """

    def obstacle(self, disk: PlannedDisk) -> str:
        """Return why a disk cannot be plugged in here as things are, with the way out; nothing if it can."""

    def plug(self, disk: PlannedDisk) -> Plugged:
        """Plug a disk in and return how it shows afterwards; what an interruption left of an earlier try goes first.

        Raises:
            RefusedError: the hypervisor refused; nothing of the disk is left there.
        """

    def unplug(self, there: Plugged, seconds: float) -> None:
        """Take a disk out, and wait for as long as that for the guest to let it go.

        Raises:
            RefusedError: the guest does not let go of it, or the hypervisor refused.
        """

    def tidy(self) -> None:
        """Close images that Narvet had opened there and no device reads any more: what an interruption left.

        Raises:
            RefusedError: the hypervisor refused.
        """

    def enlarge(self, there: Plugged, size: int) -> None:
        """Make the image of a disk that is plugged in larger, to `size` bytes, and tell the guest.

        Raises:
            RefusedError: the hypervisor cannot do that with such an image.
        """

    def is_outdated(self, disk: PlannedDisk, there: Plugged) -> bool:
        """Return whether something can be changed of a disk while it is plugged in, and is not as asked."""

    def renew(self, disk: PlannedDisk, there: Plugged) -> None:
        """Bring what can be changed of a disk while it is plugged in to what is asked.

        Raises:
            RefusedError: the hypervisor refused.
        """


class DoorKind(Protocol):
    """A kind of door. `name` is the sheet's key for it."""

    name: str

    def unkept(self, plug: Plug) -> Iterator[str]:
        """Yield the keys of a disk that say something which this kind cannot pass on."""

    def look(self, place: Path, guest: str) -> DoorState:
        """Return what is seen of the guest of that name, also that it is off, or that the door does not open."""

    def open(self, place: Path, guest: str) -> AbstractContextManager[Door]:
        """Return the door, held for this process alone until the context ends.

        Raises:
            RefusedError: it does not open.
        """
