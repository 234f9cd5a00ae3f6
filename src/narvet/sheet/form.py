"""The form of a sheet: one frozen model a table, every key declared once, with its type, default and meaning.

The schema for editors, the tables of docs/sheet.md, the columns of a table of requests and the options of
`narvet draft` all come from here, `machines` and `contents`. Only what can be judged from the sheet alone is checked
here; what depends on guests and stores is the layout's to say.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal
from uuid import UUID

from msgspec import Meta

from narvet.formats.images import NAMES as FORMATS
from narvet.formats.images.contract import Space
from narvet.formats.pools.tree import is_name
from narvet.ground.units import GIB, KIB, MIB
from narvet.ground.values import field
from narvet.sheet.base import Form, means, names, schema_of
from narvet.sheet.contents import PartitionForm, VolumeForm
from narvet.sheet.machines import GuestForm, HostForm, StoreForm
from narvet.sheet.values import (
    UNDATED,
    FormatName,
    HoldName,
    Moment,
    Name,
    NativeId,
    PathText,
    PoolId,
    Room,
    Serial,
    Size,
    SlotKey,
    TableName,
)


class RatesForm(Form):
    """`ceiling` and `floor` of a disk: what it may do, or must be able to do, in a second."""

    operations: Annotated[Annotated[int, Meta(ge=1, le=10**9)] | None, means("reads and writes a second")] = None
    bytes_: Annotated[Size | None, means("bytes a second")] = field(name="bytes", default=None)

    def __post_init__(self) -> None:
        if self.operations is self.bytes_ is None:
            raise ValueError('give operations, or bytes, or both: {operations = 500, bytes = "20 MB"}')


class PoolForm(Form):
    """`[pool.NAME]`: partitions of a guest's disks joined, and the volumes cut from them."""

    guest: Annotated[str, means("name of the guest that uses it")]
    extent: Annotated[
        Size | None,
        means("the unit of its volumes, a power of two", "`4 MiB`, more for a pool over 1 TiB"),
    ] = None
    pool_id: Annotated[PoolId | None, means("its id, where it is not derived: that of a pool that others made")] = (
        field(name="id", default=None)
    )
    volume: Annotated[tuple[VolumeForm, ...], means("its volumes, `[[pool.NAME.volume]]`")] = ()

    def __post_init__(self) -> None:
        size = self.extent
        if size is not None and (size & (size - 1) or not 64 * KIB <= size <= GIB):
            raise ValueError("extent is a power of two from 64 KiB to 1 GiB")
        names = [one for volume in self.volume for one in (volume.name, volume.was) if one is not None]
        twice = next((one for one in names if names.count(one) > 1), None)
        if twice is not None:
            raise ValueError(f'two volumes are or were called "{twice}"')
        if sum(one.size == "rest" or one.size is one.usable is None for one in self.volume) > 1:
            raise ValueError("more than one volume takes the rest; give all but one a size")


class DeviceForm(Form):
    """`device` of a disk: a real block device of its guest, known by what it is, never by where it is."""

    serial: Annotated[Serial | None, means("the serial that it has")] = None
    only_blank: Annotated[bool, means("true: it is the only one of its size on which nothing lies")] = False

    def __post_init__(self) -> None:
        if (self.serial is None) == (not self.only_blank):
            raise ValueError('a device is known by {serial = "…"} or by {only_blank = true}')


class DiskForm(Form):
    """`[disk.NAME]`: one data disk."""

    guest: Annotated[str, means("name of the guest that uses it")]
    store: Annotated[str, means("name of the store that keeps it", "required, but for a real device")] = ""
    device: Annotated[
        DeviceForm | None,
        means(
            'in place of `store`: a real device of the guest, `{serial = "…"}` or `{only_blank = true}`, written with '
            "`--inside`",
        ),
    ] = None
    size: Annotated[Size | None, means("size of the disk", "what its partitions need, if they all have sizes")] = None
    usable: Annotated[
        Size | None,
        means(
            "instead of `size`: what an ordinary user must be able to fill; the smallest aligned disk that offers it "
            "is found",
        ),
    ] = None
    asked_format: Annotated[FormatName | None, means(names(FORMATS), f"`{FORMATS[0]}`")] = field(
        name="format", default=None
    )
    asked_space: Annotated[
        Space | None, means("`thin`: stored as it is written; `full`: allocated at once", "`thin`")
    ] = field(name="space", default=None)
    block: Annotated[
        Size | None,
        means(
            "the unit a thin image grows by: [formats.md](formats.md)",
            "the format's choice",
        ),
    ] = None
    pieces: Annotated[Size | None, means("vmdk: the most bytes each of the image's files may have", "one file")] = None
    packed: Annotated[
        bool,
        means(
            "vmdk: true for the compressed form, made for transport, which is only read afterwards",
        ),
    ] = False
    was: Annotated[
        Name | None,
        means(
            "the name that the disk had before: its image gets the new one; its ids stay those of the old name, so "
            "this key stays too",
            "it always had this name",
        ),
    ] = None
    copy_of: Annotated[
        PathText | None,
        means(
            "the disk starts as a copy of this image or device, ids and all; `size` may make it larger; HOST:PATH is "
            "one on another host",
        ),
    ] = None
    base: Annotated[
        PathText | None,
        means(
            "the disk is a child of this image, which must not change from then on",
        ),
    ] = None
    slot: Annotated[SlotKey | None, means('controller and position, `"scsi 1"`', "the guest's next free one")] = None
    serial: Annotated[
        Serial | None,
        means("what the guest knows the disk by, at most 20 signs", "from the disk's name and id"),
    ] = None
    read_only: Annotated[bool, means("true: the guest cannot write to it; its entries get `ro`")] = False
    shared: Annotated[bool, means("true: several guests have it plugged in at once")] = False
    hold: Annotated[
        HoldName,
        means(
            "how the host holds back writes. `safe`: in its memory, until the guest asks for them to be stored. "
            "`direct`: past its memory. `fast`: in its memory, whatever the guest asks for"
        ),
    ] = "safe"
    ceiling: Annotated[
        RatesForm | None,
        means('the most that is let through in a second: `{operations = 500, bytes = "20 MB"}`'),
    ] = None
    floor: Annotated[
        RatesForm | None, means("the least that must be possible in a second, as far as the hypervisor can promise it")
    ] = None
    flash: Annotated[bool | None, means("whether the guest is told that it is flash, not rotating", "the store's")] = (
        None
    )
    give_back: Annotated[
        bool | None,
        means("whether what the guest no longer uses is passed down to the store", "true for a thin disk"),
    ] = None
    table: Annotated[
        TableName | None,
        means(
            "`gpt`; `mbr`, where a guest needs it; or `none`: one filesystem fills the disk",
            "`gpt`; `mbr` for Windows before 5.2",
        ),
    ] = None
    table_id: Annotated[
        NativeId | None,
        means(
            "id of the table, where it is not derived: that of a disk that others made, whose partitions then stay "
            "where they are"
        ),
    ] = None
    set_aside: Annotated[
        Room | None,
        means(
            'windows, GPT: what is kept first on the disk for the system itself, `"0 B"` for nothing',
            "`16 MiB` from 128 MiB on",
        ),
    ] = None
    asked_align: Annotated[Size | None, means("partitions start on multiples of it", "`1 MiB`")] = field(
        name="align", default=None
    )
    asked_sector_size: Annotated[
        Literal[512, 4096] | None,
        means(
            "bytes of a logical sector: 512 or 4096; raw and qcow2 do not record it, so the disk must be "
            "attached with it",
            "512",
        ),
    ] = field(name="sector", default=None)
    partition: Annotated[tuple[PartitionForm, ...], means("its partitions, `[[disk.NAME.partition]]`, in order")] = ()

    def __post_init__(self) -> None:
        self._kept()
        if self.align % self.sector_size:
            raise ValueError(f"align is {self.align} bytes, which are not whole sectors of {self.sector_size}")
        if self.table == "none" and self.copy_of is self.base is None and len(self.partition) != 1:
            raise ValueError('a disk with table = "none" has exactly one partition: its filesystem')
        if self.copy_of is not None or self.base is not None:
            self._brought()
            return
        open_ended = sum(part.size == "rest" or part.size is part.usable is None for part in self.partition)
        if open_ended > 1:
            raise ValueError("more than one partition takes the rest; give all but one a size")
        self._sized(open_ended)

    @property
    def format(self) -> str:
        """The format of its image."""
        return self.asked_format or FORMATS[0]

    @property
    def space(self) -> Space:
        """Whether its image is stored as it is written, or allocated at once."""
        return self.asked_space or "thin"

    @property
    def align(self) -> int:
        """What partitions start on multiples of, in bytes."""
        return self.asked_align or MIB

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self.asked_sector_size or 512

    def _kept(self) -> None:
        if self.device is None:
            if not self.store:
                raise ValueError("a disk needs the store that keeps it")
            return
        given = self.given(("store", *_OF_IMAGE, "copy_of", "base"))
        if given:
            raise ValueError(f"with device nothing keeps an image; leave out {', '.join(given)}")
        if any(part.pool is not None for part in self.partition):
            raise ValueError("a real device cannot be made a member of a pool; leave pool out")
        if any(part.sealed for part in self.partition):
            raise ValueError("a real device cannot be sealed; leave sealed out")
        if self.device.only_blank and self.size is None:
            raise ValueError("a device that is known by its size needs size")

    def _brought(self) -> None:
        key = "copy_of" if self.base is None else "base"
        given = self.given((*_OF_TABLE, *(("copy_of", "size") if key == "base" else ())))
        if given:
            raise ValueError(f"with {key} the disk comes as it is there; leave out {', '.join(given)}")

    def _sized(self, open_ended: int) -> None:
        if self.usable is not None:
            if self.size is not None:
                raise ValueError("give size or usable, not both")
            one = self.partition[0] if len(self.partition) == 1 else None
            if one is None or not open_ended or one.filesystem == "none" or one.pool is not None:
                raise ValueError("usable on a disk is for one partition that takes the rest; give it on a partition")
        elif self.size is None and self.device is None:
            fixed = all(isinstance(part.size, int) or part.usable for part in self.partition)
            if not self.partition or not fixed:
                raise ValueError("give the disk a size, or usable, or all of its partitions sizes of their own")


_OF_IMAGE = ("asked_format", "asked_space", "block", "pieces", "packed")
_OF_TABLE = ("partition", "table", "table_id", "usable", "asked_sector_size", "asked_align", "set_aside")


class Sheet(Form):
    """A whole sheet. Times written into disks are `dated`, so that the same sheet always gives the same bytes."""

    sheet: Annotated[Literal[1], means("version of this form: 1")]
    identity: Annotated[
        UUID,
        means(
            "a UUID; every id written is derived from it, so the same sheet gives the same disks",
            "required; the error gives a fresh one",
        ),
    ]
    title: Annotated[str, means("what the review calls it", "the file's name")] = ""
    dated: Annotated[
        Moment,
        means(
            "date or time written into filesystems; `SOURCE_DATE_EPOCH` in the environment stands in for it",
            "2000-01-01",
        ),
    ] = UNDATED
    include: Annotated[
        tuple[PathText, ...],
        means('further files with stores, guests, disks and pools, by patterns from its folder on: `["racks/*.toml"]`'),
    ] = ()
    host: Annotated[dict[Name, HostForm], means("its hosts, `[host.NAME]`, where it has more than this machine")] = {}
    store: Annotated[dict[Name, StoreForm], means("its stores, `[store.NAME]`")] = {}
    guest: Annotated[dict[Name, GuestForm], means("its guests, `[guest.NAME]`")] = {}
    disk: Annotated[dict[Name, DiskForm], means("its disks, `[disk.NAME]`")] = {}
    pool: Annotated[dict[Name, PoolForm], means("its pools, `[pool.NAME]`")] = {}

    def __post_init__(self) -> None:
        for name in self.pool:
            if not is_name(name) or "." in name:
                raise ValueError(f'no pool can be called "{name}": letters, digits, _ and - are taken')
        names = dict.fromkeys(self.disk, "")
        for name, disk in self.disk.items():
            if disk.was is not None and names.get(disk.was) is not None:
                other = names[disk.was] or disk.was
                raise ValueError(f'disk {name} was "{disk.was}", and so is or was disk {other}; a name is one disk\'s')
            if disk.was is not None:
                names[disk.was] = name


def schema() -> dict[str, Any]:
    """Return the JSON schema of a sheet."""
    return schema_of(Sheet)
