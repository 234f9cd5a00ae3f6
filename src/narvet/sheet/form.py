"""The form of a sheet: one frozen model a table, every key declared once, with its type, default and meaning.

The schema for editors, the tables of docs/sheet.md, the columns of a table of requests and the options of
`narvet draft` all come from here. Only what can be judged from the sheet alone is checked here; what depends on guests
and stores is the layout's to say.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field, GetJsonSchemaHandler, model_validator
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems.contract import PURPOSES, Purpose
from narvet.formats.images import NAMES as FORMATS
from narvet.formats.images.contract import Space
from narvet.formats.pools.tree import Spread, is_name
from narvet.ground.units import GIB, KIB, MIB
from narvet.model.controllers import Slot
from narvet.sheet.values import (
    SYSTEMS,
    UNDATED,
    Attribute,
    Chunk,
    FilesystemName,
    FormatName,
    HoldName,
    Kept,
    Label,
    Letter,
    Mode,
    Moment,
    MountOption,
    MountPoint,
    Name,
    NativeId,
    Number,
    Owner,
    PartSize,
    PathText,
    PoolId,
    Right,
    Room,
    Serial,
    Share,
    Size,
    SlotKey,
    Slots,
    System,
    TableName,
    Version,
)


@dataclass(frozen=True)
class Told:
    """What a key means, in Markdown, and what stands in for it where the default is not a plain value."""

    meaning: str
    usual: str = ""

    def __get_pydantic_json_schema__(self, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Return the schema of a key with its meaning, for editors."""
        found = handler(core)
        return {**found, "description": plain(self.meaning)}


def plain(meaning: str) -> str:
    """Return what a key means without Markdown."""
    return re.sub(r"\[([^]]*)\]\([^)]*\)", r"\1", meaning).replace("`", "")


def _names(names: Iterable[str]) -> str:
    return ", ".join(f"`{name}`" for name in names)


class Form(BaseModel):
    """What all tables of a sheet share: no unknown keys, no change after reading."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True)


def key_of(form: type[Form], name: str) -> str:
    """Return the key of a sheet that a field of a form stands for."""
    return form.model_fields[name].alias or name


class StripeForm(Form):
    """`stripe` of a store: its storage puts `chunk` bytes on one of its `disks`, then goes on to the next."""

    chunk: Annotated[
        Chunk,
        Told(
            "bytes on one disk before the storage goes on to the next",
        ),
    ]
    disks: Annotated[int, Field(ge=1, le=1024), Told("how many disks it goes over")]


class StoreForm(Form):
    """`[store.NAME]`: a folder on a host where disk files are kept."""

    path: Annotated[PathText, Told("the folder; it must exist")]
    room: Annotated[
        Room | None,
        Told(
            "what this sheet's disks may take of it",
            "what is free there, and what they take already; stores on one filesystem share what is free",
        ),
    ] = None
    keep_free: Annotated[Kept, Told("size or share of the room to be left free", "nothing")] = 0
    zone: Annotated[str | None, Told("must be the guest's, where both have one")] = None
    stripe: Annotated[
        StripeForm | None,
        Told(
            '`{chunk = "64 KiB", disks = 4}`: the storage puts a chunk on one disk, then goes on to the next; '
            "filesystems are laid out along it",
        ),
    ] = None
    flash: Annotated[bool, Told("true: entries get `discard`, so that guests tell what they no longer use")] = False
    service: Annotated[
        str | None,
        Field(pattern=r"^https?://\S{1,500}$"),
        Told(
            "the address of a storage service that its volumes are ordered from: [services.md](services.md); the "
            "folder keeps a record of each"
        ),
    ] = None
    volume_class: Annotated[str | None, Field(alias="class"), Told("with `service`: the class of its volumes")] = None

    @model_validator(mode="after")
    def _class_of_service(self) -> StoreForm:
        if self.volume_class is not None and self.service is None:
            raise ValueError("class is about a store with a service; give that, or leave class out")
        return self


class DoorForm(Form):
    """`door` of a guest: how its hypervisor is reached."""

    qmp: Annotated[PathText | None, Told("the socket at which a running QEMU guest is managed (QMP)")] = None
    ovf: Annotated[PathText | None, Told("the guest's description in OVF, or a package of it (OVA)")] = None

    @model_validator(mode="after")
    def _agrees(self) -> DoorForm:
        if (self.qmp is None) == (self.ovf is None):
            raise ValueError('a door is one of {qmp = "…"} and {ovf = "…"}')
        return self


class RatesForm(Form):
    """`ceiling` and `floor` of a disk: what it may do, or must be able to do, in a second."""

    operations: Annotated[int | None, Field(ge=1, le=10**9), Told("reads and writes a second")] = None
    bytes_: Annotated[Size | None, Field(alias="bytes"), Told("bytes a second")] = None

    @model_validator(mode="after")
    def _agrees(self) -> RatesForm:
        if self.operations is self.bytes_ is None:
            raise ValueError('give operations, or bytes, or both: {operations = 500, bytes = "20 MB"}')
        return self


class RootForm(Form):
    """`root` of a guest: a filesystem inside an image that holds its root."""

    image: Annotated[PathText, Told("the image; a folder works too, without the other keys")]
    partition: Annotated[
        int | None,
        Field(ge=0, le=1024),
        Told("its number, 0 for an image without a table", "the one that holds a root of the guest's system"),
    ] = None
    volume: Annotated[
        str | None,
        Field(pattern=r"^[A-Za-z0-9_.+][A-Za-z0-9_.+-]*\.[A-Za-z0-9_.+][A-Za-z0-9_.+-]*$", max_length=255),
        Told("in place of `partition`: a volume of a pool, with the pool's name, `system.root`"),
    ] = None
    members: Annotated[
        tuple[PathText, ...], Told("further images that the pool's other members lie on", "the image has them all")
    ] = ()
    format: Annotated[FormatName | None, Told("what the image is read by", "its ending tells")] = None

    @model_validator(mode="after")
    def _agrees(self) -> RootForm:
        if self.volume is not None and self.partition is not None:
            raise ValueError("a root lies on a partition, or on a volume of a pool; leave one of them out")
        return self


class GuestForm(Form):
    """`[guest.NAME]`: the machine that will use the disks."""

    runs: Annotated[System, Told(_names(SYSTEMS))] = SYSTEMS[0]
    version: Annotated[
        Version | None,
        Told(
            'what the system says of itself: windows `"10.0.20348"`, linux its kernel, `"6.12"`; what it is too old '
            "for is found out",
            "nothing is checked",
        ),
    ] = None
    letters: Annotated[tuple[Letter, ...], Told("windows: letters in use already", '`["C:"]`')] = ("C:",)
    root: Annotated[
        PathText | RootForm | None,
        Told(
            "its root filesystem: a folder (linux), or an image that it lies in, or "
            '`{image = "guests/coldroom.qcow2", partition = 2}`; see [roots](roots.md)',
            "none: entries are only shown, and owners of linux must be numbers",
        ),
    ] = None
    new_disks: Annotated[
        Literal["online"] | None,
        Told(
            'windows: `"online"` has the guest use disks that it sees for the first time at once', "as the guest has it"
        ),
    ] = None
    slots: Annotated[
        tuple[Slots, ...],
        Told(
            'what its controllers offer: `["scsi 0-15"]`; see [controllers](#controllers)',
            '`["scsi 0-15"]`',
        ),
    ] = (tuple(("scsi", position) for position in range(16)),)
    taken: Annotated[tuple[Slots, ...], Told("slots in use already", "none")] = ()
    door: Annotated[
        DoorForm | None,
        Told(
            'how its hypervisor is reached: `{qmp = "run/coldroom.sock"}` or `{ovf = "coldroom.ovf"}`; see '
            "[attaching](attaching.md)",
            "none: what is to be done by hand is listed",
        ),
    ] = None
    zone: Annotated[str | None, Told("must be the store's, where both have one")] = None

    @property
    def root_form(self) -> RootForm | None:
        """Where its root lies, in full."""
        return RootForm(image=self.root) if isinstance(self.root, str) else self.root

    @property
    def offered(self) -> tuple[Slot, ...]:
        """Every slot the controllers offer."""
        return tuple(dict.fromkeys(slot for part in self.slots for slot in part))

    @property
    def occupied(self) -> frozenset[Slot]:
        """The slots taken before this sheet."""
        return frozenset(slot for part in self.taken for slot in part)


class SealForm(Form):
    """`sealed` of a partition or volume: what it is to cost to try a passphrase, as its guest does at each start."""

    memory: Annotated[Size | None, Told("bytes of memory that it takes", "1 GiB, or a quarter of this machine's")] = (
        None
    )
    passes: Annotated[
        int | None, Field(ge=1, le=1000), Told("how often it goes over them", "what takes this machine 2 seconds")
    ] = None
    sector: Annotated[Literal[512, 4096], Told("bytes that are sealed at once")] = 4096
    key_file: Annotated[
        str | None,
        Told('a file in its guest\'s root that opens it, so that nobody is asked: `"/etc/keys/notes.key"`', "none"),
    ] = None

    @model_validator(mode="after")
    def _agrees(self) -> SealForm:
        if self.memory is not None and not 8 * MIB <= self.memory <= 4 * GIB:
            raise ValueError("memory is from 8 MiB to 4 GiB")
        if self.key_file is not None and not _is_plain_path(self.key_file):
            raise ValueError(
                'key_file is a path from the root on, of letters, digits, ".", "_" and "-": "/etc/keys/notes.key"'
            )
        return self


def _is_plain_path(text: str) -> bool:
    """Return whether a path can stand in a crypttab as it is, and leads where it says."""
    parts = text.split("/")[1:]
    return re.fullmatch(r"(/[A-Za-z0-9._-]{1,200}){2,16}", text) is not None and all(
        part not in (".", "..") for part in parts
    )


class ContentForm(Form):
    """What a partition and a pool's volume share: what lies on it, and how its guest uses that.

    None is what the guest's system settles.
    """

    uuid: Annotated[NativeId | None, Told("id of the filesystem, as guests know it, where it is not derived")] = None
    label: Annotated[
        Label | None,
        Told(
            'of filesystem and partition; `""` for none',
            "the name of disk or volume; numbered if a disk has several",
        ),
    ] = None
    size: Annotated[PartSize | None, Told('a size, a share of the disk or pool, or `"rest"`', '`"rest"`')] = None
    usable: Annotated[Size | None, Told("instead of `size`: what an ordinary user must be able to fill")] = None
    filesystem: Annotated[
        FilesystemName | None,
        Told(
            f"{_names(FILESYSTEMS)}, or `none`",
            "`ext4`; windows: `ntfs`",
        ),
    ] = None
    purpose: Annotated[
        Purpose,
        Field(alias="for"),
        Told(
            f"{_names(PURPOSES)}: see [formats.md](formats.md#what-for-sets)",
        ),
    ] = "general"
    at: Annotated[
        MountPoint | None,
        Told(
            "linux: mount point. windows: a letter, `\"T:\"`, or a folder on a volume of this sheet, `'T:\\frames'`",
            "not mounted; no letter",
        ),
    ] = None
    owner: Annotated[
        Owner | None,
        Told(
            "`user`, `user:group`, names of the guest's accounts or numbers; a user alone brings its own "
            "group. ntfs, fat32 and exfat: the entry gives all files this one. windows, ntfs: whom the root "
            "belongs to",
            "`0:0`; `SYSTEM`",
        ),
    ] = None
    mode: Annotated[Mode | None, Told("linux: of the filesystem's root, octal text", '`"0755"`')] = None
    needed: Annotated[
        bool,
        Told(
            "linux: true: the guest must not start without it; false: `nofail` in the entry",
        ),
    ] = False
    options: Annotated[
        tuple[MountOption, ...] | None,
        Told(
            'linux: mount options, `["noatime"]`, in place of those that its purpose brings',
        ),
    ] = None
    move_files: Annotated[
        bool,
        Told("ext4, ntfs: whether files may be moved forward where it is made smaller than they reach"),
    ] = False
    sealed: Annotated[
        bool | SealForm,
        Told(
            "linux: true: encrypted, opened by a passphrase, or a recovery key, that no sheet has; "
            '`{memory = "256 MiB", passes = 4}` is what trying one is to cost, `key_file` a file that opens it too; '
            "see [sealing.md](sealing.md)"
        ),
    ] = False
    block: Annotated[
        Size | None,
        Told(
            "allocation unit, of every filesystem but swap",
            "the filesystem's choice",
        ),
    ] = None
    inode_each: Annotated[Size | None, Told("ext4: bytes of it for each inode", "by purpose and size")] = None
    journal: Annotated[Size | None, Told("ext4, xfs: size of journal or log", "by purpose and size")] = None
    reserved: Annotated[Share | None, Told('ext4: share kept for the superuser, `"2%"`', "by purpose")] = None

    @model_validator(mode="after")
    def _can_be(self) -> ContentForm:
        if self.size is not None and self.usable is not None:
            raise ValueError("give size or usable, not both")
        if self.filesystem == "none" and (self.at or self.usable):
            raise ValueError("at and usable need a filesystem")
        if self.filesystem == "swap" and self.at:
            raise ValueError("swap is not mounted; leave at out")
        if self.sealed and self.filesystem == "none":
            raise ValueError("sealed needs a filesystem")
        if self.seal and self.seal.key_file and not self.at:
            raise ValueError("key_file needs a mount point, at")
        return self

    @property
    def seal(self) -> SealForm | None:
        """How it is sealed, None if it is not."""
        return SealForm() if self.sealed is True else self.sealed or None


class PartitionForm(ContentForm):
    """`[[disk.NAME.partition]]`: one part of a disk and what lies on it; None is what the guest's system settles."""

    number: Annotated[
        Number | None, Told("the number that the table gives it, where that is not its place in the order", "its place")
    ] = None
    id: Annotated[
        NativeId | None, Told("GPT: id of the partition, where it is not derived: that of a disk that others made")
    ] = None
    part_label: Annotated[
        Label | None, Told("GPT: label of the partition, where it is not that of the filesystem", "`label`")
    ] = None
    access: Annotated[
        dict[Owner, Right],
        Told(
            'windows, ntfs: who may do what with the root and all in it, `{Users = "read"}`: `full`, `change`, `read`',
            "ordinary users work",
        ),
    ] = {}
    attributes: Annotated[
        tuple[Attribute, ...] | None,
        Told(
            "windows, GPT: any of `read-only`, `hidden`, `no-letter`",
            "`no-letter` without a letter",
        ),
    ] = None
    pool: Annotated[
        Name | None,
        Told("linux: the pool that it is a member of, `[pool.NAME]`; its filesystems are those of the pool's volumes"),
    ] = None

    @model_validator(mode="after")
    def _agrees(self) -> PartitionForm:
        if self.pool is not None:
            given = sorted(key_of(type(self), one) for one in self.model_fields_set - _OF_MEMBERS)
            if given:
                raise ValueError(f"a member of a pool has no {', '.join(given)}; give that to the pool's volumes")
        return self


_OF_MEMBERS = {"pool", "size", "number", "id", "label", "part_label"}


class VolumeForm(ContentForm):
    """`[[pool.NAME.volume]]`: one volume of a pool and what lies on it; None is what the guest's system settles."""

    name: Annotated[Name, Told("its name in the pool")]
    was: Annotated[
        Name | None,
        Told("the name that the volume had before; its ids stay those of the old name, so this key stays too"),
    ] = None
    spread: Annotated[
        Spread,
        Told("`linear`: on one member after the other; `striped`: over several at once; `mirrored`: whole on each"),
    ] = "linear"
    over: Annotated[
        int | None,
        Field(ge=2, le=64),
        Told("how many members a striped volume goes over, or how many copies a mirrored one has", "`2`"),
    ] = None
    chunk: Annotated[Chunk | None, Told("striped: bytes on one member before the next one's turn", "`64 KiB`")] = None

    @model_validator(mode="after")
    def _agrees(self) -> VolumeForm:
        if not is_name(self.name):
            raise ValueError(f'no volume can be called "{self.name}": guests keep such names for themselves')
        if self.spread == "linear" and self.over is not None:
            raise ValueError("over is for striped and mirrored volumes")
        if self.spread != "striped" and self.chunk is not None:
            raise ValueError("chunk is for striped volumes")
        return self


class PoolForm(Form):
    """`[pool.NAME]`: partitions of a guest's disks joined, and the volumes cut from them."""

    guest: Annotated[str, Told("name of the guest that uses it")]
    extent: Annotated[
        Size | None,
        Told("the unit of its volumes, a power of two", "`4 MiB`, more for a pool over 1 TiB"),
    ] = None
    pool_id: Annotated[
        PoolId | None, Field(alias="id"), Told("its id, where it is not derived: that of a pool that others made")
    ] = None
    volume: Annotated[tuple[VolumeForm, ...], Told("its volumes, `[[pool.NAME.volume]]`")] = ()

    @model_validator(mode="after")
    def _agrees(self) -> PoolForm:
        size = self.extent
        if size is not None and (size & (size - 1) or not 64 * KIB <= size <= GIB):
            raise ValueError("extent is a power of two from 64 KiB to 1 GiB")
        names = [one for volume in self.volume for one in (volume.name, volume.was) if one is not None]
        twice = next((one for one in names if names.count(one) > 1), None)
        if twice is not None:
            raise ValueError(f'two volumes are or were called "{twice}"')
        if sum(one.size == "rest" or one.size is one.usable is None for one in self.volume) > 1:
            raise ValueError("more than one volume takes the rest; give all but one a size")
        return self


class DeviceForm(Form):
    """`device` of a disk: a real block device of its guest, known by what it is, never by where it is."""

    serial: Annotated[Serial | None, Told("the serial that it has")] = None
    only_blank: Annotated[bool, Told("true: it is the only one of its size on which nothing lies")] = False

    @model_validator(mode="after")
    def _agrees(self) -> DeviceForm:
        if (self.serial is None) == (not self.only_blank):
            raise ValueError('a device is known by {serial = "…"} or by {only_blank = true}')
        return self


class DiskForm(Form):
    """`[disk.NAME]`: one data disk."""

    guest: Annotated[str, Told("name of the guest that uses it")]
    store: Annotated[str, Told("name of the store that keeps it", "required, but for a real device")] = ""
    device: Annotated[
        DeviceForm | None,
        Told(
            'in place of `store`: a real device of the guest, `{serial = "…"}` or `{only_blank = true}`, written with '
            "`--inside`",
        ),
    ] = None
    size: Annotated[Size | None, Told("size of the disk", "what its partitions need, if they all have sizes")] = None
    usable: Annotated[
        Size | None,
        Told(
            "instead of `size`: what an ordinary user must be able to fill; the smallest aligned disk that offers it "
            "is found",
        ),
    ] = None
    format: Annotated[FormatName, Told(_names(FORMATS))] = FORMATS[0]
    space: Annotated[Space, Told("`thin`: stored as it is written; `full`: allocated at once")] = "thin"
    block: Annotated[
        Size | None,
        Told(
            "the unit a thin image grows by: [formats.md](formats.md)",
            "the format's choice",
        ),
    ] = None
    pieces: Annotated[Size | None, Told("vmdk: the most bytes each of the image's files may have", "one file")] = None
    packed: Annotated[
        bool,
        Told(
            "vmdk: true for the compressed form, made for transport, which is only read afterwards",
        ),
    ] = False
    was: Annotated[
        Name | None,
        Told(
            "the name that the disk had before: its image gets the new one; its ids stay those of the old name, so "
            "this key stays too",
            "it always had this name",
        ),
    ] = None
    copy_of: Annotated[
        PathText | None,
        Told(
            "the disk starts as a copy of this image or device, ids and all; `size` may make it larger",
        ),
    ] = None
    base: Annotated[
        PathText | None,
        Told(
            "the disk is a child of this image, which must not change from then on",
        ),
    ] = None
    slot: Annotated[SlotKey | None, Told('controller and position, `"scsi 1"`', "the guest's next free one")] = None
    serial: Annotated[
        Serial | None,
        Told("what the guest knows the disk by, at most 20 signs", "from the disk's name and id"),
    ] = None
    read_only: Annotated[bool, Told("true: the guest cannot write to it; its entries get `ro`")] = False
    shared: Annotated[bool, Told("true: several guests have it plugged in at once")] = False
    hold: Annotated[
        HoldName,
        Told(
            "how the host holds back writes. `safe`: in its memory, until the guest asks for them to be stored. "
            "`direct`: past its memory. `fast`: in its memory, whatever the guest asks for"
        ),
    ] = "safe"
    ceiling: Annotated[
        RatesForm | None,
        Told('the most that is let through in a second: `{operations = 500, bytes = "20 MB"}`'),
    ] = None
    floor: Annotated[
        RatesForm | None, Told("the least that must be possible in a second, as far as the hypervisor can promise it")
    ] = None
    flash: Annotated[bool | None, Told("whether the guest is told that it is flash, not rotating", "the store's")] = (
        None
    )
    give_back: Annotated[
        bool | None,
        Told("whether what the guest no longer uses is passed down to the store", "true for a thin disk"),
    ] = None
    table: Annotated[
        TableName | None,
        Told(
            "`gpt`; `mbr`, where a guest needs it; or `none`: one filesystem fills the disk",
            "`gpt`; `mbr` for Windows before 5.2",
        ),
    ] = None
    table_id: Annotated[
        NativeId | None,
        Told(
            "id of the table, where it is not derived: that of a disk that others made, whose partitions then stay "
            "where they are"
        ),
    ] = None
    set_aside: Annotated[
        Room | None,
        Told(
            'windows, GPT: what is kept first on the disk for the system itself, `"0 B"` for nothing',
            "`16 MiB` from 128 MiB on",
        ),
    ] = None
    align: Annotated[Size, Told("partitions start on multiples of it", "`1 MiB`")] = MIB
    sector_size: Annotated[
        Literal[512, 4096],
        Field(alias="sector"),
        Told(
            "bytes of a logical sector: 512 or 4096; raw and qcow2 do not record it, so the disk must be "
            "attached with it",
        ),
    ] = 512
    partition: Annotated[tuple[PartitionForm, ...], Told("its partitions, `[[disk.NAME.partition]]`, in order")] = ()

    @model_validator(mode="after")
    def _agrees(self) -> DiskForm:
        self._kept()
        if self.align % self.sector_size:
            raise ValueError(f"align is {self.align} bytes, which are not whole sectors of {self.sector_size}")
        if self.table == "none" and self.copy_of is self.base is None and len(self.partition) != 1:
            raise ValueError('a disk with table = "none" has exactly one partition: its filesystem')
        if self.copy_of is not None or self.base is not None:
            self._brought()
            return self
        open_ended = sum(part.size == "rest" or part.size is part.usable is None for part in self.partition)
        if open_ended > 1:
            raise ValueError("more than one partition takes the rest; give all but one a size")
        self._sized(open_ended)
        return self

    def _kept(self) -> None:
        if self.device is None:
            if "store" not in self.model_fields_set:
                raise ValueError("a disk needs the store that keeps it")
            return
        clashing = {"store", "format", "space", "block", "pieces", "packed", "copy_of", "base"} & self.model_fields_set
        if clashing:
            raise ValueError(f"with device nothing keeps an image; leave out {', '.join(sorted(clashing))}")
        if any(part.pool is not None for part in self.partition):
            raise ValueError("a real device cannot be made a member of a pool; leave pool out")
        if any(part.sealed for part in self.partition):
            raise ValueError("a real device cannot be sealed; leave sealed out")
        if self.device.only_blank and self.size is None:
            raise ValueError("a device that is known by its size needs size")

    def _brought(self) -> None:
        key = "copy_of" if self.base is None else "base"
        clashing = {"partition", "table", "table_id", "usable", "sector_size", "align", "set_aside"} | (
            {"copy_of", "size"} if key == "base" else set()
        )
        given = sorted(key_of(type(self), name) for name in clashing & self.model_fields_set)
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


class Sheet(Form):
    """A whole sheet. Times written into disks are `dated`, so that the same sheet always gives the same bytes."""

    sheet: Annotated[Literal[1], Told("version of this form: 1")]
    identity: Annotated[
        UUID,
        Told(
            "a UUID; every id written is derived from it, so the same sheet gives the same disks",
            "required; the error gives a fresh one",
        ),
    ]
    title: Annotated[str, Told("what the review calls it", "the file's name")] = ""
    dated: Annotated[
        Moment,
        Told(
            "date or time written into filesystems; `SOURCE_DATE_EPOCH` in the environment stands in for it",
            "2000-01-01",
        ),
    ] = UNDATED
    store: Annotated[dict[Name, StoreForm], Told("its stores, `[store.NAME]`")] = {}
    guest: Annotated[dict[Name, GuestForm], Told("its guests, `[guest.NAME]`")] = {}
    disk: Annotated[dict[Name, DiskForm], Told("its disks, `[disk.NAME]`")] = {}
    pool: Annotated[dict[Name, PoolForm], Told("its pools, `[pool.NAME]`")] = {}

    @model_validator(mode="after")
    def _pools_named(self) -> Sheet:
        for name in self.pool:
            if not is_name(name) or "." in name:
                raise ValueError(f'no pool can be called "{name}": letters, digits, _ and - are taken')
        return self

    @model_validator(mode="after")
    def _named_once(self) -> Sheet:
        names = dict.fromkeys(self.disk, "")
        for name, disk in self.disk.items():
            if disk.was is not None and names.get(disk.was) is not None:
                other = names[disk.was] or disk.was
                raise ValueError(f'disk {name} was "{disk.was}", and so is or was disk {other}; a name is one disk\'s')
            if disk.was is not None:
                names[disk.was] = name
        return self


def schema() -> dict[str, Any]:
    """Return the JSON schema of a sheet."""
    return Sheet.model_json_schema(by_alias=True)
