"""Disks of another size judged: aged by a real kernel, changed, used again; numbers to the byte, files as they were.

The machine's own kernel ages and judges ext4 and xfs at many sizes. A guest does so for every filesystem, on images of
every format, through its hypervisor: it boots once to fill them, and once more when they are larger, or smaller.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple
from uuid import UUID

import pytest

import narvet
from narvet.block.delayed import Delayed
from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import FilesystemState, Wishes
from narvet.ground.units import GIB, KIB, MIB, TIB
from tests.program import HERE, facts, run
from tests.real import load
from tests.real.conftest import Used
from tests.real.guest import SHOWS, Answers, Attached, boot, complaints, device_at
from tests.real.kernel import mounted, quiet_log, shown

# Sizes one after another, over every breakpoint: descriptors in reserve, beyond it, meta block groups; groups added.
PAIRS: tuple[tuple[str, tuple[int, ...], dict[str, Any]], ...] = (
    ("ext4", (2 * MIB, 3 * MIB + 512, 9 * MIB), {}),
    ("ext4", (5 * MIB, 8 * MIB + KIB, 200 * MIB), {}),
    ("ext4", (100 * MIB, 129 * MIB, 5 * GIB + 512), {}),
    ("ext4", (GIB + MIB, 300 * GIB, 2 * TIB), {}),
    ("ext4", (2 * TIB + MIB, 3 * TIB, 7 * TIB), {}),
    ("ext4", (200 * MIB, 333 * MIB + 1536, 6 * GIB), {"unit": KIB}),
    ("ext4", (200 * MIB, 333 * MIB, 6 * GIB), {"unit": 64 * KIB}),
    ("ext4", (600 * MIB, GIB, 15 * TIB), {"sector_size": 4096}),
    ("xfs", (16 * MIB, 17 * MIB, 40 * MIB), {}),
    ("xfs", (100 * MIB, 128 * MIB, 300 * MIB), {}),
    ("xfs", (300 * MIB, 301 * MIB, 2 * GIB), {}),
    ("xfs", (GIB, 3 * GIB + 512 * 77, 100 * GIB), {}),
    ("xfs", (400 * MIB, 777 * MIB, 6 * GIB), {"unit": KIB}),
    ("xfs", (400 * MIB, 777 * MIB, 6 * GIB), {"chunk": 64 * KIB, "stripe": 256 * KIB}),
    ("xfs", (400 * MIB, 777 * MIB, 6 * GIB), {"sector_size": 4096}),
)


def grown(image: Path, name: str, size: int) -> FilesystemState:
    """Make the filesystem on a whole image larger; return what is promised of it."""
    kind = filesystem(name)
    with image.open("r+b", buffering=0) as file:
        state = kind.read(FileDevice(file), HERE)
        assert state is not None and state.findings == () and not state.unclean
        plan = kind.grown(state, size)
        file.truncate(size)
        before = image.stat().st_blocks * 512
        delayed = Delayed(FileDevice(file), state.size)
        plan.write(delayed)
        delayed.replay(FileDevice(file))
        os.fsync(file.fileno())
        assert image.stat().st_blocks * 512 - before <= plan.footprint() + 64 * KIB
        found = kind.read(FileDevice(file), HERE)
    assert found is not None and found.findings == ()
    assert (found.shape, found.free) == (plan.state.shape, plan.state.free)
    return plan.state


@pytest.mark.kernel
@pytest.mark.parametrize(("name", "sizes", "wishes"), PAIRS)
def test_an_aged_filesystem_grows(tmp_path: Path, name: str, sizes: tuple[int, ...], wishes: dict[str, Any]) -> None:
    image, made = tmp_path / "image.raw", dict[Path, str]()
    new = filesystem(name).plan(sizes[0], Wishes(uuid=UUID(int=sizes[0]), label="seeds", **wishes))
    with image.open("xb", buffering=0) as file:
        file.truncate(sizes[0])
        new.write(FileDevice(file))
    for number, (old, size) in enumerate(itertools.pairwise(sizes)):
        with quiet_log(), mounted(image, tmp_path) as place:
            (place / f"round {number}").mkdir()
            made |= load.fill(place / f"round {number}", number, most=min(old // 4, 16 * MIB))
            load.delete_half(made)
            (place / f"round {number}" / "sparse").touch()
            os.truncate(place / f"round {number}" / "sparse", old // 2)
            os.link(place / f"round {number}" / "sparse", place / f"round {number}" / "linked")
        if old < GIB and size - old < 40 * MIB:  # what was there before must not shine through
            with image.open("ab") as file:
                file.write(os.urandom(size - old))
        promised = grown(image, name, size)
        with quiet_log(), mounted(image, tmp_path) as place:
            found = shown(place)
            assert (found["total"], found["free"]) == (promised.total, promised.free), size
            assert name != "ext4" or found["available"] == promised.available
            load.verify(made)
    if sizes[-1] < GIB:
        with quiet_log(), mounted(image, tmp_path) as place:
            (place / "to the last block").mkdir()
            made |= load.fill(place / "to the last block", 9)
            load.verify(made)


class Case(NamedTuple):
    """A disk of the guest: its image, what is on it, and its sizes before and after."""

    image: str
    filesystem: str
    before: str
    after: str
    keys: tuple[str, ...] = ()
    sector: int = 512
    table: str = "gpt"


CASES = (
    Case("a.vhdx", "ntfs", "40 MiB", "400 MiB"),
    Case("b.vhd", "fat32", "100 MiB", "1 GiB"),
    Case("c.qcow2", "exfat", "40 MiB", "600 MiB", ("--block", "4 KiB")),
    Case("d.vmdk", "ext4", "30 MiB", "200 MiB"),
    Case("e.raw", "xfs", "40 MiB", "900 MiB"),
    Case("f.qcow2", "xfs", "320 MiB", "5 GiB"),
    Case("g.vmdk", "exfat", "90 MiB", "130 MiB", ("--pieces", "40 MiB")),
    Case("h.vhd", "ntfs", "60 MiB", "90 MiB", ("--space", "full")),
    Case("i.raw", "fat32", "300 MiB", "310 MiB", ("--space", "full")),
    Case("j.raw", "exfat", "200 MiB", "100 GiB", ("--sector", "4096"), 4096),
    Case("k.raw", "ntfs", "100 MiB", "3 TiB", ("--sector", "4096"), 4096),
    Case("m.vhdx", "ntfs", "400 MiB", "60 MiB"),
    Case("n.qcow2", "ntfs", "200 MiB", "40 MiB", ("--block", "512 B")),
    Case("o.vmdk", "ext4", "300 MiB", "50 MiB"),
    Case("p.raw", "ntfs", "2 TiB", "140 MiB", ("--sector", "4096"), 4096),
    Case("q.vhd", "ntfs", "90 MiB", "30 MiB", ("--space", "full")),
    Case("l.raw", "ext4", "60 MiB", "600 MiB", table="none"),
)
FORMATS = {".vhd": "vpc"}
MOUNTED = {"fat32": "vfat", "ntfs": "ntfs3"}
FILLED = (
    "400 MiB",
    "200 MiB",
    "130 MiB",
    "90 MiB",
    "310 MiB",
    "60 MiB",
    "50 MiB",
    "40 MiB",
    "30 MiB",
)  # what an emulated guest fills in some seconds
LARGER = 3 * GIB  # what the guest makes of the last one itself, while it runs

AGE = """
age() { cd $1; mkdir -p r/deep/er; n=0; while [ $n -lt 200 ]; do echo $n$n$n > "r/deep/ein recht langer Name $n"; n=$((n+1)); done
 for n in $(seq 30); do dd if=/dev/urandom of=r/deep/er/f$n bs=777 count=$n 2>/dev/null; done
 n=0; while [ $n -lt 200 ]; do rm "r/deep/ein recht langer Name $n"; n=$((n+3)); done
 dd if=/dev/urandom of=r/big bs=64k count=20 2>/dev/null
 for n in $(seq 30); do dd if=/dev/urandom of=r/deep/er/f$n bs=777 count=60 2>/dev/null; done
 find r -type f -exec sha256sum {} + > SUMS; cd /; }
"""


def _device(case: Case, number: int) -> str:
    return device_at(120 + number) + ("" if case.table == "none" else "1")


def _attached(case: Case, number: int, folder: Path) -> Attached:
    return Attached(
        folder / case.image,
        120 + number,
        FORMATS.get(Path(case.image).suffix, Path(case.image).suffix[1:]),
        case.sector,
    )


def prepare(folder: Path, memory: Path) -> tuple[list[Attached], str]:
    """Make the disks; return them with the script that fills them."""
    del folder
    script = [AGE]
    for number, case in enumerate(CASES):
        words = ["--size", case.before, "--filesystem", case.filesystem, "--table", case.table, *case.keys]
        run("make", str(memory / case.image), *words, status=0)
        kind = MOUNTED.get(case.filesystem, case.filesystem)
        script.append(
            f"mkdir /a{number}; mount -t {kind} {_device(case, number)} /a{number}; age /a{number}; umount /a{number}"
        )
    return [_attached(case, number, memory) for number, case in enumerate(CASES)], "\n".join(script)


@pytest.fixture(scope="module")
def larger(guests: dict[str, Used]) -> Iterator[tuple[list[Any], Answers]]:
    """What was promised of the disks when they were made larger, and what the guest then says."""
    used = guests[__name__]
    assert complaints(used.answers.log, "ntfs", "fat", "ext4", "xfs", "i/o error") == []
    promised, script = [], []
    for number, case in enumerate(CASES):
        words = ("--sector", str(case.sector)) if case.sector != 512 else ()
        smaller = narvet.parse_size(case.after) < narvet.parse_size(case.before)
        how = ("shrink", "--move-files") if smaller else ("enlarge",)
        promised.append(facts(*how, str(used.memory / case.image), "--size", case.after, *words))
        at, kind = f"/b{number}", MOUNTED.get(case.filesystem, case.filesystem)
        script += [
            f"mkdir {at}; mount -t {kind} {_device(case, number)} {at}; {SHOWS.format(at=at)}",
            f'(cd {at}; sha256sum -c SUMS > /tmp/said 2>&1 && echo "{at} intact $(grep -c OK /tmp/said)")',
        ]
        if case.table == "none":
            script.append(
                f"grow {at} {LARGER // (4 * KIB if case.filesystem == 'xfs' else KIB)} && echo {at} enlarged yes"
            )
        if case.after in FILLED:  # filled up: what is left is less than a piece
            script.append(
                f'dd if=/dev/zero of={at}/fill bs=64k 2>/dev/null; sync; echo "{at} full $(stat -f -c "%S %f" {at})"; rm {at}/fill'
            )
        script.append(f"(cd {at}; sha256sum -c SUMS > /tmp/said 2>&1 && echo {at} again yes); umount {at}")
    os.truncate(used.memory / CASES[-1].image, LARGER)
    disks = [_attached(case, number, used.memory) for number, case in enumerate(CASES)]
    yield promised, Answers.of(boot(disks, "\n".join(script)))


@pytest.mark.guest
def test_a_guest_goes_on_with_disks_of_another_size(larger: tuple[list[Any], Answers], guests: dict[str, Used]) -> None:
    promised, answers = larger
    for number, (case, enlarged) in enumerate(zip(CASES, promised, strict=True)):
        at = f"/b{number}"
        assert answers.shows(at) == enlarged["partitions"][0]["shows"], case
        assert answers.said.get(f"{at} intact") == "164" and answers.said.get(f"{at} again") == "yes", case
        if f"{at} full" in answers.said:
            unit, left = (int(word) for word in answers.said[f"{at} full"].split())
            assert unit * left < 12 * MIB, case  # what xfs and the like keep back
        (found,) = facts("survey", str(guests[__name__].memory / case.image))
        assert [one for one in found["findings"] if one["level"] != "note"] == [], case
    assert answers.said[f"/b{len(CASES) - 1} enlarged"] == "yes"
    assert complaints(answers.log, "ntfs", "fat", "ext4", "xfs", "i/o error") == []
