"""The guests: what each is given is made ready, then all boot side by side, which takes as long as the slowest."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.real.guest import Answers, boot


@dataclass(frozen=True)
class Used:
    """What a guest was given, in a folder and in one in memory for files of terabytes, and what it printed."""

    folder: Path
    memory: Path
    answers: Answers


@pytest.fixture(scope="session")
def guests(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, Used]]:
    """The guests of the modules whose tests run, by module; each module's `prepare` returns disks and a script."""
    modules = {item.module.__name__: item.module for item in request.session.items if isinstance(item, pytest.Function)}
    memory = Path(tempfile.mkdtemp(dir="/dev/shm"))
    try:
        with ThreadPoolExecutor() as together:
            running = {}
            for name, module in sorted(modules.items()):
                if hasattr(module, "prepare"):
                    folder, own = tmp_path_factory.mktemp("guest"), memory / name
                    own.mkdir()
                    running[name] = folder, own, together.submit(boot, *module.prepare(folder, own))
            found = {
                name: Used(folder, own, Answers.of(done.result())) for name, (folder, own, done) in running.items()
            }
        yield found
    finally:
        shutil.rmtree(memory)
