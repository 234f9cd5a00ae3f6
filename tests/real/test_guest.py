"""A real guest judges: it parses the tables, mounts through Narvet's own fstab lines, uses and enlarges what it finds.

Everything is checked in one boot; each test looks at its part of what the guest printed.
"""

from __future__ import annotations

import hashlib
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.file import FileDevice
from narvet.filesystems.contract import Options
from narvet.filesystems.ext4 import FILESYSTEM
from narvet.images import image_format
from narvet.images.chain import open_image
from narvet.images.contract import Making
from narvet.units import GIB, KIB, MIB, TIB
from tests import foreign
from tests.program import disk, facts, make_sheet, run
from tests.real import kernel
from tests.real.guest import Attached, boot, complaints

pytestmark = pytest.mark.guest

# What is enlarged by the running guest: from, to. With reserved descriptors, beyond them, and in meta block groups.
GROWN = ((40 * MIB, 600 * MIB), (GIB, 15 * GIB), (GIB + MIB, 300 * GIB), (2 * TIB + MIB, 3 * TIB))
SMALL = 2 * MIB + 512
HYPERVISOR_NAMES = {"vhd": "vpc"}  # as its own block drivers are called

# One disk for every format, space and some block sizes and pieces, besides the example's; at position 20 and on.
FORMATS = (
    ("raw", "full", ""),
    ("vhd", "thin", ""),
    ("vhd", "thin", 'block = "512 KiB"'),
    ("vhd", "full", ""),
    ("vhdx", "thin", ""),
    ("vhdx", "thin", 'block = "32 MiB"'),
    ("vhdx", "full", ""),
    ("qcow2", "thin", ""),
    ("qcow2", "thin", 'block = "4 KiB"'),
    ("qcow2", "full", 'block = "2 MiB"'),
    ("vmdk", "thin", ""),
    ("vmdk", "thin", 'block = "8 KiB"'),
    ("vmdk", "full", ""),
    ("vmdk", "thin", 'pieces = "40 MB"'),
    ("vmdk", "full", 'pieces = "40 MB"'),
)

# Filesystems on one disk, by size and keys; again on one with sectors of 4096 bytes.
KINDS = (
    ("fat32", "34 MiB", ""),
    ("fat32", "100 MiB", 'owner = "1201:1300"\nmode = "0750"'),
    ("fat32", "3 GiB", "for = 'media'"),
    ("fat32", "9 GiB", 'block = "64 KiB"'),
    ("fat32", "1999 GiB", ""),
    ("exfat", "2 MiB", ""),
    ("exfat", "100 MiB", 'owner = "1201:1300"\nmode = "0700"'),
    ("exfat", "64 GiB", ""),
    ("exfat", "2 TiB", "for = 'media'"),
    ("exfat", "31 TiB", ""),
    ("exfat", "5 GiB", 'block = "32 MiB"'),
    ("xfs", "20 MiB", ""),
    ("xfs", "400 MiB", 'owner = "1201:1300"\nmode = "2770"'),
    ("xfs", "6 TiB", "for = 'database'"),
    ("ntfs", "8 MiB", ""),
    ("ntfs", "100 MiB", 'owner = "1201:1300"\nmode = "0700"'),
    ("ntfs", "33 MiB", 'block = "512 B"'),
    ("ntfs", "5 GiB", "for = 'media'"),
    ("ntfs", "6 TiB", 'label = "Länger als elf Zeichen"'),
    ("ntfs", "1 GiB", 'block = "2 MiB"'),
    ("swap", "64 MiB", ""),
    ("swap", "3 GiB", 'label = "spare"'),
)

# Children the hypervisor knows, over bases that must stay as they are: (base, child).
CHILDREN = (("raw", "qcow2"), ("qcow2", "qcow2"), ("vmdk", "vmdk"))

ALSO_4096 = (
    ("fat32", "9 GiB"), ("exfat", "64 GiB"), ("xfs", "400 MiB"), ("ntfs", "8 MiB"), ("ntfs", "5 GiB"), ("swap", "64 MiB")
)  # fmt: skip

# On one disk by a master boot record, four of them in logical partitions.
MANY = ("ext4", "xfs", "fat32", "exfat", "ntfs", "ext4", "fat32")

MADE = ("crashed.vhdx", "packed.vmdk")

LOAD = """
load() {
    mkdir -p $1/d/e/e/p; dd if=/dev/urandom of=$1/d/large bs=1M count=3 2>/dev/null
    for n in $(seq 60); do dd if=/dev/urandom of=$1/d/e/e/p/$n bs=777 count=$n 2>/dev/null; done
    (cd $1; find . -type f | xargs sha256sum > /tmp/sums)
}
light() { mkdir -p "$1/Bäume und Samen"; for n in $(seq 25); do dd if=/dev/urandom of="$1/Bäume und Samen/a rather long name $n" \
    bs=777 count=$n 2>/dev/null; done; (cd $1; find . -type f -exec sha256sum {} + > /tmp/sums); }
check() { (cd $1; sha256sum -c /tmp/sums > /tmp/said 2>&1 && echo "$2 intact $(grep -c OK /tmp/said)" || cat /tmp/said); }
"""


@dataclass(frozen=True)
class Boot:
    """The example after its guest has used it, and what the guest printed."""

    sheet: Path
    review: Any
    formats: Any
    kinds: Any
    surveys: Any
    said: dict[str, str]
    log: str


def _light_script(kinds: Any) -> list[str]:
    """Mount each of many filesystems by its entry and use it a little; turn all swap on."""
    lines = [line for kept in kinds["entries"].values() for line in kept]
    script = ["cat > /etc/fstab <<'END'", *lines, "END"]
    for at in (line.split()[1] for line in lines if line.split()[2] != "swap"):
        script += [
            f"mkdir -p {at}; mount {at}",
            f'echo "{at} shows $(stat -f -c "%S %b %f %a" {at})"; echo "{at} root $(stat -c "%u:%g %a" {at})"',
            f"light {at}; umount {at}; mount {at}; check {at} {at}",
            f'echo "{at} inside $(stat -c "%u:%g %a" {at}/B*)"; umount {at}',
        ]
    return [*script, "swapon -a", "sed 's/^/swap on /' /proc/swaps", "swapoff -a"]


def _script(review: Any, formats: Any, kinds: Any) -> str:
    lines = [line for one in (review, formats) for kept in one["entries"].values() for line in kept]
    script = [LOAD, "cat > /etc/fstab <<'END'", *lines, "END"]
    for line in lines:
        at = line.split()[1]
        script += [
            f"mkdir -p {at}; mount {at}",
            f'echo "{at} device $(grep " {at} " /proc/mounts | cut -d" " -f1,3)"',
            f'echo "{at} shows $(stat -f -c "%S %b %f %a" {at})"',
            f'echo "{at} root $(stat -c "%u:%g %a" {at})"',
            f"load {at}; umount {at}; mount {at}; check {at} {at}; umount {at}",
            f'sed "s|^|{at} sum |" /tmp/sums',
        ]
    for asked in review["disks"]:
        for part in asked["partitions"]:
            script.append(f'echo "{part["label"]} found $(findfs LABEL={part["label"]})"')
    script += [
        "for path in /sys/class/block/sd*; do name=${path##*/}; [ -e $path/partition ] || continue",
        "where=$(readlink -f $path/../device); position=${where%:*}; position=${position##*:}",
        'echo "part-$position-$(cat $path/partition) lies $(cat $path/start $path/size | tr "\\n" " ")'
        '$(grep PARTNAME= $path/uevent)"; done',
    ]
    for number, (_, after) in enumerate(GROWN):
        block = KIB if after == 600 * MIB else 4 * KIB
        device = f"/dev/$(ls /sys/class/scsi_disk/0:0:{8 + number}:0/device/block)"
        script += [
            f"mkdir -p /g{number}; mount -t ext4 {device} /g{number}; load /g{number}",
            f"grow /g{number} {after // block} && echo g{number} grown yes",
            f"dd if=/dev/zero of=/g{number}/more bs=1M count=64 2>/dev/null && rm /g{number}/more",
            f"check /g{number} g{number}",
            f'echo "g{number} shows $(stat -f -c "%S %b %f %a" /g{number})"; umount /g{number}',
        ]
    for number in range(len(foreign.READ_BY_ALL) + len(MADE)):
        device = f"/dev/$(ls /sys/class/scsi_disk/0:0:{60 + number}:0/device/block)"
        script.append(f'echo "foreign{number} read $(sha256sum {device})"')
    device = f"/dev/$(ls /sys/class/scsi_disk/0:0:{8 + len(GROWN)}:0/device/block)"
    script += [
        f"mkdir /small; mount -t ext4 {device} /small; mkdir /small/many",
        "n=0; while echo $n > /small/many/$n; do n=$((n+1)); done 2>/dev/null",
        "dd if=/dev/urandom of=/small/all bs=1k 2>/dev/null; sync",
        'echo "small full $(stat -f -c "%a" /small) $(ls /small/many | wc -l)"; umount /small',
    ]
    return "\n".join([*script, *_light_script(kinds)])


@pytest.fixture(scope="module")
def booted(tmp_path_factory: pytest.TempPathFactory) -> Boot:
    """Write the example, hand its disks and some to be enlarged to a guest, and boot it once."""
    folder = tmp_path_factory.mktemp("guest")
    assert run("demo", "larkmoor", cwd=folder).returncode == 0
    review = facts("review", "larkmoor/sheet.toml", cwd=folder)
    positions = {("germination", 1): 1, ("germination", 2): 2, ("coldroom", 1): 3, ("coldroom", 2): 4}
    disks = [
        Attached(
            folder / asked["path"],
            positions[asked["guest"], int(asked["slot"].split()[1])],
            HYPERVISOR_NAMES.get(asked["format"], asked["format"]),
            asked["sector"],
        )
        for asked in review["disks"]
    ]
    formats_sheet = _every_format(folder / "formats")
    formats = facts("review", str(formats_sheet))
    disks += [
        Attached(
            attached := _used(asked["path"]),
            20 + number,
            HYPERVISOR_NAMES.get(attached.suffix[1:], attached.suffix[1:]),
        )
        for number, asked in enumerate(formats["disks"])
    ]
    others = _foreign(folder / "foreign")
    disks += [
        Attached(path, 60 + number, path.suffix[1:], kept=path.name != "crashed.vhdx")
        for number, path in enumerate(others)
    ]
    bases = {asked["path"]: Path(asked["path"]).read_bytes() for asked in formats["disks"][len(FORMATS) :]}
    memory = Path(tempfile.mkdtemp(dir="/dev/shm"))  # files of terabytes
    try:
        for number, (before, after) in enumerate((*GROWN, (SMALL, SMALL))):
            image = memory / f"{number}.raw"
            with image.open("x+b", buffering=0) as file:
                file.truncate(after)
                geometry = FILESYSTEM.geometry(before, Options(uuid=UUID(int=number + 1)))
                FILESYSTEM.write(FileDevice(file), geometry)
            disks.append(Attached(image, 8 + number))
        kinds = facts("review", str(_every_kind(memory / "kinds")))
        for number, asked in enumerate(kinds["disks"]):
            disks.append(Attached(Path(asked["path"]), 90 + number, sector=asked["sector"]))
        output = boot(disks, _script(review, formats, kinds))
        surveys = facts("survey", *(asked["path"] for asked in kinds["disks"]))
    finally:
        shutil.rmtree(memory)
    printed, _, log = output.partition("== log")
    rows = [line.split(" ", 2) for line in printed.splitlines() if line.count(" ") >= 2]
    said: dict[str, str] = {}
    for row in rows:
        said[f"{row[0]} {row[1]}"] = said.get(f"{row[0]} {row[1]}", "") + row[2] + ("\n" if row[1] == "sum" else "")
    for path, content in bases.items():
        assert Path(path).read_bytes() == content, "a base was changed"
    return Boot(folder / "larkmoor" / "sheet.toml", review, formats, kinds, surveys, said, log)


def _foreign(folder: Path) -> list[Path]:
    """Make the images that Narvet only reads, one that a crash left with its log, and a packed one; return them."""
    folder.mkdir()
    for name, make in foreign.READ_BY_ALL.items():
        make(folder / name, foreign.sample())
    with image_format("vhdx").create(folder / "made.vhdx", Making(foreign.SIZE, block=MIB)) as device:
        device.write(0, foreign.sample())
    place = (folder / "made.vhdx").read_bytes().index(foreign.sample()[:4096])
    foreign.vhdx_with_log(folder / "crashed.vhdx", folder / "made.vhdx", place + 4096, (b"from the log" * 700)[:8192])
    run("recast", str(folder / "small.qcow2"), str(folder / "packed.vmdk"), "--packed", status=0)
    return [folder / name for name in (*foreign.READ_BY_ALL, *MADE)]


def _used(path: str) -> Path:
    """Return what is attached for a disk: the child of its image, if it has one."""
    return next(Path(path).parent.glob(f"{Path(path).stem}-child.*"), Path(path))


def _every_format(folder: Path) -> Path:
    """Write a sheet with a disk for each of FORMATS; return it."""
    disks = ""
    for number, (name, space, more) in enumerate(FORMATS):
        keys = f'size = "160 MiB"\nformat = "{name}"\nspace = "{space}"\n{more}'
        disks += disk(f"f{number}", keys, f'at = "/srv/f{number}"')
    for number, (name, _) in enumerate(CHILDREN, len(FORMATS)):
        disks += disk(f"f{number}", f'size = "160 MiB"\nformat = "{name}"', f'at = "/srv/f{number}"')
    sheet = make_sheet(folder, disks, guest='root = "root"\nslots = ["scsi 20-99"]')
    run("write", str(sheet), status=0)
    for number, (name, kind) in enumerate(CHILDREN, len(FORMATS)):
        shelf = folder / "shelf"
        run("branch", str(shelf / f"f{number}.{name}"), str(shelf / f"f{number}-child.{kind}"), status=0)
    return sheet


def _every_kind(folder: Path) -> Path:
    """Write a sheet with a disk for each sector size that holds the KINDS it can; return it."""
    disks = ""
    for sector in (512, 4096):
        parts: list[str] = []
        for name, size, more in KINDS:
            if sector == 4096 and (name, size) not in ALSO_4096:
                continue
            at = "" if name == "swap" else f'at = "/srv/k{sector}/{len(parts) + 1}"\n'
            parts.append(f'filesystem = "{name}"\nsize = "{size}"\n{at}{more}')
        disks += disk(f"k{sector}", f"sector = {sector}", *parts)
    parts = [f'filesystem = "{name}"\nsize = "40 MiB"\nat = "/srv/m/{n}"' for n, name in enumerate(MANY)]
    disks += disk("many", 'size = "1 GiB"\ntable = "mbr"', *parts)
    sheet = make_sheet(folder, disks, guest='root = "root"\nslots = ["scsi 90-99"]')
    run("write", str(sheet), status=0)
    return sheet


def _parts(booted: Boot) -> list[tuple[Any, Any]]:
    return [(asked, part) for asked in booted.review["disks"] for part in asked["partitions"]]


def test_guest_parses_the_tables(booted: Boot) -> None:
    positions = {"trials": 1, "notes": 2, "readings": 3, "logs": 4}
    for asked, part in _parts(booted):
        said = booted.said[f"part-{positions[asked['name']]}-{part['number']} lies"]
        assert said == f"{part['start'] // 512} {part['size'] // 512} PARTNAME={part['label']}"


def test_guest_mounts_by_the_entries_and_shows_what_was_promised(booted: Boot) -> None:
    owners = {"trials": "1200:1300 750", "scratch": "1200:1300 2770", "notes": "1201:1300 755"}
    for _, part in _parts(booted):
        at = part["at"]
        block, total, free, available = (int(word) for word in booted.said[f"{at} shows"].split())
        assert {"total": block * total, "free": block * free, "available": block * available} == part["shows"]
        assert booted.said[f"{at} device"].endswith(f" {part['filesystem']}")
        assert booted.said[f"{at} root"] == owners.get(part["label"], "990:990 755")
        assert booted.said[f"{part['label']} found"] == booted.said[f"{at} device"].split()[0]
        assert booted.said[f"{at} intact"] == "61"


def _owners(part: Any) -> tuple[str, str]:
    """Return owner and mode to be shown of the root, and of a folder that the superuser made in it."""
    asked = {("fat32", 100): "1201:1300 750", ("exfat", 100): "1201:1300 700", ("ntfs", 100): "1201:1300 700"}
    wanted = asked.get((part["filesystem"], part["size"] // MIB), "0:0 755")
    if part["filesystem"] == "ntfs":  # whose driver shows the root with all permissions, and keeps owners in attributes
        return f"{wanted[:-3]}777", "0:0 755"
    if part["filesystem"] == "xfs" and part["size"] == 400 * MIB:
        return "1201:1300 2770", "0:1300 2755"
    return wanted, wanted


def test_guest_uses_every_kind(booted: Boot) -> None:
    """Portable filesystems, xfs and swap: mounted by their entries, shown as promised, sound after use."""
    for position, asked in enumerate(booted.kinds["disks"], 90):
        for part in asked["partitions"]:
            said = booted.said[f"part-{position}-{part['number']} lies"].split()
            assert [int(word) for word in said[:2]] == [part["start"] // 512, part["size"] // 512], part
    swaps = [line.split() for line in booted.said["swap on"].split("\n")[0].split("/dev/")[1:]]
    promised = []
    for asked, found in zip(booted.kinds["disks"], booted.surveys, strict=True):
        for part, after in zip(asked["partitions"], found["partitions"], strict=True):
            assert after["filesystem"]["uuid"] == part["uuid"], part
            if part["filesystem"] == "swap":
                promised.append(part["shows"]["total"] // KIB)
                continue
            at = part["at"]
            block, total, free, available = (int(word) for word in booted.said[f"{at} shows"].split())
            assert {"total": block * total, "free": block * free, "available": block * available} == part["shows"], part
            assert booted.said[f"{at} intact"] == "25", part
            assert (booted.said[f"{at} root"], booted.said[f"{at} inside"]) == _owners(part), part
        assert found["findings"] == []
    assert sorted(int(line[2]) for line in swaps) == sorted(promised)


def test_guest_enlarges_while_it_runs(booted: Boot) -> None:
    for number, (_, after) in enumerate(GROWN):
        assert booted.said.get(f"g{number} grown") == "yes", after
        block, total, _, _ = (int(word) for word in booted.said[f"g{number} shows"].split())
        assert block * total > after * 9 // 10
        assert booted.said[f"g{number} intact"] == "61"


def test_guest_fills_a_small_one_and_never_complains(booted: Boot) -> None:
    left, files = (int(word) for word in booted.said["small full"].split())
    assert left < 4096 and files > 150
    assert (
        complaints(
            booted.log, "ext4", "jbd2", "xfs", "fat", "ntfs", "swap", "sda", "sdb", "sdc", "sdd", "Buffer I/O", "GPT"
        )
        == []
    )


def test_narvet_reads_what_the_guest_has_used(booted: Boot) -> None:
    """After use the disks still confirm, and the survey's numbers have moved with what the guest wrote."""
    assert facts("confirm", str(booted.sheet))["agrees"]
    for asked, part in _parts(booted):
        found = facts("survey", str(booted.sheet.parent.parent / asked["path"]))[0]
        inside = next(one for one in found["partitions"] if one["number"] == part["number"])["filesystem"]
        assert inside["label"] == part["label"]
        assert found["findings"] == []
        used = part["shows"]["free"] - inside["free"]
        assert 3 * MIB < used < 8 * MIB


def test_every_format_holds_what_the_guest_wrote(booted: Boot, tmp_path: Path) -> None:
    """The hypervisor read and wrote each format; Narvet reads the same bytes back, and the survey finds all sound.

    Children are folded afterwards: then their bases hold the files.
    """
    for number, asked in enumerate(booted.formats["disks"]):
        at, part, used = f"/srv/f{number}", asked["partitions"][0], _used(asked["path"])
        assert booted.said[f"{at} intact"] == "61", asked
        block, total, free, available = (int(word) for word in booted.said[f"{at} shows"].split())
        assert {"total": block * total, "free": block * free, "available": block * available} == part["shows"]
        assert facts("survey", str(used))[0]["findings"] == []
        if number >= len(FORMATS):
            _holds(used, tmp_path, part, booted.said[f"{at} sum"])
            run("fold", str(used), status=0)
            assert not used.exists()
        _holds(Path(asked["path"]), tmp_path, part, booted.said[f"{at} sum"])
    assert facts("confirm", str(booted.sheet.parents[1] / "formats" / "sheet.toml"))["agrees"]


def _holds(image: Path, folder: Path, part: Any, sums: str) -> None:
    copy = kernel.as_raw(image, folder / "copy")
    with kernel.mounted(copy, folder, part["start"], part["size"]) as place:
        for line in sums.splitlines():
            checksum, name = line.split()
            assert hashlib.sha256((place / name).read_bytes()).hexdigest() == checksum, (image, name)


def test_guest_reads_what_others_wrote_as_narvet_does(booted: Boot) -> None:
    """The images that only our tests make are sound: the hypervisor reads the same bytes from them as Narvet."""
    folder = booted.sheet.parents[1] / "foreign"
    for number, name in enumerate((*foreign.READ_BY_ALL, *MADE)):
        with open_image(folder / name) as device:
            read = device.read(0, device.size)
        assert booted.said[f"foreign{number} read"].split()[0] == hashlib.sha256(read).hexdigest(), name
        if name != "crashed.vhdx":
            assert read == foreign.sample(), name
