"""A seeded sample of every campaign that `make prove` runs for hours."""

from __future__ import annotations

import pytest

from tests.prove.shim import preloaded


@pytest.mark.parametrize(
    ("kind", "count"), [("images", 600), ("kills", 60), ("errors", 80), ("cuts", 60), ("races", 25), ("texts", 80)]
)
def test_a_sample_finds_no_fault(kind: str, count: int) -> None:
    done = preloaded(["tests.prove", kind, "1", str(count)], capture_output=True)
    assert done.returncode == 0, f"{done.stdout[-3000:]}\n{done.stderr[-2000:]}"
    assert f"{kind}: " in done.stdout and " 0 faults" in done.stdout
