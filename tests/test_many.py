"""Many disks, alike and unlike: each is written as if it were alone, whatever it shares the working out with."""

from __future__ import annotations

import random
from itertools import product
from pathlib import Path

from narvet.block.locks import exclusive_lock
from tests.program import IDENTITY, facts, file_digest, run

SIZES = ("100 MiB", "100.5 MiB", "103 MiB", "340 MiB", "5 GiB")
CONTENTS = (
    'filesystem = "ext4"',
    'filesystem = "ext4"\nfor = "media"',
    'filesystem = "ext4"\nowner = "5000:5000"\nmode = "0750"',
    'filesystem = "xfs"',
    'filesystem = "swap"',
    'filesystem = "fat32"',
)
SHARES = ("", 'size = "100%"\n', 'size = "40%"\n', 'size = "33 MiB"\n')
TABLES = ("gpt", "mbr")
CASES = [
    case
    for case in product(SIZES, CONTENTS, SHARES, TABLES)
    if "xfs" not in case[1] or ("100" not in case[0] and case[2] in SHARES[:2])
]
EACH = 40


def head(folder: Path) -> str:
    (folder / "shelf").mkdir(parents=True)
    guests = "".join(f'[guest.g{n}]\nslots = ["scsi 0-{EACH}"]\n' for n in range(-(-len(CASES) // EACH)))
    return f'sheet = 1\nidentity = "{IDENTITY}"\n[store.shelf]\npath = "shelf"\n{guests}'


def disk(number: int) -> str:
    size, content, share, table = CASES[number]
    text = f'[disk.d{number}]\nguest = "g{number // EACH}"\nstore = "shelf"\nsize = "{size}"\ntable = "{table}"\n'
    at = "" if "swap" in content else f'at = "/srv/d{number}"\n'
    return f"{text}[[disk.d{number}.partition]]\n{share}{content}\n{at}"


def test_each_of_many_is_as_if_it_were_alone(tmp_path: Path) -> None:
    """By one process or several, and the same bytes as one disk by itself; what is told of very many are totals."""
    many, again, dice = tmp_path / "many", tmp_path / "again", random.Random(5)
    order = dice.sample(range(len(CASES)), len(CASES))
    for folder in (many, again):
        folder.mkdir()
        (folder / "s.toml").write_text(head(folder) + "".join(map(disk, order)))
    with exclusive_lock(*(many / f"shelf/d{number}.raw" for number in order[20:22])):  # two among many done in turn
        refused = run("write", str(many / "s.toml"), "--jobs", "2", status=1).stderr
    assert f"Of {len(CASES)} steps {len(CASES) - 2} are done; 2 failed." in " ".join(refused.split()), refused
    told = run("write", str(many / "s.toml"), status=0).stdout
    assert all(f"d{number}.raw" in told for number in order[20:22]) and len(CASES) > 200
    assert facts("confirm", str(many / "s.toml"))["agrees"]
    told = run("write", str(again / "s.toml"), "--jobs", "1", status=0).stdout
    assert f" {len(CASES)} 0 " in " ".join(told.split()) and len(told.split("\n")) < 10
    assert f"d{order[-1]}" in run("history", str(again / "s.toml"), f"d{order[-1]}", status=0).stdout
    for number in order:
        assert file_digest(many / f"shelf/d{number}.raw") == file_digest(again / f"shelf/d{number}.raw"), CASES[number]
    for number in dice.sample(order, 6):
        alone = tmp_path / f"alone{number}"
        alone.mkdir()
        (alone / "s.toml").write_text(head(alone) + disk(number))
        run("write", str(alone / "s.toml"), "--jobs", "1", status=0)
        assert file_digest(many / f"shelf/d{number}.raw") == file_digest(alone / f"shelf/d{number}.raw"), CASES[number]
