"""Guests whose root lies in an image: found by what it holds, entries and mount points written there, all or nothing."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from narvet.formats.filesystems.trees import Owner
from narvet.guests.linux.root import is_linux_root
from narvet.guests.roots import changed_root, opened_root
from narvet.model.estate import Root
from tests.program import LABEL, disk, facts, fill_root, make_root, make_sheet, run

AT = 'at = "/srv/with space/a"\nowner = "curator:lab"\nmode = "0750"'
ONE = disk("a", 'size = "8 MiB"', AT)


def root_image(folder: Path, name: str, fstab: bytes = b"# kept\n", size: str = "96 MiB") -> Path:
    """Make an image with a small Linux root on its first partition."""
    run("make", name, "--size", size, "--filesystem", "ext4", "--label", "root", status=0, cwd=folder)
    made = make_root(folder / f"of-{name}", fstab)
    (made / "srv").mkdir()
    (made / "usr" / "lib" / "modules" / "6.1.0-2-amd64").mkdir(parents=True)
    (made / "etc" / "os-release").write_text('NAME=Larkmoor\nPRETTY_NAME="Larkmoor Linux 4"\n')
    return fill_root(folder / name, made)


def inside(image: Path, path: str) -> dict[str, object]:
    """Return what lies at a path inside an image's first partition."""
    found: dict[str, object] = facts("look", f"{image}:1", path)
    return found


def missing(sheet: Path) -> str:
    """Return why a review says that the root cannot be used."""
    found = facts("review", str(sheet), status=1)["findings"]
    return "".join(one["message"] for one in found if one["rule"] == "root-missing")


@pytest.mark.parametrize("name", ["root.raw", "root.vhdx", "root.vmdk"])
def test_entries_and_mount_points_are_written_into_an_image(tmp_path: Path, name: str) -> None:
    image = root_image(tmp_path, name)
    sheet = make_sheet(tmp_path, ONE, guest=f'root = "{name}"')
    line = facts("entries", str(sheet))["seedling"][0]
    planned = facts("write", str(sheet), "--dry")["done"]
    assert planned[1:] == [f"{tmp_path}/{name}:1/srv/with space/a", f"{tmp_path}/{name}:1/etc/fstab"]
    before = image.read_bytes()
    assert facts("confirm", str(sheet), status=1)["differences"] and image.read_bytes() == before
    assert facts("write", str(sheet))["done"] == planned
    point = inside(image, "/srv/with space/a")
    assert (point["kind"], point["uid"], point["gid"], point["mode"]) == ("folder", 1201, 1300, "0750")
    assert (inside(image, "/srv/with space")["uid"], inside(image, "/srv/with space")["mode"]) == (0, "0755")
    with opened_root(Root(str(image), 1), is_linux_root) as root, root.place("/srv/with space/a") as place:
        assert dict(root.tree.attributes(place.folder)) == LABEL  # taken over from the folder above
    fstab = inside(image, "/etc/fstab")
    assert fstab["text"] == f"# kept\n{line}\n" and fstab["mode"] == "0644"
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    assert [one["findings"] for one in facts("survey", str(image))] == [[]]
    sheet.write_text(sheet.read_text().replace("/srv/with space/a", "/srv/b"))
    facts("write", str(sheet))
    assert "/srv/b ext4" in str(inside(image, "/etc/fstab")["text"])
    assert [one["name"] for one in json.loads(run("look", f"{image}:1", "/srv", "--json", status=0).stdout)["entries"]] == [
        "b", "with space",
    ]  # fmt: skip
    run("retire", str(sheet), "a", "--yes", status=0)
    assert inside(image, "/etc/fstab")["text"] == "# kept\n"


def test_a_child_is_changed_and_never_its_base(tmp_path: Path) -> None:
    base = root_image(tmp_path, "base.qcow2")
    run("branch", "base.qcow2", "child.qcow2", status=0, cwd=tmp_path)
    before = base.read_bytes()
    sheet = make_sheet(tmp_path, ONE, guest='root = "child.qcow2"')
    run("write", str(sheet), status=0)
    assert base.read_bytes() == before and facts("confirm", str(sheet))["agrees"]
    assert "UUID=" in str(inside(tmp_path / "child.qcow2", "/etc/fstab")["text"])
    sheet.write_text(sheet.read_text().replace("child.qcow2", "base.qcow2"))
    assert "is a child of it and needs it" in run("write", str(sheet), status=3).stderr
    assert base.read_bytes() == before


def test_entries_left_in_an_earlier_root_are_told_of(tmp_path: Path) -> None:
    """The guest's root becomes an image: until its lines are out of the old one, every call says so."""

    def left() -> list[str]:
        return [one["message"] for one in facts("write", str(sheet))["findings"] if one["rule"] == "root-left"]

    old = make_root(tmp_path / "old")
    image = root_image(tmp_path, "root.qcow2")
    sheet = make_sheet(tmp_path, ONE.replace("curator:lab", "1201:1300"), guest='root = "old"')
    assert left() == left() == []
    text = sheet.read_text()
    sheet.write_text(text.replace('root = "old"\n', ""))
    assert left() == []  # it may be its root still
    sheet.write_text(text.replace('"old"', '"root.qcow2"'))
    assert left() == left() == [f"1 entry of this sheet is left in {old}, which is no guest's root now"]
    (old / "etc" / "fstab").write_text("")
    assert left() == []
    run("branch", image.name, "child.qcow2", status=0, cwd=tmp_path)
    sheet.write_text(text.replace('"old"', '"child.qcow2"'))
    assert left() == []  # what is in a base is in its child
    sheet.write_text(text.replace('"old"', '"other.raw"'))
    root_image(tmp_path, "other.raw")
    assert "child.qcow2" not in "".join(left()) and f"{image}:1" in "".join(left())


def test_the_one_root_is_found_or_all_are_named(tmp_path: Path) -> None:
    two = make_sheet(
        tmp_path / "maker", disk("b", 'size = "200 MiB"', 'size = "90 MiB"', 'size = "rest"'), guest="zone = 'x'"
    )
    run("write", str(two), status=0)
    image, made = tmp_path / "maker" / "shelf" / "b.raw", make_root(tmp_path / "of")
    sheet = make_sheet(tmp_path, ONE, guest='root = "maker/shelf/b.raw"')
    assert "has no root of this guest's system" in missing(sheet)
    fill_root(image, made, 2)
    assert "b.raw:2/etc/fstab" in facts("write", str(sheet), "--dry")["done"][-1]
    fill_root(image, made, 1)
    assert "roots on partitions 1, 2" in missing(sheet)
    text = sheet.read_text()
    sheet.write_text(text.replace('root = "maker/shelf/b.raw"', 'root = {image = "maker/shelf/b.raw", partition = 1}'))
    assert "b.raw:1/etc/fstab" in facts("write", str(sheet))["done"][-1]
    assert str(inside(image, "/etc/fstab")["text"]).startswith("UUID=")
    sheet.write_text(text.replace('root = "maker/shelf/b.raw"', 'root = {image = "maker/shelf/b.raw", partition = 7}'))
    assert "no files on partition 7" in missing(sheet)
    sheet.write_text(text.replace("maker/shelf/b.raw", "gone.raw"))
    assert "neither a folder nor an image" in missing(sheet)


def test_what_may_not_be_changed_is_refused_before_anything_is_written(tmp_path: Path) -> None:
    """A root whose journal is not empty: a finding, and neither the disk nor the root is written."""
    image = root_image(tmp_path, "root.raw")
    start = facts("survey", str(image))[0]["partitions"][0]["start"]
    sheet = make_sheet(tmp_path, ONE, guest='root = "root.raw"')
    with image.open("r+b") as file:
        file.seek(start + 1024 + 0x3A)
        file.write(b"\0\0")  # s_state: not clean
    before = image.read_bytes()
    found = facts("write", str(sheet), status=1)["findings"]
    assert [one["rule"] for one in found if one["level"] == "error"] == ["root-not-changeable"]
    assert image.read_bytes() == before and not (tmp_path / "shelf" / "a.raw").exists()


def test_entries_go_into_another_image(tmp_path: Path) -> None:
    image = root_image(tmp_path, "other.vhdx")
    sheet = make_sheet(tmp_path, ONE)
    for added in (1, 0):
        done = run("entries", str(sheet), "seedling", "--into", f"{image}:1", status=0)
        assert f"{added} {'line' if added == 1 else 'lines'} added" in done.stdout
    assert "UUID=" in str(inside(image, "/etc/fstab")["text"])


def test_disks_are_adopted_with_the_root_that_tells_their_mount_points(tmp_path: Path) -> None:
    """A guest that is new gets its root, its disks the places where that mounts them; nothing is left to be written."""
    root_image(tmp_path, "root.qcow2")
    sheet = make_sheet(tmp_path, ONE, guest='root = "root.qcow2"')
    run("write", str(sheet), status=0)
    (tmp_path / "sheet.toml").unlink()
    (tmp_path / "sheet.ledger.jsonl").unlink(missing_ok=True)
    done = run(
        "draft",
        "new.toml",
        "--guest",
        "other",
        "--adopt",
        "root.qcow2",
        "--adopt",
        "shelf/a.raw",
        status=0,
        cwd=tmp_path,
    )
    assert "Larkmoor Linux 4 lives on it" in done.stderr + done.stdout
    text = (tmp_path / "new.toml").read_text()
    assert "root.qcow2" in text and "/srv/with space/a" in text and "[disk.root]" not in text
    assert facts("confirm", "new.toml", cwd=tmp_path)["agrees"]


def test_an_old_kernel_is_told_of(tmp_path: Path) -> None:
    """The kernel that is installed in the root is too old for a filesystem: a warning, unless the sheet says another."""
    image = root_image(tmp_path, "root.raw")
    with changed_root(Root(str(image), 1), lambda _: True) as root, root.place("usr/lib/modules") as place:
        root.edited.make_folder(place.folder, "4.18.0-553.el8", Owner(0, 0, 0o755), {})
    sheet = make_sheet(
        tmp_path, disk("a", 'size = "64 MiB"', 'filesystem = "xfs"\nat = "/srv/x"'), guest='root = "root.raw"'
    )
    found = [one for one in facts("review", str(sheet))["findings"] if one["rule"] == "guest-too-old"]
    assert [(one["level"], "4.18" in one["message"], "5.10" in one["message"]) for one in found] == [
        ("warning", True, True)
    ]
    sheet.write_text(sheet.read_text().replace('root = "root.raw"', 'root = "root.raw"\nversion = "6.1"'))
    assert "guest-too-old" not in [one["rule"] for one in facts("review", str(sheet))["findings"]]
