"""A sheet written inside a real guest, on devices that it was given while it ran, and on this machine's loop devices."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

import pytest

from tests.program import IDENTITY, PROGRAM
from tests.real.carried import carried
from tests.real.guest import complaints
from tests.real.running import running, say

SHEET = f"""
sheet = 1
identity = "{IDENTITY}"
[guest.seedling]

[disk.seeds]
guest = "seedling"
device = {{serial = "SEEDS-1"}}
[[disk.seeds.partition]]
size = "64 MiB"
at = "/srv/seeds"
owner = "curator"
mode = "0750"
[[disk.seeds.partition]]
at = "/srv/frames"
filesystem = "xfs"

[disk.trials]
guest = "seedling"
device = {{only_blank = true}}
size = "96 MiB"
[[disk.trials.partition]]
size = "32 MiB"
filesystem = "swap"
[[disk.trials.partition]]
at = "/srv/trials"
options = ["noatime"]

[disk.stick]
guest = "seedling"
device = {{serial = "STICK"}}
table = "mbr"
[[disk.stick.partition]]
at = "/srv/stick"
filesystem = "exfat"
"""


@pytest.mark.guest
@pytest.mark.kernel
def test_blank_devices_are_written_and_mounted_in_a_running_guest(tmp_path: Path) -> None:
    image = carried(tmp_path, SHEET)
    sizes = {"SEEDS-1": 480, "TWIN": 96, "STICK": 40}
    with running(tmp_path, "-cpu", "max", "-drive", f"file={image},format=raw,if=virtio,readonly=on") as guest:
        guest.tell("mkdir -p /py /etc /srv; mount -t ext4 -o ro /dev/vdb /py; cp /py/sheet.toml /tmp")
        guest.tell("echo root:x:0:0::/:/bin/sh > /etc/passwd; echo curator:x:1201:1300::/:/bin/sh >> /etc/passwd")
        guest.tell("echo root:x:0: > /etc/group; echo lab:x:1300: >> /etc/group; : > /etc/fstab")

        def plug(name: str, size: int) -> None:
            path = tmp_path / f"{name}.raw"
            with path.open("wb") as file:
                file.truncate(size << 20)
            inside = {"driver": "file", "filename": str(path), "discard": "unmap"}
            say(
                guest.monitor,
                "blockdev-add",
                **{"driver": "raw", "node-name": name, "file": inside, "discard": "unmap"},
            )
            sector = 4096 if name == "SEEDS-1" else 512
            about = {
                "id": f"d{name}",
                "drive": name,
                "serial": name,
                "logical_block_size": sector,
                "physical_block_size": sector,
            }
            say(guest.monitor, "device_add", **{"driver": "scsi-hd", "bus": "sc.0", **about})

        def narvet(words: str) -> tuple[int, str]:
            told, _, status = guest.tell(f"/py/narvet {words} 2>&1; echo status $?").rpartition("status ")
            return int(status), told

        for name, size in sizes.items():
            plug(name, size)
        guest.tell("sleep 1")
        status, told = narvet("write /tmp/sheet.toml --inside seedling")
        assert status == 0, told
        mounts = guest.tell("cat /proc/mounts")
        assert " /srv/seeds ext4 rw," in mounts and " /srv/frames xfs rw," in mounts and " /srv/stick exfat " in mounts
        assert " /srv/trials ext4 rw,noatime" in mounts and "partition" in guest.tell("cat /proc/swaps")
        assert "drwxr-x---" in guest.tell("ls -ldn /srv/seeds") and "1201" in guest.tell("ls -ldn /srv/seeds")
        guest.tell(
            "for at in seeds frames trials stick; do dd if=/dev/urandom of=/srv/$at/f bs=64k count=99; done; sync"
        )
        assert guest.tell("wc -l < /etc/fstab") == "5"

        status, told = narvet("write /tmp/sheet.toml --inside seedling")
        assert status == 0 and "All is as asked" in told, told
        guest.tell("swapoff -a; umount /srv/seeds /srv/trials /srv/frames /srv/stick")
        status, told = narvet("confirm /tmp/sheet.toml --inside seedling")
        assert status == 1 and told.count("nothing") == 5, told
        assert guest.tell("mount -a; ls /srv/*/f | wc -l") == "4"
        log = guest.tell("dmesg -r")
        assert complaints(log, "ext4", "xfs", "exfat", "swap", "sda", "sdb", "sdc", "i/o error") == []


BUSY = f"""
sheet = 1
identity = "{IDENTITY}"
[guest.here]
[disk.one]
guest = "here"
device = {{only_blank = true}}
size = "48 MiB"
[[disk.one.partition]]
at = "/mnt/one"
"""


@dataclass
class Machine:
    """This machine with an /etc of its own in a mount namespace, so that its fstab stays as it is; and loop devices."""

    folder: Path
    loops: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        (self.folder / "etc").mkdir()
        for name in ("passwd", "group"):
            (self.folder / "etc" / name).write_bytes(Path("/etc", name).read_bytes())
        (self.folder / "etc" / "fstab").touch()

    def inside(self, words: str) -> subprocess.CompletedProcess[str]:
        """Run a shell's words there."""
        script = f"mount --bind {self.folder}/etc /etc; mount -t tmpfs none /mnt; {words}"
        return subprocess.run(["unshare", "--mount", "sh", "-c", script], capture_output=True, text=True, check=False)

    def blank(self, size: int) -> tuple[str, Path]:
        """Return a loop device of so many MiB on which nothing lies, and its file."""
        path = self.folder / f"{len(list(self.folder.glob('*.img')))}.img"
        with path.open("wb") as file:
            file.truncate(size << 20)
        return self.attach(path), path

    def attach(self, path: Path, *options: str) -> str:
        """Return a new loop device over a file."""
        words = ["losetup", "-P", "--find", "--show", *options, str(path)]
        self.loops.append(subprocess.run(words, capture_output=True, text=True, check=True).stdout.strip())
        return self.loops[-1]

    def drop(self, count: int = 1) -> None:
        """Take the last loop devices away."""
        for _ in range(count):
            subprocess.run(["losetup", "-d", self.loops.pop()], check=True)


@pytest.fixture
def machine(tmp_path: Path) -> Iterator[Machine]:
    made = Machine(tmp_path)
    yield made
    made.drop(len(made.loops))


@pytest.mark.kernel
def test_devices_in_use_are_named_and_never_taken(tmp_path: Path, machine: Machine) -> None:
    sheet = tmp_path / "sheet.toml"
    sheet.write_text(BUSY)
    write = f"{PROGRAM} write {sheet} --inside here"
    device, path = machine.blank(48)
    for use in (
        f"exec 9>>{device}",
        f"printf SWAPSPACE2 | dd of={device} bs=1 seek=4086 conv=notrunc 2>/dev/null",
        f"{PROGRAM} make /mnt/fs.raw --size '24 MiB' --table none >/dev/null; dd if=/mnt/fs.raw of={device} bs=1M 2>/dev/null; "
        f"mkdir /mnt/x; mount {device} /mnt/x",
    ):
        done = machine.inside(f"{use}; {write}")
        assert done.returncode == 1 and "no blank device" in done.stderr, (use, done)
        with path.open("r+b") as file:
            file.truncate(0)
            file.truncate(48 << 20)
    machine.drop()
    machine.attach(path, "--read-only")
    done = machine.inside(write)
    assert done.returncode == 1 and "read-only" in done.stderr
    assert path.read_bytes() == bytes(48 << 20)
    machine.drop()

    # Two that could each be it.
    machine.attach(path)
    machine.blank(48)
    done = machine.inside(f"{PROGRAM} devices; {write}")
    assert done.returncode == 1 and "could each be it" in done.stderr and done.stdout.count("blank") >= 2
    machine.drop(2)

    # Cut off before its table: what the ledger knows was begun is begun again; what others put there is not.
    machine.attach(path)
    until = f"until grep -q 'writing device' {tmp_path}/*.jsonl 2>/dev/null; do :; done"
    cut = machine.inside(f"({write} & p=$!; {until}; kill -9 $p)")
    done = machine.inside(write)
    assert done.returncode == 0 and ("mounted" in done.stdout or "All is as asked" in done.stdout), (cut, done)
    sheet.write_text(BUSY.replace("48 MiB", "47 MiB"))
    assert "device-size-differs" in machine.inside(write).stderr
    sheet.write_text(BUSY.replace('at = "/mnt/one"', 'at = "/mnt/one"\nlabel = "other"'))
    assert "not changed from inside" in " ".join(machine.inside(write).stderr.split())
    sheet.write_text(BUSY)
    done = machine.inside(f"{write}; {PROGRAM} confirm {sheet} --inside here")
    assert done.returncode == 0, done


LARGER = f"""
sheet = 1
identity = "{IDENTITY}"
[guest.here]
[disk.one]
guest = "here"
device = {{only_blank = true}}
size = "700 MiB"
[[disk.one.partition]]
size = "64 MiB"
at = "/mnt/first"
[[disk.one.partition]]
size = "320 MiB"
filesystem = "xfs"
at = "/mnt/second"
"""


@pytest.mark.kernel
def test_a_device_in_use_gets_more_and_larger_partitions_also_after_cuts(tmp_path: Path, machine: Machine) -> None:
    sheet, (device, path) = tmp_path / "sheet.toml", machine.blank(700)
    sheet.write_text(LARGER)
    write, seen = f"{PROGRAM} write {sheet} --inside here", "stat -f -c '%n %S %b' /mnt/*"
    script = [write, "dd if=/dev/urandom of=/mnt/second/f bs=1M count=60 2>/dev/null", "sha256sum /mnt/second/f"]
    for step in range(1, 4):
        script.append(f"truncate -s {700 + 300 * step}M {path}; losetup -c {device}")
        script.append(f'sed -i \'s/size = "{700 + 300 * (step - 1)} MiB"/size = "{700 + 300 * step} MiB"/\' {sheet}')
        script.append(f'sed -i \'s/size = "{320 + 50 * (step - 1)} MiB"/size = "{320 + 50 * step} MiB"/\' {sheet}')
        if step == 3:
            script.append(f'printf \'[[disk.one.partition]]\\nsize = "200 MiB"\\nat = "/mnt/third"\\n\' >> {sheet}')
        script += [f"timeout -s KILL {0.25 * number + 0.15 * step} {write} >/dev/null" for number in range(1, 4)]
        script += [f"{write}; echo status $?", f"{PROGRAM} confirm {sheet} --inside here; echo status $?", seen]
    script.append("sha256sum /mnt/second/f")
    told = machine.inside("\n".join(script))
    assert told.stdout.count("status 0") == 6, told
    sums = [line.split()[0] for line in told.stdout.splitlines() if line.endswith("/mnt/second/f")]
    assert len(set(sums)) == 1 and len(sums) == 2
    sizes: dict[str, list[int]] = {}
    for line in told.stdout.splitlines():
        if line.startswith("/mnt/") and len(line.split()) == 3:
            at, block, count = line.split()
            sizes.setdefault(at, []).append(int(block) * int(count))
    assert len(set(sizes["/mnt/first"])) == 1 and len(sizes["/mnt/third"]) == 1
    growth = [after - before for before, after in pairwise(sizes["/mnt/second"])]
    assert growth == [50 << 20] * 2, sizes
    found = json.loads(machine.inside(f"{PROGRAM} survey {device} --json").stdout)[0]
    assert [part["size"] >> 20 for part in found["partitions"]] == [64, 470, 200]
