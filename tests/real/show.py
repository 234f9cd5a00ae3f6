"""After `make demo`: this machine's kernel mounts every disk of the example and is asked what it shows.

python -m tests.real.show SHEET
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import narvet
from tests.real import kernel


def main() -> None:
    """Print what was promised and what the kernel shows, side by side."""
    if lacking := kernel.missing():
        print(f"\nThis machine lacks {', '.join(lacking)}, so its kernel is not asked to mount the disks.")
        return
    layout = narvet.review(Path(sys.argv[1])).layout
    print("\nMounted by this machine's own kernel, bytes available to fill:\n")
    with tempfile.TemporaryDirectory() as folder:
        for disk in layout.disks:
            image = kernel.as_raw(Path(disk.path), Path(folder, "copy"))
            for part in (part for part in disk.wanted.partitions if part.capacity):
                name, kind = part.at or part.entry.label, part.filesystem.kind if part.filesystem else ""
                if not kernel.knows(kind):
                    print(f"  {name:20} {kind} is not one that this kernel mounts")
                    continue
                with kernel.mounted(image, Path(folder), part.start, part.size) as place:
                    there = kernel.shown(place)["available"]
                promised = part.capacity.available if part.capacity else 0
                verdict = "as promised" if there == promised else "NOT AS PROMISED"
                print(f"  {name:20} promised {promised:>17,}  shown {there:>17,}  {verdict}")


if __name__ == "__main__":
    main()
