"""Files inside filesystems that a guest's drivers judge: those that Narvet puts into an NTFS, and those it reads."""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest
from Registry import Registry

from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.ntfs.change import NtfsEdited, edited
from narvet.formats.filesystems.trees import HasFiles, Kind, Node, Owner
from narvet.ground.units import KIB, MIB
from tests.hives import windows_image
from tests.program import HERE, disk, facts, make_sheet, run
from tests.real.guest import Answers, Attached, complaints, device_at

pytestmark = pytest.mark.guest

UNITS = (4 * KIB, 512, 64 * KIB)
MOMENT, OWNER = 1772409600, Owner(0, 0, 0o755)
SCRIPT = """mkdir -p /mnt/{n}; mount -t ntfs3 -o iocharset=utf8 {device} /mnt/{n}
(cd /mnt/{n}; find . -type f | sort | while read -r name; do echo "{n} sum $(sha256sum "$name")"; done)
echo "{n} volumes $(find /mnt/{n}/Mounts -type l | wc -l)"
mkdir /mnt/{n}/Later; for i in $(seq 300); do echo $i > "/mnt/{n}/Later/a later name $i"; done
rm /mnt/{n}/Windows/config/*7*; for i in $(seq 40); do mkdir "/mnt/{n}/Windows/config/more $i"; done
(cd /mnt/{n}; find . -type f | wc -l | sed "s/^/{n} files /")
umount /mnt/{n}
"""


WRITES = """mkdir -p /mnt/{kind}; mount -t {driver} -o iocharset=utf8 {device} /mnt/{kind}; cd /mnt/{kind}
mkdir -p "Bäume und Samen/tief/Tiefer" UPPER.DIR; n=0
while [ $n -lt 70 ]; do dd if=/dev/urandom "of=Bäume und Samen/tief/Blatt ü $n.dat" bs=$((n * 91 + 1)) count=$n 2>/dev/null; n=$((n+1)); done
echo kurz > SHORT.TXT; echo klein > small.txt; : > UPPER.DIR/empty; rm "Bäume und Samen/tief/Blatt ü 3.dat"
dd if=/dev/urandom of=large bs=1M count=5 2>/dev/null; for i in $(seq 4000); do echo; done > /dev/null
find . -type f | sort | while read -r name; do echo "{kind} sum $(sha256sum "$name")"; done
cd /; umount /mnt/{kind}
"""
READ = {"fat32": "vfat", "exfat": "exfat"}
TRIALS = "\\Mounts\\trials"
WINDOWS = """mkdir -p /mnt/windows; mount -t ntfs3 -o ro,iocharset=utf8 {device}2 /mnt/windows; cd /mnt/windows/Windows/System32/config
for name in SYSTEM SOFTWARE; do echo "windows sum $(sha256sum $name)"; done
cd /mnt/windows/Mounts; ls -l trials | sed "s/^/windows trials /"; cd /; umount /mnt/windows
"""


def content(number: int) -> bytes:
    """Return what a file has: some bytes, or some hundred thousand."""
    return random.Random(number).randbytes([10, 300, 5000, 70_000, 3][number % 5] * (1 + number % 7))


def folder(tree: NtfsEdited, *names: str) -> Node:
    """Return a folder by the names that lead to it."""
    node = tree.root
    for name in names:
        found = tree.look_up(node, name)
        assert found is not None
        node = found
    return node


def edit(tree: NtfsEdited) -> dict[str, str]:
    """Make folders and files, replace some, mount volumes and take some out; return the files' checksums."""
    sums = {}
    tree.make_folder(tree.make_folder(tree.root, "Windows", OWNER, {}), "config", OWNER, {})
    for number in range(60):
        name = f"Datei ü {number} {'x' * (number % 40)}.dat"
        tree.replace(folder(tree, "Windows", "config"), name, content(number))
        sums[f"./Windows/config/{name}"] = hashlib.sha256(content(number)).hexdigest()
    for number in range(0, 60, 3):
        name, data = (
            f"Datei ü {number} {'x' * (number % 40)}.dat",
            random.Random(-number).randbytes(number % 9 * 20_000),
        )
        tree.replace(folder(tree, "WINDOWS", "Config"), name.upper(), data)
        sums[f"./Windows/config/{name}"] = hashlib.sha256(data).hexdigest()
    tree.make_folder(tree.root, "Mounts", OWNER, {})
    for number in range(40):
        tree.mount(folder(tree, "Mounts"), f"volume {number}", UUID(int=number + 1))
    for number in range(0, 40, 4):
        assert tree.remove_folder(folder(tree, "Mounts"), f"volume {number}")
    assert not tree.remove_folder(tree.root, "Windows")
    for number in range(0, 60, 4):
        name = f"Datei ü {number} {'x' * (number % 40)}.dat"
        assert tree.remove_file(folder(tree, "Windows", "config"), name)
        del sums[f"./Windows/config/{name}"]
    return sums


def prepare(place: Path, memory: Path) -> tuple[list[Attached], str]:
    """Make an NTFS of each unit, and put files into it."""
    del memory
    disks, script = [], ""
    for number, unit in enumerate(UNITS):
        image, kind = place / f"ntfs-{number}.raw", filesystem("ntfs")
        with image.open("x+b", buffering=0) as file:
            file.truncate(120 * MIB)
            kind.plan(120 * MIB, Wishes(UUID(int=9), "seeds", unit=unit)).write(FileDevice(file))
            sums = edit(edited(FileDevice(file), MOMENT))
            state = kind.read(FileDevice(file), HERE)
        assert state is not None and state.findings == () and len(state.links) == 30
        (place / f"sums-{number}").write_text("".join(f"{sums[name]}  {name}\n" for name in sorted(sums)))
        disks.append(Attached(image, number))
        script += SCRIPT.format(n=f"n{number}", device=device_at(number))
    for position, (kind_name, driver) in enumerate(READ.items(), len(UNITS)):
        image, kind = place / f"{kind_name}.raw", filesystem(kind_name)
        with image.open("x+b", buffering=0) as file:
            file.truncate(120 * MIB)
            kind.plan(120 * MIB, Wishes(UUID(int=9), "SEEDS")).write(FileDevice(file))
        disks.append(Attached(image, position))
        script += WRITES.format(kind=kind_name, driver=driver, device=device_at(position))
    image = windows_image(place, "windows.raw")
    trials = disk("trials", 'size = "80 MiB"', f"at = 'C:{TRIALS}'") + disk("press", 'size = "80 MiB"', 'at = "P:"')
    sheet = make_sheet(place, trials, guest='runs = "windows"\nroot = "windows.raw"\nnew_disks = "online"')
    run("write", str(sheet), status=0)
    disks.append(Attached(image, len(disks)))
    return disks, script + WINDOWS.format(device=device_at(len(disks) - 1))


@pytest.fixture(scope="module")
def used(guests: dict[str, Any]) -> Iterator[tuple[Path, Answers]]:
    """What the guest said, and the folder of its images."""
    yield guests[__name__].folder, guests[__name__].answers


def test_a_guest_reads_and_goes_on_with_them(used: tuple[Path, Answers]) -> None:
    place, answers = used
    for number in range(len(UNITS)):
        wanted = sorted((place / f"sums-{number}").read_text().splitlines())
        assert sorted(filter(None, answers.said[f"n{number} sum"].splitlines())) == wanted
        assert answers.said[f"n{number} volumes"] == "30"
        left = [line for line in wanted if "7" not in line.rpartition("/")[2]]
        assert int(answers.said[f"n{number} files"]) == 300 + len(left)
        assert facts("survey", str(place / f"ntfs-{number}.raw"))[0]["findings"] == []
    assert complaints(answers.log, "ntfs") == []


def test_a_guest_reads_the_registry_that_was_changed(used: tuple[Path, Answers]) -> None:
    """The hives of a Windows root after a write: a guest's driver and Narvet read the same bytes of them."""
    place, answers = used
    sums = []
    for name in ("SYSTEM", "SOFTWARE"):
        out = place / name
        run("look", str(place / "windows.raw"), f"/Windows/System32/config/{name}", "--out", str(out), status=0)
        sums.append(f"{hashlib.sha256(out.read_bytes()).hexdigest()}  {name}")
    assert answers.said["windows sum"].splitlines() == sums
    with (place / "SYSTEM").open("rb") as file:
        values = {one.name() for one in Registry.Registry(file).open("MountedDevices").values()}
    disks = {one["name"]: one["partitions"][-1] for one in facts("review", str(place / "sheet.toml"))["disks"]}
    assert {"\\DosDevices\\P:", f"\\??\\Volume{{{disks['trials']['volume']}}}"} < values
    assert answers.said["windows trials"].startswith("l") and complaints(answers.log, "ntfs") == []


@pytest.mark.parametrize("name", READ)
def test_what_a_guest_wrote_is_read_alike(used: tuple[Path, Answers], name: str) -> None:
    place, answers = used
    lines = [line.partition("  ") for line in answers.said[f"{name} sum"].splitlines() if line]
    wanted = {path: checksum for checksum, _, path in lines}
    found = {}
    kind = filesystem(name)
    assert isinstance(kind, HasFiles)
    with (place / f"{name}.raw").open("rb", buffering=0) as file:
        tree = kind.tree(FileDevice(file))
        todo = [(".", tree.root)]
        while todo:
            path, folder_node = todo.pop()
            for own, reference in tree.names(folder_node):
                node = tree.node(reference)
                if node.kind == Kind.FOLDER:
                    todo.append((f"{path}/{own}", node))
                else:
                    data = b"".join(tree.read(node, start, 100_000) for start in range(0, node.size, 100_000))
                    found[f"{path}/{own}"] = hashlib.sha256(data).hexdigest()
    assert found == wanted and len(found) == 73
    shown = run("look", str(place / f"{name}.raw"), "/bäume und SAMEN/tief", status=0).stdout
    assert "Blatt ü 69.dat" in shown and facts("look", str(place / f"{name}.raw"), "/short.txt")["text"] == "kurz\n"
