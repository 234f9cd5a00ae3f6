"""A lent disk as a logical unit: its number, who it says it is, and what holds between it and each initiator."""

from __future__ import annotations

import hashlib
import threading

from narvet.lending.contract import Lent
from narvet.lending.scsi.sense import WAS_RESET, CheckError, Sense

Nexus = object
"""An initiator's session with the target (an I_T nexus): told apart by identity."""


class Unit:
    """A logical unit; `number` is its LUN, 0 to 16383, `blocks` its count of logical blocks.

    Sessions of several threads may use it at once.
    """

    def __init__(self, number: int, disk: Lent) -> None:
        self.number = number
        self.disk = disk
        digest = hashlib.sha256(b"unit\0" + disk.identity.encode("utf-8", "surrogateescape")).digest()
        self.serial = digest[:10].hex()
        # NAA "locally assigned" (SPC-4, 7.8.6.6): four bits that say so, and sixty of our own.
        self.naa = bytes([0x30 | digest[10] & 0x0F]) + digest[11:18]
        self.sector_size = disk.sector_size
        self.blocks = disk.size // self.sector_size
        self._guard = threading.Lock()
        self._holder: Nexus | None = None
        self._attentions: dict[int, Sense] = {}
        self._nexuses: dict[int, Nexus] = {}

    def meet(self, nexus: Nexus) -> None:
        """Hear that a session begins."""
        with self._guard:
            self._nexuses[id(nexus)] = nexus

    def part(self, nexus: Nexus) -> None:
        """Hear that a session has ended: what it reserved is free."""
        with self._guard:
            self._nexuses.pop(id(nexus), None)
            self._attentions.pop(id(nexus), None)
            if self._holder is nexus:
                self._holder = None

    def reset(self) -> None:
        """End the reservation, and have every session hear of it once (SAM-5, 6.3.2)."""
        with self._guard:
            self._holder = None
            self._attentions = dict.fromkeys(self._nexuses, WAS_RESET)

    def reserve(self, nexus: Nexus) -> bool:
        """Reserve the unit for a session; return whether it is now (SPC-2, 7.21)."""
        with self._guard:
            if self._holder is None:
                self._holder = nexus
            return self._holder is nexus

    def release(self, nexus: Nexus) -> None:
        """Give up a reservation; nothing happens where it is another session's."""
        with self._guard:
            if self._holder is nexus:
                self._holder = None

    @property
    def is_free(self) -> bool:
        """Whether no session has reserved the unit, and none has anything to hear."""
        return self._holder is None and not self._attentions

    def is_held_from(self, nexus: Nexus) -> bool:
        """Return whether another session has reserved the unit."""
        return self._holder is not None and self._holder is not nexus

    def check_attention(self, nexus: Nexus) -> None:
        """Raise CheckError once with what a session has to hear before anything else is done."""
        sense = self.attention(nexus)
        if sense is not None:
            raise CheckError(sense)

    def attention(self, nexus: Nexus) -> Sense | None:
        """Return what a session has to hear, which counts as heard then."""
        if not self._attentions:
            return None
        with self._guard:
            return self._attentions.pop(id(nexus), None)
