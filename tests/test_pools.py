"""Pools: how extents are given out and changed, the text and its rings, hostile members, cuts, and sheets that change."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from narvet.apply.pool import ChangePool
from narvet.block.file import FileDevice
from narvet.block.memory import MemoryDevice
from narvet.formats.pools.allot import Kind, NoRoomError, allotted, most, moved_off
from narvet.formats.pools.device import volume_device
from narvet.formats.pools.member import fresh_shape, read_member, write_member, write_texts
from narvet.formats.pools.text import encode, parse
from narvet.formats.pools.tree import (
    Copies,
    Pool,
    empty_pool,
    numbered,
    pool_id,
    read_pool,
    renamed,
    with_members,
    with_segments,
    with_volume,
    without_volume,
)
from narvet.formats.seals.keyring import Keyring, unsealing
from narvet.ground.errors import ImageError, RequestError
from narvet.ground.units import KIB, MIB
from narvet.usecases.layout import review
from narvet.usecases.write import write
from tests.pool_reader import newest, rings, taken_apart
from tests.program import facts, fill_root, make_root, make_sheet, rules, run
from tests.prove.scenarios import copied

KINDS = (Kind(), Kind("striped", 2, 64 * KIB), Kind("striped", 3, 4 * KIB), Kind("mirrored", 2))


def an_id(*what: object) -> str:
    """Return the id of something."""
    text = "/".join(map(str, what))
    return pool_id(UUID(int=hash_of(text)), UUID(int=hash_of(text + "+")))


def hash_of(text: str) -> int:
    """Return a number that follows from a text."""
    return random.Random(text).getrandbits(128)


def members_of(sizes: list[int], extent: int) -> list[Any]:
    """Return members with shapes for partitions of these sizes."""
    return [fresh_shape(an_id("member", at), size).member(extent) for at, size in enumerate(sizes)]


def volume_put(pool: Pool, name: str, kind: Kind, count: int) -> Pool:
    """Return a pool in which a volume has so many extents."""
    there = next((one for one in pool.shown if one.name == name), None)
    copies = allotted(pool, there, kind, count)
    return with_volume(pool, name, an_id("volume", name), copies, 7, lambda one: an_id("volume", one))


@given(st.integers(0, 1 << 30))
def test_extents_are_given_out_once(seed: int) -> None:
    """A volume is as large as asked, its copies and stripes lie apart, and what it had stays where it was."""
    dice = random.Random(seed)
    pool = empty_pool("cold", an_id("pool"), MIB, 7)
    pool = with_members(pool, members_of([dice.randrange(5, 40) * MIB for _ in range(dice.randrange(2, 5))], MIB))
    kinds: dict[str, Kind] = {}
    for step in range(12):
        name = dice.choice([f"v{at}" for at in range(4)])
        kind = kinds.setdefault(name, dice.choice(KINDS))
        there = next((one for one in pool.shown if one.name == name), None)
        count = dice.randrange(1, 12) * kind.step
        able = most(pool, there, kind)
        before = pool
        if (there is None and count > able) or (there is not None and count > max(able, there.count)):
            with pytest.raises(NoRoomError):
                allotted(pool, there, kind, count)
            kinds.pop(name) if there is None else None
            continue
        pool = volume_put(pool, name, kind, count)
        now = pool.volume(name)
        assert now.count == count and now.spread == kind.spread and read_pool(pool.tree) == pool
        for copy in pool.copies(now):
            assert all(len({part for part, _ in one.parts}) == len(one.parts) for one in copy)
        copies = [{part for one in copy for part, _ in one.parts} for copy in pool.copies(now)]
        assert sum(map(len, copies)) == len(set().union(*copies)) or kind.spread != "mirrored"
        if there is not None and kind.spread != "mirrored":
            pieces = list(_extents(before, name))
            assert list(_extents(pool, name))[: len(pieces)] == pieces[:count]
        if step == 6 and dice.random() < 0.5:
            pool = with_members(pool, [*pool.members, *members_of([MIB * 9] * 9, MIB)[-1:]])
    assert pool.free == pool.total - sum(pool.bytes_of(one) for one in pool.shown)


def _extents(pool: Pool, name: str) -> Any:
    for segment in pool.volume(name).segments:
        each = segment.count // len(segment.parts)
        for at in range(each):
            yield from ((part, first + at) for part, first in segment.parts)


@given(st.integers(0, 1 << 30))
def test_a_member_leaves_and_nothing_is_lost(seed: int) -> None:
    """What lies on a member goes to others, stripes and copies still apart; the volumes read as before."""
    dice = random.Random(seed)
    sizes = [dice.randrange(8, 24) * MIB for _ in range(4)]
    pool = with_members(empty_pool("cold", an_id("pool"), MIB, 7), members_of(sizes, MIB))
    for at, kind in enumerate(KINDS):
        count = min(dice.randrange(1, 6) * kind.step, most(pool, None, kind))
        pool = volume_put(pool, f"v{at}", kind, count) if count else pool
    devices = {one.name: MemoryDevice(size) for one, size in zip(pool.members, sizes, strict=True)}
    contents = {}
    for one in pool.shown:
        device = volume_device(pool, one, devices, 512)
        contents[one.name] = dice.randbytes(device.size)
        device.write(0, contents[one.name])
    leaving = dice.choice(pool.members)
    try:
        becomes, transfers = moved_off(pool, [leaving.name])
    except NoRoomError:
        return
    for move in transfers:
        (source, first), (target, to) = move.source, move.target
        data = devices[source].read(MIB + first * MIB, move.count * MIB)
        devices[target].write(MIB + to * MIB, data)
    pool = with_members(with_segments(pool, becomes), [one for one in pool.members if one is not leaving])
    del devices[leaving.name]
    for one in pool.shown:
        device = volume_device(pool, one, devices, 512)
        assert device.read(0, device.size) == contents[one.name]
        stops = sorted(dice.randrange(device.size) for _ in range(2))
        assert device.read(stops[0], stops[1] - stops[0]) == contents[one.name][stops[0] : stops[1]]


def changed_at_random(pool: Pool, model: dict[str, int], dice: random.Random) -> Pool:
    """Return a pool with a volume more, larger, smaller, gone or called otherwise, if that can be; note it."""
    name = dice.choice([*model, ""]) or f"v{dice.randrange(900)}"
    what, count, new = dice.randrange(3 if name in model else 1), dice.randrange(1, 7), f"w{dice.randrange(10**6)}"
    if what == 0:
        there = pool.volume(name) if name in model else None
        if most(pool, there, Kind()) >= count or count <= model.get(name, 0):
            pool, model[name] = volume_put(pool, name, Kind(), count), count
    elif what == 1 and len(model) > 20:
        pool = without_volume(pool, name)
        del model[name]
    elif new not in model:
        pool = renamed(pool, name, new)
        model[new] = model.pop(name)
    return pool


def test_a_thousand_changes_go_round_the_rings() -> None:
    """Texts changed at random read as the model says, from rings that went round many times; names of others stay."""
    dice = random.Random(5)
    sizes = [64 * MIB, 48 * MIB, 80 * MIB]
    devices = [MemoryDevice(size) for size in sizes]
    shapes = [fresh_shape(an_id("member", at), size) for at, size in enumerate(sizes)]
    pool = with_members(empty_pool("cold", an_id("pool"), MIB, 7), [one.member(MIB) for one in shapes])
    for device, shape in zip(devices, shapes, strict=True):
        write_member(device, shape, in_use=True)
    tree = dict(pool.tree)
    tree["cold"] = {**tree["cold"], "tags": ("their-own",), "their_section": {"key": 4}}  # type: ignore[dict-item]
    pool, model, rounds = read_pool(tree), dict[str, int](), 0
    for _ in range(1000):
        pool = changed_at_random(pool, model, dice)
        pool = numbered(pool, 7)
        before = newest_place(devices[0])
        for device, shape in zip(devices, shapes, strict=True):
            write_texts(device, shape.rings, pool)
        rounds += newest_place(devices[0]) < before
        if dice.random() < 0.05:
            for device in devices:
                state = read_member(device)
                assert state is not None and state.pool == pool and not state.stale
                assert {one.name: one.count for one in state.pool.shown} == model
            start = devices[1].read(0, 4096)
            text = taken_apart(newest(devices[1].read(*rings(start)[1])))
            assert set(text.inner["cold"].inner["logical_volumes"].inner) == set(model)
            assert text.inner["cold"].values["tags"] == '["their-own"]'
            assert text.inner["cold"].inner["their_section"].values == {"key": "4"}
    assert rounds >= 3 and pool.seqno == 1000


def newest_place(device: MemoryDevice) -> int:
    """Return where the newest text of a member's first ring starts."""
    return int.from_bytes(device.read(4096 + 40, 8), "little")


def a_member(volumes: int = 3) -> tuple[MemoryDevice, Pool]:
    """Return a member with a pool on it alone."""
    device, shape = MemoryDevice(32 * MIB), fresh_shape(an_id("member", 0), 32 * MIB)
    pool = with_members(empty_pool("cold", an_id("pool"), MIB, 7), [shape.member(MIB)])
    for at in range(volumes):
        pool = volume_put(pool, f"v{at}", Kind(), 4)
    write_member(device, shape, in_use=True)
    write_texts(device, shape.rings, numbered(pool, 7))
    return device, pool


def test_a_damaged_copy_leaves_the_other() -> None:
    device, pool = a_member()
    for ring in fresh_shape("x" * 32, 32 * MIB).rings:
        saved = device.read(*ring)
        for place in (0, 30, 45, 700):
            device.write(ring.start + place, b"\xa5\x5a")
            state = read_member(device)
            assert state is not None and state.pool == numbered(pool, 7) and state.stale and len(state.problems) <= 1
            device.write(ring.start, saved)
    for ring in fresh_shape("x" * 32, 32 * MIB).rings:
        device.write(ring.start, bytes(64))
    with pytest.raises(ImageError, match="ring"):
        read_member(device)


@pytest.mark.parametrize("seed", range(4))
def test_hostile_members_end_in_clear_words(seed: int) -> None:
    """Bytes of the label, the ring's header and the text changed at random, with checksums made right again."""
    dice = random.Random(seed)
    device, pool = a_member()
    text = bytearray(encode(numbered(pool, 7).tree))
    tokens = [b"999999999999", b"-1", b'"pv0"', b"[", b"]", b"{", b"}", b'"', b"pv9", b"v0", b"=", b"0", b"#", b"\\"]
    for _ in range(int(os.environ.get("NARVET_TRIES", "1500"))):
        changed = bytearray(text)
        for _ in range(dice.randrange(1, 4)):
            place = dice.randrange(len(changed))
            match dice.randrange(3):
                case 0:
                    changed[place] = dice.randrange(256)
                case 1:
                    changed[place : place + dice.randrange(6)] = dice.choice(tokens)
                case _:
                    del changed[place : place + dice.randrange(40)]
        try:
            found = read_pool(parse(bytes(changed)))
            for one in found.shown:
                if one.spread is not None:
                    opened = volume_device(found, one, {part.name: device for part in found.members}, 512)
                    opened.read(max(opened.size - 512, 0), min(512, opened.size))
        except ImageError as error:
            assert str(error)
    base = device.read(0, 2 * MIB)
    for _ in range(300):
        place = dice.choice([*range(512, 700), *range(4096, 4200)])
        device.write(place, bytes([dice.randrange(256)]))
        try:
            read_member(device)
        except ImageError as error:
            assert str(error)
        device.write(place, base[place : place + 1])


def test_a_text_that_outgrows_its_rings_is_refused() -> None:
    device, pool = a_member(0)
    for at in range(20):
        pool = with_volume(pool, f"v{at}", an_id(at), Copies((allotted(pool, None, Kind(), 1).segments[0],)), 7, an_id)
    tree = dict(pool.tree)
    tree["cold"] = {**tree["cold"], "remark": "x" * (600 * KIB)}  # type: ignore[dict-item]
    big = read_pool(tree)
    rings_of = fresh_shape("x" * 32, 32 * MIB).rings
    write_texts(device, rings_of, big)
    with pytest.raises(RequestError, match="too small"):
        write_texts(device, rings_of, big)


DISK = '[disk.{0}]\nguest = "seedling"\nstore = "{3}"\nsize = "{1} MiB"\nformat = "{2}"\n[[disk.{0}.partition]]\n{4}\n'
POOL = '[pool.cold]\nguest = "seedling"\nextent = "1 MiB"\n'
READINGS = '[[pool.cold.volume]]\nname = "readings"\nsize = "{0}"\nfilesystem = "xfs"\nat = "/srv/readings"\n{1}\n'
NOTES = '[[pool.cold.volume]]\nname = "notes"\nsize = "{0}"\nat = "/srv/notes"\nowner = "curator"\n'
ON = 'pool = "cold"'


def write_sheet(folder: Path, disks: list[tuple[str, int, str]], volumes: str, pool: str = POOL) -> Path:
    """Write a sheet whose disks are all members."""
    texts = [DISK.format(name, size, kind, "shelf", ON) for name, size, kind in disks]
    return make_sheet(folder, "".join(texts) + pool + volumes)


TWO = [("a", 200, "raw"), ("b", 300, "qcow2")]


@pytest.fixture
def made(tmp_path: Path) -> Path:
    """A sheet that was written: a pool on two disks, with two volumes."""
    sheet = write_sheet(tmp_path, TWO, READINGS.format("320 MiB", "") + NOTES.format("100 MiB"))
    run("write", str(sheet), "--yes", status=0)
    assert facts("confirm", str(sheet))["agrees"]
    return sheet


def refused(sheet: Path, *names: str) -> str:
    """Return what keeps a sheet from being written, by these rules and no others; nothing is changed."""
    before = {path: path.read_bytes() for path in sheet.parent.rglob("*") if path.is_file()}
    found = facts("write", str(sheet), "--yes", status=None)["findings"]
    assert {one["rule"] for one in found if one["level"] == "error"} == set(names), found
    assert {path: path.read_bytes() for path in sheet.parent.rglob("*") if path.is_file()} == before
    return " ".join(one["message"] for one in found)


def test_the_sheet_changes_after_it_was_written(made: Path) -> None:
    """Every key of pools and volumes that can be another one at the second write: done, or refused, with nothing lost."""
    folder, both = made.parent, READINGS.format("320 MiB", "") + NOTES.format("100 MiB")
    write_sheet(folder, TWO, READINGS.format("320 MiB", "") + NOTES.format("100 MiB").replace("notes", "diary"))
    refused(made, "volume-renamed")
    diary = NOTES.format("100 MiB").replace('"notes"', '"diary"\nwas = "notes"')
    write_sheet(folder, TWO, READINGS.format("320 MiB", "") + diary)
    assert "becomes diary" in run("write", str(made), "--yes", status=0).stdout
    assert facts("confirm", str(made))["agrees"]
    write_sheet(folder, TWO, both.replace('"notes"', '"notes"\nwas = "diary"'))
    run("write", str(made), "--yes", status=0)
    for key, words in (('spread = "striped"', "striped over 2"), ('spread = "mirrored"', "mirrored over 2")):
        write_sheet(folder, TWO, READINGS.format("320 MiB", key) + NOTES.format("100 MiB"))
        assert words in refused(made, "pool-cannot-be-changed")
    write_sheet(folder, TWO, both, POOL.replace("1 MiB", "2 MiB"))
    assert "its extents have" in refused(made, "pool-cannot-be-changed")
    write_sheet(folder, TWO, both.replace("xfs", "ext4"))
    refused(made, "pool-cannot-be-changed")
    write_sheet(folder, TWO, READINGS.format("900 MiB", "") + NOTES.format("100 MiB"))
    assert "392 MiB" in refused(made, "pool-without-room")
    write_sheet(folder, TWO, READINGS.format("100 MiB", "") + NOTES.format("100 MiB"))
    assert "xfs" in refused(made, "cannot-be-changed")
    write_sheet(folder, TWO, READINGS.format("320 MiB", ""))
    assert rules(facts("review", str(made))) == ["volume-left-over"]
    assert "retire" in run("review", str(made)).stdout
    write_sheet(folder, [("a", 200, "raw"), ("b", 250, "qcow2")], both)
    refused(made, "cannot-be-changed")
    write_sheet(folder, TWO[:1], both)
    assert "member" in refused(made, "member-missing")
    write_sheet(folder, TWO, READINGS.format("320 MiB", "") + NOTES.format("80 MiB") + "mode = '2770'\n")
    run("write", str(made), "--yes", status=0)
    (pool,) = facts("review", str(made))["pools"]
    assert pool["state"] == "as asked" and pool["volumes"][1]["size"] == 80 * MIB
    assert facts("confirm", str(made))["agrees"]
    write_sheet(folder, [("a", 260, "raw"), ("b", 300, "qcow2"), ("c", 100, "vhdx")], both.replace("320 MiB", "rest"))
    run("write", str(made), "--yes", status=0)
    (pool,) = facts("review", str(made))["pools"]
    assert pool["free"] == 0 and pool["volumes"][0]["disks"] == ["a", "b", "c"]
    assert sum(one["usable"] for one in pool["members"]) == sum(one["size"] for one in pool["volumes"])
    assert facts("confirm", str(made))["agrees"]


def test_usable_is_what_can_be_filled(tmp_path: Path) -> None:
    usable = NOTES.format("rest").replace('size = "rest"', 'usable = "150 MB"')
    sheet = write_sheet(tmp_path, TWO, usable + READINGS.format("25%", "").replace("xfs", "ext4"))
    run("write", str(sheet), "--yes", status=0)
    (pool,) = facts("review", str(sheet))["pools"]
    notes, readings = pool["volumes"]
    assert notes["shows"]["available"] >= 150_000_000 > notes["shows"]["available"] - 3 * MIB
    assert readings["size"] == (196 + 296) // 4 * MIB
    write_sheet(tmp_path, TWO, usable.replace("150 MB", "250 MB") + READINGS.format("25%", "").replace("xfs", "ext4"))
    run("write", str(sheet), "--yes", status=0)
    notes = facts("review", str(sheet))["pools"][0]["volumes"][0]
    assert notes["shows"]["available"] >= 250_000_000
    assert facts("confirm", str(sheet))["agrees"]


def test_what_is_gone_is_told_and_nothing_is_made_in_its_place(made: Path) -> None:
    """A member's image lost, or made anew under its pool: refused until it is back; copies of it are told apart."""
    shelf = made.parent / "shelf"
    (shelf / "b.qcow2").rename(made.parent / "kept")
    assert "member" in refused(made, "member-missing", "image-missing")
    said = run("survey", str(shelf / "a.raw")).stdout
    assert "missing" in said and "cold" in said
    run("write", str(made), "--yes", "--anew", "b", status=1)
    (made.parent / "kept").rename(shelf / "b.qcow2")
    assert facts("confirm", str(made))["agrees"]
    shutil.copy(shelf / "a.raw", shelf / "twin.raw")
    twice = facts("survey", *(str(shelf / name) for name in ("a.raw", "b.qcow2", "twin.raw")), status=None)
    assert "member-twice" in [one["rule"] for pool in twice[0]["pools"] for one in pool["findings"]]


def test_volumes_and_members_are_retired(made: Path) -> None:
    folder = made.parent
    assert "member of pool cold" in run("retire", str(made), "a", "--yes", status=2).stderr
    run("retire", str(made), "cold.readings", "--yes", status=0)
    assert "readings" not in made.read_text() + (folder / "root" / "etc" / "fstab").read_text()
    assert facts("confirm", str(made))["agrees"]
    text = made.read_text().replace(ON, 'filesystem = "none"', 1)
    made.write_text(text)
    run("write", str(made), "--yes", status=0)
    assert facts("survey", str(folder / "shelf" / "a.raw"))[0]["partitions"][0]["member"] is None
    run("retire", str(made), "a", "--yes", status=0)
    assert facts("confirm", str(made))["agrees"] and not (folder / "shelf" / "a.raw").exists()
    run("retire", str(made), "cold.nothing", "--yes", status=2)


def test_pools_of_others_are_adopted_and_grown(made: Path, tmp_path: Path) -> None:
    """A pool that no sheet knows is taken into one, its ids kept, and becomes larger."""
    other = tmp_path / "other"
    (other / "shelf").mkdir(parents=True)
    for image in (made.parent / "shelf").iterdir():
        shutil.copy(image, other / "shelf")
    images = [str(one) for one in sorted((other / "shelf").iterdir())]
    sheet = other / "sheet.toml"
    assert "on none of the images" in run("draft", str(sheet), "--adopt", images[0], "--guest", "g", status=2).stderr
    run("draft", str(sheet), *(word for one in images for word in ("--adopt", one)), "--guest", "g", status=0)
    assert facts("confirm", str(sheet))["agrees"]
    sheet.write_text(sheet.read_text().replace(f"{320 * MIB} B", "380 MiB"))
    run("write", str(sheet), "--yes", status=0)
    before, after = (facts("review", str(one))["pools"][0]["volumes"][0] for one in (made, sheet))
    assert after["size"] == 380 * MIB and after["id"] == before["id"] and after["uuid"] == before["uuid"]


def test_windows_guests_have_no_pools(tmp_path: Path) -> None:
    sheet = write_sheet(tmp_path, TWO, NOTES.format("100 MiB"))
    sheet.write_text(sheet.read_text().replace('root = "root"', 'runs = "windows"'))
    found = facts("review", str(sheet), status=None)["findings"]
    assert "not-for-guest" in [one["rule"] for one in found if one["level"] == "error"]


def test_a_volume_over_stores_is_told_of(tmp_path: Path) -> None:
    (tmp_path / "attic").mkdir()
    disks = DISK.format("a", 100, "raw", "shelf", ON) + DISK.format("b", 100, "raw", "attic", ON)
    sheet = make_sheet(tmp_path, disks + POOL + NOTES.format("150 MiB"), store='[store.attic]\npath = "attic"')
    assert "volume-over-stores" in rules(facts("review", str(sheet)))
    mirrored = NOTES.format("80 MiB") + 'spread = "mirrored"\n'
    make_sheet(tmp_path, disks + POOL + mirrored, store='[store.attic]\npath = "attic"')
    assert rules(facts("review", str(sheet))) == ["mirror-is-copied"]


class Power:
    """What goes at the call to write or resize a file that comes as number `moment`, while a pool is changed."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.moment = self.calls = 0
        self.works = False
        change = ChangePool.apply
        for name in ("write", "resize"):
            monkeypatch.setattr(FileDevice, name, self.counted(getattr(FileDevice, name)))
        monkeypatch.setattr(ChangePool, "apply", lambda step: self.watched(change, step))

    def counted(self, real: Any) -> Any:
        """Return a call that is counted, and at which the process ends at its moment."""

        def call(device: FileDevice, *words: Any) -> Any:
            self.calls += self.works
            if self.works and self.calls > self.moment:
                os._exit(9)
            return real(device, *words)

        return call

    def watched(self, change: Any, step: ChangePool) -> Any:
        """Do a step while calls are counted."""
        self.works = True
        return change(step)

    def goes(self, moment: int, sheet: Path) -> bool:
        """Write a sheet in a process of its own, with a cut at a moment; return whether it came to that."""
        self.moment = moment
        child = os.fork()
        if not child:
            with contextlib.suppress(BaseException):
                write(sheet)
                os._exit(0)
            os._exit(1)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        assert status in (0, 9)
        return status == 9


def test_a_cut_at_any_write_leaves_the_old_pool_or_the_new_one(
    made: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Growth over a third disk, cut before each call that writes: a survey sees old or new, and a write goes on."""
    volumes = READINGS.format("500 MiB", "") + NOTES.format("120 MiB")
    write_sheet(made.parent, [*TWO, ("c", 200, "vhdx")], volumes)
    template, folder = tmp_path.parent / "template", tmp_path.parent / "try"
    sheet = folder / "sheet.toml"
    copied(made.parent, template)
    power, moment, sizes = Power(monkeypatch), 0, set[tuple[int, ...]]()
    copied(template, folder)
    while power.goes(moment, sheet):
        layout = review(sheet).layout
        assert layout.pools[0].before is not None
        sizes.add(tuple(one.count for one in layout.pools[0].before.shown))
        assert not [one for one in layout.findings if one.level == "error"], (moment, layout.findings)
        assert not power.goes(1 << 30, sheet)
        after = review(sheet).layout
        assert after.pools[0].state == "as asked" and not after.differences, moment
        assert not [one for one in (folder / "shelf").iterdir() if one.name.startswith(".")]
        moment += 1 if moment < 12 else 5
        copied(template, folder)
    assert sizes == {(320, 100), (500, 120)} and moment > 40


@pytest.mark.parametrize("sealed", ["", 'sealed = {memory = "8 MiB", passes = 1}'])
def test_a_root_lies_on_a_volume(tmp_path: Path, sealed: str) -> None:
    """A guest's root on a volume over two images, sealed or not: surveyed, looked into, and written to all at once."""
    (tmp_path / "words").write_text("spring intake")
    words = ("--passphrase-file", str(tmp_path / "words"))
    system = tmp_path / "system"
    root = f'[[pool.cold.volume]]\nname = "root"\nsize = "300 MiB"\n{sealed}\n'
    run("write", str(write_sheet(system, TWO, root)), "--yes", *words, status=0)
    images = [str(system / "shelf" / name) for name in ("a.raw", "b.qcow2")]
    made = make_root(tmp_path / "made", b"# kept\n")
    (made / "srv").mkdir()
    with unsealing(Keyring([b"spring intake"])):
        fill_root(Path(images[0]), made, "cold.root", tuple(images[1:]))
    found = facts("survey", *images, *words)[0]["pools"][0]
    assert found["missing"] == [] and found["volumes"][0]["filesystem"]["kind"] == "ext4"
    assert "lives here" in run("survey", *images, *words, status=0).stdout
    guest = f'root = {{image = "{images[0]}", volume = "cold.root", members = ["{images[1]}"]}}'
    sheet = make_sheet(tmp_path / "data", DISK.format("d", 64, "raw", "shelf", 'at = "/srv/d"'), guest=guest)
    run("write", str(sheet), "--yes", *words, status=0)
    assert facts("confirm", str(sheet), *words)["agrees"]
    told = facts("look", f"{images[0]}:cold.root", "/etc/fstab", "--member", images[1], *words)["text"]
    assert told.startswith("# kept\n") and told.splitlines()[1].split()[1] == "/srv/d"
    assert run("look", f"{images[0]}:cold.root", "/etc/fstab", *words, status=2).stderr
    if sealed:
        assert "root-missing" in rules(facts("review", str(sheet), status=1))
    assert facts("confirm", str(system / "sheet.toml"), *words)["agrees"]
