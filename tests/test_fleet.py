"""Many hosts and many processes: the same disks whoever writes them, whatever goes away meanwhile; nothing but steps."""

from __future__ import annotations

import json
import os
import pickle
import random
import re
import resource
import shutil
import signal
import socket
import subprocess
import time
from contextlib import ExitStack, suppress
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from narvet.apply.execute import clear, done
from narvet.apply.steps import MakeImage, steps
from narvet.block.locks import exclusive_lock
from narvet.fleet.network import _loads
from narvet.fleet.processes import carried_out
from narvet.fleet.wire import answered, call_packed, packed, unpacked
from narvet.ground.errors import ImageError
from narvet.ground.units import MIB
from narvet.usecases.layout import work_out
from tests.fleets import Way, fleet, host, hosted, keys_in, running, told_by, written, written_at_last
from tests.program import IDENTITY, PROGRAM, facts, rules, run
from tests.seal_reader import volume_key

TRIES = int(os.environ.get("NARVET_TRIES", "1"))


def test_the_same_disks_whoever_writes_them(tmp_path: Path) -> None:
    """One process, several, and hosts through a hub that is sealed: the same bytes, entries and ledger."""
    outcomes, ledgers = [], []
    sealed = keys_in(tmp_path / "keys")
    for way in ("one", "several", "hosts"):
        sheet = fleet(tmp_path / way / "fleet", 2, 4)
        with ExitStack() as stack:
            words: tuple[str, ...] = ("--jobs", {"one": "1"}.get(way, "2"))
            if way == "hosts":
                address, _ = stack.enter_context(hosted(sheet.parent, 2, *sealed))
                words = ("--over", address, *sealed)
                assert "no hub answers" in run("review", str(sheet), "--over", address, status=3).stderr
            reviewed = facts("review", str(sheet), *words)
            assert rules(reviewed) == [] and len(reviewed["disks"]) == 24
            stores = {one["name"]: one["host"] for one in reviewed["stores"]}
            assert stores == {"vault1": "rack1", "vault2": "rack2"}
            assert all(one["host"] == stores[one["store"]] for one in reviewed["disks"])
            told = facts("write", str(sheet), *words, "--reviewed", reviewed["mark"])
            assert len(told["done"]) == 4 * (6 + 1 + 4 + 1)
            assert facts("confirm", str(sheet), *words)["agrees"]
            if way == "hosts":
                check_survey(sheet.parent, words)
            assert run("write", str(sheet), *words, status=0).stdout.startswith("All is as asked")
            run("picture", str(sheet), "pc01-d0", "--to", str(tmp_path / f"{way}.svg"), *words, status=0)
            assert "in vault1 on rack1" in (tmp_path / f"{way}.svg").read_text()
            (sheet.parent / "racks" / "4.toml").write_text(
                '[disk.late]\nguest = "pc02"\nstore = "vault2"\nsize = "8 MiB"\n[[disk.late.partition]]\nat = "/srv/late"\n'
            )
            run("write", str(sheet), *words, status=0)
            assert "late" in (sheet.parent / "hosts/rack2/pc02/etc/fstab").read_text()
            run("retire", str(sheet), "late", "--yes", *words, status=0)
            refused = run("retire", str(sheet), "pc02-d0", "--yes", *words, status=2)
            assert "left_out" in refused.stderr and "disk.d0" in refused.stderr
            assert (sheet.parent / "racks" / "4.toml").read_text() == ""
        assert facts("confirm", str(sheet))["agrees"]
        outcomes.append(written(sheet.parent))
        rows = [json.loads(line) for line in sheet.with_suffix(".ledger.jsonl").read_text().splitlines()]
        ledgers.append(sorted(json.dumps({**row, "when": ""}, sort_keys=True) for row in rows))
    assert outcomes[0] == outcomes[1] == outcomes[2] and ledgers[0] == ledgers[1] == ledgers[2]
    assert all(one["host"] for one in map(json.loads, ledgers[0]) if one["did"] != "taken out of the sheet")


def check_survey(folder: Path, over: tuple[str, ...]) -> None:
    """What hosts find is what is found where the images lie, pools too; nothing outside of their folders is looked at."""
    there = facts("survey", "rack1:vault", "rack2:vault", *over)
    here = facts("survey", *(str(folder / "hosts" / name / "vault") for name in ("rack1", "rack2")))
    text = json.dumps(there)
    assert json.loads(text.replace("rack1:/", "/").replace("rack2:/", "/")) == here
    assert len(there) == 24 and all(one["path"].startswith("rack") for one in there)
    told = run("survey", "rack1:none", "rack2:vault", "--brief", *over, status=2)
    assert "host rack1: " in told.stderr and "rack2:" in told.stdout and "rack1:" not in told.stdout
    assert "not in it" in run("survey", "rack1:../../sheet.toml", *over, status=3).stderr
    assert "HOST:PATH" in run("survey", "vault", *over, status=2).stderr


def test_what_cannot_be_is_told(tmp_path: Path) -> None:
    """A host that is not there, a folder that is not its own, another's write, an address without certificates."""
    sheet = fleet(tmp_path / "fleet", 2, 2)
    with hosted(sheet.parent, 1) as (address, _):
        assert "does not know rack2" in run("write", str(sheet), "--over", address, status=3).stderr
        with running("host", "rack2", str(sheet.parent / "hosts/rack1"), "--hub", address) as wrong:
            told_by(wrong)
            refused = run("write", str(sheet), "--over", address, status=3).stderr
            assert "rack2/vault" in refused and "not in it" in refused
    with hosted(sheet.parent, 2) as (address, _):
        claim = sheet.parent / f"hosts/rack2/.{IDENTITY}.narvet-claim"
        claim.write_text(json.dumps({"writer": "elsewhere:/sheet.toml", "number": "1"}))
        assert "elsewhere:/sheet.toml is writing" in run("write", str(sheet), "--over", address, status=3).stderr
        os.utime(claim, (1, 1))
        run("write", str(sheet), "--over", address, "--yes", status=0)
    assert not any(".narvet" in name for name in written(sheet.parent))
    for words, reason in (
        (("hub", "--at", "0.0.0.0:0"), "--certificates"),
        (("hub", "--at", "nowhere"), "HOST:PORT"),
        (("host", "rack1", str(tmp_path / "none")), "no such folder"),
        (("review", str(sheet), "--over", "10.0.0.1:8786"), "--certificates"),
        (("review", str(sheet), "--certificates", str(tmp_path)), "--over"),
    ):
        assert reason in run(*words, status=2).stderr
    for change, reason in (
        (('"rack{1-2}"', '"rack{2-3}"'), 'there is no host "rack3"'),
        (("count = 2", "count = 0"), "guest.pc.count"),
        (("count = 2", "count = 2\nleft_out = [3]"), "guest.pc.left_out"),
        (("[disk.d0]", "[guest.pc02]\n[disk.d0]"), "guest.pc02: guest.pc stands for it too"),
        (("[guest.pc]", "[guest.pc02]\n[guest.pc]"), "guest.pc: it stands for pc02 too"),
        (('"vault{1-2}"', '"vault{2-1}"'), "{2-1} stands for nothing"),
        (('"{name}"', '"{nmae}"'), "guest.pc: {nmae} stands for nothing"),
        (("racks/*.toml", "shelves/*.toml"), "no such file"),
        (("[disk.d0]", "[disk.d0]\nstripes = 3"), "other.toml, line 9: disk.pc01-d0 has no key"),
    ):
        (tmp_path / "fleet" / "other.toml").write_text(sheet.read_text().replace(*change))
        assert reason in run("review", str(tmp_path / "fleet" / "other.toml"), status=2).stderr
    run("draft", str(sheet), "--disk", "more", "--guest", "pc01", "--store", "vault1", "--size", "1 GiB", status=0)
    assert "more" in [one["name"] for one in facts("review", str(sheet))["disks"]]
    (tmp_path / "fleet" / "racks" / "3.toml").write_text('[store.vault1]\npath = "elsewhere"\n')
    assert "3.toml: store.vault1 is in" in run("review", str(sheet), status=2).stderr


@pytest.mark.parametrize("seed", range(TRIES))
def test_whatever_goes_away_the_next_write_goes_on(tmp_path: Path, seed: int) -> None:
    """Hosts, the hub and writes that are killed again and again: at the end each disk is there once, as asked."""
    dice = random.Random(seed)
    sheet = fleet(tmp_path / "fleet", 3, 6)
    plain = fleet(tmp_path / "plain", 3, 6)
    run("write", str(plain), status=0)
    with ExitStack() as stack:
        address, processes = stack.enter_context(hosted(sheet.parent, 3))
        for _ in range(dice.randrange(2, 5)):
            with subprocess.Popen([PROGRAM, "write", str(sheet), "--over", address, "--yes"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:  # fmt: skip
                time.sleep(2 + dice.random() * 4)
                what = dice.choice([*processes, "write", "worker"])
                if what == "worker":
                    os.kill(dice.choice(workers(processes["rack1"].pid)), signal.SIGKILL)
                else:
                    victim = processes.get(what, process)
                    victim.send_signal(signal.SIGKILL)
                    victim.wait()
                _, said = process.communicate(timeout=120)
                assert "Traceback" not in said and process.returncode in (0, 1, 3, -9), said
            if what in processes:
                again = ("hub", "--at", address) if what == "hub" else host(sheet.parent, what, address)
                processes[what] = stack.enter_context(running(*again))
                told_by(processes[what])
        written_at_last(sheet, address, 60)
    assert {name: one for name, one in written(sheet.parent).items() if "narvet" not in name} == written(plain.parent)
    assert facts("confirm", str(sheet))["agrees"]


@pytest.mark.parametrize("seed", range(TRIES))
def test_several_processes_end_with_the_one_that_started_them(tmp_path: Path, seed: int) -> None:
    """Killed at any moment, nothing of it goes on; the next write does what is left."""
    sheet = fleet(tmp_path / "fleet", 1, 6)
    plain = fleet(tmp_path / "plain", 1, 6)
    run("write", str(plain), "--jobs", "1", status=0)
    dice = random.Random(seed)
    for how in (signal.SIGKILL, signal.SIGINT):
        command = [str(PROGRAM), "write", str(sheet), "--jobs", "3"]
        process = subprocess.Popen(
            command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, start_new_session=True
        )
        if how == signal.SIGKILL:
            time.sleep(0.6 + dice.random() * 1.5)
            process.kill()
        else:
            time.sleep(1.8 + dice.random())
            os.killpg(process.pid, how)  # as a terminal does
        _, said = process.communicate(timeout=60)
        assert "Traceback" not in said and process.returncode in (0, 130, -2, -9), said
        ends = time.monotonic() + 5
        while group_lives(process.pid):
            assert time.monotonic() < ends
            time.sleep(0.05)
    run("write", str(sheet), "--jobs", "3", status=0)
    assert written(sheet.parent) == written(plain.parent)


@pytest.mark.parametrize("through_hub", [False, True])
def test_a_process_that_dies_is_replaced(tmp_path: Path, through_hub: bool) -> None:
    """What it was at fails, with the reason; the rest is done by others, and the next write does what failed."""
    sheet, vault = fleet(tmp_path / "fleet", 1, 0), tmp_path / "fleet/hosts/rack1/vault"
    many = '[guest.n]\ncount = 200\nhost = "rack1"\n[disk.d]\nguest = "n"\nstore = "vault1"\nsize = "10 GiB"\n'
    sheet.write_text(sheet.read_text().partition("[guest.")[0] + many + '[[disk.d.partition]]\nat = "/srv/d"\n')
    with ExitStack() as stack:
        words: tuple[str, ...] = ("--jobs", "2")
        if through_hub:
            address, processes = stack.enter_context(hosted(sheet.parent, 1))
            words = ("--over", address)
            os.kill(workers(processes["rack1"].pid)[0], signal.SIGKILL)  # while there is nothing to do
            assert len(facts("review", str(sheet), *words)["disks"]) == 200
        with subprocess.Popen([PROGRAM, "write", str(sheet), *words, "--yes"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:  # fmt: skip
            while len(list(vault.glob("*.raw"))) < 20:
                assert process.poll() is None
                time.sleep(0.01)
            os.kill(workers(processes["rack1"].pid if through_hub else process.pid)[0], signal.SIGKILL)
            _, said = process.communicate(timeout=60)
        assert process.returncode == 1 and "ended before its work did, perhaps for lack of memory" in said
        done_then = re.search(r"Of 200 steps (\d+) are done", said)
        assert done_then and int(done_then[1]) > 120, said
        run("write", str(sheet), *words, status=0)
        assert facts("confirm", str(sheet), *words)["agrees"]
    assert len(written(sheet.parent)) == 200


def workers(parent: int) -> list[int]:
    """Return the processes that do the work of a command or a host."""
    threads = [path.read_text() for path in Path(f"/proc/{parent}/task").glob("*/children")]
    found = {int(one) for text in threads for one in text.split()}
    return sorted(one for one in found if "resource_tracker" not in Path(f"/proc/{one}/cmdline").read_text())


@pytest.mark.parametrize("whose", ["host", "command"])
def test_a_way_that_is_cut_costs_what_was_on_it(tmp_path: Path, whose: str) -> None:
    """Every connection of a host to the hub, or of a command, ends at once: the rest is done, the next write goes on."""
    sheet = fleet(tmp_path / "fleet", 2, 8)
    with ExitStack() as stack:
        hub = told_by(stack.enter_context(running("hub", "--at", "127.0.0.1:0")))["hub"]
        way = Way(hub)
        for number in (1, 2):
            address = way.address if whose == "host" and number == 2 else hub
            told_by(stack.enter_context(running(*host(sheet.parent, f"rack{number}", address))))
        over = way.address if whose == "command" else hub
        with subprocess.Popen([PROGRAM, "write", str(sheet), "--over", over, "--yes"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:  # fmt: skip
            while len(list((sheet.parent / "hosts/rack2/vault").glob("pc*"))) < 4:
                assert process.poll() is None
                time.sleep(0.01)
            way.cut()
            _, said = process.communicate(timeout=90)
        assert process.returncode in (1, 3) and "see to it, and write again" in said
        first = facts("confirm", str(sheet), status=1)["differences"]
        if whose == "host":
            assert not any("pc01" in one["where"] for one in first), first
        way.mend()
        written_at_last(sheet, over, 60)
    assert facts("confirm", str(sheet))["agrees"]
    assert not any("narvet" in name for name in written(sheet.parent))


def test_a_hub_that_answers_nothing_is_not_waited_for(tmp_path: Path) -> None:
    """A host is at work without end, and its hub is frozen: what waits for them ends with the reason, and goes on later."""
    sheet = fleet(tmp_path / "fleet", 1, 1)
    with hosted(sheet.parent, 1) as (address, processes):
        frozen = [*workers(processes["rack1"].pid), processes["hub"].pid]
        idle = socket.create_connection((address.rpartition(":")[0], int(address.rpartition(":")[2])), timeout=60)
        with subprocess.Popen([PROGRAM, "review", str(sheet), "--over", address], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:  # fmt: skip
            os.kill(frozen[0], signal.SIGSTOP)
            time.sleep(3)
            os.kill(frozen[1], signal.SIGSTOP)
            _, said = process.communicate(timeout=90)
        assert process.returncode == 3 and "the hub does not answer any more" in said
        for one in frozen:
            os.kill(one, signal.SIGCONT)
        run("write", str(sheet), "--over", address, status=0)
        while idle.recv(4096):  # until the hub ends what says nothing
            pass
        idle.close()
    with socket.create_server(("127.0.0.1", 0)) as silent:
        address = f"127.0.0.1:{silent.getsockname()[1]}"
        for words in (("review", str(sheet), "--over", address), host(sheet.parent, "rack1", address)):
            assert f"{address}: no hub answers there in time" in run(*words, status=3).stderr


def test_a_hub_takes_more_connections_than_it_may_open_files_at_first(tmp_path: Path) -> None:
    sheet = fleet(tmp_path / "fleet", 1, 1)
    before = resource.getrlimit(resource.RLIMIT_NOFILE)
    with ExitStack() as stack:
        stack.callback(resource.setrlimit, resource.RLIMIT_NOFILE, before)
        resource.setrlimit(resource.RLIMIT_NOFILE, (48, before[1]))
        address, _ = stack.enter_context(hosted(sheet.parent, 1))
        resource.setrlimit(resource.RLIMIT_NOFILE, before)
        name, _, port = address.rpartition(":")
        for _ in range(100):
            stack.enter_context(socket.create_connection((name, int(port))))
        assert facts("write", str(sheet), "--over", address)["done"]


def test_sealed_disks_are_for_hosts_that_have_their_passphrase(tmp_path: Path) -> None:
    """It stays where it was given: told before, refused without it, the rest is done; then all of it works as here."""
    sheet = fleet(tmp_path / "fleet", 2, 2)
    cost = 'memory = "8 MiB", passes = 4'
    text = sheet.read_text().replace(
        'at = "/srv/{n}/0"\n', f'at = "/srv/{{n}}/0"\nsealed = {{{cost}, key_file = "/etc/k"}}\n'
    )
    sheet.write_text(text.replace('at = "/srv/cold"', f'at = "/srv/cold"\nsealed = {{{cost}}}'))
    (words := tmp_path / "words").write_text("a few words\n")
    given = {name: ("--passphrase-file", str(words), "--recovery", str(tmp_path / name)) for name in ("rack1", "rack2")}
    folders = [sheet.parent / "hosts/rack1/pc01", sheet.parent / "hosts/rack2/pc02"]
    with ExitStack() as stack:
        address = told_by(stack.enter_context(running("hub", "--at", "127.0.0.1:0")))["hub"]
        over = ("--over", address)
        assert "--recovery FILE" in run(*host(sheet.parent, "rack1", address, *given["rack1"][:2]), status=2).stderr
        told_by(stack.enter_context(running(*host(sheet.parent, "rack1", address, "--jobs", "2", *given["rack1"]))))
        with running(*host(sheet.parent, "rack2", address)) as plain:
            told_by(plain)
            assert rules(facts("review", str(sheet), *over)).count("host-has-no-passphrase") == 2
            env = {**os.environ, "NARVET_PASSPHRASE": "a few words"}
            refused = run("write", str(sheet), *over, "--yes", status=1, env=env).stderr
            assert "host rack2 has no passphrase" in refused and "waited for them" in refused
        assert (folders[0] / "etc/k").exists() and (folders[1] / "../vault/pc02-d1.qcow2").exists()
        assert not (folders[1] / "../vault/pc02-d0.raw").exists() and not (folders[1] / "etc/k").exists()
        told_by(stack.enter_context(running(*host(sheet.parent, "rack2", address, *given["rack2"]))))
        run("write", str(sheet), *over, "--yes", status=0)
        assert facts("confirm", str(sheet), *over)["agrees"]
        held = [(folder / "etc/k").read_bytes() for folder in folders]
        (folders[0] / "etc/k").unlink()
        (folders[1] / "etc/k").rename(folders[1] / "etc/other")
        sheet.write_text(
            sheet.read_text().replace('"/etc/k"', '"/etc/other"').replace('at = "/srv/cold"', 'at = "/srv/ice"')
        )
        run("write", str(sheet), *over, "--yes", status=0)
        assert [(folder / "etc/other").read_bytes() for folder in folders] == held
        assert facts("confirm", str(sheet), *over)["agrees"]
        text = sheet.read_text().replace(
            '"vault{1-2}"\nsize = "64 MiB"\nformat = "raw"', '"vault2"\nsize = "64 MiB"\nformat = "raw"'
        )
        (apart := sheet.with_name("apart.toml")).write_text(
            text.replace(IDENTITY, "6" + IDENTITY[1:]).replace("/etc/other", "/etc/k2")
        )
        found = [
            one["where"]
            for one in facts("review", str(apart), *over, status=1)["findings"]
            if "no key leaves" in one["message"]
        ]
        assert found == ["disk.pc01-d0.partition 1.sealed.key_file"]
    keys = dict(line.split("  ") for name in given for line in (tmp_path / name).read_text().splitlines())
    assert len(keys) == 4 and all((tmp_path / name).stat().st_mode & 0o777 == 0o600 for name in given)
    for number, folder in enumerate(folders, 1):
        image = folder / f"../vault/pc0{number}-d0.raw"
        for word in (b"a few words", keys[f"disk.pc0{number}-d0.partition 1"].encode(), held[number - 1]):
            assert volume_key(partial(read_at, image), word)[1] == 16 * MIB
    told = [path.read_bytes() for path in sheet.parent.glob("*") if path.is_file()]
    assert not any(one.encode() in text for one in (*keys.values(), "a few words") for text in told)
    assert facts("confirm", str(sheet), "--passphrase-file", str(words))["agrees"]


def read_at(image: Path, offset: int, length: int) -> bytes:
    """Return bytes of the first partition of a raw image."""
    with image.open("rb") as file:
        file.seek(MIB + offset)
        return file.read(length)


def test_what_killed_hosts_left_is_removed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The next host takes away the folder that a killed one worked in, and no other."""
    (place := tmp_path / "t").mkdir()
    monkeypatch.setenv("TMPDIR", str(place))
    folder = fleet(tmp_path / "fleet", 1, 1).parent
    with hosted(folder, 1):
        (killed,) = place.glob("narvet-host-*")
    (others := place / "narvet-host-of-others").mkdir()
    for one in (killed, others):
        assert one.exists()
        os.utime(one, (1, 1))
    with hosted(folder, 1) as (address, _):
        (own,) = set(place.glob("narvet-host-*")) - {others}
        assert own != killed
        os.utime(own, (1, 1))
        with running(*host(folder, "rack1", address)) as second:
            told_by(second)
            assert {own, others} < set(place.glob("narvet-host-*"))


def group_lives(group: int) -> bool:
    """Return whether any process of a group is there still."""
    for path in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = path.read_text().rpartition(")")[2].split()
        except OSError:
            continue
        if int(fields[2]) == group and fields[0] != "Z":
            return True
    return False


def test_what_fails_is_told_and_the_rest_goes_on(tmp_path: Path) -> None:
    """Disks in the way of others' files: told by reason, entries that waited are left, the next write does them."""
    sheet = fleet(tmp_path / "fleet", 1, 8)
    vault = sheet.parent / "hosts/rack1/vault"
    with exclusive_lock(vault / "pc02-d0.raw", vault / "pc05-d1.qcow2"):
        refused = run("write", str(sheet), "--jobs", "2", status=1).stderr
    assert "pc02-d0" in refused and "pc05-d1" in refused and "waited for them" in refused
    entries = [(vault.parent / f"pc{number:02}/etc/fstab").read_text() for number in range(1, 9)]
    assert [bool(one) for one in entries] == [True, False, True, True, False, True, True, True]
    with exclusive_lock(vault / "pc02-d0.raw"):
        assert "another Narvet" in run("write", str(sheet), status=3).stderr
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"]


class Evil:
    def __reduce__(self) -> Any:
        return os.system, ("touch evil",)


def test_nothing_from_the_wire_is_believed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Values come back as they were; whatever is no value or call of Narvet's is refused, and does nothing."""
    monkeypatch.chdir(tmp_path)
    found = work_out(fleet(tmp_path / "fleet", 2, 3))
    todo = steps(found.layout, found.facts)
    good = [packed(one) for one in (*todo, found.sheet, found.facts, found.layout)]
    assert [unpacked(one) for one in good] == [*todo, found.sheet, found.facts, found.layout]
    before = dict(vars(MakeImage))
    for call in (shutil.rmtree, os.system, run, work_out):
        with pytest.raises(ImageError):
            answered(call_packed(call, str(tmp_path / "fleet")))
    for hostile in (Evil(), [Evil()], (f"{clear.__module__}:clear", (Evil(),)), MakeImage, Path):
        for read in (unpacked, answered, _loads):
            with pytest.raises((ImageError, pickle.UnpicklingError)):
                read(pickle.dumps(hostile))
    import msgpack

    for attack in (
        [9, "narvet.apply.steps:MakeImage"],
        [9, "narvet.cli.main:run"],
        [9, "os:system", "touch evil"],
        [9, "narvet.apply.execute:os.system", "touch evil"],
        [9, "narvet.ground.errors:NarvetError.__init__"],
        [9, "narvet.sheet.machines:HostForm", [4, "__class__", 1], [2]],
        [77],
        [],
        {"a": 1},
        msgpack.ExtType(5, b"x"),
    ):
        with pytest.raises(ImageError):
            unpacked(msgpack.packb(attack))
    for bomb in (b"\xdd\xff\xff\xff\xff", b"\xc6\xff\xff\xff\xff", b"\x91" * 100_000 + b"\x00", b"\x92\x00" * 5000):
        with pytest.raises(ImageError):
            unpacked(bomb)
    with pytest.raises(pickle.UnpicklingError):
        _loads(b"\x80\x05Nr\xff\xff\xff\x7f.")
    dice, calls = random.Random(3), [call_packed(done, one) for one in todo]
    for _ in range(int(os.environ.get("NARVET_TRIES", "3")) * 1000):
        data = bytearray(dice.choice(good))
        for _ in range(dice.randrange(1, 4)):
            at = dice.randrange(len(data))
            data[at : at + dice.randrange(3)] = dice.randbytes(dice.randrange(3))
        with suppress(ImageError):
            unpacked(bytes(data))
    assert dict(vars(MakeImage)) == before and not (tmp_path / "evil").exists()
    assert unpacked(carried_out(calls[0][:-9])).error is not None
    assert unpacked(carried_out(calls[0])).error is None and Path(todo[0].touches).exists()
