"""On-disk records, each declared once: a class whose rows are offset, code, unit and meaning of every field.

From the rows follow the size, a checked decode and encode of one record to and from a frozen value, and a NumPy
structured dtype for whole tables. The offsets are data: a gap or overlap fails when the module is imported.

Codes: `u8 u16 u32 u64 i8 … i64` integers (with a count for several: `u32*4`, a tuple), `8s` bytes,
`uuid` a UUID as written (RFC 9562), `guid` the same with its first three fields little-endian (UEFI, appendix A),
`utf16*36` text padded with NULs.
"""

from __future__ import annotations

import dataclasses
import re
import struct
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self, dataclass_transform
from uuid import UUID

from narvet.errors import BugError, ImageError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_INTEGERS = {"u8": "B", "u16": "H", "u32": "I", "u64": "Q", "i8": "b", "i16": "h", "i32": "i", "i64": "q"}
_CODE = re.compile(r"(?P<integer>[ui](?:8|16|32|64))(?:\*(?P<count>\d+))?|(?P<bytes>\d+)s|utf16\*(?P<text>\d+)")


@dataclasses.dataclass(frozen=True)
class Row:
    """One field as declared; `offset` and `length` are bytes within the record."""

    name: str
    offset: int
    code: str
    unit: str
    meaning: str
    length: int = 0
    count: int = 1
    packed: str = ""
    integer: bool = False

    def resolved(self) -> Row:
        """Return the row with its length, count and struct code worked out from `code`."""
        if self.code in ("uuid", "guid"):
            return dataclasses.replace(self, length=16, packed="16s")
        match = _CODE.fullmatch(self.code)
        if match is None:
            raise BugError(f"field {self.name}: unknown code {self.code!r}")
        if match["bytes"]:
            length = int(match["bytes"])
            return dataclasses.replace(self, length=length, packed=f"{length}s")
        if match["text"]:
            length = 2 * int(match["text"])
            return dataclasses.replace(self, length=length, packed=f"{length}s")
        count = int(match["count"] or 1)
        letter = _INTEGERS[match["integer"]]
        return dataclasses.replace(
            self, length=struct.calcsize("<" + letter) * count, count=count, packed=f"{count}{letter}", integer=True
        )

    @property
    def bits(self) -> int:
        """Width of one integer of this field, in bits."""
        return 8 * self.length // self.count

    @property
    def limits(self) -> tuple[int, int]:
        """Smallest and largest value that fits one integer of this field."""
        if self.code[0] == "u":
            return 0, (1 << self.bits) - 1
        return -(1 << (self.bits - 1)), (1 << (self.bits - 1)) - 1

    def from_raw(self, raw: Any, endian: str) -> Any:
        """Return the value a person reads from what struct unpacked."""
        if self.code == "uuid":
            return UUID(bytes=raw)
        if self.code == "guid":
            return UUID(bytes_le=raw)
        if self.code.startswith("utf16"):
            text: str = raw.decode("utf-16-le" if endian == "<" else "utf-16-be", "replace")
            return text.split("\0", 1)[0]
        return raw

    def to_raw(self, value: Any, endian: str, title: str) -> Any:
        """Return what struct packs for `value`, checked for type, range and length."""
        where = f"{title}.{self.name} @ {self.offset}"
        if self.code == "uuid":
            return value.bytes
        if self.code == "guid":
            return value.bytes_le
        if self.code.startswith("utf16"):
            value = value.encode("utf-16-le" if endian == "<" else "utf-16-be")
        if not self.integer:
            if len(value) > self.length:
                raise BugError(f"{where}: {len(value)} bytes do not fit a field of {self.length} bytes")
            return value
        low, high = self.limits
        if not low <= value <= high:
            raise BugError(f"{where}: {value} does not fit a {self.bits}-bit field")
        return value

    def blank(self) -> Any:
        """Return the value of a field of zero bytes."""
        if self.code in ("uuid", "guid"):
            return UUID(int=0)
        if self.code.startswith("utf16"):
            return ""
        if not self.integer:
            return bytes(self.length)
        return (0,) * self.count if self.count > 1 else 0


def at(offset: int, code: str, unit: str = "", meaning: str = "") -> Any:
    """Declare a field: its byte offset, its code, the unit of its value and what it means."""
    return dataclasses.field(metadata={"row": (offset, code, unit, meaning)})


@dataclass_transform(kw_only_default=True, frozen_default=True, field_specifiers=(at,))
class Record:
    """A record of a format; subclasses declare their fields with `at` and become frozen dataclasses."""

    title: ClassVar[str]
    size: ClassVar[int]
    endian: ClassVar[str]
    rows: ClassVar[tuple[Row, ...]]
    _struct: ClassVar[struct.Struct]

    def __init_subclass__(cls, *, title: str, size: int, endian: Literal["<", ">"] = "<") -> None:
        """Check the declared offsets against one another and against `size`, both in bytes."""
        dataclasses.dataclass(frozen=True, kw_only=True)(cls)
        cls.title, cls.size, cls.endian = title, size, endian
        rows, expected = [], 0
        for field in dataclasses.fields(cls):  # type: ignore[arg-type]
            row = Row(field.name, *field.metadata["row"]).resolved()
            if row.offset != expected:
                raise BugError(f"{title}.{row.name}: declared at {row.offset}, the fields before end at {expected}")
            rows.append(row)
            expected += row.length
        if expected != size:
            raise BugError(f"{title}: the fields end at {expected}, the record at {size}")
        cls.rows = tuple(rows)
        cls._struct = struct.Struct(endian + "".join(row.packed for row in rows))

    @classmethod
    def of(cls, **values: Any) -> Self:
        """Return a record with the given fields, every other one zero."""
        return cls(**{row.name: row.blank() for row in cls.rows} | values)

    @classmethod
    def decode(cls, data: bytes | memoryview, where: str = "") -> Self:
        """Return the record at the start of `data`, which is not trusted.

        Raises:
            ImageError: `data` is shorter than the record.
        """
        if len(data) < cls.size:
            place = f" @ {where}" if where else ""
            raise ImageError(f"{cls.title}{place}: {cls.size} bytes expected, found {len(data)}")
        flat = iter(cls._struct.unpack_from(data))
        values = {}
        for row in cls.rows:
            if not row.integer:
                values[row.name] = row.from_raw(next(flat), cls.endian)
            elif row.count == 1:
                values[row.name] = next(flat)
            else:
                values[row.name] = tuple(next(flat) for _ in range(row.count))
        return cls(**values)

    def encode(self) -> bytes:
        """Return the record's bytes.

        Raises:
            BugError: a value does not fit its field.
        """
        flat: list[Any] = []
        for row in self.rows:
            value = getattr(self, row.name)
            if not row.integer:
                flat.append(row.to_raw(value, self.endian, self.title))
            elif row.count == 1:
                flat.append(value)
            elif len(value) == row.count:
                flat.extend(value)
            else:
                raise BugError(f"{self.title}.{row.name}: {row.count} values expected, found {len(value)}")
        try:
            return self._struct.pack(*flat)
        except struct.error:
            # struct checks the range of integers, but cannot name the field.
            for row in self.rows:
                values = getattr(self, row.name)
                for one in values if row.count > 1 else [values]:
                    row.to_raw(one, self.endian, self.title)
            raise

    def but(self, **changes: Any) -> Self:
        """Return the record with some fields changed."""
        return dataclasses.replace(self, **changes)  # type: ignore[type-var]

    @classmethod
    def dtype(cls) -> np.dtype[Any]:
        """Return the NumPy structured dtype of a table of these records."""
        import numpy as np

        def column(row: Row) -> Any:
            if not row.integer:
                return f"V{row.length}"
            kind = f"{cls.endian}{row.code[0]}{row.bits // 8}"
            return (kind, (row.count,)) if row.count > 1 else kind

        return np.dtype(
            {
                "names": [row.name for row in cls.rows],
                "formats": [column(row) for row in cls.rows],
                "offsets": [row.offset for row in cls.rows],
                "itemsize": cls.size,
            }
        )

    @classmethod
    def table(cls, count: int, /, **columns: NDArray[Any] | int) -> NDArray[Any]:
        """Return `count` records as one array, the named integer columns filled and range-checked.

        Raises:
            BugError: a value does not fit its field (NumPy itself would cut it silently).
        """
        import numpy as np

        rows = {row.name: row for row in cls.rows}
        array = np.zeros(count, dtype=cls.dtype())
        for name, values in columns.items():
            low, high = rows[name].limits
            if count and (np.min(values) < low or np.max(values) > high):
                raise BugError(f"{cls.title}.{name}: a value does not fit a {rows[name].bits}-bit field")
            array[name] = values
        return array
