"""The installed program on files in a temporary folder, as a technician uses it."""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import signal
import subprocess
import tempfile
import time
from pathlib import Path
from shutil import which

import pytest

from narvet.block.locks import exclusive_lock
from narvet.ground.rules import RULES
from narvet.observe.images import survey
from tests.program import PROGRAM, disk, facts, make_sheet, rules, run


def contents(folder: Path) -> dict[str, tuple[str, int]]:
    """Return checksum and time of change of every file; large ones by what is stored of them."""
    found = {}
    for path in sorted(folder.rglob("*")):
        if path.is_file() and not path.is_symlink():
            with path.open("rb") as file:
                text = file.read(4 << 20)
            found[str(path)] = (hashlib.sha256(text).hexdigest(), path.stat().st_mtime_ns)
    return found


def test_the_example_from_end_to_end(example: Path) -> None:
    sheet = str(example / "sheet.toml")
    before = contents(example)
    assert "All is as asked; nothing was changed." in run("write", sheet, status=0).stdout
    assert contents(example) == before
    review = facts("review", sheet)
    assert set(review) == {
        "title", "disks", "doors", "pools", "stores", "changes", "entries", "unlocks", "findings", "mark",
    }  # fmt: skip
    assert [one["state"] for one in review["disks"]] == ["as asked"] * 9
    assert sorted(rules(review)) == [
        "cluster-limits", *["sector-not-recorded"] * 3, "size-rounded", "size-rounded", "store-overpromised", "thin-shows-use",
        "unlocking-takes-memory",
    ]  # fmt: skip
    by_name = {one["name"]: one for one in review["disks"]}
    assert 100_000_000_000 <= by_name["notes"]["partitions"][0]["shows"]["available"] < 100_000_000_000 + (1 << 20)
    words = ("--passphrase-file", str(example / "passphrase"))
    found = facts("survey", *(one["path"] for one in review["disks"]), *words)
    for asked, there in zip(review["disks"], found, strict=True):
        for key in ("format", "space", "size", "table", "table_id"):
            assert asked[key] == there[key]
        for part, inside in zip(asked["partitions"], there["partitions"], strict=True):
            for key in ("number", "label", "start", "size", "type", "id"):
                assert part[key] == inside[key] or (key == "label" and asked["table"] == "mbr")
            if inside["member"] is not None:
                assert inside["member"]["pool"] == "cold" and part["filesystem"] is None
                continue
            if part["filesystem"] is None:
                assert inside["filesystem"] is None and inside["type"].startswith("e3c9e316")
                continue
            assert inside["filesystem"]["kind"] == part["filesystem"] and inside["filesystem"]["uuid"] == part["uuid"]
            assert inside["filesystem"]["free"] == part["shows"]["free"]
        assert there["sector"] == asked["sector"] and set(rules(there)) <= {"sector-not-recorded"}
    assert [one["block"] for one in found][:2] == [2 << 20, 64 << 10] and found[2]["block"] is None
    assert [one["format"] for one in found] == ["vhdx", "qcow2", "raw", "raw", "vhd", "vhdx", "vhdx", "vhd", "raw"]
    assert all(
        asked["stores_now"] + 16384 >= there["allocated"] for asked, there in zip(review["disks"], found, strict=True)
    )
    assert found[0]["allocated"] < 8 << 20 and found[1]["allocated"] < 160 << 20  # the sealed one: with its journal
    assert facts("confirm", sheet) == {"agrees": True, "differences": []}
    fstab = (example / "guests" / "germination" / "etc" / "fstab").read_text().splitlines()
    assert sorted(fstab[-3:]) == sorted(review["entries"]["germination"]) and fstab[0].startswith("# fstab of")
    ledger = [json.loads(line) for line in (example / "sheet.ledger.jsonl").read_text().splitlines()]
    made = (
        ["image"] * 7 + ["image", "pool"] + ["mount point"] * 5 + ["unlocks"] + ["entries"] * 2 + ["registry text"] * 2
    )
    changed = ["image"] + ["disk changed"] * 2 + ["pool changed", "mount point", "mount point removed", "entries"]
    hung = ["attached"] * 2 + ["detached"] * 2 if which("qemu-system-x86_64") else []
    assert [line["did"] for line in ledger] == [*made, *hung, "attached", "attached", *changed]
    assert "ovf:/disk/disk-cold-b" in (example / "guests" / "coldroom.ovf").read_text()


def test_output_fits_80_columns_and_needs_no_unicode(example: Path) -> None:
    narrow = {**os.environ, "COLUMNS": "80"}
    for words in (
        ["review", "sheet.toml"],
        ["survey", "stores/annex/logs.vhd", "stores/annex/pictures.vhdx"],
        ["confirm", "sheet.toml"],
        ["explain"],
    ):
        shown = run(*words, status=0, env=narrow, cwd=example).stdout
        assert max(len(line.rstrip()) for line in shown.splitlines()) <= 80
        assert "\x1b" not in shown
        plain = run(*words, status=0, env={**narrow, "PYTHONIOENCODING": "ascii"}, cwd=example)
        assert plain.stdout.isascii()


def test_help_shows_an_example_for_every_command() -> None:
    for name in (
        "demo",
        "draft",
        "review",
        "write",
        "survey",
        "confirm",
        "make",
        "recast",
        "branch",
        "fold",
        "reclaim",
        "retire",
        "picture",
        "explain",
        "entries",
    ):
        assert f"Example: narvet {name}" in run(name, "--help", status=0).stdout
    assert "Usage: narvet" in run("--help", status=0).stdout
    run("polish", status=2)
    run("review", status=2)


def test_rules_are_explained() -> None:
    told = run("explain", "zone-differs", "file-limit", status=0).stdout
    assert told.startswith("zone-differs\n  The disk's store") and "fat32 ends at 4 GiB" in told
    assert {one["rule"] for one in facts("explain")} == set(RULES)
    keys = facts("explain", "usable", "disk.hold", "zone-differs")
    assert [(one.get("rule"), one.get("table")) for one in keys] == [
        ("zone-differs", None), (None, "disk"), (None, "disk.partition"), (None, "pool.volume"), (None, "disk"),
    ]  # fmt: skip
    assert "instead of size" in run("explain", "usable", status=0).stdout
    assert 'the nearest is "usable"' in run("explain", "usabel", status=2).stderr
    assert 'the nearest is "review"' in run("reveiw", "x", status=2).stderr
    assert 'the nearest is "zone-differs"' in run("explain", "zones-differ", status=2).stderr


def test_demo_needs_a_new_folder(tmp_path: Path) -> None:
    (tmp_path / "kept").write_text("mine")
    assert "is there already" in run("demo", str(tmp_path), status=2).stderr
    assert (tmp_path / "kept").read_text() == "mine"


def test_what_lies_in_the_way_is_never_touched(tmp_path: Path) -> None:
    """Zero bytes, random bytes, a foreign disk, a cut one, a folder and a link: refused, and left as they are."""
    sheet = make_sheet(tmp_path, disk("a", 'size = "64 MiB"', 'at = "/srv/a"'))
    image = tmp_path / "shelf" / "a.raw"
    elsewhere = tmp_path / "other"
    other = make_sheet(elsewhere, disk("b", 'size = "64 MiB"', ""))
    run("write", str(other), status=0)
    foreign = (elsewhere / "shelf" / "b.raw").read_bytes()
    for content in (b"", random.Random(1).randbytes(70000), foreign, foreign[: 20 << 20]):
        image.write_bytes(content)
        done = run("write", str(sheet), status=1)
        assert "image-in-the-way" in done.stderr and "move it away" in done.stderr
        assert image.read_bytes() == content
        assert not facts("confirm", str(sheet), status=1)["agrees"]
    image.unlink()
    for link in (False, True):
        if link:
            image.symlink_to("/nowhere")
        else:
            image.mkdir()
        assert "image-in-the-way" in rules(facts("review", str(sheet), status=1))
        run("write", str(sheet), status=1)
        if link:
            image.unlink()
        else:
            image.rmdir()
    run("write", str(sheet), status=0)


@pytest.mark.parametrize(
    ("content", "rule", "status"),
    [
        (b"", "image-empty", 1),
        (random.Random(2).randbytes(1 << 20), "bytes-not-known", 0),
        (bytes(1 << 20), "bytes-not-known", 0),
        (b"x", "bytes-not-known", 0),
    ],
)
def test_survey_of_what_is_no_disk(tmp_path: Path, content: bytes, rule: str, status: int) -> None:
    (tmp_path / "image").write_bytes(content)
    assert rules(facts("survey", str(tmp_path / "image"), status=status)[0]) == [rule]
    assert rule in run("survey", str(tmp_path / "image"), status=status).stdout


def test_survey_of_what_is_no_file(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    for name, message in (
        (".", "there is no image in this folder"),
        ("gone", "no such file"),
        ("pipe", "neither a file"),
        ("gone/x", "no such"),
    ):
        assert message in run("survey", str(tmp_path / name), status=2).stderr
    with (tmp_path / "blank").open("wb") as file:
        file.truncate(1 << 40)
    assert rules(facts("survey", str(tmp_path / "blank"))[0]) == ["image-blank"]


@pytest.mark.skipif(os.geteuid() == 0 and not Path("/usr/bin/setpriv").exists(), reason="needs a user without rights")
def test_no_permission(request: pytest.FixtureRequest) -> None:
    """A store that cannot be written to is known beforehand; an image that cannot be read ends with status 3."""
    folder = Path(tempfile.mkdtemp())  # not below a folder that other test runs take for themselves alone
    request.addfinalizer(lambda: shutil.rmtree(folder))
    sheet = make_sheet(folder, disk("a", 'size = "8 MiB"', ""))
    hidden = folder / "hidden"
    hidden.write_bytes(b"x")
    hidden.chmod(0)
    (folder / "shelf").chmod(0o555)
    folder.chmod(0o777)
    without = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"] if os.geteuid() == 0 else []
    for words, status, message in (
        (["write", str(sheet)], 1, "store-not-writable"),
        (["survey", str(hidden)], 3, "Permission denied"),
    ):
        done = subprocess.run([*without, PROGRAM, *words], capture_output=True, text=True, check=False)
        if "can't open file" in done.stderr or (done.returncode == 1 and status == 3):
            pytest.skip("the program itself cannot be read by that user")
        assert (done.returncode, message in done.stderr) == (status, True), done.stderr


@pytest.mark.kernel
def test_a_full_store(tmp_path: Path) -> None:
    """On a small real filesystem: known beforehand; and if it fills up meanwhile, no half image is left."""
    store = tmp_path / "shelf"
    store.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", str(store)], check=True)
    try:
        full = make_sheet(tmp_path, disk("a", 'size = "40 MiB"\nspace = "full"', ""))
        assert "store-without-room" in run("write", str(full), status=1).stderr
        assert list(store.iterdir()) == []
        several = make_sheet(tmp_path, "".join(disk(name, 'size = "1 MiB"\nspace = "full"') for name in "abcd"))
        assert "store-without-room" in run("write", str(several), status=1).stderr
        filler = store / "filler"
        script = (
            "import pathlib, sys; from narvet.apply import staging; make = staging.publish\n"
            f"filler = pathlib.Path({str(filler)!r})\n"
            "def fill_up(*words): make(*words); filler.write_bytes(bytes(1200 << 10))\n"
            "staging.publish = fill_up\n"
            "from narvet.cli.main import run; run()"
        )
        two = make_sheet(
            tmp_path, disk("a", 'size = "1 MiB"\nspace = "full"') + disk("b", 'size = "1 MiB"\nspace = "full"')
        )
        done = subprocess.run(
            [PROGRAM.with_name("python"), "-c", script, "write", str(two)], capture_output=True, text=True, check=False
        )
        assert done.returncode == 3 and "No space left" in done.stderr and "Traceback" not in done.stderr
        assert sorted(path.name for path in store.iterdir()) == ["a.raw", "filler"]
        filler.unlink()
        assert facts("write", str(two))["done"] == [str(store / "b.raw")]
    finally:
        subprocess.run(["umount", str(store)], check=True)


def test_killed_at_any_moment_the_next_write_finishes(tmp_path: Path) -> None:
    disks = "".join(disk(f"d{n}", 'size = "90 GiB"', f'at = "/srv/d{n}"') for n in range(6))
    sheet = make_sheet(tmp_path, disks)
    dice = random.Random(5)
    for _ in range(25):
        process = subprocess.Popen([PROGRAM, "write", str(sheet)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(0.25 + dice.random() * 0.5)
        process.send_signal(signal.SIGKILL)
        process.wait()
        for image in (tmp_path / "shelf").glob("d*.raw"):
            found = survey(str(image), deep=False)
            inside = found.partitions[0].filesystem
            assert found.size == 90 << 30 and inside is not None and inside.kind == "ext4" and not found.findings
        fstab = (tmp_path / "root" / "etc" / "fstab").read_bytes()
        assert fstab == b"" or fstab.count(b"\n") == 6
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"]
    assert [path.name for path in (tmp_path / "shelf").iterdir() if path.suffix != ".raw"] == []


def test_two_at_once_and_an_early_reader(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', ""))
    with exclusive_lock(sheet):
        assert "another Narvet is at work" in run("write", str(sheet), status=3).stderr
    done = subprocess.run(
        f"{PROGRAM} review {sheet} | head -c 5", shell=True, capture_output=True, text=True, check=False
    )
    assert done.stdout == "sheet" and done.stderr == ""


def test_a_folder_stands_for_the_images_in_it(tmp_path: Path) -> None:
    for name, more in (("b.raw", ()), ("a.vmdk", ("--pieces", "8 MiB")), ("c.qcow2", ())):
        run(
            "make",
            str(tmp_path / name),
            "--size",
            "24 MiB",
            "--filesystem",
            "ext4",
            "--label",
            name[0],
            *more,
            status=0,
        )
    (tmp_path / "c.qcow2").rename(tmp_path / "without-ending")
    (tmp_path / "notes.txt").write_text("no image")
    found = facts("survey", str(tmp_path))
    assert [Path(one["path"]).name for one in found] == ["a.vmdk", "b.raw", "without-ending"]
    assert [one["partitions"][0]["label"] for one in found] == ["a", "b", "c"]
    told = run("survey", str(tmp_path), status=0).stdout
    assert told.splitlines()[0].split() == ["image", "size", "stored", "format", "holds"] and "GPT: a ext4" in told


def test_history_tells_what_the_ledger_has(example: Path, tmp_path: Path) -> None:
    sheet = str(example / "sheet.toml")
    rows = [json.loads(line) for line in (example / "sheet.ledger.jsonl").read_text().splitlines()]
    events = facts("history", sheet)
    assert [(one["when"], one["touched"]) for one in events] == [(row["when"], row["touched"]) for row in rows]
    own = facts("history", sheet, "trials")
    assert own == [one for one in events if one["disk"] == "trials"] and own[0]["did"] == "made"
    told = run("history", sheet, status=0).stdout
    assert "changed, 160 GiB" in told and "attached to coldroom" in told
    assert 'the nearest is "trials"' in run("history", sheet, "trals", status=2).stderr
    assert "there is no ledger" in run("history", str(tmp_path / "s.toml"), status=2).stderr
    wild = [b"{}", b"[1]", b"\xff", b'{"did": ["x"], "when": 7, "size": -1, "disk": "\\u001b[2J"}', b"{" * 5000]
    (tmp_path / "s.ledger.jsonl").write_bytes(b"\n".join(wild))
    done = run("history", str(tmp_path / "s.toml"), status=0)
    assert "\x1b" not in done.stdout and len(facts("history", str(tmp_path / "s.toml"))) == 2
