"""The installed program on a disk of its own, with the interpreter and all it needs, to be run inside a guest."""

from __future__ import annotations

import importlib.util
import re
import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path

from tests.program import run
from tests.real.kernel import mounted

PACKAGES = (
    "click", "crc32c", "markdown_it", "mdurl", "msgspec", "narvet", "numpy", "pygments", "rich", "tomli", "tomlkit", "typing_extensions",
)  # fmt: skip
_NOT_NEEDED = shutil.ignore_patterns(
    "__pycache__",
    "test",
    "tests",
    "idlelib",
    "tkinter",
    "lib2to3",
    "ensurepip",
    "site-packages",
    "config-*",
    "pydoc_data",
)
_START = 1 << 20

RUN = """#!/bin/sh
PYTHONHOME=/py/home PYTHONPATH=/py/packages LD_LIBRARY_PATH=/py/lib PYTHONDONTWRITEBYTECODE=1 \\
    exec /py/lib/loader /py/home/bin/python -c 'from narvet.cli.main import run; run()' "$@"
"""


def carried(folder: Path, sheet: str) -> Path:
    """Make an ext4 on a raw image with the program, `narvet`, and a sheet, to be mounted at /py; return the image."""
    image = folder / "carried.raw"
    run("make", str(image), "--size", "512 MiB", "--table", "none", "--filesystem", "ext4", status=0)
    with mounted(image, folder) as root:
        stdlib = Path(sysconfig.get_path("stdlib"))
        shutil.copytree(stdlib, root / "home" / "lib" / stdlib.name, ignore=_NOT_NEEDED, symlinks=False)
        (root / "home" / "bin").mkdir()
        shutil.copy(Path(sys.executable).resolve(), root / "home" / "bin" / "python")
        (root / "packages").mkdir()
        for name in PACKAGES:
            _copy_package(name, root / "packages")
        (root / "lib").mkdir()
        binaries = [root / "home" / "bin" / "python", *root.rglob("*.so"), *root.rglob("*.so.*")]
        for library in {one for binary in binaries for one in _libraries(binary)}:
            if not (root / "lib" / library.name).exists():
                shutil.copy(library, root / "lib" / library.name)
        shutil.copy(next(path for path in Path("/lib64").glob("ld-linux*")), root / "lib" / "loader")
        (root / "narvet").write_text(RUN)
        (root / "narvet").chmod(0o755)
        (root / "sheet.toml").write_text(sheet)
    return image


def _copy_package(name: str, place: Path) -> None:
    found = importlib.util.find_spec(name)
    assert found is not None and found.origin is not None, name
    origin = Path(found.origin)
    for about in Path(sysconfig.get_path("purelib")).glob(f"{name}-*.dist-info"):
        shutil.copytree(about, place / about.name)
        for line in (about / "RECORD").read_text().splitlines():  # what compiled modules of a package share lies beside
            if (shared := line.partition(",")[0]).endswith(".so") and "/" not in shared:
                shutil.copy(about.parent / shared, place / shared)
    if origin.name.startswith("__init__."):
        shutil.copytree(origin.parent, place / name, ignore=_NOT_NEEDED)
        beside = origin.parent.with_name(f"{name}.libs")
        if beside.is_dir():
            shutil.copytree(beside, place / beside.name)
    else:
        shutil.copy(origin, place / origin.name)


def _libraries(binary: Path) -> list[Path]:
    told = subprocess.run(["ldd", str(binary)], capture_output=True, text=True, check=False).stdout
    return [Path(path) for path in re.findall(r"=> (/\S+)", told)]
