"""The installed program as a user calls it, and small sheets to call it with."""

from __future__ import annotations

import hashlib
import json
import os
import pty
import re
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any

import jsonschema

from narvet.formats.filesystems.trees import Owner
from narvet.formats.images.trust import Trust
from narvet.ground.findings import image_place
from narvet.guests.roots import changed_root
from narvet.model.estate import Root

PROGRAM = Path(sys.executable).with_name("narvet")
SCHEMAS = Path(__file__).parent.parent / "docs" / "schemas"
MOST_CHECKED = 200_000  # characters
HERE = image_place("here")
LABEL = {"security.selinux": b"system_u:object_r:etc_t:s0\0"}
_BLOCK = 1 << 18
_ZEROS = bytes(_BLOCK)
IDENTITY = "5f0c1b52-0d0e-4f4a-9d55-0d6a3c1f2b11"


def digest(read: Callable[[int, int], bytes], start: int, length: int, blocks: Iterable[int] | None = None) -> str:
    """Return a checksum of bytes that `read` gives; blocks of zeros, of which disks are full, cost next to nothing.

    `blocks` is where blocks begin that may hold anything else.
    """
    made = hashlib.sha256(str(length).encode())
    for at in range(0, length, _BLOCK) if blocks is None else blocks:
        block = read(start + at, min(_BLOCK, length - at))
        if block != _ZEROS[: len(block)]:
            made.update(b"%d:" % at + block)
    return made.hexdigest()


def file_digest(path: Path) -> str:
    """Return a checksum of a file; its holes are passed over."""
    with path.open("rb", buffering=0) as file:
        size = path.stat().st_size
        return digest(lambda at, length: os.pread(file.fileno(), length, at), 0, size, _stored(file.fileno(), size))


def _stored(file: int, size: int) -> Iterator[int]:
    at = 0
    with suppress(OSError):  # only a hole is left
        while at < size:
            at = os.lseek(file, at, os.SEEK_DATA) // _BLOCK * _BLOCK
            yield at
            at += _BLOCK


def run(*words: str, status: int | None = None, **options: Any) -> subprocess.CompletedProcess[str]:
    """Run `narvet`; no call may end in a traceback, and `status` is the exit status expected."""
    done = subprocess.run([PROGRAM, *words], capture_output=True, text=True, check=False, **options)
    assert "Traceback" not in done.stderr, done.stderr
    if status is not None:
        assert done.returncode == status, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}"
    return done


def facts(*words: str, status: int | None = 0, **options: Any) -> Any:
    """Run `narvet … --json` and return what it printed, which must be just what the published schema says."""
    text = run(*words, "--json", status=status, **options).stdout
    found = json.loads(text)
    if len(text) < MOST_CHECKED:
        errors = [error.message[:200] for error in checker(words[0]).iter_errors(found)]
        assert not errors, errors
    return found


@lru_cache
def checker(command: str) -> jsonschema.Draft202012Validator:
    """Return a reader of a command's published schema that takes no keys but those in it."""
    schema = json.loads((SCHEMAS / f"{command}.json").read_text())
    for shape in (schema, *schema.get("$defs", {}).values()):
        if "properties" in shape:
            shape["additionalProperties"] = False
    return jsonschema.Draft202012Validator(schema)


def talk(words: list[str], answers: Iterable[str], folder: Path, stop: bool = False) -> tuple[int, str]:
    """Answer the questions of a call on a terminal, one after another; return its status and all that it showed."""
    main, worker = pty.openpty()
    process = subprocess.Popen(
        [PROGRAM, *words], stdin=worker, stdout=worker, stderr=worker, cwd=folder, start_new_session=True
    )
    os.close(worker)
    whole = ""
    for answer in answers:
        shown = b""
        while not re.search(rb"(: |\? )$", shown):
            try:
                shown += os.read(main, 4096)
            except OSError:
                raise AssertionError(f"it ended before {answer!r} was asked for: {whole}{shown!r}") from None
        whole += shown.decode()
        os.write(main, f"{answer}\n".encode())
    if stop:
        time.sleep(0.3)
        process.send_signal(signal.SIGTERM)  # as SIGINT, which a shell has its background ignore
    with suppress(OSError):  # the end of a terminal
        while part := os.read(main, 4096):
            whole += part.decode("utf-8", "replace")
    os.close(main)
    return process.wait(), whole


def make_root(folder: Path, fstab: bytes = b"") -> Path:
    """Make a small guest root with two accounts."""
    (folder / "etc").mkdir(parents=True)
    (folder / "etc" / "fstab").write_bytes(fstab)
    (folder / "etc" / "passwd").write_text("root:x:0:0::/root:/bin/sh\ncurator:x:1201:1300::/home:/bin/sh\n")
    (folder / "etc" / "group").write_text("root:x:0:\nlab:x:1300:curator\n")
    return folder


def fill_root(image: Path, folder: Path, partition: int | str = 1, members: tuple[str, ...] = ()) -> Path:
    """Copy what a folder has into a filesystem of an image, all at once, as root's and with a label of its own."""
    root = Root(str(image), partition, Trust(by_content=True), 1772409600, members)
    with changed_root(root, lambda _: True) as there:
        for path in sorted(folder.rglob("*")):
            inside = str(path.relative_to(folder))
            with there.place(inside) as place:
                if path.is_dir():
                    there.edited.make_folder(place.folder, path.name, Owner(0, 0, 0o755), LABEL)
                elif path.is_file():
                    there.edited.replace(place.folder, path.name, path.read_bytes())
    return image


def make_sheet(folder: Path, disks: str, store: str = "", guest: str = 'root = "root"') -> Path:
    """Write a sheet with one guest, `seedling`, and one store, `shelf`, and make both their folders."""
    (folder / "shelf").mkdir(parents=True, exist_ok=True)
    if not (folder / "root").exists():
        make_root(folder / "root")
    sheet = folder / "sheet.toml"
    sheet.write_text(
        f'sheet = 1\nidentity = "{IDENTITY}"\n[store.shelf]\npath = "shelf"\n{store}\n[guest.seedling]\n{guest}\n{disks}\n'
    )
    return sheet


def disk(name: str, keys: str = 'size = "64 MiB"', *partitions: str) -> str:
    """Return the tables of a disk for `make_sheet`."""
    parts = "".join(f"[[disk.{name}.partition]]\n{part}\n" for part in partitions)
    return f'[disk.{name}]\nguest = "seedling"\nstore = "shelf"\n{keys}\n{parts}'


def rules(review: Any) -> list[str]:
    """Return the rules of the findings of a review or survey, less what depends on how large this machine's disk is."""
    return [finding["rule"] for finding in review["findings"] if finding["rule"] != "store-room-beyond"]
