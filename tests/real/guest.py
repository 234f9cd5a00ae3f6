"""A small real guest: Debian's kernel and a shell, booted under the hypervisor with disks attached.

Kernel and initramfs are built once and cached outside the checkout. `boot` hands the guest a script on a disk of its
own and returns what it printed on its serial line.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import re
import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

KERNEL_PACKAGE = "linux-image-6.12-amd64"
MODULES = (
    "crc32c_generic",
    "virtio_pci",
    "virtio_blk",
    "virtio_scsi",
    "nvme",
    "ahci",
    "sd_mod",
    "ext4",
    "xfs",
    "nls_cp437",
    "nls_ascii",
    "nls_utf8",
    "vfat",
    "exfat",
    "ntfs3",
    "dm_mod",
    "raid1",
    "dm_raid",
    "xts",
    "dm_crypt",
    "virtio_net",
    "nbd",
    "iscsi_tcp",
)
PROGRAMS = ("qemu-system-x86_64", "busybox", "cpio", "depmod", "gcc", "grub-fstest", "xz", "apt-get")
SECONDS = 900
_SOURCES = sorted((Path(__file__).parent / "in_guest").glob("*.c"))
"""What a guest needs besides a shell: calls of the kernel's own that no shell can make."""

INIT = """#!/bin/busybox sh
/bin/busybox mkdir -p /proc /sys /dev /etc /mnt /tmp
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev
while read module; do insmod "$module"; done < /modules.order
for second in 1 2 3 4 5 6 7 8 9 10; do [ -e /dev/vda ] && break; sleep 1; done
sleep 1
cat /dev/vda > /script
sh /script 2>&1
[ -e /tmp/mapped ] && for device in $(tac /tmp/mapped); do map ${device#/dev/map-} gone 2>&1; done
echo "== log"
dmesg -r
echo "== end"
poweroff -f
"""


# How many of its info lines on mounting and unmounting the kernel has left out, which it says as a warning.
_LEFT_OUT = re.compile(r"EXT4-fs (un)?mount: \d+ callbacks suppressed")


@dataclass(frozen=True)
class Attached:
    """A disk at a position of the guest's SCSI controller."""

    path: Path
    position: int
    format: str = "raw"
    sector: int = 512
    kept: bool = False
    """Whether the image itself is only read; what the guest writes is thrown away."""


@dataclass(frozen=True)
class Answers:
    """What a guest said: the text after the first two words of each line, by these words, and its kernel's log."""

    said: dict[str, str]
    log: str

    @classmethod
    def of(cls, output: str) -> Answers:
        """Take what a guest printed apart; lines that start alike are joined, sums line by line."""
        printed, _, log = output.partition("== log")
        said: dict[str, str] = {}
        for row in (line.split(" ", 2) for line in printed.splitlines() if line.count(" ") >= 2):
            key = f"{row[0]} {row[1]}"
            said[key] = said.get(key, "") + row[2] + ("\n" if row[1] == "sum" else "")
        return cls(said, log)

    def shows(self, at: str) -> dict[str, int]:
        """Return what statvfs gave for a mount point, as a review promises it."""
        block, total, free, available = (int(word) for word in self.said[f"{at} shows"].split())
        return {"total": block * total, "free": block * free, "available": block * available}


# Shell functions: files put on a mount point, large and small ones with checksums kept, and checked later.
LOAD = """
load() {
    mkdir -p $1/d/e/e/p; dd if=/dev/urandom of=$1/d/large bs=1M count=3 2>/dev/null
    for n in $(seq 60); do dd if=/dev/urandom of=$1/d/e/e/p/$n bs=777 count=$n 2>/dev/null; done
    (cd $1; find . -type f | xargs sha256sum > /tmp/sums)
}
light() { mkdir -p "$1/Bäume und Samen"; for n in $(seq 25); do dd if=/dev/urandom of="$1/Bäume und Samen/a rather long name $n" \
    bs=777 count=$n 2>/dev/null; done; (cd $1; find . -type f -exec sha256sum {} + > /tmp/sums); }
heavy() {
    cd $1; deep=.; for n in $(seq 40); do deep=$deep/Ordner-$n; done; mkdir -p $deep; echo tief > $deep/ganz
    for n in $(seq 9); do echo $n > "$(printf '種%.0s' $(seq 80))$n"; done; dd if=/dev/urandom of=large bs=1M count=3 2>/dev/null
    mkdir many; n=0; while [ $n -lt $2 ]; do echo $n > many/$n-Samen; n=$((n+1)); done
    for n in $(seq 0 3 $(($2-1))); do mv many/$n-Samen many/Umbenannt-$n; done
    for n in $(seq 1 3 $(($2-1))); do rm many/$n-Samen; done
    find . -type f -exec sha256sum {} + > /tmp/sums
    dd if=/dev/zero of=fill bs=64k 2>/dev/null; sync; full=$(stat -f -c "%S %a" .); rm fill; cd /
}
check() { (cd $1; sha256sum -c /tmp/sums > /tmp/said 2>&1 && echo "$2 intact $(grep -c OK /tmp/said)" || cat /tmp/said); }
"""

SHOWS = 'echo "{at} shows $(stat -f -c "%S %b %f %a" {at})"'
PARTITIONS = (
    "for path in /sys/class/block/sd*; do name=${path##*/}; [ -e $path/partition ] || continue",
    "where=$(readlink -f $path/../device); position=${where%:*}; position=${position##*:}",
    'echo "part-$position-$(cat $path/partition) lies $(cat $path/start $path/size | tr "\\n" " ")'
    '$(grep PARTNAME= $path/uevent)"; done',
)


def device_at(position: int) -> str:
    """Return what names the device at a position, for the guest's shell."""
    return f"/dev/$(ls /sys/class/scsi_disk/0:0:{position}:0/device/block)"


def missing_programs() -> list[str]:
    """Return the programs a guest needs that this machine lacks."""
    return [name for name in PROGRAMS if shutil.which(name) is None]


def boot(disks: list[Attached], script: str) -> str:
    """Boot a guest with `disks`, run `script` in it, and return all it printed."""
    kernel, initramfs = built()
    with tempfile.TemporaryDirectory() as folder:
        text = script.encode()
        handed = Path(folder, "script")
        handed.write_bytes(text.ljust(-(-(len(text) + 1) // 512) * 512, b"\n"))
        # One processor: a second one, emulated in a thread of its own, can run into the kernel patching its own code.
        command = [
            "qemu-system-x86_64", "-accel", "tcg", "-smp", "1", "-m", "768", "-nodefaults", "-display", "none",
            "-serial", "stdio", "-no-reboot", "-kernel", str(kernel), "-initrd", str(initramfs),
            "-append", "console=ttyS0 quiet panic=1", "-device", "virtio-scsi-pci,id=sc",
            "-drive", f"file={handed},format=raw,if=virtio,readonly=on",
        ]  # fmt: skip
        for number, disk in enumerate(disks):
            command += [
                "-drive",
                f"file={disk.path},format={disk.format},if=none,id=d{number}{',snapshot=on' if disk.kept else ''}",
            ]
            sizes = f"logical_block_size={disk.sector},physical_block_size={disk.sector}"
            command += ["-device", f"scsi-hd,drive=d{number},bus=sc.0,scsi-id={disk.position},{sizes}"]
        done = subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, timeout=SECONDS, check=False)
    output = done.stdout.decode(errors="replace").replace("\r", "")
    assert "== end" in output, f"the guest did not finish:\n{output[-3000:]}\n{done.stderr.decode()[-2000:]}"
    return output


def complaints(log: str, *names: str, passed_over: tuple[str, ...] = ()) -> list[str]:
    """Return the lines of a raw kernel log, at level warning or worse, that mention any of `names`."""
    found = []
    for line in log.splitlines():
        level, bracket, text = line.partition(">")
        if _LEFT_OUT.search(text) or any(words in text for words in passed_over):
            continue
        if bracket and level[:1] == "<" and level[1:].isdigit() and int(level[1:]) & 7 <= 4:
            found += [text for name in names if name.lower() in text.lower()][:1]
    return found


def built() -> tuple[Path, Path]:
    """Return the kernel and the initramfs, made once and cached."""
    cache = Path(os.environ.get("NARVET_CACHE") or Path.home() / ".cache" / "narvet") / "guest"
    sources = "".join(one.read_text() for one in _SOURCES)
    mark = hashlib.sha256((INIT + sources + KERNEL_PACKAGE + " ".join(MODULES)).encode()).hexdigest()[:16]
    place = cache / mark
    cache.mkdir(parents=True, exist_ok=True)
    with (cache / "lock").open("w") as lock:  # two guests find an empty cache at once; one of them builds
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not place.exists():
            with tempfile.TemporaryDirectory(dir=cache) as folder:
                made = Path(folder, "made")
                _build(Path(folder), made)
                made.rename(place)
    return place / "kernel", place / "initramfs"


def _run(*command: str, folder: Path) -> str:
    return subprocess.run(command, cwd=folder, check=True, capture_output=True, text=True).stdout


def _build(folder: Path, made: Path) -> None:
    """Unpack the kernel's package and put an initramfs together from its modules and a static shell."""
    _run("apt-get", "update", "-q", folder=folder)  # a new machine has no lists, or old ones
    depends = _run("apt-cache", "depends", KERNEL_PACKAGE, folder=folder)
    package = next(line.split()[-1] for line in depends.splitlines() if "Depends: linux-image" in line)
    _run("apt-get", "download", package, folder=folder)
    _run("dpkg", "-x", next(folder.glob("*.deb")).name, "package", folder=folder)
    kernel = next((folder / "package" / "boot").glob("vmlinuz-*"))
    version = kernel.name.removeprefix("vmlinuz-")
    _run("depmod", "-b", "package", version, folder=folder)
    root = folder / "root"
    (root / "bin").mkdir(parents=True)
    shutil.copy(shutil.which("busybox") or "", root / "bin" / "busybox")
    for source in _SOURCES:
        _run("gcc", "-static", "-o", str(root / "bin" / source.stem), str(source), folder=folder)
    names = [file for name in MODULES for file in _module(folder, version, name, root)]
    (root / "modules.order").write_text("".join(f"/{name}\n" for name in dict.fromkeys(names)))
    init = root / "init"
    init.write_text(INIT)
    init.chmod(0o755)
    made.mkdir()
    shutil.copy(kernel, made / "kernel")
    packed = "find . | cpio --quiet -o -H newc | gzip -1 > ../made/initramfs"
    subprocess.run(["sh", "-c", packed], cwd=root, check=True)


def _module(folder: Path, version: str, name: str, root: Path) -> list[str]:
    """Copy a module and what it depends on into the root; return their file names in the order to load them."""
    listed = _run("modprobe", "-D", "-d", str(folder / "package"), "-S", version, name, folder=folder)
    files = [Path(line.split()[1]) for line in listed.splitlines() if line.startswith("insmod")]
    for file in files:
        shutil.copy(file, root / file.name)
        if file.suffix == ".xz":
            _run("xz", "-d", "-f", str(root / file.name), folder=folder)
    return [file.name.removesuffix(".xz") for file in files]
