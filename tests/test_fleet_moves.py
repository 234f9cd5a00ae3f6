"""Images that go from one host to another: the same bytes there, nothing left behind, whatever goes away meanwhile."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

import pytest

from narvet.apply.afar import Lending, Offer, offer, taken
from narvet.apply.execute import done
from narvet.apply.steps import MakeImage, steps
from narvet.fleet.standing import Standing, stand
from narvet.fleet.wire import answered, call_packed
from narvet.formats.images.trust import Trust
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.values import replace
from narvet.lending.nbd.client import lent_disk
from narvet.usecases.layout import work_out
from tests.fleets import host, hosted, keys_in, running, told_by, written_at_last
from tests.program import IDENTITY, PROGRAM, facts, file_digest, make_root, rules, run

TRIES = int(os.environ.get("NARVET_TRIES", "1"))
HOSTS = (1, 2, 3)


def sheet_of(folder: Path, disks: str) -> Path:
    """Write a sheet with three hosts and this machine, each with one store."""
    text = f'sheet = 1\nidentity = "{IDENTITY}"\n[guest.pc]\n[store.here]\npath = "shelf"\n'
    (folder / "shelf").mkdir(parents=True, exist_ok=True)
    for number in HOSTS:
        (folder / f"hosts/rack{number}/vault").mkdir(parents=True, exist_ok=True)
        text += f'[host.rack{number}]\nfolder = "hosts/rack{number}"\n'
        text += f'[store.vault{number}]\nhost = "rack{number}"\npath = "vault"\n'
    (folder / "sheet.toml").write_text(text + disks)
    return folder / "sheet.toml"


def disk(name: str, store: str, more: str = 'size = "64 MiB"') -> str:
    return f'[disk.{name}]\nguest = "pc"\nstore = "{store}"\n{more}\n[[disk.{name}.partition]]\nfilesystem = "ext4"\n'


def images(folder: Path) -> dict[str, str]:
    """Return every file in the stores, with a digest of it; what is left over by mistake is among them."""
    places = [folder / "shelf", *(folder / "hosts").glob("*/vault"), *(folder / "hosts").glob("*")]
    return {
        str(path.relative_to(folder)): file_digest(path)
        for place in places
        for path in place.iterdir()
        if path.is_file()
    }


@pytest.mark.parametrize("way", ["here", "sealed"])
def test_images_go_where_their_store_is_now(tmp_path: Path, way: str) -> None:
    """Between hosts and this machine, in another format and size on the way; and back to the very bytes it had."""
    with ExitStack() as stack:
        sheet = sheet_of(tmp_path, disk("a", "vault1") + disk("b", "vault2"))
        words: tuple[str, ...] = ()
        if way != "here":
            sealed = keys_in(tmp_path / "keys")
            address, _ = stack.enter_context(hosted(tmp_path, len(HOSTS), *sealed))
            words = ("--over", address, *sealed)

        def becomes(disks: str, *names: str) -> None:
            sheet_of(tmp_path, disks)
            run("write", str(sheet), "--yes", *words, status=0)
            assert facts("confirm", str(sheet), *words)["agrees"]
            assert sorted(images(tmp_path)) == sorted(names)

        becomes(disk("a", "vault1") + disk("b", "vault2"), "hosts/rack1/vault/a.raw", "hosts/rack2/vault/b.raw")
        with (tmp_path / "hosts/rack1/vault/a.raw").open("r+b") as file:  # as a guest that fills it would
            file.seek(50 << 20)  # where a filesystem so small has nothing of its own
            file.write(random.Random(5).randbytes(3 << 20))
        first = images(tmp_path)["hosts/rack1/vault/a.raw"]
        (tmp_path / "hosts/rack1/vault/a.raw").chmod(0o600)
        becomes(disk("a", "vault3") + disk("b", "vault1"), "hosts/rack3/vault/a.raw", "hosts/rack1/vault/b.raw")
        assert images(tmp_path)["hosts/rack3/vault/a.raw"] == first
        assert (tmp_path / "hosts/rack3/vault/a.raw").stat().st_mode & 0o777 == 0o600
        kinds = (disk("a", "here", f'size = "64 MiB"\nformat = "{kind}"') for kind in ("qcow2", "vmdk"))
        becomes(next(kinds) + disk("b", "vault1"), "shelf/a.qcow2", "hosts/rack1/vault/b.raw")
        becomes(next(kinds) + disk("b", "vault1"), "shelf/a.vmdk", "hosts/rack1/vault/b.raw")
        becomes(disk("a", "vault2") + disk("b", "vault1"), "hosts/rack2/vault/a.raw", "hosts/rack1/vault/b.raw")
        assert images(tmp_path)["hosts/rack2/vault/a.raw"] == first
        sizes = disk("a", "vault1", 'size = "100 MiB"\nformat = "vhd"'), disk("b", "vault3", 'size = "48 MiB"')
        becomes("".join(sizes), "hosts/rack1/vault/a.vhd", "hosts/rack3/vault/b.raw")
        rows = [json.loads(line) for line in sheet.with_suffix(".ledger.jsonl").read_text().splitlines()]
        brought = [(one["disk"], one["from_host"]) for one in rows if one["did"] == "image" and "from_host" in one]
        assert brought.count(("b", "rack1")) == 1 and ("a", "") in brought


def test_disks_are_copies_of_images_on_other_hosts(tmp_path: Path) -> None:
    """One master for all hosts: as large as asked, in any format, read while others read it; a base must be near."""
    sheet = sheet_of(tmp_path, disk("master", "vault2"))
    run("write", str(sheet), status=0)
    master = disk("master", "vault2")
    for number in HOSTS:
        master += f'[guest.pc{number}]\n[disk.c{number}]\nguest = "pc{number}"\nstore = "vault{number}"\n'
        master += 'copy_of = "rack2:vault/master.raw"\n'
    with hosted(tmp_path, len(HOSTS)) as (address, _):
        sheet_of(tmp_path, master)
        reviewed = facts("review", str(sheet), "--over", address)
        origins = [one["origin"]["path"] for one in reviewed["disks"] if one["origin"]]
        place = f"{tmp_path}/hosts/rack2/vault/master.raw"
        assert origins == [f"rack2:{place}", place, f"rack2:{place}"]
        run("write", str(sheet), "--over", address, status=0)
        assert facts("confirm", str(sheet), "--over", address)["agrees"]
        there = images(tmp_path)
        assert {there[f"hosts/rack{number}/vault/c{number}.raw"] for number in HOSTS} == {
            there["hosts/rack2/vault/master.raw"]
        }
        for number in HOSTS:  # each is used by its guest from then on, and goes to another host
            with (tmp_path / f"hosts/rack{number}/vault/c{number}.raw").open("r+b") as file:
                file.seek(50 << 20)
                file.write(bytes([number]) * (1 << 20))
        used, goes = images(tmp_path), master
        for number in HOSTS:
            store = f'[disk.c{number}]\nguest = "pc{number}"\nstore = "vault'
            goes = goes.replace(f'{store}{number}"', f'{store}{number % len(HOSTS) + 1}"')
        sheet_of(tmp_path, goes)
        run("write", str(sheet), "--over", address, "--yes", status=0)
        assert facts("confirm", str(sheet), "--over", address)["agrees"]
        went = {f"hosts/rack{n % 3 + 1}/vault/c{n}.raw": used[f"hosts/rack{n}/vault/c{n}.raw"] for n in HOSTS}
        assert images(tmp_path) == went | {"hosts/rack2/vault/master.raw": used["hosts/rack2/vault/master.raw"]}
        gone = master.replace("vault/master.raw", "../../sheet.toml")
        sheet_of(tmp_path, gone)
        assert "not in it" in run("review", str(sheet), "--over", address, status=3).stderr
    sheet_of(tmp_path, master.replace("copy_of", "base"))
    assert "a child lies on the host of its base" in run("review", str(sheet), status=2).stderr


@pytest.mark.parametrize("seed", range(TRIES))
def test_whatever_goes_away_while_images_travel(tmp_path: Path, seed: int) -> None:
    """Hosts, the hub and writes that are killed while disks go round: at the end each is where it belongs, once."""
    dice, count = random.Random(seed), 6
    sheet = sheet_of(tmp_path, "".join(disk(f"d{number}", "vault1") for number in range(count)))
    run("write", str(sheet), status=0)
    for number in range(count):
        with (tmp_path / f"hosts/rack1/vault/d{number}.raw").open("r+b") as file:
            file.seek(50 << 20)
            file.write(dice.randbytes(6 << 20))
    first = {Path(name).name: digest for name, digest in images(tmp_path).items()}
    with ExitStack() as stack:
        address, processes = stack.enter_context(hosted(tmp_path, len(HOSTS)))
        for _ in range(3):
            places = [dice.choice((1, 2, 3)) for _ in range(count)]
            sheet_of(tmp_path, "".join(disk(f"d{number}", f"vault{at}") for number, at in enumerate(places)))
            command = [str(PROGRAM), "write", str(sheet), "--over", address, "--yes"]
            with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:
                time.sleep(1.5 + dice.random() * 3)
                what = dice.choice([*processes, "write", "write"])
                victim = processes.get(what, process)
                victim.send_signal(signal.SIGKILL)
                victim.wait()
                _, said = process.communicate(timeout=200)
                assert "Traceback" not in said and process.returncode in (0, 1, 3, -9), said
            if what != "write":
                again = ("hub", "--at", address) if what == "hub" else host(tmp_path, what, address)
                processes[what] = stack.enter_context(running(*again))
                told_by(processes[what])
        written_at_last(sheet, address, 120)
    there = images(tmp_path)
    assert {Path(name).name: digest for name, digest in there.items()} == first
    assert sorted(there) == sorted(f"hosts/rack{at}/vault/d{number}.raw" for number, at in enumerate(places))


def test_an_old_image_goes_only_if_both_are_the_same(tmp_path: Path) -> None:
    """A move cut off before the old image went, and then the new one used: told, and both stay."""
    sheet = sheet_of(tmp_path, disk("a", "vault1"))
    run("write", str(sheet), status=0)
    old, new = (tmp_path / f"hosts/rack{number}/vault/a.raw" for number in (1, 2))
    kept = shutil.copy(old, tmp_path / "kept")
    sheet_of(tmp_path, disk("a", "vault2"))
    run("write", str(sheet), "--yes", status=0)
    ledger = sheet.with_suffix(".ledger.jsonl")
    rows = ledger.read_text().splitlines(keepends=True)
    cut = "".join(rows[:-1])
    assert json.loads(rows[-2])["did"] == "moving" and json.loads(rows[-1])["from_host"] == "rack1"
    assert not old.exists()
    for write in (b"\1", b"\0"):
        shutil.copy(kept, old)
        ledger.write_text(cut)
        with new.open("r+b") as file:
            file.seek(50 << 20)
            file.write(write)
        if write == b"\1":
            reviewed = facts("confirm", str(sheet), status=1)["differences"]
            assert [one["where"] for one in reviewed] == ["disk.a old image"]
            assert "another content" in run("write", str(sheet), "--yes", status=3).stderr
            assert old.exists() and new.exists()
    run("write", str(sheet), "--yes", status=0)
    assert not old.exists() and facts("confirm", str(sheet))["agrees"]
    new.unlink()
    assert "image-missing" in run("review", str(sheet), status=1).stdout


@pytest.mark.parametrize(
    ("way", "left", "wanted"),
    [
        ("one machine", "2", "1"),
        ("one machine", "23", "2"),
        ("hosts", "23", "1"),
        ("hosts", "2", "3"),
        ("hosts", "2", "2"),
        ("a pool", "2", "3"),
        ("a pool", "23", "1"),
    ],
)
def test_wherever_the_sheet_goes_after_a_cut_one_image_stays(tmp_path: Path, way: str, left: str, wanted: str) -> None:
    """Copies that cut moves left in one store or two, and a sheet that then goes back, on, or stays: one image stays."""
    hosts = "host = 'rack{0}'\n" if way == "hosts" else ""
    folder = "vault" if hosts else "shelf{0}"
    pool = (
        "pool = 'c'\n[pool.c]\nguest = 'pc'\n[[pool.c.volume]]\nname = 'v'\nsize = '9 MiB'\n" if way == "a pool" else ""
    )

    def place(number: str) -> Path:
        return tmp_path / (f"hosts/rack{number}" if hosts else "") / folder.format(number) / "a.raw"

    def lay(store: str) -> Path:
        rooms = "".join(
            f"[store.room{one}]\npath = '{folder.format(one)}'\n{hosts.format(one)}"
            + (f"[host.rack{one}]\nfolder = 'hosts/rack{one}'\n" if hosts else "")
            for one in "123"
        )
        sheet = tmp_path / "sheet.toml"
        head = f"sheet = 1\nidentity = '{IDENTITY}'\n{rooms}[guest.pc]\n[disk.a]\nguest = 'pc'\nsize = '64 MiB'\n"
        sheet.write_text(f"{head}store = 'room{store}'\n[[disk.a.partition]]\n{pool}")
        return sheet

    for one in "123":
        place(one).parent.mkdir(parents=True)
    run("write", str(lay("1")), status=0)
    ledger, first = tmp_path / "sheet.ledger.jsonl", file_digest(place("1"))
    for one in left:
        shutil.copy(place("1"), place(one))
        row = {"touched": str(place(one).relative_to(tmp_path)), "did": "moving", "disk": "a"}
        row["from"] = str(place("1").relative_to(tmp_path))
        row |= {"from_host": "rack1", "host": f"rack{one}"} if hosts else {}
        with ledger.open("a") as file:
            file.write(json.dumps(row) + "\n")
    sheet = lay(wanted)
    assert {"disk.a old image"} <= {one["where"] for one in facts("confirm", str(sheet), status=1)["differences"]}
    assert "image-left-by-move" in rules(facts("review", str(sheet)))
    assert "a move that was cut off left" in run("retire", str(sheet), "a", "--yes", status=2).stderr
    run("write", str(sheet), "--yes", status=0)
    there = [one for one in "123" if place(one).exists()]
    assert there == [wanted] and file_digest(place(wanted)) == first
    assert facts("confirm", str(sheet))["agrees"]
    shutil.copy(place(wanted), place("1" if wanted == "3" else "3"))  # which nobody's move left
    assert facts("confirm", str(sheet))["agrees"] and "removed" not in run("write", str(sheet), status=0).stdout


@pytest.mark.parametrize("apart", [False, True])
def test_pools_move_with_their_disks(tmp_path: Path, apart: bool) -> None:
    """The pool stays what it is, and is changed in the same write; members that were cut apart come together first."""

    def becomes(store: str, *volumes: str) -> None:
        text = "".join(disk(name, store).replace('filesystem = "ext4"', 'pool = "cold"') for name in ("m1", "m2"))
        text += '[pool.cold]\nguest = "pc"\n'
        for name in volumes:
            text += f'[[pool.cold.volume]]\nname = "{name}"\nsize = "20 MiB"\nspread = "striped"\nat = "/srv/{name}"\n'
        sheet = sheet_of(tmp_path, text)
        sheet.write_text(sheet.read_text().replace("[guest.pc]\n", '[guest.pc]\nroot = "root"\n'))

    fstab, sheet = make_root(tmp_path / "root") / "etc/fstab", tmp_path / "sheet.toml"
    becomes("vault1", "readings")
    run("write", str(sheet), status=0)
    before = fstab.read_text()
    with (tmp_path / "hosts/rack1/vault/m2.raw").open("r+b") as file:
        file.seek(55 << 20)  # where no volume is yet
        file.write(b"kept by none")
    becomes("vault2", "readings")
    assert facts("review", str(sheet))["pools"][0]["state"] == "as asked"
    if apart:
        shutil.copy(tmp_path / "hosts/rack1/vault/m1.raw", tmp_path / "hosts/rack2/vault/m1.raw")
        (tmp_path / "hosts/rack1/vault/m1.raw").unlink()
        becomes("vault2", "readings", "more")
        assert rules(facts("review", str(sheet))) == ["pool-apart"]
        run("write", str(sheet), "--yes", status=0)
        assert fstab.read_text() == before and not (tmp_path / "root/srv/more").exists()
    becomes("vault2", "readings", "more")
    run("write", str(sheet), "--yes", status=0)
    assert facts("confirm", str(sheet))["agrees"] and fstab.read_text().startswith(before)
    assert sorted(images(tmp_path)) == ["hosts/rack2/vault/m1.raw", "hosts/rack2/vault/m2.raw"]
    assert (tmp_path / "hosts/rack2/vault/m2.raw").read_bytes()[55 << 20 :].startswith(b"kept by none")
    shutil.copy(tmp_path / "hosts/rack2/vault/m1.raw", tmp_path / "hosts/rack1/vault/copy.raw")
    assert rules(facts("review", str(sheet))) == []  # a copy of a member that lies about is nobody's


@contextmanager
def standing_at(standing: Standing) -> Iterator[None]:
    stand(standing)
    try:
        yield
    finally:
        stand(Standing())


def test_what_is_lent_is_for_one_and_for_nobody_else(tmp_path: Path) -> None:
    """A name that is not known, a second visit, an image that changes meanwhile, one outside of the host's folder."""
    folder = tmp_path / "rack"
    folder.mkdir()
    image = folder / "a.raw"
    image.write_bytes(random.Random(1).randbytes(1 << 20))
    trust = Trust({str(image): "raw"})
    found = work_out(sheet_of(tmp_path, disk("a", "vault1")))
    step = steps(found.layout, found.facts)[0]
    assert isinstance(step, MakeImage)
    with standing_at(Standing(folder, "127.0.0.1")):
        for lending in (Lending(str(tmp_path / "b.raw"), trust, 512), Lending("/etc/hostname", trust, 512)):
            with pytest.raises(RefusedError, match="not in it"):
                offer(lending)
            with pytest.raises(RefusedError, match="not in it"), taken(Offer(lending, 0o600)):
                pass
        inside = replace(
            step, wanted=replace(step.wanted, image=replace(step.wanted.image, path=str(folder / "n.raw")))
        )
        with pytest.raises(RefusedError, match="not in it"):
            answered(call_packed(done, replace(inside, offered=Offer(Lending("/etc/hostname", trust, 512), 0o600))))
        given = offer(Lending(str(image), trust, 512, moves=True))
        with pytest.raises(RefusedError), lent_disk((given.address, given.port), "a"):
            pass
        with taken(given) as there:
            assert there.read(0, there.size) == image.read_bytes()
            with pytest.raises(RefusedError), taken(given):
                pass
            with pytest.raises(RefusedError, match="another Narvet"):
                offer(Lending(str(image), trust, 512, moves=True))
            with image.open("r+b", buffering=0) as file:
                file.write(b"seed")
                with pytest.raises(RefusedError):
                    there.flush()
        with pytest.raises(RefusedError), taken(given):
            pass
        with taken(offer(Lending(str(image), trust, 512, moves=True))) as there:
            there.flush()


def test_answers_that_were_changed_on_the_way_are_noticed(tmp_path: Path) -> None:
    """A side that does not keep to the protocol: an error that is foreseen, in bounded time; never bytes too few."""
    image = tmp_path / "a.raw"
    with image.open("wb") as file:
        file.truncate(8 << 20)
        file.seek(3 << 20)
        file.write(random.Random(2).randbytes(200_000))
    dice, refused = random.Random(4), 0
    with standing_at(Standing(tmp_path, "127.0.0.1")):
        for _ in range(int(os.environ.get("NARVET_TRIES", "40"))):
            given = offer(Lending(str(image), Trust({str(image): "raw"}), 512))
            with between(given.port, dice) as port:
                try:
                    with taken(replace(given, port=port)) as there:
                        runs = list(there.extents())
                        assert all(0 <= run.start < run.end <= there.size for run in runs)
                        assert all(len(there.read(*run)) == run.length for run in runs if run.length < 1 << 24)
                except (RefusedError, ImageError):
                    refused += 1
    assert refused


@contextmanager
def between(port: int, dice: random.Random) -> Iterator[int]:
    """Stand between the two sides of a connection, and change a few bytes of what is sent to the one who asks."""
    left = dice.randrange(6, 700)
    with socket.create_server(("127.0.0.1", 0)) as listening:
        listening.settimeout(5)

        def pass_on(source: socket.socket, target: socket.socket, *, changed: bool) -> None:
            nonlocal left
            with suppress(OSError):
                while data := bytearray(source.recv(4096)):
                    if changed and 0 <= left < len(data):
                        data[left : left + dice.randrange(1, 4)] = dice.randbytes(dice.randrange(1, 4))
                    left -= len(data) if changed else 0
                    target.sendall(data)
            for one in (source, target):
                with suppress(OSError):
                    one.shutdown(socket.SHUT_RDWR)

        def stand_between() -> None:
            with (
                suppress(OSError),
                listening.accept()[0] as asking,
                socket.create_connection(("127.0.0.1", port)) as lends,
            ):
                asking.settimeout(0.5)
                lends.settimeout(0.5)
                back = threading.Thread(target=pass_on, args=(asking, lends), kwargs={"changed": False})
                back.start()
                pass_on(lends, asking, changed=True)
                back.join()

        thread = threading.Thread(target=stand_between)
        thread.start()
        yield listening.getsockname()[1]
        thread.join()
