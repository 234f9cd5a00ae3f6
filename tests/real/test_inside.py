"""A sheet written inside a real guest, on devices that it was given while it ran, and on this machine's loop devices."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from tests.program import IDENTITY
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


@pytest.mark.kernel
def test_devices_in_use_are_named_and_never_taken(tmp_path: Path) -> None:
    """On loop devices, in a mount namespace with an /etc of its own, so that this machine's stays as it is."""
    (tmp_path / "etc").mkdir()
    for name in ("passwd", "group"):
        (tmp_path / "etc" / name).write_bytes(Path("/etc", name).read_bytes())
    (tmp_path / "etc" / "fstab").touch()
    sheet = tmp_path / "sheet.toml"
    sheet.write_text(BUSY)
    narvet = Path(subprocess.sys.executable).with_name("narvet")  # type: ignore[attr-defined]

    def inside(words: str) -> subprocess.CompletedProcess[str]:
        script = f"mount --bind {tmp_path}/etc /etc; mount -t tmpfs none /mnt; {words}"
        return subprocess.run(["unshare", "--mount", "sh", "-c", script], capture_output=True, text=True, check=False)

    def loop(size: int, *options: str) -> tuple[str, Path]:
        path = tmp_path / f"{len(list(tmp_path.glob('*.img')))}.img"
        with path.open("wb") as file:
            file.truncate(size << 20)
        return attach(path, *options), path

    def attach(path: Path, *options: str) -> str:
        told = subprocess.run(
            ["losetup", "-P", "--find", "--show", *options, path], capture_output=True, text=True, check=True
        )
        loops.append(told.stdout.strip())
        return loops[-1]

    loops: list[str] = []
    write = f"{narvet} write {sheet} --inside here"
    try:
        device, path = loop(48)
        for use, told in (
            (f"exec 9>>{device}", "no blank device"),
            (
                f"mkswap={device}; printf SWAPSPACE2 | dd of={device} bs=1 seek=4086 conv=notrunc 2>/dev/null",
                "no blank device",
            ),
            (
                f"{narvet} make /mnt/fs.raw --size '24 MiB' --table none >/dev/null; dd if=/mnt/fs.raw of={device} bs=1M 2>/dev/null; mkdir /mnt/x; mount {device} /mnt/x",
                "no blank device",
            ),
        ):
            done = inside(f"{use}; {write}")
            assert done.returncode == 1 and told in done.stderr, (use, done)
            with path.open("r+b") as file:
                file.truncate(0)
                file.truncate(48 << 20)
        subprocess.run(["losetup", "-d", device], check=True)
        loops.remove(device)
        attach(path, "--read-only")
        done = inside(write)
        assert done.returncode == 1 and "read-only" in done.stderr
        assert path.read_bytes() == bytes(48 << 20)
        subprocess.run(["losetup", "-d", loops.pop()], check=True)

        # Two that could each be it; then a device written for a sheet that changes afterwards.
        attach(path)
        loop(48)
        done = inside(f"{narvet} devices; {write}")
        assert done.returncode == 1 and "could each be it" in done.stderr and done.stdout.count("blank") >= 2
        for one in (loops.pop(), loops.pop()):
            subprocess.run(["losetup", "-d", one], check=True)

        # Cut off before its table: what the ledger knows was begun is begun again; what others put there is not.
        device = attach(path)
        done = inside(
            f"({write} & p=$!; until grep -q 'writing device' {tmp_path}/*.jsonl 2>/dev/null; do :; done; kill -9 $p)"
        )
        state = inside(write)
        assert state.returncode == 0, (done, state)
        assert "mounted" in state.stdout or "All is as asked" in state.stdout
        sheet.write_text(BUSY.replace("48 MiB", "47 MiB"))
        assert "not changed from inside" in " ".join(inside(write).stderr.split())
        sheet.write_text(BUSY)
        done = inside(f"{write}; stat -f -c '%S %b' /mnt/one; {narvet} confirm {sheet} --inside here")
        assert done.returncode == 0, done
    finally:
        for one in loops:
            subprocess.run(["losetup", "-d", one], check=False)
