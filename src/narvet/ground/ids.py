"""Ids that follow from the sheet: the same sheet gives the same ids, by UUID version 5 (RFC 9562, section 5.5)."""

from __future__ import annotations

from uuid import UUID, uuid5


def derive(identity: UUID, *path: str | int) -> UUID:
    """Return the id of the thing at `path` ("disk", "trials", "table") under the sheet's `identity`."""
    name = "/".join(map(str, path))
    if "%" in name or name.count("/") >= len(path):
        name = "/".join([str(part).replace("%", "%25").replace("/", "%2F") for part in path])
    return uuid5(identity, name)
