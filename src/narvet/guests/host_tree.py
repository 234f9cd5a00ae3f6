"""A folder of this machine as a tree of files: every step goes through folders held open, never through a path.

So links are followed as the guest itself would follow them, never out of the root, even if they are swapped meanwhile.
"""

from __future__ import annotations

import errno
import os
import stat
import time
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import cast

from narvet.block.names import PARTIAL, sync_handle
from narvet.block.publish import replace_in
from narvet.formats.filesystems.trees import Kind, Node, Owner, TreeReader, UnsafePathError
from narvet.ground.errors import RefusedError

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_NO_FOLDER = (errno.ENOTDIR, errno.ELOOP)
_LOCK_TRIES = 100
_LOCK_WAIT = 0.05  # seconds


class HostTree(TreeReader):
    """A folder of this machine, open; folders that are looked up stay so until their `scope` is left.

    A folder's node holds its handle; that of anything else its folder's handle and its name there.
    """

    def __init__(self, path: Path, handle: int) -> None:
        self._path = path
        self._root = _folder_node(handle)
        self._scopes: list[ExitStack] = []

    @property
    def root(self) -> Node:
        """The folder itself."""
        return self._root

    @contextmanager
    def scope(self) -> Iterator[None]:
        """Close the folders that are looked up while the context lasts, at its end."""
        with ExitStack() as stack:
            self._scopes.append(stack)
            try:
                yield
            finally:
                self._scopes.remove(stack)

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the names in a folder."""
        with os.scandir(_handle(folder)) as content:
            for one in content:
                yield one.name, (folder, one.name)

    def node(self, reference: object) -> Node:
        """Return what a name leads to."""
        folder, name = cast("tuple[Node, str]", reference)
        found = self.look_up(folder, name)
        if found is None:
            raise RefusedError(f"{self._path}: {name} went away meanwhile")
        return found

    def look_up(self, folder: Node, name: str) -> Node | None:
        """Return what lies under a name in a folder, None if nothing does."""
        parent = _handle(folder)
        try:
            handle = os.open(name, _FOLDER, dir_fd=parent)
        except FileNotFoundError:
            return None
        except OSError as error:
            if error.errno not in _NO_FOLDER:
                raise
        else:
            self._scopes[-1].callback(os.close, handle)
            return _folder_node(handle)
        try:
            about = os.stat(name, dir_fd=parent, follow_symlinks=False)
        except FileNotFoundError:
            return None
        kinds = {stat.S_IFREG: Kind.FILE, stat.S_IFLNK: Kind.LINK}
        return _node(kinds.get(stat.S_IFMT(about.st_mode), Kind.OTHER), about, (parent, name))

    def read(self, file: Node, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`."""
        parent, name = cast("tuple[int, str]", file.held)
        try:
            handle = os.open(name, _FILE, dir_fd=parent)
        except OSError as error:
            if error.errno in (errno.ELOOP, errno.ENXIO):
                raise UnsafePathError(f"{self._path}: {name} is not a plain file") from None
            raise
        with os.fdopen(handle, "rb") as content:
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                raise UnsafePathError(f"{self._path}: {name} is not a plain file")
            content.seek(offset)
            return content.read(length)

    def target(self, link: Node) -> str:
        """Return the text of a link; empty if it is none any more."""
        parent, name = cast("tuple[int, str]", link.held)
        try:
            return os.readlink(name, dir_fd=parent)
        except OSError as error:
            if error.errno not in (errno.EINVAL, errno.ENOENT):
                raise
        return ""

    def attributes(self, node: Node) -> Mapping[str, bytes]:
        """Return the extended attributes of a folder, none where the system has none or shows none."""
        if node.kind != Kind.FOLDER or not hasattr(os, "listxattr"):
            return {}
        handle, found = _handle(node), dict[str, bytes]()
        with suppress(OSError):
            for name in os.listxattr(handle):
                with suppress(OSError):
                    found[name] = os.getxattr(handle, name)
        return found

    def make_folder(self, parent: Node, name: str, owner: Owner, attributes: Mapping[str, bytes]) -> Node:
        """Make a folder; it gets owner, mode and attributes, as far as this user can give them, before its name."""
        above, partial = _handle(parent), f".{name}{PARTIAL}"
        with suppress(FileNotFoundError):
            os.rmdir(partial, dir_fd=above)
        os.mkdir(partial, 0o700, dir_fd=above)
        try:
            made = os.open(partial, _FOLDER, dir_fd=above)
            self._scopes[-1].callback(os.close, made)
            for key, value in attributes.items():
                with suppress(OSError):
                    os.setxattr(made, key, value)
            _own(made, owner)
            os.fsync(made)
            os.rename(partial, name, src_dir_fd=above, dst_dir_fd=above)
        except BaseException:
            with suppress(OSError):
                os.rmdir(partial, dir_fd=above)
            raise
        sync_handle(above)
        return _folder_node(made)

    def own(self, folder: Node, owner: Owner) -> bool:
        """Give a folder owner and mode; return whether it has its owner now, which only the superuser can give."""
        owned = _own(_handle(folder), owner)
        os.fsync(_handle(folder))
        return owned

    def remove_folder(self, parent: Node, name: str) -> bool:
        """Remove an empty folder; return whether there was one."""
        try:
            os.rmdir(name, dir_fd=_handle(parent))
        except OSError:  # not empty, not a folder, or not there
            return False
        sync_handle(_handle(parent))
        return True

    def replace(self, folder: Node, name: str, content: bytes, mode: int = 0o644) -> None:
        """Replace a file's content, or make the file, all at once; see `block.publish.replace_in`."""
        replace_in(_handle(folder), name, content, mode)

    def remove_file(self, folder: Node, name: str) -> bool:
        """Remove a file that has this one name only; return whether there was such a one."""
        try:
            about = os.stat(name, dir_fd=_handle(folder), follow_symlinks=False)
            if not stat.S_ISREG(about.st_mode) or about.st_nlink != 1:
                return False
            os.unlink(name, dir_fd=_handle(folder))
        except FileNotFoundError:
            return False
        sync_handle(_handle(folder))
        return True

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Hold the folder (flock(2)), so that two Narvets do not change its files at once.

        Raises:
            RefusedError: another Narvet does not finish with it.
        """
        try:
            import fcntl
        except ImportError:
            yield
            return
        for left in range(_LOCK_TRIES, -1, -1):
            try:
                fcntl.flock(_handle(self._root), fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if not left:
                    raise RefusedError(f"{self._path}: another Narvet is at work on it; try again") from None
                time.sleep(_LOCK_WAIT)
        yield


def _handle(folder: Node) -> int:
    return cast(int, folder.held)


def _folder_node(handle: int) -> Node:
    return _node(Kind.FOLDER, os.fstat(handle), handle)


def _node(kind: Kind, about: os.stat_result, held: object) -> Node:
    return Node(
        about.st_ino, kind, about.st_size, stat.S_IMODE(about.st_mode), about.st_uid, about.st_gid,
        int(about.st_mtime), about.st_nlink, held=held,
    )  # fmt: skip


def _own(folder: int, owner: Owner) -> bool:
    """Set owner and mode of an open folder; return whether the owner could be set."""
    owned = True
    try:
        os.fchown(folder, owner.uid, owner.gid)
    except PermissionError:
        about = os.fstat(folder)
        owned = (about.st_uid, about.st_gid) == (owner.uid, owner.gid)
    os.fchmod(folder, owner.mode if owned else owner.mode | 0o700)
    return owned
