"""The example: a made-up seed bank's sheet and the roots of its guests, laid out in a new folder."""

from __future__ import annotations

import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import as_file, files
from pathlib import Path

from narvet.demo.root_image import root_image
from narvet.ground.errors import RequestError

STORES = ("vault", "annex")
WORDS_FILE = "passphrase"
"""The file with the passphrase of what is sealed in the example, beside its sheet."""
ROOM = Path("teaching") / "room.toml"
RACKS = ("rack1", "rack2", "rack3")
HYPERVISOR = "qemu-system-x86_64"
# What the seed bank wants differently some weeks later: the table, what the sheet says in it, and what it says then.
LATER = (
    ("disk.trials", '"120 GiB"', '"160 GiB"'),
    ("disk.notes", '"/srv/notes"', '"/srv/journals"'),
    ("disk.notes", '"0755"', '"2775"'),
    ("pool.cold", '"1.4 TiB"', '"1.7 TiB"'),
)
JOINS = """
# The readings fill their two disks, so a third one joins them.
[disk.cold-c]
guest  = "coldroom"
store  = "vault"
size   = "256 GiB"
sector = 4096

[[disk.cold-c.partition]]
pool = "cold"
"""


def lay_example_out(folder: Path) -> Path:
    """Make `folder` with the example in it, and return its sheet.

    Raises:
        RequestError: the folder exists and is not empty.
        OSError: the system does not let it be made.
    """
    if folder.exists() and (not folder.is_dir() or next(folder.iterdir(), None) is not None):
        raise RequestError(f"{folder} is there already; name a new folder for the example")
    with as_file(files(__name__) / "larkmoor") as example:
        shutil.copytree(example, folder, dirs_exist_ok=True)
    for store in STORES:
        (folder / "stores" / store).mkdir(parents=True)
    for rack in RACKS:
        (folder / ROOM.parent / rack / "shelf").mkdir(parents=True)
    root_image(folder / "guests" / "coldroom")
    (folder / WORDS_FILE).write_text("fourteen trays of spring intake\n", encoding="utf-8")
    return folder / "sheet.toml"


@contextmanager
def halted_guest(sheet: Path) -> Iterator[bool]:
    """Run the example's guest germination as far as its door goes: a QEMU that is halted before its first instruction.

    Yields whether it runs: not where this machine has no QEMU, or the folder does not take a socket.
    """
    program, folder = shutil.which(HYPERVISOR), sheet.resolve().parent / "run"
    if program is None:
        yield False
        return
    folder.mkdir(exist_ok=True)
    socket = folder / "germination.sock"
    words = [
        program, "-S", "-accel", "tcg", "-m", "64", "-nodefaults", "-display", "none", "-device", "virtio-scsi-pci",
        "-qmp", f"unix:{socket.name},server=on,wait=off",
    ]  # fmt: skip
    silent = subprocess.DEVNULL
    with subprocess.Popen(words, cwd=folder, stdin=silent, stdout=silent, stderr=silent) as guest:  # noqa: S603
        try:
            for _ in range(100):
                if socket.exists() or guest.poll() is not None:
                    break
                time.sleep(0.1)
            yield guest.poll() is None and socket.exists()
        finally:
            guest.kill()
    socket.unlink(missing_ok=True)


def change_example(sheet: Path) -> tuple[str, ...]:
    """Change the laid-out `sheet` as the seed bank does some weeks later, and return the disks that it changes.

    Raises:
        RequestError: the sheet no longer says what the example said.
        OSError: the system does not let it be read or written.
    """
    text = sheet.read_text(encoding="utf-8")
    for table, said, says in LATER:
        before, head, after = text.partition(f"[{table}]")
        if said not in after:
            raise RequestError(f"{sheet} no longer gives {said} to {table}; lay the example out anew")
        text = before + head + after.replace(said, says, 1)
    sheet.write_text(text + JOINS, encoding="utf-8")
    return "trials", "notes", "cold-c"


def room_sheet(folder: Path) -> Path:
    """Return the sheet of the teaching room, which is about several hosts, in the example's `folder`."""
    return folder / ROOM


def change_room(sheet: Path) -> None:
    """Change the teaching room's `sheet`: the store of a disk is on another host.

    Raises:
        OSError: the system does not let it be read or written.
    """
    before, head, after = sheet.read_text(encoding="utf-8").partition("[disk.lesson]")
    sheet.write_text(before + head + after.replace("shelf1", "shelf3", 1), encoding="utf-8")
