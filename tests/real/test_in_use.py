"""Images that something is writing to are left alone: held against a real hypervisor and a real loop device."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from narvet.block.leases import users
from narvet.images import image_format
from narvet.images.contract import Making
from narvet.units import MIB
from tests.program import run


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
    with image_format("qcow2").create(base, Making(8 * MIB)) as device:
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
