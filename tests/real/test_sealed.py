"""Sealed volumes judged by a real kernel: its own cipher opens what Narvet sealed, by a key that the tests work out.

One guest fills partitions and a pool's volume; then all become larger, and a second guest goes on to their ends.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from narvet.block.window import Window
from narvet.formats.images.chain import open_image
from narvet.ground.units import MIB
from tests.program import facts, fill_root, make_root, make_sheet, run
from tests.real.conftest import Used
from tests.real.guest import LOAD, SHOWS, Answers, Attached, boot, complaints, device_at
from tests.real.show import mapping
from tests.seal_reader import table, volume_key

WORDS = b"spring intake, 14 trays"
SHEET = """
[disk.a]
guest = "seedling"
store = "shelf"
size = "{0} MiB"
[[disk.a.partition]]
at = "/srv/notes"
size = "rest"
owner = "curator:lab"
sealed = {{memory = "16 MiB", passes = 4{3}}}
[disk.b]
guest = "seedling"
store = "shelf"
size = "{0} MiB"
format = "qcow2"
[[disk.b.partition]]
at = "/srv/trials"
filesystem = "xfs"
sealed = {{memory = "16 MiB", passes = 4, sector = 512}}
[disk.c]
guest = "seedling"
store = "shelf"
size = "{1} MiB"
[[disk.c.partition]]
pool = "cold"
[pool.cold]
guest = "seedling"
extent = "1 MiB"
[[pool.cold.volume]]
name = "readings"
size = "{2} MiB"
at = "/srv/readings"
sealed = {{memory = "16 MiB", passes = 4}}
"""
ROOT, KEY_FILE = "root.qcow2", "/etc/keys/notes.key"
KINDS = {"notes": "ext4", "trials": "xfs", "readings": "ext4"}
QUIET = ("xfs", "ext4", "device-mapper: crypt", "device-mapper: table", "I/O error")


def write(folder: Path, *sizes: int, key_file: str = "") -> Path:
    """Write the sheet with these sizes, the guest's root in an image."""
    if not (folder / ROOT).exists():
        run("make", str(folder / ROOT), "--size", "128 MiB", "--filesystem", "xfs", status=0)
        fill_root(folder / ROOT, make_root(folder / "filled"))
    more = f', key_file = "{key_file}"' if key_file else ""
    sheet = make_sheet(folder, SHEET.format(*sizes, more), guest=f'root = "{ROOT}"')
    (folder / "words").write_bytes(WORDS + b"\n")
    run("write", str(sheet), "--yes", "--passphrase-file", str(folder / "words"), status=0)
    words = ("--passphrase-file", str(folder / "words"))
    assert facts("confirm", str(sheet), *words)["agrees"] and facts("confirm", str(sheet))["agrees"]
    return sheet


def script(folder: Path, words: bytes = WORDS) -> tuple[list[Attached], list[str]]:
    """Return the disks, and the lines that open and mount what is sealed on them; `words` open the first."""
    shelf, names = folder / "shelf", ("a.raw", "b.qcow2", "c.raw")
    disks = [Attached(shelf / name, at, name.rpartition(".")[2]) for at, name in enumerate(names)]
    review = facts("review", str(folder / "sheet.toml"))
    sizes = [review["disks"][0]["partitions"][0]["size"], review["disks"][1]["partitions"][0]["size"]]
    sizes.append(review["pools"][0]["volumes"][0]["size"])
    lines = [LOAD, *mapping(disks)]
    for at, (name, kind) in enumerate(KINDS.items()):
        with open_image(disks[at].path) as device:
            start = 2 * MIB if name == "readings" else MIB  # behind the table, and behind the pool's first ring
            part = Window(device, start, device.size - start)
            key, offset, sector = volume_key(part.read, words if name == "notes" else WORDS)
        path = "/dev/map-cold-readings" if name == "readings" else f"$(echo {device_at(at)[:-1]})1)"
        rows = [table(key, path, sizes[at], offset, sector)]
        lines += [f"map {name} >> /tmp/mapped <<END || echo 'map failed {name}'", *rows, "END", f"mkdir -p /srv/{name}"]
        lines += [f"mount -t {kind} /dev/map-{name} /srv/{name}", SHOWS.format(at=f"/srv/{name}")]
        lines += [f'echo "/srv/{name} root $(stat -c "%u %g %a" /srv/{name})"']
    return disks, lines


def prepare(folder: Path, _: Path) -> tuple[list[Attached], str]:
    """Seal three, and have the first guest fill them."""
    write(folder, 200, 300, 200)
    disks, lines = script(folder)
    for name in KINDS:
        lines += [f"load /srv/{name}; mv /tmp/sums /srv/{name}/.sums; umount /srv/{name}"]
    return disks, "\n".join([*lines, "sync"])


def promised(folder: Path) -> dict[str, dict[str, int]]:
    """Return what a review promises, by mount points."""
    review = facts("review", str(folder / "sheet.toml"), "--passphrase-file", str(folder / "words"))
    parts = [part for disk in review["disks"] for part in disk["partitions"] if part["at"]]
    return {one["at"]: one["shows"] for one in (*parts, *review["pools"][0]["volumes"])}


@pytest.mark.guest
def test_a_kernel_opens_what_was_sealed_and_uses_it_to_its_end(guests: dict[str, Used], tmp_path: Path) -> None:
    used = guests[__name__]
    assert complaints(used.answers.log, *QUIET) == []
    write(tmp_path, 200, 300, 200)
    for at, fresh in promised(tmp_path).items():
        assert used.answers.shows(at) == fresh, at
    assert used.answers.said["/srv/notes root"] == "1201 1300 755"
    folder = used.folder
    assert (
        "add --unseal"
        in run("write", str(make_sheet(folder, SHEET.format(260, 420, 300, ""))), "--yes", status=1).stderr
    )
    write(folder, 260, 420, 300, key_file=KEY_FILE)
    shows = promised(folder)
    run("look", f"{folder / ROOT}:1", KEY_FILE, "--out", str(folder / "key"), status=0)
    held = (folder / "key").read_bytes()
    disks, lines = script(folder, held)
    disks.append(Attached(folder / ROOT, len(disks), "qcow2"))
    lines += [f"mkdir -p /root-of; mount -t xfs $(echo {device_at(len(disks) - 1)[:-1]})1) /root-of"]
    lines += [f'echo "key holds $(stat -c "%u %g %a %s" /root-of{KEY_FILE}) $(sha256sum < /root-of{KEY_FILE})"']
    lines += ['echo "tab has $(cat /root-of/etc/crypttab | tr "\\n" " ")"; umount /root-of']
    for name, kind in KINDS.items():
        at = f"/srv/{name}"
        lines += [f'(cd {at}; sha256sum -c .sums > /tmp/said 2>&1 && echo "{at} intact $(grep -c OK /tmp/said)")']
        lines += [f"dd if=/dev/zero of={at}/fill bs=64k 2>/dev/null; sync"]
        lines += [f'echo "{at} full $(stat -f -c "%S %a" {at}) $(stat -c %s {at}/fill)"; umount {at}']
        lines += [f"mount -t {kind} /dev/map-{name} {at} && umount {at}"]
    second = Answers.of(boot(disks, "\n".join([*lines, "sync"])))
    assert complaints(second.log, *QUIET) == []
    assert second.said["key holds"] == f"0 0 600 128 {hashlib.sha256(held).hexdigest()}  -"
    assert f" {KEY_FILE} luks,nofail sealed-b " in second.said["tab has"]
    for name in KINDS:
        at = f"/srv/{name}"
        assert second.said[f"{at} intact"] == "61" and second.shows(at) == shows[at], at
        block, free, size = (int(word) for word in second.said[f"{at} full"].split())
        assert block * free < MIB and size > shows[at]["available"] - 40 * MIB
