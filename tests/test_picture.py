"""Pictures: everything of a layout stands in them, once, in order and legible; made whole or not at all."""

from __future__ import annotations

import re
import subprocess
import xml.etree.ElementTree as ET
from itertools import pairwise
from pathlib import Path

import pypdfium2
import pytest

from narvet.ground.units import NO_BREAK, show_bytes
from tests.program import PROGRAM, disk, facts, make_sheet, run

TEXT = "{http://www.w3.org/2000/svg}text"


def texts(path: Path) -> list[tuple[str, float, float]]:
    """Return the texts of an SVG with where they stand."""
    found = []
    for element in ET.parse(path).iter(TEXT):  # noqa: S314 (our own)
        words = "".join(element.itertext()).strip()
        found.append((words, float(element.get("x") or 0), -float(element.get("y") or 0)))
    return found


def test_the_example_drawn(example: Path, tmp_path: Path) -> None:
    """Every disk, offset, partition and store; offsets below one another and apart; the same sheet, the same bytes."""
    sheet = str(example / "sheet.toml")
    for name in ("a.svg", "b.svg", "c.png"):
        assert "9 disks drawn" in run("picture", sheet, "--to", str(tmp_path / name), status=0).stdout
    assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()
    assert (tmp_path / "c.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    there = texts(tmp_path / "a.svg")
    words = [text for text, _, _ in there]
    for one in facts("review", sheet)["disks"]:
        assert one["name"] in words
        for part in one["partitions"]:
            assert show_bytes(part["start"]) in words
            other = "label and texts of pool cold" if one["name"].startswith("cold") else "set aside for Windows itself"
            kind = f"{'sealed, ' if part['sealed'] else ''}{part['filesystem']}"
            named = f"{part['label']}  {kind}" if part["filesystem"] else other
            assert any(text.endswith(named) for text in words), part
    assert {"vault", "annex", "stores", f"367.44{NO_BREAK}GiB too much"} <= set(words)
    depths = [y for text, _, y in there if re.fullmatch(r"[\d\xa0]+B", text)]
    assert len(depths) > 9 * 4 and min(abs(later - sooner) for sooner, later in pairwise(depths)) > 7  # points


def test_images_drawn_with_whatever_they_say(tmp_path: Path) -> None:
    """Labels that a typesetter or a terminal would obey are only shown."""
    sheet = make_sheet(
        tmp_path, disk("a", 'size = "64 MiB"\ntable = "mbr"', 'filesystem = "ntfs"\nlabel = "$x^2$ <b> 種"')
    )
    run("write", str(sheet), status=0)
    image = tmp_path / "shelf" / "a.raw"
    data = bytearray(image.read_bytes())
    name = "$x^2$ <b> 種".encode("utf-16-le")
    for place in [found.start() for found in re.finditer(re.escape(name), data)]:
        data[place + 8 : place + 10] = b"\x1b\x00"
    (tmp_path / "odd.raw").write_bytes(data)
    done = run("picture", str(image), str(tmp_path / "odd.raw"), "--to", str(tmp_path / "p.svg"), status=0)
    assert done.stderr == ""
    words = [text for text, _, _ in texts(tmp_path / "p.svg")]
    assert any("$x^2$ <b> 種  ntfs" in text for text in words) and any(
        "$x^2\N{REPLACEMENT CHARACTER}" in text for text in words
    )
    assert "\x1b" not in run("survey", str(tmp_path / "odd.raw"), status=0).stdout


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--to", "a.gif"], "ends in .png, .svg or .pdf"),
        (["--to", "there.png"], "is there already"),
        (["nothing", "--to", "a.png"], 'there is no disk "nothing"'),
        (["--to", "no/such/folder.png"], "No such file"),
    ],
)
def test_what_cannot_be_drawn(tmp_path: Path, words: list[str], told: str) -> None:
    make_sheet(tmp_path, disk("a"))
    (tmp_path / "there.png").write_bytes(b"mine")
    done = subprocess.run(
        [PROGRAM, "picture", "sheet.toml", *words], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode in (2, 3) and told in done.stderr and "Traceback" not in done.stderr
    assert (tmp_path / "there.png").read_bytes() == b"mine"
    assert sorted(path.name for path in tmp_path.iterdir()) == ["root", "sheet.toml", "shelf", "there.png"]


def test_many_disks_are_drawn_on_pages(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, "".join(disk(f"d{n}") for n in range(61)), guest='slots = ["scsi 0-99"]')
    assert facts("picture", str(sheet), "d3", "d60")["disks"] == ["d3", "d60"]
    assert (tmp_path / "sheet.png").exists()
    for ending, names in (("svg", ["sheet-1.svg", "sheet-2.svg"]), ("pdf", ["sheet.pdf"])):
        paths = facts("picture", str(sheet), "--to", str(tmp_path / f"sheet.{ending}"))["paths"]
        assert [Path(path).name for path in paths] == names
    drawn = [word for name in ("sheet-1.svg", "sheet-2.svg") for word, _, _ in texts(tmp_path / name)]
    assert sorted(word for word in drawn if re.fullmatch(r"d\d+", word)) == sorted(f"d{n}" for n in range(61))
    document = pypdfium2.PdfDocument(tmp_path / "sheet.pdf")
    assert len(document) == 2 and "d60" in document[1].get_textpage().get_text_range()
    assert "is there already" in run("picture", str(sheet), "--to", str(tmp_path / "sheet.svg"), status=2).stderr
