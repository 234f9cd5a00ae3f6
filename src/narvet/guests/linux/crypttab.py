"""The lines of crypttab by which a Linux guest unlocks sealed volumes at its start: read, made, held against others.

crypttab(5): name, source, key and options, separated by blanks. Every other byte of the file is kept. Pure.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator

from narvet.ground.findings import Finding
from narvet.ground.rules import seals as rules
from narvet.ground.values import Frozen, replace
from narvet.guests.linux.mounts import source_of
from narvet.model.estate import Guest, KeyFile, Partition, UnlockEntry
from narvet.model.layout import Mountable

ASKED = "none"
"""What stands for a passphrase that is asked for."""
_BLANKS = re.compile(r"[ \t]+")
_ODD = re.compile(r"[^A-Za-z0-9_.-]+")


class Unlocks(Frozen):
    """What becomes of a crypttab: lines that are missing, pairs of a new one and an old one, and lines too many."""

    missing: tuple[UnlockEntry, ...] = ()
    changed: tuple[tuple[UnlockEntry, UnlockEntry], ...] = ()
    surplus: tuple[UnlockEntry, ...] = ()

    @property
    def is_needed(self) -> bool:
        """Whether anything changes."""
        return bool(self.missing or self.changed or self.surplus)


def parse_crypttab(content: bytes, written: frozenset[str] = frozenset()) -> tuple[UnlockEntry, ...]:
    """Return the entries of a crypttab; `written` are lines that are Narvet's own."""
    found = []
    for number, line in enumerate(content.decode("utf-8", "surrogateescape").split("\n"), 1):
        fields = _BLANKS.split(line.strip(" \t\r"))
        if len(fields) < 2 or fields[0].startswith("#"):
            continue
        name, source, key, options = (*fields, "", "")[:4]
        entry = UnlockEntry(name, source, key or ASKED, options, number)
        found.append(replace(entry, ours=crypttab_line(entry) in written))
    return tuple(found)


def crypttab_line(entry: UnlockEntry) -> str:
    """Return an entry as a line, without its end."""
    return " ".join((entry.name, entry.source, entry.key, entry.options)).rstrip()


def sealed(disks: Iterable[Mountable]) -> Iterator[tuple[Mountable, Partition]]:
    """Yield what is sealed on disks and volumes."""
    for disk in disks:
        yield from ((disk, part) for part in disk.wanted.partitions if part.seal is not None)


def key_files_of(disks: Iterable[Mountable]) -> dict[str, KeyFile]:
    """Return the key files that a guest's disks and volumes ask for, by their paths.

    The key of one is known where it is still to be made, or where a passphrase opened the volume.
    """
    found = {}
    for _, part in sealed(disks):
        if part.key_file and part.mount is not None and part.seal is not None:
            digest = part.seal.file_key.digest if part.seal.file_key else b""
            known = not part.seal.slots or part.there is not None
            found[part.key_file] = KeyFile(digest=digest, uuid=part.seal.uuid, is_known=known)
    return found


def key_file_of(part: Partition, found: Iterable[UnlockEntry]) -> str:
    """Return the key file of Narvet's that a guest's lines have for a sealed partition, empty if they have none."""
    if part.seal is None or part.seal.file_key is None:
        return ""
    source = source_of(_source(part))
    keys = (one.key for one in found if source_of(one.source) == source)
    return next((key for key in keys if key.startswith("/")), "")


def key_to_place(wanted: KeyFile, found: KeyFile | None) -> bool:
    """Return whether a key file is to be put into a root: it is missing, holds another key, or others may read it."""
    if found is None or not found.exists or not wanted.digest:
        return True
    return found.digest != wanted.digest or bool(found.mode & 0o077)


def key_files_left(asked: Iterable[str], becomes: Unlocks, found: Guest) -> tuple[str, ...]:
    """Return key files that lines of Narvet's own name which change or go, and that nothing asks for now.

    What took the place of one is not Narvet's, and stays.
    """
    kept = {*asked, *(one.key for one in found.unlocks if not one.ours)}
    gone = (one.key for one in (*(old for _, old in becomes.changed), *becomes.surplus) if one.ours)
    there = {at for at, one in found.key_files.items() if one.is_key}
    return tuple(dict.fromkeys(key for key in gone if key in there - kept))


def unlocks_of(disks: Iterable[Mountable]) -> tuple[UnlockEntry, ...]:
    """Return the entries that a guest's disks and volumes ask for, by their names."""
    return tuple(_entry(disk, part) for disk, part in sealed(disks) if part.mount is not None)


def _entry(disk: Mountable, part: Partition) -> UnlockEntry:
    alone = sum(one.seal is not None for one in disk.wanted.partitions) == 1
    name = _ODD.sub("-", disk.name if alone or not part.number else f"{disk.name}-{part.number}")
    options = "luks" if part.mount is not None and part.mount.needed else "luks,nofail"
    return UnlockEntry(f"sealed-{name}", _source(part), part.key_file or ASKED, options)


def _source(part: Partition) -> str:
    return f"UUID={part.seal.uuid}" if part.seal else ""


def seal_sources(disks: Iterable[Mountable]) -> frozenset[str]:
    """Return what entries name what is sealed on disks by."""
    return frozenset(source_of(_source(part)) for _, part in sealed(disks))


def unlocks_left(
    wanted: Iterable[UnlockEntry], known: Collection[str], found: Iterable[UnlockEntry]
) -> tuple[UnlockEntry, ...]:
    """Return Narvet's own entries for something `known` that are not wanted any more."""
    asked = {source_of(one.source) for one in wanted}
    return tuple(
        one for one in found if one.ours and source_of(one.source) in known and source_of(one.source) not in asked
    )


def compared(wanted: Iterable[UnlockEntry], found: Iterable[UnlockEntry], surplus: Iterable[UnlockEntry]) -> Unlocks:
    """Return what becomes of a crypttab; a line that others wrote for the same source stays as it is."""
    there = {source_of(one.source): one for one in found}
    missing, changed = [], []
    for one in wanted:
        other = there.get(source_of(one.source))
        if other is None:
            missing.append(one)
        elif other.ours and crypttab_line(one) != crypttab_line(other):
            changed.append((one, other))
    return Unlocks(tuple(missing), tuple(changed), tuple(surplus))


def check_unlocks(disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
    """Yield names that other lines have already, and what keeps a key file from its place."""
    names, taken = {one.name: one for one in found.unlocks}, dict[str, str]()
    own = tuple(disks)
    below = {one.mount.at for disk in own for one in disk.wanted.partitions if one.mount and one.mount.at}
    for disk, part in sealed(own):
        entry = _entry(disk, part)
        if part.key_file:
            yield from _check_key_file(disk, part, found, below, taken)
        other = names.get(entry.name)
        if other is not None and source_of(other.source) != source_of(entry.source):
            yield rules.unlock_name_in_use.error(disk.place.key("sealed"), other.line, entry.name, other.source)


def _check_key_file(
    disk: Mountable, part: Partition, found: Guest, below: Iterable[str], taken: dict[str, str]
) -> Iterator[Finding]:
    where, at = disk.place.part(part.number).key("sealed.key_file"), part.key_file
    own = disk.name if not part.number else f"partition {part.number} of {disk.name}"
    other = taken.setdefault(at, own)
    if other != own:
        yield rules.key_file_in_the_way.error(where, at, f"it is that of {other}", _OTHER_PATH)
    mounts = [mount for mount in below if at.startswith(f"{mount.rstrip('/')}/")]
    if mounts:
        yield rules.key_file_in_the_way.error(where, at, f"it would lie on what is mounted at {mounts[0]}", _OTHER_PATH)
    if found.root is None:
        told = "the sheet names no root of the guest to put it into"
        yield rules.key_file_in_the_way.error(where, at, told, "give the guest its root, or leave key_file out")
        return
    wanted, there = key_files_of((disk,)).get(at), found.key_files.get(at)
    if wanted is None or there is None or not found.is_readable:
        return
    ours = any(one.ours and one.key == at for one in found.unlocks)
    if there.problem:
        yield rules.key_file_in_the_way.error(where, at, there.problem, _OTHER_PATH)
    elif there.exists and there.digest != wanted.digest and not (ours and there.is_key):
        yield rules.key_file_in_the_way.error(where, at, "another file is there", f"move that away, or {_OTHER_PATH}")
    elif key_to_place(wanted, there) and not wanted.is_known:
        told = "it is missing, or not as it was written, and no passphrase was given that it could be made by"
        yield rules.key_file_in_the_way.error(
            where, at, told, "add --unseal, or --passphrase-file FILE (on another host: to its narvet host)"
        )
    else:
        yield rules.key_file_in_root.note(where, found.root.shown(at))


_OTHER_PATH = "give another path"


def with_unlocks(content: bytes, becomes: Unlocks) -> bytes:
    """Return a crypttab with what is missing at its end, others in their places, and what is surplus gone."""
    there = {crypttab_line(one): one.line for one in parse_crypttab(content)}
    lines = content.split(b"\n")
    gone: set[int] = set()
    for new, old in becomes.changed:
        if crypttab_line(old) in there:
            lines[there[crypttab_line(old)] - 1] = crypttab_line(new).encode("utf-8", "surrogateescape")
    gone |= {there[crypttab_line(one)] for one in becomes.surplus if crypttab_line(one) in there}
    kept = b"\n".join(line for number, line in enumerate(lines, 1) if number not in gone)
    known = {source_of(one.source) for one in parse_crypttab(kept)}
    late = [crypttab_line(one) for one in becomes.missing if source_of(one.source) not in known]
    more = "".join(f"{line}\n" for line in late).encode("utf-8", "surrogateescape")
    return kept + (b"\n" if kept and more and not kept.endswith(b"\n") else b"") + more
