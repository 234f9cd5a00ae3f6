"""Run a campaign: `python -m tests.prove KIND SEED COUNT`, with the shim preloaded; faults are printed, then counts."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from functools import partial

from tests.prove import cuts, fuzz, stops

Campaign = Callable[[int, int], Iterator[tuple[str, list[str]]]]
KINDS: dict[str, Campaign] = {
    "kills": partial(stops.campaign, kills=True),
    "errors": partial(stops.campaign, kills=False),
    "cuts": cuts.campaign,
    "images": fuzz.campaign,
}


def main(kind: str, seed: int, count: int) -> int:
    """Run a campaign; return how many faults it found."""
    done = faulty = 0
    start = time.monotonic()
    for what, faults in KINDS[kind](seed, count):
        done += 1
        if faults:
            faulty += 1
            print(f"{kind} seed {seed}: {what}: " + "; ".join(faults), flush=True)
    print(f"{kind}: {done} tried, {faulty} faults, {time.monotonic() - start:.0f} s")
    return faulty


if __name__ == "__main__":
    sys.exit(1 if main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3])) else 0)
