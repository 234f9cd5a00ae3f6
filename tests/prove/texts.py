"""Hostile texts: sheets, tables of requests, accounts and fstabs, cut, doubled and mixed up; only a sentence may come of it."""

from __future__ import annotations

import random
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from tests.program import make_root
from tests.prove.scenarios import SHEET
from tests.prove.shim import call

SECONDS = 20  # that one of them may take
_PIECES = (
    b"\0", b"\xff\xfe", b"\n", b'"', b"'''", b"[[", b"]]", b"=", b"#", b".", b",", b";", b"\\", b"\x1b[2J", b"9" * 5000,
    b"{", b"}", b"[disk.a]", b"size", b'"1 GiB"', b"1e999", b"nan", b"0x", b"\xe2\x80\xa8", b"../", b"/", b":", b"UUID=", b" \t",
)  # fmt: skip
_CSV = b"disk,guest,store,size,at\nb,seedling,shelf,1 GiB,/srv/b\nc,seedling,shelf,2 GiB,/srv/c\n"


def mangled(text: bytes, dice: random.Random) -> bytes:
    """Return a text with some pieces put in, taken out, doubled or changed."""
    data = bytearray(text)
    for _ in range(dice.choice((1, 1, 2, 5, 20))):
        place, length = dice.randrange(len(data) + 1), dice.choice((1, 2, 10, 100))
        kind = dice.randrange(4)
        if kind == 0:
            data[place:place] = dice.choice(_PIECES)
        elif kind == 1:
            del data[place : place + length]
        elif kind == 2:
            data[place:place] = data[place : place + length] * dice.choice((2, 50))
        elif place < len(data):
            data[place] = dice.randrange(256)
    return bytes(data)


def campaign(seed: int, count: int) -> Iterator[tuple[str, list[str]]]:
    """Yield name and faults of so many mangled texts."""
    from tests.program import make_sheet

    dice = random.Random(seed)
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        folder = Path(name)
        sheet, table = make_sheet(folder, SHEET), folder / "r.csv"
        root = make_root(folder / "kept", b"UUID=1-2 /srv/x ext4 defaults 0 2\n")
        sound = {sheet: sheet.read_bytes(), table: _CSV} | {
            folder / "root" / "etc" / one: (root / "etc" / one).read_bytes() for one in ("passwd", "group", "fstab")
        }
        for number in range(count):
            for path, content in sound.items():
                path.write_bytes(content)
            path = dice.choice(list(sound))
            path.write_bytes(mangled(sound[path], dice))
            words = ["draft", str(sheet), "--from", str(table)] if path == table else ["review", str(sheet)]
            start = time.monotonic()
            done = call(words)
            faults = [] if done.status in (0, 1, 2, 3) else [f"status {done.status}: {done.printed[-300:]}"]
            faults += [f"{done.printed[-400:]}"] if "fault of its own" in done.printed or "\x1b" in done.printed else []
            faults += ["too slow"] if time.monotonic() - start > SECONDS else []
            yield f"{path.name}, text {number}", faults
