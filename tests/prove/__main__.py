"""Run campaigns, with the shim preloaded.

`python -m tests.prove KIND SEED COUNT` runs one and prints its faults and counts. `python -m tests.prove` runs all of
them, each with the next seeds and as many processes as there are processors, until it is stopped, and keeps the counts
in docs/proof.json and docs/proof.md: what was proved once is not lost.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

from tests.prove import cuts, fuzz, races, stops, texts
from tests.prove.shim import preloaded

Campaign = Callable[[int, int], Iterator[tuple[str, list[str]]]]
KINDS: dict[str, tuple[Campaign, int, str]] = {
    "images": (fuzz.campaign, 40000, "images, tables and filesystems with fields changed, every checksum accepted"),
    "kills": (
        partial(stops.campaign, kills=True),
        900,
        "a kill at a system call that changes something; a round is nearly all such calls of all commands",
    ),
    "errors": (
        partial(stops.campaign, kills=False),
        900,
        "one system call refused: EIO, ENOSPC, EACCES, EINTR or EMFILE",
    ),
    "cuts": (cuts.campaign, 900, "a power cut that loses any unsynced write and any unsynced name"),
    "races": (races.campaign, 300, "two Narvets at once on the same work"),
    "texts": (texts.campaign, 900, "sheets, tables of requests, accounts and fstabs mangled"),
}
_DOCS = Path(__file__).parents[2] / "docs"
_COUNTED = re.compile(r"(\w+): (\d+) tried, (\d+) faults, (\d+) s")


def run(kind: str, seed: int, count: int) -> int:
    """Run a campaign; return how many faults it found."""
    done = faulty = 0
    start = time.monotonic()
    for what, faults in KINDS[kind][0](seed, count):
        done += 1
        if faults:
            faulty += 1
            print(f"{kind} seed {seed}: {what}: " + "; ".join(faults), flush=True)
    print(f"{kind}: {done} tried, {faulty} faults, {time.monotonic() - start:.0f} s")
    return faulty


def run_all(rounds: int) -> None:
    """Run every campaign with the next seeds, so many rounds, and add up what was tried."""
    place = _DOCS / "proof.json"
    counts: dict[str, dict[str, int]] = json.loads(place.read_text()) if place.exists() else {}
    with ThreadPoolExecutor(os.cpu_count() or 1) as workers:
        for _ in range(rounds):
            jobs = []
            for kind, (_, count, _) in KINDS.items():
                row = counts.setdefault(kind, {"seed": 100, "tried": 0, "faults": 0})
                row["seed"] += 1
                words = ["tests.prove", kind, str(row["seed"]), str(count)]
                jobs.append(workers.submit(preloaded, words, capture_output=True))
            for job in jobs:
                printed = job.result().stdout
                print(printed, end="", flush=True)
                for kind, tried, faults, _ in _COUNTED.findall(printed):
                    counts[kind]["tried"] += int(tried)
                    counts[kind]["faults"] += int(faults)
            place.write_text(json.dumps(counts, indent=1) + "\n")
            (_DOCS / "proof.md").write_text(page(counts))


def page(counts: dict[str, dict[str, int]]) -> str:
    """Return docs/proof.md."""
    commit = subprocess.run(
        ["git", "rev-parse", "--short", "HEAD"], capture_output=True, text=True, check=False
    ).stdout.strip()
    rows = [
        f"| {kind} | {KINDS[kind][2]} | {row['tried']:_} | {row['faults']} |".replace("_", "\u00a0")
        for kind, row in counts.items()
    ]
    return "\n".join([
        "# What was tried to break it", "",
        "`make prove` runs these campaigns with new seeds, as long as you let it, and adds up here. A seeded sample of each is in",
        f"`make test`. Last added to at commit {commit}; faults that were found and put right are not counted again.", "",
        "| campaign | what is done | tried | faults |", "|---|---|---|---|", *rows, "",
        "After each kill, refused call, cut or race, the command is called again. Then every file must be what an undisturbed run",
        "makes, byte for byte, or, where a format keeps ids of its changes, every disk must read so; nothing may be left behind; and",
        "an exit status of 0 must have meant just that. In between, every file under a real name is the old or the new one.", "",
    ])  # fmt: skip


if __name__ == "__main__":
    for name in [name for name in os.environ if name.startswith("COVERAGE_")]:
        del os.environ[name]  # what measures coverage would write files that the campaigns count
    if len(sys.argv) == 4:
        sys.exit(1 if run(sys.argv[1], int(sys.argv[2]), int(sys.argv[3])) else 0)
    run_all(int(sys.argv[1]) if len(sys.argv) == 2 else 1 << 30)
