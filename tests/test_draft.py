"""Sheets started and added to: from options, tables and answers; what was there stays to the byte."""

from __future__ import annotations

import subprocess
import time
import tomllib
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

import narvet
from narvet.ground.errors import RequestError
from narvet.sheet.contents import PartitionForm
from narvet.sheet.draft import Request, drafted, new_sheet
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.keys import keys_of
from narvet.sheet.machines import GuestForm, StoreForm
from narvet.sheet.read import parse_sheet
from tests.program import IDENTITY, disk, facts, make_root, make_sheet, rules, run, talk

HEAD = f'sheet = 1\nidentity = "{IDENTITY}"\n'


def content(path: Path) -> Any:
    return tomllib.loads(path.read_text())


def test_a_sheet_is_started_and_added_to(tmp_path: Path) -> None:
    """The first call makes it, later ones add to its end; comments, spaces and order of what is there stay."""
    sheet = tmp_path / "s.toml"
    words = ("--guest", "coldroom", "--store", "vault", "--size", "40 MiB")
    run("draft", str(sheet), *words, "--title", 'Spring "intake"', "--at", "/srv/a", "--store-path", ".", status=0)
    assert content(sheet)["title"] == 'Spring "intake"' and content(sheet)["store"] == {"vault": {"path": "."}}
    sheet.write_text(sheet.read_text() + "# kept  \n\n  # so is this")
    before = sheet.read_bytes()
    done = run("draft", str(sheet), *words, "--filesystem", "swap", "--label", "Spare One", status=0)
    assert sheet.read_bytes().startswith(before) and "disk added: spare-one" in done.stdout
    assert "is there already; change its title" in run("draft", str(sheet), "--title", "x", status=2).stderr
    assert rules(facts("review", str(sheet))) == []
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"]
    assert set(content(sheet)["disk"]) == {"coldroom", "spare-one"}


OF_OTHERS = ("was", "table_id", "number", "id", "uuid", "part_label")
"""Keys of disks that exist."""


def test_every_key_is_an_option(tmp_path: Path) -> None:
    """What the forms declare is offered, under its own name, in words and as the kind of value that a sheet has."""
    given = {
        "disk": "all", "guest": "g", "store": "s", "size": "96 MiB", "label": "L", "filesystem": "ext4", "for": "logs",
        "at": "/srv/x", "owner": "0:0", "mode": "0700", "needed": "yes", "move_files": "yes", "options": "noatime,nodev", "block": "4 KiB",
        "inode_each": "16 KiB", "journal": "8 MiB", "reserved": "1%", "format": "vmdk", "space": "full",
        "pieces": "64 MiB", "packed": "no", "slot": "scsi 3", "table": "gpt", "align": "2 MiB", "sector": "512",
        "runs": "linux", "root": "r", "store_path": ".", "store_room": "1 GB", "store_keep_free": "10%",
        "store_zone": "north", "store_flash": "true", "serial": "ALL-1", "read_only": "no", "shared": "yes",
        "hold": "direct", "flash": "no", "give_back": "yes",
    }  # fmt: skip
    asked = {
        "store_host",
        "store_writers",
        "store_service",
        "store_class",
        "usable",
        "pool",
        "sealed",
        "attributes",
        "set_aside",
        "copy_of",
        "base",
        "version",
        *OF_OTHERS,
    } | set(given)
    assert asked == set(narvet.request_keys())
    told = " ".join(run("draft", "--help", status=0).stdout.split())
    assert all(f"--{key.replace('_', '-')} TEXT" in told for key in asked)
    options = [word for key, text in given.items() for word in (f"--{key.replace('_', '-')}", text)]
    run("draft", str(tmp_path / "s.toml"), *options, status=0)
    made = content(tmp_path / "s.toml")
    assert made["store"]["s"] == {"path": ".", "room": "1 GB", "keep_free": "10%", "zone": "north", "flash": True}
    assert made["guest"]["g"] == {"runs": "linux", "root": "r"}
    whole = made["disk"]["all"]
    (part,) = whole.pop("partition")
    assert (whole["sector"], whole["packed"], part["needed"], part["options"]) == (
        512,
        False,
        True,
        ["noatime", "nodev"],
    )
    of_guest = {"disk", "runs", "root"} | {key for key in given if key.startswith("store_")}
    assert {*whole, *part} == set(given) - of_guest


def test_a_blank_sheet_has_every_key_and_can_be_reviewed(tmp_path: Path) -> None:
    sheet = tmp_path / "s.toml"
    run("draft", str(sheet), "--blank", status=0)
    text = sheet.read_text()
    keys = [key for form in (Sheet, StoreForm, GuestForm, DiskForm, PartitionForm) for key in keys_of(form)]
    lines = [line.removeprefix("# ").partition(" =")[0] for line in text.splitlines() if " =" in line]
    assert {key for key in keys if lines.count(key) < keys.count(key)} == {"store", "guest", "disk", "partition"}
    assert [one["name"] for one in facts("review", str(sheet))["disks"]] == ["first"]
    run("write", str(sheet), status=0)
    assert "is there already" in run("draft", str(sheet), "--blank", status=2).stderr
    assert (
        "leave the other options out"
        in run("draft", str(tmp_path / "t.toml"), "--blank", "--at", "/x", status=2).stderr
    )
    assert sheet.read_text() == text and not (tmp_path / "t.toml").exists()


TABLE = [
    ["Disk", "guest", "runs", "store", "size", "usable", "filesystem", "at", "owner", "needed", "options", "sector"],
    ["readings", "coldroom", "", "vault", "50 MiB", "", "xfs", "/srv/r", "1200:1200", "yes", "noatime, nodev", "4096"],
    ["readings", "coldroom", "", "vault", "", "30 MB", "", "/srv/s", "", "", "", ""],
    ["", "", "", "", "", "", "", "", "", "", "", ""],
    ["", "imaging", "windows", "annex", "80 MiB", "", "", "P:", "Users", "", "", ""],
]


@pytest.mark.parametrize("kind", ["comma.csv", "semicolon.csv", "table.xlsx"])
def test_a_table_of_requests(tmp_path: Path, kind: str) -> None:
    """Rows with the same disk are its partitions; guests and stores come with the first row that needs them."""
    table, sheet = tmp_path / kind, tmp_path / "s.toml"
    if kind.endswith("xlsx"):
        book = openpyxl.Workbook()
        for row in TABLE:
            book.worksheets[0].append(row)
        book.save(table)
    else:
        sign = "," if kind.startswith("comma") else ";"
        lines = (sign.join(f'"{cell}"' if "," in cell else cell for cell in row) for row in TABLE)
        table.write_text("\ufeff" + "\n".join(lines) + "\n")
    told = facts("draft", str(sheet), "--from", str(table))
    assert told == {
        "stores": ["vault", "annex"],
        "guests": ["coldroom", "imaging"],
        "disks": ["readings", "imaging"],
        "dry": False,
    }
    made = content(sheet)
    assert made["guest"] == {"coldroom": {}, "imaging": {"runs": "windows"}}
    assert made["store"] == {"vault": {"path": "stores/vault"}, "annex": {"path": "stores/annex"}}
    assert made["disk"]["imaging"] == {
        "guest": "imaging", "store": "annex", "size": "80 MiB", "partition": [{"at": "P:", "owner": "Users"}],
    }  # fmt: skip
    first, second = made["disk"]["readings"]["partition"]
    assert made["disk"]["readings"]["sector"] == 4096 and second == {"usable": "30 MB", "at": "/srv/s"}
    assert first == {
        "size": "50 MiB", "filesystem": "xfs", "at": "/srv/r", "owner": "1200:1200", "needed": True,
        "options": ["noatime", "nodev"],
    }  # fmt: skip
    assert (tmp_path / "stores" / "vault").is_dir()
    assert rules(facts("review", str(sheet))) == ["sector-not-recorded"]


@pytest.mark.parametrize(
    ("rows", "told"),
    [
        ("disk,guest,store,filesytem\na,g,shelf,ext4", 'row 1, column D: there is no key "filesytem"; the nearest is "filesystem"'),
        ("disk,guest,store,size\nb,seedling,shelf,50", 'row 2, column D (size): disk.b.size: "50" has no unit'),
        ("disk,guest,store,size\nb,seedling,shelf,1 GiB\na,seedling,shelf,1 GiB\n,,shelf,1 GiB", 'row 3: disk "a" is in the sheet already'),
        ("guest,store,size,at\nseedling,shelf,1 GiB,srv", "row 2, column D (at): disk.seedling.partition 1.at: a mount point is a path"),
        ("store,size\nshelf,1 GiB", "row 2: disk.disk.guest is missing"),
        ("disk,guest,store,size\nb,seedling,shelf,1 GiB\nb,seedling,shelf,1 TB\nb,seedling,shelf,rest\nb,seedling,shelf,", "more than one partition takes the rest"),
        ("guest,guest\na,b", 'two columns are called "guest'),
        ("guest,runs,store,size\nnew,beos,shelf,1 GiB", "row 2, column B (runs): guest.new.runs is 'beos'"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_row_is_told_and_nothing_written(tmp_path: Path, rows: str, told: str) -> None:
    sheet = make_sheet(tmp_path, disk("a"))
    before = sheet.read_bytes()
    (tmp_path / "r.csv").write_text(rows + "\n")
    done = run("draft", str(sheet), "--from", str(tmp_path / "r.csv"), status=2)
    assert told in done.stderr and sheet.read_bytes() == before


def test_tables_that_are_none_and_sheets_that_cannot_be_added_to(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a"))
    for name, data in (("a.xlsx", b"PK\x03\x04 not really"), ("b.csv", b"\xff\xfe\x00\x01")):
        (tmp_path / name).write_bytes(data)
        assert "not a table of requests" in run("draft", str(sheet), "--from", str(tmp_path / name), status=2).stderr
    for text, told in (
        ("", "no row in it names keys"),
        ("a,b\n1,2", "no row in it names keys"),
        ("disk,guest\n,\n", "no rows below"),
    ):
        (tmp_path / "c.csv").write_text(text)
        assert told in run("draft", str(sheet), "--from", str(tmp_path / "c.csv"), status=2).stderr
    book = openpyxl.Workbook()
    book.worksheets[0].append(["disk", "guest", "store"])
    book.worksheets[0].cell(1048576, 16384, "far away")
    book.save(tmp_path / "far.xlsx")
    start = time.monotonic()
    told = run("draft", str(sheet), "--from", str(tmp_path / "far.xlsx"), status=2).stderr
    assert "it goes on behind row" in told and time.monotonic() - start < 20
    assert "no such file" in run("draft", str(sheet), "--from", str(tmp_path / "none.csv"), status=2).stderr
    assert "not both" in run("draft", str(sheet), "--from", "a.csv", "--guest", "b", status=2).stderr
    sheet.write_text(sheet.read_text() + "[disk.a\n")
    before = sheet.read_bytes()
    assert "not valid TOML" in run("draft", str(sheet), "--guest", "b", status=2).stderr
    assert sheet.read_bytes() == before


def test_answers_to_questions(tmp_path: Path) -> None:
    """It asks in the order of the job; what is wrong is said at once and asked again; what is known is offered."""
    make_root(tmp_path / "root")
    start = ["germination", "linux", "root", "?", "databse", "database", "100", "", "1 Gib", "1 GiB"]
    status, shown = talk(["draft"], start, tmp_path, stop=True)
    assert (
        status == 130 and "Your answers are kept in sheet.answers.json" in shown and "The sheet is as it was." in shown
    )
    assert "files of all kinds" in shown and '"databse" is none of these' in shown and "100 has no unit" not in shown
    assert '"100" has no unit: did you mean 100' in shown and 'unknown unit "Gib"' in shown
    assert not (tmp_path / "sheet.toml").exists()
    status, shown = talk(
        ["draft"],
        [*[""] * 6, "vault", "<", "vault", "", "", "srv", "/srv/trials", "curater", "1200", "trials"],
        tmp_path,
    )
    assert "offered again" in shown and "[germination]" in shown and "curator" in shown, shown
    assert 'no account "curater"; the nearest is "curator"' in shown
    assert "a mount point is a path" in shown and "The guest will show at" in shown and "Mark of this review" in shown
    assert (status, sorted(path.name for path in tmp_path.iterdir())) == (0, ["root", "sheet.toml", "stores"])
    assert content(tmp_path / "sheet.toml")["disk"] == {
        "trials": {
            "guest": "germination", "store": "vault", "size": "1 GiB",
            "partition": [
                {"label": "trials", "filesystem": "ext4", "for": "database", "at": "/srv/trials", "owner": "1200"}
            ],
        }
    }  # fmt: skip
    assert run("draft", str(tmp_path / "empty.toml"), stdin=subprocess.DEVNULL, status=0)
    assert set(content(tmp_path / "empty.toml")) == {"sheet", "identity"}


def test_a_workbook_with_a_cover_and_notes_above_its_headings(tmp_path: Path) -> None:
    """Worksheets without headings are skipped, and what stands above them; one can be named, and is named in errors."""
    book = openpyxl.Workbook()
    book.worksheets[0].append(["Requests of the spring", "store them well"])
    for title, size in (("intake", "50 MiB"), ("later", "50")):
        page = book.create_sheet(title)
        page.append(["Requested by", "the cold room"])
        page.append([])
        for row in (["Disk", "Guest", "Store", "Size"], [title, "coldroom", "vault", size]):
            page.append([None, *row])
    book.save(tmp_path / "r.xlsx")
    table, sheet = str(tmp_path / "r.xlsx"), str(tmp_path / "s.toml")
    assert facts("draft", sheet, "--from", table, "--dry")["disks"] == ["intake"] and not (tmp_path / "s.toml").exists()
    assert facts("draft", sheet, "--from", table)["disks"] == ["intake"]
    told = run("draft", sheet, "--from", table, "--worksheet", "later", status=2).stderr
    assert "r.xlsx, later, row 4, column E (size): disk.later.size" in told
    assert (
        'no worksheet "latter"; the nearest is "later"'
        in run("draft", sheet, "--from", table, "--worksheet", "latter", status=2).stderr
    )
    assert list(content(tmp_path / "s.toml")["disk"]) == ["intake"]


def test_ten_thousand_requests(tmp_path: Path) -> None:
    rows = "".join(f"{f'd{n}' if n % 2 else ''},g{n % 50},shelf,{n % 9 + 1} GiB,/srv/d{n}\n" for n in range(10000))
    (tmp_path / "r.csv").write_text(f"disk,guest,store,size,at\n{rows}")
    start = time.monotonic()
    run("draft", str(tmp_path / "s.toml"), "--from", str(tmp_path / "r.csv"), status=0)
    assert time.monotonic() - start < 60 and len(content(tmp_path / "s.toml")["disk"]) == 10000


@given(
    st.dictionaries(
        st.sampled_from(["label", "guest", "store", "disk", "at", "size"]), st.text(min_size=1, max_size=30)
    )
)
def test_whatever_is_asked_comes_out_as_it_went_in_or_is_refused(keys: dict[str, str]) -> None:
    asked = {"guest": "g", "store": "s", "size": "1 GiB", **keys}
    try:
        made = drafted(new_sheet("t", parse_sheet(HEAD, Path("x")).identity), [Request("x", asked)], "s.toml")
    except RequestError:
        return
    sheet = parse_sheet(made.text, Path("s.toml"))
    (form,) = sheet.disk.values()
    assert (form.guest, form.store) == (asked["guest"], asked["store"])
    assert form.partition[0].label == asked.get("label")
