"""Two Narvets at once on the same work: one does it, the other does it after, or is refused; never a mixture."""

from __future__ import annotations

import random
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.prove.scenarios import SCENARIOS, copied
from tests.prove.shim import call
from tests.prove.stops import Tried, second_call

_LONGEST_HEAD_START = 0.05  # seconds


def campaign(seed: int, count: int) -> Iterator[tuple[str, list[str]]]:
    """Yield name and faults of so many races, spread over all scenarios."""
    dice = random.Random(seed)
    with ThreadPoolExecutor(2) as both:
        for scenario in SCENARIOS:
            with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
                tried, place = Tried.of(scenario, Path(folder)), Path(folder, "place")
                for _ in range(max(count // len(SCENARIOS), 1)):
                    copied(tried.template, place)
                    words, start = scenario.call(place), dice.random() * _LONGEST_HEAD_START
                    first = both.submit(call, words)
                    time.sleep(start)
                    second = both.submit(call, words)
                    ended = first.result(), second.result()
                    faults = [
                        f"one ends with {one.status}: {one.printed[-300:]}"
                        for one in ended
                        if one.status not in (0, 2, 3) or "fault of its own" in one.printed
                    ]
                    faults += [] if any(one.status == 0 for one in ended) else ["neither did it"]
                    yield f"{scenario.name}, {1000 * start:.0f} ms apart", [*faults, *second_call(tried, place)]
