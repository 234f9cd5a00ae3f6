"""A disk's data are found again whatever changed in the sheet; a new disk is never made in the place of an old one."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.images.chain import open_image
from narvet.ground.units import MIB
from narvet.ground.values import replace
from tests.program import HERE, IDENTITY, disk, facts, make_root, make_sheet, rules, run

PART = 'at = "/srv/a"\nowner = "curator"'
SHEET = f"""sheet = 1
identity = "{IDENTITY}"
[store.one]
path = "one"
[store.two]
path = "two"
[guest.seedling]
root = "root"
[disk.a]
guest = "seedling"
store = "one"
size = "16 MiB"
[[disk.a.partition]]
{PART}
"""


def written(folder: Path) -> Path:
    """A sheet of two stores with one disk, written."""
    for store in ("one", "two"):
        (folder / store).mkdir()
    make_root(folder / "root")
    sheet = folder / "sheet.toml"
    sheet.write_text(SHEET)
    run("write", str(sheet), status=0)
    return sheet


@pytest.mark.parametrize(
    ("old", "new", "rule", "way_out"),
    [
        ("disk.a", "disk.b", "disk-renamed", 'give it was = "a"'),
        (PART, 'filesystem = "swap"', "image-differs", "set the sheet back"),
        (PART, PART + '\nblock = "4 KiB"', "cannot-be-changed", "make a new disk"),
        (PART, PART + '\njournal = "2 MiB"', "cannot-be-changed", "make a new disk"),
        (PART, PART + '\nreserved = "20%"', "cannot-be-changed", "make a new disk"),
    ],
)  # fmt: skip
def test_a_changed_sheet_makes_no_empty_disk(tmp_path: Path, old: str, new: str, rule: str, way_out: str) -> None:
    sheet = written(tmp_path)
    before = {path: path.read_bytes() for path in tmp_path.rglob("*.raw")}
    sheet.write_text(SHEET.replace(old, new))
    review = facts("review", str(sheet), status=1)
    assert rule in rules(review)
    finding = next(one for one in review["findings"] if one["rule"] == rule)
    assert way_out in finding["remedy"]
    assert rule in run("write", str(sheet), status=1).stderr
    assert not facts("confirm", str(sheet), status=1)["agrees"]
    assert {path: path.read_bytes() for path in tmp_path.rglob("*.*") if path.suffix in (".raw", ".qcow2")} == before
    sheet.write_text(SHEET)
    assert facts("write", str(sheet))["done"] == [] and facts("confirm", str(sheet))["agrees"]


def test_what_is_gone_is_asked_about_and_what_is_left_over_is_told(tmp_path: Path) -> None:
    """By the ledger, or, where that is gone too, by the guest's entries; with --anew it is made."""
    sheet = written(tmp_path)
    (tmp_path / "one" / "a.raw").rename(tmp_path / "a.moved.raw")
    ledger = tmp_path / "sheet.ledger.jsonl"
    for _ in range(2):
        told = run("write", str(sheet), status=1).stderr
        assert "image-missing" in told and "--anew a" in told and not list((tmp_path / "one").iterdir())
        ledger.unlink(missing_ok=True)
    assert "no disk" in run("write", str(sheet), "--anew", "b", status=2).stderr
    run("write", str(sheet), "--anew", "a", status=0)
    sheet.write_text(SHEET[: SHEET.index("[disk.a]")])
    (found,) = [one for one in facts("review", str(sheet))["findings"] if one["rule"] == "disk-left-over"]
    assert "one/a.raw" in found["message"] and found["level"] == "warning"
    # A store that the sheet has no longer: the ledger still knows where the image is.
    sheet.write_text(SHEET.replace('[store.one]\npath = "one"\n', "").replace('store = "one"', 'store = "two"'))
    assert {one["what"] for one in facts("review", str(sheet))["changes"]} == {"place"}
    ledger.write_text(
        '{"did": "image", "touched": 7}\n[1]\n{"did": "image", "disk": "a", "touched": "\\u0000"}\nnot json\n'
    )
    assert facts("review", str(sheet), status=1)


def test_what_a_guest_has_changed_is_told_and_left(tmp_path: Path) -> None:
    """Root and entry were as asked once; the guest has changed both since, and an asked change is still made."""
    sheet = written(tmp_path)
    image, fstab = tmp_path / "one" / "a.raw", tmp_path / "root" / "etc" / "fstab"
    with open_image(image, writable=True) as device:
        inside = Window(device, MIB, 14 * MIB)
        state = filesystem("ext4").read(inside, HERE)
        assert state is not None
        filesystem("ext4").correct(inside, replace(state, uid=1500, mode=0o711, label="mine"))
    fstab.write_text(fstab.read_text().replace("nofail", "nofail,nodev"))
    told = run("write", str(sheet), status=0)
    words = " ".join(told.stderr.split())
    assert "owner is 1500:1300, not 1201:1300" in words and "mode is 0711" in words and "entry-kept" in words
    assert "All is as asked" not in told.stdout
    where = {one["where"] for one in facts("confirm", str(sheet), status=1)["differences"]}
    assert {"disk.a.partition 1 owner", "guest.seedling fstab line 1"} <= where
    sheet.write_text(SHEET.replace("16 MiB", "20 MiB").replace(PART, PART + '\nlabel = "seeds"'))
    assert facts("write", str(sheet))["done"] == [str(image)]
    inside = facts("survey", str(image))[0]["partitions"][0]["filesystem"]
    assert (inside["label"], inside["size"]) == ("seeds", 18 * MIB)
    where = {one["where"] for one in facts("confirm", str(sheet), status=1)["differences"]}
    assert where == {"disk.a.partition 1 owner", "disk.a.partition 1 mode", "guest.seedling fstab line 1"}


def test_stores_on_one_filesystem_share_what_is_free(tmp_path: Path) -> None:
    free = shutil.disk_usage(tmp_path).free
    each = free * 6 // 10 >> 20
    for store in ("one", "two"):
        (tmp_path / store).mkdir()
    sheet = tmp_path / "sheet.toml"
    disks = "".join(
        f'[disk.{name}]\nguest = "g"\nstore = "{name}"\nsize = "{each} MiB"\nspace = "full"\n'
        for name in ("one", "two")
    )
    head = f'sheet = 1\nidentity = "{IDENTITY}"\n[store.one]\npath = "one"\n[store.two]\npath = "two"\n[guest.g]\n'
    sheet.write_text(head + disks)
    review = facts("review", str(sheet), status=1)
    found = [one for one in review["findings"] if one["rule"] == "store-without-room"]
    assert len(found) == 2 and "beside it" in found[0]["message"]
    sheet.write_text(head.replace('path = "two"', 'path = "two"\nroom = "900 PiB"'))
    (note,) = facts("review", str(sheet))["findings"]
    assert note["rule"] == "store-room-beyond" and note["level"] == "note"


def test_names_that_are_no_text(tmp_path: Path) -> None:
    """A folder that is not UTF-8: written, recorded, read back, retired; what is printed is text all the same."""
    folder = Path(str(tmp_path) + "/\udcff\udcfe")
    folder.mkdir()
    sheet = make_sheet(folder, disk("a", 'size = "8 MiB"', 'at = "/srv/a"'))
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"]
    line = (folder / "sheet.ledger.jsonl").read_bytes().split(b"\n")[0].decode("utf-8", "surrogateescape")
    assert json.loads(line)["touched"] == "shelf/a.raw"
    run("recast", str(folder / "shelf" / "a.raw"), str(folder / "b.vmdk"), status=0)
    run("branch", str(folder / "b.vmdk"), str(folder / "c.vmdk"), status=0)
    run("retire", str(sheet), "a", "--yes", status=0)
    sheet = make_sheet(tmp_path, disk("b", 'copy_of = "x\\u0000y"'))
    assert "Narvet has a fault" not in run("review", str(sheet), status=None).stderr
