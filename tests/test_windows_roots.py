"""Windows guests whose root lies in an image: their registry read, and changed where it lies; judged by another reader."""

from __future__ import annotations

import io
import shutil
import struct
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from Registry import Registry

from narvet.ground.errors import ImageError, NarvetError
from narvet.guests.roots import changed_root
from narvet.guests.windows.hive import BINARY, DWORD, Hive, Value
from narvet.model.estate import Root
from tests.hives import OTHER, by_guid, hive, windows_hives, windows_image
from tests.program import disk, facts, make_sheet, rules, run

PLACE = "/Windows/System32/config/SYSTEM"
PATHS = ("MountedDevices", "ControlSet001\\Services\\partmgr", "ControlSet001\\Neu Ä", "a\\b\\c")
NAMES = st.sampled_from(["\\DosDevices\\T:", "\\??\\Volume{x}", "Größe", "a", "B", ""])


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(PATHS), NAMES, st.one_of(st.none(), st.binary(max_size=40), st.binary(min_size=900, max_size=5000))),
        max_size=25,
    ),
    st.sampled_from([3, 5, 6]),
)  # fmt: skip
def test_a_hive_is_what_was_asked_of_it(changes: list[tuple[str, str, bytes | None]], minor: int) -> None:
    """Values set and removed, against a model; read by Narvet again, and by a reader that shares nothing with it."""
    before: dict[str, Any] = {
        "MountedDevices": {},
        "ControlSet001": {"Services": {f"s{n:02}": {} for n in range(30)}},
        "Z": {},
    }
    changed = Hive(hive(before, minor, spare=200))
    model: dict[str, dict[str, bytes]] = {}
    for path, name, data in changes:
        if data is None:
            assert changed.remove_value(path, name) == (model.get(path, {}).pop(name, None) is not None)
        else:
            changed.set_value(path, Value(name, BINARY, data))
            model.setdefault(path, {})[name] = data
    content = changed.finished(1772409600)
    if content is None:
        assert not any(model.values())
        return
    other, again = Registry.Registry(io.BytesIO(content)), Hive(content)
    for path, values in model.items():
        key = other.open(path)
        named = {"" if one.name() == "(default)" else one.name(): one.raw_data() for one in key.values()}
        assert named == values == {one.name: one.data for one in again.values(path)}
    services = [key.name() for key in other.open("ControlSet001\\Services").subkeys()]
    assert services == sorted(services, key=str.upper) and len(services) >= 30 and again.is_clean


def test_hostile_hives_end_in_a_sentence() -> None:
    """Any field of a hive changed: it is read, changed or refused, and never anything else."""
    good = windows_hives({"C:": OTHER})["SYSTEM"]
    for place in range(0, len(good) - 4096, 13):
        for wild in (0, 0xFFFFFFFF, 0x80000000, 32, place & ~7):
            data = bytearray(good)
            struct.pack_into("<I", data, 4096 + place - place % 4, wild)
            try:
                one = Hive(bytes(data))
                one.values("MountedDevices")
                one.set_value("MountedDevices", Value("x", DWORD, bytes(4)))
                one.set_value("ControlSet001\\Services\\new", Value("y", BINARY, bytes(50)))
                one.finished(0)
            except NarvetError:
                pass
    with pytest.raises(ImageError):
        Hive(good[:5000])


def values_in(image: Path, folder: Path, key: str = "MountedDevices") -> dict[str, Any]:
    """Return the values of a key, by the other reader."""
    out = folder / "SYSTEM.taken"
    out.unlink(missing_ok=True)
    run("look", str(image), PLACE, "--out", str(out), status=0)
    with out.open("rb") as file:
        return {one.name(): one.value() for one in Registry.Registry(file).open(key).values()}


ONE = disk("a", 'size = "300 MiB"', 'at = "T:"\nlabel = "Trials"')


def test_letters_go_into_the_registry(tmp_path: Path) -> None:
    image = windows_image(tmp_path)
    sheet = make_sheet(tmp_path, ONE, guest='runs = "windows"\nroot = "win.vhdx"')
    found = facts("survey", str(image))[0]
    assert [(one["runs"], one["name"], one["version"]) for one in found["systems"]] == [
        ("windows", "Larkmoor Server", "10.0.20348")
    ]
    assert [one["at"] for one in found["used"]] == ["C:"]
    assert "new-disks-offline" in rules(facts("review", str(sheet)))
    assert facts("write", str(sheet), "--dry")["done"][1] == f"{image}:2{PLACE}"
    before = values_in(image, tmp_path)
    facts("write", str(sheet))
    part = facts("review", str(sheet))["disks"][0]["partitions"][-1]
    now = values_in(image, tmp_path)
    assert now["\\DosDevices\\T:"] == by_guid(part["id"]) and set(before.items()) < set(now.items())
    assert now[f"\\??\\Volume{{{part['volume']}}}"] == by_guid(part["id"])
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    assert facts("survey", str(image))[0]["findings"] == [] and not list(tmp_path.glob("*.reg"))
    sheet.write_text(sheet.read_text().replace('"T:"', '"S:"').replace('win.vhdx"', 'win.vhdx"\nnew_disks = "online"'))
    assert len(facts("confirm", str(sheet), status=1)["differences"]) == 3
    facts("write", str(sheet))
    now = values_in(image, tmp_path)
    assert "\\DosDevices\\T:" not in now and now["\\DosDevices\\S:"] == by_guid(part["id"])
    assert values_in(image, tmp_path, "ControlSet001\\Services\\partmgr\\Parameters") == {"SanPolicy": 1}
    assert facts("confirm", str(sheet))["agrees"] and "new-disks-offline" not in rules(facts("review", str(sheet)))
    run("retire", str(sheet), "a", "--yes", status=0)
    assert values_in(image, tmp_path) == before


def test_what_the_registry_has_is_kept_and_what_it_cannot_take_is_refused(tmp_path: Path) -> None:
    image = windows_image(tmp_path)
    sheet = make_sheet(tmp_path, ONE.replace('"T:"', '"D:"'), guest='runs = "windows"\nroot = "win.vhdx"')
    found = facts("write", str(sheet), status=1)["findings"]
    assert "mount-point-in-use" in [one["rule"] for one in found] and not (tmp_path / "shelf" / "a.raw").exists()
    sheet.write_text(sheet.read_text().replace('"D:"', '"T:"'))
    hives = windows_hives({"C:": OTHER})
    unclean = bytearray(hives["SYSTEM"])
    struct.pack_into("<I", unclean, 4, 8)
    words = struct.unpack_from("<127I", unclean)
    total = 0
    for word in words:
        total ^= word
    struct.pack_into("<I", unclean, 508, total)
    for content, rule in ((bytes(unclean), "root-not-changeable"), (b"x" * 9000, "root-missing")):
        with changed_root(Root(str(image), 2), lambda _: True) as root, root.place(PLACE) as place:
            root.edited.replace(place.folder, "SYSTEM", content)
        before = image.read_bytes()
        assert rule in [one["rule"] for one in facts("write", str(sheet), status=1)["findings"]]
        assert image.read_bytes() == before
    done = run("look", str(image), PLACE, status=0)
    assert done.stdout.startswith("xxx")


def test_without_a_root_the_text_has_the_policy(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, ONE, guest='runs = "windows"\nnew_disks = "online"')
    run("write", str(sheet), status=0)
    text = (tmp_path / "sheet.seedling.reg").read_text("utf-16")
    assert "\\Services\\partmgr\\Parameters]\n" in text and text.rstrip().endswith('"SanPolicy"=dword:00000001')
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    sheet.write_text(sheet.read_text().replace('new_disks = "online"\n', "").replace('\nnew_disks = "online"', ""))
    assert facts("write", str(sheet))["done"] and "SanPolicy" not in (tmp_path / "sheet.seedling.reg").read_text(
        "utf-16"
    )


def test_folders_of_the_systems_own_volume(tmp_path: Path) -> None:
    """A volume mounted in a folder of C:, moved to another, taken out again; what others mounted there stays."""
    image = windows_image(tmp_path)
    deep = ONE.replace('"T:"', "'C:\\Mounts\\trials'")
    sheet = make_sheet(tmp_path, deep, guest='runs = "windows"\nroot = "win.vhdx"')

    def mounted() -> dict[str, Any]:
        parts = facts("survey", str(image))[0]["partitions"]
        assert facts("survey", str(image))[0]["findings"] == []
        return {one["path"]: one["target"] for one in parts[-1]["filesystem"]["links"]}

    assert f"{image}:2/Mounts/trials" in facts("write", str(sheet), "--dry")["done"]
    facts("write", str(sheet))
    volume = facts("review", str(sheet))["disks"][0]["partitions"][-1]["volume"]
    target = f"\\??\\Volume{{{volume}}}\\"
    assert mounted() == {"\\Mounts\\trials": target}
    assert facts("look", f"{image}:2", "/mounts")["entries"][0]["target"] == target
    assert f"\\??\\Volume{{{volume}}}" in values_in(image, tmp_path)
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    sheet.write_text(sheet.read_text().replace("Mounts\\trials", "Data"))
    facts("write", str(sheet))
    assert mounted() == {"\\Data": target} and facts("confirm", str(sheet))["agrees"]
    sheet.write_text(sheet.read_text().replace("C:\\Data", "C:\\Windows"))
    assert "mount-point-not-possible" in rules(facts("review", str(sheet), status=1))
    sheet.write_text(sheet.read_text().replace("C:\\Windows", "D:\\x"))
    assert "mount-point-not-possible" in rules(facts("review", str(sheet), status=1))
    sheet.write_text(sheet.read_text().replace("D:\\x", "C:\\Data"))
    run("retire", str(sheet), "a", "--yes", status=0)
    assert mounted() == {} and "DosDevices" in str(values_in(image, tmp_path))


def test_a_root_that_comes_later_takes_the_place_of_the_text(tmp_path: Path) -> None:
    image = windows_image(tmp_path)
    copied = shutil.copyfile(image, tmp_path / "other.vhdx")
    sheet = make_sheet(tmp_path, ONE, guest='runs = "windows"')
    run("write", str(sheet), status=0)
    text = tmp_path / "sheet.seedling.reg"
    assert text.exists()
    sheet.write_text(sheet.read_text().replace('runs = "windows"', 'runs = "windows"\nroot = "win.vhdx"'))
    assert not facts("confirm", str(sheet), status=1)["agrees"]
    assert str(text) in facts("write", str(sheet))["done"] and not text.exists()
    assert "\\DosDevices\\T:" in values_in(image, tmp_path) and facts("confirm", str(sheet))["agrees"]
    sheet.write_text(sheet.read_text().replace("win.vhdx", copied.name))
    said = [one["message"] for one in facts("write", str(sheet))["findings"] if one["rule"] == "root-left"]
    assert said == [f"2 entries of this sheet are left in {image}:2, which is no guest's root now"]


def test_a_folder_on_a_disk_that_is_in_use_already(tmp_path: Path) -> None:
    """A second disk is mounted in a folder of the first, long after that was made; then in another one."""
    first = disk("a", 'size = "300 MiB"', 'at = "P:"\nlabel = "Pictures"')
    sheet = make_sheet(tmp_path, first, guest='runs = "windows"')
    run("write", str(sheet), status=0)
    sheet.write_text(sheet.read_text() + disk("b", 'size = "200 MiB"', "at = 'P:\\new\\frames'"))
    changes = facts("review", str(sheet))["changes"]
    assert [one["what"] for one in changes if one["where"].startswith("disk.a")] == ["leads to"]
    facts("write", str(sheet))

    def links() -> dict[str, str]:
        found = facts("survey", str(tmp_path / "shelf" / "a.raw"))[0]
        assert found["findings"] == []
        return {one["path"]: one["target"] for one in found["partitions"][-1]["filesystem"]["links"]}

    assert list(links()) == ["\\new\\frames"] and facts("confirm", str(sheet))["agrees"]
    sheet.write_text(sheet.read_text().replace("P:\\new\\frames", "P:\\Frames"))
    facts("write", str(sheet))
    assert list(links()) == ["\\Frames"] and facts("confirm", str(sheet))["agrees"]
    assert facts("write", str(sheet))["done"] == []
    sheet.write_text(sheet.read_text().replace("'P:\\Frames'", "'Q:'"))
    assert not facts("confirm", str(sheet), status=1)["agrees"]
    facts("write", str(sheet))
    assert links() == {} and facts("confirm", str(sheet))["agrees"]
