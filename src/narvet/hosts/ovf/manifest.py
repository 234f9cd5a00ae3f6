"""A manifest: the digests of the files that belong to a description (DMTF DSP0243, clause 5.1)."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from narvet.ground.errors import ImageError
from narvet.ground.meter import copied

_LINE = re.compile(r"(SHA1|SHA256|SHA512)[ \t]*\((.{1,1024})\)[ \t]*=[ \t]*([0-9A-Fa-f]{40,128})")
_USUAL = "SHA256"
_PART = 1 << 20
_LARGEST = 4 << 20


def parse_manifest(text: str, where: str) -> dict[str, tuple[str, str]]:
    """Return the digests of a manifest by file name, each with its method.

    Raises:
        ImageError: a line of it is none of a manifest.
    """
    found: dict[str, tuple[str, str]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        match = _LINE.fullmatch(line.strip())
        if match is None:
            raise ImageError(f"{where}: line {number} is none of a manifest")
        found[match[2]] = (match[1], match[3].lower())
    return found


def manifest_text(digests: dict[str, tuple[str, str]]) -> str:
    """Return a manifest."""
    return "".join(f"{method}({name})= {value}\n" for name, (method, value) in digests.items())


def read_manifest(path: Path) -> dict[str, tuple[str, str]] | None:
    """Return the digests beside a description, None where there is no manifest.

    Raises:
        ImageError: it is none, or larger than one can be.
    """
    try:
        with path.open("rb") as file:
            data = file.read(_LARGEST + 1)
    except FileNotFoundError:
        return None
    if len(data) > _LARGEST:
        raise ImageError(f"{path}: it is too large to be a manifest")
    return parse_manifest(data.decode("utf-8", "replace"), str(path))


def method_of(digests: dict[str, tuple[str, str]]) -> str:
    """Return the method that a manifest uses, for what is added to it."""
    return next((method for method, _ in digests.values()), _USUAL)


def digest(method: str, data: bytes) -> str:
    """Return the digest of some bytes."""
    return hashlib.new(method, data, usedforsecurity=False).hexdigest()


def digest_of(method: str, path: Path) -> str:
    """Return the digest of a file, read from its start to its end."""
    made = hashlib.new(method, usedforsecurity=False)
    with path.open("rb") as file:
        while part := file.read(_PART):
            made.update(part)
            copied(len(part))
    return made.hexdigest()
