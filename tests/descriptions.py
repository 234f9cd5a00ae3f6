"""Descriptions of guests in OVF to test with, and a reader of them that shares nothing with the program's.

The rules are those of the schemas of DMTF DSP8023 that concern files, disks and items (DSP0243, clauses 7.1, 8.1, 9.1).
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

OVF = "http://schemas.dmtf.org/ovf/envelope/1"
RASD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
VSSD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"

PLAIN = f"""<?xml version="1.0" encoding="UTF-8"?>
<!-- The seed bank's imaging guest: > kept as it is -->
<Envelope xmlns="{OVF}" xmlns:ovf="{OVF}" xmlns:rasd="{RASD}" xmlns:vssd="{VSSD}" xmlns:own="urn:seeds">
  <References>
    <File ovf:id="root" ovf:href="root.vmdk" ovf:size="68608"/>
  </References>
  <DiskSection>
    <Info>Disks</Info>
    <Disk ovf:diskId="system" ovf:fileRef="root" ovf:capacity="2" ovf:capacityAllocationUnits="byte * 2^20"
          ovf:format="http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized" own:note='a > b'/>
  </DiskSection>
  <VirtualSystem ovf:id="seedling">
    <Info>A guest</Info>
    <Name>seedling</Name>
    <VirtualHardwareSection>
      <Info>Hardware</Info>
      <System>
        <vssd:ElementName>Hardware</vssd:ElementName>
        <vssd:InstanceID>0</vssd:InstanceID>
      </System>
      <Item>
        <rasd:ElementName>1 processor</rasd:ElementName>
        <rasd:InstanceID>1</rasd:InstanceID>
        <rasd:ResourceType>3</rasd:ResourceType>
        <rasd:VirtualQuantity>1</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:Address>0</rasd:Address>
        <rasd:ElementName>Adapter</rasd:ElementName>
        <rasd:InstanceID>4</rasd:InstanceID>
        <rasd:ResourceSubType>virtio</rasd:ResourceSubType>
        <rasd:ResourceType>6</rasd:ResourceType>
      </Item>
      <Item>
        <rasd:AddressOnParent>0</rasd:AddressOnParent>
        <rasd:ElementName>Root</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/system</rasd:HostResource>
        <rasd:InstanceID>9</rasd:InstanceID>
        <rasd:Parent>4</rasd:Parent>
        <rasd:ResourceType>17</rasd:ResourceType>
      </Item>
      <own:Odd ovf:required="false">stays<![CDATA[ & as <it> is]]></own:Odd>
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
"""

BARE = f"""<e:Envelope xmlns:e="{OVF}"><e:References/><e:VirtualSystem e:id="other"><e:Info/><e:VirtualHardwareSection>\
<e:Info/></e:VirtualHardwareSection></e:VirtualSystem><e:VirtualSystem e:id="seedling"><e:Info/>\
<e:VirtualHardwareSection><e:Info/></e:VirtualHardwareSection></e:VirtualSystem></e:Envelope>"""

_KINDS = {"5": "ide", "6": "scsi", "20": "sata"}
_ORDER = (
    "Address", "AddressOnParent", "AllocationUnits", "AutomaticAllocation", "AutomaticDeallocation", "Caption",
    "Connection", "ConsumerVisibility", "Description", "ElementName", "HostResource", "InstanceID", "Limit",
    "MappingBehavior", "OtherResourceType", "Parent", "PoolID", "Reservation", "ResourceSubType", "ResourceType",
    "VirtualQuantity", "Weight",
)  # fmt: skip


@dataclass(frozen=True)
class Described:
    """A drive as a description has it."""

    controller: str
    number: int
    place: int
    file: Path
    capacity: int


def described(path: Path, guest: str = "seedling") -> list[Described]:
    """Return the drives of a guest, after every rule was held against the description."""
    root = ElementTree.parse(path).getroot()  # noqa: S314 (the tests' own)
    namespace = root.tag.partition("}")[0] + "}"

    def _o(name: str) -> str:
        return f"{namespace}{name}"

    names = [child.tag for child in root]
    assert names == sorted(names, key=[_o("References"), _o("DiskSection"), _o("VirtualSystem")].index)
    for element in root.iter():
        assert all(key.startswith("{") for key in element.attrib), f"{element.tag} has an attribute of no namespace"
    files = {one.get(_o("id")): one for one in root.findall(f"{_o('References')}/{_o('File')}")}
    disks = {one.get(_o("diskId")): one for one in root.findall(f"{_o('DiskSection')}/{_o('Disk')}")}
    assert len(files) == len(root.findall(f".//{_o('File')}")) and len(disks) == len(root.findall(f".//{_o('Disk')}"))
    for section in root.iter(_o("DiskSection")):
        assert section[0].tag == _o("Info")
    for file in files.values():
        assert (path.parent / str(file.get(_o("href")))).stat().st_size == int(file.get(_o("size"), ""))
    (system,) = [one for one in root.iter(_o("VirtualSystem")) if one.get(_o("id")) == guest]
    items = [_fields(item) for item in system.iter(_o("Item"))]
    ids = [item["InstanceID"] for item in items]
    assert len(ids) == len(set(ids))
    hubs: dict[str, list[str]] = {}
    for item in items:
        if item["ResourceType"] in _KINDS:
            hubs.setdefault(_KINDS[item["ResourceType"]], []).append(item["InstanceID"])
    return list(_drives(items, hubs, files, disks, path.parent, _o))


def _drives(items, hubs, files, disks, folder, _o) -> Iterator[Described]:  # type: ignore[no-untyped-def]
    for item in items:
        if item["ResourceType"] != "17":
            continue
        disk = disks[item["HostResource"].removeprefix("ovf:/disk/")]
        file = files[disk.get(_o("fileRef"))]
        (kind,) = [kind for kind, ids in hubs.items() if item["Parent"] in ids]
        unit = {"": 1, "byte * 2^20": 1 << 20}[disk.get(_o("capacityAllocationUnits"), "")]
        assert ":" in disk.get(_o("format"))
        yield Described(
            kind,
            hubs[kind].index(item["Parent"]),
            int(item["AddressOnParent"]),
            (folder / file.get(_o("href"))).resolve(),
            int(disk.get(_o("capacity"))) * unit,
        )


def _fields(item: ElementTree.Element) -> dict[str, str]:
    names = [child.tag.rpartition("}")[2] for child in item]
    assert names == sorted(names, key=_ORDER.index) and {"ElementName", "InstanceID", "ResourceType"} <= set(names)
    return {name: child.text or "" for name, child in zip(names, item, strict=True)}


def manifest_holds(path: Path) -> set[str]:
    """Return the files of a manifest, all of which have the digests that it says."""
    rows = [re.fullmatch(r"(SHA\d+)\((.+)\)= ([0-9a-f]+)", line) for line in path.read_text().splitlines()]
    for row in rows:
        assert row is not None
        assert hashlib.new(row[1], (path.parent / row[2]).read_bytes()).hexdigest() == row[3], row[2]
    return {row[2] for row in rows if row}
