"""A guest's description and its images made into one package, and such a package taken apart, for transport."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.names import rename_new, sync_file, sync_folder
from narvet.block.publish import clear_folders, publish, workspace
from narvet.formats.images import ending_of
from narvet.ground.errors import ImageError, RequestError, printable
from narvet.ground.meter import metered
from narvet.hosts.ovf.envelope import FORMATS, Envelope, File
from narvet.hosts.ovf.manifest import digest_of, manifest_text
from narvet.hosts.ovf.package import read_package, write_package
from narvet.usecases.recast import RecastWishes, recast

OnCopied = Callable[[int], object]
_PACKED = "vmdk"
_METHOD = "SHA256"
_LARGEST = 32 << 20  # bytes of a description


@dataclass(frozen=True)
class Wrapped:
    """A package or folder that was made, with the files in it."""

    path: Path
    files: tuple[str, ...]


def wrap(description: Path, package: Path, *, on_copied: OnCopied = lambda _: None) -> Wrapped:
    """Make a package of a description with every file it refers to, its disks in the packed form.

    Raises:
        RequestError: there is no such description, or the package exists.
        ImageError: it is none, or a file is missing or cannot be read.
        RefusedError: somebody writes to an image, or the system refused.
    """
    clear_folders(package)
    _refuse_there(package)
    name = f"{package.stem}.ovf"
    with exclusive_lock(package), workspace(package) as built, metered(on_copied):
        text, files = _text_of(description), dict[str, Path]()
        for file in Envelope(text, str(description)).files():
            own, path = _packed(file, _source(file, description), built.parent, on_copied)
            if own in (*files, name, f"{package.stem}.mf"):
                raise ImageError(f"{description}: two of its files would be {own} in the package; rename one")
            files[own] = path
            text = Envelope(text, str(description)).with_file(
                file.id,
                href=own,
                size=path.stat().st_size,
                format_name=FORMATS["packed vmdk"] if file.has_disk else None,
            )
        write_package(built, (name, text), files)
        publish(built, package)
    return Wrapped(package, (name, f"{package.stem}.mf", *files))


def _source(file: File, description: Path) -> Path:
    """Return the path of a file that a description refers to."""
    path = description.resolve().parent / file.href
    if "://" in file.href or "\0" in file.href or not path.is_file():
        raise ImageError(f"{description}: it refers to {printable(file.href)[:200]}, which is not there; put it there")
    return path


def _packed(file: File, source: Path, folder: Path, on_copied: OnCopied) -> tuple[str, Path]:
    """Return the name and path of a file as it goes into the package: a disk in the packed form."""
    if not file.has_disk:
        return source.name, source
    path = folder / f"packed-{source.stem}.{_PACKED}"
    recast(source, path, RecastWishes(format=_PACKED, packed=True), on_copied=on_copied)
    return f"{source.stem}.{_PACKED}", path


def unwrap(
    package: Path, folder: Path, *, format_name: str | None = None, on_copied: OnCopied = lambda _: None
) -> Wrapped:
    """Take a package apart into a new folder; its disks become images of a format, or stay as they are without one.

    Raises:
        RequestError: there is no such package, or the folder exists.
        ImageError: it is no package, or something in it is not what its manifest says.
        RefusedError: the system refused.
    """
    if not package.is_file():
        raise RequestError(f"{package}: there is no such package")
    clear_folders(folder)
    _refuse_there(folder)
    with exclusive_lock(folder), workspace(folder) as built, metered(on_copied):
        built.mkdir()
        name = read_package(package, built)
        if format_name is not None:
            _recast_all(built, name, format_name, on_copied)
        for path in built.iterdir():
            sync_file(path)
        sync_folder(built)
        rename_new(built, folder)
        sync_folder(folder.parent)
    return Wrapped(folder, (name, *sorted(path.name for path in folder.iterdir() if path.name != name)))


def _recast_all(folder: Path, name: str, format_name: str, on_copied: OnCopied) -> None:
    """Give the disks in a folder another format, and say so in its description and its manifest."""
    description, ending = folder / name, ending_of(format_name)
    text = description.read_bytes()
    for file in Envelope(text, name).files():
        source = folder / file.href
        if not file.has_disk or Path(file.href).name != file.href or not source.is_file():
            continue
        made = folder / f"{source.stem}{ending}"
        built = folder / f"recast-{made.name}"
        recast(source, built, RecastWishes(format=format_name), on_copied=on_copied)
        source.unlink()
        rename_new(built, made)
        text = Envelope(text, name).with_file(
            file.id, href=made.name, size=made.stat().st_size, format_name=FORMATS[format_name]
        )
    description.write_bytes(text)
    manifest = description.with_suffix(".mf")
    manifest.unlink(missing_ok=True)
    digests = {path.name: (_METHOD, digest_of(_METHOD, path)) for path in sorted(folder.iterdir())}
    manifest.write_text(manifest_text(digests))


def _refuse_there(path: Path) -> None:
    if os.path.lexists(path):
        raise RequestError(f"{path} is there already; choose another name")


def _text_of(description: Path) -> bytes:
    try:
        with description.open("rb") as file:
            return file.read(_LARGEST)
    except FileNotFoundError:
        raise RequestError(f"{description}: there is no such description") from None
