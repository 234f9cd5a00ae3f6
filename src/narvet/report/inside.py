"""What lies inside a filesystem, for people: the names in a folder as rows, a file's own line."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from narvet.formats.filesystems.trees import Kind, Node
from narvet.ground.errors import printable
from narvet.ground.units import KIB, counted, show_binary
from narvet.report.terminal import Marks
from narvet.report.totals import headed

if TYPE_CHECKING:
    from narvet.usecases.keys import Keys
    from narvet.usecases.look import Looked, Named

_TEXT_SIGNS = "\n\t\r"


def looked(found: Looked, marks: Marks) -> RenderableType:
    """Return a folder's names, or what is known of a file."""
    head = Text.assemble((printable(found.inside), "name"), f"  {_where(found)}")
    if found.node.kind != Kind.FOLDER:
        return Group(head, Padding(Text(_about(found.node), "dim"), (0, 0, 0, 2)))
    more = ", and more" if found.more else ""
    parts: list[RenderableType] = [
        head,
        Text(f"{_about(found.node)}, {counted(len(found.names), 'name')}{more}", "dim"),
    ]
    if found.names:
        parts.append(Padding(_rows(found.names, marks), (0, 0, 0, 2)))
    return Group(*parts)


def shown_text(content: bytes) -> str | None:
    """Return a file's content as text that no terminal obeys, None if it is not text."""
    try:
        text = content.decode("utf-8-sig" if content[:2] not in (b"\xff\xfe", b"\xfe\xff") else "utf-16")
    except UnicodeDecodeError:
        return None
    if "\0" in text:
        return None
    return printable(text, _TEXT_SIGNS).replace("\r\n", "\n").replace("\r", "\n")


def _where(found: Looked) -> str:
    label = f' "{printable(found.label)}"' if found.label else ""
    partition = (
        f"partition {found.number} of " if found.number else f"volume {found.volume} on " if found.volume else ""
    )
    return f"{found.kind}{label} on {partition}{found.image}"


def _rows(names: Iterable[Named], marks: Marks) -> RenderableType:
    table = headed("name", "~kind", "size", *(() if marks.narrow else ("~changed, UTC", "~owner")))
    for one in names:
        node = one.node
        name = Text(printable(one.name), "name" if node.kind == Kind.FOLDER else "")
        if one.target:
            name.append(f" {marks.arrow} {printable(one.target)}", "dim")
        if one.fault:
            name.append(f"  {printable(one.fault)}", "dim")
        if node.note:
            name.append(f"  {node.note}", "dim")
        size = show_binary(node.size) if node.kind == Kind.FILE else ""
        cells: list[RenderableType] = [name, "damaged" if one.fault else str(node.kind), size]
        table.add_row(*cells, *(() if marks.narrow else (_moment(node), "" if one.fault else _owner(node))))
    return table


def _moment(node: Node) -> str:
    """Return when something was changed last; years that no calendar here has are left out."""
    try:
        return "" if node.modified is None else datetime.fromtimestamp(node.modified, UTC).strftime("%Y-%m-%d %H:%M")
    except (OverflowError, ValueError, OSError):
        return ""


def _owner(node: Node) -> str:
    return "" if node.mode is None else f"{node.uid}:{node.gid} {node.mode:04o}"


def _about(node: Node) -> str:
    size = show_binary(node.size) if node.kind == Kind.FILE else ""
    changed = _moment(node)
    words = [str(node.kind), size, _owner(node), f"changed {changed} UTC" if changed else "", node.note]
    return ", ".join(word for word in words if word)


def key_table(done: Keys) -> RenderableType:
    """Return the keys of a sealed volume, a row each, and what was done."""
    seal = done.seal
    name = f"{done.image}:{done.place}" if done.place else done.image
    head = Text.assemble((name, "name"), f"  sealed, version {seal.version}, id {printable(seal.uuid)}")
    table = headed("key", "~made by", "memory", "passes", "~")
    for slot in seal.slots:
        kdf = slot.kdf
        memory, passes = (show_binary(kdf.memory * KIB), str(kdf.passes)) if kdf.memory else ("", str(kdf.iterations))
        is_file = seal.file_key is not None and seal.file_key.slot == slot.number
        table.add_row(str(slot.number), kdf.kind, memory, passes, "key file" if is_file else "")
    told = [Text(f"{seal.damaged} does not read, or is older", "warning")] if seal.damaged else []
    return Group(head, Padding(table, (0, 0, 0, 2)), *told, *([Text(f"{done.did}.")] if done.did else []))
