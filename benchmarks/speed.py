"""How fast Narvet is, as ratios within one run: against writing the same bytes plainly, and against other sizes.

    python benchmarks/speed.py [FOLDER] > docs/speed.md

FOLDER holds the images; the default is in memory, where 64 TiB are a file like any other and no disk adds its noise.
"""

from __future__ import annotations

import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from uuid import UUID

from lending import section

from narvet.apply.copying import copy_disk, source_of
from narvet.apply.steps import MakeImage
from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.formats.images import NAMES, image_format
from narvet.formats.images.chain import open_image
from narvet.ground.units import GIB, MIB, TIB, show_binary
from narvet.model.estate import Estate, Store
from narvet.model.facts import Facts
from narvet.plan.layout import plan
from narvet.plan.resolve import settled
from narvet.sheet.read import parse_sheet
from narvet.usecases.recast import RecastWishes, image_spec_for

RUNS = 11
SIZES = (10 * GIB, 100 * GIB, TIB, 4 * TIB, 16 * TIB, 64 * TIB)
LARGEST = (
    ("ext4", "general", 64 * TIB), ("ext4", "media", 64 * TIB), ("xfs", "general", 64 * TIB),
    ("ntfs", "general", 63 * TIB),
    ("exfat", "general", 64 * TIB), ("fat32", "general", 2 * TIB - GIB), ("swap", "general", 15 * TIB),
)  # fmt: skip
RESIZED = (
    ("ext4", TIB, 60 * TIB), ("xfs", TIB, 60 * TIB), ("ntfs", TIB, 15 * TIB), ("exfat", TIB, 4 * TIB),
    ("fat32", TIB, 2 * TIB - GIB), ("swap", TIB, 15 * TIB), ("ext4", 60 * TIB, TIB), ("ntfs", 15 * TIB, TIB),
)  # fmt: skip
HEAD = f'sheet = 1\nidentity = "{UUID(int=1)}"\n[guest.bench]\nslots = ["scsi 0-255"]\n[store.shelf]\npath = "shelf"\n'


def planned(folder: Path, size: int, name: str = "ext4", purpose: str = "general") -> MakeImage:
    """Return the step that makes a thin disk with one filesystem."""
    text = f'[disk.a]\nguest = "bench"\nstore = "shelf"\nsize = "{size} B"\n[[disk.a.partition]]\nlabel = "a"\n'
    text += f'filesystem = "{name}"\nfor = "{purpose}"\n'
    facts = Facts(Estate(stores={"shelf": Store(str(folder), free=1 << 50, total=1 << 50)}))
    disk = plan(settled(parse_sheet(HEAD + text, Path("bench"))), facts).disks[0]
    return MakeImage(disk.name, disk.guest, disk.wanted, disk.spec)


def unlike(folder: Path, size: int, name: str = "ext4", purpose: str = "general") -> list[MakeImage]:
    """Return such steps of slightly different sizes, so that none finds anything that one before it has worked out."""
    return [planned(folder, size - less * MIB, name, purpose) for less in range(RUNS)]


def in_turn(steps: list[MakeImage]) -> Callable[[], object]:
    """Return what does the next step each time it is called."""
    left = iter(steps)
    return lambda: next(left).apply()


def timed(work: Callable[[], object], before: Callable[[], object], runs: int = RUNS) -> float:
    """Return the median seconds of a piece of work; `before` makes way for it."""
    times = []
    for _ in range(runs):
        before()
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def copy_plainly(source: Path, target: Path) -> None:
    """Copy a sparse file's data to a new sparse file, run by run, and sync it: the floor."""
    with source.open("rb", buffering=0) as read, target.open("xb", buffering=0) as written:
        size = os.fstat(read.fileno()).st_size
        written.truncate(size)
        for start, length in FileDevice(read).extents():
            for offset in range(start, start + length, 1 << 20):
                data = os.pread(read.fileno(), min(1 << 20, start + length - offset), offset)
                os.pwrite(written.fileno(), data, offset)
        os.fsync(written.fileno())


def writing(folder: Path) -> None:
    """Print the table of thin disks written against their bytes copied."""
    print("| disk | stored | written in | copied in | ratio | written, for each MiB stored |")
    print("|---:|---:|---:|---:|---:|---:|")
    for size in SIZES:
        steps = unlike(folder, size)
        image, copy = Path(steps[0].touches), folder / "copy"
        pairs = []
        for step in steps:  # by turns, as the machine's speed changes
            made = timed(step.apply, partial(image.unlink, missing_ok=True), runs=1)
            pairs.append(
                (made, timed(partial(copy_plainly, image, copy), partial(copy.unlink, missing_ok=True), runs=1))
            )
        made, plain = (statistics.median(times) for times in zip(*pairs, strict=True))
        ratio = statistics.median(mine / its for mine, its in pairs)
        stored = image.stat().st_blocks * 512
        per_mib = 1000 * made / (stored / (1 << 20))
        row = (show_binary(size), show_binary(stored), f"{made * 1000:.1f} ms", f"{plain * 1000:.1f} ms")
        print(f"| {' | '.join(row)} | {ratio:.1f} | {per_mib:.1f} ms |")
        copy.unlink()
        image.unlink()


def by_filesystem(folder: Path) -> None:
    """Print the table of the largest disks of each filesystem."""
    print("| filesystem | for | disk | stored | written in |")
    print("|---|---|---:|---:|---:|")
    for name, purpose, size in LARGEST:
        steps = unlike(folder, size, name, purpose)
        image = Path(steps[0].touches)
        made = timed(in_turn(steps), partial(image.unlink, missing_ok=True))
        stored = show_binary(image.stat().st_blocks * 512)
        print(f"| {name} | {purpose} | {show_binary(size)} | {stored} | {made * 1000:.1f} ms |")
        image.unlink()


def reviewing(folder: Path) -> None:
    """Print the table of sheets with many disks, each reviewed by the program as a whole."""
    print(
        "What is left is the interpreter's: of 10,000 disks, half of the time makes and checks the layout, 12 %\n"
        "makes the mark, 10 % reads the sheet (half of that TOML), 9 % starts the program, 7 % settles what the\n"
        "sheet leaves open, 5 % looks at the store. Ids take a tenth of it all (SHA-1, and the UUIDs of the standard\n"
        "library), and no other function by itself more than 6 %: a disk is some forty values, five ids and six\n"
        "hundred calls. Disks that are alike share what their sizes alone decide, and what forms took goes back to\n"
        "the system once they are settled.\n\n"
        "The machine changes its speed by the hour: the same 10,000 disks took 3.0 s to 5.1 s, 100,000\n"
        "took 41 s to 49 s.\n"
    )
    print("| disks in the sheet | review | peak memory | review, for each disk |")
    print("|---:|---:|---:|---:|")
    (folder / "shelf").mkdir()
    for count in (1, 100, 1000, 10_000, 100_000):
        guests = "".join(f'[guest.g{n}]\nslots = ["scsi 0-99"]\n' for n in range(-(-count // 100)))
        disks = "".join(
            f'[disk.d{n}]\nguest = "g{n // 100}"\nstore = "shelf"\nsize = "{n % 5 + 1} GiB"\n'
            f'[[disk.d{n}.partition]]\nat = "/srv/d{n}"\n'
            for n in range(count)
        )
        sheet = folder / "sheet.toml"
        sheet.write_text(HEAD + guests + disks)
        took, peak = run_program("review", sheet)
        print(f"| {count} | {took:.2f} s | {show_binary(peak)} | {1000 * took / count:.2f} ms |")


def recasting(folder: Path) -> None:
    """Print the table of a half-full disk recast to each format and read there at random, against plain copies."""
    print("| to | recast in | copied in | ratio | 4 KiB read at random, each | from the raw file | ratio |")
    print("|---|---:|---:|---:|---:|---:|---:|")
    source, dice = folder / "half.raw", random.Random(1)
    with source.open("wb") as file:
        file.truncate(GIB)
        for start in range(0, GIB, 64 * MIB):
            file.seek(start)
            file.write(dice.randbytes(32 * MIB))
    copy = folder / "copy"
    plain = timed(partial(copy_plainly, source, copy), partial(copy.unlink, missing_ok=True))
    copy.unlink()
    places = [dice.randrange(GIB // 4096) * 4096 for _ in range(20_000)]
    floor = 0.0
    for name in NAMES:
        new = folder / f"new.{name}"
        kind = image_format(name)
        old = source_of(source)
        wish = image_spec_for(old, kind, new, RecastWishes())
        took = timed(partial(copy_disk, old, new, kind, wish), partial(new.unlink, missing_ok=True))
        with open_image(new) as device:
            each = timed(partial(read_at, device, places), int) / len(places)
        floor = floor or each
        row = (
            f"{took:.2f} s",
            f"{plain:.2f} s",
            f"{took / plain:.1f}",
            f"{each * 1e6:.1f} µs",
            f"{floor * 1e6:.1f} µs",
        )
        print(f"| {name} | {' | '.join(row)} | {each / floor:.1f} |")
        new.unlink()


def resizing(folder: Path) -> None:
    """Print the table of disks that the program as a whole gives another size, against their bytes then copied."""
    print("| filesystem | from | to | stored before | then | took | peak memory | copied in | ratio |")
    print("|---|---:|---:|---:|---:|---:|---:|---:|---:|")
    copy = folder / "copy"
    for name, old, new in RESIZED:
        step = planned(folder, old, name)
        step.apply()
        image = Path(step.touches)
        before = image.stat().st_blocks * 512
        how = ("enlarge",) if new > old else ("shrink", "--move-files")
        took, peak = run_program(*how, image, "--size", f"{new} B")
        stored = image.stat().st_blocks * 512
        plain = timed(partial(copy_plainly, image, copy), partial(copy.unlink, missing_ok=True))
        row = (
            name,
            *map(show_binary, (old, new, before, stored)),
            f"{took:.2f} s",
            show_binary(peak),
            f"{plain:.2f} s",
        )
        print(f"| {' | '.join(row)} | {took / plain:.1f} |")
        copy.unlink()
        image.unlink()


def recasting_files(folder: Path) -> None:
    """Print the table of files on a disk that the program as a whole recasts, against the system's own sparse copy."""
    print("| from | to | recast in | copied in | ratio |\n|---|---|---:|---:|---:|")
    source, dice = folder / "half.raw", random.Random(1)
    with source.open("wb") as file:
        file.truncate(4 * GIB)
        for place in range(0, 4 * GIB, 128 * MIB):
            file.seek(place)
            file.write(dice.randbytes(64 * MIB))
    copy = folder / "copy"

    def copied() -> object:
        subprocess.run(["cp", "--sparse=always", source, copy], check=True)
        return subprocess.run(["sync", copy], check=True)

    def seconds(work: Callable[[], object], file: Path) -> float:
        file.unlink(missing_ok=True)
        os.sync()
        start = time.perf_counter()
        work()
        return time.perf_counter() - start

    for old, new in (*(("raw", name) for name in NAMES), *((name, "raw") for name in NAMES if name != "raw")):
        image, made = source if old == "raw" else folder / f"old.{old}", folder / f"new.{new}"
        if old != "raw":
            run_program("recast", source, image, "--quiet")
        recast = partial(run_program, "recast", image, made, "--quiet")
        pairs = [(seconds(copied, copy), seconds(recast, made)) for _ in range(9)]  # by turns: disks have their moods
        plain, took = (statistics.median(times) for times in zip(*pairs, strict=True))
        ratio = statistics.median(mine / its for its, mine in pairs)
        print(f"| {old} | {new} | {took:.2f} s | {plain:.2f} s | {ratio:.2f} |", flush=True)
        made.unlink()
        if old != "raw":
            image.unlink()


def run_program(*words: object) -> tuple[float, int]:
    """Run the installed program; return the seconds it took and its peak memory in bytes."""
    start = time.perf_counter()
    process = subprocess.Popen([Path(sys.executable).with_name("narvet"), *map(str, words)], stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    return time.perf_counter() - start, usage.ru_maxrss * 1024


def read_at(device: BlockDevice, places: list[int]) -> None:
    """Read 4 KiB at each place."""
    for place in places:
        device.read(place, 4096)


def main() -> None:
    """Print the page."""
    base = sys.argv[1] if len(sys.argv) > 1 else "/dev/shm"  # noqa: S108
    print("# Speed\n")
    print("Made by `python benchmarks/speed.py`. Times are of one machine and say little; the ratios are the point.\n")
    with tempfile.TemporaryDirectory(dir=base) as name:
        print("## A review of many disks\n")
        reviewing(Path(name))  # first: a child's peak memory counts from this process' own
        print("\n## A thin disk enlarged, or made smaller, against its stored bytes copied to a new sparse file\n")
        resizing(Path(name))
        print("\n## A thin disk with one ext4, written, against its stored bytes copied to a new sparse file\n")
        writing(Path(name))
        print("\n## The largest disks of each filesystem\n")
        by_filesystem(Path(name))
        print("\n## A half-full disk of 1 GiB, recast from raw\n")
        recasting(Path(name))
    with tempfile.TemporaryDirectory(dir="/var/tmp") as name:
        print(
            "\n## Files on a disk of 2 GiB stored, recast by the program as a whole, against the system's sparse copy\n"
        )
        print(
            "Start, end and sync are in both. Nine rounds by turns; of one round the ratio is anything from 0.7 to\n"
            "1.6, as the disk has it, and the median of nine has been 0.8 to 1.3 for the same formats in other hours.\n"
        )
        recasting_files(Path(name))
    with tempfile.TemporaryDirectory(dir=base) as name:
        print()
        print("\n".join(section(Path(name))))


if __name__ == "__main__":
    main()
