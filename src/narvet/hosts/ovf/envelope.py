"""A guest's description in OVF: its files, disks, controllers and drives, and a disk put in or taken out. Pure.

DMTF DSP0243, versions 1.1 and 2.1: clauses 7.1 (files), 8.1 (hardware), 9.1 (disks); resource types are those of CIM,
class CIM_ResourceAllocationSettingData. What this does not speak of stays as it is, to the byte.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import quote, unquote

from narvet.ground.errors import ImageError, RequestError
from narvet.ground.values import Frozen
from narvet.hosts.ovf.xml import Edit, Element, after, appended, edited, escaped, parse, quoted, removed
from narvet.model.controllers import Slot

_ENVELOPES = ("http://schemas.dmtf.org/ovf/envelope/1", "http://schemas.dmtf.org/ovf/envelope/2")
_SETTINGS = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
_IDE, _SCSI, _OTHER, _DRIVE = "5", "6", "20", "17"
_PLACES = {"ide": 2, "scsi": 16, "sata": 30, "nvme": 15}  # disks on one controller of each kind
_TYPES = {"ide": _IDE, "scsi": _SCSI, "sata": _OTHER, "nvme": _OTHER}
_SUBTYPES = {"sata": "AHCI", "nvme": "NVMe"}
_ADAPTER_ITSELF = 7
_UNITS = re.compile(r"byte(?:\s*\*\s*(\d{1,6})(?:\s*\^\s*(\d{1,2}))?)?")
_MOST_DIGITS = 20
_OURS = "made by Narvet"
_WITH_ITEMS = ("Item", "StorageItem")
_DISK = "ovf:/disk/"

FORMATS = {
    "vmdk": "http://www.vmware.com/interfaces/specifications/vmdk.html#sparse",
    "packed vmdk": "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized",
    "qcow2": "https://www.qemu.org/docs/master/interop/qcow2.html",
    "vhd": "https://www.microsoft.com/download/details.aspx?id=23850",
    "vhdx": "https://learn.microsoft.com/openspecs/windows_protocols/ms-vhdx",
    "raw": "urn:narvet:raw",
}
"""The URIs that name the formats, as their owners wrote them: other programs compare them as text."""


class Drive(Frozen):
    """A disk drive of a guest: its item's id, its slot, and the disk in it, with the file that this refers to."""

    instance: str
    slot: Slot | None
    disk_id: str
    file_id: str
    href: str
    capacity: int | None
    size: int | None


class File(Frozen):
    """A file that a description refers to: its id and name there, and whether a disk is in it."""

    id: str
    href: str
    has_disk: bool


class NewDrive(Frozen):
    """A disk to be put in: its name, slot and file, the bytes of the file and of the disk, and its format's URI."""

    name: str
    slot: Slot
    href: str
    size: int
    capacity: int
    format: str


class _Controller(Frozen):
    element: Element
    instance: str
    kind: str


class Envelope:
    """A description of guests, and in it the one that is meant."""

    def __init__(self, text: bytes, where: str, guest: str | None = None) -> None:
        """Read a description, of which one guest is meant, or all.

        Raises:
            ImageError: it is none, or breaks its specification.
            RequestError: it describes several guests, of which none has the name of this one.
        """
        self.text, self._where = text, where
        self._root = parse(text, where)
        if self._root.name != "Envelope" or self._root.namespace not in _ENVELOPES:
            raise ImageError(f"{where}: it is not a description in OVF, version 1 or 2")
        self._ns = self._root.namespace
        self._hardware = self._of_guest(guest)

    def _of_guest(self, guest: str | None) -> Element:
        systems = [one for one in self._root.below() if (one.namespace, one.name) == (self._ns, "VirtualSystem")]
        named = [one for one in systems if guest in (one.attributes.get(f"{{{self._ns}}}id"), self._name(one))]
        system = systems[0] if len(systems) == 1 or (systems and guest is None) else next(iter(named), None)
        if system is None:
            told = "no guest" if not systems else f"{len(systems)} guests, none of them {guest}"
            raise RequestError(f"{self._where}: it describes {told}; give one the id {guest}")
        hardware = system.one(self._ns, "VirtualHardwareSection")
        if hardware is None:
            raise ImageError(f"{self._where}: it does not say what hardware the guest has")
        return hardware

    def _name(self, system: Element) -> str:
        name = system.one(self._ns, "Name")
        return name.text.strip() if name else ""

    # What is there

    def drives(self) -> tuple[Drive, ...]:
        """Return the guest's disk drives."""
        disks = {self._at(one, "diskId"): one for one in self._section("DiskSection", "Disk")}
        files = {self._at(one, "id"): one for one in self._section("References", "File")}
        return tuple(
            self._drive(item, disks, files) for item in self._items() if _value(item, "ResourceType") == _DRIVE
        )

    def _drive(self, item: Element, disks: dict[str, Element], files: dict[str, Element]) -> Drive:
        resource = _value(item, "HostResource").removeprefix("ovf:").removeprefix("/")
        kind, _, name = resource.partition("/")
        disk = disks.get(name) if kind == "disk" else None
        file_id = (self._at(disk, "fileRef") if disk else name) if resource else ""
        file = files.get(file_id)
        return Drive(
            instance=_value(item, "InstanceID"),
            slot=self._slot(item),
            disk_id=name if disk else "",
            file_id=file_id,
            href=unquote(self._at(file, "href")) if file else "",
            capacity=self._capacity(disk) if disk else None,
            size=_number(self._at(file, "size")) if file else None,
        )

    def _capacity(self, disk: Element) -> int | None:
        count = _number(self._at(disk, "capacity"))
        units = _UNITS.fullmatch(self._at(disk, "capacityAllocationUnits") or "byte")
        if count is None or units is None:
            return None
        power = int(units[2] or 1)
        return count * int(units[1] or 1) ** power if power < 64 else None

    def _slot(self, item: Element) -> Slot | None:
        """Return a drive's slot: positions count on over the controllers of a kind."""
        place, parent = _number(_value(item, "AddressOnParent")), _value(item, "Parent")
        seen: dict[str, int] = {}
        for one in self._controllers():
            number = seen.setdefault(one.kind, 0)
            if one.instance == parent and place is not None and place < _PLACES[one.kind]:
                return one.kind, number * _PLACES[one.kind] + place
            seen[one.kind] += 1
        return None

    def _controllers(self) -> Iterator[_Controller]:
        for item in self._items():
            kind, about = _value(item, "ResourceType"), _value(item, "ResourceSubType").lower()
            name = {_IDE: "ide", _SCSI: "scsi"}.get(kind, "")
            if kind == _OTHER:
                name = "nvme" if "nvme" in about else "sata" if "ahci" in about or "sata" in about else ""
            if name:
                yield _Controller(item, _value(item, "InstanceID"), name)

    def _items(self) -> Iterator[Element]:
        return (one for one in self._hardware.children if one.namespace == self._ns and one.name in _WITH_ITEMS)

    def _section(self, section: str, name: str) -> Iterator[Element]:
        found = self._root.one(self._ns, section)
        return found.all(self._ns, name) if found else iter(())

    def _at(self, element: Element, name: str) -> str:
        return element.attributes.get(f"{{{self._ns}}}{name}", "")

    # What is put in

    def with_drive(self, new: NewDrive) -> bytes:
        """Return the description with a disk more: its file, disk, drive, and a controller where one is missing.

        Raises:
            RequestError: there is no such controller in OVF, or no place on it.
        """
        kind, position = new.slot
        if kind not in _PLACES:
            raise RequestError(f"{self._where}: a description has no {kind} controllers; choose a slot of another one")
        number, place = divmod(position, _PLACES[kind])
        if kind == "scsi" and place == _ADAPTER_ITSELF:
            raise RequestError(f"{self._where}: {kind} {position} is the adapter itself; choose another slot")
        own = [one for one in self._controllers() if one.kind == kind]
        if number > len(own):
            free = f"{kind} {len(own) * _PLACES[kind]} to {(len(own) + 1) * _PLACES[kind] - 1}"
            raise RequestError(f"{self._where}: the guest has {len(own)} {kind} controllers; the next slots are {free}")
        items, edits = [], list(self._referred(new))
        parent, next_id = own[number].instance if number < len(own) else "", self._next_instance()
        if not parent:
            parent, next_id = str(next_id), next_id + 1
            items.append(self._controller(kind, number, parent, own))
        items.append(self._drive_item(new, parent, str(next_id), place))
        last = max((one for one in self._items()), key=lambda one: one.end, default=None)
        if last is None:
            edits.append(appended(self.text, self._hardware, "\n".join(items)))
        else:
            written = [after(self.text, last, one).becomes for one in items]
            edits.append(Edit(last.end, last.end, b"".join(written)))
        return edited(self.text, edits)

    def _referred(self, new: NewDrive) -> Iterator[Edit]:
        """Yield what adds the file and the disk."""
        references = self._root.one(self._ns, "References")
        if references is None:
            raise ImageError(f"{self._where}: it has no section for the files it refers to")
        file_id, disk_id = self._free_id("id", f"file-{new.name}"), self._free_id("diskId", f"disk-{new.name}")
        ovf, declared = self._prefix(self._ns)
        file, href = self._tag(references, "File"), quoted(quote(new.href))
        written = f'<{file} {ovf}:id={quoted(file_id)} {ovf}:href={href} {ovf}:size="{new.size}"{declared}/>'
        yield appended(self.text, references, written)
        disk = self._tag(references, "Disk")
        written = (
            f'<{disk} {ovf}:diskId={quoted(disk_id)} {ovf}:fileRef={quoted(file_id)} {ovf}:capacity="{new.capacity}" '
            f"{ovf}:format={quoted(new.format)}{declared}/>"
        )
        section = self._root.one(self._ns, "DiskSection")
        if section is not None:
            yield appended(self.text, section, written)
            return
        tag, info = self._tag(references, "DiskSection"), self._tag(references, "Info")
        yield after(self.text, references, f"<{tag}>\n  <{info}>Disks {_OURS}</{info}>\n  {written}\n</{tag}>")

    def _controller(self, kind: str, number: int, instance: str, own: list[_Controller]) -> str:
        like = _value(own[0].element, "ResourceSubType") if own else _SUBTYPES.get(kind, "")
        return self._item(
            "Item",
            {
                "Address": str(number),
                "Description": _OURS,
                "ElementName": f"{kind} controller {number}",
                "InstanceID": instance,
                "ResourceSubType": like,
                "ResourceType": _TYPES[kind],
            },
        )

    def _drive_item(self, new: NewDrive, parent: str, instance: str, place: int) -> str:
        disk_id = self._free_id("diskId", f"disk-{new.name}")
        return self._item(
            "Item",
            {
                "AddressOnParent": str(place),
                "Description": _OURS,
                "ElementName": new.name,
                "HostResource": f"{_DISK}{disk_id}",
                "InstanceID": instance,
                "Parent": parent,
                "ResourceType": _DRIVE,
            },
        )

    def _item(self, name: str, fields: dict[str, str]) -> str:
        """Return an item with fields, which their schema has in the order of the alphabet."""
        namespace = next(
            (
                child.namespace
                for item in self._items()
                for child in item.children
                if child.namespace.startswith(_SETTINGS)
            ),
            _SETTINGS,
        )
        prefix, declared = self._prefix(namespace, "rasd")
        rows = "\n".join(
            f"  <{prefix}:{key}>{escaped(text)}</{prefix}:{key}>" for key, text in sorted(fields.items()) if text
        )
        tag = self._tag(self._hardware, name)
        return f"<{tag}{declared}>\n{rows}\n</{tag}>"

    def _prefix(self, namespace: str, usual: str = "ovf") -> tuple[str, str]:
        """Return a prefix that stands for a namespace everywhere, and what declares it where none does."""
        known = next((prefix for prefix, one in self._root.prefixes.items() if prefix and one == namespace), None)
        return (known, "") if known else (usual, f" xmlns:{usual}={quoted(namespace)}")

    def _tag(self, beside: Element, name: str) -> str:
        """Return the name of an element of OVF, with the prefix that one beside it has."""
        written = self.text[beside.start + 1 : beside.inside].split(None, 1)[0].rstrip(b"/>").decode()
        prefix = written.partition(":")[0] if ":" in written else ""
        return f"{prefix}:{name}" if prefix else name

    def _free_id(self, attribute: str, wanted: str) -> str:
        taken = {self._at(one, attribute) for one in self._root.below()}
        return next(
            name
            for number in range(len(taken) + 1)
            if (name := wanted + (f"-{number + 1}" if number else "")) not in taken
        )

    def _next_instance(self) -> int:
        numbers = (_number(_value(item, "InstanceID")) for item in self._hardware.children)
        return max((one for one in numbers if one is not None), default=0) + 1

    # What is taken out

    def without_drive(self, drive: Drive) -> bytes:
        """Return the description without a drive, its disk and file, and a controller of ours with nothing on it."""
        edits = [removed(self.text, one) for one in self._items() if _value(one, "InstanceID") == drive.instance]
        others = [one for one in self.drives() if one.instance != drive.instance]
        if drive.disk_id and drive.disk_id not in {one.disk_id for one in others}:
            own = [one for one in self._section("DiskSection", "Disk") if self._at(one, "diskId") == drive.disk_id]
            edits += self._emptied("DiskSection", own)
            if drive.file_id not in {one.file_id for one in others}:
                files = [one for one in self._section("References", "File") if self._at(one, "id") == drive.file_id]
                edits += [removed(self.text, one) for one in files]
        edits += self._idle_controllers(drive)
        return edited(self.text, edits)

    def _emptied(self, section: str, own: list[Element]) -> Iterator[Edit]:
        """Yield what takes elements out of a section, and the whole of it where it is ours and nothing stays."""
        holder = self._root.one(self._ns, section)
        info = holder.one(self._ns, "Info") if holder else None
        if holder and info and info.text.endswith(_OURS) and len(holder.children) == 1 + len(own):
            yield removed(self.text, holder)
        else:
            yield from (removed(self.text, one) for one in own)

    def _idle_controllers(self, without: Drive) -> Iterator[Edit]:
        kept = [item for item in self._items() if _value(item, "InstanceID") != without.instance]
        parents = {_value(item, "Parent") for item in kept}
        for one in self._controllers():
            if _value(one.element, "Description") == _OURS and one.instance not in parents:
                yield removed(self.text, one.element)

    # What is said of files

    def files(self) -> tuple[File, ...]:
        """Return the files that the description refers to, of all guests."""
        disks = list(self._section("DiskSection", "Disk"))
        return tuple(
            File(own, unquote(self._at(one, "href")), any(self._at(disk, "fileRef") == own for disk in disks))
            for one in self._section("References", "File")
            if (own := self._at(one, "id"))
        )

    def with_file(
        self,
        file_id: str,
        *,
        size: int,
        capacity: int | None = None,
        href: str | None = None,
        format_name: str | None = None,
    ) -> bytes:
        """Return the description with another size and name of a file, another size and format of the disk in it."""
        edits: list[Edit] = []
        for one in self._section("References", "File"):
            if self._at(one, "id") == file_id:
                edits += self._said(one, "size", str(size))
                edits += self._said(one, "href", quote(href)) if href is not None else ()
        for one in self._section("DiskSection", "Disk"):
            if self._at(one, "fileRef") == file_id:
                edits += self._said(one, "format", format_name) if format_name is not None else ()
                if capacity not in (None, self._capacity(one)):
                    edits += self._said(one, "capacity", str(capacity))
                    edits += self._said(one, "capacityAllocationUnits", "byte")
        return edited(self.text, edits)

    def _said(self, element: Element, name: str, value: str) -> Iterator[Edit]:
        """Yield what gives an attribute that an element has another value."""
        tag = self.text[element.start : element.inside]
        found = re.search(rb"(:" + name.encode() + rb"\s*=\s*)(\"[^\"]*\"|'[^']*')", tag)
        if found and self._at(element, name) != value:
            yield Edit(element.start + found.start(2), element.start + found.end(2), quoted(value).encode())


def _value(item: Element, name: str) -> str:
    """Return a setting of an item, whichever version of its class it has."""
    return next((one.text.strip() for one in item.children if one.name == name), "")


def _number(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= _MOST_DIGITS else None
