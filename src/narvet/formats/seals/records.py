"""The binary headers of sealed volumes. Numbers are big-endian.

LUKS2 On-Disk Format Specification 1.1.1, section 2.1; LUKS1 On-Disk Format Specification 1.2.3, section 2.
"""

from __future__ import annotations

from narvet.ground.records import Record, raw, u16, u32, u64

MAGIC, SECOND_MAGIC = b"LUKS\xba\xbe", b"SKUL\xba\xbe"
SLOTS_OF_FIRST = 8
ENABLED = 0x00AC71F3


class BinaryHeader(Record, title="header of a sealed volume", size=4096, endian=">"):
    """The first 4096 bytes of either header; the text that says all else follows."""

    magic: bytes = raw(0, 6, "", "what tells it, and which of the two it is")
    version: int = u16(6, "", "2")
    hdr_size: int = u64(8, "bytes", "of header and text")
    seqid: int = u64(16, "", "goes up with each change")
    label: bytes = raw(24, 48, "", "name")
    csum_alg: bytes = raw(72, 32, "", "how the checksum is made")
    salt: bytes = raw(104, 64, "", "random, other than that of the other header")
    uuid: bytes = raw(168, 40, "", "id, as text")
    subsystem: bytes = raw(208, 48, "", "unused")
    hdr_offset: int = u64(256, "bytes", "where this header is")
    reserved: bytes = raw(264, 184, "", "zero")
    csum: bytes = raw(448, 64, "", "checksum of header and text, with zeros here")
    reserved4096: bytes = raw(512, 3584, "", "zero")


class FirstHeader(Record, title="header of a sealed volume, version 1", size=208, endian=">"):
    """What is ahead of the key slots of a volume of version 1."""

    magic: bytes = raw(0, 6, "", "what tells it")
    version: int = u16(6, "", "1")
    cipher_name: bytes = raw(8, 32, "", "")
    cipher_mode: bytes = raw(40, 32, "", "")
    hash_spec: bytes = raw(72, 32, "", "")
    payload_offset: int = u32(104, "sectors", "where what is sealed starts")
    key_bytes: int = u32(108, "bytes", "of the volume's key")
    mk_digest: bytes = raw(112, 20, "", "digest of the volume's key")
    mk_digest_salt: bytes = raw(132, 32, "", "")
    mk_digest_iter: int = u32(164, "", "")
    uuid: bytes = raw(168, 40, "", "id, as text")


class FirstSlot(Record, title="key slot, version 1", size=48, endian=">"):
    """One of the eight key slots behind it."""

    active: int = u32(0, "", "0x00AC71F3: in use")
    iterations: int = u32(4, "", "")
    salt: bytes = raw(8, 32, "", "")
    key_material_offset: int = u32(40, "sectors", "where the split key is")
    stripes: int = u32(44, "", "how often it is split")
