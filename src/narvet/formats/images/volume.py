"""Volumes of storage services as images: the file is a small record, the bytes lie at the service.

The record (JSON) names the service, the volume and its sectors. It is there once the volume is ordered and filled; what
a cut left is found again by the order's key.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from narvet.block.contract import BlockDevice
from narvet.block.files import Files
from narvet.formats.images.contract import ImageFacts, ImageSpec, Opened, Order
from narvet.ground.errors import GoneError, ImageError, RefusedError, RequestError, UnsupportedError
from narvet.ground.meter import waiting
from narvet.ground.units import LARGEST
from narvet.ground.values import Frozen
from narvet.services.calls import NotDoneError
from narvet.services.client import Service, Wanted
from narvet.services.known import service_named, service_recorded
from narvet.services.volume import VolumeDevice
from narvet.services.words import Volume

_LARGEST_RECORD = 64 << 10
_SECTORS = (512, 4096)


class Record(Frozen):
    """What a record says."""

    service: str
    volume: str
    sector_size: int

    def packed(self) -> bytes:
        """Return it as the file has it."""
        about = {"record": 1, "service": self.service, "volume": self.volume, "sector": self.sector_size}
        return json.dumps(about, indent=1).encode() + b"\n"


class VolumeFormat:
    """The format behind the disks of a store with a `service`."""

    name = "volume"
    most = LARGEST - 1
    sectors = _SECTORS
    makes_children = False
    records_sector = True
    renews_link = False

    def fit(self, size: int, block: int | None = None) -> int:  # noqa: ARG002 (there are no blocks)
        """Return the size: its class says which there are."""
        return size

    def blocks(self) -> tuple[int, ...]:
        """Return none: a volume is one piece."""
        return ()

    def footprint(self, image_spec: ImageSpec, data: int) -> int:  # noqa: ARG002 (what is ordered is paid for)
        """Return all of it."""
        return image_spec.size

    @contextmanager
    def create(self, files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
        """Order a volume, or take up one that was begun; its record is written once it is filled.

        Raises:
            RequestError: nothing says where it is to be ordered.
            RefusedError: the service does not make it, or has one of this key already that was not begun here.
        """
        order = image_spec.order
        if order is None:
            raise RequestError(f"{name}: volumes are ordered by a sheet, from a store with a service")
        service = service_named(order.service)
        wanted = Wanted(order.zone, order.volume_class, image_spec.size, dict(order.tags))
        try:
            volume = service.order(order.key, wanted, _told)
        except NotDoneError as error:
            if error.fault != "order":
                raise
            raise RefusedError(
                f"{order.service}: it has a volume of this disk already, not begun here, and no record of it is here; "
                "bring the record back, or give the volume back there if nobody needs it"
            ) from None
        waiting("")
        device = VolumeDevice(service, volume.id, volume.bytes, image_spec.sector_size)
        for run in list(device.extents()):  # what a cut left of the last try
            device.zero(run.start, run.length)
        yield device
        device.flush()
        data, file = Record(order.service, volume.id, image_spec.sector_size).packed(), files.create(name)
        file.resize(len(data))
        file.write(0, data)

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened:
        """Open a volume by its record.

        Raises:
            GoneError: its service has no such volume any more, or is taking it back.
            ImageError: this is no record, or its service does not tell.
            UnsupportedError: it is to be written to, and attached to a guest.
        """
        record = _record(files, name)
        service, volume = _there(record, name)
        if writable and volume.state != "ready":
            raise UnsupportedError(f"{name}: volume {volume.id} is {volume.state}; only a free one is written to")
        size, guest = volume.bytes, volume.guest or ""
        told = Order(record.service, volume.zone, volume.kind, "").told
        facts = ImageFacts(
            self.name, "thin", size, record.sector_size, size, link=volume.id, attached=guest, ordered=told
        )

        def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:
            del sector_size, base
            return VolumeDevice(service, volume.id, volume.bytes, record.sector_size)

        return Opened(facts, device)

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Refuse it: what is on a volume is not changed from here.

        Raises:
            UnsupportedError: always.
        """
        del files, size, full, piece
        raise UnsupportedError(f"{name}: a volume is not made larger from here")

    def attach(self, files: Files, name: str, guest: str) -> None:
        """Attach a volume to a guest of its service, and return once it is there.

        Raises:
            ImageError: this is no record of a volume that there is.
            RefusedError: the service does not do it.
        """
        service, volume = _there(_record(files, name), name)
        service.attach(volume.id, guest, on_state=_told)
        waiting("")

    def give_back(self, files: Files, name: str) -> None:
        """Detach a volume and give it back; one that is gone already is no fault.

        Raises:
            ImageError: this is no record of a volume.
            RefusedError: the service does not do it.
        """
        record = _record(files, name)
        service = service_recorded(record.service)
        volume = service.volume(record.volume)
        if volume is not None and volume.guest is not None:
            service.detach(volume.id, _told)
        service.give_back(record.volume, _told)
        waiting("")


FORMAT = VolumeFormat()


def _told(volume: Volume) -> None:
    """Show on the terminal what a volume is doing."""
    waiting(f"volume {volume.id} is {_BEING.get(volume.state, volume.state)}")


_BEING = {"making": "being made", "attaching": "being attached", "detaching": "being detached"}
_BEING |= {"leaving": "being given back"}


def _there(record: Record, name: str) -> tuple[Service, Volume]:
    """Return a volume as it is now."""
    try:
        service = service_recorded(record.service)
        volume = service.volume(record.volume)
    except (NotDoneError, RequestError) as error:
        raise ImageError(f"{name}: {error}") from None
    if volume is None or volume.state == "leaving":
        raise GoneError(f"{name}: {record.service} has no volume {record.volume} any more; somebody gave it back")
    return service, volume


def _record(files: Files, name: str) -> Record:
    """Read a record, which is not trusted.

    Raises:
        ImageError: it is none.
    """
    file = files.open(name)
    try:
        told: Any = json.loads(file.read(0, min(file.size, _LARGEST_RECORD)))
        service, volume, sector = told["service"], told["volume"], told["sector"]
        if told["record"] != 1 or not isinstance(service, str) or not isinstance(volume, str) or sector not in _SECTORS:
            raise ValueError
        if not volume.replace("-", "").replace(".", "").replace("_", "").isalnum() or not volume.isascii():
            raise ValueError
    except (ValueError, TypeError, KeyError, RecursionError):
        raise ImageError(f"{name}: this is no record of a volume") from None
    return Record(service, volume, int(sector))
