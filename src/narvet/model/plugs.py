"""How a disk is plugged into its guest: as a sheet asks for it, and as a hypervisor shows it. Pure values."""

from __future__ import annotations

from typing import Literal

from narvet.ground.values import Frozen
from narvet.model.controllers import Slot, controller_of, slot_text

Hold = Literal["safe", "fast", "direct"]
"""How the host holds back writes. Safe: in its memory until the guest asks for them to be stored. Direct: past its
memory. Fast: in its memory, and what the guest asks for is not waited for."""

HOLDS: tuple[Hold, ...] = ("safe", "fast", "direct")

MOST_OF_SERIAL = 20
"""Signs of a serial that every controller passes on: IDE and NVMe have room for 20 (ACS-3, section 7.12.7.10; NVM
Express 1.4, section 5.15.2.2)."""


class Rates(Frozen):
    """Operations and bytes a second, None for what is not said."""

    operations: int | None = None
    bytes: int | None = None


class Plug(Frozen):
    """How a disk is to be plugged in.

    `slot` is None where its guest has none left. `serial` is what the guest knows the disk by. `flash` is whether the
    guest is told that it does not rotate, `gives_back` whether what the guest no longer uses is passed down to the
    store. `ceiling` is the most that the disk may do, `floor` the least that it must always be able to do.
    """

    slot: Slot | None = None
    serial: str = ""
    read_only: bool = False
    shared: bool = False
    hold: Hold = "safe"
    ceiling: Rates = Rates()
    floor: Rates = Rates()
    flash: bool = False
    gives_back: bool = True

    @property
    def slot_name(self) -> str | None:
        """The slot as it is written."""
        return slot_text(self.slot) if self.slot is not None else None

    @property
    def guest_may_run(self) -> bool:
        """Whether the guest may run while the disk is plugged in or taken out."""
        return self.slot is not None and controller_of(self.slot).live


class Plugged(Frozen):
    """A disk that a door shows in a guest: by which file, where, as what.

    `path` is the file's real path, empty for a disk that is no file here. What the door does not tell is None. `handle`
    is what the door calls it.
    """

    path: str
    handle: str
    slot: Slot | None = None
    serial: str = ""
    size: int | None = None
    read_only: bool | None = None
    hold: Hold | None = None
    ceiling: Rates | None = None

    @property
    def where(self) -> str:
        """Where it is plugged in, for people."""
        return slot_text(self.slot) if self.slot is not None else self.handle


class DoorState(Frozen):
    """What is seen of a guest through its door.

    `kind` is the door's own name, `at` where it is. `is_open` is whether it could be asked, `runs` whether the guest
    does; `problem` says why it could not be asked although it should. `grows` are the formats of images that it makes
    larger while the guest runs.
    """

    kind: str
    at: str
    is_open: bool = False
    runs: bool = False
    plugged: tuple[Plugged, ...] = ()
    problem: str = ""
    grows: tuple[str, ...] = ()
