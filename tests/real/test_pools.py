"""Pools judged by a real kernel: its own mapping of devices puts volumes together from what lies on disk, and uses them.

One guest fills volumes of every kind on two disks. Then the pool gets a third disk, the volumes grow, and a member is
emptied; a second guest finds all files, the sizes that were promised, and fills them to the end.
"""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from narvet.ground.units import MIB
from tests.program import facts, make_sheet, run
from tests.real.conftest import Used
from tests.real.guest import LOAD, SHOWS, Answers, Attached, boot, complaints
from tests.real.show import mapping

DISK = """
[disk.{name}]
guest = "seedling"
store = "shelf"
size = "{size} MiB"
format = "{format}"
[[disk.{name}.partition]]
{use}
"""
POOL = """
[pool.cold]
guest = "seedling"
extent = "1 MiB"
[[pool.cold.volume]]
name = "readings"
size = "{0} MiB"
filesystem = "xfs"
at = "/srv/readings"
owner = "curator:lab"
mode = "0750"
[[pool.cold.volume]]
name = "trials"
size = "{1} MiB"
spread = "striped"
chunk = "16 KiB"
at = "/srv/trials"
[[pool.cold.volume]]
name = "notes"
size = "{2} MiB"
spread = "mirrored"
at = "/srv/notes"
"""
MEMBER, NONE = 'pool = "cold"', 'filesystem = "none"'
FIRST = [("a", 500, "raw", MEMBER), ("b", 700, "vhdx", MEMBER)]
NAMES = ("readings", "trials", "notes")
QUIET = ("xfs", "ext4", "device-mapper", "raid", "md/", "mdx", "I/O error")
PASSED = ("CONFIG_IMA_DISABLE_HTABLE",)
FRESH = ("not clean -- starting background reconstruction", "bitmap file is out of date, doing full recovery")
"""What a kernel says of a mirror when it uses it for the first time."""


def sheet_of(folder: Path, disks: list[tuple[str, int, str, str]], *sizes: int) -> Path:
    """Write the sheet with these disks and volumes."""
    texts = [DISK.format(name=name, size=size, format=kind, use=use) for name, size, kind, use in disks]
    return make_sheet(folder, "".join(texts) + POOL.format(*sizes))


def attached(folder: Path, disks: list[tuple[str, int, str, str]]) -> list[Attached]:
    """Return the disks as a guest has them."""
    endings = {"raw": "raw", "vhdx": "vhdx", "qcow2": "qcow2"}
    return [
        Attached(folder / "shelf" / f"{name}.{endings[kind]}", at, kind) for at, (name, _, kind, _) in enumerate(disks)
    ]


def mounts() -> list[str]:
    """Return the lines that mount all volumes and tell what they show."""
    lines = [LOAD]
    for name in NAMES:
        kind = "xfs" if name == "readings" else "ext4"
        lines += [f"mkdir -p /srv/{name}", f"mount -t {kind} /dev/map-cold-{name} /srv/{name}"]
        lines += [SHOWS.format(at=f"/srv/{name}"), f'echo "/srv/{name} root $(stat -c "%u %g %a" /srv/{name})"']
    return lines


def prepare(folder: Path, _: Path) -> tuple[list[Attached], str]:
    """Make a pool on two disks, and have the first guest fill it."""
    sheet = sheet_of(folder, FIRST, 600, 120, 64)
    run("write", str(sheet), "--yes", status=0)
    disks = attached(folder, FIRST)
    lines = [*mapping(disks), *mounts()]
    for name in NAMES:
        at = f"/srv/{name}"
        lines += [f"load {at}; mv /tmp/sums {at}/.sums", f"umount {at}"]
    return disks, "\n".join([*lines, "sync"])


def promised(sheet: Path) -> dict[str, dict[str, int]]:
    """Return what a review promises of the volumes, by their mount points."""
    (pool,) = facts("review", str(sheet))["pools"]
    return {one["at"]: one["shows"] for one in pool["volumes"]}


@pytest.mark.guest
def test_a_pool_is_used_grown_and_used_to_its_end(guests: dict[str, Used], tmp_path: Path) -> None:
    used = guests[__name__]
    first, folder = used.answers, used.folder
    sheet = folder / "sheet.toml"
    assert complaints(first.log, *QUIET, passed_over=PASSED + FRESH) == []
    assert first.said["/srv/readings root"] == "1201 1300 750"
    fresh = sheet_of(tmp_path, FIRST, 600, 120, 64)
    for at, there in promised(fresh).items():
        assert first.shows(at) == there, at
    assert facts("confirm", str(sheet), status=0)["agrees"]

    larger = [*FIRST, ("c", 900, "qcow2", MEMBER), ("d", 300, "vmdk", MEMBER)]
    sheet_of(folder, larger, 1000, 200, 100)
    run("write", str(sheet), "--yes", status=0)
    assert facts("confirm", str(sheet), status=0)["agrees"]
    left = [("a", 500, "raw", NONE), *larger[1:]]
    sheet_of(folder, left, 1000, 200, 100)
    run("write", str(sheet), "--yes", status=0)
    assert facts("confirm", str(sheet), status=0)["agrees"]
    assert run("write", str(sheet), "--yes", status=0).stdout.startswith("All is as asked")

    shows = promised(sheet)
    endings = {"raw": "raw", "vhdx": "vhdx", "qcow2": "qcow2", "vmdk": "vmdk"}
    disks = [
        Attached(folder / "shelf" / f"{name}.{endings[kind]}", at, kind) for at, (name, _, kind, _) in enumerate(left)
    ]
    lines = [*mapping(disks), *mounts()]
    for name in NAMES:
        at = f"/srv/{name}"
        lines += [f'(cd {at}; sha256sum -c .sums > /tmp/said 2>&1 && echo "{at} intact $(grep -c OK /tmp/said)")']
        lines += [f"dd if=/dev/zero of={at}/fill bs=64k 2>/dev/null; sync"]
        lines += [f'echo "{at} full $(stat -f -c "%S %a" {at}) $(stat -c %s {at}/fill)"', f"umount {at}"]
    second = Answers.of(boot(disks, "\n".join([*lines, "sync"])))
    assert complaints(second.log, *QUIET, passed_over=PASSED) == []
    for name in NAMES:
        at = f"/srv/{name}"
        assert second.said[f"{at} intact"] == "61" and second.shows(at) == shows[at]
        block, free, size = (int(word) for word in second.said[f"{at} full"].split())
        assert block * free < MIB and size > shows[at]["available"] - 40 * MIB, second.said[f"{at} full"]
    after = facts("confirm", str(sheet), status=None)
    assert {one["where"].partition(" ")[0] for one in after["differences"]} <= {"pool.cold.notes"}


@pytest.mark.guest
def test_a_boot_loader_reads_the_volumes(tmp_path: Path) -> None:
    """The reader of a boot loader, as it is packaged, finds the pool, its volumes and their filesystems."""
    disks = [(name, size, "raw", MEMBER) for name, size, _, _ in FIRST]
    sheet = sheet_of(tmp_path, disks, 600, 120, 64)
    run("write", str(sheet), "--yes", status=0)
    images = [str(tmp_path / "shelf" / f"{name}.raw") for name, *_ in disks]
    (pool,) = facts("review", str(sheet))["pools"]
    for volume in pool["volumes"]:
        said = subprocess.run(
            ["grub-fstest", "-c", "2", *images, "ls", f"(lvm/cold-{volume['name']})"],
            capture_output=True, text=True, check=True,
        ).stdout  # fmt: skip
        assert volume["uuid"] in said and f"Total size {volume['size'] // 1024}KiB" in said, said
