"""Say how much of the code the tests went through, branches counted, and where less than most of it.

Usage: python -m tests.covered FILE, the report of `coverage json`.
"""

from __future__ import annotations

import json
import sys
from itertools import pairwise
from pathlib import Path

MOST = 90  # percent


def runs(lines: list[int]) -> str:
    """Return line numbers in rising order as ranges."""
    starts = [lines[0], *(after for before, after in pairwise(lines) if after != before + 1)]
    ends = [*(before for before, after in pairwise(lines) if after != before + 1), lines[-1]]
    return ", ".join(f"{start}-{end}" if end > start else str(start) for start, end in zip(starts, ends, strict=True))


def main() -> None:
    """Print the report."""
    report = json.loads(Path(sys.argv[1]).read_text())
    low = {name: file for name, file in report["files"].items() if file["summary"]["percent_covered"] < MOST}
    for name, file in sorted(low.items()):
        missed = sorted({*file["missing_lines"], *(start for start, _ in file["missing_branches"])})
        print(f"{file['summary']['percent_covered']:5.1f} %  {name}: {runs(missed)}")
    print(f"{report['totals']['percent_covered']:5.1f} %  of all lines and branches; above: files below {MOST} %")


if __name__ == "__main__":
    main()
