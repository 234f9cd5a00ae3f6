"""Changes that are made all at once: a log cut off anywhere, applied twice, overtaken by somebody, or planted."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from narvet.block.changes import Verdict, apply_log, finish_changes, opened_log, verdict
from narvet.block.names import changes_name
from narvet.block.publish import recover_all
from narvet.block.staged import LoggedFolder, StagedFolder
from narvet.ground.errors import RefusedError

SIZE, SPARE = 300_000, 90_000


def change(image: Path, dice: random.Random) -> bytes:
    """Stage work of every kind on an image and a new file beside it, leaving the log whole; return the new content."""
    model = bytearray(image.read_bytes())
    with StagedFolder(image) as files:
        file, other = files.open(image.name, writable=True), files.create("piece")
        for _ in range(60):
            place, length = dice.randrange(len(model)), dice.randrange(1, 9000)
            data = dice.randbytes(min(length, len(model) - place))
            match dice.randrange(8):
                case 0:
                    file.zero(place, len(data))
                    data = bytes(len(data))
                case 1:
                    size = max(len(model) + dice.randrange(-20_000, 40_000), 50_000)
                    file.resize(size)
                    del model[size:]
                    model.extend(bytes(size - len(model)))
                    continue
                case _:
                    file.write(place, data)
            model[place : place + len(data)] = data
            assert file.read(0, file.size) == model
        other.allocate(SPARE)
        other.write(10, b"fresh")
        with pytest.raises(RefusedError, match="stop here"):
            files.commit(stop)
        files._log = None
    return bytes(model)


def stop() -> None:
    """Stand in for what may still refuse a change."""
    raise RefusedError("stop here")


def left(image: Path, dice: random.Random, monkeypatch: pytest.MonkeyPatch) -> bytes:
    """Change an image up to the moment in which its log is whole, and nothing is applied yet."""
    with monkeypatch.context() as patch:
        patch.setattr("narvet.block.staged.drop_log", lambda _: None)
        return change(image, dice)


@pytest.mark.parametrize("seed", range(6))
def test_a_log_that_was_left_is_read_through_and_applied(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    dice, image = random.Random(seed), tmp_path / "image"
    before = dice.randbytes(SIZE)
    image.write_bytes(before)
    image.chmod(0o640)
    after = left(image, dice, monkeypatch)
    assert image.read_bytes() == before and not (tmp_path / "piece").exists()
    with LoggedFolder(image) as files:
        file = files.open("image")
        assert file.read(0, file.size) == after and files.kind("piece") == "file"
        assert files.open("piece").read(0, 20) == bytes(10) + b"fresh" + bytes(5)
        assert image.read_bytes() == before
    log = changes_name(image)
    for cut in sorted(dice.sample(range(log.stat().st_size), 12)):  # not whole: the old file, and nothing is left
        whole = log.read_bytes()
        log.write_bytes(whole[:cut])
        with LoggedFolder(image) as files:
            assert files.open("image").read(0, SIZE) == before
        finish_changes(image)
        assert image.read_bytes() == before and not log.exists()
        log.write_bytes(whole)
        log.chmod(0o600)
    with opened_log(image) as there:
        assert there is not None
        apply_log(there, tmp_path)
        torn = bytearray(image.read_bytes())
        for place in dice.sample(range(0, min(len(before), len(after)) - 512, 512), 40):  # as a cut may leave it
            torn[place : place + 512] = before[place : place + 512]
        image.write_bytes(torn)
        assert verdict(there, tmp_path) == "apply"
    recover_all(tmp_path)
    assert image.read_bytes() == after and (tmp_path / "piece").read_bytes()[10:15] == b"fresh"
    assert (tmp_path / "piece").stat().st_mode & 0o777 == 0o640 and sorted(os.listdir(tmp_path)) == ["image", "piece"]  # noqa: PTH208


@pytest.mark.parametrize(
    ("applied", "expected"), [("nothing", "drop"), ("all", "drop"), ("half", None), ("untouched", "apply")]
)
def test_somebody_went_on_before_the_log_was_applied(
    tmp_path: Path, applied: str, expected: Verdict | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A guest that was started meanwhile has the last word, unless the image is neither old nor new."""
    dice, image = random.Random(9), tmp_path / "image"
    before = dice.randbytes(SIZE)
    image.write_bytes(before)
    with StagedFolder(image) as files:
        for place in range(8192, 200_000, 50_000):
            files.open("image", writable=True).write(place, dice.randbytes(600))
        with monkeypatch.context() as patch, pytest.raises(RefusedError):
            patch.setattr("narvet.block.staged.drop_log", lambda _: None)
            files.commit(stop)
        files._log = None
    with opened_log(image) as log:
        assert log is not None
        if applied in ("all", "half"):
            apply_log(log, tmp_path)
        content = bytearray(image.read_bytes())
        if applied == "half":
            content[:100_000] = before[:100_000]
        if applied != "untouched":
            content[8192:8200] = b"a guest!"
        image.write_bytes(content)
        if expected is None:
            with pytest.raises(RefusedError, match="neither old nor new"):
                verdict(log, tmp_path)
            return
        assert verdict(log, tmp_path) == expected
    finish_changes(image)
    assert not changes_name(image).exists() and (image.read_bytes() == bytes(content)) == (expected == "drop")


def test_what_is_planted_is_not_believed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    image = tmp_path / "image"
    image.write_bytes(bytes(SIZE))
    left(image, random.Random(1), monkeypatch)
    log = changes_name(image)
    whole = log.read_bytes()
    log.chmod(0o666)
    with pytest.raises(RefusedError, match="another user left this behind"):
        finish_changes(image)
    log.unlink()
    log.symlink_to(tmp_path / "image")
    with pytest.raises(RefusedError, match="see what it is"):
        finish_changes(image)
    log.unlink()
    for place in range(len(whole) - 64, len(whole)):  # any byte of its end, and it is not whole
        broken = bytearray(whole)
        broken[place] ^= 0x40
        log.write_bytes(broken)
        log.chmod(0o600)
        finish_changes(image)
        assert image.read_bytes() == bytes(SIZE)


def test_a_store_without_room_and_a_late_refusal_change_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    image = tmp_path / "image"
    image.write_bytes(b"x" * SIZE)
    with StagedFolder(image) as files:
        files.open("image", writable=True).write(5, b"y")
        with pytest.raises(RefusedError, match="stop here"):
            files.commit(stop)
    monkeypatch.setattr(os, "statvfs", lambda _: os.statvfs_result((4096, 4096, 0, 0, 0, 0, 0, 0, 0, 255)))
    with StagedFolder(image) as files, pytest.raises(RefusedError, match="make room there"):
        files.open("image", writable=True).allocate(SIZE * 9)
        files.commit()
    assert image.read_bytes() == b"x" * SIZE and sorted(os.listdir(tmp_path)) == ["image"]  # noqa: PTH208
