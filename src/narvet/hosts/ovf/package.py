"""A guest's description with all its files as one package (OVA): written, and taken apart without trusting it.

DMTF DSP0243, clause 5.3: a tar file in the USTAR format, the description first, then the manifest, then the files.
"""

from __future__ import annotations

import io
import tarfile
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from narvet.ground.errors import ImageError, is_harmless
from narvet.ground.meter import copied
from narvet.hosts.ovf.manifest import digest, digest_of, manifest_text, parse_manifest

_PART = 1 << 20
_USTAR_MOST = 8 << 30  # bytes of a member that its header can tell
_MOST_MEMBERS = 1000
_LARGEST_TEXT = 16 << 20
_MODE = 0o644
_METHOD = "SHA256"


def write_package(package: Path, description: tuple[str, bytes], files: Mapping[str, Path]) -> None:
    """Write a package: a description by name and content, a manifest, and files by their names in it."""
    name, text = description
    large = any(path.stat().st_size >= _USTAR_MOST for path in files.values())
    digests = {name: (_METHOD, digest(_METHOD, text))}
    digests |= {own: (_METHOD, digest_of(_METHOD, path)) for own, path in files.items()}
    with tarfile.open(package, "w", format=tarfile.GNU_FORMAT if large else tarfile.USTAR_FORMAT) as tar:
        for own, data in ((name, text), (f"{Path(name).stem}.mf", manifest_text(digests).encode())):
            tar.addfile(_member(own, len(data)), io.BytesIO(data))
        for own, path in files.items():
            with path.open("rb") as file:
                tar.addfile(_member(own, path.stat().st_size), _Counting(file))


def _member(name: str, size: int) -> tarfile.TarInfo:
    about = tarfile.TarInfo(name)
    about.size, about.mode = size, _MODE
    return about


class _Counting:
    """A file that tells how much of it was read."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(size)
        copied(len(data))
        return data


def names_in(package: Path) -> tuple[str, ...]:
    """Return the names of what is in a package, in order; nothing is taken out of it.

    Raises:
        ImageError: it is not a package, or a member is not a plain file of a plain name, or is there twice.
    """
    with _as_package(package):
        return tuple(member.name for member, _ in _members(package))


def read_package(package: Path, folder: Path) -> str:
    """Take a package apart into an empty folder and return the name of its description.

    Raises:
        ImageError: it is not a package, or a member is not a plain file of a plain name, is there twice, or is not what
            the manifest says.
    """
    seen: dict[str, Path] = {}
    with _as_package(package):
        for member, tar in _members(package):
            seen[member.name] = folder / member.name
            _write(tar, member, seen[member.name])
    description = next(iter(seen))
    for fault in _faults(seen, description):
        raise ImageError(f"{package}: {fault}")
    return description


@contextmanager
def _as_package(package: Path) -> Iterator[None]:
    """Have what a damaged package makes its reader stumble over said in one sentence."""
    try:
        yield
    except (tarfile.TarError, EOFError, ValueError) as error:
        raise ImageError(f"{package}: it cannot be read as a package: {error}") from None


def _members(package: Path) -> Iterator[tuple[tarfile.TarInfo, tarfile.TarFile]]:
    """Yield the members of a package that can be taken out of it: the description, then all others."""
    seen: set[str] = set()
    with tarfile.open(package, "r:") as tar:
        for number, member in enumerate(tar):
            if number >= _MOST_MEMBERS:
                raise ImageError(f"{package}: it has more than {_MOST_MEMBERS} members")
            _check_member(package, member, seen)
            if not seen and not member.name.lower().endswith(".ovf"):
                raise ImageError(f"{package}: a package begins with a description, which this one does not")
            seen.add(member.name)
            yield member, tar
    if not seen:
        raise ImageError(f"{package}: there is nothing in it")


def _check_member(package: Path, member: tarfile.TarInfo, seen: Collection[str]) -> None:
    name = member.name
    plain = name and name not in (".", "..") and "/" not in name and "\\" not in name and len(name) < 200
    if not plain or name.startswith(".") or not is_harmless(name):
        raise ImageError(f"{package}: a member has a name that is not that of a plain file")
    if not member.isreg() or member.issparse():
        raise ImageError(f"{package}: {name} is not a plain file")
    if name in seen:
        raise ImageError(f"{package}: {name} is there twice")


def _write(tar: tarfile.TarFile, member: tarfile.TarInfo, path: Path) -> None:
    source = tar.extractfile(member)
    if source is None:
        raise ImageError(f"{member.name} cannot be read")
    left = member.size
    with path.open("xb") as file:
        while left:
            part = source.read(min(_PART, left))
            if not part:
                raise ImageError(f"{member.name} ends too early")
            file.write(part)
            copied(len(part))
            left -= len(part)


def _faults(seen: Mapping[str, Path], description: str) -> Iterator[str]:
    manifest = seen.get(f"{description[: -len('.ovf')]}.mf")
    if manifest is None:
        return
    if manifest.stat().st_size > _LARGEST_TEXT:
        yield "its manifest is too large to be one"
        return
    digests = parse_manifest(manifest.read_text("utf-8", "replace"), manifest.name)
    for name, (method, value) in digests.items():
        if name not in seen:
            yield f"{name} stands in its manifest, but is missing"
        elif digest_of(method, seen[name]) != value:
            yield f"{name} is not what its manifest says; it was damaged or changed"
