"""What is done for a Windows guest: the registry text that brings it its entries, which it imports itself."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from narvet.ground.units import counted
from narvet.guests.windows.registry import write_registry
from narvet.model.estate import RegistryValue


@dataclass(frozen=True)
class WriteRegistryText:
    """Write the text that brings a Windows guest its entries; the guest may run, as it imports the text later."""

    guest: str
    touches: str
    values: tuple[RegistryValue, ...]
    is_change: bool = False
    guest_may_run = True
    comes_last = True

    @property
    def summary(self) -> str:
        """The text in a few words."""
        return f"registry text for {self.guest}, {counted(len(self.values), 'value')}"

    def apply(self) -> dict[str, object]:
        """Put it in place, all at once."""
        write_registry(Path(self.touches), self.values)
        return {"did": "registry text", "guest": self.guest, "values": [value.name for value in self.values]}
