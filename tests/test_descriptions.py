"""Disks put into descriptions of guests in OVF and taken out: the rules of its schema, other bytes as they were."""

from __future__ import annotations

import hashlib
import io
import random
import tarfile
from pathlib import Path

import pytest

from narvet.ground.errors import NarvetError
from narvet.hosts.ovf.envelope import Envelope, NewDrive
from tests.descriptions import BARE, PLAIN, described, manifest_holds
from tests.program import disk, facts, make_sheet, rules, run

SECOND = PLAIN.replace("envelope/1", "envelope/2").replace('SettingData"', 'SettingData.xsd"')
GUEST = 'root = "root"\nslots = ["scsi 1-40", "sata 0-9", "ide 0-3", "virtio 0"]\ndoor = {ovf = "seedling.ovf"}'
DISKS = disk("seeds", 'size = "16 MiB"\nformat = "vmdk"', 'at = "/srv/seeds"') + disk(
    "b&w <1>".replace("&w <1>", "-w"), 'size = "8 MiB"\nslot = "sata 3"'
)


def setting(folder: Path, text: str = PLAIN) -> tuple[Path, Path]:
    """Write a sheet with its disks, and a description that has a root disk of its own."""
    sheet = make_sheet(folder, DISKS, guest=GUEST)
    (folder / "root.vmdk").write_bytes(bytes(68608))
    (folder / "seedling.ovf").write_bytes(text.encode())
    run("write", str(sheet), status=0)
    return sheet, folder / "seedling.ovf"


@pytest.mark.parametrize(
    "text", [PLAIN, PLAIN.replace("\n", "\r\n").replace("  ", "\t"), BARE, "\ufeff" + PLAIN, SECOND]
)
def test_what_is_attached_is_described_and_detached_leaves_no_byte(tmp_path: Path, text: str) -> None:
    sheet, path = setting(tmp_path, text)
    before, shelf = path.read_bytes(), tmp_path.resolve() / "shelf"
    done = facts("attach", str(sheet))["done"]
    assert [one["did"] for one in done] == ["attached", "attached"]
    drives = {one.file: one for one in described(path)}
    seeds, other = drives[shelf / "seeds.vmdk"], drives[shelf / "b-w.raw"]
    assert (seeds.controller, seeds.number, seeds.place, seeds.capacity) == ("scsi", 0, 1, 16 << 20)
    assert (other.controller, other.number, other.place, other.capacity) == ("sata", 0, 3, 8 << 20)
    assert [one["did"] for one in facts("attach", str(sheet))["done"]] == ["as asked", "as asked"]
    review = facts("review", str(sheet))
    assert [one["plug"]["plugged_into"] for one in review["disks"]] == ["seedling"] * 2 and rules(review) == []
    assert "plugged in" in run("retire", str(sheet), "seeds", "--yes", status=2).stderr

    # A disk that became larger is written, as nobody runs, and then described anew.
    sheet.write_text(sheet.read_text().replace('size = "16 MiB"', 'size = "24 MiB"'))
    run("write", str(sheet), status=0)
    assert [one["did"] for one in facts("attach", str(sheet))["done"]] == ["changed", "as asked"]
    assert max(one.capacity for one in described(path)) == 24 << 20
    run("detach", str(sheet), "seeds", "b-w", "--unmounted", status=0)
    if text is not BARE:
        assert path.read_bytes() == before
    assert all(one.file.name == "root.vmdk" for one in described(path))
    run("retire", str(sheet), "seeds", "--yes", status=0)


@pytest.mark.parametrize("method", ["sha1", "sha256"])
def test_a_manifest_is_kept_in_step_also_after_a_cut(tmp_path: Path, method: str) -> None:
    sheet, path = setting(tmp_path)
    manifest = path.with_suffix(".mf")
    lines = [
        f"{method.upper()}({one.name})= {hashlib.new(method, one.read_bytes()).hexdigest()}\n"
        for one in (path, tmp_path / "root.vmdk")
    ]
    manifest.write_text("".join(lines))
    run("attach", str(sheet), "b-w", status=0)
    states = [(path.read_bytes(), manifest.read_bytes())]
    for words in (("attach", str(sheet), "seeds"), ("detach", str(sheet), "seeds", "--unmounted")):
        run(*words, status=0)
        states.append((path.read_bytes(), manifest.read_bytes()))
        assert manifest_holds(manifest) == {
            "seedling.ovf",
            "root.vmdk",
            "shelf/b-w.raw",
            *(["shelf/seeds.vmdk"] if words[0] == "attach" else []),
        }
    assert states[2] == states[0]

    # What a cut leaves: a description with the disk and the manifest without, then the other way round.
    (old, old_manifest), (new, new_manifest) = states[:2]
    for command, text, digests in (("attach", new, old_manifest), ("detach", new, old_manifest)):
        path.write_bytes(text)
        manifest.write_bytes(digests)
        run(command, str(sheet), "seeds", *(["--unmounted"] if command == "detach" else []), status=0)
        assert (path.read_bytes(), manifest.read_bytes()) == (
            (new, new_manifest) if command == "attach" else (old, old_manifest)
        )

    manifest.write_text(lines[0].replace("= ", "= 0").replace("0", "1") + lines[1])
    assert "somebody changed" in run("attach", str(sheet), "seeds", status=3).stderr
    assert path.read_bytes() == old
    manifest.write_text("nonsense\n")
    assert "none of a manifest" in run("attach", str(sheet), "seeds", status=1).stderr
    path.with_suffix(".cert").write_text("")
    assert "signs" in run("attach", str(sheet), "seeds", status=2).stderr


@pytest.mark.parametrize(
    ("change", "keys", "told"),
    [
        (lambda text: text, 'slot = "virtio 0"', "no virtio controllers"),
        (lambda text: text, 'slot = "scsi 7"', "the adapter itself"),
        (lambda text: text, 'slot = "scsi 33"', "the next slots are scsi 16 to 31"),
        (lambda text: text.replace("AddressOnParent>0", "AddressOnParent>2"), 'slot = "scsi 2"', "holds"),
        (lambda text: text.replace(' ovf:id="seedling"', ' ovf:id="x"').replace("</VirtualSystem>", "</VirtualSystem><VirtualSystem ovf:id='y'/>").replace("<Name>seedling</Name>", ""), "", "none of them seedling"),
        (lambda text: text.replace("<?xml", "<?xml", 1).replace("<Envelope", '<!DOCTYPE e [<!ENTITY a "b">]><Envelope'), "", "document types"),
        (lambda text: text.replace("</References>", ""), "", "not XML"),
        (lambda _: "<Envelope/>", "", "not a description in OVF"),
        (lambda _: "<a>" * 100, "", "deeper"),
        (lambda _: "<a " + " ".join(f"xmlns:p{n}='u'" for n in range(300)) + "/>", "", "more prefixes"),
        (lambda _: "", "", "not XML"),
        (lambda text: text.encode("utf-16").decode("latin-1"), "", "UTF-8"),
    ],
)  # fmt: skip
def test_what_cannot_be_described_is_refused_and_nothing_changes(tmp_path: Path, change, keys: str, told: str) -> None:  # type: ignore[no-untyped-def]
    sheet = make_sheet(tmp_path, disk("a", f'size = "8 MiB"\n{keys}'), guest=GUEST)
    run("write", str(sheet), status=0)
    (tmp_path / "root.vmdk").write_bytes(bytes(68608))
    path = tmp_path / "seedling.ovf"
    path.write_bytes(change(PLAIN).encode("latin-1"))
    before = path.read_bytes()
    refused = run("attach", str(sheet))
    assert refused.returncode in (1, 2) and told in refused.stderr, refused
    assert path.read_bytes() == before
    review = run("review", str(sheet))
    assert review.returncode in (0, 1)


def test_damaged_descriptions_are_read_in_bounds() -> None:
    chance = random.Random(41)
    text = PLAIN.encode()
    words = [
        b"<",
        b">",
        b"/>",
        b'"',
        b"&",
        b"]]>",
        b"<!--",
        b"\0",
        b"\xff",
        b"ovf:id",
        b"<Item>",
        b"99999999999999999999999",
    ]
    read = 0
    for _ in range(3000):
        data = bytearray(text)
        for _ in range(chance.randrange(1, 5)):
            place = chance.randrange(len(data))
            data[place : place + chance.choice([0, 1, 9])] = chance.choice(words)
        try:
            envelope = Envelope(bytes(data), "here", "seedling")
            drives = envelope.drives()
            longer = envelope.with_drive(NewDrive("n", ("scsi", 1), "n.raw", 1, 2, "urn:x"))
        except NarvetError:
            continue
        read += 1
        again = Envelope(longer, "here", "seedling")
        (new,) = [one for one in again.drives() if one.href == "n.raw"]
        assert len(again.drives()) == len(drives) + 1 and new.capacity == 2
        if again.without_drive(new) != bytes(data):  # where ids clash already, nothing else may go
            assert Envelope(again.without_drive(new), "here", "seedling").drives() == drives
    assert read > 100


def test_a_package_goes_there_and_back(tmp_path: Path) -> None:
    sheet, path = setting(tmp_path)
    (tmp_path / "root.vmdk").unlink()
    run("make", str(tmp_path / "root.vmdk"), "--size", "4 MiB", "--filesystem", "none", status=0)
    path.write_text(PLAIN.replace("68608", str((tmp_path / "root.vmdk").stat().st_size)))
    run("attach", str(sheet), status=0)
    package = tmp_path / "seedling.ova"
    made = facts("wrap", str(path), str(package))
    assert made["files"] == ["seedling.ovf", "seedling.mf", "root.vmdk", "seeds.vmdk", "b-w.vmdk"]
    with tarfile.open(package) as tar:
        assert tar.getnames() == made["files"]
        (tmp_path / "apart").mkdir()
        tar.extractall(tmp_path / "apart", filter="data")
    apart = tmp_path / "apart"
    assert manifest_holds(apart / "seedling.mf") == {*made["files"]} - {"seedling.mf"}
    assert [one.file.name for one in described(apart / "seedling.ovf")] == ["root.vmdk", "seeds.vmdk", "b-w.vmdk"]
    assert (
        facts("survey", str(apart / "b-w.vmdk"))[0]["table_id"] == facts("review", str(sheet))["disks"][1]["table_id"]
    )

    assert "is there already" in run("wrap", str(path), str(package), status=2).stderr
    assert "is there already" in run("unwrap", str(package), str(apart), status=2).stderr
    new = tmp_path / "new"
    facts("unwrap", str(package), str(new), "--format", "qcow2")
    assert manifest_holds(new / "seedling.mf") == {"seedling.ovf", "root.qcow2", "seeds.qcow2", "b-w.qcow2"}
    assert {one.file.suffix for one in described(new / "seedling.ovf")} == {".qcow2"}
    run("recast", str(new / "b-w.qcow2"), str(tmp_path / "back.raw"), status=0)
    assert (tmp_path / "back.raw").read_bytes() == (tmp_path / "shelf" / "b-w.raw").read_bytes()


def test_packages_that_are_none_leave_nothing(tmp_path: Path) -> None:
    text = BARE.encode()

    def package(name: str, *members: tuple[str, bytes], kind: bytes = tarfile.REGTYPE) -> Path:
        with tarfile.open(tmp_path / name, "w", format=tarfile.USTAR_FORMAT) as tar:
            for own, data in members:
                about = tarfile.TarInfo(own)
                about.size, about.type, about.linkname = (
                    (len(data) if kind == tarfile.REGTYPE else 0),
                    kind,
                    "/etc/passwd",
                )
                tar.addfile(about, io.BytesIO(data))
        return tmp_path / name

    whole = package("whole.ova", ("g.ovf", text), ("d.bin", bytes(9000)))
    (tmp_path / "cut.ova").write_bytes(whole.read_bytes()[:5000])
    (tmp_path / "noise.ova").write_bytes(b"seed" * 500)
    digest = hashlib.sha256(text).hexdigest()
    for path, told in (
        (package("a.ova", ("../g.ovf", text)), "plain file"),
        (package("b.ova", ("/g.ovf", text)), "plain file"),
        (package("c.ova", ("g.ovf", text), kind=tarfile.SYMTYPE), "not a plain file"),
        (package("d.ova", ("g.ovf", text), kind=tarfile.LNKTYPE), "not a plain file"),
        (package("e.ova", ("g.ovf", text), kind=tarfile.CHRTYPE), "not a plain file"),
        (package("f.ova", ("g.ovf", text), ("x", b""), ("x", b"")), "twice"),
        (package("g.ova", ("x", b""), ("g.ovf", text)), "begins with a description"),
        (package("h.ova", ("g.ovf", text), ("g.mf", b"SHA256(g.ovf)= " + b"0" * 64)), "damaged or changed"),
        (
            package("i.ova", ("g.ovf", text), ("g.mf", f"SHA256(g.ovf)= {digest}\nSHA256(y)= {digest}".encode())),
            "missing",
        ),
        (package("j.ova", ("g.ovf", text), ("g.mf", b"\xff\xfe")), "none of a manifest"),
        (package("k.ova", ("g.ovf", text), ("\x1b[2J", b"")), "plain file"),
        (tmp_path / "cut.ova", "cannot be read"),
        (tmp_path / "noise.ova", "cannot be read"),
    ):
        refused = run("unwrap", str(path), str(tmp_path / "out"), status=1).stderr
        assert told in refused and "\x1b" not in refused, (path.name, refused)
        assert not [one for one in tmp_path.iterdir() if one.suffix != ".ova"]
    run("unwrap", str(whole), str(tmp_path / "out"), status=0)
    assert (tmp_path / "out" / "d.bin").read_bytes() == bytes(9000)
