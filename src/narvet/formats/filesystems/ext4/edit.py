"""Files of an ext4 changed while no guest has it mounted: folders made and removed, files' content replaced.

What is written goes to a device that keeps it back until everything is known, so that no order matters and the journal
stays as it is: clean. What a feature would have us keep besides, and is not known here, is refused by name.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError, refuse_unknown
from narvet.formats.filesystems.ext4.attributes import INLINE, Attribute, attributes_of, encoded
from narvet.formats.filesystems.ext4.entries import block_of, entries_of, with_entry, with_tail, without_entry
from narvet.formats.filesystems.ext4.files import Ext4Files, Held, files_of
from narvet.formats.filesystems.ext4.folders import is_hash_node
from narvet.formats.filesystems.ext4.index import HashTree, Rules, signed_node
from narvet.formats.filesystems.ext4.inodes import inode_seed, signed_in
from narvet.formats.filesystems.ext4.maps_of_blocks import map_blocks, mapped_singly
from narvet.formats.filesystems.ext4.read import read
from narvet.formats.filesystems.ext4.records import (
    CASEFOLDED,
    ENCRYPTED,
    EXTRA_ISIZE,
    HARMLESS,
    HUGE_FILE,
    INDEXED,
    INLINE_DATA,
    INODE_SIZE,
    LONGEST_EXTENT,
    UNDERSTOOD,
    USES_EXTENTS,
    DirectoryTail,
    Inode,
)
from narvet.formats.filesystems.ext4.space import Space
from narvet.formats.filesystems.ext4.trees import Mapped, built, extent_tree_nodes, joined_up, mapped, single_blocks
from narvet.formats.filesystems.trees import Kind, Node, Owner
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.findings import image_place
from narvet.ground.values import replace

_UNDERSTOOD = (UNDERSTOOD | HARMLESS) - {"quota"}
_INHERITED = 0x40 | 0x80 | 0x10000 | 0x20000000  # no dump, no access times, synchronous, project
_IMMUTABLE, _APPEND, _COMPRESSED, _VERITY = 0x10, 0x20, 0x4, 0x100000
_LOCKED = {
    _IMMUTABLE: "immutable", _APPEND: "only to be appended to", ENCRYPTED: "encrypted", _COMPRESSED: "compressed",
    _VERITY: "sealed by its checksums",
}  # fmt: skip
_FOLDER, _FILE = 0o040000, 0o100000
_KIND_FILE, _KIND_FOLDER = 1, 2
_MOST_LINKS = 65000
_SMALLEST_WITH_EXTRA = 256
_UNSIGNED_HASH = 2  # s_flags
_BY_GUEST = "let its guest do it"


class Ext4Edited(Ext4Files):
    """The files of an ext4 on a device that keeps all writes back; `moment` is seconds since 1970."""

    def __init__(self, files: Ext4Files, moment: int) -> None:
        super().__init__(files.volume)
        self._moment = moment
        self._device = files.volume.device
        self._space = Space(files.volume)
        self._ratio = files.volume.shape.cluster_blocks

    def held_of(self, node: Node) -> Held:
        """Return the inode of a node as it is now."""
        return self.held(node.number)

    def make_folder(self, parent: Node, name: str, owner: Owner, attributes: Mapping[str, bytes]) -> Node:
        """Make a folder in another one."""
        above = self._open_folder(parent, name)
        links = above.inode.i_links_count
        if links >= _MOST_LINKS and not self.volume.ro_compat("dir_nlink"):
            raise RefusedError(f"{name}: the folder above it has as many folders as it can have")
        number = self._space.take_inode(self._space.group_of(above.number), is_folder=True)
        run = self._space.take(1, self._space.group_of(number))[0]
        inode = self._fresh(number, _FOLDER, owner, above)
        inode = replace(inode, i_links_count=2, i_size_lo=self.volume.block_size)
        inode = self._with_blocks(inode, [Mapped(0, run.start, 1)], number, ())
        entries = [(number, self._kind(_KIND_FOLDER), b"."), (above.number, self._kind(_KIND_FOLDER), b"..")]
        self._put_block(run.start, block_of(entries, self._room), number, inode.i_generation)
        self._put_new(number, inode, attributes, name)
        self._add_name(above, name, number, _KIND_FOLDER)
        above = self.held(above.number)
        more = links + 1 if 1 < links < _MOST_LINKS else 1
        self._put(above, self._touched(replace(above.inode, i_links_count=more)))
        self._space.write()
        return self.node(number)

    def own(self, folder: Node, owner: Owner) -> bool:
        """Give a folder owner and permissions."""
        held = self.held(folder.number)
        inode = held.inode
        changed = replace(
            inode,
            i_mode=inode.i_mode & ~0o7777 | owner.mode,
            i_uid=owner.uid & 0xFFFF,
            i_uid_high=owner.uid >> 16,
            i_gid=owner.gid & 0xFFFF,
            i_gid_high=owner.gid >> 16,
        )
        if changed != inode:
            self._put(held, replace(changed, i_ctime=self._low, i_ctime_extra=self._extra(changed)))
        return True

    def remove_folder(self, parent: Node, name: str) -> bool:
        """Remove an empty folder; return whether there was one."""
        node = self.look_up(parent, name)
        if node is None or node.kind != Kind.FOLDER or next(self.names(node), None) is not None:
            return False
        return self._remove(self.held(parent.number), name, self.held(node.number), is_folder=True)

    def remove_file(self, folder: Node, name: str) -> bool:
        """Remove a file that has this one name only, zeros over what it held; return whether there was such a one."""
        node = self.look_up(folder, name)
        if node is None or node.kind != Kind.FILE or node.names != 1:
            return False
        held = self.held(node.number)
        self._refuse_locked(held, name)
        held = self._without_inline(held) if held.has(INLINE_DATA) else held
        size = self.volume.block_size
        for run in self.runs(held):
            self._device.zero(run.start * size, run.count * size)
        return self._remove(self.held(folder.number), name, held, is_folder=False)

    def _remove(self, above: Held, name: str, held: Held, *, is_folder: bool) -> bool:
        self._refuse_locked(above, name)
        if held.inode.i_file_acl_lo or held.inode.i_file_acl_high:
            return False  # its attributes lie in a block that other files may share: it stays, which harms nobody
        self._drop_name(above, name)
        self._give(held)
        gone = replace(held.inode, i_links_count=0, i_dtime=self._low, i_size_lo=0, i_size_high=0, i_blocks_lo=0)
        self._put(held, replace(gone, i_block=bytes(60)))
        self._space.give_inode(held.number, is_folder=is_folder)
        above = self.held(above.number)
        links = above.inode.i_links_count - is_folder
        self._put(above, self._touched(replace(above.inode, i_links_count=max(links, 2)) if is_folder else above.inode))
        self._space.write()
        return True

    def replace(self, folder: Node, name: str, content: bytes, mode: int = 0o644) -> None:
        """Give a file another content, or make one."""
        node = self.look_up(folder, name)
        if node is not None and node.kind != Kind.FILE:
            raise RefusedError(f"{name} is not a plain file")
        if node is None:
            above = self._open_folder(folder, name)
            number = self._space.take_inode(self._space.group_of(above.number), is_folder=False)
            inode = replace(self._fresh(number, _FILE, Owner(0, 0, mode), above), i_links_count=1)
            inode = self._with_content(inode, content, number, [], (), self._space.group_of(number))
            self._put_new(number, inode, {}, name)
            self._add_name(above, name, number, _KIND_FILE)
            above = self.held(above.number)
            self._put(above, self._touched(above.inode))
        else:
            held = self.held(node.number)
            self._refuse_locked(held, name)
            held = self._without_inline(held) if held.has(INLINE_DATA) else held
            own = list(self.runs(held)), self._meta_blocks(held)
            inode = self._with_content(held.inode, content, held.number, *own, self._space.group_of(held.number))
            self._put(held, self._touched(inode))
        self._space.write()

    def _open_folder(self, parent: Node, name: str) -> Held:
        """Return a folder that a name is to be put into, which it must not have."""
        above = self.held(parent.number)
        self._refuse_locked(above, name)
        if above.has(CASEFOLDED):
            raise CannotChangeError(f"{name}: the folder above it takes names without regard to case", _BY_GUEST)
        if len(name.encode("utf-8", "surrogateescape")) > 255:
            raise RefusedError(f"{name}: a name has at most 255 bytes")
        if self.look_up(parent, name) is not None:
            raise RefusedError(f"{name} is there already")
        return above

    def _refuse_locked(self, held: Held, name: str) -> None:
        for flag, word in _LOCKED.items():
            if held.has(flag):
                raise CannotChangeError(f"{name}: it or its folder is {word}", _BY_GUEST)

    # Times, kinds and other small things.

    @property
    def _low(self) -> int:
        return self._moment & 0xFFFFFFFF

    def _extra(self, inode: Inode) -> int:
        """Return the upper bits of the moment, without nanoseconds."""
        return (self._moment >> 32) & 3 if inode.i_extra_isize else 0

    def _touched(self, inode: Inode) -> Inode:
        """Return an inode whose content was changed at the moment."""
        extra = self._extra(inode)
        return replace(
            inode, i_mtime=self._low, i_ctime=self._low, i_mtime_extra=extra, i_ctime_extra=extra,
            i_version_lo=inode.i_version_lo + 1 & 0xFFFFFFFF,
        )  # fmt: skip

    def _kind(self, kind: int) -> int:
        return kind if self.volume.incompat("filetype") else 0

    @property
    def _room(self) -> int:
        """Bytes of a folder's block that entries can take."""
        return self.volume.block_size - (DirectoryTail.size if self.volume.checksums else 0)

    def _fresh(self, number: int, kind: int, owner: Owner, above: Held) -> Inode:
        """Return the inode of something new, without content."""
        size, want = self.volume.shape.inode_size, self.volume.superblock.s_want_extra_isize
        extra = (want if 28 <= want <= size - 128 else EXTRA_ISIZE) if size >= _SMALLEST_WITH_EXTRA else 0
        high = (self._moment >> 32) & 3 if extra else 0
        return Inode(
            i_mode=kind | owner.mode,
            i_uid=owner.uid & 0xFFFF,
            i_uid_high=owner.uid >> 16,
            i_gid=owner.gid & 0xFFFF,
            i_gid_high=owner.gid >> 16,
            i_flags=above.inode.i_flags & _INHERITED | (USES_EXTENTS if self.volume.incompat("extents") else 0),
            i_generation=crc32c_raw(number, struct.pack("<Q", self._moment & (1 << 64) - 1)),
            i_extra_isize=extra,
            i_projid=above.inode.i_projid if above.has(0x20000000) else 0,
            i_atime=self._low,
            i_ctime=self._low,
            i_mtime=self._low,
            i_crtime=self._low,
            i_atime_extra=high,
            i_ctime_extra=high,
            i_mtime_extra=high,
            i_crtime_extra=high,
        )

    def _seed(self, number: int, generation: int) -> int:
        return inode_seed(self.volume.seed, number, generation)

    # Inodes.

    def _put(self, held: Held, inode: Inode) -> None:
        """Write an inode; what lies behind its fields stays."""
        self._put_whole(held.number, inode, held.whole)

    def _put_whole(self, number: int, inode: Inode, whole: bytes) -> None:
        if self.volume.checksums:
            inode = signed_in(self.volume.seed, number, inode, whole)
        data = inode.encode()[: len(whole)] + whole[INODE_SIZE:]
        self._device.write(self.inode_place(number), data)
        self._known.pop(number, None)

    def _put_new(self, number: int, inode: Inode, attributes: Mapping[str, bytes], name: str) -> None:
        size = self.volume.shape.inode_size
        start = 128 + inode.i_extra_isize
        whole = inode.encode().ljust(size, b"\0")[:size]
        if attributes:
            own = [Attribute(key, value) for key, value in attributes.items()]
            kept = encoded(own, size - start) if size >= _SMALLEST_WITH_EXTRA else None
            if kept is None:
                raise CannotChangeError(f"{name}: its inode has no room for its attributes", _BY_GUEST)
            whole = whole[:start] + kept
        self._put_whole(number, Inode.decode(whole[:INODE_SIZE].ljust(INODE_SIZE, b"\0")), whole)

    def _without_inline(self, held: Held) -> Held:
        """Return a file as one whose content lies in blocks, of which it has none yet."""
        in_inode = replace(held.inode, i_file_acl_lo=0, i_file_acl_high=0)
        every = list(attributes_of(self.volume, held.number, in_inode, held.whole))
        start, left = 128 + held.inode.i_extra_isize, [one for one in every if one.name != INLINE]
        kept = encoded(left, len(held.whole) - start) if left else bytes(len(held.whole) - start)
        if kept is None:
            raise ImageError(f"inode {held.number}: its attributes do not fit it")
        whole = held.whole[:start] + kept
        flags = held.inode.i_flags & ~INLINE_DATA | (USES_EXTENTS if self.volume.incompat("extents") else 0)
        inode = replace(Inode.decode(whole[:INODE_SIZE]), i_flags=flags, i_size_lo=0, i_size_high=0)
        return Held(held.number, replace(inode, i_block=self._no_blocks(inode)), whole)

    def _no_blocks(self, inode: Inode) -> bytes:
        return built([], [], self.volume, 0)[0] if inode.i_flags & USES_EXTENTS else bytes(60)

    # Blocks of files.

    def _with_content(
        self, inode: Inode, content: bytes, number: int, runs: list[Mapped], meta: tuple[int, ...], near: int
    ) -> Inode:
        """Return a file's inode with other content, which is written: over its blocks, and new ones if need be."""
        block = self.volume.block_size
        count = -(-len(content) // block)
        kept = self._kept(runs, count)
        have = sum(run.count for run in kept)
        clusters = -(-(count - have) // self._ratio)
        new = [
            Mapped(0, start, min(LONGEST_EXTENT, run.end - start))
            for run in self._space.take(clusters, near)
            for start in range(run.start, run.end, LONGEST_EXTENT)
        ]
        every, logical = list[Mapped](), 0
        for run in (*kept, *new):
            length = min(run.count, count - logical)
            every.append(Mapped(logical, run.start, length))
            data = content[logical * block : (logical + length) * block]
            self._device.write(run.start * block, data.ljust(length * block, b"\0"))
            logical += length
        inode = replace(inode, i_size_lo=len(content) & 0xFFFFFFFF, i_size_high=len(content) >> 32)
        return self._with_blocks(inode, joined_up(every), number, meta)

    def _kept(self, runs: list[Mapped], count: int) -> list[Mapped]:
        """Return the runs that a file keeps for `count` blocks; the others become free.

        Where blocks are given out in clusters, it keeps all or none.
        """
        if self._ratio > 1:
            wanted, have = (-(-blocks // self._ratio) for blocks in (count, runs[0].count if runs else 0))
            if count and len(runs) == 1 and not runs[0].logical and wanted == have:
                return [replace(runs[0], count=count)]
            for start in sorted({(run.start + index) // self._ratio for run in runs for index in range(run.count)}):
                self._space.give(Extent(start * self._ratio, self._ratio))
            return []
        kept, left = list[Mapped](), count
        for run in runs:
            length = min(run.count, left)
            if length:
                kept.append(replace(run, count=length))
            if length < run.count:
                self._space.give(Extent(run.start + length, run.count - length))
            left -= length
        return kept

    def _meta_blocks(self, held: Held) -> tuple[int, ...]:
        """Return the blocks of a file's tree or maps."""
        if held.has(USES_EXTENTS):
            nodes: list[int] = []
            seed = self._seed(held.number, held.inode.i_generation)
            for _ in mapped(self.volume, held.inode.i_block, seed, on_node=nodes.append):
                pass
            return tuple(nodes)
        return tuple(place for level, _, place in single_blocks(self.volume, held.inode.i_block) if level)

    def _with_blocks(self, inode: Inode, runs: list[Mapped], number: int, meta: tuple[int, ...]) -> Inode:
        """Return an inode with the runs it is to have; its tree or maps are written, over `meta` and new blocks."""
        in_extents, block = bool(inode.i_flags & USES_EXTENTS), self.volume.block_size
        blocks = sum(run.count for run in runs)
        need = extent_tree_nodes(len(runs), block) if in_extents else map_blocks(blocks, block)
        for place in meta[need:]:
            self._space.give(Extent(place // self._ratio * self._ratio, self._ratio))
        places = list(meta[:need])
        near = self._space.group_of(number)
        for run in self._space.take(need - len(places), near):
            places += range(run.start, run.end, self._ratio)
        if in_extents:
            mapping, nodes = built(runs, places, self.volume, self._seed(number, inode.i_generation))
        else:
            single = [run.start + index for run in runs for index in range(run.count)]
            mapping, nodes = mapped_singly(single, places, block)
        for place, data in nodes.items():
            self._device.write(place * block, data)
        stored = len({(run.start + index) // self._ratio for run in runs for index in range(run.count)}) + need
        stored += 1 if inode.i_file_acl_lo or inode.i_file_acl_high else 0
        unit = 1 if inode.i_flags & HUGE_FILE else block // 512
        units = stored * self._ratio * unit
        return replace(inode, i_block=mapping, i_blocks_lo=units & 0xFFFFFFFF, i_blocks_high=units >> 32)

    def _give(self, held: Held) -> None:
        """Make everything free that a file has."""
        if not held.has(INLINE_DATA):
            self._kept(list(self.runs(held)), 0)
            for place in self._meta_blocks(held):
                self._space.give(Extent(place // self._ratio * self._ratio, self._ratio))

    # Names in folders.

    def _put_block(self, place: int, data: bytes, number: int, generation: int) -> None:
        seed = self._seed(number, generation) if self.volume.checksums else None
        self._device.write(place * self.volume.block_size, with_tail(data, seed))

    def _add_name(self, above: Held, name: str, number: int, kind: int) -> None:
        """Put a name into a folder, whose blocks and inode are written; times and links are left to the caller."""
        text, kind = name.encode("utf-8", "surrogateescape"), self._kind(kind)
        if above.has(INLINE_DATA):
            above = self._as_block(above)
        if above.has(INDEXED):
            self._add_hashed(above, text, number, kind)
            return
        for index, data in self.folder_blocks(above):
            changed = with_entry(data[: self._room], text, number, kind)
            if changed is not None:
                self._put_block(self._place_of(above, index), changed, above.number, above.inode.i_generation)
                return
        data = block_of([(number, kind, text)], self._room)
        above = self._longer(above, 1)
        last = above.size // self.volume.block_size - 1
        self._put_block(self._place_of(above, last), data, above.number, above.inode.i_generation)

    def _add_hashed(self, above: Held, name: bytes, number: int, kind: int) -> None:
        volume = self.volume
        rules = Rules(
            volume.block_size,
            self._room,
            volume.superblock.s_hash_seed.bytes,
            bool(volume.superblock.s_flags & _UNSIGNED_HASH),
            volume.checksums,
            volume.incompat("large_dir"),
        )
        old = dict(self.folder_blocks(above))
        tree = HashTree(rules, lambda index: old.get(index, bytes(volume.block_size)), above.size // volume.block_size)
        before = tree.count
        tree.insert(name, number, kind)
        above = self._longer(above, tree.count - before)
        seed = self._seed(above.number, above.inode.i_generation)
        for index, data in tree.changed.items():
            place = self._place_of(above, index)
            if index in tree.nodes:
                node = signed_node(data, seed, is_root=not index) if volume.checksums else data
                self._device.write(place * volume.block_size, node)
            else:
                self._put_block(place, data, above.number, above.inode.i_generation)

    def _as_block(self, above: Held) -> Held:
        """Return a folder whose few names lie in its inode with them in a block, which is written."""
        parent = int.from_bytes(above.inode.i_block[:4], "little")
        folder = self._kind(_KIND_FOLDER)
        every = [one for data in self._folder_pieces(above) for one in entries_of(data) if one.inode]
        names = [(one.inode, one.kind, one.name) for one in every]
        held = self._without_inline(above)
        run = self._space.take(1, self._space.group_of(above.number))[0]
        inode = self._with_blocks(held.inode, [Mapped(0, run.start, 1)], above.number, ())
        inode = replace(inode, i_size_lo=self.volume.block_size)
        data = block_of([(above.number, folder, b"."), (parent, folder, b".."), *names], self._room)
        self._put_block(run.start, data, above.number, inode.i_generation)
        self._put_whole(above.number, inode, held.whole)
        return self.held(above.number)

    def _drop_name(self, above: Held, name: str) -> None:
        text = name.encode("utf-8", "surrogateescape")
        if above.has(INLINE_DATA):
            above = self._as_block(above)
        indexed = above.has(INDEXED)
        for index, data in self.folder_blocks(above):
            if is_hash_node(data, is_root=indexed and not index, indexed=indexed):
                continue
            changed = without_entry(data[: self._room], text)
            if changed is not None:
                self._put_block(self._place_of(above, index), changed, above.number, above.inode.i_generation)
                return
        raise ImageError(f"inode {above.number}: it does not have the name {name}")

    def _place_of(self, held: Held, index: int) -> int:
        """Return the block of the filesystem that a block of a file is."""
        for run in self.runs(held):
            if run.logical <= index < run.logical + run.count:
                return run.start + index - run.logical
        raise ImageError(f"inode {held.number} has no block {index}")

    def _longer(self, held: Held, count: int) -> Held:
        """Return a folder with so many blocks more at its end; they are not written yet."""
        if not count:
            return held
        runs, logical = list(self.runs(held)), held.size // self.volume.block_size
        left = count
        spare = -(runs[-1].start + runs[-1].count) % self._ratio if runs and self._ratio > 1 else 0
        if spare:  # of the cluster that it has
            more = min(spare, left)
            runs.append(Mapped(logical, runs[-1].end, more))
            logical, left = logical + more, left - more
        for run in self._space.take(-(-left // self._ratio), self._space.group_of(held.number)):
            more = min(run.length, left)
            runs.append(Mapped(logical, run.start, more))
            logical, left = logical + more, left - more
        size = held.size + count * self.volume.block_size
        inode = replace(held.inode, i_size_lo=size & 0xFFFFFFFF, i_size_high=size >> 32)
        self._put(held, self._with_blocks(inode, joined_up(runs), held.number, self._meta_blocks(held)))
        return self.held(held.number)


def edited(device: BlockDevice, moment: int) -> Ext4Edited:
    """Return the files on a device that keeps all writes back; `moment` is seconds since 1970.

    Raises:
        ImageError: it is not sound.
        CannotChangeError: it is not clean, or uses what is not known well enough here.
    """
    state = read(device, image_place(""), deep=False)
    if state is None:
        raise ImageError("there is no superblock of an ext4")
    refuse_unknown(state, _UNDERSTOOD)
    return Ext4Edited(files_of(device), moment)
