"""How disks are plugged in, worked out from the sheet: slots that suit and stay, serials, fine points, lists by hand."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.program import disk, facts, make_sheet, rules, run

SIZE = 'size = "64 MiB"'
WINDOWS = 'runs = "windows"'


@pytest.mark.parametrize(
    ("rule", "status", "keys", "guest"),
    [
        ("slot-does-not-suit", 1, 'slot = "ide 0"\nsector = 4096', 'slots = ["ide 0-3"]'),
        ("slot-does-not-suit", 1, "read_only = true", 'slots = ["sata 0-3"]'),
        ("driver-needed", 0, "", f'{WINDOWS}\nslots = ["virtio 0-3"]'),
        ("guest-too-old", 1, "", f'{WINDOWS}\nversion = "5.2"\nslots = ["sata 0-3"]'),
        ("guest-too-old", 1, "", f'{WINDOWS}\nversion = "6.2"\nslots = ["nvme 0"]'),
        ("guest-too-old", 1, "", 'version = "2.6.32"\nslots = ["nvme 0"]'),
        ("floor-over-ceiling", 1, "floor = {operations = 9}\nceiling = {operations = 8}", ""),
        ("cannot-be-shared", 1, 'shared = true\nformat = "vhdx"', ""),
        ("not-made-for-sharing", 0, "shared = true", ""),
        ("writes-may-be-lost", 0, 'hold = "fast"', ""),
        ("not-through-door", 0, "floor = {operations = 9}", 'door = {qmp = "off"}'),
        ("not-through-door", 0, 'flash = true\nslot = "virtio 0"', 'slots = ["virtio 0"]\ndoor = {qmp = "off"}'),
    ],
)  # fmt: skip
def test_findings_about_plugs(tmp_path: Path, rule: str, status: int, keys: str, guest: str) -> None:
    sheet = make_sheet(tmp_path, disk("a", f"{SIZE}\n{keys}", ""), guest=guest or 'root = "root"')
    review = facts("review", str(sheet), status=status)
    assert rule in rules(review)
    assert rule in run("review", str(sheet), status=status).stdout


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        ('slot = "scsl 1"', 'the nearest is "scsi"'),
        ('slot = "ide 4"', "ide has the positions 0 to 3"),
        ('serial = "twenty-one-signs-here"', "serial"),
        ('serial = "with blank"', "serial"),
        ('hold = "slow"', "it can be safe, fast, direct"),
        ("ceiling = {}", "give operations, or bytes"),
        ('ceiling = {bytes = "2"}', "no unit"),
    ],
)  # fmt: skip
def test_keys_that_are_none(tmp_path: Path, keys: str, told: str) -> None:
    sheet = make_sheet(tmp_path, disk("a", f"{SIZE}\n{keys}"))
    assert told in run("review", str(sheet), status=2).stderr


def test_two_disks_of_a_guest_have_two_serials(tmp_path: Path) -> None:
    twice = "".join(disk(name, f'{SIZE}\nserial = "{serial}"') for name, serial in (("a", "SEED"), ("b", "seed")))
    assert "serial-twice" in rules(facts("review", str(make_sheet(tmp_path, twice)), status=1))
    made = "".join(disk(name, SIZE) for name in ("a-very-long-name", "a-very-long-other"))
    plugs = [one["plug"]["serial"] for one in facts("review", str(make_sheet(tmp_path, made)))["disks"]]
    assert len(set(plugs)) == 2 and all(len(one) <= 20 and one.startswith("a-very") for one in plugs)


def test_each_disk_gets_a_slot_that_suits_it_and_keeps_it(tmp_path: Path) -> None:
    guest = 'slots = ["ide 0-1", "sata 0", "scsi 1-3"]\ntaken = ["scsi 2"]'
    large, kept, plain = (
        disk("large", f"{SIZE}\nsector = 4096"),
        disk("kept", f"{SIZE}\nread_only = true"),
        disk("plain", SIZE),
    )
    sheet = make_sheet(tmp_path, large + kept + plain, guest=guest)
    review = facts("review", str(sheet))
    assert {one["name"]: one["slot"] for one in review["disks"]} == {
        "large": "sata 0",
        "kept": "scsi 1",
        "plain": "ide 0",
    }
    assert [one["plug"]["guest_may_run"] for one in review["disks"]] == [False, True, False]
    run("write", str(sheet), status=0)
    sheet = make_sheet(tmp_path, disk("first", SIZE) + large + disk("second", SIZE) + kept + plain, guest=guest)
    slots = {one["name"]: one["slot"] for one in facts("review", str(sheet))["disks"]}
    assert slots == {"first": "ide 1", "large": "sata 0", "second": "scsi 3", "kept": "scsi 1", "plain": "ide 0"}


def test_what_is_done_by_hand_is_listed_and_handed_over(tmp_path: Path) -> None:
    keys = f'{SIZE}\nslot = "ide 1"\nhold = "direct"\nceiling = {{operations = 500, bytes = "20 MB"}}\nflash = true'
    sheet = make_sheet(tmp_path, disk("a", keys, 'at = "/srv/a"'), guest='root = "root"\nslots = ["ide 0-3"]')
    refused = run("attach", str(sheet), status=2).stderr
    assert "write it first" in refused
    run("write", str(sheet), status=0)
    done = facts("attach", str(sheet), "--to", str(tmp_path / "list.md"))
    (work,) = done["by_hand"]
    told = " ".join(work["steps"])
    for words in (
        "Shut seedling down",
        "a.raw",
        "ide 1",
        "past the host's memory",
        "500",
        "20 MB",
        "flash",
        "Start seedling",
        "64M",
    ):
        assert words in told, words
    assert (tmp_path / "list.md").read_text().startswith("# Plug 1 disk into seedling\n\n1. Shut seedling down")
    (out,) = facts("detach", str(sheet), "a")["by_hand"]
    assert "Take" in " ".join(out["steps"]) and out["title"] == "Take 1 disk out of seedling"
    assert "by hand" not in run("review", str(sheet), status=0).stdout
    assert "Plug 1 disk into seedling" in run("review", str(sheet), "a", status=0).stdout
    line = (tmp_path / "root" / "etc" / "fstab").read_text()
    assert "/srv/a ext4 defaults" in line
    assert "there is no disk" in run("detach", str(sheet), "b", status=2).stderr
