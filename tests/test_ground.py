"""Units, records, checksums and ids: what everything else stands on."""

from __future__ import annotations

import re
from copy import deepcopy
from fractions import Fraction
from typing import Any
from uuid import UUID

import crc32c
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from narvet.ground.checksums import crc32c_numbered, crc32c_raw, crc32c_rows
from narvet.ground.errors import BugError, ImageError, flat
from narvet.ground.ids import derive
from narvet.ground.records import Record, guid, i16, raw, u8, u16, u32, u32s, utf16
from narvet.ground.units import NO_BREAK, SizeError, parse_share, parse_size, show_binary, show_both, show_bytes
from narvet.ground.values import replace


class Sample(Record, title="sample", size=40):
    """A record of every kind of field."""

    magic: bytes = raw(0, 4)
    count: int = u16(4, "entries")
    shift: int = i16(6)
    pair: tuple[int, ...] = u32s(8, 2, "bytes")
    guid: UUID = guid(16)
    name: str = utf16(32, 4)


SAMPLE_BYTES = bytes.fromhex(
    "53454544"  # magic: "SEED"
    "1027"  # count: 10000
    "feff"  # shift: -2
    "01000000ffffffff"  # pair: 1 and the largest
    "33221100554477668899aabbccddeeff"  # guid: its first three fields little-endian
    "6b00f60000000000"  # name: "kö", padded
)
SAMPLE = Sample(
    magic=b"SEED", count=10000, shift=-2, pair=(1, 0xFFFFFFFF), name="kö",
    guid=UUID("00112233-4455-6677-8899-aabbccddeeff"),
)  # fmt: skip


def test_record_both_ways_and_cut_at_every_length() -> None:
    assert SAMPLE.encode() == SAMPLE_BYTES
    assert Sample.decode(SAMPLE_BYTES + b"behind") == SAMPLE
    for length in range(len(SAMPLE_BYTES)):
        with pytest.raises(ImageError, match=rf"sample @ here: 40 bytes expected, found {length}"):
            Sample.decode(SAMPLE_BYTES[:length], "here")
    again = Sample.decode(SAMPLE_BYTES)
    assert len({again, SAMPLE, replace(SAMPLE, count=7)}) == 2 and deepcopy(again) == again
    table = Sample.table(3, count=np.array([1, 2, 3]))
    assert table.itemsize == 40 and table.tobytes()[44:46] == b"\x02\x00"


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"count": 70000}, "sample.count @ 4: 70000 does not fit a 16-bit field"),
        ({"shift": -40000}, "sample.shift @ 6: -40000 does not fit"),
        ({"pair": (1,)}, "sample.pair: 2 values expected, found 1"),
        ({"pair": (1, 1 << 32)}, "does not fit a 32-bit field"),
        ({"magic": b"SEEDS"}, "5 bytes do not fit a field of 4 bytes"),
        ({"name": "kümmel"}, "12 bytes do not fit a field of 8 bytes"),
    ],
)
def test_what_does_not_fit_fails_by_name(change: dict[str, Any], message: str) -> None:
    with pytest.raises(BugError, match=message):
        replace(SAMPLE, **change).encode()


def test_declarations_and_tables_are_checked() -> None:
    # The type checker refuses each of these by itself; an ignore that is not needed fails `make test`.
    with pytest.raises(TypeError):
        Sample(nonsense=1)  # type: ignore[call-arg]
    with pytest.raises(TypeError):
        replace(SAMPLE, nonsense=1)  # type: ignore[call-arg]
    with pytest.raises(AttributeError):
        SAMPLE.nonsense  # type: ignore[attr-defined]  # noqa: B018
    with pytest.raises(BugError, match="sample has no column of integers called magic"):
        Sample.table(1, magic=1)
    with pytest.raises(BugError, match="declared at 5, the fields before end at 4"):

        class Gap(Record, title="gap", size=6):
            a: int = u32(0)
            b: int = u8(5)

    with pytest.raises(BugError, match=r"sample\.count: a value does not fit a 16-bit field"):
        Sample.table(2, count=np.array([1, 65536]))


@given(st.lists(st.tuples(st.binary(min_size=12, max_size=12), st.integers(0, 0xFFFFFFFF)), min_size=1, max_size=9))
def test_checksums_of_rows_are_those_of_each(pairs: list[tuple[bytes, int]]) -> None:
    rows, seeds = [row for row, _ in pairs], [seed for _, seed in pairs]
    expected = [crc32c.crc32c(row, seed ^ 0xFFFFFFFF) ^ 0xFFFFFFFF for row, seed in pairs]
    table = np.frombuffer(b"".join(rows), dtype="V12")
    assert crc32c_rows(np.array(seeds, dtype=np.uint32), table).tolist() == expected
    many = 5000 // len(rows) + 1  # so many that tables are made instead
    again = crc32c_rows(np.tile(np.array(seeds, dtype=np.uint32), many), np.tile(table, many))
    assert again.tolist() == expected * many
    for whole in (table, np.tile(table, many)):
        first, seed = seeds[0] >> 12, seeds[-1]
        numbered = [number.to_bytes(4, "little") + row.tobytes() for number, row in enumerate(whole[:20], first)]
        by_itself = [crc32c.crc32c(row, seed ^ 0xFFFFFFFF) ^ 0xFFFFFFFF for row in numbered]
        assert crc32c_numbered(seed, whole, first)[:20].tolist() == by_itself
    assert [crc32c_raw(seed, row) for row, seed in pairs] == expected


def test_known_checksum() -> None:
    assert crc32c_raw(0xFFFFFFFF, b"123456789") ^ 0xFFFFFFFF == 0xE3069283  # the check value of CRC-32C


@pytest.mark.parametrize(
    ("text", "size"),
    [("120 GiB", 120 << 30), ("1.5TB", 1_500_000_000_000), ("512 B", 512), (" 3 kB ", 3000), ("0.0001 KiB", 1)],
)
def test_sizes(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("100", r"did you mean 100 GiB \(107.37 GB\) or 100 GB \(93.13 GiB\)\?"),
        ("100G", r'the unit "G", which is read two ways: did you mean 100 GiB'),
        ("5 k", r"5 KiB \(5.12 kB\) or 5 kB \(4.88 KiB\)"),
        ("-3 GiB", "negative"),
        ("3 GIB", 'unknown unit "GIB"'),
        ("lots", "not a size"),
        ("", "not a size"),
        ("9000000 PiB", "larger than any file"),
        ("1" * 40 + " GB", "not a size"),
    ],
)
def test_sizes_refused_with_both_readings(text: str, message: str) -> None:
    with pytest.raises(SizeError) as error:
        parse_size(text)
    assert re.search(message, flat(str(error.value)))


@given(st.integers(0, 1 << 62))
def test_sizes_shown_are_near_and_to_the_byte(size: int) -> None:
    assert int(show_bytes(size)[:-2].replace(NO_BREAK, "")) == size
    assert abs(parse_size(show_binary(size)) - size) * 100 <= size + 100
    assert flat(show_both(100 << 30)) == "100 GiB (107.37 GB)" and flat(show_both(10**11)) == "100 GB (93.13 GiB)"


def test_shares() -> None:
    assert parse_share("12.5%") == Fraction(1, 8)
    assert parse_share("12 GiB") is None
    with pytest.raises(SizeError, match="more than the whole"):
        parse_share("101%")


def test_ids_follow_from_the_path() -> None:
    identity = UUID("0b2c6a52-6f0e-5f0b-9a3e-3d2f8f6a7c11")
    assert str(derive(identity, "disk", "a", 1)) == str(derive(identity, "disk", "a", "1"))
    assert derive(identity, "a/b") != derive(identity, "a", "b")
    assert derive(identity, "a").version == 5
