"""How work spreads: over processes of this machine, and over hosts through a hub; and how its cost grows with disks.

python benchmarks/fleet.py [FOLDER]
"""

from __future__ import annotations

import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from narvet.ground.units import counted

PROGRAM = Path(sys.executable).with_name("narvet")
IDENTITY = "0b2c6a52-6f0e-5f0b-9a3e-3d2f8f6a7c11"
DISKS, EACH = 400, 10  # disks, and of these for each guest
WHERE = """\
On two processors; hub, hosts and the command share them, so more than two of anything only shows what it costs.
A host has one process. What starts and ends a command is included, over a hub two seconds of it.
"""
SHARES = """\
What is not shared out is the command's start, reading the sheet, working the layout out and the ledger:
a sixth of what 1,000 disks need, a quarter of what 400 do. Of reading disks of 100 GiB back, in each process,
a third goes through the maps of blocks and inodes, and a seventh is checksums of descriptors.
"""
SMALL = 10_000  # disks
SHARED, ROUNDS = 1000, 7  # disks, and how often one and two processes write them
TRAVELS = 1024  # MiB of an image that goes to another host


def fleet(folder: Path, hosts: int, disks: int) -> Path:
    """Lay a sheet out with so many disks of 100 GiB, on so many hosts."""
    text = f'sheet = 1\nidentity = "{IDENTITY}"\ndated = 2026-03-02\n'
    for host in range(1, hosts + 1):
        (folder / f"rack{host}" / "vault").mkdir(parents=True)
        text += f'[host.rack{host}]\nfolder = "rack{host}"\n'
        text += f'[store.vault{host}]\nhost = "rack{host}"\npath = "vault"\nroom = "900 TiB"\nwriters = 8\n'
    guests = max(disks // EACH, 1)
    text += f'[guest.pc]\ncount = {guests}\nhost = "rack{{1-{hosts}}}"\n'
    for number in range(min(disks, EACH)):
        text += f'[disk.d{number}]\nguest = "pc"\nstore = "vault{{1-{hosts}}}"\nsize = "100 GiB"\n'
        text += f'[[disk.d{number}.partition]]\nat = "/srv/{number}"\n'
    sheet = folder / "sheet.toml"
    sheet.write_text(text)
    return sheet


def timed(*words: str) -> float:
    """Return the seconds that a call takes, its start and its end included."""
    start = time.perf_counter()
    subprocess.run([PROGRAM, *words, "--quiet"], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - start


@contextmanager
def hosted(folder: Path, hosts: int) -> Iterator[str]:
    """Run a hub and so many hosts, one process each; yield the hub's address."""
    with ExitStack() as stack:

        def run(*words: str) -> str:
            process = stack.enter_context(subprocess.Popen([PROGRAM, *words], stdout=subprocess.PIPE, text=True))
            stack.callback(process.terminate)
            assert process.stdout is not None
            return process.stdout.readline()

        address = run("hub", "--at", "127.0.0.1:0").split(";")[0].rpartition(" ")[2]
        for host in range(1, hosts + 1):
            run("host", f"rack{host}", str(folder / f"rack{host}"), "--hub", address, "--jobs", "1")
        yield address


def rows(top: Path) -> Iterator[tuple[str, float, float]]:
    """Yield who writes and confirms the same disks, and the seconds that both take."""
    for jobs in (1, 2):
        folder = top / f"jobs{jobs}"
        sheet = fleet(folder, 1, DISKS)
        words = ("--jobs", str(jobs))
        yield (
            f"{jobs} process{'es' if jobs > 1 else ''}",
            timed("write", str(sheet), *words),
            timed("confirm", str(sheet), *words),
        )
        shutil.rmtree(folder)
    for hosts in (1, 2, 4):
        folder = top / f"hosts{hosts}"
        sheet = fleet(folder, hosts, DISKS)
        with hosted(folder, hosts) as address:
            words = ("--over", address)
            yield (
                f"{counted(hosts, 'host')} through a hub",
                timed("write", str(sheet), *words),
                timed("confirm", str(sheet), *words),
            )
        shutil.rmtree(folder)


def shared(top: Path) -> Iterator[tuple[float, float]]:
    """Yield how much faster two processes write many disks than one, and how much faster two loops end than one.

    The loops share nothing, so what they gain is all that the machine gives at that time.
    """
    for _ in range(ROUNDS):
        took = []
        for jobs in (1, 2):
            sheet = fleet(top / "shared", 1, SHARED)
            took.append(timed("write", str(sheet), "--jobs", str(jobs)))
            shutil.rmtree(top / "shared")
        yield took[0] / took[1], looping(1) / looping(2)


def looping(processes: int) -> float:
    """Return the seconds that a loop takes, shared by so many processes."""
    loop = f"for number in range({16_000_000 // processes}): str(number)"
    start = time.perf_counter()
    started = [subprocess.Popen([sys.executable, "-c", loop]) for _ in range(processes)]
    for one in started:
        one.wait()
    return time.perf_counter() - start


def growth(top: Path) -> Iterator[tuple[int, float, float, float]]:
    """Yield numbers of disks, with the seconds of a review, a write and a confirm, by all processes."""
    for disks in (10, 100, 1000, 10_000):
        folder = top / f"disks{disks}"
        sheet = fleet(folder, 1, disks)
        reviewed, written, confirmed = (timed(one, str(sheet)) for one in ("review", "write", "confirm"))
        yield disks, reviewed, written, confirmed
        shutil.rmtree(folder)


def small(top: Path) -> tuple[float, float]:
    """Return the seconds of a write and a confirm of many small disks, by all processes."""
    folder = top / "small"
    (folder / "shelf").mkdir(parents=True)
    sheet = folder / "sheet.toml"
    sheet.write_text(
        'sheet = 1\nidentity = "00000000-0000-0000-0000-000000000001"\n[store.shelf]\npath = "shelf"\n'
        f'[guest.pc]\ncount = {SMALL}\n[disk.d]\nguest = "pc"\nstore = "shelf"\nsize = "64 MiB"\n'
        '[[disk.d.partition]]\nat = "/srv/d"\n'
    )
    took = timed("write", str(sheet)), timed("confirm", str(sheet))
    shutil.rmtree(folder)
    return took


def travelling(top: Path) -> Iterator[tuple[str, float, float]]:
    """Yield what becomes of an image that goes to another host, its seconds, and those of the system's copy."""
    folder = top / "travels"
    fleet(folder, 2, 1)
    sheet = folder / "sheet.toml"
    head = sheet.read_text().partition("[disk.")[0].replace('host = "rack{1-2}"', "")
    formats = ("raw", "qcow2", "qcow2")
    with hosted(folder, 2) as address:
        for number, kind in enumerate(formats):
            here, before = 1 + number % 2, formats[max(number - 1, 0)]
            sheet.write_text(f'{head}[disk.d]\nguest = "pc01"\nstore = "vault{here}"\nsize = "{TRAVELS} MiB"\n'
                             f'format = "{kind}"\n[[disk.d.partition]]\nfilesystem = "none"\n')  # fmt: skip
            took = timed("write", str(sheet), "--over", address, "--yes")
            image = folder / f"rack{here}" / "vault" / f"d.{kind}"
            if not number:
                fill(image)
                continue
            start = time.perf_counter()
            subprocess.run(["cp", image, folder / "copy"], check=True)
            with (folder / "copy").open("rb") as copy:
                os.fsync(copy.fileno())
            yield f"{before} to {kind}", took, time.perf_counter() - start
            (folder / "copy").unlink()


def fill(image: Path) -> None:
    """Fill the partition of a raw image with what cannot be made smaller."""
    dice = random.Random(1)
    with image.open("r+b") as file:
        file.seek(1 << 20)
        for _ in range(TRAVELS - 2):
            file.write(dice.randbytes(1 << 20))
        os.fsync(file.fileno())


def main() -> None:
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as name:
        print(f"## {DISKS} disks of 100 GiB, by who writes them\n\n{WHERE}")
        print("| | written in | against one process | confirmed in | against one process |\n|---|---:|---:|---:|---:|")
        first: tuple[float, float] | None = None
        for who, written, confirmed in rows(Path(name)):
            first = first or (written, confirmed)
            times = f"{written:.1f} s | {first[0] / written:.2f} | {confirmed:.1f} s | {first[1] / confirmed:.2f}"
            print(f"| {who} | {times} |", flush=True)
        print(f"\n{SHARES}")
        gains = list(shared(Path(name)))
        (low, gained, high), (_, most, _) = (
            (min(every), statistics.median(every), max(every)) for every in zip(*gains, strict=True)
        )
        print(f"{SHARED} disks of 100 GiB, {ROUNDS} times by turns: two processes write them {gained:.2f} times as")
        print(
            f"fast as one ({low:.2f} to {high:.2f}). Two loops that share nothing ended {most:.2f} times as fast as one"
        )
        print("at the same time: that is what the machine gives.\n")
        print("## How cost grows with disks, with all processes of the machine\n")
        print("| disks | reviewed in | written in | confirmed in | for each disk |\n|---:|---:|---:|---:|---:|")
        for disks, *took in growth(Path(name)):
            each = " + ".join(f"{1000 * one / disks:.1f}" for one in took)
            print(f"| {disks} | {took[0]:.1f} s | {took[1]:.1f} s | {took[2]:.1f} s | {each} ms |", flush=True)
        written, confirmed = small(Path(name))
        print(f"\n{SMALL} disks of 64 MiB: written in {written:.1f} s, confirmed in {confirmed:.1f} s.")
        print(f"\n## An image of {TRAVELS} MiB of noise that goes to another host, through a hub on the same machine\n")
        print("It is sent, written, read again and compared; both hosts' work is in it, and two seconds that a command")
        print("over a hub takes to start and end.\n")
        print("| from and to | took | the system's copy, with its sync | ratio |\n|---|---:|---:|---:|")
        for what, took_, plain in travelling(Path(name)):
            print(f"| {what} | {took_:.1f} s | {plain:.1f} s | {took_ / plain:.1f} |", flush=True)


if __name__ == "__main__":
    main()
