"""Stores as facts, their room in a layout, and where the keys of a sheet stand."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from narvet.ground.units import GIB, MIB, TIB
from narvet.model.estate import Estate, Store
from narvet.model.facts import Facts
from narvet.model.layout import Layout
from narvet.observe import stores
from narvet.observe.stores import observe_store
from narvet.plan.layout import plan
from narvet.plan.resolve import settled
from narvet.sheet.lines import key_lines, nearest_line
from narvet.sheet.read import parse_sheet
from tests.program import IDENTITY, disk


def test_facts_of_a_real_folder(tmp_path: Path) -> None:
    found, told = observe_store(str(tmp_path)), os.statvfs(tmp_path)
    assert found.exists and found.writable
    assert abs(found.free - told.f_bavail * told.f_frsize) < 64 * MIB
    listed = [line.split() for line in Path("/proc/mounts").read_text().splitlines()]
    assert found.filesystem in {row[2] for row in listed}
    assert observe_store("/dev/shm").filesystem == "tmpfs"  # noqa: S108
    assert not observe_store(str(tmp_path / "gone")).exists
    (tmp_path / "file").write_text("x")
    assert not observe_store(str(tmp_path / "file")).exists


@pytest.mark.parametrize(
    ("kind", "limit"),
    [("ext4", 16 * TIB - 4096), ("ext3", 2 * TIB), ("vfat", 4 * GIB - 1), ("xfs", (1 << 63) - 1), ("odd", None)],
)
def test_the_largest_file_of_each_filesystem(
    tmp_path: Path, kind: str, limit: int | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(stores, "_filesystem_kind", lambda _: kind)
    block = os.statvfs(tmp_path).f_bsize
    expected = limit if kind != "ext4" else ((1 << 32) - 1) * block
    assert observe_store(str(tmp_path)).largest_file == expected


def test_a_limit_set_on_this_process_counts(tmp_path: Path) -> None:
    done = subprocess.run(
        ["bash", "-c", f'ulimit -f 1024; exec "{sys.executable}" -c "$1"', "x",
         f"from narvet.observe.stores import observe_store; print(observe_store({str(tmp_path)!r}).largest_file)"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert int(done.stdout) == MIB


def laid(stores_text: str, disks: str, stores: dict[str, Store]) -> Layout:
    text = f'sheet = 1\nidentity = "{IDENTITY}"\n[guest.seedling]\n{stores_text}{disks}'
    return plan(settled(parse_sheet(text, Path("sheet"))), Facts(Estate(stores=stores)))


@pytest.mark.parametrize(
    ("keys", "room", "kept", "left"),
    [
        ("", 100 * GIB, 0, 90 * GIB),
        ('room = "50 GiB"', 50 * GIB, 0, 40 * GIB),
        ('room = "50 GiB"\nkeep_free = "10%"', 50 * GIB, 5 * GIB, 35 * GIB),
        ('keep_free = "95 GiB"', 100 * GIB, 95 * GIB, -5 * GIB),
    ],
)
def test_room_kept_promised_and_left(keys: str, room: int, kept: int, left: int) -> None:
    facts = {"shelf": Store("shelf", exists=True, writable=True, free=100 * GIB, total=200 * GIB)}
    layout = laid(f'[store.shelf]\npath = "shelf"\n{keys}\n', disk("a", 'size = "10 GiB"', ""), facts)
    store = layout.stores[0]
    assert (store.room, store.kept, store.promised, store.present, store.left) == (room, kept, 10 * GIB, 0, left)
    found = [finding.rule for finding in layout.findings]
    assert found == (["store-overpromised"] if left < 0 else [])


SHEET = '''# a comment with [brackets] and key = "value"
title = """
[store.not] = 1
"""
[store.vault]
path = "x"
"odd key" = 1

[[disk.a.partition]]
label = "one"
[[disk.a.partition]]
label = 'two' # [disk.b]
[disk.a.partition.more]
x.y = 1
[disk."b.c"]
size = 1
'''


@pytest.mark.parametrize(
    ("path", "line"),
    [
        (("title",), 2),
        (("store", "vault"), 5),
        (("store", "vault", "path"), 6),
        (("store", "vault", "odd key"), 7),
        (("disk", "a", "partition", 0, "label"), 10),
        (("disk", "a", "partition", 1), 11),
        (("disk", "a", "partition", 1, "label"), 12),
        (("disk", "a", "partition", 1, "more", "x", "y"), 14),
        (("disk", "b.c", "size"), 16),
        (("disk", "b.c", "missing"), 15),
        (("disk", "a", "partition", 1, "size"), 11),
        (("store", "not"), 0),
        (("nothing",), 0),
    ],
)
def test_where_keys_stand(path: tuple[int | str, ...], line: int) -> None:
    assert nearest_line(key_lines(SHEET), path) == line
