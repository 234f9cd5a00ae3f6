"""A real guest judges: it parses the tables, mounts through Narvet's own fstab lines, uses and enlarges what it finds.

Everything is checked in one boot; each test looks at its part of what the guest printed.
"""

from __future__ import annotations

import hashlib
import json
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.file import FileDevice
from narvet.block.window import Window
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.ext4 import FILESYSTEM
from narvet.formats.images import image_format
from narvet.formats.images.chain import new_image_file, open_image
from narvet.formats.images.contract import ImageSpec
from narvet.ground.units import GIB, KIB, MIB, TIB
from tests import foreign
from tests.program import disk, facts, make_sheet, rules, run
from tests.real import kernel
from tests.real.conftest import Used
from tests.real.guest import LOAD, PARTITIONS, SHOWS, Answers, Attached, complaints, device_at
from tests.real.show import mapping
from tests.seal_reader import table, volume_key

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

# Children the hypervisor knows, over bases that must stay as they are: (base, child).
CHILDREN = (("raw", "qcow2"), ("qcow2", "qcow2"), ("vmdk", "vmdk"))

MADE = ("crashed.vhdx", "packed.vmdk")
PROMISED = "promised.json"  # the review of the example before its guest used it
POSITIONS = {"trials": 1, "notes": 2, "cold-a": 3, "cold-b": 5, "cold-c": 6, "logs": 4}


@dataclass(frozen=True)
class Boot:
    """The example after its guest has used it, and what the guest printed."""

    sheet: Path
    review: Any
    formats: Any
    answers: Answers

    @property
    def said(self) -> dict[str, str]:
        return self.answers.said


def _script(review: Any, formats: Any, disks: list[Attached]) -> str:
    linux = {asked["guest"] for one in (review, formats) for asked in _of_linux(one)}
    entries = [kept for one in (review, formats) for guest, kept in one["entries"].items() if guest in linux]
    lines = [line for kept in entries for line in kept]
    script = [LOAD, *mapping(disks), *_unlocked(review, disks), "cat > /etc/fstab <<'END'", *lines, "END"]
    for line in lines:
        at = line.split()[1]
        script += [
            f"mkdir -p {at}; mount {at}",
            f'echo "{at} device $(grep " {at} " /proc/mounts | cut -d" " -f1,3)"',
            SHOWS.format(at=at),
            f'echo "{at} root $(stat -c "%u:%g %a" {at})"',
            f"load {at}; umount {at}; mount {at}; check {at} {at}; umount {at}",
            f'sed "s|^|{at} sum |" /tmp/sums',
        ]
    for asked in (*_of_linux(review), *review["pools"]):
        for part in asked.get("volumes", asked.get("partitions")):
            script.append(f'echo "{part["label"]} found $(findfs LABEL={part["label"]})"')
    script += PARTITIONS
    for number, (_, after) in enumerate(GROWN):
        block = KIB if after == 600 * MIB else 4 * KIB
        device = device_at(8 + number)
        script += [
            f"mkdir -p /g{number}; mount -t ext4 {device} /g{number}; load /g{number}",
            f"grow /g{number} {after // block} && echo g{number} grown yes",
            f"dd if=/dev/zero of=/g{number}/more bs=1M count=64 2>/dev/null && rm /g{number}/more",
            f"check /g{number} g{number}",
            f"{SHOWS.format(at=f'/g{number}')}; umount /g{number}",
        ]
    for number in range(len(foreign.READ_BY_ALL) + len(MADE)):
        device = device_at(60 + number)
        script.append(f'echo "foreign{number} read $(sha256sum {device})"')
    device = device_at(8 + len(GROWN))
    script += [
        f"mkdir /small; mount -t ext4 {device} /small; mkdir /small/many",
        "n=0; while echo $n > /small/many/$n; do n=$((n+1)); done 2>/dev/null",
        "dd if=/dev/urandom of=/small/all bs=1k 2>/dev/null; sync",
        'echo "small full $(stat -f -c "%a" /small) $(ls /small/many | wc -l)"; umount /small',
    ]
    return "\n".join(script)


def _unlocked(review: Any, disks: list[Attached]) -> list[str]:
    """Return the lines that open what is sealed, by a key that the tests work out."""
    lines = []
    for asked in _of_linux(review):
        for part in asked["partitions"]:
            if part["sealed"] is not None:
                image = next(one for one in disks if one.position == POSITIONS[asked["name"]])
                with open_image(image.path) as device:
                    words = (image.path.parents[2] / "passphrase").read_bytes().strip()
                    key, offset, sector = volume_key(Window(device, part["start"], part["size"]).read, words)
                path = f"$(echo {device_at(image.position)[:-1]}){part['number']})"
                lines += ["map sealed >> /tmp/mapped <<END", table(key, path, part["size"], offset, sector), "END"]
    return lines


def prepare(folder: Path, memory: Path) -> tuple[list[Attached], str]:
    """Write the example, a disk in every format and some to be enlarged; return them with the guest's script."""
    assert run("demo", "larkmoor", cwd=folder).returncode == 0
    review = facts("review", "larkmoor/sheet.toml", cwd=folder)
    (folder / PROMISED).write_text(json.dumps(review), encoding="utf-8")
    disks = [
        Attached(
            folder / asked["path"],
            POSITIONS[asked["name"]],
            HYPERVISOR_NAMES.get(asked["format"], asked["format"]),
            asked["sector"],
        )
        for asked in _of_linux(review)
    ]
    formats = facts("review", str(_every_format(folder / "formats")))
    for number, asked in enumerate(formats["disks"]):
        used = _used(asked["path"])
        disks.append(Attached(used, 20 + number, HYPERVISOR_NAMES.get(used.suffix[1:], used.suffix[1:])))
    disks += [
        Attached(path, 60 + number, path.suffix[1:], kept=path.name != "crashed.vhdx")
        for number, path in enumerate(_foreign(folder / "foreign"))
    ]
    for asked in formats["disks"][len(FORMATS) :]:
        base = Path(asked["path"])
        shutil.copy(base, base.with_suffix(".kept"))
    for number, (before, after) in enumerate((*GROWN, (SMALL, SMALL))):
        image = memory / f"{number}.raw"
        with image.open("x+b", buffering=0) as file:
            file.truncate(after)
            FILESYSTEM.plan(before, Wishes(uuid=UUID(int=number + 1))).write(FileDevice(file))
        disks.append(Attached(image, 8 + number))
    return disks, _script(review, formats, [one for one in disks if one.position in POSITIONS.values()])


@pytest.fixture(scope="module")
def booted(guests: dict[str, Used]) -> Boot:
    """What the guest made of its disks; the bases of children are as they were."""
    used = guests[__name__]
    sheet = used.folder / "larkmoor" / "sheet.toml"
    formats = facts("review", str(used.folder / "formats" / "sheet.toml"))
    for asked in formats["disks"][len(FORMATS) :]:
        base = Path(asked["path"])
        assert base.read_bytes() == base.with_suffix(".kept").read_bytes(), "a base was changed"
    return Boot(sheet, json.loads((used.folder / PROMISED).read_text(encoding="utf-8")), formats, used.answers)


def _of_linux(review: Any) -> list[Any]:
    return [asked for asked in review["disks"] if asked["runs"] == "linux"]


def _foreign(folder: Path) -> list[Path]:
    """Make the images that Narvet only reads, one that a crash left with its log, and a packed one; return them."""
    folder.mkdir()
    for name, make in foreign.READ_BY_ALL.items():
        make(folder / name, foreign.sample())
    with new_image_file(image_format("vhdx"), folder / "made.vhdx", ImageSpec(foreign.SIZE, block_size=MIB)) as device:
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


def _parts(booted: Boot) -> list[tuple[Any, Any]]:
    return [(asked, part) for asked in _of_linux(booted.review) for part in asked["partitions"] if part["filesystem"]]


def _volumes(booted: Boot) -> list[Any]:
    return [volume for pool in booted.review["pools"] for volume in pool["volumes"]]


def test_guest_parses_the_tables(booted: Boot) -> None:
    every = [(asked, part) for asked in _of_linux(booted.review) for part in asked["partitions"]]
    for asked, part in every:
        said = booted.said[f"part-{POSITIONS[asked['name']]}-{part['number']} lies"]
        assert said == f"{part['start'] // 512} {part['size'] // 512} PARTNAME={part['label']}"


def test_guest_mounts_by_the_entries_and_shows_what_was_promised(booted: Boot) -> None:
    owners = {"trials": "1200:1300 750", "scratch": "1200:1300 2770", "notes": "1201:1300 2775"}
    for part in (*(part for _, part in _parts(booted)), *_volumes(booted)):
        at = part["at"]
        assert booted.answers.shows(at) == part["shows"]
        assert booted.said[f"{at} device"].endswith(f" {part['filesystem']}")
        assert booted.said[f"{at} root"] == owners.get(part["label"], "990:990 755")
        assert booted.said[f"{part['label']} found"] == booted.said[f"{at} device"].split()[0]
        assert booted.said[f"{at} intact"] == "61"


def test_guest_enlarges_while_it_runs(booted: Boot) -> None:
    for number, (_, after) in enumerate(GROWN):
        assert booted.said.get(f"g{number} grown") == "yes", after
        assert booted.answers.shows(f"/g{number}")["total"] > after * 9 // 10
        assert booted.said[f"g{number} intact"] == "61"


def test_guest_fills_a_small_one_and_never_complains(booted: Boot) -> None:
    left, files = (int(word) for word in booted.said["small full"].split())
    assert left < 4096 and files > 150
    assert (
        complaints(
            booted.answers.log,
            "device-mapper: table",
            "ext4",
            "jbd2",
            "xfs",
            "sda",
            "sdb",
            "sdc",
            "sdd",
            "Buffer I/O",
            "GPT",
        )
        == []
    )


def test_narvet_reads_what_the_guest_has_used(booted: Boot) -> None:
    """After use the disks still confirm, and the survey's numbers have moved with what the guest wrote."""
    words = ("--passphrase-file", str(booted.sheet.parent / "passphrase"))
    assert facts("confirm", str(booted.sheet), *words)["agrees"]
    for asked, part in _parts(booted):
        found = facts("survey", str(booted.sheet.parent.parent / asked["path"]), *words)[0]
        inside = next(one for one in found["partitions"] if one["number"] == part["number"])["filesystem"]
        assert inside["label"] == part["label"]
        assert rules(found) in ([], ["sector-not-recorded"])
        used = part["shows"]["free"] - inside["free"]
        assert 3 * MIB < used < 8 * MIB
    (pool,) = booted.review["pools"]
    paths = [str(booted.sheet.parent.parent / one["path"]) for one in pool["members"]]
    found = facts("survey", *paths)[0]["pools"][0]["volumes"]
    for volume, there in zip(pool["volumes"], found, strict=True):
        assert there["read"] and 3 * MIB < volume["shows"]["free"] - there["filesystem"]["free"] < 8 * MIB


def test_every_format_holds_what_the_guest_wrote(booted: Boot, tmp_path: Path) -> None:
    """The hypervisor read and wrote each format; Narvet reads the same bytes back, and the survey finds all sound.

    Children are folded afterwards: then their bases hold the files.
    """
    for number, asked in enumerate(booted.formats["disks"]):
        at, part, used = f"/srv/f{number}", asked["partitions"][0], _used(asked["path"])
        assert booted.said[f"{at} intact"] == "61", asked
        assert booted.answers.shows(at) == part["shows"]
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
