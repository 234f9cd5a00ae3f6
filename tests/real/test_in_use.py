"""Images that something is writing to are left alone: held against a real hypervisor and a real loop device."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from narvet.block.leases import lease, users
from narvet.formats.images import image_format
from narvet.formats.images.chain import new_image_file
from narvet.formats.images.contract import ImageSpec
from narvet.ground.units import MIB
from tests.program import facts, run


@contextmanager
def running(image: Path, kind: str, *, writable: bool = True) -> Iterator[None]:
    """A hypervisor with a disk attached, its guest halted before its first instruction."""
    drive = f"file={image},format={kind},if=virtio{'' if writable else ',readonly=on'}"
    command = [
        "qemu-system-x86_64",
        "-S",
        "-accel",
        "tcg",
        "-m",
        "64",
        "-nodefaults",
        "-display",
        "none",
        "-drive",
        drive,
    ]
    process = subprocess.Popen(command, stdin=subprocess.DEVNULL)
    try:
        for _ in range(1200):
            handles = [path.resolve() for path in Path(f"/proc/{process.pid}/fd").iterdir()]
            if image.resolve() in handles:
                break
            time.sleep(0.05)
        yield
    finally:
        process.kill()
        process.wait()


@pytest.mark.guest
def test_what_a_running_guest_uses_is_left_alone(tmp_path: Path) -> None:
    base, child = tmp_path / "base.qcow2", tmp_path / "child.qcow2"
    with new_image_file(image_format("qcow2"), base, ImageSpec(8 * MIB)) as device:
        device.write(MIB, b"seeds")
    run("branch", str(base), str(child), status=0)
    with running(child, "qcow2"):
        before = {path: path.read_bytes() for path in (base, child)}
        for words in (
            ["fold", str(child)],
            ["reclaim", str(child)],
            ["recast", str(child), str(tmp_path / "new.raw")],
            ["branch", str(child), str(tmp_path / "new.qcow2")],
        ):
            told = run(*words, status=3).stderr
            assert "a hypervisor or another Narvet uses it" in told and str(tmp_path) in told
        assert {path: path.read_bytes() for path in (base, child)} == before
        assert sorted(tmp_path.iterdir()) == [base, child]
    with running(child, "qcow2", writable=False):  # reading harms nothing
        run("recast", str(child), str(tmp_path / "new.raw"), status=0)
    run("fold", str(child), status=0)


@pytest.mark.guest
def test_a_base_that_a_guest_reads_through_another_child_stays(tmp_path: Path) -> None:
    base, mine, theirs = tmp_path / "base.qcow2", tmp_path / "mine.qcow2", tmp_path / "theirs.qcow2"
    with new_image_file(image_format("qcow2"), base, ImageSpec(8 * MIB)) as device:
        device.write(MIB, b"seeds")
    (tmp_path / "apart").mkdir()
    run("branch", str(base), str(tmp_path / "apart" / theirs.name), status=0)
    run("branch", str(base), str(mine), status=0)
    before = base.read_bytes()
    with running(tmp_path / "apart" / theirs.name, "qcow2"):
        for words in (["fold", str(mine)], ["reclaim", str(base)]):
            done = run(*words, status=None)
            assert done.returncode in (2, 3) and base.read_bytes() == before, done.stderr


@pytest.mark.guest
def test_a_hypervisor_does_not_get_what_narvet_holds(tmp_path: Path) -> None:
    """It asks for its own locks, finds ours, and ends; where we only read, it may read too."""
    image = tmp_path / "a.raw"
    image.write_bytes(bytes(MIB))
    command = ["qemu-system-x86_64", "-accel", "tcg", "-nodefaults", "-display", "none", "-S", "-m", "32", "-drive"]
    for change, drive, refused in (
        (True, "", True), (True, ",readonly=on", True), (False, "", True), (False, ",readonly=on", False),
    ):  # fmt: skip
        with lease(image, change=change):
            try:
                done = subprocess.run(
                    [*command, f"file={image},format=raw,if=virtio{drive}"],
                    check=False,
                    capture_output=True,
                    text=True,
                    timeout=60 if refused else 3,
                )
                assert refused and "lock" in done.stderr, (change, drive, done.stderr)
            except subprocess.TimeoutExpired:
                assert not refused, (change, drive)


@pytest.mark.kernel
def test_real_devices_are_read_whole_or_not_at_all(tmp_path: Path) -> None:
    """A device has no holes to tell of; one that is mounted is left alone; a file changed under a device is noticed."""
    image = tmp_path / "a.raw"
    run("make", str(image), "--size", "64 MiB", "--table", "none", "--filesystem", "ext4", status=0)
    attach = ["losetup", "--find", "--show", "--read-only", str(image)]
    loop = subprocess.run(attach, check=True, capture_output=True, text=True).stdout.strip()
    place = tmp_path / "mount"
    place.mkdir()
    try:
        run("recast", loop, str(tmp_path / "new.raw"), "--verify", status=0)
        assert (tmp_path / "new.raw").read_bytes() == image.read_bytes()
        assert facts("survey", loop)[0]["sector"] == 512
        subprocess.run(["mount", "-o", "ro", loop, str(place)], check=True)
        try:
            assert "the system uses this device" in run("recast", loop, str(tmp_path / "b.raw"), status=3).stderr
        finally:
            subprocess.run(["umount", str(place)], check=True)
        assert "loop device" in run("reclaim", str(image), status=3).stderr
    finally:
        subprocess.run(["losetup", "--detach", loop], check=True)


@pytest.mark.kernel
def test_what_a_loop_device_holds_is_left_alone(tmp_path: Path) -> None:
    image = tmp_path / "a.raw"
    image.write_bytes(bytes(MIB))
    for more, expected in (((), 1), (("--read-only",), 0)):
        loop = subprocess.run(
            ["losetup", "--find", "--show", *more, image], check=True, capture_output=True, text=True
        ).stdout
        try:
            assert len([one for one in users(image, readers=False) if one.startswith("loop device")]) == expected
        finally:
            subprocess.run(["losetup", "--detach", loop.strip()], check=True)
    assert not list(users(image, readers=True))
