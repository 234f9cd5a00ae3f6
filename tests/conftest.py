"""Fixtures: the installed program, the example written once, and the rule that real judges may be asked for."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from tests.program import run
from tests.real import guest, kernel

settings.register_profile("narvet", deadline=None, derandomize=True, max_examples=150)
settings.load_profile("narvet")


def pytest_runtest_setup(item: pytest.Item) -> None:
    """Skip what needs a real judge this machine lacks, or fail where the judges are required."""
    for mark, missing in (("kernel", kernel.missing), ("guest", guest.missing_programs)):
        if item.get_closest_marker(mark) is None:
            continue
        lacking = ", ".join(missing())
        if lacking and os.environ.get("NARVET_REQUIRE_REAL") == "1":
            pytest.fail(f"NARVET_REQUIRE_REAL is set, but this machine lacks {lacking}")
        if lacking:
            pytest.skip(f"this machine lacks {lacking}")


@pytest.fixture(scope="session")
def example(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The example laid out and written by `narvet demo`; tests leave it as it is."""
    folder = tmp_path_factory.mktemp("example") / "larkmoor"
    done = run("demo", str(folder))
    assert done.returncode == 0, done.stderr
    return folder


@pytest.fixture
def shared_memory() -> Iterator[Path]:
    """A folder on a filesystem in memory, whose files can be larger than 16 TiB."""
    folder = Path("/dev/shm") / f"narvet-{os.getpid()}"  # noqa: S108 (its kind of filesystem is the point)
    folder.mkdir()
    yield folder
    shutil.rmtree(folder)
