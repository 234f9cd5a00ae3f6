"""Lent disks judged by real clients: the kernel's own over NBD, and the hypervisor, which copies by what it is told."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any, Literal

import pytest

from narvet.formats.images.chain import open_image
from narvet.ground.units import KIB, MIB
from tests.iscsi_client import NAME, TARGET
from tests.program import disk, facts, make_sheet, run
from tests.real.guest import SHOWS, Answers, complaints
from tests.real.running import Running, running, say
from tests.test_lend import Lender, lent

NETWORK = ("-netdev", "user,id=n", "-device", "virtio-net-pci,netdev=n")
FORMATS = {"r": "raw", "q": "qcow2", "c": "vhd", "x": "vhdx", "m": "vmdk"}
QUIET = ("nbd", "iscsi", "connection", " sd ", "ext4", "xfs", "I/O error")
SETTLED = "for n in $(seq 100); do [ $(ls -d /sys/block/sd*/sd*1 2>/dev/null | wc -l) = {} ] && break; sleep 0.2; done"
REST = {"x": 'filesystem = "xfs"', "q": 'options = ["discard"]'}


def disks(folder: Path) -> dict[str, Path]:
    """Write a disk of each format, and a child of the first; return the images by the names that they are lent by."""
    text = ""
    for name, kind in FORMATS.items():
        size, at = 340 if name == "x" else 120, f'at = "/srv/{name}"\n{REST.get(name, "")}'
        text += disk(name, f'size = "{size} MiB"\nformat = "{kind}"', at)
    run("write", str(make_sheet(folder, text)), "--yes", status=0)
    run("make", "base.qcow2", "--size", "120 MiB", "--filesystem", "ext4", status=0, cwd=folder)
    run("branch", "base.qcow2", "child.qcow2", status=0, cwd=folder)
    found = {name: folder / "shelf" / f"{name}.{kind}" for name, kind in FORMATS.items()}
    return {**found, "child": folder / "child.qcow2"}


Way = Literal["nbd", "iscsi"]


def attach(guest: Running, lender: Lender, names: list[str], way: Way) -> None:
    """Have the kernel attach lent disks, and mount their partitions."""
    if way == "iscsi":
        said = guest.tell(f"initiate 10.0.2.2 {lender.port[1]} {TARGET} && echo attached")
        assert "attached" in said, said
        guest.tell(
            f"for one in /sys/class/scsi_host/*/scan; do echo '- - -' > $one; done; {SETTLED.format(len(names))}"
        )
    for at, name in enumerate(names):
        part = f"$(ls /sys/class/scsi_disk/*:0:0:{at}/device/block)1"
        if way == "nbd":
            part = f"nbd{at}p1"
            said = guest.tell(f"attach /dev/nbd{at} 10.0.2.2 {lender.port[1]} {name} && echo attached")
            assert "attached" in said, said
        kind = "xfs" if name == "x" else "ext4"
        options = "-o discard" if name == "q" else ""
        said = guest.tell(f"mkdir -p /srv/{name}; mount -t {kind} {options} /dev/{part} /srv/{name} && echo mounted")
        assert "mounted" in said, said + guest.tell("cat /proc/partitions; dmesg | tail")


def detach(guest: Running, names: list[str], way: Way) -> None:
    """Have the kernel let all of them go."""
    for at, name in enumerate(names):
        ends = f"attach /dev/nbd{at}"
        if way == "iscsi":
            ends = f"for one in /sys/class/scsi_disk/*:0:0:{at}/device/delete; do echo 1 > $one; done"
        said = guest.tell(f"umount /srv/{name} && sync && {ends} && echo detached")
        assert "detached" in said, said
    if way == "iscsi":
        assert "ended" in guest.tell("initiate && echo ended")


@pytest.mark.guest
@pytest.mark.parametrize("way", ["nbd", "iscsi"])
def test_the_kernel_attaches_what_is_lent(tmp_path: Path, way: Way) -> None:
    """Every format and a child, under load, detached and attached again, the program ended and started in between."""
    images = disks(tmp_path)
    review = facts("review", str(tmp_path / "sheet.toml"))
    promised = {part["at"]: part["shows"] for one in review["disks"] for part in one["partitions"]}
    names, words = list(images), [*map(str, images.values()), "--by", way]
    with running(tmp_path, *NETWORK) as guest:
        guest.tell("ifconfig eth0 10.0.2.15 netmask 255.255.255.0 up")
        with lent(*words, cwd=tmp_path) as lender:
            attach(guest, lender, names, way)
            shows = Answers.of(guest.tell("; ".join(SHOWS.format(at=f"/srv/{name}") for name in names)))
            for at, wanted in promised.items():
                assert shows.shows(at) == wanted, at
            for name in names:
                said = guest.tell(filled(name), 900)
                assert "failed" not in said, said
            detach(guest, names, way)
            lender.end()
        for name, path in images.items():
            found = facts("survey", str(path))[0]
            assert [one["rule"] for one in found["findings"]] == [], name
        with lent(*words, cwd=tmp_path) as lender:
            attach(guest, lender, names, way)
            for name in names:
                assert "41 OK" in guest.tell(
                    f"cd /srv/{name}; sha256sum -c .sums 2>&1 | grep -c OK | sed 's/$/ OK/'; cd /"
                )
            killed = guest.tell("dd if=/dev/urandom of=/srv/r/more bs=64k count=100 2>/dev/null; sync; echo stored")
            assert "stored" in killed
            detach(guest, names, way)
            lender.end()
        # what it says of each end that it was asked for
        detached = ("shutting down sockets", "detected conn error (1020)")
        assert complaints(guest.tell("dmesg -r"), *QUIET, passed_over=detached) == []
    assert facts("confirm", str(tmp_path / "sheet.toml"))["agrees"]


@pytest.mark.guest
def test_the_hypervisor_takes_units(tmp_path: Path) -> None:
    """It logs in by a secret; its guest's own SCSI driver speaks with units through it, trims and flushes them."""
    images = disks(tmp_path)
    (tmp_path / "logins.toml").write_text('[clients]\nhost = "a secret of the host"\n')
    (tmp_path / "logins.toml").chmod(0o600)
    (tmp_path / "secret").write_text("a secret of the host")
    names = ["q", "m", "child"]
    words = ["--by", "iscsi", "--logins", "logins.toml"]
    with lent(*(str(images[name]) for name in names), *words, cwd=tmp_path) as lender:
        more = ["-object", f"secret,id=s,file={tmp_path / 'secret'}"]
        for at, name in enumerate(names):
            url = (
                f"file.driver=iscsi,file.transport=tcp,file.portal=127.0.0.1:{lender.port[1]},file.target={TARGET},"
                f"file.lun={at},file.user=host,file.password-secret=s,file.initiator-name={NAME}"
            )
            device = "scsi-hd" if name == "m" else "scsi-block"
            more += ["-drive", f"driver=raw,{url},if=none,id={name},discard=unmap"]
            more += ["-device", f"{device},drive={name},bus=sc.0,scsi-id={at + 3}"]
        with running(tmp_path, *more) as guest:
            for at, name in enumerate(names):
                part = f"/dev/$(ls /sys/class/scsi_disk/0:0:{at + 3}:0/device/block)1"
                said = guest.tell(f"mkdir -p /srv/{name}; mount -t ext4 {part} /srv/{name} && echo mounted")
                assert "mounted" in said, said
                assert "failed" not in guest.tell(filled(name), 900)
            size = images["q"].stat().st_size
            for _ in range(2):  # what is given up is used again, so the image does not grow
                guest.tell("rm -r /srv/q/large; for n in 1 2 3; do sync; sleep 1; fstrim /srv/q; done")
                guest.tell("dd if=/dev/urandom of=/srv/q/large bs=1M count=12 2>/dev/null; sync")
            assert images["q"].stat().st_size < size + 6 * MIB
            guest.tell("umount /srv/q /srv/m /srv/child")
            assert complaints(guest.tell("dmesg -r"), "ext4", "sda", "sdb", "sdc", "I/O error") == []
        lender.end()
    for name in names:
        assert facts("survey", str(images[name]))[0]["findings"] == []


def filled(name: str) -> str:
    """Return a line of shell that puts files with checksums on a mount point, and removes some of what was there."""
    at = f"/srv/{name}"
    return (
        f"mkdir -p {at}/d/e; for n in $(seq 60); do dd if=/dev/urandom of={at}/d/e/$n bs=777 count=$((n * 9)) 2>/dev/null "
        f"|| echo failed; done; for n in $(seq 20); do rm {at}/d/e/$((n * 3)); done; "
        f"dd if=/dev/urandom of={at}/large bs=1M count=12 2>/dev/null || echo failed; sync; "
        f"cd {at}; find . -type f | xargs sha256sum > /tmp/sums; mv /tmp/sums .sums; cd /; sync"
    )


@pytest.mark.guest
def test_the_hypervisor_copies_what_holds_something(tmp_path: Path) -> None:
    """A guest's disk over NBD, and a copy made by what block status tells: alike, and its holes are ours."""
    images = disks(tmp_path)
    names = ["q", "x", "child"]
    with lent(*(str(images[name]) for name in names), cwd=tmp_path) as lender:
        url = f"nbd://127.0.0.1:{lender.port[1]}"
        words = ("-drive", f"file={url}/q,format=raw,if=none,id=q", "-device", "scsi-hd,drive=q,bus=sc.0,scsi-id=3")
        with running(tmp_path, *words) as guest:
            device = "/dev/$(ls /sys/class/scsi_disk/0:0:3:0/device/block)1"
            assert "mounted" in guest.tell(f"mkdir -p /srv/q; mount {device} /srv/q && echo mounted")
            assert "failed" not in guest.tell(filled("q") + "; umount /srv/q")
            assert complaints(guest.tell("dmesg -r"), "ext4", "sda", "I/O error") == []
            for name in names[1:]:
                copied(
                    tmp_path, lender, name, facts("survey", str(images[name]))[0]["size"] if name != "x" else 340 * MIB
                )
        lender.end()
    assert "findings" in facts("survey", str(images["q"]))[0]
    for name in names[1:]:
        with open_image(images[name]) as device_:
            copy = tmp_path / f"copy-{name}"
            holds = sum(run_.length for run_ in device_.extents())
            with copy.open("rb") as file:
                for start in range(0, device_.size, 4 * MIB):
                    assert file.read(4 * MIB) == device_.read(start, min(4 * MIB, device_.size - start))
            assert copy.stat().st_blocks * 512 <= holds + 64 * KIB * 8


def copied(folder: Path, lender: Lender, name: str, size: int) -> None:
    """Have the hypervisor copy a lent disk to a new raw file."""
    copy = folder / f"copy-{name}"
    with copy.open("xb") as file:
        os.truncate(file.fileno(), size)
    server = {"type": "inet", "host": "127.0.0.1", "port": str(lender.port[1])}
    about: dict[str, Any] = {"driver": "nbd", "node-name": f"n-{name}", "server": server, "export": name}
    assert say(folder / "monitor", "blockdev-add", **about) == {}
    target = {"driver": "file", "node-name": f"t-{name}", "filename": str(copy), "discard": "unmap"}
    assert say(folder / "monitor", "blockdev-add", **target) == {}
    job = {"job-id": name, "device": f"n-{name}", "target": f"t-{name}", "sync": "full"}
    assert say(folder / "monitor", "blockdev-mirror", **job) == {}
    for _ in range(600):
        (found,) = [one for one in say(folder / "monitor", "query-block-jobs") if one["device"] == name] or [None]
        assert found is not None
        if found["ready"]:
            break
        time.sleep(0.1)
    say(folder / "monitor", "block-job-cancel", device=name)
    for _ in range(100):
        if not say(folder / "monitor", "query-block-jobs"):
            break
        time.sleep(0.1)
    for node in (f"t-{name}", f"n-{name}"):
        assert say(folder / "monitor", "blockdev-del", **{"node-name": node}) == {}
