"""XML whose bytes stay where they are: elements with their places in the text, and edits as cuts and inserts. Pure.

A document that declares types or entities is refused: nothing here needs them, and they are how small files become
large ones.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from xml.parsers import expat
from xml.sax.saxutils import escape, quoteattr

from narvet.ground.errors import ImageError
from narvet.ground.values import Draft, Frozen, field

_LARGEST = 16 << 20  # bytes of a description; real ones have some ten thousand
_DEEPEST, _MOST, _MOST_PREFIXES = 64, 200_000, 200
_BETWEEN = "\n"  # what no name of an element or namespace has in it


class Element(Draft):
    """An element: its namespace and name, its attributes by `{namespace}name`, and where it lies in the text.

    `start` is the byte of its first sign, `inside` the first after its start tag, `close` the first of its end tag,
    `end` the first after it; in one without content `inside`, `close` and `end` are the same. `prefixes` has what each
    prefix stands for inside it.
    """

    namespace: str
    name: str
    attributes: dict[str, str]
    prefixes: dict[str, str]
    start: int
    inside: int = 0
    close: int = 0
    end: int = 0
    text: str = ""
    children: list[Element] = field(default_factory=list)

    @property
    def is_empty(self) -> bool:
        """Whether it is written as one tag."""
        return self.inside == self.end

    def all(self, namespace: str, name: str) -> Iterator[Element]:
        """Yield its children of a name."""
        return (one for one in self.children if one.namespace == namespace and one.name == name)

    def one(self, namespace: str, name: str) -> Element | None:
        """Return its first child of a name."""
        return next(self.all(namespace, name), None)

    def below(self) -> Iterator[Element]:
        """Yield it and everything in it, in the order of the text."""
        yield self
        for child in self.children:
            yield from child.below()


class Edit(Frozen):
    """Bytes from `start` to `end` that become others."""

    start: int
    end: int
    becomes: bytes


def parse(text: bytes, where: str) -> Element:
    """Return the root of a document in UTF-8, nothing of which is trusted.

    Raises:
        ImageError: it is too large, too deep, of another encoding, declares types, or is no XML.
    """
    if len(text) > _LARGEST:
        raise ImageError(f"{where}: a description of {len(text)} bytes is too large to be one")
    if text[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise ImageError(f"{where}: it is not written in UTF-8; save it in that")
    reader = _Reader(text, where)
    try:
        reader.read()
    except expat.ExpatError as error:
        raise ImageError(
            f"{where}: it is not XML that can be read: {expat.ErrorString(error.code)}, line {error.lineno}"
        ) from None
    if reader.root is None:
        raise ImageError(f"{where}: there is nothing in it")
    return reader.root


class _Reader:
    """Puts elements together while a document is read."""

    def __init__(self, text: bytes, where: str) -> None:
        self._text, self._where = text, where
        self._open: list[Element] = []
        self._texts: list[list[str]] = []
        self._count = 0
        self._declared: dict[str, str] = {}
        self.root: Element | None = None
        self._parser = expat.ParserCreate("UTF-8", _BETWEEN)
        self._parser.buffer_text = True
        self._parser.StartElementHandler = self._starts
        self._parser.EndElementHandler = self._ends
        self._parser.CharacterDataHandler = self._says
        self._parser.StartNamespaceDeclHandler = self._declares
        self._parser.StartDoctypeDeclHandler = self._refuses

    def read(self) -> None:
        self._parser.Parse(self._text, True)

    def _refuses(self, *_: object) -> None:
        raise ImageError(f"{self._where}: it declares document types, which a description does not need; remove them")

    def _declares(self, prefix: str | None, namespace: str | None) -> None:
        self._declared[prefix or ""] = namespace or ""

    def _starts(self, name: str, attributes: dict[str, str]) -> None:
        self._count += 1
        if len(self._open) >= _DEEPEST or self._count > _MOST:
            raise ImageError(f"{self._where}: it has more elements, or deeper ones, than a description has")
        start = self._parser.CurrentByteIndex
        prefixes = self._open[-1].prefixes if self._open else {}
        if self._declared:
            prefixes, self._declared = {**prefixes, **self._declared}, {}
        if len(prefixes) > _MOST_PREFIXES:
            raise ImageError(f"{self._where}: it has more prefixes than a description has")
        known = {_curly(key): value for key, value in attributes.items()}
        namespace, _, own = name.rpartition(_BETWEEN)
        element = Element(namespace, own, known, prefixes, start, inside=_after_tag(self._text, start))
        if self._open:
            self._open[-1].children.append(element)
        else:
            self.root = element
        self._open.append(element)
        self._texts.append([])

    def _ends(self, _: str) -> None:
        element = self._open.pop()
        element.text = "".join(self._texts.pop())
        if self._text[element.inside - 2 : element.inside] == b"/>":
            element.close = element.end = element.inside
            return
        element.close = self._parser.CurrentByteIndex
        element.end = self._text.index(b">", element.close) + 1

    def _says(self, text: str) -> None:
        self._texts[-1].append(text)


def _curly(name: str) -> str:
    namespace, between, own = name.rpartition(_BETWEEN)
    return f"{{{namespace}}}{own}" if between else own


def _after_tag(text: bytes, start: int) -> int:
    """Return the first byte after a start tag; a > between quotes does not end it."""
    quote = b""
    for position in range(start, len(text)):
        sign = text[position : position + 1]
        if quote:
            quote = b"" if sign == quote else quote
        elif sign in (b'"', b"'"):
            quote = sign
        elif sign == b">":
            return position + 1
    return len(text)


def edited(text: bytes, edits: Sequence[Edit]) -> bytes:
    """Return a text with edits, which do not overlap, made."""
    parts, position = [], 0
    for edit in sorted(edits, key=lambda one: (one.start, one.end)):
        parts += [text[position : edit.start], edit.becomes]
        position = edit.end
    return b"".join([*parts, text[position:]])


def appended(text: bytes, parent: Element, written: str) -> Edit:
    """Return the edit that puts an element last into another one, on a line of its own like those before it."""
    line = _line_before(text, parent.children[-1].start if parent.children else parent.start)
    if parent.is_empty:
        name = text[parent.start + 1 : parent.inside].split(None, 1)[0].rstrip(b"/>")
        tag = text[parent.start : parent.inside - 2].rstrip()
        inner = line + b"  "
        return Edit(
            parent.start, parent.end, tag + b">" + inner + _indented(written, inner) + line + b"</" + name + b">"
        )
    if not parent.children:
        inner = line + b"  "
        return Edit(parent.close, parent.close, (inner if inner.strip(b" \t") else b"") + _indented(written, inner))
    after = parent.children[-1].end
    return Edit(after, after, line + _indented(written, line))


def after(text: bytes, element: Element, written: str) -> Edit:
    """Return the edit that puts an element right after another one."""
    line = _line_before(text, element.start)
    return Edit(element.end, element.end, line + _indented(written, line))


def removed(text: bytes, element: Element) -> Edit:
    """Return the edit that takes an element out, with the blanks before it."""
    start = element.start
    while start and text[start - 1 : start].isspace():
        start -= 1
    return Edit(start, element.end, b"")


def _line_before(text: bytes, position: int) -> bytes:
    """Return the line break and blanks that stand before a position, nothing where something else does."""
    start = position
    while start and text[start - 1 : start] in (b" ", b"\t"):
        start -= 1
    if start and text[start - 1 : start] == b"\n":
        start -= 2 if text[start - 2 : start] == b"\r\n" else 1
        return text[start:position]
    return b""


def _indented(written: str, line: bytes) -> bytes:
    """Return an element, written over several lines, with what stands before each line."""
    if not line:
        return "".join(part.strip() for part in written.split("\n")).encode()
    return line.join(part.encode() for part in written.split("\n"))


def quoted(value: str) -> str:
    """Return a value of an attribute, in quotes."""
    return quoteattr(value)


def escaped(text: str) -> str:
    """Return text between tags."""
    return escape(text)
