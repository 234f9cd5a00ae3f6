"""Recasting, branching and folding by the installed program, and by random work against plain byte arrays."""

from __future__ import annotations

import os
import random
import shutil
import signal
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.apply.copying import copy_disk, source_of
from narvet.apply.staging import new_image
from narvet.block.publish import recover_all
from narvet.formats.images import NAMES, ending_of, image_format
from narvet.formats.images.chain import identify, new_image_file, open_image, parts_of
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.trust import Trust
from narvet.formats.tables.gpt import FORMAT
from narvet.ground.errors import NarvetError
from narvet.ground.units import KIB, MIB
from narvet.usecases.branch import make_child
from narvet.usecases.fold import fold
from narvet.usecases.recast import RecastWishes, image_spec_for
from narvet.usecases.reclaim import reclaim
from tests.program import HERE, disk, facts, make_sheet, rules, run
from tests.test_images import SMALL_BLOCKS, check, work

PAIRS = (("vhd", "vhd"), ("vhdx", "vhdx"), ("vmdk", "vmdk"), ("qcow2", "qcow2"), ("raw", "qcow2"), ("vhdx", "qcow2"))


WISHES = {
    "thin": (),
    "full": ("--space", "full"),
    "pieces": ("--pieces", "3 MB"),
    "flat": ("--pieces", "3 MB", "--space", "full"),
    "packed": ("--packed",),
}


def content(path: Path) -> bytes:
    with open_image(path) as device:
        return device.read(0, device.size)


@pytest.mark.parametrize("source", NAMES)
@pytest.mark.parametrize("target", NAMES)
def test_every_pair_of_formats_keeps_the_content(tmp_path: Path, source: str, target: str) -> None:
    """Data, holes and runs of zeros, at an odd size; the same by the program, verified, thin and full, and back."""
    old, dice = tmp_path / f"old{ending_of(source)}", random.Random(len(source) + 10 * len(target))
    size = image_format(source).fit(7 * MIB + 13 * 512)
    with new_image_file(image_format(source), old, ImageSpec(size, block_size=SMALL_BLOCKS[source])) as device:
        for _ in range(12):
            device.write(dice.randrange(size - 70_000), dice.randbytes(dice.randrange(1, 70_000)))
        device.write(3 * MIB, bytes(MIB))
    expected = content(old)
    for form in ("thin", "full", *(("pieces", "flat", "packed") if target == "vmdk" else ())):
        new = tmp_path / f"{form}{ending_of(target)}"
        assert "the same" in run("recast", str(old), str(new), *WISHES[form], "--verify", status=0).stdout
        found = identify(new).facts
        assert found.format == target and (found.space == "full" or form not in ("full", "flat"))
        assert found.whole == (form in ("thin", "full"))
        assert content(new)[:size] == expected and not any(content(new)[size:])
    assert content(old) == expected
    assert not list(tmp_path.glob(".*"))


def test_a_larger_disk_keeps_its_table_and_partitions(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "64 MiB"\nformat = "vhdx"', 'size = "20 MiB"', "", 'size = "9 MiB"'))
    run("write", str(sheet), status=0)
    old, new = tmp_path / "shelf" / "a.vhdx", tmp_path / "new.vmdk"
    assert facts("recast", str(old), str(new), "--size", "3 GiB", "--verify") == {
        "path": str(new), "format": "vmdk", "space": "thin", "size": 3 << 30, "verified": True, "remarks": [],
        "dry": False,
    }  # fmt: skip
    before, after = facts("survey", str(old))[0], facts("survey", str(new))[0]
    assert after["size"] == 3 << 30 and after["findings"] == []
    assert [part["id"] for part in after["partitions"]] == [part["id"] for part in before["partitions"]]
    with open_image(new) as device:
        assert FORMAT.read(device, HERE)[1] == ()
    for words, message in (
        (["--size", "1 MiB"], "would be cut off"),
        (["--size", "3 TiB"], "holds disks of at most"),
        (["--block", "3 MiB"], "has no blocks of"),
        (["--size", "9"], "has no unit"),
        (["--packed"], "kept in one file"),
    ):
        assert message in run("recast", str(old), str(tmp_path / "x.vhd"), *words, status=2).stderr
    assert "is there already" in run("recast", str(old), str(new), status=2).stderr
    assert "names no format" in run("recast", str(old), str(tmp_path / "x.img"), status=2).stderr
    assert not (tmp_path / "x.vhd").exists()


@pytest.mark.parametrize(("below", "above"), PAIRS)
@pytest.mark.parametrize("seed", range(2))
def test_random_branches_and_folds_equal_byte_arrays(tmp_path: Path, below: str, above: str, seed: int) -> None:
    dice, base = random.Random(seed), tmp_path / f"base{ending_of(below)}"
    size = image_format(above).fit(image_format(below).fit(5 * MIB + 512 * 7))
    model = bytearray(size)
    block = SMALL_BLOCKS[below] if seed else None
    with new_image_file(image_format(below), base, ImageSpec(size, id=UUID(int=7), block_size=block)) as device:
        work(device, model, dice, 40)
    top, kept, kind = base, bytes(model), image_format(above)
    for turn in range(5):
        child = tmp_path / f"child{turn}{ending_of(kind.name)}"
        with new_image(child, kind) as partial:
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
    with new_image_file(image_format("qcow2"), base, ImageSpec(4 * MIB)) as device:
        device.write(MIB, b"seeds")
    for new in (child, second):
        run("branch", str(base), str(new), status=0)
    grandchild = tmp_path / "aa.qcow2"
    told = facts("branch", str(child), str(grandchild))
    assert told == {"path": str(grandchild), "format": "qcow2", "base": str(child), "dry": False}
    before, stamp = base.read_bytes(), base.stat().st_mtime_ns
    assert f"{second} needs this base" in run("fold", str(child), status=2).stderr
    assert "needs this" in run("fold", str(second), status=2).stderr
    grandchild.unlink()
    second.unlink()
    with open_image(base, writable=True) as device:
        device.write(0, b"changed")
    assert "it was changed since" in run("fold", str(child), status=3).stderr
    assert "base-changed" in rules(facts("survey", str(child), status=1)[0])
    base.write_bytes(before)
    os.utime(base, ns=(stamp, stamp))
    assert facts("fold", str(child)) == {"path": str(base), "folded": str(child), "dry": False} and not child.exists()
    assert "no base to be folded into" in run("fold", str(base), status=2).stderr
    assert "raw has no children" in run("branch", str(base), str(tmp_path / "x.raw"), status=2).stderr
    assert "needs a vhdx base" in run("branch", str(base), str(tmp_path / "x.vhdx"), status=2).stderr
    run("branch", str(base), str(child), status=0)
    base.rename(tmp_path / "moved")
    assert "is missing" in facts("survey", str(child), status=1)[0]["findings"][0]["message"]


def test_loops_and_endless_chains_end(tmp_path: Path) -> None:
    """An image that is its own base, or whose base leads to a device or out of sight."""
    with new_image_file(image_format("qcow2"), tmp_path / "base.qcow2", ImageSpec(MIB)):
        pass
    run("branch", str(tmp_path / "base.qcow2"), str(tmp_path / "child.qcow2"), status=0)
    whole = (tmp_path / "child.qcow2").read_bytes()
    for name, message in (
        (b"child.qcow2", "its own base"),
        (b"/dev/zero\0\0", "cannot be read"),
        (b"../../x/abc", "does not lie beside it"),
    ):
        (tmp_path / "child.qcow2").write_bytes(
            whole.replace(b"base.qcow2", name[:10]) if len(name) == 10 else _renamed(whole, name)
        )
        with pytest.raises(NarvetError, match=message):
            content(tmp_path / "child.qcow2")
        assert rules(facts("survey", str(tmp_path / "child.qcow2"), status=1)[0]) in (
            ["image-damaged"],
            ["base-elsewhere"],
        )


def _renamed(whole: bytes, name: bytes) -> bytes:
    place = whole.index(b"base.qcow2")
    return whole[:16] + len(name).to_bytes(4, "big") + whole[20:place] + name + whole[place + len(name) :]


@pytest.mark.parametrize(("below", "above"), [("vhdx", "vhdx"), ("raw", "qcow2"), ("vmdk", "vmdk"), ("vhd", "vhd")])
def test_killed_at_any_moment_the_disk_stays_the_same(tmp_path: Path, below: str, above: str) -> None:
    """Read through the child while there is one, else from the base, the disk never changes; a last fold finishes."""
    dice, kept = random.Random(3), tmp_path / "kept"
    kept.mkdir()
    base, child = kept / f"base{ending_of(below)}", kept / f"child{ending_of(above)}"
    size = image_format(below).fit(12 * MIB)
    with new_image_file(image_format(below), base, ImageSpec(size, block_size=SMALL_BLOCKS[below])) as device:
        for place in range(0, size - MIB, 3 * MIB):
            device.write(place, dice.randbytes(700 * KIB))
    run("branch", str(base), str(child), status=0)
    with open_image(child, writable=True) as device:
        for place in range(0, size - MIB, 2 * MIB):
            device.write(place, dice.randbytes(MIB))
    expected = content(child)
    for turn in range(12):
        folder = tmp_path / f"turn{turn}"
        shutil.copytree(kept, folder)
        if above == "qcow2":  # which knows its base by size and time of change
            stamp = base.stat()
            os.utime(folder / base.name, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
        top = folder / child.name
        for _ in range(2):
            killed(lambda: fold(top), dice.random() * 0.08)  # noqa: B023
            assert content(top if top.exists() else folder / base.name) == expected
        recover_all(folder)
        if len(list(folder.iterdir())) > 1:  # the child, or all but the mark was done
            fold(top)
        assert content(folder / base.name) == expected
        assert len(list(folder.iterdir())) == 1
        shutil.rmtree(folder)


def killed(work: Callable[[], object], after: float) -> None:
    """Do a piece of work in a process of its own, which is killed after some seconds."""
    process = os.fork()
    if not process:
        try:
            work()
        finally:
            os._exit(0)
    time.sleep(after)
    os.kill(process, signal.SIGKILL)
    os.waitpid(process, 0)


@pytest.mark.parametrize("form", ["thin", "pieces", "packed"])
def test_a_killed_recast_leaves_no_half_image(tmp_path: Path, form: str) -> None:
    """Killed at any moment, and begun again where that left it: a whole image, or none under its name."""
    old, new, dice = tmp_path / "old.raw", tmp_path / "new.vmdk", random.Random(4)
    old.write_bytes(b"".join(dice.randbytes(MIB) for _ in range(12)))
    wishes: Any = {"thin": {}, "pieces": {"pieces": 3 * MIB}, "packed": {"packed": True}}[form]
    kind = image_format("vmdk")

    def work() -> None:
        with new_image(new, kind) as partial:
            source = source_of(old)
            copy_disk(source, partial, kind, image_spec_for(source, kind, new, RecastWishes(**wishes)))

    whole = 0
    for _ in range(30):
        killed(work, dice.random() * 0.25)
        if new.exists():
            whole += 1
            assert content(new) == old.read_bytes()
            for file in (*parts_of(kind, new), new):
                file.unlink()
    work()
    assert content(new) == old.read_bytes() and whole < 30
    names = {path.name for path in (old, new, *parts_of(kind, new))}
    assert {path.name for path in tmp_path.iterdir()} == names


def test_a_killed_reclaim_leaves_the_old_image_or_the_new(tmp_path: Path) -> None:
    path, dice, kind = tmp_path / "image.vhdx", random.Random(5), image_format("vhdx")
    with new_image_file(kind, path, ImageSpec(30 * MIB, id=UUID(int=5), block_size=MIB)) as device:
        for place in range(0, 30 * MIB, MIB):
            device.write(place, dice.randbytes(MIB) if place % (3 * MIB) else bytes(MIB))
    before, expected = path.read_bytes(), content(path)
    smaller, start = 0, time.monotonic()
    reclaim(path)
    took = time.monotonic() - start
    path.write_bytes(before)
    for _ in range(30):
        killed(lambda: reclaim(path), dice.random() * 1.5 * took)
        assert content(path) == expected
        if path.stat().st_size < len(before) - 9 * MIB:
            smaller += 1
            path.write_bytes(before)
        else:
            assert path.read_bytes() == before
    assert 0 < smaller < 30
    reclaim(path)
    assert content(path) == expected and [file.name for file in tmp_path.iterdir()] == [path.name]


def test_what_an_image_says_does_not_command_the_terminal(tmp_path: Path) -> None:
    base, child = tmp_path / "bases.qcow2", tmp_path / "child.qcow2"
    with new_image_file(image_format("qcow2"), base, ImageSpec(MIB)):
        pass
    run("branch", str(base), str(child), status=0)
    child.write_bytes(child.read_bytes().replace(b"bases.qcow2", b"\x1b[2Jx.qcow2"))
    for words in (["survey", str(child)], ["fold", str(child)], ["recast", str(child), str(tmp_path / "new.raw")]):
        done = run(*words, status=1)
        assert "\x1b" not in done.stdout + done.stderr and "\N{REPLACEMENT CHARACTER}[2Jx.qcow2" in "".join((done.stdout + done.stderr).split())  # fmt: skip


@pytest.mark.parametrize(("below", "above"), PAIRS)
def test_a_child_is_tied_to_a_base_that_was_moved_copied_or_touched(tmp_path: Path, below: str, above: str) -> None:
    """The disk reads as it did, children of others are not touched, and what does not fit is refused."""
    dice, base, child = random.Random(7), tmp_path / f"base{ending_of(below)}", tmp_path / f"child{ending_of(above)}"
    size = image_format(below).fit(9 * MIB)
    with new_image_file(
        image_format(below), base, ImageSpec(size, id=UUID(int=4), block_size=SMALL_BLOCKS[below])
    ) as device:
        for place in range(0, size - MIB, MIB):
            device.write(place, dice.randbytes(300 * KIB))
    run("branch", str(base), str(child), status=0)
    with open_image(child, writable=True) as device:
        for place in range(0, size - 2 * MIB, 2 * MIB):
            device.write(place + 100, dice.randbytes(150 * KIB))
        device.zero(5 * MIB, MIB)  # holes of the child over data of its base
    expected, about = content(child), identify(child).facts
    # moved to another folder and name: it is the one that the child recorded
    moved = tmp_path / "attic" / f"moved{ending_of(below)}"
    moved.parent.mkdir()
    base.rename(moved)
    assert "is missing; put it back" in " ".join(run("survey", str(child), status=1).stdout.split())
    assert "the base that the child recorded" in run("tie", str(child), str(moved), status=0).stdout
    assert _reads(child, moved) == expected and identify(child).facts.id == about.id
    assert [one["rule"] for one in facts("survey", str(child), "--base", str(moved))[0]["findings"]] == [
        "bytes-not-known"
    ]
    # copied: the id says so, or else the content is compared with the base that it has
    copy = tmp_path / f"copy{ending_of(below)}"
    shutil.copyfile(moved, copy)
    os.utime(copy, (1, 1))
    run("tie", str(child), str(copy), status=0)
    assert content(child) == expected
    # the same, but the child's base is gone: what it was made from must be named, or answered for
    if below == "raw":
        os.utime(copy, (2, 2))
        third = tmp_path / "third.raw"
        shutil.copyfile(copy, third)
        told = " ".join(run("tie", str(child), str(third), status=3).stderr.split())
        assert "--same-as" in told and "--sure" in told
        assert "was made from either" in run("tie", str(child), str(third), "--same-as", str(moved), status=3).stderr
        os.utime(copy, (1, 1))
        assert "byte for byte" in run("tie", str(child), str(third), "--same-as", str(copy), status=0).stdout
        os.utime(third, (3, 3))
        run("tie", str(child), str(third), "--sure", status=0)
        assert content(child) == expected
    # another disk, a child of the child, no child at all
    other = tmp_path / f"other{ending_of(below)}"
    with new_image_file(image_format(below), other, ImageSpec(size, id=UUID(int=9))) as device:
        device.write(MIB, b"x")
    before = child.read_bytes()
    assert run("tie", str(child), str(other), status=3).stderr
    assert "it is not a child" in run("tie", str(other), str(moved), status=2).stderr
    run("branch", str(child), str(tmp_path / f"grandchild{ending_of(above)}"), status=0)
    assert "is a child of it" in run("tie", str(child), str(moved), status=3).stderr
    assert child.read_bytes() == before
    assert list(tmp_path.rglob(".*")) == []


def _reads(child: Path, base: Path) -> bytes:
    with open_image(child, trust=Trust(bases=frozenset({os.path.realpath(base)}))) as device:
        return device.read(0, device.size)
