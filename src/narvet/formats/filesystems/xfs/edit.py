"""Files of an XFS changed while no guest has it mounted: folders made and removed, files' content replaced.

What is written goes to a device that keeps it back until everything is known, so that the log stays as it is: clean. A
file's new content gets new blocks, and a folder is made anew from its names: blocks that others share are left alone.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping, Sequence

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError, refuse_unknown
from narvet.formats.filesystems.trees import Kind, Node, Owner
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.file_blocks import BIGTIME, IN_EXTENTS, IN_INODE, IN_TREE, NREXT64, Run, tree_places
from narvet.formats.filesystems.xfs.files import Held, XfsFiles, files_of
from narvet.formats.filesystems.xfs.folders import Form, Name, pieces, short
from narvet.formats.filesystems.xfs.groups import sealed
from narvet.formats.filesystems.xfs.read import read
from narvet.formats.filesystems.xfs.space import Space, free_inode
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.findings import image_place
from narvet.ground.values import replace

_BY_GUEST = "let its guest do it"
_FOLDER, _FILE = 0o040000, 0o100000
_REALTIME, _IMMUTABLE, _APPEND, _INHERITS_PROJECT = 0x1, 0x8, 0x10, 0x200  # di_flags
_LOCKED = {_REALTIME: "on a real-time device", _IMMUTABLE: "immutable", _APPEND: "only to be appended to"}
_HAS_ATTRIBUTES, _IGNORES_CASE = 0x10, 0x4000  # sb_versionnum
_QUOTAS_CHECKED = 0x4 | 0x20 | 0x100 | 0x400  # sb_qflags; without them the kernel counts anew at mount
_BIGTIME_EPOCH = 1 << 31
_SPACES = {"user.": 0, "trusted.": 0x2, "security.": 0x4}
_LONGEST_EXTENT = (1 << 21) - 1


class XfsEdited(XfsFiles):
    """The files of an XFS on a device that keeps all writes back; `moment` is seconds since 1970."""

    def __init__(self, files: XfsFiles, moment: int, free: int) -> None:
        super().__init__(files.volume)
        self._moment = moment
        self._device = files.volume.device
        self._space = Space(files.volume, free // files.volume.shape.block_size)
        superblock = files.volume.superblock
        self._form = Form(self.blocks.folder_block, self.blocks.block, self._with_kinds, files.volume.uuid)
        self._parents = bool(superblock.sb_features_incompat & _bit("parent"))

    def held_of(self, node: Node) -> Held:
        """Return the inode of a node as it is now."""
        return self.held(node.number)

    def make_folder(self, parent: Node, name: str, owner: Owner, attributes: Mapping[str, bytes]) -> Node:
        """Make a folder in another one."""
        above = self._open_folder(parent, name)
        number = self._space.take_inode(self._space.group_of(above.number))
        content = short([], above.number, self._form) or b""
        inode = replace(
            self._fresh(number, _FOLDER, owner, above), di_format=IN_INODE, di_nlink=2, di_size=len(content)
        )
        self._put_new(inode, content, attributes, name)
        self._put_names(above, [*self._entries(above), Name(number, 2, _bytes(name))], links=1)
        self._finish()
        return self.node(number)

    def own(self, folder: Node, owner: Owner) -> bool:
        """Give a folder owner and permissions."""
        held = self.held(folder.number)
        inode = held.inode
        changed = replace(inode, di_mode=inode.di_mode & ~0o7777 | owner.mode, di_uid=owner.uid, di_gid=owner.gid)
        if changed != inode:
            self._put(held, replace(changed, di_ctime=self._time(changed), di_changecount=inode.di_changecount + 1))
            self._finish()
        return True

    def remove_folder(self, parent: Node, name: str) -> bool:
        """Remove an empty folder; return whether there was one."""
        node = self.look_up(parent, name)
        if node is None or node.kind != Kind.FOLDER or next(self.names(node), None) is not None:
            return False
        return self._remove(self.held(parent.number), name, self.held(node.number), links=-1)

    def remove_file(self, folder: Node, name: str) -> bool:
        """Remove a file that has this one name only, zeros over what it held; return whether there was such a one."""
        node = self.look_up(folder, name)
        if node is None or node.kind != Kind.FILE or node.names != 1:
            return False
        held = self.held(node.number)
        self._refuse_locked(held, name)
        for run in self.runs(held) if held.inode.di_format != IN_INODE else ():
            self._device.zero(self.blocks.byte_of(run.place), run.blocks * self.volume.shape.block_size)
        return self._remove(self.held(folder.number), name, held, links=0)

    def _remove(self, above: Held, name: str, held: Held, *, links: int) -> bool:
        self._refuse_locked(above, name)
        if held.inode.di_forkoff and held.inode.di_aformat != IN_INODE and held.extents[1]:
            return False  # its attributes have blocks of their own: it stays, which harms nobody
        self._give_content(held)
        size = self.volume.shape.inode_size
        gone = free_inode(held.number, self.volume.uuid, size, held.inode.di_gen + 1 & 0xFFFFFFFF)
        self._device.write(self.inode_place(held.number), gone)
        self._space.give_inode(held.number)
        text = _bytes(name)
        self._put_names(above, [one for one in self._entries(above) if one.name != text], links=links)
        self._finish()
        return True

    def replace(self, folder: Node, name: str, content: bytes, mode: int = 0o644) -> None:
        """Give a file another content, or make one."""
        node = self.look_up(folder, name)
        if node is not None and node.kind != Kind.FILE:
            raise RefusedError(f"{name} is not a plain file")
        if node is None:
            above = self._open_folder(folder, name)
            number = self._space.take_inode(self._space.group_of(above.number))
            inode = replace(self._fresh(number, _FILE, Owner(0, 0, mode), above), di_nlink=1)
            fork, inode = self._with_content(inode, content, self._literal)
            self._put_new(inode, fork, {}, name)
            self._put_names(above, [*self._entries(above), Name(number, 1, _bytes(name))])
        else:
            held = self.held(node.number)
            self._refuse_locked(held, name)
            kept = self._give_content(held)
            fork, inode = self._with_content(replace(held.inode, di_nblocks=kept), content, len(held.content))
            self._put(held, self._touched(inode), fork)
        self._finish()

    def _open_folder(self, parent: Node, name: str) -> Held:
        """Return a folder that a name is to be put into, which it must not have."""
        above = self.held(parent.number)
        self._refuse_locked(above, name)
        superblock = self.volume.superblock
        if superblock.sb_versionnum & _IGNORES_CASE:
            raise CannotChangeError(f"{name}: the filesystem takes names without regard to case", _BY_GUEST)
        if self._parents:
            raise CannotChangeError(f"{name}: the filesystem keeps what each file's parent is (parent)", _BY_GUEST)
        if len(_bytes(name)) > 255:
            raise RefusedError(f"{name}: a name has at most 255 bytes")
        if self.look_up(parent, name) is not None:
            raise RefusedError(f"{name} is there already")
        return above

    def _refuse_locked(self, held: Held, name: str) -> None:
        for flag, word in _LOCKED.items():
            if held.inode.di_flags & flag:
                raise CannotChangeError(f"{name}: it or its folder is {word}", _BY_GUEST)

    def _finish(self) -> None:
        """Write what was taken and given back; quotas, where they are kept, are counted anew by the kernel."""
        self._space.write()
        superblock = self._space.superblock
        if superblock.sb_qflags & _QUOTAS_CHECKED:
            self._space.put_superblock(replace(superblock, sb_qflags=superblock.sb_qflags & ~_QUOTAS_CHECKED))

    # Inodes.

    @property
    def _literal(self) -> int:
        """Bytes of an inode that content and attributes share."""
        return self.volume.shape.inode_size - r.Inode.size

    def _time(self, inode: r.Inode) -> int:
        if inode.di_flags2 & BIGTIME:
            return (self._moment + _BIGTIME_EPOCH) * 10**9
        return (self._moment & 0xFFFFFFFF) << 32

    def _touched(self, inode: r.Inode) -> r.Inode:
        """Return an inode whose content was changed at the moment."""
        now = self._time(inode)
        return replace(inode, di_mtime=now, di_ctime=now, di_changecount=inode.di_changecount + 1)

    def _fresh(self, number: int, kind: int, owner: Owner, above: Held) -> r.Inode:
        """Return the inode of something new, without content."""
        incompat = self.volume.superblock.sb_features_incompat
        flags2 = (BIGTIME if incompat & r.BIGTIME else 0) | (NREXT64 if incompat & r.NREXT64 else 0)
        inherits = above.inode.di_flags & _INHERITS_PROJECT
        before = r.Inode.decode(self._device.read(self.inode_place(number), r.Inode.size))
        generation = before.di_gen + 1 if before.di_magic == b"IN" else crc32c(struct.pack("<Q", number))
        inode = r.Inode(
            di_magic=b"IN",
            di_mode=kind | owner.mode,
            di_version=3,
            di_format=IN_EXTENTS,
            di_uid=owner.uid,
            di_gid=owner.gid,
            di_projid_lo=above.inode.di_projid_lo if inherits else 0,
            di_projid_hi=above.inode.di_projid_hi if inherits else 0,
            di_aformat=IN_EXTENTS,
            di_flags=inherits if kind == _FOLDER else 0,
            di_gen=generation & 0xFFFFFFFF,
            di_next_unlinked=r.NULL_AGINO,
            di_changecount=1,
            di_flags2=flags2,
            di_ino=number,
            di_uuid=self.volume.uuid,
        )
        now = self._time(inode)
        return replace(inode, di_atime=now, di_mtime=now, di_ctime=now, di_crtime=now)

    def _put(self, held: Held, inode: r.Inode, content: bytes | None = None) -> None:
        """Write an inode, with other content where that is given; its attributes stay."""
        fork = held.content if content is None else content.ljust(len(held.content), b"\0")
        self._put_whole(inode, fork + held.attributes)

    def _put_new(self, inode: r.Inode, content: bytes, attributes: Mapping[str, bytes], name: str) -> None:
        kept = _short_attributes(attributes) if attributes else b""
        room = (self._literal - len(kept)) // 8 * 8
        if kept and (room < max(len(content), 32) or len(kept) > 256):
            raise CannotChangeError(f"{name}: its inode has no room for its attributes", _BY_GUEST)
        if kept:
            inode = replace(inode, di_forkoff=room // 8, di_aformat=IN_INODE)
            superblock = self._space.superblock
            if not superblock.sb_versionnum & _HAS_ATTRIBUTES:
                changed = superblock.sb_versionnum | _HAS_ATTRIBUTES
                self._space.put_superblock(replace(superblock, sb_versionnum=changed))
        self._put_whole(inode, content.ljust(room, b"\0") + kept)

    def _put_whole(self, inode: r.Inode, forks: bytes) -> None:
        size = self.volume.shape.inode_size
        self._device.write(self.inode_place(inode.di_ino), sealed(inode, "di_crc", size, forks[: size - r.Inode.size]))
        self._known.pop(inode.di_ino, None)

    # Content.

    def _give_content(self, held: Held) -> int:
        """Give back all blocks of a file's content; return how many it still has, for its attributes."""
        inode = held.inode
        kept = inode.di_nblocks
        if inode.di_format == IN_INODE:
            return kept
        for run in self.runs(held):
            self._space.give(Extent(run.place, run.blocks), held.number, run.start)
            kept -= run.blocks
        if inode.di_format == IN_TREE:
            for place in tree_places(self.blocks, held.content):
                self._space.give(Extent(place, 1), held.number, r.IN_TREE)
                kept -= 1
        return kept

    def _with_content(self, inode: r.Inode, content: bytes, room: int) -> tuple[bytes, r.Inode]:
        """Return the extents of new content, which is written, and the inode that has them in `room` bytes of it."""
        block = self.volume.shape.block_size
        data = {0: content.ljust(-(-len(content) // block) * block, b"\0")} if content else {}
        runs = self._written(inode.di_ino, data)
        return self._in_extents(inode, runs, len(content), room)

    def _written(self, number: int, parts: Mapping[int, bytes]) -> list[Run]:
        """Return the runs of new blocks for parts of a file, by the byte that each starts at, which are written."""
        block, near, runs = self.volume.shape.block_size, self._space.group_of(number), list[Run]()
        for offset, data in sorted(parts.items()):
            start = offset // block
            for run in self._space.take(len(data) // block, near, number, start):
                for first in range(0, run.length, _LONGEST_EXTENT):
                    count = min(_LONGEST_EXTENT, run.length - first)
                    runs.append(Run(start, run.start + first, count))
                    at = (start * block) - offset
                    self._device.write(self.blocks.byte_of(run.start + first), data[at : at + count * block])
                    start += count
        return runs

    def _in_extents(self, inode: r.Inode, runs: Sequence[Run], size: int, room: int) -> tuple[bytes, r.Inode]:
        """Return a fork of extents, and the inode that has it."""
        if 16 * len(runs) > room:
            raise RefusedError("what is free of its filesystem is in too many pieces; make room in it")
        fork = b"".join((run.start << 73 | run.place << 21 | run.blocks).to_bytes(16, "big") for run in runs)
        stored = inode.di_nblocks + sum(run.blocks for run in runs)
        inode = replace(inode, di_format=IN_EXTENTS, di_size=size, di_nblocks=stored)
        if inode.di_flags2 & NREXT64:
            return fork, replace(inode, di_big_nextents=len(runs))
        return fork, replace(inode, di_nextents=len(runs))

    # Names in folders.

    def _entries(self, folder: Held) -> list[Name]:
        """Return the names in a folder, `.` and `..` left out."""
        return [one for one in self.entries(folder) if one.name not in (b".", b"..")]

    def _put_names(self, above: Held, names: Sequence[Name], links: int = 0) -> None:
        """Make a folder anew from its names, and write it with its times; `links` is how many more lead to it."""
        above = self.held(above.number)
        parent, room = self._parent_of(above), len(above.content)
        inode = self._touched(replace(above.inode, di_nlink=above.inode.di_nlink + links))
        inode = replace(inode, di_nblocks=self._give_content(above))
        content = short(names, parent, self._form)
        if content is not None and len(content) <= room:
            inode = replace(inode, di_format=IN_INODE, di_size=len(content))
            wide = inode.di_flags2 & NREXT64
            inode = replace(inode, di_big_nextents=0) if wide else replace(inode, di_nextents=0)
            self._put(above, inode, content)
            return
        made = pieces(names, above.number, parent, self._form)
        parts = dict(_joined((piece.offset, piece.data) for piece in made))
        runs = self._written(above.number, parts)
        for piece in made:
            place = self._place_of(runs, piece.offset)
            self._write_over(runs, piece.offset, piece.at(place))
        size = max(piece.offset for piece in made if piece.offset < 1 << 35) + self._form.block
        fork, inode = self._in_extents(inode, runs, size, room)
        self._put(above, inode, fork)

    def _place_of(self, runs: Iterable[Run], offset: int) -> int:
        """Return the byte of the filesystem at which a byte of a folder lies, which starts one of its blocks."""
        block = self.volume.shape.block_size
        for run in runs:
            if run.start <= offset // block < run.start + run.blocks:
                return self.blocks.byte_of(run.place + offset // block - run.start)
        raise ImageError("a block of a folder has no place")

    def _write_over(self, runs: Sequence[Run], offset: int, data: bytes) -> None:
        block = self.volume.shape.block_size
        for start in range(0, len(data), block):
            self._device.write(self._place_of(runs, offset + start), data[start : start + block])

    def _parent_of(self, folder: Held) -> int:
        if folder.inode.di_format == IN_INODE:
            size = 8 if folder.content[1] else 4
            return int.from_bytes(folder.content[2 : 2 + size], "big")
        return next(one.inode for one in self.entries(folder) if one.name == b"..")


def _joined(parts: Iterable[tuple[int, bytes]]) -> Iterable[tuple[int, bytes]]:
    """Yield parts of a file with those made one that go on where another ends."""
    start, data = -1, bytearray()
    for offset, more in sorted(parts):
        if data and offset == start + len(data):
            data += more
            continue
        if data:
            yield start, bytes(data)
        start, data = offset, bytearray(more)
    if data:
        yield start, bytes(data)


def _short_attributes(attributes: Mapping[str, bytes]) -> bytes:
    """Return attributes as they lie in an inode."""
    data = bytearray()
    for name, value in attributes.items():
        space = next((prefix for prefix in _SPACES if name.startswith(prefix)), "user.")
        text = _bytes(name.removeprefix(space))
        if len(text) > 255 or len(value) > 255:
            raise CannotChangeError(f"{name}: the attribute is too large to be taken over", _BY_GUEST)
        data += bytes([len(text), len(value), _SPACES[space]]) + text + value
    return struct.pack(">HBB", 4 + len(data), len(attributes), 0) + bytes(data)


def _bytes(name: str) -> bytes:
    return name.encode("utf-8", "surrogateescape")


def _bit(name: str) -> int:
    return next(bit for bit, known in r.INCOMPAT.items() if known == name)


def edited(device: BlockDevice, moment: int) -> XfsEdited:
    """Return the files on a device that keeps all writes back; `moment` is seconds since 1970.

    Raises:
        ImageError: it is not sound.
        CannotChangeError: it is not clean, or uses what is not known well enough here.
    """
    state = read(device, image_place(""), deep=False)
    if state is None:
        raise ImageError("there is no superblock of an XFS")
    refuse_unknown(state, r.UNDERSTOOD | r.HARMLESS)
    return XfsEdited(files_of(device), moment, state.free)
