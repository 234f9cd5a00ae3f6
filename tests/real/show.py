"""After `make demo`: this machine's kernel mounts every disk of the example and is asked what it shows.

Then the guest whose root is an image is started from it, where that can be done, and mounts its disks by itself.

python -m tests.real.show SHEET
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import narvet
from narvet.block.window import Window
from narvet.formats.images.chain import open_image
from narvet.formats.images.trust import Trust
from narvet.ground.units import MIB
from tests.pool_reader import member_id, newest, rings, tables
from tests.real import guest, kernel

FORMATS = {"vhd": "vpc"}
START = """mkdir -p /mnt/root; mount {device}{partition} /mnt/root && cd /mnt/root || exit
mkdir -p bin; cp /bin/busybox bin; mount -t devtmpfs dev dev; mount -t proc proc proc
chroot . /bin/busybox sh -c '/bin/busybox mount -a 2>&1; for at in {points}; do
    echo "$at shows $(/bin/busybox stat -f -c "%S %b %f %a" $at)"; done'
"""


def main() -> None:
    """Print what was promised and what real kernels show, side by side."""
    layout = narvet.review(Path(sys.argv[1])).layout
    if lacking := kernel.missing():
        print(f"\nThis machine lacks {', '.join(lacking)}, so its kernel is not asked to mount the disks.")
    else:
        mounted_here(layout)
    for one in layout.found.guests.values():
        if one.root is not None and one.root.partition is not None and layout.systems[one.name] == "linux":
            started(layout, one)


def mapping(disks: list[guest.Attached]) -> list[str]:
    """Return the lines of a script that put the volumes on disks together, by a reader of the tests' own.

    A guest ends them before its power goes, as an orderly one does: otherwise a mirror may be left half written down.
    """
    texts, devices = dict[str, bytes](), dict[str, str]()
    for disk in disks:
        with open_image(disk.path, trust=Trust(by_content=True)) as device:
            if device.size < 3 * MIB:
                continue
            part = Window(device, MIB, device.size - 2 * MIB)
            start = part.read(0, 4096)
            if start[512:520] == b"LABELONE":
                devices[member_id(start)] = f"$(echo {guest.device_at(disk.position)[:-1]})1)"
                found = {newest(part.read(*ring)) for ring in rings(start)}
                assert len(found) == 1
                texts |= {one.split(b" ", 1)[0].decode(): one for one in found}
    lines = []
    for text in texts.values():
        for name, rows in tables(text, devices):
            lines += [f"map {name} >> /tmp/mapped <<END || echo 'map failed {name}'", *rows, "END"]
    return lines


def compared(name: str, promised: int, there: int | None) -> str:
    """Return a line that says whether what a kernel shows is what was promised, in bytes; None for nothing at all."""
    verdict = "as promised" if there == promised else "NOT AS PROMISED"
    return f"  {name:20} promised {promised:>17,}  shown {there or 0:>17,}  {verdict}"


def started(layout: narvet.Layout, of: narvet.Guest) -> None:
    """Start a guest from the image with its root, and print what it mounts by its own table of mounts; nothing is kept."""
    if lacking := guest.missing_programs():
        print(f"\nThis machine lacks {', '.join(lacking)}, so that guest {of.name} is not started.")
        return
    assert of.root is not None
    own = [disk for disk in layout.disks if disk.guest == of.name]
    every = [disk for disk in layout.mountable if disk.guest == of.name]
    parts = {part.at: part.capacity.available for disk in every for part in disk.wanted.partitions if part.capacity}
    disks = [guest.Attached(Path(of.root.path), 0, "qcow2", kept=True)]
    for position, disk in enumerate(own, 1):
        image = disk.wanted.image
        kind = FORMATS.get(image.format, image.format)
        disks.append(guest.Attached(Path(disk.path), position, kind, image.sector_size or 512, kept=True))
    points = " ".join(at for at in parts if at)
    script = (
        "\n".join(mapping(disks))
        + "\n"
        + START.format(device=guest.device_at(0), partition=of.root.partition, points=points)
    )
    try:
        answers = guest.Answers.of(guest.boot(disks, script))
    except (subprocess.CalledProcessError, OSError):
        print(f"\nGuest {of.name} is not started: a kernel for it is not here, and could not be fetched.")
        return
    print(f"\nGuest {of.name}, started from its root in {of.root.shown()}, mounted its disks by itself:\n")
    for at, promised in parts.items():
        print(
            compared(str(at), promised, answers.shows(str(at))["available"] if f"{at} shows" in answers.said else None)
        )


def mounted_here(layout: narvet.Layout) -> None:
    """Let this machine's kernel mount every disk."""
    print("\nMounted by this machine's own kernel, bytes available to fill:\n")
    with tempfile.TemporaryDirectory() as folder:
        for disk in layout.disks:
            image = kernel.as_raw(Path(disk.path), Path(folder, "copy"))
            for part in (part for part in disk.wanted.partitions if part.capacity):
                name, kind = part.at or part.entry.label, part.filesystem.kind if part.filesystem else ""
                if part.seal is not None:
                    print(f"  {name:20} is sealed, and this kernel has no cipher for disks")
                    continue
                if not kernel.knows(kind):
                    print(f"  {name:20} {kind} is not one that this kernel mounts")
                    continue
                with kernel.mounted(image, Path(folder), part.start, part.size) as place:
                    there = kernel.shown(place)["available"]
                print(compared(name, part.capacity.available if part.capacity else 0, there))


if __name__ == "__main__":
    main()
