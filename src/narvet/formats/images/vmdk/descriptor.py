"""The descriptor of a VMDK: its text, read and written (Virtual Disk Format 5.0, section "The Descriptor File")."""

from __future__ import annotations

import re

from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.vmdk.records import DESCRIPTOR_SECTORS, SECTOR
from narvet.ground.checksums import crc32
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import GIB
from narvet.ground.values import Frozen

HEAD = "# Disk DescriptorFile"
LARGEST = 64 << 10  # bytes; a thousand pieces take half of it
NO_BASE = "ffffffff"
_CONTENT_ID = re.compile("[0-9A-Fa-f]{1,8}")
_LINE = re.compile(r"\s*(?P<key>[A-Za-z0-9_.]+)\s*=\s*\"?(?P<value>[^\"\r\n]*)\"?\s*")
_EXTENT = re.compile(
    r"\s*(?P<access>RW|RDONLY|NOACCESS)\s+(?P<sectors>\d{1,16})\s+(?P<kind>[A-Z0-9_]+)"
    r"(?:\s+\"(?P<file>[^\"]+)\"(?:\s+(?P<offset>\d{1,16}))?)?\s*"
)


class ExtentLine(Frozen):
    """One extent: `sectors` of 512 bytes, of a kind (SPARSE, FLAT, ZERO, ...), from `offset` sectors on in a file."""

    sectors: int
    kind: str
    file: str | None
    offset: int


class Descriptor(Frozen):
    """What a descriptor says; `values` has its keys in small letters."""

    values: dict[str, str]
    extents: tuple[ExtentLine, ...]

    @property
    def cid(self) -> str:
        """What children know the image by: 32 bits as hexadecimal digits."""
        return _content_id(self.values.get("cid", "0"))

    @property
    def parent_cid(self) -> str:
        """What the base must be recognised by."""
        return _content_id(self.values.get("parentcid", NO_BASE))

    @property
    def base(self) -> str | None:
        """The path of the base as recorded, None without one."""
        return None if self.parent_cid == NO_BASE else self.values.get("parentfilenamehint", "")


def _content_id(text: str) -> str:
    if not _CONTENT_ID.fullmatch(text):
        raise ImageError("the VMDK's CID or parentCID is not a number of 32 bits in hexadecimal digits")
    return text.lower().rjust(8, "0")


def embedded(image_spec: ImageSpec, name: str) -> bytes:
    """Return the descriptor that lies in the one file of an image, by the file's name.

    Raises:
        UnsupportedError: the names of image and base are too long for its place.
    """
    kind = "streamOptimized" if image_spec.packed else "monolithicSparse"
    text = text_of(image_spec, kind, [ExtentLine(image_spec.size // SECTOR, "SPARSE", name, 0)])
    if len(text) > DESCRIPTOR_SECTORS * SECTOR:
        raise UnsupportedError("the names of image and base are too long for a VMDK's descriptor")
    return text


def parse(data: bytes) -> Descriptor:
    """Return the descriptor in `data`, which is not trusted."""
    text = data.split(b"\0")[0].decode("utf-8", "surrogateescape")
    if not text.lstrip().startswith(HEAD):
        raise ImageError("the VMDK's descriptor does not start as one")
    values: dict[str, str] = {}
    extents = []
    for line in text.splitlines():
        if line.lstrip().startswith("#"):
            continue
        if match := _EXTENT.fullmatch(line):
            extents.append(ExtentLine(int(match["sectors"]), match["kind"], match["file"], int(match["offset"] or 0)))
        elif match := _LINE.fullmatch(line):
            values[match["key"].lower()] = match["value"]
    return Descriptor(values, tuple(extents))


def geometry_of(size: int) -> dict[str, int]:
    """Return the geometry that a descriptor gives a disk of `size` bytes, by its names."""
    heads, per_track = (255, 63) if size > GIB else (16, 63)
    cylinders = max(min(size // SECTOR // heads // per_track, 65535), 1)
    return {"cylinders": cylinders, "heads": heads, "sectors": per_track}


def text_of(image_spec: ImageSpec, kind: str, extents: list[ExtentLine]) -> bytes:
    """Return the text of a descriptor of the kind that the specification calls by this name."""
    base = image_spec.base
    lines = [HEAD, "version=1", f"CID={crc32(image_spec.id.bytes) or 1:08x}"]
    lines += [f"parentCID={base.link if base else NO_BASE}", f'createType="{kind}"']
    if base:
        lines.append(f'parentFileNameHint="{base.relative}"')
    lines += ["", "# Extent description"]
    for extent in extents:
        offset = f" {extent.offset}" if extent.kind == "FLAT" else ""
        lines.append(f'RW {extent.sectors} {extent.kind} "{extent.file}"{offset}')
    lines += ["", "# The Disk Data Base", "#DDB", "", 'ddb.virtualHWVersion = "4"']
    lines += [f'ddb.geometry.{key} = "{value}"' for key, value in geometry_of(image_spec.size).items()]
    lines.append('ddb.adapterType = "lsilogic"')
    return ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape")
