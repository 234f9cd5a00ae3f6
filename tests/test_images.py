"""Every image format: random work equals the same on a plain byte array; hostile images stay bounded."""

from __future__ import annotations

import random
import sys
import time
from pathlib import Path
from uuid import UUID

import pytest

import narvet
from narvet.block.contract import BlockDevice
from narvet.block.files import MemoryFiles
from narvet.formats.images import NAMES, ending_of, image_format
from narvet.formats.images.chain import identify, new_image_file, open_image, parts_of
from narvet.formats.images.contract import ImageSpec
from narvet.ground.errors import NarvetError
from narvet.ground.units import KIB, MIB, TIB
from narvet.ground.values import replace
from tests.program import run

HOST = 16 * KIB  # what the filesystem below rounds a file up to, and keeps about it
SMALL_BLOCKS = {"raw": None, "vhd": 512 * KIB, "vhdx": MIB, "qcow2": 4 * KIB, "vmdk": 8 * KIB}


def work(device: BlockDevice, model: bytearray, dice: random.Random, steps: int) -> None:
    """Read, write and zero at random, on the device and on a byte array, and compare."""
    for _ in range(steps):
        length = min(dice.choice((1, 512, 700, 4096, 65536, 300_000)), len(model))
        offset = dice.choice(
            (dice.randrange(len(model) - length + 1), dice.randrange(len(model) - length + 1) // 4096 * 4096)
        )
        kind = dice.randrange(5)
        if kind <= 1:
            data = dice.randbytes(length)
            device.write(offset, data)
            model[offset : offset + length] = data
        elif kind == 2:
            length = min(length * 9, len(model) - offset)
            device.zero(offset, length)
            model[offset : offset + length] = bytes(length)
        else:
            assert device.read(offset, length) == model[offset : offset + length], (offset, length)


def check(device: BlockDevice, model: bytearray) -> None:
    """The whole content is the model's, and what lies outside the extents is zero."""
    assert device.size == len(model)
    assert device.read(0, device.size) == model
    outside = bytearray(model)
    reach = 0
    for start, length in device.extents():
        assert start >= reach and length > 0
        outside[start : start + length] = bytes(length)
        reach = start + length
    assert reach <= device.size and not any(outside)


@pytest.mark.parametrize("space", ["thin", "full"])
@pytest.mark.parametrize(("name", "pieces"), [*((name, None) for name in NAMES), ("vmdk", 2 * MIB)])
@pytest.mark.parametrize("seed", range(3))
def test_random_work_equals_a_byte_array(tmp_path: Path, name: str, pieces: int | None, space: str, seed: int) -> None:
    dice = random.Random(seed)
    kind = image_format(name)
    size = kind.fit(dice.randrange(3 * MIB, 9 * MIB) // 512 * 512)
    block = SMALL_BLOCKS[name] if seed else None
    image_spec = ImageSpec(size, 512, space, UUID(int=seed + 1), 1772409600, block, pieces=pieces)  # type: ignore[arg-type]
    path, model = tmp_path / f"image{ending_of(kind.name)}", bytearray(size)
    with new_image_file(kind, path, image_spec) as device:
        assert device.read(0, size) == model
    assert identify(path).facts.space == space
    assert identify(path).facts.allocated >= (size if space == "full" else 0)
    assert identify(path).facts.allocated <= kind.footprint(image_spec, 0) + HOST
    for file in (*parts_of(kind, path), path):
        assert file.stat().st_size <= (pieces or 1 << 60)
        file.unlink()
    with new_image_file(kind, path, image_spec) as device:
        work(device, model, dice, 60)
    for _ in range(4):
        _, found, facts = identify(path)
        assert (found.name, facts.format, facts.size) == (name, name, size)
        with open_image(path) as device:
            check(device, model)
        with open_image(path, writable=True) as device:
            work(device, model, dice, 40)
            device.flush()
            work(device, model, dice, 10)
    with open_image(path) as device:
        check(device, model)


@pytest.mark.parametrize("name", NAMES)
def test_same_wish_same_bytes_and_large_ones_cost_nothing(tmp_path: Path, name: str) -> None:
    kind = image_format(name)
    contents = []
    for copy in ("a", "b"):
        (tmp_path / copy).mkdir()
        with new_image_file(
            kind,
            tmp_path / copy / f"image{ending_of(kind.name)}",
            ImageSpec(kind.fit(20 * MIB), id=UUID(int=5), made=1772409600),
        ) as device:
            device.write(5 * MIB, b"seeds" * 1000)
        contents.append((tmp_path / copy / f"image{ending_of(kind.name)}").read_bytes())
    assert contents[0] == contents[1]
    size = min(kind.most, 15 * TIB) // MIB * MIB
    image_spec = ImageSpec(size, id=UUID(int=6))
    start = time.process_time()
    with new_image_file(kind, tmp_path / f"large{ending_of(kind.name)}", image_spec) as device:
        device.write(size - 5000, b"z" * 5000)
    with open_image(tmp_path / f"large{ending_of(kind.name)}") as device:
        assert device.read(size - 5001, 5001) == b"\0" + b"z" * 5000
        assert sum(length for _, length in device.extents()) <= 32 * MIB
    assert time.process_time() - start < 5
    assert (
        identify(tmp_path / f"large{ending_of(kind.name)}").facts.allocated <= kind.footprint(image_spec, 8192) + HOST
    )


@pytest.mark.parametrize("name", [name for name in NAMES if name != "raw"])
def test_hostile_images_stay_bounded(tmp_path: Path, name: str) -> None:
    """Wild bytes anywhere in headers and tables: a clear error or a bounded read, never another exception or a wait."""
    kind, dice = image_format(name), random.Random(11)
    path = tmp_path / "image.qcow2"
    with new_image_file(
        kind, path, ImageSpec(kind.fit(9 * MIB), id=UUID(int=1), block_size=SMALL_BLOCKS[name])
    ) as device:
        for place in range(0, 9 * MIB, MIB):
            device.write(place, b"x" * 5000)
    whole = path.read_bytes()
    marks = [place for place in range(0, len(whole), 512) if any(whole[place : place + 512])]
    start = time.monotonic()
    for turn in range(2000):
        places = [dice.choice(marks) + dice.randrange(128) * 4 for _ in range(dice.randrange(1, 5))]
        with path.open("r+b", buffering=0) as file:
            for place in places:
                file.seek(place)
                file.write(dice.choice((b"\xff" * 4, bytes(4), b"\x7f" * 4, dice.randbytes(4))))
            if turn % 50 == 0:
                file.truncate(dice.randrange(len(whole)))
        try:
            with open_image(path) as device:
                for offset in range(0, min(device.size, 9 * MIB), MIB):
                    device.read(offset, min(4096, device.size - offset))
                for _ in zip(range(1000), device.extents(), strict=False):
                    pass
        except NarvetError as error:
            assert str(error)
        if turn % 50 == 0:
            path.write_bytes(whole)
        with path.open("r+b", buffering=0) as file:
            for place in places:
                file.seek(place)
                file.write(whole[place : place + 4])
    assert time.monotonic() - start < 120


def qcow2_counts(data: bytes) -> tuple[dict[int, int], dict[int, int]]:
    """Return what a qcow2 file counts for each cluster, and what really points at it: read plainly, by the specification."""

    def u32(place: int) -> int:
        return int.from_bytes(data[place : place + 4], "big")

    def u64(place: int) -> int:
        return int.from_bytes(data[place : place + 8], "big")

    bits, l1_size, l1, table, table_clusters = u32(20), u32(36), u64(40), u64(48), u32(56)
    cluster = 1 << bits
    counted: dict[int, int] = {}
    used: dict[int, int] = {0: 1}

    def use(offset: int, length: int) -> None:
        for number in range(offset >> bits, (offset + length - 1 >> bits) + 1):
            used[number] = used.get(number, 0) + 1

    def flags_off(value: int) -> int:
        return value & 0x00FFFFFFFFFFFE00

    use(l1, 8 * l1_size)
    use(table, table_clusters * cluster)
    for number in range(table_clusters * cluster // 8):
        if block := u64(table + 8 * number):
            use(block, cluster)
            counts = [int.from_bytes(data[block + 2 * n : block + 2 * n + 2], "big") for n in range(cluster // 2)]
            counted |= {number * cluster // 2 + n: count for n, count in enumerate(counts) if count}
    for l2 in filter(None, (flags_off(u64(l1 + 8 * number)) for number in range(l1_size))):
        use(l2, cluster)
        for offset in filter(None, (flags_off(u64(l2 + 8 * entry)) for entry in range(cluster // 8))):
            use(offset, cluster)
    return counted, used


@pytest.mark.parametrize("block", [512, 4 * KIB, 64 * KIB])
@pytest.mark.parametrize("space", ["thin", "full"])
def test_qcow2_counts_every_cluster_once(tmp_path: Path, block: int, space: str) -> None:
    """Whatever was written, zeroed and enlarged, refcounts are exact: nothing is lost, nothing counted in vain."""
    kind, dice, path = image_format("qcow2"), random.Random(block), tmp_path / "image.qcow2"
    image_spec = ImageSpec(3 * MIB + 512, space=space, block_size=block)  # type: ignore[arg-type]
    with new_image_file(kind, path, image_spec):
        pass
    for _ in range(3):
        counted, used = qcow2_counts(path.read_bytes())
        assert counted == used
        with open_image(path, writable=True) as device:
            work(device, bytearray(device.read(0, device.size)), dice, 60)


def test_a_log_of_empty_descriptors_ends_at_once(tmp_path: Path) -> None:
    """A VHDX whose log is one long entry of zero-length descriptors, over and over, every checksum right."""
    from narvet.formats.images.vhdx.blocks import signed
    from narvet.formats.images.vhdx.records import Descriptor, Header, LogEntryHeader
    from narvet.ground.checksums import crc32c

    path, guid, log = tmp_path / "a.vhdx", UUID(int=9), bytearray(MIB)
    with new_image_file(image_format("vhdx"), path, ImageSpec(8 * MIB)):
        pass
    for place in range(0, MIB, 4096):
        length = min(MIB - place, 8 * 4096)
        count = (length - 64) // 32
        body = Descriptor(signature=b"zero", sequence_number=1).encode() * count
        head = LogEntryHeader(
            signature=b"loge", entry_length=length, sequence_number=1, descriptor_count=count, log_guid=guid
        )
        whole = (head.encode() + body).ljust(length, b"\0")
        log[place : place + 4096] = (replace(head, checksum=crc32c(whole)).encode() + body)[:4096].ljust(4096, b"\0")
    with path.open("r+b") as file:
        file.seek(64 * KIB)
        header = Header.decode(file.read(4096))
        file.seek(MIB)
        file.write(log)
        file.seek(64 * KIB)
        file.write(signed(replace(header, log_guid=guid, sequence_number=header.sequence_number + 9)))
    start = time.process_time()
    with pytest.raises(NarvetError):
        identify(path)
    assert time.process_time() - start < 5


def test_the_first_write_clears_what_only_holds_until_then(tmp_path: Path) -> None:
    """qcow2's autoclear bits; and no cluster that is not counted is counted down below nothing."""
    path = tmp_path / "a.qcow2"
    with new_image_file(image_format("qcow2"), path, ImageSpec(4 * MIB)) as device:
        device.write(0, b"x" * 70000)
    data = bytearray(path.read_bytes())
    data[88:96] = (1).to_bytes(8, "big")
    path.write_bytes(data)
    with open_image(path):
        pass
    assert path.read_bytes() == data
    with open_image(path, writable=True) as device:
        device.write(0, b"y")
    assert path.read_bytes()[88:96] == bytes(8)
    table = int.from_bytes(data[48:56], "big")
    block = int.from_bytes(data[table : table + 8], "big")
    data[block : block + 64 * KIB] = bytes(64 * KIB)
    path.write_bytes(data)
    with pytest.raises(NarvetError, match="refcounts of clusters"), open_image(path, writable=True) as device:
        device.zero(0, MIB)
        device.flush()


@pytest.mark.parametrize("name", NAMES)
def test_formats_work_over_files_anywhere(name: str) -> None:
    """In memory, without a path: made, written, looked at and read back through one opening."""
    kind, files, dice = image_format(name), MemoryFiles(), random.Random(4)
    size, data = kind.fit(9 * MIB), dice.randbytes(300 * KIB)
    with kind.create(files, "one", ImageSpec(size, id=UUID(int=9), block_size=SMALL_BLOCKS[name])) as device:
        device.write(5 * MIB + 512, data)
    assert files.names() == ("one",)
    for writable in (True, False):
        opened = kind.probe(files, "one", writable=writable)
        assert opened is not None and (opened.facts.format, opened.facts.size) == (name, size)
        disk = opened.device(512, None)
        assert disk.read(5 * MIB + 512, len(data)) == data and not any(disk.read(0, 512))
        if writable:
            disk.write(KIB, data)
            opened.finish()
    assert kind.probe(files, "one").device(512, None).read(KIB, len(data)) == data  # type: ignore[union-attr]


def test_an_image_is_opened_once_to_be_looked_at(tmp_path: Path) -> None:
    """A raw image with both table formats and all filesystems to be asked, and a chain of seven."""
    run("make", str(tmp_path / "a.raw"), "--size", "40 MiB", status=0)
    run("make", str(tmp_path / "0.qcow2"), "--size", "40 MiB", status=0)
    for number in range(6):
        run("branch", str(tmp_path / f"{number}.qcow2"), str(tmp_path / f"{number + 1}.qcow2"), status=0)
    for name, count in (("a.raw", 1), ("6.qcow2", 7)):
        opened: list[str] = []
        sys.addaudithook(lambda event, args, opened=opened: event == "open" and opened.append(str(args[0])))  # type: ignore[misc]
        narvet.survey(tmp_path / name)
        assert len([path for path in opened if path.startswith(str(tmp_path))]) == count
