"""A guest whose root lies in an image starts, and mounts its disks by itself: nobody logged in, nothing was pasted."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.program import facts, run
from tests.real import load, show
from tests.real.guest import Answers, Attached, complaints, device_at
from tests.real.kernel import mounted

pytestmark = [pytest.mark.guest, pytest.mark.kernel]

OTHER = {"/srv/herbs": ("xfs", "1201:1300", "750")}
POINTS = {
    "/srv/trials": ("ext4", "1201:1300", "2770"),
    "/srv/scratch": ("xfs", "1201:1300", "750"),
    "/opt/field": ("ext4", "0:0", "755"),
}
SHEET = """sheet = 1
identity = "5f0c1b52-0d0e-4f4a-9d55-0d6a3c1f2b11"
[store.shelf]
path = "shelf"
[guest.seedling]
root = "root.qcow2"
[disk.trials]
guest = "seedling"
store = "shelf"
size = "900 MiB"
format = "vhdx"
[[disk.trials.partition]]
size = "400 MiB"
at = "/srv/trials"
owner = "curator:lab"
mode = "2770"
[[disk.trials.partition]]
size = "rest"
filesystem = "xfs"
at = "/srv/scratch"
owner = "curator:lab"
mode = "0750"
[disk.field]
guest = "seedling"
store = "shelf"
size = "64 MiB"
[[disk.field.partition]]
at = "/opt/field"
[guest.herbarium]
root = {image = "other.vhdx", partition = 1}
[disk.herbs]
guest = "herbarium"
store = "shelf"
size = "90 MiB"
format = "qcow2"
[[disk.herbs.partition]]
filesystem = "xfs"
at = "/srv/herbs"
owner = "curator:lab"
mode = "0750"
"""
START = """#!/bin/busybox sh
export PATH=/bin
mount -t proc proc /proc; mount -t devtmpfs dev /dev; mount -t sysfs sys /sys
mount -a 2>&1
for at in {points}; do
    echo "$at shows $(stat -f -c '%S %b %f %a' $at)"
    echo "$at is $(grep " $at " /proc/mounts | cut -d ' ' -f 3) $(stat -c '%u:%g %a' $at)"
    echo "found by itself" > $at/word; cat $at/word > /dev/null
done
(cd /; sha256sum -c /etc/sums > /tmp/said 2>&1 && echo "$(grep ' / ' /proc/mounts | tail -n 1 | cut -d ' ' -f 3) intact $(grep -c OK /tmp/said)" || cat /tmp/said)
dd if=/dev/urandom of=/root-file bs=1M count=9 2>/dev/null; mkdir /more; for n in $(seq 200); do mkdir /more/$n; done
umount -a -r 2>/dev/null; sync
"""


def root_tree(place: Path, points: dict[str, Any]) -> None:
    """Fill a root with a system that starts: a shell, accounts, a start script, and thousands of folders."""
    for name in ("bin", "dev", "etc", "proc", "sys", "tmp", "sbin", "opt", "srv/old"):
        (place / name).mkdir(parents=True)
    shutil.copy(shutil.which("busybox") or "", place / "bin" / "busybox")
    listed = subprocess.run(["busybox", "--list"], capture_output=True, text=True, check=True).stdout.split()
    for name in listed:
        if name != "busybox":
            (place / "bin" / name).symlink_to("busybox")
    (place / "etc" / "passwd").write_text("root:x:0:0::/:/bin/sh\ncurator:x:1201:1300::/:/bin/sh\n")
    (place / "etc" / "group").write_text("root:x:0:\nlab:x:1300:curator\n")
    (place / "etc" / "fstab").write_text("# the guest's own\ntmpfs /tmp tmpfs defaults 0 0\n")
    (place / "etc" / "os-release").write_text('PRETTY_NAME="Larkmoor Linux 4"\n')
    start = place / "sbin" / "start"
    start.write_text(START.format(points=" ".join(points)))
    start.chmod(0o755)
    for number in range(3000):
        (place / "srv" / f"shelf {number} {'s' * (number % 70)}").mkdir()
    made = load.fill(place / "var", 5, 90 << 20)
    lines = [f"{checksum}  {path.relative_to(place)}\n" for path, checksum in made.items()]
    (place / "etc" / "sums").write_text("".join(lines))


def prepare(folder: Path, memory: Path) -> tuple[list[Attached], str]:
    """Make a root, write a sheet for its guest, and return the root with the disks at their slots."""
    del memory
    for name, kind, points in (("root.qcow2", "ext4", POINTS), ("other.vhdx", "xfs", OTHER)):
        run("make", "root.raw", "--size", "400 MiB", "--filesystem", kind, status=0, cwd=folder)
        start = facts("survey", str(folder / "root.raw"))[0]["partitions"][0]["start"]
        with mounted(folder / "root.raw", folder, start) as place:
            root_tree(place, points)
        run("recast", "root.raw", name, status=0, cwd=folder)
        (folder / "root.raw").unlink()
    (folder / "shelf").mkdir()
    (folder / "sheet.toml").write_text(SHEET)
    run("write", status=0, cwd=folder)
    script = "".join(
        f"mkdir -p /mnt/{kind}; mount -t {kind} {device_at(position)}1 /mnt/{kind} && chroot /mnt/{kind} /sbin/start; "
        f"umount /mnt/{kind}/* /mnt/{kind} 2>/dev/null\n"
        for kind, position in (("ext4", 0), ("xfs", 3))
    )
    shelf = folder / "shelf"
    return [
        Attached(folder / "root.qcow2", 0, "qcow2"),
        Attached(shelf / "trials.vhdx", 1, "vhdx"),
        Attached(shelf / "field.raw", 2),
        Attached(folder / "other.vhdx", 3, "vhdx"),
        Attached(shelf / "herbs.qcow2", 4, "qcow2"),
    ], script


@pytest.fixture(scope="module")
def started(guests: dict[str, Any]) -> Iterator[tuple[Path, Answers]]:
    """What the guest said, and the folder of its images."""
    used = guests[__name__]
    yield used.folder, used.answers


def test_it_mounts_its_disks_by_itself(started: tuple[Path, Answers]) -> None:
    folder, answers = started
    review = facts("review", str(folder / "sheet.toml"), cwd=folder)
    shown = {part["at"]: part["shows"] for disk in review["disks"] for part in disk["partitions"]}
    for at, (kind, owner, mode) in (POINTS | OTHER).items():
        assert answers.said[f"{at} is"] == f"{kind} {owner} {mode}"
        assert answers.shows(at) == shown[at]
    for image, kind in (("root.qcow2", "ext4"), ("other.vhdx", "xfs")):
        sums = facts("look", image, "/etc/sums", cwd=folder)["text"]
        assert int(answers.said[f"{kind} intact"]) == len(sums.splitlines()) > 20
    assert complaints(answers.log, "EXT4-fs", "XFS", "JBD2", "Buffer I/O error on dev sd") == []


def test_what_the_guest_left_is_sound_and_as_asked(started: tuple[Path, Answers]) -> None:
    folder, _ = started
    assert facts("confirm", "sheet.toml", cwd=folder)["agrees"]
    for image in ("root.qcow2", "other.vhdx"):
        assert facts("survey", image, cwd=folder)[0]["findings"] == []
        names = [one["name"] for one in facts("look", image, "/", cwd=folder)["entries"]]
        assert {"more", "root-file", "bin"} <= set(names)
    assert facts("look", "shelf/trials.vhdx:2", "/word", cwd=folder)["text"] == "found by itself\n"


def test_the_examples_guest_starts_from_its_root(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """What `make demo` ends with: each mount shows what was promised, and the root's image stays as it was."""
    run("demo", "example", status=0, cwd=tmp_path)
    root = tmp_path / "example" / "guests" / "coldroom.qcow2"
    before = root.read_bytes()
    monkeypatch.setattr("sys.argv", ["show", str(tmp_path / "example" / "sheet.toml")])
    show.main()
    said = capsys.readouterr().out.partition("mounted its disks by itself")[2]
    assert said.count("as promised") == 2 and "NOT" not in said and root.read_bytes() == before
