"""What a sheet says of what lies on a disk: partitions and volumes, their filesystems, and how these are sealed."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from msgspec import Meta

from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems.contract import PURPOSES, Purpose
from narvet.formats.pools.tree import Spread, is_name
from narvet.ground.units import GIB, MIB
from narvet.ground.values import field
from narvet.sheet.base import Form, means, names
from narvet.sheet.values import (
    Attribute,
    Chunk,
    FilesystemName,
    Label,
    Mode,
    MountOption,
    MountPoint,
    Name,
    NativeId,
    Number,
    Owner,
    PartSize,
    Right,
    Share,
    Size,
    owner,
)


class SealForm(Form):
    """`sealed` of a partition or volume: what it is to cost to try a passphrase, as its guest does at each start."""

    memory: Annotated[Size | None, means("bytes of memory that it takes", "1 GiB, or a quarter of this machine's")] = (
        None
    )
    passes: Annotated[
        Annotated[int, Meta(ge=1, le=1000)] | None,
        means("how often it goes over them", "what takes this machine 2 seconds"),
    ] = None
    sector: Annotated[Literal[512, 4096], means("bytes that are sealed at once")] = 4096
    key_file: Annotated[
        str | None,
        means('a file in its guest\'s root that opens it, so that nobody is asked: `"/etc/keys/notes.key"`', "none"),
    ] = None

    def __post_init__(self) -> None:
        if self.memory is not None and not 8 * MIB <= self.memory <= 4 * GIB:
            raise ValueError("memory is from 8 MiB to 4 GiB")
        if self.key_file is not None and not _is_plain_path(self.key_file):
            raise ValueError(
                'key_file is a path from the root on, of letters, digits, ".", "_" and "-": "/etc/keys/notes.key"'
            )


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

    uuid: Annotated[NativeId | None, means("id of the filesystem, as guests know it, where it is not derived")] = None
    label: Annotated[
        Label | None,
        means(
            'of filesystem and partition; `""` for none',
            "the name of disk or volume; numbered if a disk has several",
        ),
    ] = None
    size: Annotated[PartSize | None, means('a size, a share of the disk or pool, or `"rest"`', '`"rest"`')] = None
    usable: Annotated[Size | None, means("instead of `size`: what an ordinary user must be able to fill")] = None
    filesystem: Annotated[
        FilesystemName | None,
        means(
            f"{names(FILESYSTEMS)}, or `none`",
            "`ext4`; windows: `ntfs`",
        ),
    ] = None
    purpose: Annotated[
        Purpose,
        means(
            f"{names(PURPOSES)}: see [formats.md](formats.md#what-for-sets)",
        ),
    ] = field(name="for", default="general")
    at: Annotated[
        MountPoint | None,
        means(
            "linux: mount point. windows: a letter, `\"T:\"`, or a folder on a volume of this sheet, `'T:\\frames'`",
            "not mounted; no letter",
        ),
    ] = None
    owner: Annotated[
        Owner | None,
        means(
            "`user`, `user:group`, names of the guest's accounts or numbers; a user alone brings its own "
            "group. ntfs, fat32 and exfat: the entry gives all files this one. windows, ntfs: whom the root "
            "belongs to",
            "`0:0`; `SYSTEM`",
        ),
    ] = None
    mode: Annotated[Mode | None, means("linux: of the filesystem's root, octal text", '`"0755"`')] = None
    needed: Annotated[
        bool,
        means(
            "linux: true: the guest must not start without it; false: `nofail` in the entry",
        ),
    ] = False
    options: Annotated[
        tuple[MountOption, ...] | None,
        means(
            'linux: mount options, `["noatime"]`, in place of those that its purpose brings',
        ),
    ] = None
    move_files: Annotated[
        bool,
        means("ext4, ntfs: whether files may be moved forward where it is made smaller than they reach"),
    ] = False
    sealed: Annotated[
        bool | SealForm,
        means(
            "linux: true: encrypted, opened by a passphrase, or a recovery key, that no sheet has; "
            '`{memory = "256 MiB", passes = 4}` is what trying one is to cost, `key_file` a file that opens it too; '
            "see [sealing.md](sealing.md)"
        ),
    ] = False
    block: Annotated[
        Size | None,
        means(
            "allocation unit, of every filesystem but swap",
            "the filesystem's choice",
        ),
    ] = None
    inode_each: Annotated[Size | None, means("ext4: bytes of it for each inode", "by purpose and size")] = None
    journal: Annotated[Size | None, means("ext4, xfs: size of journal or log", "by purpose and size")] = None
    reserved: Annotated[Share | None, means('ext4: share kept for the superuser, `"2%"`', "by purpose")] = None

    def __post_init__(self) -> None:
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

    @property
    def seal(self) -> SealForm | None:
        """How it is sealed, None if it is not."""
        return SealForm() if self.sealed is True else self.sealed or None


class PartitionForm(ContentForm):
    """`[[disk.NAME.partition]]`: one part of a disk and what lies on it; None is what the guest's system settles."""

    number: Annotated[
        Number | None,
        means("the number that the table gives it, where that is not its place in the order", "its place"),
    ] = None
    id: Annotated[
        NativeId | None, means("GPT: id of the partition, where it is not derived: that of a disk that others made")
    ] = None
    part_label: Annotated[
        Label | None, means("GPT: label of the partition, where it is not that of the filesystem", "`label`")
    ] = None
    access: Annotated[
        dict[str, Right],
        means(
            'windows, ntfs: who may do what with the root and all in it, `{Users = "read"}`: `full`, `change`, `read`',
            "ordinary users work",
        ),
    ] = {}
    attributes: Annotated[
        tuple[Attribute, ...] | None,
        means(
            "windows, GPT: any of `read-only`, `hidden`, `no-letter`",
            "`no-letter` without a letter",
        ),
    ] = None
    pool: Annotated[
        Name | None,
        means("linux: the pool that it is a member of, `[pool.NAME]`; its filesystems are those of the pool's volumes"),
    ] = None

    def __post_init__(self) -> None:
        super().__post_init__()
        for name in self.access:
            owner(name)
        if self.pool is not None:
            given = self.given(one for one in self.__struct_fields__ if one not in _OF_MEMBERS)
            if given:
                raise ValueError(f"a member of a pool has no {', '.join(given)}; give that to the pool's volumes")


_OF_MEMBERS = {"pool", "size", "number", "id", "label", "part_label"}


class VolumeForm(ContentForm, kw_only=True):
    """`[[pool.NAME.volume]]`: one volume of a pool and what lies on it; None is what the guest's system settles."""

    name: Annotated[Name, means("its name in the pool")]
    was: Annotated[
        Name | None,
        means("the name that the volume had before; its ids stay those of the old name, so this key stays too"),
    ] = None
    spread: Annotated[
        Spread,
        means("`linear`: on one member after the other; `striped`: over several at once; `mirrored`: whole on each"),
    ] = "linear"
    over: Annotated[
        Annotated[int, Meta(ge=2, le=64)] | None,
        means("how many members a striped volume goes over, or how many copies a mirrored one has", "`2`"),
    ] = None
    chunk: Annotated[Chunk | None, means("striped: bytes on one member before the next one's turn", "`64 KiB`")] = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if not is_name(self.name):
            raise ValueError(f'no volume can be called "{self.name}": guests keep such names for themselves')
        if self.spread == "linear" and self.over is not None:
            raise ValueError("over is for striped and mirrored volumes")
        if self.spread != "striped" and self.chunk is not None:
            raise ValueError("chunk is for striped volumes")
