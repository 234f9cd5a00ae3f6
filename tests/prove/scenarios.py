"""What is tried: small pieces of every command's work, each with what must be true before, after, and in between."""

from __future__ import annotations

import hashlib
import random
import shutil
import subprocess
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from uuid import UUID

from narvet.formats.images import ending_of, image_format
from narvet.formats.images.chain import new_image_file, open_image
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.trust import Trust
from narvet.ground.units import KIB, MIB
from tests.descriptions import PLAIN
from tests.hives import fill_windows, windows_hives
from tests.program import IDENTITY, digest, disk, file_digest, fill_root, make_root, make_sheet

_HEAD = f'sheet = 1\nidentity = "{IDENTITY}"\n'
SMALL = {"raw": None, "vhd": 512 * KIB, "vhdx": MIB, "qcow2": 4 * KIB, "vmdk": 8 * KIB}
_NOT_COMPARED = (".ledger.jsonl",)  # it has the clock's time in it


@dataclass(frozen=True)
class Scenario:
    """A command tried in a folder that `prepare` fills; `disks` are read by their content, whatever their bytes are.

    A disk is read through the first of its files that exists: of a child and its base, the child while it is there.
    `in_steps` is whether it is changed in more than one, so that in between it may be neither the old nor the new one.
    """

    name: str
    prepare: Callable[[Path], None]
    words: tuple[str, ...]
    disks: tuple[tuple[str, ...], ...] = ()
    again: tuple[str, ...] | None = None
    bases: tuple[str, ...] = field(default=())
    in_steps: bool = False

    def call(self, folder: Path) -> list[str]:
        """Return the words of the command in a folder."""
        return [word.replace("@", str(folder)) for word in self.words]


def contents(folder: Path, scenario: Scenario) -> tuple[str | None, ...]:
    """Return a checksum of each disk, None where none of its files is there."""
    return tuple(_disk_sum(folder, files) for files in scenario.disks)


def _disk_sum(folder: Path, files: tuple[str, ...]) -> str | None:
    path = next((folder / name for name in files if (folder / name).exists()), None)
    if path is None:
        return None
    with open_image(path, trust=Trust(by_content=True)) as device:
        return digest(device.read, 0, device.size)


def tree(folder: Path, scenario: Scenario) -> dict[str, str]:
    """Return a checksum of every file, by its name, but for those read as disks and for the ledger."""
    as_disks = {name for files in scenario.disks for name in files}
    found = {}
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        if name in as_disks or name.endswith(_NOT_COMPARED):
            continue
        content = file_digest(path) if path.is_file() else "folder"
        found[name] = f"{path.lstat().st_mode:o} {content}"
    return found


def copied(template: Path, folder: Path) -> None:
    """Make `folder` a copy of `template`, holes and times kept."""
    if folder.exists():
        shutil.rmtree(folder)
    subprocess.run(["cp", "-a", "--sparse=always", template, folder], check=True)


def _image(path: Path, kind: str, size: int, seed: int) -> None:
    dice = random.Random(seed)
    with new_image_file(
        image_format(kind), path, ImageSpec(image_format(kind).fit(size), id=UUID(int=seed + 1), block_size=SMALL[kind])
    ) as device:
        for place in range(0, size - 300 * KIB, MIB):
            device.write(place, dice.randbytes(200 * KIB))


def _sheet(disks: str) -> Callable[[Path], None]:
    return lambda folder: (make_sheet(folder, disks), None)[1]


def _with_image(kind: str, size: int = 4 * MIB) -> Callable[[Path], None]:
    return lambda folder: _image(folder / f"old{ending_of(kind)}", kind, size, 3)


def _child(below: str, above: str) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        from narvet.apply.staging import new_image
        from narvet.usecases.branch import make_child

        base, child = folder / f"base{ending_of(below)}", folder / f"child{ending_of(above)}"
        _image(base, below, 4 * MIB, 5)
        with new_image(child, image_format(above)) as built:
            make_child(base, built, child, image_format(above))
        dice = random.Random(6)
        with open_image(child, writable=True) as device:
            for place in range(0, 4 * MIB, 2 * MIB):
                device.write(place, dice.randbytes(700 * KIB))

    return prepare


def _moved_base(kind: str) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        _child(kind, kind)(folder)
        (folder / f"base{ending_of(kind)}").rename(folder / f"moved{ending_of(kind)}")

    return prepare


def _written(disks: str) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        import narvet

        narvet.write(make_sheet(folder, disks))

    return prepare


def _requests(folder: Path) -> None:
    make_sheet(folder, disk("a"))
    (folder / "r.csv").write_text("disk,guest,store,store_path,size,at\nb,seedling,attic,attic,1 GiB,/srv/b\n")


def _entries(folder: Path) -> None:
    make_sheet(folder, disk("a", 'size = "8 MiB"', 'at = "/srv/a"'))
    make_root(folder / "other", b"# mine\n/dev/sda1 / ext4 defaults 0 1\n")


def _image_root(kind: str) -> Callable[[Path], None]:
    """Return what makes a Linux root on an image, in a filesystem of a kind, beside a sheet for it."""

    def prepare(folder: Path) -> None:
        import narvet

        narvet.make(folder / "root.qcow2", narvet.DiskWishes(size=40 * MIB, filesystem=kind))
        made = make_root(folder / "made", b"# kept\n")
        (made / "srv").mkdir()
        fill_root(folder / "root.qcow2", made)
        shutil.rmtree(made)
        narvet.write(make_sheet(folder, disk("a", 'size = "8 MiB"', ""), guest='root = "root.qcow2"'))
        make_sheet(folder, disk("a", 'size = "8 MiB"', 'at = "/srv/deep/a"'), guest='root = "root.qcow2"')

    return prepare


def _windows_root(folder: Path) -> None:
    import narvet

    narvet.make(folder / "win.vhdx", narvet.DiskWishes(size=40 * MIB, filesystem="ntfs"))
    fill_windows(folder / "win.vhdx", windows_hives({"C:": b"x" * 24}), 1)
    guest = 'runs = "windows"\nroot = "win.vhdx"'
    narvet.write(make_sheet(folder, disk("a", 'size = "16 MiB"', ""), guest=guest))
    make_sheet(folder, disk("a", 'size = "16 MiB"', 'at = "T:"'), guest=guest)


def _described(*attached: str) -> Callable[[Path], None]:
    """A guest whose door is its description, with a manifest and a disk of its own, and some disks attached."""

    def prepare(folder: Path) -> None:
        import narvet

        disks = disk("seeds", 'size = "4 MiB"\nformat = "vmdk"') + disk("other", 'size = "4 MiB"\nslot = "sata 3"')
        sheet = make_sheet(folder, disks, guest='slots = ["scsi 1-9", "sata 0-9"]\ndoor = {ovf = "seedling.ovf"}')
        narvet.make(folder / "root.vmdk", narvet.DiskWishes(size=4 * MIB, filesystem="none"), UUID(int=7))
        description = folder / "seedling.ovf"
        description.write_text(PLAIN.replace("68608", str((folder / "root.vmdk").stat().st_size)))
        digest = hashlib.sha256(description.read_bytes()).hexdigest()
        (folder / "seedling.mf").write_text(f"SHA256(seedling.ovf)= {digest}\n")
        narvet.write(sheet)
        if attached:
            narvet.attach(sheet, attached)

    return prepare


def _package(folder: Path) -> None:
    import narvet

    _described("seeds", "other")(folder)
    narvet.wrap(folder / "seedling.ovf", folder / "seedling.ova")


def _changed(before: str, after: str) -> Callable[[Path], None]:
    """Write a sheet, and leave another one in its place."""

    def prepare(folder: Path) -> None:
        _written(before)(folder)
        (folder / "bulk").mkdir()
        sheet = make_sheet(folder, after)
        sheet.write_text(sheet.read_text() + '[store.bulk]\npath = "bulk"\n')

    return prepare


def _grows(kind: str, filesystem: str, first: str, then: str, more: str = "", moves: str = "") -> Scenario:
    """A disk of some format that grows, with what is on it."""
    parts = [f'filesystem = "{filesystem}"' + ("" if filesystem == "swap" else '\nat = "/srv/a"') + moves] * 2
    sizes = [f'size = "{size}"\nformat = "{kind}"\n{more}' for size in (first, then)]
    before, after = (disk("a", keys, part) for keys, part in zip(sizes, parts, strict=True))
    files = f"shelf/a{ending_of(kind)}", *(f"shelf/a-{number}.vmdk" for number in range(1, 9) if "pieces" in more)
    name, in_steps = ("shrink", kind != "raw") if "move_files" in parts[1] else ("grow", False)
    return Scenario(
        f"{name} {kind} {filesystem}", _changed(before, after), ("write", "@/sheet.toml"), (files,), in_steps=in_steps
    )


def _shrinks(kind: str, filesystem: str, first: str, then: str) -> Scenario:
    """A disk of some format that gets smaller, with what is on it moved forward."""
    return _grows(kind, filesystem, first, then, moves="\nmove_files = true")


_PLAIN = disk("a", 'size = "12 MiB"\nformat = "qcow2"', 'size = "8 MiB"\nat = "/srv/a"')
_CORRECTED = disk(
    "a", 'size = "24 MiB"\nformat = "qcow2"',
    'size = "8 MiB"\nat = "/data/a"\nlabel = "other"\nowner = "curator"\nmode = "2770"', 'filesystem = "swap"',
)  # fmt: skip
CHANGES = (
    _grows("raw", "ext4", "6 MiB", "21 MiB"),
    _grows("vhd", "swap", "6 MiB", "9 MiB", 'space = "full"'),
    _grows("vhd", "exfat", "6 MiB", "30 MiB"),
    _grows("vhdx", "ntfs", "12 MiB", "40 MiB"),
    _grows("qcow2", "xfs", "20 MiB", "60 MiB"),
    _grows("vmdk", "fat32", "40 MiB", "50 MiB"),
    _grows("vmdk", "ext4", "6 MiB", "20 MiB", 'pieces = "4 MiB"'),
    _shrinks("raw", "ext4", "30 MiB", "9 MiB"),
    _shrinks("raw", "ntfs", "40 MiB", "14 MiB"),
    _shrinks("vhdx", "ext4", "30 MiB", "9 MiB"),
    _shrinks("qcow2", "ntfs", "40 MiB", "14 MiB"),
    Scenario("shrink", _written(_PLAIN), ("shrink", "@/shelf/a.qcow2", "--size", "9 MiB"), (("shelf/a.qcow2",),), in_steps=True),
    Scenario("correct", _changed(_PLAIN, _CORRECTED), ("write", "@/sheet.toml"), (("shelf/a.qcow2",),)),
    Scenario(
        "move", _changed(_PLAIN, _PLAIN.replace('"shelf"', '"bulk"').replace("qcow2", "vhdx")),
        ("write", "@/sheet.toml"), (("bulk/a.vhdx", "shelf/a.qcow2"),),
    ),
    Scenario(
        "rename", _changed(_PLAIN, _PLAIN.replace("disk.a", "disk.b").replace("size", 'was = "a"\nsize', 1)),
        ("write", "@/sheet.toml"), (("shelf/b.qcow2", "shelf/a.qcow2"),),
    ),
    Scenario("enlarge", _written(_PLAIN), ("enlarge", "@/shelf/a.qcow2", "--size", "30 MiB"), (("shelf/a.qcow2",),)),
)  # fmt: skip

_MEMBER = 'pool = "cold"'
_POOL = (
    '[pool.cold]\nguest = "seedling"\nextent = "1 MiB"\n[[pool.cold.volume]]\nname = "r"\nsize = "{}"\nat = "/srv/r"\n'
)
_JOINED = [disk(name, 'size = "12 MiB"\nformat = "qcow2"', _MEMBER) for name in "abc"]
_WORDS = b"spring intake"


def _sealed(before: str, after: str) -> Callable[[Path], None]:
    """Write a sheet with something sealed in it, and leave another one in its place, with the passphrase beside it."""

    def prepare(folder: Path) -> None:
        import narvet

        (folder / "words").write_bytes(_WORDS)
        with narvet.unsealing(narvet.Keyring([_WORDS])):
            narvet.write(make_sheet(folder, before))
        make_sheet(folder, after)

    return prepare


POOLS = (
    Scenario(
        "pool grows", _changed("".join(_JOINED[:2]) + _POOL.format("14 MiB"), "".join(_JOINED) + _POOL.format("22 MiB")),
        ("write", "@/sheet.toml"), (("shelf/a.qcow2",), ("shelf/b.qcow2",), ("shelf/c.qcow2",)), in_steps=True,
    ),
    Scenario(
        "member leaves",
        _changed(
            "".join(_JOINED) + _POOL.format("16 MiB"),
            _JOINED[0].replace(_MEMBER, 'filesystem = "none"') + "".join(_JOINED[1:]) + _POOL.format("16 MiB"),
        ),
        ("write", "@/sheet.toml"), (("shelf/a.qcow2",), ("shelf/b.qcow2",), ("shelf/c.qcow2",)), in_steps=True,
    ),
    Scenario(
        "sealed grows",
        _sealed(
            *(disk("a", f'size = "{size} MiB"', 'at = "/srv/a"\nsealed = {memory = "8 MiB", passes = 1}') for size in (24, 40))
        ),
        ("write", "@/sheet.toml", "--passphrase-file", "@/words"), (("shelf/a.raw",),), in_steps=True,
    ),
)  # fmt: skip

SHEET = disk("a", 'size = "8 MiB"', 'at = "/srv/deep/a"\nowner = "curator"') + disk(
    "b", 'size = "6 MB"\nformat = "vmdk"\npieces = "2 MiB"', 'filesystem = "swap"'
)

SCENARIOS = (
    *CHANGES,
    *POOLS,
    Scenario("write", _sheet(SHEET), ("write", "@/sheet.toml")),
    Scenario("write formats", _sheet(
        disk("c", 'size = "6 MiB"\nformat = "qcow2"', "") + disk("d", 'size = "6 MiB"\nformat = "vhdx"\nspace = "full"', "")
    ), ("write", "@/sheet.toml")),
    Scenario("make", lambda _: None, (
        "make", "@/new.vhd", "--size", "8 MiB", "--filesystem", "ext4", "--identity", IDENTITY,
    )),
    *(
        Scenario(f"recast {source} {target}", _with_image(source), ("recast", f"@/old{ending_of(source)}", f"@/new{ending_of(target)}"))
        for source, target in (("raw", "qcow2"), ("qcow2", "raw"), ("vhd", "vhdx"), ("vhdx", "vhd"))
    ),
    Scenario("recast in pieces", _with_image("raw"), ("recast", "@/old.raw", "@/new.vmdk", "--pieces", "2 MiB")),
    Scenario("recast packed", _with_image("raw"), ("recast", "@/old.raw", "@/new.vmdk", "--packed", "--verify")),
    Scenario("branch", _with_image("qcow2"), ("branch", "@/old.qcow2", "@/child.qcow2")),
    *(
        Scenario(
            f"fold {below} {above}", _child(below, above), ("fold", f"@/child{ending_of(above)}"),
            ((f"child{ending_of(above)}", f"base{ending_of(below)}"),),
        )
        for below, above in (("raw", "qcow2"), ("vhdx", "vhdx"), ("vmdk", "vmdk"), ("vhd", "vhd"), ("qcow2", "qcow2"))
    ),
    *(
        Scenario(f"tie {kind}", _moved_base(kind), ("tie", f"@/child{ending_of(kind)}", f"@/moved{ending_of(kind)}"), ((f"moved{ending_of(kind)}",),), in_steps=True)
        for kind in ("qcow2", "vhdx")
    ),
    *(
        Scenario(f"reclaim {kind}", _written(disk("a", f'size = "16 MiB"\nformat = "{kind}"\nspace = "full"', 'filesystem = "ext4"')),
            ("reclaim", f"@/shelf/a{ending_of(kind)}"), ((f"shelf/a{ending_of(kind)}",),))
        for kind in ("qcow2", "vhdx")
    ),
    Scenario("retire", _written(SHEET), ("retire", "@/sheet.toml", "b", "--yes")),
    Scenario("attach", _described("other"), ("attach", "@/sheet.toml", "seeds")),
    Scenario("detach", _described("seeds", "other"), ("detach", "@/sheet.toml", "seeds", "--unmounted")),
    Scenario("wrap", _described("seeds", "other"), ("wrap", "@/seedling.ovf", "@/seedling.ova")),
    Scenario("unwrap", _package, ("unwrap", "@/seedling.ova", "@/apart", "--format", "qcow2")),
    Scenario("draft", _requests, ("draft", "@/sheet.toml", "--from", "@/r.csv")),
    *(
        Scenario(f"root in {kind}", _image_root(kind), ("write", "@/sheet.toml"), (("root.qcow2",),), in_steps=True)
        for kind in ("ext4", "xfs")
    ),
    Scenario("root of windows", _windows_root, ("write", "@/sheet.toml"), (("win.vhdx",), ("shelf/a.raw",)), in_steps=True),
    Scenario("entries", _entries, ("entries", "@/sheet.toml", "seedling", "--into", "@/other")),
)  # fmt: skip
