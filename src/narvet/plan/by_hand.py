"""What to do by hand at a hypervisor that Narvet has no door to, as numbered steps in plain words. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from narvet.ground.units import counted, show_both, show_bytes
from narvet.ground.values import Frozen
from narvet.guests import guest_system
from narvet.model.layout import PlannedDisk
from narvet.model.plugs import Rates

_HOLDS = {
    "safe": "",
    "direct": "set its writes to go past the host's memory",
    "fast": "set its writes to be held in the host's memory, without waiting until they are stored",
}


class HandWork(Frozen):
    """What is to be done at one guest, step by step; `title` says what for."""

    guest: str
    title: str
    steps: tuple[str, ...]


def plug_in(guest: str, disks: Iterable[PlannedDisk]) -> HandWork:
    """Return how the disks of a guest are plugged in by hand."""
    own = list(disks)
    off = [disk.slot for disk in own if not disk.plug.guest_may_run and disk.slot]
    steps = [f"Shut {guest} down: disks at {_and(off)} are plugged in while it is off."] if off else []
    steps += [" ".join(_disk(disk)) for disk in own]
    mounted = [part.at for disk in own for part in disk.wanted.partitions if part.at and part.at.startswith("/")]
    steps.append(f"Start {guest}." if off else f"{guest} may run meanwhile." + _mounting(mounted))
    steps += [f"Look in {guest} whether {_inside(disk)}." for disk in own]
    return HandWork(guest, f"Plug {counted(len(own), 'disk')} into {guest}", tuple(steps))


def take_out(guest: str, disks: Iterable[PlannedDisk]) -> HandWork:
    """Return how the disks of a guest are taken out by hand."""
    own = list(disks)
    off = [disk.slot for disk in own if not disk.plug.guest_may_run and disk.slot]
    mounted = [part.at for disk in own for part in disk.wanted.partitions if part.at]
    steps = [f"Unmount {_and(mounted)} in {guest}."] if mounted and not off else []
    steps += [f"Shut {guest} down."] if off else []
    steps += [f"Take {disk.path}, serial {disk.plug.serial}, out at {disk.slot or 'its slot'}." for disk in own]
    steps += [f"Start {guest}."] if off else []
    return HandWork(guest, f"Take {counted(len(own), 'disk')} out of {guest}", tuple(steps))


def _mounting(mounted: list[str]) -> str:
    return f" If it does, mount {_and(mounted)} in it, by the entries that it has." if mounted else ""


def _disk(disk: PlannedDisk) -> Iterator[str]:
    """Yield what is to be set at a disk, a sentence each."""
    image, plug = disk.wanted.image, disk.plug
    yield f"Plug {disk.path}, an image of the format {image.format}, in at {disk.slot or 'a free slot'}."
    sector = f", sectors of {show_bytes(image.sector_size)}" if image.sector_size not in (0, 512) else ""
    yield f"Give it the serial {plug.serial}{sector}, if that can be set."
    wishes = [
        "make it read-only" if plug.read_only else "",
        "let several guests have it" if plug.shared else "",
        _HOLDS[plug.hold],
        f"let through at most {show_rates(plug.ceiling)}" if plug.ceiling != Rates() else "",
        f"promise it at least {show_rates(plug.floor)}" if plug.floor != Rates() else "",
        "tell the guest that it is flash" if plug.flash else "",
        "let what the guest no longer uses go back to the store" if plug.gives_back else "",
    ]
    said = [wish for wish in wishes if wish]
    if said:
        yield f"{_and(said)[:1].upper()}{_and(said)[1:]}."


def _inside(disk: PlannedDisk) -> str:
    shown = guest_system(disk.system).writes_size(disk.size)
    mounts = [part.at for part in disk.wanted.partitions if part.at]
    told = f", and whether {_and(mounts)} {'is' if len(mounts) == 1 else 'are'} there" if mounts else ""
    return f"a disk of {shown} with the serial {disk.plug.serial} shows{told}"


def show_rates(rates: Rates) -> str:
    """Return what may be done in a second, for people."""
    told = [
        counted(rates.operations, "operation") if rates.operations else "",
        show_both(rates.bytes) if rates.bytes else "",
    ]
    return f"{_and(one for one in told if one)} a second"


def _and(words: Iterable[str]) -> str:
    """Return words as a sentence lists them."""
    every = list(words)
    return " and ".join([", ".join(every[:-1]), every[-1]] if len(every) > 1 else every)
