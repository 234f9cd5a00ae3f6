"""Images that others made: every form that Narvet reads and does not write."""

from __future__ import annotations

import struct
from pathlib import Path
from uuid import UUID

import pytest

from narvet.formats.images import image_format
from narvet.formats.images.chain import identify, new_image_file, open_image
from narvet.formats.images.contract import ImageSpec
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import MIB
from tests import foreign
from tests.program import facts, rules, run


def content(path: Path) -> bytes:
    with open_image(path) as device:
        return device.read(0, device.size)


@pytest.mark.parametrize("name", foreign.READ_BY_ALL)
def test_reads_what_others_write(tmp_path: Path, name: str) -> None:
    path, expected = tmp_path / name, foreign.sample()
    foreign.READ_BY_ALL[name](path, expected)
    found = identify(path).facts
    assert (found.format, found.size) == (path.suffix[1:], len(expected))
    assert content(path) == expected
    with open_image(path) as device:
        for start, length in ((0, 1), (MIB - 3, 7), (MIB // 2 - 5, 70_000), (len(expected) - 1, 1)):
            assert device.read(start, length) == expected[start : start + length]
        outside = bytearray(expected)
        for start, length in device.extents():
            outside[start : start + length] = bytes(length)
        assert not any(outside)
    run("recast", str(path), str(tmp_path / "new.vhdx"), "--verify", status=0)
    assert content(tmp_path / "new.vhdx")[: len(expected)] == expected


@pytest.mark.parametrize(
    ("name", "message"),
    [("transport.vmdk", "made for transport"), ("bit.qcow2", "counts with 1 bits")],
)
def test_what_is_only_read_is_not_written_to(tmp_path: Path, name: str, message: str) -> None:
    path = tmp_path / name
    foreign.READ_BY_ALL[name](path, foreign.sample())
    before = path.read_bytes()
    with pytest.raises(UnsupportedError, match=message), open_image(path, writable=True) as device:
        device.write(MIB // 2 + 65536, b"x")
    assert path.read_bytes() == before


def test_packed_clusters_are_written_over(tmp_path: Path) -> None:
    """A packed cluster that is written to gets a place of its own, and its old one is counted less."""
    path, expected = tmp_path / "packed.qcow2", bytearray(foreign.sample())
    foreign.qcow2(path, bytes(expected), packed="deflate")
    with open_image(path, writable=True) as device:
        for start in (5, 70_000, 3 * MIB - 9):
            device.write(start, b"planted"[: len(expected) - start])
            expected[start : start + 7] = b"planted"[: len(expected) - start]
    assert content(path) == expected


@pytest.mark.parametrize(
    ("offset", "value", "message"),
    [
        (72, struct.pack(">Q", 0x4), "external data file"),
        (72, struct.pack(">Q", 0x10), "extended L2 entries"),
        (72, struct.pack(">Q", 1 << 40), "bit 40"),
        (32, struct.pack(">I", 1), "is encrypted"),
        (4, struct.pack(">I", 4), "version 4"),
        (20, struct.pack(">I", 40), "cluster_bits are 40"),
        (40, struct.pack(">Q", 1 << 60), "L1 table at"),
        (36, struct.pack(">I", 0), "too short for"),
    ],
)
def test_qcow2_refuses_by_name(tmp_path: Path, offset: int, value: bytes, message: str) -> None:
    path = tmp_path / "image.qcow2"
    foreign.qcow2(path, foreign.sample())
    data = bytearray(path.read_bytes())
    data[offset : offset + len(value)] = value
    path.write_bytes(data)
    with pytest.raises((ImageError, UnsupportedError), match=message):
        content(path)
    found = facts("survey", str(path), status=1)[0]
    assert rules(found) == ["image-damaged"] and message in found["findings"][0]["message"]


@pytest.mark.parametrize("bit", [1, 2])
def test_qcow2_marked_dirty_or_corrupt_is_read_but_not_written(tmp_path: Path, bit: int) -> None:
    path = tmp_path / "image.qcow2"
    foreign.qcow2(path, foreign.sample())
    data = bytearray(path.read_bytes())
    data[79] |= bit
    path.write_bytes(data)
    assert content(path) == foreign.sample()
    with pytest.raises(UnsupportedError, match="dirty" if bit == 1 else "corrupt"), open_image(path, writable=True):
        pass


def test_a_vhd_child_with_single_sectors(tmp_path: Path) -> None:
    """Sectors that count come from the child, the others of the same block from the base; writing makes it whole."""
    base, child, kind = tmp_path / "base.vhd", tmp_path / "child.vhd", image_format("vhd")
    expected = bytearray(kind.fit(5 * MIB))
    with new_image_file(kind, base, ImageSpec(len(expected), id=UUID(int=0xBA5E))) as device:
        for start in range(0, 5 * MIB - 9000, 100_000):
            device.write(start, b"%09d" % start * 1000)
            expected[start : start + 9000] = b"%09d" % start * 1000
    own = {sector: bytes([sector % 251]) * 512 for sector in (0, 3, 4, 5, 900, 4095, 4096, 9000)}
    foreign.vhd_child(child, base, own)
    for sector, data in own.items():
        expected[sector * 512 : sector * 512 + 512] = data
    assert content(child) == expected
    with open_image(child, writable=True) as device:
        device.write(700 * 512 + 9, b"planted")
        expected[700 * 512 + 9 : 700 * 512 + 16] = b"planted"
    assert content(child) == expected
    run("fold", str(child), status=0)
    assert content(base) == expected


def _vhdx(path: Path) -> tuple[bytes, int]:
    """Make a VHDX with a block; return its content, and where that block lies in the file."""
    with new_image_file(image_format("vhdx"), path, ImageSpec(8 * MIB, id=UUID(int=1), block_size=MIB)) as device:
        device.write(0, b"first" * 200_000)
        device.write(5 * MIB, b"later" * 100)
    return content(path), path.read_bytes().index(b"first" * 3)


def test_a_vhdx_log_is_replayed(tmp_path: Path) -> None:
    """Reading replays in memory and leaves the file alone; writing replays into it. The log moves a block and fills it."""
    made, path = tmp_path / "made.vhdx", tmp_path / "crashed.vhdx"
    before, place = _vhdx(made)
    planted = (b"from the log" * 700)[:8192]
    foreign.vhdx_with_log(path, made, place + 4096, planted)
    expected = before[:4096] + planted + before[4096 + 8192 :]
    crashed = path.read_bytes()
    assert content(path) == expected and path.read_bytes() == crashed
    assert facts("survey", str(path))[0]["size"] == 8 * MIB
    with open_image(path, writable=True) as device:
        assert device.read(0, device.size) == expected
        device.write(7 * MIB, b"z")
    assert content(path) == expected[: 7 * MIB] + b"z" + expected[7 * MIB + 1 :]
    assert path.read_bytes()[place + 4096 : place + 4096 + 8192] == planted


@pytest.mark.parametrize("break_at", [0, 9, 70, 4096, 4100, 9000])
def test_a_vhdx_whose_log_is_damaged_is_refused(tmp_path: Path, break_at: int) -> None:
    made, path = tmp_path / "made.vhdx", tmp_path / "crashed.vhdx"
    _, place = _vhdx(made)
    foreign.vhdx_with_log(path, made, place, bytes(8192), break_at=break_at)
    with pytest.raises(ImageError, match="nothing whole to replay"):
        content(path)
    assert rules(facts("survey", str(path), status=1)[0]) == ["image-damaged"]


def test_a_vhdx_child_with_single_sectors(tmp_path: Path) -> None:
    """A partly present block, its sector bitmap written by hand into a child made by Narvet: bits count from the lowest."""
    base, child = tmp_path / "base.vhdx", tmp_path / "child.vhdx"
    before, _ = _vhdx(base)
    run("branch", str(base), str(child), "--block", "1 MiB", status=0)
    file = bytearray(child.read_bytes())
    table, ratio = 3 * MIB, (512 << 23) // MIB
    block, bitmap = len(file), len(file) + MIB
    file += b"\xee" * MIB + bytes(MIB)
    struct.pack_into("<Q", file, table, block | 7)
    struct.pack_into("<Q", file, table + 8 * ratio, bitmap | 6)
    for sector in (1, 8, 9, 2047):
        file[bitmap + sector // 8] |= 1 << sector % 8
        file[block + sector * 512 : block + sector * 512 + 512] = bytes([sector % 256]) * 512
    child.write_bytes(file)
    expected = bytearray(before)
    for sector in (1, 8, 9, 2047):
        expected[sector * 512 : sector * 512 + 512] = bytes([sector % 256]) * 512
    assert content(child) == expected
    with open_image(child, writable=True) as device:
        device.write(100_000, b"planted")
    expected[100_000:100_007] = b"planted"
    assert content(child) == expected
    run("fold", str(child), status=0)
    assert content(base) == expected


def test_pieces_that_are_missing_or_lie_elsewhere(tmp_path: Path) -> None:
    path = tmp_path / "flat.vmdk"
    foreign.vmdk_flat_pieces(path, foreign.sample())
    text = path.read_text()
    (tmp_path / "flat-f001.vmdk").unlink()
    with pytest.raises(ImageError, match=r"its piece .*flat-f001.vmdk is missing"):
        content(path)
    path.write_text(text.replace('"flat-f001.vmdk"', '"../flat-f001.vmdk"'))
    with pytest.raises(ImageError, match="does not lie beside"):
        content(path)
    path.write_text(text.replace("FLAT", "VMFS"))
    with pytest.raises(UnsupportedError, match="of kind VMFS"):
        content(path)
    foreign.vmdk_sparse_pieces(tmp_path / "s.vmdk", foreign.sample())
    assert "name the file that describes" in run("survey", str(tmp_path / "s-s001.vmdk"), status=1).stdout
