"""The shim in the C library's place: built, preloaded, armed; and commands run under it in processes of their own."""

from __future__ import annotations

import ctypes
import importlib
import os
import pkgutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import narvet

CHANGES, OTHERS = 1, 2  # the kinds of calls that are counted
SOURCE = Path(__file__).with_name("shim.c")
_KILLED = 9


@dataclass(frozen=True)
class Ended:
    """How a command ended: its status, None where it was killed; what it printed; calls counted and refused."""

    status: int | None
    printed: str
    counted: int
    refused: int


def build(folder: Path) -> Path:
    """Compile the shim."""
    library = folder / "shim.so"
    subprocess.run(["gcc", "-O1", "-shared", "-fPIC", "-o", library, SOURCE, "-ldl"], check=True, capture_output=True)
    return library


def preloaded(words: list[str], **options: object) -> subprocess.CompletedProcess[str]:
    """Run a module of this package in a new interpreter with the shim preloaded."""
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "LD_PRELOAD": str(build(Path(folder)))}
        command = [sys.executable, "-m", *words]
        return subprocess.run(command, env=environment, text=True, check=False, **options)  # type: ignore[call-overload, no-any-return]


@cache
def library() -> ctypes.CDLL:
    """Return the preloaded shim."""
    found = ctypes.CDLL(None)
    found.shim_arm.argtypes = [ctypes.c_long, ctypes.c_int, ctypes.c_int, ctypes.c_int]
    found.shim_counted.restype = found.shim_refused.restype = ctypes.c_long
    return found


@cache
def _warm() -> None:
    """Import everything beforehand, so that a command's calls are its own work."""
    for module in pkgutil.walk_packages(narvet.__path__, "narvet."):
        importlib.import_module(module.name)
    for name in ("zstandard", "openpyxl", "rich.progress", "numpy", "xml.etree.ElementTree", "encodings.idna"):
        importlib.import_module(name)


def call(words: list[str], *, at: int = -1, error: int = 0, kinds: int = CHANGES | OTHERS, log: int = -1) -> Ended:
    """Run `narvet` in a process of its own; at call `at` it is killed, or that call is refused with `error`."""
    shim = library()
    _warm()
    with tempfile.TemporaryFile() as printed, tempfile.TemporaryFile() as counts:
        process = os.fork()
        if not process:
            os.dup2(printed.fileno(), 1)
            os.dup2(printed.fileno(), 2)
            status = 70
            try:
                shim.shim_arm(at, error, kinds, log)
                status = _run(words)
            finally:
                found = shim.shim_counted(), shim.shim_refused()
                shim.shim_arm(-1, 0, 0, -1)
                os.pwrite(counts.fileno(), b"%d %d" % found, 0)
                os._exit(status)
        _, ended = os.waitpid(process, 0)
        counted, refused = (int(word) for word in (os.pread(counts.fileno(), 64, 0) or b"0 0").split())
        text = os.pread(printed.fileno(), 1 << 20, 0).decode(errors="replace")
    killed = os.WIFSIGNALED(ended) and os.WTERMSIG(ended) == _KILLED
    return Ended(None if killed else os.waitstatus_to_exitcode(ended), text, counted, refused)


def _run(words: list[str]) -> int:
    from narvet.cli.main import cli

    try:
        cli(args=words, prog_name="narvet")
    except SystemExit as done:
        sys.stdout.flush()
        return int(done.code or 0)
    return 0
