"""The page that is handed over, and tables for spreadsheets: all of it there, in one file, safe to open."""

from __future__ import annotations

import base64
import csv
import hashlib
import re
import shutil
import subprocess
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import openpyxl
import pypdfium2
import pytest
from pyarrow import parquet

from tests.program import disk, facts, make_sheet, run

ODD = "<script>alert(1)</script>\\u001b"


class Page(HTMLParser):
    """The texts of a page, and what it would fetch or run."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.fetched: list[str] = []
        self.words: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.tags.append(tag)
        self.fetched += [value or "" for key, value in attrs if key in ("src", "href", "style", "onload", "action")]

    def handle_data(self, data: str) -> None:
        if self.tags[-1:] != ["style"]:
            self.words.append(data)


def told_in(path: Path) -> str:
    """Return the texts of a report, by readers that are not Narvet's."""
    if path.suffix == ".pdf":
        document = pypdfium2.PdfDocument(path)
        return " ".join(document[number].get_textpage().get_text_range() for number in range(len(document)))
    text = path.read_text()
    return " ".join(Page(text).words) if path.suffix == ".html" else re.sub(r"\\(.)", r"\1", text) + text


@pytest.mark.parametrize("ending", ["html", "md", "pdf"])
def test_the_example_handed_over(example: Path, tmp_path: Path, ending: str) -> None:
    """Every disk, id, mount point, size, entry, step by hand and event stands in it; it needs no other file."""
    sheet, page = str(example / "sheet.toml"), tmp_path / f"page.{ending}"
    done = run("report", sheet, "--to", str(page), "--digests", status=0)
    assert "9 disks, everything is as asked." in done.stdout
    told = re.sub(r"\s+", " ", told_in(page).replace("\xa0", " "))
    squeezed = told.replace(" ", "")
    review = facts("review", sheet)
    for one in review["disks"]:
        ids = [one["table_id"], one["plug"]["serial"], *(part["uuid"] for part in one["partitions"] if part["uuid"])]
        assert all(word.replace(" ", "") in squeezed for word in (one["name"], *ids)), one["name"]
        at = [part["at"] for part in one["partitions"] if part["at"]]
        assert all(one in told or one.replace("\\", "\\\\") in told for one in at), at
    for lines in review["entries"].values():
        assert all(line.replace(" ", "") in squeezed for line in lines)
    assert review["mark"] in told and "Everything is as the sheet asks: 9 disks read back." in told
    assert "Look in imaging whether a disk of 300 GB" in told and "warning store-overpromised" in told.replace("*", "")
    for event in facts("history", sheet):
        assert event["touched"].replace(" ", "") in squeezed
    image = example / "stores" / "annex" / "logs.vhd"
    assert hashlib.sha256(image.read_bytes()).hexdigest() in squeezed and "left out: it has 1 TiB" in told
    if ending == "html":
        text = page.read_text()
        assert set(Page(text).tags) <= {"html", "head", "meta", "title", "style", "body", "h1", "h2", "p", "div", "table", "thead", "tbody", "tr", "th", "td", "ol", "li", "pre", "img"}  # fmt: skip
        assert "default-src 'none'" in text
        for source in Page(text).fetched:
            assert source.startswith("data:image/svg+xml;base64,")
            assert b"<svg" in base64.b64decode(source.partition(",")[2])
    assert "is there already" in run("report", sheet, "--to", str(page), status=2).stderr


def test_what_is_not_as_asked_is_said_and_nothing_in_it_is_obeyed(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', 'label = "<b>&amp;`|"') + disk("b"))
    run("write", str(sheet), "--only", "a", status=0)
    sheet.write_text(f'title = "{ODD}"\n' + sheet.read_text())
    for ending in ("html", "md", "pdf"):
        page = tmp_path / f"page.{ending}"
        done = run("report", str(sheet), "--to", str(page), status=1)
        assert "not everything is as asked" in done.stdout
        told = told_in(page)
        assert "<script>alert(1)</script>" in told and "1\xa0disk of 2 not written yet" in told.replace(
            " disk of", "\xa0disk of"
        )
        assert "shelf/b.raw" in told and "\x1b" not in told and "<b>&amp;`|" in told
    assert "script" not in Page((tmp_path / "page.html").read_text()).tags
    assert "ends in .html, .md or .pdf" in run("report", str(sheet), "--to", "x.txt", status=2).stderr


@pytest.mark.skipif(shutil.which("chromium") is None, reason="needs a browser")
def test_a_real_browser_shows_it(example: Path, tmp_path: Path) -> None:
    page = tmp_path / "page.html"
    run("report", str(example / "sheet.toml"), "--to", str(page), status=0)
    words = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
             "--disable-background-networking", "--disable-component-update", f"--user-data-dir={tmp_path / 'browser'}"]  # fmt: skip
    drawn = subprocess.run(
        ["chromium", *words, "--dump-dom", page.as_uri()], capture_output=True, text=True, check=True, timeout=120
    )
    assert "Everything is as the sheet asks" in drawn.stdout and "Refused" not in drawn.stderr
    printed = tmp_path / "printed.pdf"
    subprocess.run(
        ["chromium", *words, f"--print-to-pdf={printed}", page.as_uri()], capture_output=True, check=True, timeout=120
    )
    assert 3 <= len(pypdfium2.PdfDocument(printed)) <= 12 and "readings" in told_in(printed)


def test_a_review_as_a_table(example: Path, tmp_path: Path) -> None:
    """A row for each partition, with numbers as numbers; texts that a spreadsheet would take for formulas stay texts."""
    sheet = str(example / "sheet.toml")
    for ending in ("csv", "xlsx", "parquet"):
        run("review", sheet, "--table", str(tmp_path / f"t.{ending}"), "--quiet", status=0)
    with (tmp_path / "t.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    review = facts("review", sheet)
    parts = [(one, part) for one in review["disks"] for part in one["partitions"]]
    (pool,) = review["pools"]
    assert rows[-1]["disk"] == "cold.readings" and int(rows[-1]["disk_size"]) == pool["volumes"][0]["size"]
    assert int(rows[-1]["available"]) == pool["volumes"][0]["shows"]["available"] and len(rows) == len(parts) + 1
    for row, (one, part) in zip(rows[:-1], parts, strict=True):
        assert (row["disk"], row["path"], row["at"]) == (one["name"], one["path"], part["at"] or "")
        assert (int(row["disk_size"]), int(row["start"]), int(row["size"])) == (
            one["size"],
            part["start"],
            part["size"],
        )
        assert not part["shows"] or int(row["available"]) == part["shows"]["available"]
    page = openpyxl.load_workbook(tmp_path / "t.xlsx").worksheets[0]
    cells = list(page.iter_rows(values_only=True))
    assert list(cells[0]) == list(rows[0]) and [["" if cell is None else str(cell) for cell in row] for row in cells[1:]] == [list(row.values()) for row in rows]  # fmt: skip
    columns = parquet.read_table(tmp_path / "t.parquet").to_pylist()
    assert [["" if cell is None else str(cell) for cell in row.values()] for row in columns] == [
        list(row.values()) for row in rows
    ]
    assert all(isinstance(row["disk_size"], int) for row in columns)
    odd = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', 'label = "=1+2"'))
    run("review", str(odd), "a", "--table", str(tmp_path / "odd.csv"), status=0)
    assert "'=1+2" in (tmp_path / "odd.csv").read_text()
    assert "ends in .csv, .xlsx or .parquet" in run("review", str(odd), "--table", "t.txt", status=2).stderr
