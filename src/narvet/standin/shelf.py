"""The volumes, their bytes in sparse files of a folder, and all else in one file that is replaced as a whole."""

from __future__ import annotations

import os
import secrets
import threading
import time
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from pydantic import Field

from narvet.standin.words import Guest, Offer, Order, Place, Quota, Stored, Volume, VolumeClass, Why, Word

MOST_AT_ONCE = 8 << 20
"""Bytes that one call reads or writes."""
_MOST_RUNS = 4096

EXAMPLE = """# What this service offers. Sizes are bytes.
[quota]
volumes = 40
bytes = 4_398_046_511_104

[[zones]]
name = "north"
[[zones.classes]]
name = "calm"
least = 1_073_741_824
most = 4_398_046_511_104
step = 1_073_741_824
operations = {base = 100, each_gib = 3, most = 3000}
[[zones.classes]]
name = "brisk"
least = 8_589_934_592
most = 17_592_186_044_416
step = 4_294_967_296
operations = {base = 3000, each_gib = 30, most = 64000}

[[zones]]
name = "south"
[[zones.classes]]
name = "calm"
least = 1_073_741_824
most = 4_398_046_511_104
step = 1_073_741_824
operations = {base = 100, each_gib = 3, most = 3000}

[[guests]]
name = "records"
zone = "north"
running = true

[[guests]]
name = "coldroom"
zone = "south"
"""


class NotDoneError(Exception):
    """What is asked for is not done."""

    def __init__(self, status: int, fault: Why, told: str) -> None:
        super().__init__(told)
        self.status = status
        self.fault: Why = fault


class Kept(Word):
    """A volume, and the moment at which the step that it is in ends."""

    volume: Volume
    until: float = 0
    fails: bool = False


class All(Word):
    """Everything but the bytes: volumes, orders by their keys (with the volume each had), guests."""

    volumes: dict[str, Kept] = Field(default_factory=dict)
    orders: dict[str, tuple[str, Order]] = Field(default_factory=dict)
    guests: dict[str, Guest] = Field(default_factory=dict)


class Shelf:
    """The volumes of a folder; `pause` tells how many seconds the next step of a volume takes, and whether it fails.

    Several threads may use it at once. What a call has answered is on stable storage.
    """

    def __init__(self, folder: Path, pause: Callable[[], tuple[float, bool]] = lambda: (0.0, False)) -> None:
        self._folder = folder
        self._pause = pause
        self._guard = threading.RLock()
        folder.mkdir(parents=True, exist_ok=True)
        self._about = folder / "service.toml"
        if not self._about.exists():
            self._about.write_text(EXAMPLE)
        self._state = folder / "state.json"
        self._all = All.model_validate_json(self._state.read_bytes()) if self._state.exists() else All()
        for file in folder.glob("v-*.raw"):
            if file.stem not in self._all.volumes:  # one that a kill left
                file.unlink()

    # What there is.

    def offer(self) -> Offer:
        """Return what there is to order."""
        with self._guard:
            self._settle()
            found = tomllib.loads(self._about.read_text())
            quota = Quota(**found["quota"])
            own = [kept.volume for kept in self._all.volumes.values()]
            used = {"used_volumes": len(own), "used_bytes": sum(one.bytes for one in own)}
            return Offer(zones=found.get("zones", ()), quota=quota.model_copy(update=used))

    def guests(self) -> list[Guest]:
        """Return the machines of the service, with what is attached to them."""
        with self._guard:
            self._settle()
            told = [Guest(**one) for one in tomllib.loads(self._about.read_text()).get("guests", ())]
            there = dict[str, dict[int, str]]()
            for kept in self._all.volumes.values():
                one = kept.volume
                if one.guest is not None and one.position is not None:
                    there.setdefault(one.guest, {})[one.position] = one.id
            return [one.model_copy(update={"volumes": there.get(one.name, {})}) for one in told]

    def volumes(self) -> list[Volume]:
        """Return all volumes."""
        with self._guard:
            self._settle()
            return [kept.volume for kept in self._all.volumes.values()]

    def volume(self, number: str) -> Volume:
        """Return a volume as it is now."""
        with self._guard:
            self._settle()
            return self._kept(number).volume

    # Orders.

    def order(self, key: str, order: Order) -> Volume:
        """Begin to make a volume, or return the one that was ordered by this key already."""
        with self._guard:
            self._settle()
            if key in self._all.orders:
                number, before = self._all.orders[key]
                if before != order:
                    raise NotDoneError(409, "order", "this key has ordered something else")
                if number not in self._all.volumes:
                    raise NotDoneError(410, "spent", "the volume of this order was given back")
                return self._all.volumes[number].volume
            kind = self._class(order.zone, order.volume_class)
            if not kind.least <= order.bytes <= kind.most or order.bytes % kind.step:
                raise NotDoneError(
                    422, "size", f"{kind.name} has {kind.least} to {kind.most} bytes, in steps of {kind.step}"
                )
            self._check_quota(1, order.bytes)
            number = f"v-{secrets.token_hex(8)}"
            with self._path(number).open("xb") as file:
                os.truncate(file.fileno(), order.bytes)
                os.fsync(file.fileno())
            made = Volume.model_validate({"id": number, "state": "making", **order.model_dump(by_alias=True)})
            seconds, fails = self._pause()
            self._all.orders[key] = (number, order)
            self._keep(Kept(volume=made, until=time.time() + seconds, fails=fails))
            return self.volume(number)

    def _class(self, name: str, kind: str) -> VolumeClass:
        zone = next((one for one in self.offer().zones if one.name == name), None)
        if zone is None:
            raise NotDoneError(422, "zone", f"there is no zone {name}")
        found = next((one for one in zone.classes if one.name == kind), None)
        if found is None:
            raise NotDoneError(422, "class", f"{name} has no class {kind}")
        return found

    def _check_quota(self, volumes: int, size: int) -> None:
        quota = self.offer().quota
        if quota.used_volumes + volumes > quota.volumes or quota.used_bytes + size > quota.bytes:
            raise NotDoneError(403, "quota", f"{quota.volumes} volumes and {quota.bytes} bytes in all may be ordered")

    def enlarge(self, number: str, size: int) -> Volume:
        """Make a volume larger; one that has the size already stays as it is."""
        with self._guard:
            volume = self._in(number, "ready", "attached")
            kind = self._class(volume.zone, volume.volume_class)
            if size < volume.bytes or size > kind.most or size % kind.step:
                raise NotDoneError(422, "size", f"it has {volume.bytes} bytes, and grows in steps of {kind.step}")
            self._check_quota(0, size - volume.bytes)
            os.truncate(self._path(number), size)
            self._keep(Kept(volume=volume.model_copy(update={"bytes": size})))
            return self.volume(number)

    def give_back(self, number: str) -> Volume:
        """Begin to throw a volume away."""
        with self._guard:
            self._settle()
            volume = self._kept(number).volume
            if volume.state == "leaving":
                return volume
            volume = self._in(number, "ready", "failed")
            return self._begin(volume, "leaving")

    def attach(self, number: str, place: Place) -> Volume:
        """Begin to attach a volume to a guest; one that is there already stays as it is."""
        with self._guard:
            self._settle()
            volume = self._kept(number).volume
            wanted = place.position
            if volume.guest == place.guest and wanted in (None, volume.position) and volume.state != "detaching":
                return volume
            volume = self._in(number, "ready")
            guest = next((one for one in self.guests() if one.name == place.guest), None)
            if guest is None:
                raise NotDoneError(422, "guest", f"there is no guest {place.guest}")
            if guest.zone != volume.zone:
                raise NotDoneError(422, "zone", f"{guest.name} is in zone {guest.zone}, the volume in {volume.zone}")
            free = [at for at in range(guest.positions) if at not in guest.volumes]
            if not free or (wanted is not None and wanted not in free):
                raise NotDoneError(409, "position", f"{guest.name} has no such free position")
            placed = {"guest": guest.name, "position": free[0] if wanted is None else wanted}
            return self._begin(volume.model_copy(update=placed), "attaching")

    def detach(self, number: str) -> Volume:
        """Begin to detach a volume; one that is nowhere stays as it is."""
        with self._guard:
            self._settle()
            volume = self._kept(number).volume
            if volume.guest is None or volume.state == "detaching":
                return volume
            return self._begin(self._in(number, "attached"), "detaching")

    # Bytes.

    def read(self, number: str, at: int, length: int) -> bytes:
        """Return bytes of a volume."""
        with self._opened(number, at, length, "ready", "attached") as file:
            return os.pread(file, length, at)

    def write(self, number: str, at: int, data: bytes) -> None:
        """Write bytes to a volume that is attached nowhere."""
        with self._opened(number, at, len(data), "ready") as file:
            os.pwrite(file, data, at)
            os.fsync(file)

    def zero(self, number: str, at: int, length: int) -> None:
        """Make a range read as zeros."""
        with self._opened(number, at, length, "ready", most=1 << 63) as file:
            for start, run in self._runs(file, at, at + length):
                for place in range(start, start + run, MOST_AT_ONCE):
                    os.pwrite(file, bytes(min(MOST_AT_ONCE, start + run - place)), place)
            os.fsync(file)

    def stored(self, number: str, at: int, length: int) -> Stored:
        """Return the runs of a range that may hold something."""
        with self._opened(number, at, length, "ready", "attached", most=1 << 63) as file:
            runs = list[tuple[int, int]]()
            for run in self._runs(file, at, at + length):
                if len(runs) == _MOST_RUNS:
                    return Stored(runs=tuple(runs), more=True)
                runs.append(run)
            return Stored(runs=tuple(runs))

    @staticmethod
    def _runs(file: int, at: int, end: int) -> Iterator[tuple[int, int]]:
        while at < end:
            try:
                start = os.lseek(file, at, os.SEEK_DATA)
            except OSError:
                return
            if start >= end:
                return
            at = min(os.lseek(file, start, os.SEEK_HOLE), end)
            yield start, at - start

    @contextmanager
    def _opened(self, number: str, at: int, length: int, *states: str, most: int = MOST_AT_ONCE) -> Iterator[int]:
        with self._guard:
            volume = self._in(number, *states)
            if at < 0 or not 0 < length <= most or at + length > volume.bytes:
                raise NotDoneError(416, "range", f"at most {MOST_AT_ONCE} bytes at once, of its {volume.bytes}")
            file = os.open(self._path(number), os.O_RDWR)
            try:
                yield file
            finally:
                os.close(file)

    # Steps.

    def _path(self, number: str) -> Path:
        return self._folder / f"{number}.raw"

    def _kept(self, number: str) -> Kept:
        if number not in self._all.volumes:
            raise NotDoneError(404, "unknown", f"there is no volume {number}")
        return self._all.volumes[number]

    def _in(self, number: str, *states: str) -> Volume:
        """Return a volume that is in one of some states."""
        self._settle()
        volume = self._kept(number).volume
        if volume.state not in states:
            raise NotDoneError(409, "state", f"{number} is {volume.state}")
        return volume

    def _begin(self, volume: Volume, state: str) -> Volume:
        seconds, _ = self._pause()
        changed = volume.model_copy(update={"state": state})
        self._keep(Kept(volume=changed, until=time.time() + seconds))
        self._settle()
        return self._all.volumes[volume.id].volume if volume.id in self._all.volumes else changed

    def _keep(self, kept: Kept) -> None:
        self._all.volumes[kept.volume.id] = kept
        self._save()

    def _settle(self) -> None:
        """End the steps whose time has come."""
        now, changed, gone = time.time(), False, list[str]()
        for number, kept in list(self._all.volumes.items()):
            after = _AFTER.get(kept.volume.state)
            if after is None or kept.until > now:
                continue
            changed = True
            if after == "gone":
                del self._all.volumes[number]
                gone.append(number)
                continue
            update: dict[str, str | None] = {"state": "failed" if kept.fails else after}
            if after == "ready":
                update |= {"guest": None, "position": None}
            self._all.volumes[number] = Kept(volume=kept.volume.model_copy(update=update))
        if changed:
            self._save()
        for number in gone:
            self._path(number).unlink(missing_ok=True)

    def _save(self) -> None:
        beside = self._state.with_suffix(".new")
        with beside.open("wb") as file:
            file.write(self._all.model_dump_json(by_alias=True, indent=1).encode())
            file.flush()
            os.fsync(file.fileno())
        beside.replace(self._state)


_AFTER = {"making": "ready", "attaching": "attached", "detaching": "ready", "leaving": "gone"}
