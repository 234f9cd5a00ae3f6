"""Disks that come from another image, and the one made without a sheet, by the installed program."""

from __future__ import annotations

import os
from pathlib import Path

from narvet.apply.steps import MakeImage, steps
from narvet.formats.images.chain import identify, open_image
from narvet.formats.images.trust import NOTHING_SAID, trust_of_call
from narvet.ground.units import MIB
from narvet.usecases.layout import work_out
from tests.program import disk, facts, make_sheet, rules, run


def content(path: Path, *bases: Path) -> bytes:
    with open_image(path, trust=trust_of_call(path, bases=bases)) as device:
        return device.read(0, device.size)


def test_copies_and_children_of_a_sheet(tmp_path: Path) -> None:
    """A copy in another format, a larger one, and a child; written once, confirmed, and left alone from then on."""
    golden = tmp_path / "golden.vhdx"
    run("make", str(golden), "--size", "64 MiB", "--filesystem", "ext4", "--label", "golden", status=0)
    disks = disk("a", 'copy_of = "golden.vhdx"\nformat = "qcow2"\nspace = "full"')
    disks += disk("b", 'copy_of = "golden.vhdx"\nsize = "128 MiB"') + disk("c", 'base = "golden.vhdx"\nformat = "vhdx"')
    sheet = make_sheet(tmp_path, disks)
    review = facts("review", str(sheet))
    assert set(rules(review)) == {"ids-twice"} and not (tmp_path / "shelf" / "a.qcow2").exists()
    assert [one["origin"]["how"] for one in review["disks"]] == ["copy", "copy", "child"]
    assert [one["partitions"][0]["label"] for one in review["disks"]] == ["golden"] * 3
    assert "a copy of" in run("review", str(sheet), "a", status=0).stdout
    run("write", str(sheet), status=0)
    a, b, c = (tmp_path / "shelf" / name for name in ("a.qcow2", "b.raw", "c.vhdx"))
    assert content(a) == content(golden) == content(c, golden) and identify(a).facts.space == "full"
    assert content(b)[MIB : 62 * MIB] == content(golden)[MIB : 62 * MIB] and b.stat().st_size == 128 * MIB
    assert rules(facts("survey", str(c), status=1)[0]) == ["base-elsewhere"]
    found = facts("survey", str(b), str(c), "--base", str(golden))
    assert found[0]["findings"] == [] and Path(found[1]["base"]).resolve() == golden
    with open_image(c, writable=True, trust=trust_of_call(c, bases=[golden])) as device:
        device.write(40 * MIB, b"used")
    assert facts("write", str(sheet))["done"] == [] and facts("confirm", str(sheet))["agrees"]
    golden.rename(tmp_path / "gone.vhdx")
    assert "origin-unfit" not in rules(facts("review", str(sheet), status=None))
    a.unlink()
    told = facts("review", str(sheet), status=1)
    assert "origin-unfit" in rules(told) and "there is no such file" in str(told["findings"])


def test_copies_go_where_the_sheet_has_them_now(tmp_path: Path) -> None:
    """Two alike change places; one gets another form and size; a child stays, and what the ledger does not know too."""
    golden = tmp_path / "golden.raw"
    run("make", str(golden), "--size", "64 MiB", "--filesystem", "ext4", status=0)
    (tmp_path / "annex").mkdir()

    def asked(a: str, b: str, c: str = "shelf", more: str = "") -> Path:
        origin = 'copy_of = "golden.raw"'
        keys = {"a": (a, origin + more), "b": (b, origin), "c": (c, 'base = "golden.raw"\nformat = "qcow2"')}
        disks = (disk(name, own).replace('"shelf"', f'"{store}"') for name, (store, own) in keys.items())
        return make_sheet(tmp_path, "".join(disks), '[store.annex]\npath = "annex"')

    sheet = asked("shelf", "annex")
    run("write", str(sheet), status=0)
    for place, sign in (("shelf/a.raw", b"A"), ("annex/b.raw", b"B")):  # as their guests use them
        with (tmp_path / place).open("r+b") as file:
            file.seek(40 * MIB)
            file.write(sign * MIB)
    a, b = content(tmp_path / "shelf/a.raw"), content(tmp_path / "annex/b.raw")
    asked("annex", "shelf")
    run("write", str(sheet), "--yes", status=0)
    assert content(tmp_path / "annex/a.raw") == a and content(tmp_path / "shelf/b.raw") == b
    larger = '\nformat = "vhdx"\nsize = "96 MiB"'
    asked("shelf", "shelf", more=larger)
    run("write", str(sheet), "--yes", status=0)
    assert content(tmp_path / "shelf/a.vhdx")[MIB : 63 * MIB] == a[MIB : 63 * MIB] and a != b
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    assert images(tmp_path) == ["golden.raw", "shelf/a.vhdx", "shelf/b.raw", "shelf/c.qcow2"]
    asked("shelf", "shelf", "annex", larger)
    assert "image-elsewhere" in rules(facts("review", str(sheet), status=1))
    run("make", str(tmp_path / "other.raw"), "--size", "64 MiB", "--filesystem", "ext4", status=0)
    asked("annex", "shelf", more=larger).write_text(sheet.read_text().replace("golden.raw", "other.raw", 1))
    told = [one for one in facts("review", str(sheet), status=1)["findings"] if one["level"] == "error"]
    assert [one["rule"] for one in told] == ["image-elsewhere"] and "shelf/a.vhdx" in told[0]["message"]
    (tmp_path / "other.raw").unlink()
    asked("annex", "shelf", more=larger)
    sheet.with_suffix(".ledger.jsonl").unlink()
    kept = (tmp_path / "shelf/a.vhdx").read_bytes()
    run("write", str(sheet), "--yes", status=0)
    assert (tmp_path / "shelf/a.vhdx").read_bytes() == kept


def images(folder: Path) -> list[str]:
    """Return the names of all images below a folder."""
    every = (path for path in folder.rglob("*") if path.suffix in (".raw", ".vhdx", ".qcow2"))
    return sorted(str(path.relative_to(folder)) for path in every)


def test_a_step_knows_of_the_images_under_its_own_and_of_no_others(tmp_path: Path) -> None:
    """A child of a child, whose base lies elsewhere, among many disks: what is said of images does not grow with them."""
    run("make", str(tmp_path / "golden.vhdx"), "--size", "64 MiB", status=0)
    run("branch", str(tmp_path / "golden.vhdx"), str(tmp_path / "middle.vhdx"), status=0)
    disks = disk("b", 'base = "middle.vhdx"\nformat = "vhdx"') + "".join(disk(f"d{n}") for n in range(12))
    sheet = make_sheet(tmp_path, disks)
    found = work_out(sheet)
    todo = {one.disk: one for one in steps(found.layout, found.facts) if isinstance(one, MakeImage)}
    assert all(todo[f"d{n}"].trust == NOTHING_SAID for n in range(12)) and len(todo) == 13
    assert todo["b"].trust.bases == {str(tmp_path / "middle.vhdx")} and not todo["b"].trust.formats
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"]


def test_what_cannot_be_a_copy_or_a_child(tmp_path: Path) -> None:
    run("make", str(tmp_path / "g.raw"), "--size", "64 MiB", status=0)
    for keys, message in (
        ('base = "g.raw"', "raw has no children"),
        ('base = "g.raw"\nformat = "vhdx"', "needs a vhdx base"),
        ('base = "g.raw"\nformat = "qcow2"\nspace = "full"', "a child keeps only differences"),
        ('copy_of = "g.raw"\nsize = "9 MiB"', "more than the 9 MiB"),
        ('copy_of = "root"', "this is a folder"),
        ('copy_of = "shelf/b.raw"\nformat = "vmdk"\npieces = "1 kB"', "are too many"),
    ):
        sheet = make_sheet(tmp_path, disk("a", keys))
        told = facts("review", str(sheet), status=1)
        assert message in str(told["findings"]), told["findings"]
    for keys, message in (
        ('copy_of = "g.raw"\nbase = "g.raw"', "leave out copy_of"),
        ('base = "g.raw"\nsize = "1 GiB"', "leave out size"),
        ('copy_of = "g.raw"\ntable = "gpt"', "leave out table"),
    ):
        assert message in run("review", str(make_sheet(tmp_path, disk("a", keys))), status=2).stderr
    sheet = make_sheet(tmp_path, disk("a") + disk("b", 'base = "shelf/a.raw"\nformat = "qcow2"'))
    os.truncate(tmp_path / "g.raw", 64 * MIB)
    (tmp_path / "g.raw").rename(tmp_path / "shelf" / "a.raw")
    assert "base-in-use" in rules(facts("review", str(sheet), status=1))


def test_one_disk_without_a_sheet(tmp_path: Path) -> None:
    """Same identity, same bytes; what is promised is found; what does not fit is refused, and nothing is left."""
    words = ("--filesystem", "ext4", "--usable", "300 MB", "--owner", "1201:1300", "--mode", "0750", "--for", "media")
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        path = tmp_path / folder / "reading room.vmdk"
        made = facts("make", str(path), *words, "--identity", "5f0c1b52-0d0e-4f4a-9d55-0d6a3c1f2b11")["disk"]
    assert path.read_bytes() == (tmp_path / "a" / path.name).read_bytes()
    found = facts("survey", str(path))[0]
    part, inside = made["partitions"][0], found["partitions"][0]["filesystem"]
    assert part["shows"]["available"] >= 300_000_000 and part["uuid"] == inside["uuid"] and found["findings"] == []
    assert inside["label"] == part["label"] == "reading-room"
    assert "is there already" in run("make", str(path), "--size", "9 MiB", status=2).stderr
    for asked, status, message in (
        (("--size", "9"), 2, "has no unit"),
        (("--filesystem", "ext4"), 2, "give the disk a size"),
        (("--size", "1 GiB", "--filesystem", "ext4", "--owner", "warden"), 1, "owner-unknown"),
        (("--size", "1 MiB", "--filesystem", "ext4"), 1, "rest-is-empty"),
        (("--size", "1 GiB", "--mode", "rwx", "--filesystem", "ext4"), 2, "octal digits"),
        (("--size", "3 TiB", "--format", "vmdk"), 1, "holds disks of at most"),
    ):
        assert message in run("make", str(tmp_path / "x.raw"), *asked, status=status).stderr
    run("make", str(tmp_path / "bare.raw"), "--size", "9 MiB", "--table", "none", status=0)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a", "b", "bare.raw"]
