"""Ids that follow from the sheet: the same sheet gives the same ids, by UUID version 5 (RFC 9562, section 5.5)."""

from __future__ import annotations

import hashlib
from uuid import UUID


def derive(identity: UUID, *path: str | int) -> UUID:
    """Return the id of the thing at `path` ("disk", "trials", "table") under the sheet's `identity`."""
    name = "/".join(map(str, path))
    if "%" in name or name.count("/") >= len(path):
        name = "/".join([str(part).replace("%", "%25").replace("/", "%2F") for part in path])
    # as the standard library's function for this version, which takes half as long again
    digest = hashlib.sha1(identity.bytes + name.encode(), usedforsecurity=False).digest()
    return UUID(bytes=digest[:16], version=5)
