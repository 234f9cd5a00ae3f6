"""Volumes that sheets order from a service: whole lives of them, whatever goes wrong, and what is refused."""

from __future__ import annotations

import json
import os
import random
import subprocess
import time
from pathlib import Path
from typing import Any

import httpx
import pytest

from narvet.ground.units import MIB
from narvet.standin.shelf import EXAMPLE
from tests.program import IDENTITY, PROGRAM, facts, run
from tests.test_services import serving

FILESYSTEMS = {"trials": "ext4", "notes": "xfs"}
SMALL = 64 * MIB  # the least volume, and the step between sizes


def offering(folder: Path) -> Path:
    """Lay a service's folder out that offers small volumes."""
    folder.mkdir()
    (folder / "service.toml").write_text(EXAMPLE.replace("1_073_741_824", str(SMALL)))
    return folder


def sheet(folder: Path, url: str, disks: str = "", **store: str | None) -> Path:
    """Write a sheet with a store whose volumes are ordered; without `disks` it has two."""
    keys = {"service": url, "zone": "north", "class": "calm", **store}
    own = "\n".join(f'{key} = "{value}"' for key, value in keys.items() if value is not None)
    text = "".join(
        f'[disk.{name}]\nguest = "records"\nstore = "cloud"\nsize = "320 MiB"\n'
        f'[[disk.{name}.partition]]\nfilesystem = "{kind}"\nat = "/srv/{name}"\nowner = "5000:5000"\n'
        for name, kind in FILESYSTEMS.items()
    )
    (folder / "shelf").mkdir(exist_ok=True)
    path = folder / "sheet.toml"
    path.write_text(
        f'sheet = 1\nidentity = "{IDENTITY}"\n[store.cloud]\npath = "shelf"\n{own}\n[store.vault]\npath = "shelf"\n'
        f'[guest.records]\nruns = "linux"\n[guest.coldroom]\nruns = "linux"\n{disks or text}'
    )
    return path


def volumes(url: str) -> dict[str, Any]:
    """Return what the service has, by the disks that it is for; no disk twice."""
    found = httpx.get(f"{url}/v1/volumes").json()
    assert len({one["tags"]["disk"] for one in found}) == len(found)
    return {one["tags"]["disk"]: one for one in found}


def plain(folder: Path, path: Path) -> Path:
    """Write the same disks as raw images; return their folder."""
    (folder / "plain").mkdir()
    text = path.read_text().replace('path = "shelf"', 'path = "plain"')
    keys = ("service =", "class =")
    (folder / "plain.toml").write_text("\n".join(line for line in text.splitlines() if not line.startswith(keys)))
    run("write", str(folder / "plain.toml"), "--yes", status=0)
    return folder / "plain"


def test_a_volume_from_its_order_to_its_end(tmp_path: Path) -> None:
    """Ordered, filled as an image of the same sheet is, attached, read back, left alone, looked into, given back."""
    with serving(offering(tmp_path / "cloud"), "--delay", "0.3") as (url, _):
        path = sheet(tmp_path, url)
        review = facts("review", str(path))
        assert review["findings"] == [] and volumes(url) == {}
        run("write", str(path), "--yes", status=0)
        there = volumes(url)
        for name, one in there.items():
            assert (one["state"], one["guest"], one["bytes"], one["zone"]) == (
                "attached",
                "records",
                320 * MIB,
                "north",
            )
            assert one["tags"]["sheet"] == IDENTITY
            made, wanted = (tmp_path / "cloud" / f"{one['id']}.raw", plain_of(tmp_path, path) / f"{name}.raw")
            assert made.read_bytes() == wanted.read_bytes()
            assert made.stat().st_blocks < 100 * 2048
        assert (
            facts("confirm", str(path))["agrees"] and "nothing was changed" in run("write", str(path), "--yes").stdout
        )
        assert facts("review", str(path))["disks"][0]["state"] == "as asked"
        assert "lost+found" in run("look", "shelf/trials.volume:1", "/", status=0, cwd=tmp_path).stdout
        run("recast", "shelf/trials.volume", "copy.raw", status=0, cwd=tmp_path)
        assert (tmp_path / "copy.raw").read_bytes() == (tmp_path / "plain" / "trials.raw").read_bytes()
        # What its guest, or somebody at the service, changes is seen.
        file = tmp_path / "cloud" / f"{there['notes']['id']}.raw"
        with file.open("r+b") as opened:
            opened.seek(1024 * 1024)
            opened.write(b"?" * 512)
        assert not facts("confirm", str(path), status=1)["agrees"]
        with file.open("r+b") as opened:
            opened.seek(1024 * 1024)
            opened.write((tmp_path / "plain" / "notes.raw").read_bytes()[1024 * 1024 :][:512])
        httpx.delete(f"{url}/v1/volumes/{there['notes']['id']}/place")
        time.sleep(0.5)
        assert not facts("confirm", str(path), status=1)["agrees"]
        assert "attached to guest records" in run("write", str(path), "--yes", status=0).stdout
        assert volumes(url)["notes"]["guest"] == "records"
        run("retire", str(path), "trials", "--yes", status=0)
        assert list(volumes(url)) == ["notes"] and not (tmp_path / "shelf" / "trials.volume").exists()
        text = path.read_text()
        path.write_text(text[: text.index("[disk.notes]")])
        assert "disk-left-over" in run("review", str(path)).stdout
        run("retire", str(path), "notes", "--yes", status=0)
        assert volumes(url) == {} and list((tmp_path / "shelf").glob("[!.]*")) == []
    said = (tmp_path / "sheet.ledger.jsonl").read_text()
    assert [json.loads(line)["did"] for line in said.splitlines()].count("volume attached") == 3


def plain_of(folder: Path, path: Path) -> Path:
    return folder / "plain" if (folder / "plain").exists() else plain(folder, path)


def test_a_size_that_follows_is_one_that_there_is(tmp_path: Path) -> None:
    """A disk that is to have so much room gets the next size of the class, and the room is there."""
    disk = DISK.replace('size = "320 MiB"\n', 'usable = "300 MiB"\n')
    with serving(offering(tmp_path / "cloud")) as (url, _):
        path = sheet(tmp_path, url, disk)
        run("write", str(path), "--yes", status=0)
        (one,) = facts("review", str(path))["disks"]
        assert one["size"] % SMALL == 0 and one["partitions"][0]["shows"]["available"] >= 300 * MIB
        assert volumes(url)["trials"]["bytes"] == one["size"] and facts("confirm", str(path))["agrees"]


DISK = '[disk.trials]\nguest = "records"\nstore = "cloud"\nsize = "320 MiB"\n[[disk.trials.partition]]\nfilesystem = "ext4"\n'


@pytest.mark.parametrize(
    ("store", "disks", "rule"),
    [
        ({"zone": None}, DISK, "not-offered"),
        ({"zone": "west"}, DISK, "not-offered"),
        ({"class": None}, DISK, "not-offered"),
        ({"class": "odd"}, DISK, "not-offered"),
        ({"zone": "south"}, DISK, "guest-not-there"),
        ({}, DISK.replace('"records"', '"coldroom"'), "guest-not-there"),
        ({}, DISK.replace("320 MiB", "330 MiB"), "size-not-offered"),
        ({}, DISK.replace("320 MiB", "32 MiB"), "size-not-offered"),
        (
            {},
            "".join(DISK.replace("320 MiB", "1000 GiB").replace("trials", f"t{n}") for n in range(5)),
            "store-without-room",
        ),
        ({}, "".join(DISK.replace("trials", f"t{n}") for n in range(41)), "too-many-volumes"),
        ({"service": "http://127.0.0.1:9"}, DISK, "service-not-answering"),
    ],
)
def test_what_a_service_does_not_have_is_told_beforehand(
    tmp_path: Path, store: dict[str, str | None], disks: str, rule: str
) -> None:
    """A finding of the review, asked of the service; nothing is ordered."""
    with serving(offering(tmp_path / "cloud")) as (url, _):
        path = sheet(tmp_path, url, disks, **store)
        told = run("write", str(path), "--yes", status=1)
        assert rule in told.stdout + told.stderr and "Nothing was written" in told.stdout + told.stderr
        assert volumes(url) == {} and not (tmp_path / "sheet.ledger.jsonl").exists()


def test_a_sheet_that_changes_afterwards(tmp_path: Path) -> None:
    """Whatever differs at the second write is refused or told; the volume stays as it is, and the only one."""
    with serving(offering(tmp_path / "cloud")) as (url, _):
        path = sheet(tmp_path, url, DISK)
        run("write", str(path), "--yes", status=0)
        before, text = volumes(url), path.read_text()
        for old, new, status, said in (
            ("320 MiB", "640 MiB", 1, "volume-cannot-change"),
            ('"north"', '"south"', 1, "image-differs"),
            ('"calm"', '"brisk"', 1, "image-differs"),
            ('store = "cloud"', 'store = "vault"', 1, "volume-cannot-change"),
            ('guest = "records"', 'guest = "coldroom"', 1, "volume-cannot-change"),
            ('"ext4"', '"xfs"', 1, "image-differs"),
            ("[[disk", 'format = "raw"\n[[disk', 2, "has no such key"),
            ("[[disk", 'slot = "scsi 3"\n[[disk', 2, "has no such key"),
            ("[[disk", 'serial = "abc"\n[[disk', 2, "has no such key"),
        ):
            path.write_text(text.replace(old, new))
            told = run("write", str(path), "--yes", status=status)
            assert said in told.stdout + told.stderr, (old, new, told)
            assert volumes(url) == before
        # A record that is gone, and a ledger too: what is there is not ordered again, nor written over.
        path.write_text(text)
        record = tmp_path / "shelf" / "trials.volume"
        kept = record.read_bytes()
        record.unlink()
        run("write", str(path), "--yes", status=1)
        for words in (("--anew", "trials"), ()):
            (tmp_path / "sheet.ledger.jsonl").unlink(missing_ok=True)
            for _ in range(2):
                told = run("write", str(path), "--yes", *words, status=1)
                assert "volume-without-record" in told.stdout + told.stderr
        httpx.delete(f"{url}/v1/volumes/{before['trials']['id']}/place")
        assert "volume-without-record" in run("review", str(path), status=1).stdout
        record.write_bytes(kept)
        run("write", str(path), "--yes", status=0)
        assert volumes(url) == before and facts("confirm", str(path))["agrees"]
        # A volume that somebody gave back is told of, and retired.
        httpx.delete(f"{url}/v1/volumes/{before['trials']['id']}/place")
        httpx.delete(f"{url}/v1/volumes/{before['trials']['id']}")
        told = run("write", str(path), "--yes", status=1)
        assert "somebody gave it back" in told.stdout + told.stderr
        run("retire", str(path), "trials", "--yes", status=0)
        assert list((tmp_path / "shelf").glob("[!.]*")) == [] and "disk.trials" not in path.read_text()


def test_what_somebody_else_ordered_is_never_written_over(tmp_path: Path) -> None:
    """A volume of the same key that was not begun here, seen only as it is ordered: refused, however often."""
    with serving(offering(tmp_path / "first")) as (url, _):
        path = sheet(tmp_path, url, DISK)
        run("write", str(path), "--yes", status=0)
    ledger = tmp_path / "sheet.ledger.jsonl"
    key = json.loads(ledger.read_text().splitlines()[0])["key"]
    ledger.unlink()
    (tmp_path / "shelf" / "trials.volume").unlink()
    with serving(offering(tmp_path / "cloud")) as (url, _):
        order = {"zone": "north", "class": "calm", "bytes": 320 * MIB, "tags": {"disk": "theirs"}}
        theirs = httpx.put(f"{url}/v1/orders/{key}", json=order).json()
        file = tmp_path / "cloud" / f"{theirs['id']}.raw"
        with file.open("r+b") as opened:
            opened.write(b"theirs")
        path = sheet(tmp_path, url, DISK)
        for _ in range(3):
            assert "not begun here" in run("write", str(path), "--yes", status=3).stderr
        assert file.read_bytes()[:6] == b"theirs" and list(volumes(url)) == ["theirs"]


def test_what_a_cut_left_is_told_of(tmp_path: Path) -> None:
    """An order that was begun, and whose disk is taken out of the sheet: told of until it is finished and retired."""
    with serving(offering(tmp_path / "cloud"), "--delay", "4") as (url, _):
        path = sheet(tmp_path, url, DISK)
        with subprocess.Popen([PROGRAM, "write", str(path), "--yes"], stdout=subprocess.DEVNULL) as process:
            while not volumes(url):
                time.sleep(0.05)
            process.kill()
        whole = path.read_text()
        path.write_text(whole[: whole.index("[disk.trials]")])
        assert "volume-left-over" in run("review", str(path), status=0).stdout
        # With a quota that has room for no more than what was begun, it is finished all the same.
        about = tmp_path / "cloud" / "service.toml"
        about.write_text(
            about.read_text().replace("volumes = 40", "volumes = 1").replace("4_398_046_511_104", str(320 * MIB), 1)
        )
        path.write_text(whole)
        run("write", str(path), "--yes", status=0)
        run("retire", str(path), "trials", "--yes", status=0)
        assert volumes(url) == {} and "volume-left-over" not in run("review", str(path), status=0).stdout


@pytest.mark.parametrize("seed", range(int(os.environ.get("NARVET_TRIES", "3"))))
def test_killed_at_any_moment_the_next_write_goes_on(tmp_path: Path, seed: int) -> None:
    """Calls that go wrong, writes that are killed: at the end each disk has one volume, as asked; and none once retired."""
    dice = random.Random(seed)
    with serving(offering(tmp_path / "cloud"), "--trouble", "0.15", "--delay", "0.2", "--seed", str(seed)) as (url, _):
        path = sheet(tmp_path, url)
        for _ in range(dice.randrange(1, 5)):
            with subprocess.Popen([PROGRAM, "write", str(path), "--yes"], stdout=subprocess.DEVNULL) as process:
                time.sleep(0.8 + dice.random() * 3)
                process.kill()
        run("write", str(path), "--yes", status=0)
        httpx.put(f"{url}/standin/trouble")
        there = volumes(url)
        assert {name: (one["state"], one["guest"]) for name, one in there.items()} == dict.fromkeys(
            FILESYSTEMS, ("attached", "records")
        )
        assert facts("confirm", str(path))["agrees"]
        wanted = plain(tmp_path, path)
        for name, one in there.items():
            assert (tmp_path / "cloud" / f"{one['id']}.raw").read_bytes() == (wanted / f"{name}.raw").read_bytes()
        httpx.put(f"{url}/standin/trouble", params={"rate": 0.15, "delay": 0.2, "seed": seed})
        for name in FILESYSTEMS:
            with subprocess.Popen([PROGRAM, "retire", str(path), name, "--yes"], stdout=subprocess.DEVNULL) as process:
                time.sleep(0.8 + dice.random())
                process.kill()
            if f"[disk.{name}]" in path.read_text():
                run("retire", str(path), name, "--yes", status=0)
        httpx.put(f"{url}/standin/trouble")
        assert volumes(url) == {} and list((tmp_path / "shelf").glob("[!.]*")) == []
    assert not list((tmp_path / "cloud").glob("*.raw"))


def test_tokens_go_to_their_own_service_only(tmp_path: Path) -> None:
    """From a file that only its owner reads; in no ledger, report or log; a record of elsewhere gets none."""
    (tmp_path / "token").write_text("only we know\n")
    (tmp_path / "token").chmod(0o600)
    with serving(offering(tmp_path / "cloud"), "--token-file", str(tmp_path / "token")) as (url, _):
        path, tokens = sheet(tmp_path, url, DISK), tmp_path / "tokens.toml"
        told = run("review", str(path), status=1).stdout
        assert "needs a token" in told
        tokens.write_text(f'"{url}/" = "only we know"\n"http://127.0.0.1:9" = "another one"\n')
        given = {**os.environ, "NARVET_TOKENS": str(tokens)}
        assert "others may read" in run("review", str(path), env=given, status=1).stdout
        tokens.chmod(0o600)
        done = run("write", str(path), "--yes", "--log", "log", status=0, env=given, cwd=tmp_path)
        report = run("report", str(path), "--to", "page.md", status=0, env=given, cwd=tmp_path)
        kept = [
            (tmp_path / name).read_text() for name in ("log", "page.md", "sheet.ledger.jsonl", "shelf/trials.volume")
        ]
        assert all("only we know" not in text for text in (*kept, done.stdout, done.stderr, report.stdout))
        record = tmp_path / "shelf" / "trials.volume"
        with serving(offering(tmp_path / "other"), "--token-file", str(tmp_path / "token")) as (elsewhere, _):
            hostile = json.loads(record.read_text()) | {"service": elsewhere}
            (tmp_path / "found.volume").write_text(json.dumps(hostile))
            assert "needs a token" in run("survey", str(tmp_path / "found.volume"), env=given).stdout


def test_records_are_not_trusted(tmp_path: Path) -> None:
    """Whatever stands in a record, reading it ends with a sentence, and no service is asked that nothing else names."""
    record = tmp_path / "far.volume"
    record.write_text('{"record": 1, "service": "https://vault.invalid", "volume": "v-1", "sector": 512}')
    assert "only a record names this service" in " ".join(run("survey", str(record)).stdout.split())
    dice = random.Random(3)
    good = {"record": 1, "service": "http://127.0.0.1:9", "volume": "v-1", "sector": 512}
    for number in range(12):
        about: dict[str, Any] = {
            **good,
            dice.choice(list(good)): dice.choice((None, 5, [], "../../x", "a\0b", "http://")),
        }
        text = json.dumps(about) if number % 3 else json.dumps(about)[: dice.randrange(40)] + "[" * 5000
        path = tmp_path / f"r{number}.volume"
        path.write_text(text)
        told = run("survey", str(path))
        assert told.returncode in (1, 2) and len(told.stdout + told.stderr) < 3000
