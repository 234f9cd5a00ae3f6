"""Recasting, branching and folding by the installed program, and by random work against plain byte arrays."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import time
from pathlib import Path
from uuid import UUID

import pytest

from narvet.errors import NarvetError
from narvet.images import NAMES, image_format
from narvet.images.chain import identify, open_image
from narvet.images.contract import Making
from narvet.tables.gpt import FORMAT
from narvet.units import KIB, MIB
from narvet.work.making import new_image
from narvet.work.relatives import fold, make_child
from tests.program import PROGRAM, disk, facts, make_sheet, rules, run
from tests.test_images import SMALL_BLOCKS, check, work

PAIRS = (("vhd", "vhd"), ("vhdx", "vhdx"), ("vmdk", "vmdk"), ("qcow2", "qcow2"), ("raw", "qcow2"), ("vhdx", "qcow2"))


def content(path: Path) -> bytes:
    with open_image(path) as device:
        return device.read(0, device.size)


@pytest.mark.parametrize("source", NAMES)
@pytest.mark.parametrize("target", NAMES)
def test_every_pair_of_formats_keeps_the_content(tmp_path: Path, source: str, target: str) -> None:
    """Data, holes and runs of zeros, at an odd size; the same by the program, verified, thin and full, and back."""
    old, dice = tmp_path / f"old{image_format(source).suffix}", random.Random(len(source) + 10 * len(target))
    size = image_format(source).fit(7 * MIB + 13 * 512)
    with image_format(source).create(old, Making(size, block=SMALL_BLOCKS[source])) as device:
        for _ in range(12):
            device.write(dice.randrange(size - 70_000), dice.randbytes(dice.randrange(1, 70_000)))
        device.write(3 * MIB, bytes(MIB))
    expected = content(old)
    for space in ("thin", "full"):
        new = tmp_path / f"{space}{image_format(target).suffix}"
        assert "the same" in run("recast", str(old), str(new), "--space", space, "--verify", status=0).stdout
        found = identify(new)[1]
        assert found.format == target and (found.space == "full" or space == "thin")
        assert content(new)[:size] == expected and not any(content(new)[size:])
    assert content(old) == expected
    assert sorted(path.name[0] for path in tmp_path.iterdir()) == ["f", "o", "t"]


def test_a_larger_disk_keeps_its_table_and_partitions(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "64 MiB"\nformat = "vhdx"', 'size = "20 MiB"', "", 'size = "9 MiB"'))
    run("write", str(sheet), status=0)
    old, new = tmp_path / "shelf" / "a.vhdx", tmp_path / "new.vmdk"
    run("recast", str(old), str(new), "--size", "3 GiB", "--verify", status=0)
    before, after = facts("survey", str(old))[0], facts("survey", str(new))[0]
    assert after["size"] == 3 << 30 and after["findings"] == []
    assert [part["id"] for part in after["partitions"]] == [part["id"] for part in before["partitions"]]
    with open_image(new) as device:
        assert FORMAT.read(device, "x")[1] == ()
    for words, message in (
        (["--size", "1 MiB"], "cannot be made smaller"),
        (["--size", "3 TiB"], "holds disks of at most"),
        (["--block", "3 MiB"], "has no blocks of"),
        (["--size", "9"], "has no unit"),
    ):
        assert message in run("recast", str(old), str(tmp_path / "x.vhd"), *words, status=2).stderr
    assert "is there already" in run("recast", str(old), str(new), status=2).stderr
    assert "names no format" in run("recast", str(old), str(tmp_path / "x.img"), status=2).stderr
    assert not (tmp_path / "x.vhd").exists()


@pytest.mark.parametrize(("below", "above"), PAIRS)
@pytest.mark.parametrize("seed", range(2))
def test_random_branches_and_folds_equal_byte_arrays(tmp_path: Path, below: str, above: str, seed: int) -> None:
    dice, base = random.Random(seed), tmp_path / f"base{image_format(below).suffix}"
    size = image_format(above).fit(image_format(below).fit(5 * MIB + 512 * 7))
    model = bytearray(size)
    block = SMALL_BLOCKS[below] if seed else None
    with image_format(below).create(base, Making(size, id=UUID(int=7), block=block)) as device:
        work(device, model, dice, 40)
    top, kept, kind = base, bytes(model), image_format(above)
    for turn in range(5):
        child = tmp_path / f"child{turn}{kind.suffix}"
        with new_image(child) as partial:
            make_child(top, partial, child, kind, SMALL_BLOCKS[above] if dice.random() < 0.5 else None)
        with open_image(child, writable=True) as device:
            check(device, model)
            work(device, model, dice, 25)
        with open_image(child) as device:
            check(device, model)
        top = child
        if dice.random() < 0.5:
            top = fold(child)
            with open_image(top) as device:
                check(device, model)
            if top == base:
                kept = bytes(model)
    assert content(base) == kept
    while top != base:
        top = fold(top)
        assert content(top) == model


def test_what_would_damage_relatives_is_refused(tmp_path: Path) -> None:
    base, child, second = tmp_path / "base.qcow2", tmp_path / "a.qcow2", tmp_path / "b.qcow2"
    with image_format("qcow2").create(base, Making(4 * MIB)) as device:
        device.write(MIB, b"seeds")
    for new in (child, second):
        run("branch", str(base), str(new), status=0)
    grandchild = tmp_path / "aa.qcow2"
    run("branch", str(child), str(grandchild), status=0)
    before = base.read_bytes()
    assert f"{second} needs this base" in run("fold", str(child), status=2).stderr
    assert "needs this" in run("fold", str(second), status=2).stderr
    grandchild.unlink()
    second.unlink()
    with open_image(base, writable=True) as device:
        device.write(0, b"changed")
    assert "it was changed since" in run("fold", str(child), status=3).stderr
    assert "base-changed" in rules(facts("survey", str(child), status=1)[0])
    base.write_bytes(before)
    assert "no base to be folded into" in run("fold", str(base), status=2).stderr
    assert "raw has no children" in run("branch", str(base), str(tmp_path / "x.raw"), status=2).stderr
    assert "needs a vhdx base" in run("branch", str(base), str(tmp_path / "x.vhdx"), status=2).stderr
    base.rename(tmp_path / "moved")
    assert "is missing" in run("survey", str(child), status=1).stdout


def test_loops_and_endless_chains_end(tmp_path: Path) -> None:
    """An image that is its own base, or whose base leads to a device or out of sight."""
    with image_format("qcow2").create(tmp_path / "base.qcow2", Making(MIB)):
        pass
    run("branch", str(tmp_path / "base.qcow2"), str(tmp_path / "child.qcow2"), status=0)
    whole = (tmp_path / "child.qcow2").read_bytes()
    for name, message in (
        (b"child.qcow2", "its own base"),
        (b"/dev/zero\0\0", "cannot be read"),
        (b"../../x/abc", "is missing"),
    ):
        (tmp_path / "child.qcow2").write_bytes(
            whole.replace(b"base.qcow2", name[:10]) if len(name) == 10 else _renamed(whole, name)
        )
        with pytest.raises(NarvetError, match=message):
            content(tmp_path / "child.qcow2")
        assert rules(facts("survey", str(tmp_path / "child.qcow2"), status=1)[0]) == ["image-damaged"]


def _renamed(whole: bytes, name: bytes) -> bytes:
    place = whole.index(b"base.qcow2")
    return whole[:16] + len(name).to_bytes(4, "big") + whole[20:place] + name + whole[place + len(name) :]


@pytest.mark.parametrize(("below", "above"), [("vhdx", "vhdx"), ("raw", "qcow2"), ("vmdk", "vmdk"), ("vhd", "vhd")])
def test_killed_at_any_moment_the_disk_stays_the_same(tmp_path: Path, below: str, above: str) -> None:
    """Read through the child while there is one, else from the base, the disk never changes; a last fold finishes."""
    dice, kept = random.Random(3), tmp_path / "kept"
    kept.mkdir()
    base, child = kept / f"base{image_format(below).suffix}", kept / f"child{image_format(above).suffix}"
    size = image_format(below).fit(12 * MIB)
    with image_format(below).create(base, Making(size, block=SMALL_BLOCKS[below])) as device:
        for place in range(0, size - MIB, 3 * MIB):
            device.write(place, dice.randbytes(700 * KIB))
    run("branch", str(base), str(child), status=0)
    with open_image(child, writable=True) as device:
        for place in range(0, size - MIB, 2 * MIB):
            device.write(place, dice.randbytes(MIB))
    expected = content(child)
    for turn in range(5):
        folder = tmp_path / f"turn{turn}"
        shutil.copytree(kept, folder)
        if above == "qcow2":  # which knows its base by size and time of change
            stamp = base.stat()
            os.utime(folder / base.name, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
        top = folder / child.name
        for attempt in range(3):
            process = subprocess.Popen(
                [PROGRAM, "fold", str(top)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            if attempt < 2:
                time.sleep(0.2 + dice.random() * 0.25)
                process.send_signal(signal.SIGKILL)
            process.wait()
            assert content(top if top.exists() else folder / base.name) == expected
        assert not top.exists()


def test_a_killed_recast_leaves_no_half_image(tmp_path: Path) -> None:
    old, new, dice = tmp_path / "old.raw", tmp_path / "new.vhdx", random.Random(4)
    with old.open("wb") as file:
        for _ in range(40):
            file.write(dice.randbytes(MIB))
    for _ in range(8):
        process = subprocess.Popen([PROGRAM, "recast", str(old), str(new)], stdout=subprocess.DEVNULL)
        time.sleep(0.15 + dice.random() * 0.4)
        process.send_signal(signal.SIGKILL)
        process.wait()
        if new.exists():
            assert content(new)[: old.stat().st_size] == old.read_bytes()
            new.unlink()
    run("recast", str(old), str(new), status=0)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["new.vhdx", "old.raw"]
