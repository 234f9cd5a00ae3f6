"""Disks plugged into a real running guest, made larger, limited and taken out again, by whatever happens meanwhile."""

from __future__ import annotations

import json
import random
import re
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.descriptions import PLAIN, described
from tests.program import PROGRAM, disk, facts, make_sheet, rules, run
from tests.real.guest import complaints
from tests.real.running import Running, running, say

GUEST = 'root = "root"\nslots = ["scsi 1-40", "virtio 0-3", "nvme 0-3", "sata 0-3"]\ndoor = {qmp = "monitor"}'
DISKS = (
    disk("seeds", 'size = "64 MiB"\nformat = "qcow2"', 'at = "/srv/seeds"\nowner = "curator"\nmode = "0750"')
    + disk("trials", 'size = "320 MiB"\nslot = "virtio 1"\nsector = 4096', 'filesystem = "xfs"\nat = "/srv/trials"')
    + disk("pictures", 'size = "64 MiB"\nformat = "vhdx"\nslot = "nvme 2"\nhold = "direct"', 'at = "/srv/pictures"')
    + disk(
        "frames",
        'size = "64 MiB"\nformat = "vhd"\nslot = "scsi 33"\nread_only = true\nflash = true\nhold = "fast"\n'
        'serial = "FRAMES-7"\nceiling = {bytes = "4 MB"}',
        'at = "/srv/frames"',
    )
)


def shown(guest: Running) -> dict[str, str]:
    """Return what the guest sees of each disk, by its serial."""
    lines = guest.tell(
        "for d in /sys/block/sd* /sys/block/vd[b-z] /sys/block/nvme*; do [ -e $d/size ] || continue; "
        "s=$(cat $d/serial $d/device/serial 2>/dev/null || tail -c +5 $d/device/vpd_pg80); "
        "echo serial $s ${d##*/} $(cat $d/size $d/queue/logical_block_size $d/queue/rotational $d/ro); done"
    )
    rows = [line.split(None, 2) for line in lines.splitlines() if line.startswith("serial ")]
    return {row[1]: row[2] for row in rows}


def seconds_to_read(guest: Running, serial: str) -> float:
    name = shown(guest)[serial].split()[0]
    began = time.monotonic()
    guest.tell(f"dd if=/dev/{name} of=/dev/null bs=256k count=48 iflag=direct 2>/dev/null")
    return time.monotonic() - began


def edit(sheet: Path, old: str, new: str) -> None:
    text = sheet.read_text()
    assert text.count(old) == 1, old
    sheet.write_text(text.replace(old, new))


def check_writes(guest: Running, image: Path) -> None:
    """What the guest writes is held back as asked, and what it no longer uses is given back."""
    rows = [row for row in say(guest.monitor, "query-block") if "narvet" in row.get("qdev", "")]
    cache = {name: row["inserted"]["cache"] for row in rows for name in row["qdev"].split("/") if "narvet" in name}
    assert cache["narvet-nvme-2"]["direct"] and not cache["narvet-scsi-1"]["direct"]
    assert cache["narvet-scsi-33"]["no-flush"] and not cache["narvet-nvme-2"]["no-flush"]
    guest.tell("dd if=/dev/urandom of=/srv/seeds/large bs=1M count=30; sync")
    full = image.stat().st_blocks * 512
    guest.tell("rm /srv/seeds/large; sync; sleep 1; fstrim /srv/seeds; sleep 1")
    assert image.stat().st_blocks * 512 < full - (25 << 20)


def check_growth(sheet: Path, guest: Running, serial: str) -> None:
    """Whatever would change a disk that is plugged in is refused; a larger one grows while it is mounted."""
    edit(sheet, 'size = "64 MiB"\nformat = "qcow2"', 'size = "128 MiB"\nformat = "qcow2"')
    refused = facts("write", str(sheet), status=1)
    assert "plugged-in" in rules(refused)
    assert "plugged in" in run("retire", str(sheet), "seeds", "--yes", status=2).stderr
    assert [one["did"] for one in facts("attach", str(sheet), "seeds")["done"]] == ["smaller than asked"]
    assert [one["did"] for one in facts("attach", str(sheet), "seeds", "--enlarge")["done"]] == ["enlarged"]
    guest.tell("sleep 1")
    assert shown(guest)[serial] == "sda 262144 512 1 0"
    assert "unmounted" in run("detach", str(sheet), "seeds", status=2).stderr
    guest.tell("echo kept > /srv/seeds/kept; umount /srv/seeds")
    run("detach", str(sheet), "seeds", "--unmounted", status=0)
    run("write", str(sheet), status=0)  # its partition and what is on it follow
    assert [one["did"] for one in facts("attach", str(sheet), "seeds")["done"]] == ["attached"]
    promised = facts("review", str(sheet))["disks"][0]["partitions"][0]["shows"]
    guest.tell("sleep 1; mount /srv/seeds")
    assert guest.tell("cat /srv/seeds/kept") == "kept"
    block, total = guest.tell('stat -f -c "%S %b" /srv/seeds').split()
    assert int(block) * int(total) == promised["total"] > 100 << 20


@pytest.mark.guest
def test_a_running_guest_gets_disks_on_every_controller_and_gives_them_up(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, DISKS, guest=GUEST)
    run("write", str(sheet), status=0)
    off = run("attach", str(sheet), status=3).stderr
    assert "the guest is off; start it first" in off
    with running(tmp_path) as guest:
        done = facts("attach", str(sheet))["done"]
        assert [one["did"] for one in done] == ["attached"] * 4
        assert [one["slot"] for one in done] == ["scsi 1", "virtio 1", "nvme 2", "scsi 33"]
        serials = {one["disk"]: one["serial"] for one in done}
        assert serials["frames"] == "FRAMES-7" and re.fullmatch(r"seeds-[0-9a-f]{12}", serials["seeds"])
        guest.tell("sleep 1")
        assert shown(guest) == {
            serials["seeds"]: "sda 131072 512 1 0",
            serials["trials"]: "vdb 655360 4096 1 0",
            serials["pictures"]: "nvme0n1 131072 512 0 0",
            "FRAMES-7": "sdb 131104 512 0 1",
        }
        review = facts("review", str(sheet))
        assert [one["plug"]["plugged_into"] for one in review["disks"]] == ["seedling"] * 4
        assert rules(review) == ["writes-may-be-lost", "sector-not-recorded", "size-rounded"]

        there = facts("review", sheet.name, cwd=tmp_path)  # the same from where its paths are relative
        assert rules(there) == rules(review) and there["disks"][0]["plug"]["plugged_into"] == "seedling"

        # It mounts them by the entries that were written for it, and shows what was promised.
        lines = {line.split()[1]: line for line in review["entries"]["seedling"]}
        assert "ro" in lines["/srv/frames"].split()[3].split(",")
        for one in review["disks"]:
            at = one["partitions"][0]["at"]
            assert guest.tell(f"mkdir -p {at}; echo '{lines[at]}' >> /etc/fstab; mount {at} || echo failed") == "", at
            block, *counts = guest.tell(f'stat -f -c "%S %b %f %a" {at}').split()
            told = dict(zip(("total", "free", "available"), (int(block) * int(count) for count in counts), strict=True))
            assert told == one["partitions"][0]["shows"]
        assert facts("attach", str(sheet))["done"] == [{**one, "did": "as asked"} for one in done]
        assert run("confirm", str(sheet), status=0).stdout  # in use, so not read in full

        check_writes(guest, tmp_path / "shelf" / "seeds.qcow2")

        # A ceiling is kept, and can be changed while the disk is plugged in.
        slow = seconds_to_read(guest, "FRAMES-7")
        edit(sheet, 'ceiling = {bytes = "4 MB"}', 'ceiling = {bytes = "400 MB", operations = 5000}')
        assert [one["did"] for one in facts("attach", str(sheet), "frames")["done"]] == ["changed"]
        fast = seconds_to_read(guest, "FRAMES-7")
        assert slow > 1.5 > fast and slow > 2 * fast, (slow, fast)

        check_growth(sheet, guest, serials["seeds"])

        # What is plugged in otherwise than the sheet has it is said, and not touched.
        edit(sheet, 'serial = "FRAMES-7"', 'serial = "FRAMES-8"')
        assert "plugged-otherwise" in rules(facts("review", str(sheet)))
        assert "with the serial FRAMES-7, not FRAMES-8" in run("attach", str(sheet), status=2).stderr

        # A guest that is held up does not let go of a PCI device; once it runs on it does.
        guest.tell("umount /srv/seeds /srv/trials /srv/pictures /srv/frames")
        say(guest.monitor, "stop")
        assert "does not let go" in run("detach", str(sheet), "trials", "--unmounted", "--wait", "2", status=3).stderr
        say(guest.monitor, "cont")
        run("detach", str(sheet), "trials", "seeds", "pictures", "frames", "--unmounted", status=0)
        assert shown(guest) == {}
        assert not left_in(guest)
        assert complaints(guest.tell("dmesg -r"), "ext4", "xfs", "i/o error", "nvme", "sda", "sdb") == []
    off = facts("detach", str(sheet), "seeds", "--unmounted")["done"]
    assert [one["did"] for one in off] == ["not plugged in"]
    run("retire", str(sheet), "seeds", "--yes", status=0)


def left_in(guest: Running) -> list[str]:
    """Return the images of the shelf that the hypervisor has open."""
    nodes = say(guest.monitor, "query-named-block-nodes", flat=True)
    return [node["file"] for node in nodes if "/shelf/" in node["file"]]


@pytest.mark.guest
def test_what_was_cut_off_or_done_by_others_is_found_and_finished(tmp_path: Path) -> None:
    names = [f"d{number}" for number in range(6)]
    slots = ["scsi 1", "scsi 2", "virtio 0", "virtio 1", "nvme 0", "scsi 3"]
    disks = "".join(disk(name, f'size = "8 MiB"\nslot = "{slot}"') for name, slot in zip(names, slots, strict=True))
    sheet = make_sheet(tmp_path, disks, guest=GUEST)
    run("write", str(sheet), status=0)
    chance = random.Random(12)
    with running(tmp_path) as guest:
        for words in (("attach", str(sheet)), ("detach", str(sheet), *names, "--unmounted")) * 2:
            for _ in range(5):
                call = subprocess.Popen([PROGRAM, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
                time.sleep(chance.uniform(0.4, 1.6))
                call.send_signal(signal.SIGKILL)
                call.wait()
            run(*words, status=0)
            guest.tell("sleep 1")
            there = {one["serial"] for one in facts("attach", str(sheet), "--by-hand")["done"]} | set(shown(guest))
            assert len(there) == (len(names) if words[0] == "attach" else 0)
        assert not left_in(guest)

        # A node that was opened for another slot, and nothing made of it.
        image = str(tmp_path / "shelf" / "d0.raw")
        inside = {"driver": "file", "filename": image}
        say(guest.monitor, "blockdev-add", **{"driver": "raw", "node-name": "narvet-scsi-9", "file": inside})
        run("attach", str(sheet), "d0", status=0)
        run("detach", str(sheet), "d0", status=0)

        # Plugged in by somebody else, with a name from where the hypervisor was started.
        inside = {"driver": "file", "filename": "shelf/d1.raw"}
        say(guest.monitor, "blockdev-add", **{"driver": "raw", "node-name": "theirs", "file": inside})
        say(guest.monitor, "device_add", **{"driver": "scsi-hd", "drive": "theirs", "scsi-id": 7, "id": "other"})
        found = facts("review", str(sheet))
        assert found["disks"][1]["plug"]["plugged_into"] == "seedling"
        assert any("at scsi 7, not at scsi 2" in one["message"] for one in found["findings"])
        run("detach", str(sheet), "d1", status=0)
        assert not left_in(guest)

        # Something else in the slot, or a slot that the running guest does not have.
        foreign = tmp_path / "foreign.raw"
        foreign.write_bytes(bytes(1 << 20))
        say(guest.monitor, "blockdev-add", **{"driver": "file", "filename": str(foreign), "node-name": "foreign"})
        say(guest.monitor, "device_add", **{"driver": "scsi-hd", "drive": "foreign", "scsi-id": 2, "id": "foreign"})
        assert f"scsi 2 holds {foreign}" in run("attach", str(sheet), "d1", status=2).stderr
        edit(sheet, 'slot = "scsi 2"', 'slot = "sata 2"')
        assert "while the guest is off" in run("attach", str(sheet), "d1", status=2).stderr
        assert "while that is off" in run("review", str(sheet), "d1").stdout
        edit(sheet, 'slot = "sata 2"', 'size = "8 MiB"'.replace("size", "# size"))
        assert facts("attach", str(sheet), "d1")["done"][0]["slot"] == "scsi 4"  # the next that is free in the guest
        run("detach", str(sheet), "d1", status=0)

        # Another program at the monitor, or at the image.
        with socket.socket(socket.AF_UNIX) as link:
            link.connect(str(guest.monitor))
            link.recv(1000)
            assert "another program has it" in run("attach", str(sheet), "d0", status=3).stderr
            assert "door-does-not-open" in rules(facts("review", str(sheet)))
        with held(tmp_path / "shelf" / "d0.raw"):
            assert "d0.raw" in run("attach", str(sheet), "d0", status=3).stderr
        assert not left_in(guest)
        (tmp_path / "shelf" / "d0.raw").write_bytes(bytes(8 << 20))
        assert "write it first" in run("attach", str(sheet), "d0", status=2).stderr


@contextmanager
def held(image: Path) -> Iterator[None]:
    """An image that another hypervisor has open."""
    words = ["qemu-system-x86_64", "-S", "-accel", "tcg", "-m", "64", "-nodefaults", "-display", "none"]
    with subprocess.Popen([*words, "-drive", f"file={image},format=raw,if=virtio"], stdin=subprocess.DEVNULL) as other:
        try:
            handles = Path(f"/proc/{other.pid}/fd")
            while image.resolve() not in [path.resolve() for path in handles.iterdir()]:
                time.sleep(0.05)
            yield
        finally:
            other.kill()


@pytest.mark.guest
def test_a_guest_started_from_its_description_finds_its_disks_at_their_slots(tmp_path: Path) -> None:
    disks = disk("seeds", 'size = "16 MiB"\nformat = "vmdk"', "") + disk("other", 'size = "8 MiB"\nslot = "sata 3"', "")
    sheet = make_sheet(tmp_path, disks, guest=GUEST.replace('{qmp = "monitor"}', '{ovf = "seedling.ovf"}'))
    (tmp_path / "root.vmdk").write_bytes(bytes(68608))
    (tmp_path / "seedling.ovf").write_text(PLAIN)
    run("write", str(sheet), status=0)
    run("attach", str(sheet), status=0)
    words = ["-device", "ahci,id=sata0"]
    for number, drive in enumerate(one for one in described(tmp_path / "seedling.ovf") if one.file.name != "root.vmdk"):
        kind = {".vmdk": "vmdk", ".raw": "raw"}[drive.file.suffix]
        words += ["-drive", f"file={drive.file},format={kind},if=none,id=d{number}", "-device"]
        bus = f"sc.{drive.number},scsi-id={drive.place}" if drive.controller == "scsi" else f"sata0.{drive.place}"
        words.append(f"{'scsi' if drive.controller == 'scsi' else 'ide'}-hd,drive=d{number},bus={bus}")
    with running(tmp_path, *words) as guest:
        found = guest.tell("for d in /sys/block/sd*; do echo $(cat $d/size) $(readlink -f $d); done").splitlines()
        at = dict(line.split(" ", 1) for line in found)
        assert "/0:0:1:0/" in at[str((16 << 20) // 512)] and "/ata4/" in at[str((8 << 20) // 512)], found
        name = at[str((16 << 20) // 512)].rpartition("/")[2]
        assert "PARTNAME=seeds" in guest.tell(f"cat /sys/block/{name}/{name}1/uevent")


@contextmanager
def halted(folder: Path, monitor: str) -> Iterator[Path]:
    """A guest that is halted before its first instruction, with its monitor at FOLDER/monitor."""
    words = ["qemu-system-x86_64", "-S", "-accel", "tcg", "-m", "64", "-nodefaults", "-display", "none"]
    words += ["-device", "virtio-scsi-pci", "-qmp", f"unix:{monitor},server=on,wait=off"]
    with subprocess.Popen(words, cwd=folder, stdin=subprocess.DEVNULL) as guest:
        try:
            while not (folder / monitor).exists():
                assert guest.poll() is None
                time.sleep(0.05)
            yield folder / monitor
        finally:
            guest.kill()


@pytest.mark.guest
def test_a_disk_in_another_guest_stays_there_unless_it_is_shared(tmp_path: Path) -> None:
    other = '[guest.other]\ndoor = {qmp = "theirs"}\n'
    sheet = make_sheet(tmp_path, other + disk("a", 'size = "8 MiB"', ""), guest=GUEST)
    run("write", str(sheet), status=0)
    inside = {"driver": "file", "filename": "shelf/a.raw"}
    with halted(tmp_path, "monitor"), halted(tmp_path, "theirs") as theirs:
        say(theirs, "blockdev-add", **{"driver": "raw", "node-name": "n", "file": inside})
        say(theirs, "device_add", **{"driver": "scsi-hd", "drive": "n", "id": "d", "share-rw": True})
        assert "plugged into guest other" in run("attach", str(sheet), status=2).stderr
        assert "another guest" in " ".join(one["message"] for one in facts("review", str(sheet))["findings"])
        edit(sheet, 'size = "8 MiB"', 'size = "8 MiB"\nshared = true')
        assert rules(facts("review", str(sheet))) == ["not-made-for-sharing", "plugged-otherwise"]
        assert [one["did"] for one in facts("attach", str(sheet))["done"]] == ["attached"]
        review = facts("review", str(sheet))
        assert [door["plugged"][0]["path"] for door in review["doors"].values()] == [
            str(tmp_path / "shelf" / "a.raw")
        ] * 2
        assert [one["did"] for one in facts("attach", str(sheet))["done"]] == ["as asked"]
        assert [one["did"] for one in facts("detach", str(sheet), "a")["done"]] == ["detached"]
    edit(sheet, "shared = true", 'shared = true\nformat = "qcow2"')
    assert "cannot-be-shared" in rules(facts("review", str(sheet), status=1))
    (tmp_path / "monitor").unlink()
    (tmp_path / "monitor").write_text("")
    assert "not a socket" in run("attach", str(sheet)).stderr + run("review", str(sheet)).stdout


@pytest.mark.guest
def test_images_of_every_format_are_taken_at_their_promised_size(tmp_path: Path) -> None:
    keys = {"raw": "", "vhd": "", "vhdx": "", "qcow2": "", "vmdk": ""}
    disks = "".join(disk(kind, f'size = "24 MiB"\nformat = "{kind}"\n{more}', "") for kind, more in keys.items())
    disks += disk("pieces", 'size = "24 MiB"\nformat = "vmdk"\npieces = "8 MiB"', "")
    disks += disk("packed", 'size = "24 MiB"\nformat = "vmdk"\npacked = true\nread_only = true', "")
    disks += disk("full", 'size = "24 MiB"\nformat = "vhd"\nspace = "full"', "")
    for kind in ("raw", "vmdk", "vhdx"):
        run("make", str(tmp_path / f"base.{kind}"), "--size", "24 MiB", "--filesystem", "ext4", status=0)
        form = "qcow2" if kind == "raw" else kind
        child = f'guest = "seedling"\nstore = "shelf"\nformat = "{form}"\nbase = "base.{kind}"'
        disks += f"[disk.of-{kind}]\n{child}\n"
    sheet = make_sheet(tmp_path, disks, guest=GUEST)
    run("write", str(sheet), status=0)
    sizes = {one["path"]: one["size"] for one in facts("review", str(sheet))["disks"]}
    with halted(tmp_path, "monitor") as monitor:
        assert "does not read a vhdx through its base" in run("attach", str(sheet), status=2).stderr
        assert say(monitor, "query-block") == []
        edit(sheet, "[disk.of-vhdx]", "[disk.of-other]")
        edit(sheet, 'format = "vhdx"\nbase = "base.vhdx"', 'format = "qcow2"\nbase = "base.raw"')
        run("write", str(sheet), status=0)
        assert {one["did"] for one in facts("attach", str(sheet))["done"]} == {"attached"}
        sizes |= {one["path"]: one["size"] for one in facts("review", str(sheet))["disks"]}
        for row in say(monitor, "query-block"):
            assert row["inserted"]["image"]["virtual-size"] == sizes.pop(row["inserted"]["file"]), row
        assert list(sizes) == [str(tmp_path / "shelf" / "of-vhdx.vhdx")]


def test_a_monitor_that_talks_nonsense_is_a_sentence(tmp_path: Path) -> None:
    greeting = json.dumps(
        {"QMP": {"version": {"qemu": {"major": 9, "minor": 0, "micro": 0}, "package": ""}, "capabilities": []}}
    )
    wild: list[tuple[bytes, ...]] = [
        (b"SSH-2.0-none\r\n",),
        (b"",),
        (b"{" * 200_000 + b"\n",),
        (b'{"QMP": 7}\n',),
        (greeting.encode() + b"\n", b'{"return": [[[]]]}\n' * 40),
        (greeting.encode() + b"\n", b'{"error": {"class": "X", "desc": "\x1b[2Jno"}}\n' * 40),
        (
            greeting.encode() + b"\n",
            b'{"return": {}}\n',
            b'{"return": {"status": ["running"]}}\n',
            b'{"return": [{"inserted": 1, "qdev": 2}]}\n' * 9,
        ),
    ]
    for number, lines in enumerate(wild):
        folder = tmp_path / str(number)
        folder.mkdir()
        sheet = make_sheet(folder, disk("a", 'size = "8 MiB"'), guest=GUEST)
        (folder / "shelf" / "a.raw").unlink(missing_ok=True)
        server = socket.socket(socket.AF_UNIX)
        server.bind(str(folder / "monitor"))
        server.listen()

        def serve(lines: tuple[bytes, ...] = lines, server: socket.socket = server) -> None:
            while True:
                try:
                    link, _ = server.accept()
                except OSError:
                    return
                with link:
                    try:
                        for line in lines:
                            link.sendall(line)
                            link.recv(65536)
                    except OSError:
                        pass

        threading.Thread(target=serve, daemon=True).start()
        done = run("review", str(sheet), timeout=60)
        assert done.returncode in (0, 1) and "\x1b" not in done.stdout, done
        server.close()
