"""A guest's description and its images made into one package, and such a package taken apart, for transport."""

from __future__ import annotations

import os
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.names import rename_new, sync_file, sync_folder
from narvet.block.publish import clear_folders, publish, workspace
from narvet.formats.images import ending_of
from narvet.ground.errors import ImageError, RequestError, printable
from narvet.ground.meter import OnCopied, metered
from narvet.ground.values import Frozen
from narvet.hosts.ovf.envelope import FORMATS, Envelope, File
from narvet.hosts.ovf.manifest import digest_of, manifest_text
from narvet.hosts.ovf.package import names_in, read_package, write_package
from narvet.usecases.recast import RecastWishes, recast

_PACKED = "vmdk"
_METHOD = "SHA256"
_LARGEST = 32 << 20  # bytes of a description


class Wrapped(Frozen):
    """A package or folder that was made, with the files in it."""

    path: Path
    files: tuple[str, ...]


def wrap(description: Path, package: Path, *, dry: bool = False, on_copied: OnCopied | None = None) -> Wrapped:
    """Make a package of a description with every file it refers to, its disks in the packed form.

    A `dry` call looks whether it can be done, and makes nothing.

    Raises:
        RequestError: there is no such description, or the package exists.
        ImageError: it is none, or a file is missing or cannot be read.
        RefusedError: somebody writes to an image, or the system refused.
    """
    if not dry:
        clear_folders(package)
    _refuse_there(package)
    name, text = f"{package.stem}.ovf", _text_of(description)
    own_names = _names_in_package(description, package, Envelope(text, str(description)))
    if dry:
        return Wrapped(package, (name, f"{package.stem}.mf", *own_names))
    with exclusive_lock(package), workspace(package) as built, metered(on_copied):
        files = dict[str, Path]()
        for own, file in own_names.items():
            path = _packed(file, _source(file, description), built.parent)
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


def _names_in_package(description: Path, package: Path, envelope: Envelope) -> dict[str, File]:
    """Return the files of a description by the names that they have in a package."""
    files: dict[str, File] = {}
    for file in envelope.files():
        source = _source(file, description)
        own = f"{source.stem}.{_PACKED}" if file.has_disk else source.name
        if own in (*files, f"{package.stem}.ovf", f"{package.stem}.mf"):
            raise ImageError(f"{description}: two of its files would be {own} in the package; rename one")
        files[own] = file
    return files


def _source(file: File, description: Path) -> Path:
    """Return the path of a file that a description refers to."""
    path = description.resolve().parent / file.href
    if "://" in file.href or "\0" in file.href or not path.is_file():
        raise ImageError(f"{description}: it refers to {printable(file.href)[:200]}, which is not there; put it there")
    return path


def _packed(file: File, source: Path, folder: Path) -> Path:
    """Return the path of a file as it goes into the package: a disk in the packed form."""
    if not file.has_disk:
        return source
    path = folder / f"packed-{source.stem}.{_PACKED}"
    recast(source, path, RecastWishes(format=_PACKED, packed=True))
    return path


def unwrap(
    package: Path,
    folder: Path,
    *,
    format_name: str | None = None,
    dry: bool = False,
    on_copied: OnCopied | None = None,
) -> Wrapped:
    """Take a package apart into a new folder; its disks become images of a format, or stay as they are without one.

    A `dry` call only lists what is in the package.

    Raises:
        RequestError: there is no such package, or the folder exists.
        ImageError: it is not a package, or something in it is not what its manifest says.
        RefusedError: the system refused.
    """
    if not package.is_file():
        raise RequestError(f"{package}: there is no such package")
    _refuse_there(folder)
    if dry:
        return Wrapped(folder, tuple(_renamed(name, format_name) for name in names_in(package)))
    clear_folders(folder)
    with exclusive_lock(folder), workspace(folder) as built, metered(on_copied):
        built.mkdir()
        name = read_package(package, built)
        if format_name is not None:
            _recast_all(built, name, format_name)
        for path in built.iterdir():
            sync_file(path)
        sync_folder(built)
        rename_new(built, folder)
        sync_folder(folder.parent)
    return Wrapped(folder, (name, *sorted(path.name for path in folder.iterdir() if path.name != name)))


def _renamed(name: str, format_name: str | None) -> str:
    """Return what a member of a package is called once it is taken apart."""
    is_disk = format_name is not None and Path(name).suffix == f".{_PACKED}"
    return f"{Path(name).stem}{ending_of(format_name)}" if is_disk and format_name else name


def _recast_all(folder: Path, name: str, format_name: str) -> None:
    """Give the disks in a folder another format, and say so in its description and its manifest."""
    description, ending = folder / name, ending_of(format_name)
    text = description.read_bytes()
    for file in Envelope(text, name).files():
        source = folder / file.href
        if not file.has_disk or Path(file.href).name != file.href or not source.is_file():
            continue
        made = folder / f"{source.stem}{ending}"
        built = folder / f"recast-{made.name}"
        recast(source, built, RecastWishes(format=format_name))
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
