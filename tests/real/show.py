"""After `make demo`: this machine's kernel mounts every disk of the example and is asked what it shows.

python -m tests.real.show SHEET
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from narvet.work.gather import lay_out
from tests.real import kernel


def main() -> None:
    """Print what was promised and what the kernel shows, side by side."""
    if lacking := kernel.missing():
        print(f"\nThis machine lacks {', '.join(lacking)}, so its kernel is not asked to mount the disks.")
        return
    layout, _ = lay_out(Path(sys.argv[1]))
    print("\nMounted by this machine's own kernel, bytes available to fill:\n")
    with tempfile.TemporaryDirectory() as folder:
        for disk in layout.disks:
            image = kernel.as_raw(Path(disk.path), Path(folder, "copy"))
            for part in (part for part in disk.partitions if part.filesystem):
                if not kernel.knows(part.filesystem or ""):
                    print(f"  {part.at or part.label:20} {part.filesystem} is not one that this kernel mounts")
                    continue
                with kernel.mounted(image, Path(folder), part.start, part.size) as place:
                    there = kernel.shown(place)["available"]
                promised = part.shows.available if part.shows else 0
                verdict = "as promised" if there == promised else "NOT AS PROMISED"
                print(f"  {part.at or part.label:20} promised {promised:>17,}  shown {there:>17,}  {verdict}")


if __name__ == "__main__":
    main()
