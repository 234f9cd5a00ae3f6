"""Sealed volumes: published vectors, headers damaged and hostile, keys changed, what stays secret, sheets that change."""

from __future__ import annotations

import hashlib
import json
import os
import random
import struct
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from narvet.block.memory import MemoryDevice
from narvet.formats.seals.device import SealedDevice
from narvet.formats.seals.header import FileKey, Kdf, checksum, with_file_key, without_slot
from narvet.formats.seals.keys import cost_of, derived, merged, recovery_key, sector_key, split
from narvet.formats.seals.volume import inside, key_of, make_seal, read_seal
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.units import KIB, MIB
from tests.program import disk, facts, fill_root, make_root, make_sheet, rules, run
from tests.seal_reader import header, volume_key

UUID_TEXT = "c2b8a9f4-17e2-4d6e-8c35-5a0de1c9b8f7"
CHEAP: dict[str, Any] = {"memory": 8 * MIB, "passes": 1}
SEALED = 'sealed = {memory = "8 MiB", passes = 1}'
WORDS, OTHER = b"larkmoor \xc3\xa4rt", b"other words"


def test_published_vectors() -> None:
    """Argon2id as its reference has it, AES-XTS as IEEE 1619 has it: what the packages are asked for is the standard."""
    found = derived(Kdf("argon2id", b"somesalt", 2, 64 * KIB, 1), b"password", 32)
    assert found.hex() == "09316115d5cf24ed5a15a31a3ba326e5cf32edc24702987c02b6566f61913cf7"
    key = bytes.fromhex(
        "27182818284590452353602874713526624977572470936999595749669676273141592653589793238462643383279502884197169399375105820974944592"
    )
    sealed = sector_key(bytes(range(256)) * 2, key, 0xFF, seal=True)
    assert sealed[:32].hex() == "1c3b3a102f770386e4836c99e370cf9bea00803f5e482357a4ae12d414a3e63b"
    assert sector_key(sealed, key, 0xFF, seal=False) == bytes(range(256)) * 2


@pytest.mark.parametrize("stripes", [1, 2, 4000])
def test_a_key_is_split_and_put_together(stripes: int) -> None:
    key = os.urandom(64)
    parts = split(key, stripes, "sha256")
    assert len(parts) == 64 * stripes and merged(parts, 64, stripes, "sha256") == key
    if stripes > 1:
        spoilt = bytes([parts[0] ^ 1]) + parts[1:]
        assert merged(spoilt, 64, stripes, "sha256") != key


@pytest.mark.parametrize("sector", [512, 4096])
def test_what_is_inside_reads_as_written(sector: int) -> None:
    """Writes and zeros at random against a model; another reader's cipher agrees; what was never written can be filled."""
    dice, key = random.Random(sector), os.urandom(64)
    below = MemoryDevice(2 * MIB + 100)
    device, model = SealedDevice(below, 64 * KIB, key, sector), bytearray(2 * MIB)
    model = model[: device.size]
    for _ in range(120):
        place = dice.randrange(device.size)
        length = min(dice.randrange(1, 30_000), device.size - place)
        if dice.random() < 0.3:
            device.zero(place, length)
            model[place : place + length] = bytes(length)
        else:
            data = dice.randbytes(length)
            device.write(place, data)
            model[place : place + length] = data
        assert device.read(place, length) == model[place : place + length]
    assert device.read(0, device.size) == model
    blank = device.made_real([Extent(0, device.size // 2)])
    assert device.read(0, device.size) == model and blank % sector == 0
    for at in range(0, device.size // 2, sector):
        tweak = struct.pack("<QQ", at // 512, 0)
        work = Cipher(algorithms.AES(key), modes.XTS(tweak)).decryptor()
        opened = work.update(below.read(64 * KIB + at, sector)) + work.finalize()
        assert opened == model[at : at + sector]


def a_seal() -> MemoryDevice:
    """Return a device that is sealed by two passphrases and a key file."""
    device = MemoryDevice(20 * MIB)
    seal, key = make_seal(device, UUID_TEXT, "notes", 4096, cost_of(**CHEAP), (WORDS, OTHER), for_file=True)
    inside(device, seal, key).write(0, b"what is inside")
    return device


def test_either_header_serves_and_other_readers_agree() -> None:
    device = a_seal()
    key, offset, sector = volume_key(device.read, WORDS)
    assert volume_key(device.read, OTHER)[0] == key and (offset, sector) == (16 * MIB, 4096)
    text, data = header(device.read)
    assert data[168:204].decode() == UUID_TEXT and set(text["keyslots"]) == {"0", "1", "2"}
    for place, told in ((0, "the first header"), (16 * KIB, "the second header")):
        saved = device.read(place, 4096)
        device.write(place + 500, b"\xff" * 20)
        seal = read_seal(device)
        assert seal is not None and seal.damaged == told
        found = key_of(device, seal, WORDS)
        assert found is not None and inside(device, seal, found[0]).read(0, 14) == b"what is inside"
        assert key_of(device, seal, b"wrong words") is None
        device.write(place, saved)
    device.write(0, device.read(0, 6) + b"\0\2" + bytes(4000))
    device.write(16 * KIB, device.read(16 * KIB, 6) + bytes(4000))
    with pytest.raises(ImageError, match="both headers"):
        read_seal(device)


@pytest.mark.parametrize("seed", range(3))
def test_hostile_headers_end_in_clear_words(seed: int) -> None:
    """Texts changed at random under checksums that fit: bounded work, no trust, and only errors that say what is wrong."""
    dice, device = random.Random(seed), a_seal()
    base = device.read(0, 16 * KIB)
    text = base[4096:].rstrip(b"\0")
    values = [
        b"-1",
        b"0",
        b"999999999999999999999",
        b'"x"',
        b"[]",
        b"{}",
        b"null",
        b"1e9",
        b"true",
        b'"' + b"A" * 900 + b'"',
    ]
    loaded = json.loads(text)
    for at in range(int(os.environ.get("NARVET_TRIES", "1500"))):
        if dice.random() < 0.5:
            changed = bytearray(text)
            for _ in range(dice.randrange(1, 3)):
                place = dice.randrange(len(changed))
                changed[place : place + dice.randrange(8)] = dice.choice(values)
        else:
            copy = json.loads(json.dumps(loaded))
            table = copy
            while dice.random() < 0.8 and isinstance(table, dict) and table:
                name = dice.choice(list(table))
                if not isinstance(table[name], dict) or dice.random() < 0.2:
                    table[name] = json.loads(dice.choice(values[:8]))
                    break
                table = table[name]
            changed = bytearray(json.dumps(copy).encode())
        data = (base[:4096] + bytes(changed)[: 12 * KIB - 1]).ljust(16 * KIB, b"\0")
        data = data[:448] + checksum(data).ljust(64, b"\0") + data[512:]
        device.write(0, data)
        device.write(16 * KIB, bytes(16))
        try:
            seal = read_seal(device)
            assert seal is not None
            noted = with_file_key(seal, FileKey(0, bytes(32), bytes(32)))
            for slot in seal.slots:
                assert slot not in without_slot(noted, slot.number).slots
            slots = [one for one in seal.slots if one.kdf.memory <= 8 * KIB and one.kdf.passes <= 2]
            if at % 8 == 0 and len(slots) == len(seal.slots) and seal.digest.iterations < 200_000:
                key_of(device, seal, WORDS)
        except (ImageError, RefusedError) as error:
            assert str(error)


def test_volumes_of_version_1_are_read() -> None:
    """A volume as older guests made it, put together here from its specification."""
    device, key = MemoryDevice(4 * MIB), os.urandom(64)
    salt, digest_salt = os.urandom(32), os.urandom(32)
    digest = hashlib.pbkdf2_hmac("sha1", key, digest_salt, 1000, 20)
    head = b"LUKS\xba\xbe\0\1" + b"aes".ljust(32, b"\0") + b"xts-plain64".ljust(32, b"\0") + b"sha1".ljust(32, b"\0")
    head += (
        struct.pack(">II", 4096, 64)
        + digest
        + digest_salt
        + struct.pack(">I", 1000)
        + UUID_TEXT.encode().ljust(40, b"\0")
    )
    slots = struct.pack(">II32sII", 0x00AC71F3, 1200, salt, 8, 4000)
    slots += b"".join(struct.pack(">II32sII", 0xDEAD, 0, bytes(32), 8 + 512 * at, 4000) for at in range(1, 8))
    device.write(0, head + slots)
    own = hashlib.pbkdf2_hmac("sha1", WORDS, salt, 1200, 64)
    material = split(key, 4000, "sha1")
    for at in range(0, len(material), 512):
        device.write(4096 + at, sector_key(material[at : at + 512], own, at // 512, seal=True))
    device.write(2 * MIB, sector_key(b"from before".ljust(512, b"."), key, 0, seal=True))
    seal = read_seal(device)
    assert seal is not None and (seal.version, seal.uuid, len(seal.slots)) == (1, UUID_TEXT, 1)
    found = key_of(device, seal, WORDS)
    assert found == (key, 0) and inside(device, seal, key).read(0, 11) == b"from before"
    assert key_of(device, seal, OTHER) is None


def test_recovery_keys_can_be_typed() -> None:
    keys = {recovery_key() for _ in range(50)}
    assert len(keys) == 50
    assert all(len(key) == 47 and not set(key) & set("ilou ") for key in keys)


@pytest.fixture
def made(tmp_path: Path) -> Path:
    """A sheet with a sealed disk and a plain one that was written; `words` and `other` are files with passphrases."""
    (tmp_path / "words").write_bytes(WORDS + b"\n")
    (tmp_path / "other").write_bytes(OTHER)
    sheet = make_sheet(
        tmp_path, disk("a", 'size = "64 MiB"', f'at = "/srv/a"\n{SEALED}') + disk("b", 'size = "64 MiB"', 'label = "b"')
    )
    words = ("--passphrase-file", str(tmp_path / "words"), "--recovery", str(tmp_path / "recovery"))
    run("write", str(sheet), "--yes", *words, status=0)
    return sheet


def test_secrets_are_in_no_report_ledger_or_log(made: Path) -> None:
    folder = made.parent
    told = (folder / "recovery").read_text()
    spare = told.split()[-1]
    assert (folder / "recovery").stat().st_mode & 0o777 == 0o600 and told.startswith("disk.a.partition 1  ")
    words = ("--passphrase-file", str(folder / "words"))
    run("report", str(made), "--to", str(folder / "page.md"), *words)
    said = run("write", str(made), "--yes", *words, "--log", str(folder / "log"), "--json", status=0).stdout
    for path in folder.rglob("*"):
        if path.is_file() and path.name not in ("words", "other", "recovery"):
            content = path.read_bytes()
            assert WORDS not in content and spare.encode() not in content, path
    assert spare not in said
    env = {**os.environb, b"NARVET_PASSPHRASE": spare.encode()}
    found = facts("survey", str(folder / "shelf" / "a.raw"), env=env)[0]["partitions"][0]
    assert found["sealed"]["open"] and found["filesystem"]["kind"] == "ext4"
    assert "is to be sealed" in run("write", str(_anew(made)), "--yes", "--anew", "a", status=2).stderr


def _anew(sheet: Path) -> Path:
    (sheet.parent / "shelf" / "a.raw").unlink()
    return sheet


def test_the_sheet_changes_after_it_was_written(made: Path) -> None:
    """Sealed to plain and back: refused. Larger, another label or mode: only with the passphrase, and right then."""
    folder = made.parent
    words = ("--passphrase-file", str(folder / "words"))
    root = folder / "root" / "etc" / "crypttab"
    before = root.read_text()
    assert before.split()[0] == "sealed-a" and before.split()[2:] == ["none", "luks,nofail"]

    def sheet(first: str, second: str = 'label = "b"', size: int = 64) -> None:
        make_sheet(folder, disk("a", f'size = "{size} MiB"', first) + disk("b", 'size = "64 MiB"', second))

    sheet('at = "/srv/a"')
    assert "sealing is sealed, not not sealed" in run("write", str(made), "--yes", status=1).stderr.replace("\n  ", " ")
    sheet(f'at = "/srv/a"\n{SEALED}', f'label = "b"\n{SEALED}')
    assert "image-differs" in rules(facts("write", str(made), "--yes", *words, status=1))
    sheet(f'at = "/srv/a"\n{SEALED}', size=96)
    assert "its size changes only with its passphrase" in run("write", str(made), "--yes", status=1).stderr.replace(
        "\n  ", " "
    )
    wrong = ("--passphrase-file", str(folder / "other"))
    run("write", str(made), "--yes", *wrong, status=1)
    run("write", str(made), "--yes", *words, status=0)
    assert facts("confirm", str(made), *words)["agrees"] and facts("confirm", str(made))["agrees"]
    sheet(f'at = "/srv/a"\nmode = "2770"\nlabel = "other"\nneeded = true\n{SEALED}', size=96)
    run("write", str(made), "--yes", *words, status=0)
    assert facts("confirm", str(made), *words)["agrees"]
    assert root.read_text() == before.replace("luks,nofail", "luks")
    (part,) = facts("survey", str(folder / "shelf" / "a.raw"), *words)[0]["partitions"]
    assert part["filesystem"]["label"] == "other"
    run("retire", str(made), "a", "--yes", status=0)
    assert root.read_text() == ""


class Keyed:
    """A sealed disk `a` with its key file in a guest's root of a kind: a folder, or a filesystem in an image."""

    def __init__(self, folder: Path, kind: str) -> None:
        self.folder, self.image = folder, folder / "shelf" / "a.raw"
        self.root = folder / ("root" if kind == "folder" else "root.qcow2")
        (folder / "words").write_bytes(WORDS)
        self.words = ("--passphrase-file", str(folder / "words"))
        if kind != "folder":
            run("make", str(self.root), "--size", "512 MiB", "--filesystem", kind, status=0)
            fill_root(self.root, make_root(folder / "filled"))

    def sheet(self, at: str | None, more: str = "") -> Path:
        """Write the sheet, with a key file or none."""
        own = SEALED if at is None else SEALED.replace("}", f', key_file = "{at}"}}')
        text = disk("a", 'size = "64 MiB"', f'at = "/srv/a"\n{own}\n{more}')
        return make_sheet(self.folder, text, guest=f'root = "{self.root.name}"')

    def written(self, at: str | None, *more: str, status: int = 0) -> str:
        """Write the disk as the sheet has it, which agrees then, and return what was said."""
        sheet = self.sheet(at)
        done = run("write", str(sheet), "--yes", *more, status=status)
        if not status:
            assert facts("confirm", str(sheet), *more)["agrees"] and facts("confirm", str(sheet))["agrees"]
        return done.stderr.replace("\n  ", " ")

    def key(self, at: str) -> bytes | None:
        """Return what a key file in the root holds, which only its superuser may read."""
        if self.root.is_dir():
            path = self.root / at[1:]
            assert not path.exists() or path.stat().st_mode & 0o7777 == 0o600
            return path.read_bytes() if path.exists() else None
        taken = self.folder / "taken"
        if run("look", f"{self.root}:1", at, "--out", str(taken)).returncode:
            return None
        about = facts("look", f"{self.root}:1", at)
        assert (about["mode"], about["uid"], about["gid"]) == ("0600", 0, 0)
        content = taken.read_bytes()
        taken.unlink()
        return content

    def opens(self, content: bytes) -> bool:
        """Return whether the disk is opened by what a key file holds."""
        tried = self.folder / "tried"
        tried.write_bytes(content)
        found = facts("survey", str(self.image), "--passphrase-file", str(tried))[0]["partitions"][0]
        return bool(found["sealed"]["open"])

    def part(self, offset: int, length: int) -> bytes:
        """Return bytes of the disk's partition."""
        with self.image.open("rb") as file:
            file.seek(MIB + offset)
            return file.read(length)


@pytest.mark.parametrize("kind", ["folder", "ext4", "xfs"])
def test_a_key_file_in_the_root_opens_it(tmp_path: Path, kind: str) -> None:
    """Made later than the volume; moved; its key removed and made anew; gone with its key, and no byte of it left."""
    keyed = Keyed(tmp_path, kind)
    words = keyed.words
    keyed.written(None, *words)
    assert "no key file opens it: that changes only with its passphrase" in keyed.written("/etc/a.key", status=1)
    keyed.written("/etc/keys/a.key", *words)
    first = keyed.key("/etc/keys/a.key")
    assert first is not None and keyed.opens(first) and volume_key(keyed.part, first)[1] == 16 * MIB
    keyed.written("/srv/keys/b.key", *words)
    assert keyed.key("/etc/keys/a.key") is None and keyed.key("/srv/keys/b.key") == first
    sheet = keyed.sheet("/srv/keys/b.key", 'label = "other"')
    run("write", str(sheet), "--yes", "--passphrase-file", str(tmp_path / "tried"), status=0)
    slots = facts("keys", f"{keyed.image}:1")["keys"]
    assert [one["key_file"] for one in slots] == [False, False, True]
    run("keys", f"{keyed.image}:1", "--remove", "2", *words, status=0)
    assert not keyed.opens(first) and not facts("confirm", str(sheet), *words, status=1)["agrees"]
    run("write", str(sheet), "--yes", *words, status=0)
    second = keyed.key("/srv/keys/b.key")
    assert second is not None and second != first and keyed.opens(second)
    assert "would lie on what is mounted" in keyed.written("/srv/a/a.key", *words, status=1)
    keyed.written(None, *words)
    assert keyed.key("/srv/keys/b.key") is None and not keyed.opens(second) and keyed.opens(WORDS)
    keyed.written("/etc/keys/a.key", *words)
    third = keyed.key("/etc/keys/a.key")
    run("retire", str(sheet), "a", "--yes", status=0)
    assert third is not None and keyed.key("/etc/keys/a.key") is None
    for path in tmp_path.rglob("*"):
        content = path.read_bytes() if path.is_file() and path.name != "tried" else b""
        assert not any(one in content for one in (first, second, third)), path


def test_what_lies_where_a_key_file_is_to_be(tmp_path: Path) -> None:
    """A key that was lost is made anew with the passphrase; another's file stays; no root, or two of one path: refused."""
    keyed = Keyed(tmp_path, "folder")
    keyed.written("/etc/keys/a.key", *keyed.words)
    first, path = keyed.key("/etc/keys/a.key"), tmp_path / "root" / "etc" / "keys" / "a.key"
    path.unlink()
    assert "it is missing" in keyed.written("/etc/keys/a.key", status=1)
    keyed.written("/etc/keys/a.key", *keyed.words)
    assert keyed.key("/etc/keys/a.key") == first
    path.chmod(0o644)
    keyed.written("/etc/keys/a.key", *keyed.words)
    other = path.with_name("c.key")
    other.write_text("somebody's")
    assert "another file is there" in keyed.written("/etc/keys/c.key", *keyed.words, status=1)
    other.unlink()
    other.symlink_to("/etc/passwd")
    keyed.written("/etc/keys/c.key", *keyed.words, status=1)
    path.write_text("somebody's, in its place")
    keyed.written(None, *keyed.words)
    assert other.is_symlink() and path.read_text() == "somebody's, in its place"
    (tmp_path / "shelf" / "a.raw").unlink()
    two = disk(
        "a",
        'size = "64 MiB"',
        *(f'at = "/srv/{at}"\nsize = "50%"\n{SEALED[:-1]}, key_file = "/etc/k"}}' for at in "ab"),
    )
    assert "key-file-in-the-way" in rules(facts("review", str(make_sheet(tmp_path, two)), status=1))
    assert "key-file-in-the-way" in rules(facts("review", str(make_sheet(tmp_path, two, guest="")), status=1))


def test_keys_are_added_changed_and_removed(made: Path) -> None:
    folder = made.parent
    image, words, other = str(folder / "shelf" / "a.raw"), str(folder / "words"), str(folder / "other")
    new = ("--memory", "8 MiB", "--passes", "1")

    def opens(file: str) -> bool:
        return facts("survey", image, "--passphrase-file", file)[0]["partitions"][0]["sealed"]["open"] is True

    assert [one["key"] for one in facts("keys", image)["keys"]] == [0, 1]
    assert (
        "no passphrase" in run("keys", image, "--add", "--new-file", other, "--passphrase-file", other, status=3).stderr
    )
    done = facts("keys", image, "--add", "--new-file", other, "--passphrase-file", words, *new)
    assert done["did"] == "key 2 added" and opens(other) and opens(words)
    copy = Path(done["backup"])
    assert copy.stat().st_mode & 0o777 == 0o600 and copy.read_bytes()[:6] == b"LUKS\xba\xbe"
    run("keys", image, "--remove", "2", "--passphrase-file", other, status=3)
    run("keys", image, "--remove", "0", "--passphrase-file", other, status=0)
    assert opens(other) and not opens(words)
    run("keys", image, "--remove", "1", "--passphrase-file", other, status=0)
    assert "the last one stays" in run("keys", image, "--remove", "2", "--passphrase-file", other, status=2).stderr
    done = facts("keys", image, "--change", "--new-file", words, "--passphrase-file", other, *new)
    assert [one["key"] for one in done["keys"]] == [0] and opens(words) and not opens(other)
    with Path(image).open("r+b") as file:
        for place in (0, 16 * KIB):
            file.seek(MIB + place + 20)
            file.write(os.urandom(2000))
    assert "both headers" in run("survey", image, status=1).stdout
    run("keys", f"{image}:1", "--put-back", str(copy), status=0)
    assert opens(words) and facts("confirm", str(made), "--passphrase-file", words)["agrees"]
    sheet = make_sheet(folder / "more", disk("c", 'size = "64 MiB"', SEALED))
    run("write", str(sheet), "--yes", "--passphrase-file", words, status=0)
    other_image = str(folder / "more" / "shelf" / "c.raw")
    assert "of another volume" in run("keys", f"{other_image}:1", "--put-back", str(copy), status=2).stderr


def test_sealed_disks_are_adopted_and_looked_into(made: Path, tmp_path: Path) -> None:
    words = ("--passphrase-file", str(made.parent / "words"))
    image = str(made.parent / "shelf" / "a.raw")
    new = tmp_path / "new.toml"
    said = run("draft", str(new), "--adopt", image, "--guest", "g", "--dry", status=0)
    assert "no passphrase was given" in said.stdout + said.stderr
    run("draft", str(new), "--adopt", image, "--guest", "g", *words, status=0)
    assert "sealed" in new.read_text() and facts("confirm", str(new), *words)["agrees"]
    names = facts("look", image, "/", *words)["entries"]
    assert [one["name"] for one in names] == ["lost+found"]
    run("look", image, "/", status=2)


def test_windows_seals_in_its_own_way(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "64 MiB"', SEALED), guest='runs = "windows"')
    assert "not-for-guest" in rules(facts("review", str(sheet), status=1))
