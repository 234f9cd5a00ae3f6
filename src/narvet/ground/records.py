"""On-disk records, each declared once: a class whose fields say offset, width, unit and meaning.

    class Header(Record, title="gpt header", size=92):
        signature: bytes = raw(0, 8, "", "EFI PART")
        entry_count: int = u32(80, "entries", "in the table")

From the fields follow the size, a checked decode and encode of one record to and from a frozen value, and a NumPy
structured dtype for whole tables. A gap, an overlap or a wrong size fails when the module is imported. A type checker
knows every field: at construction (`Header(entry_count=128)`, every other field zero), at change
(`replace`) and at use.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping
from functools import cache
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NoReturn, Self, cast, dataclass_transform
from uuid import UUID

from narvet.ground.errors import BugError, ImageError
from narvet.ground.units import Cluster, Sector
from narvet.ground.values import Frozen, replace

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Endian = Literal["<", ">"]
_INTEGERS = {"u8": "B", "u16": "H", "u32": "I", "u64": "Q", "i8": "b", "i16": "h", "i32": "i", "i64": "q"}


class Row(Frozen):
    """One field as declared; `offset` and `length` are bytes within the record, `count` the integers in it.

    `packed` is its struct code. `integer` names the integer's width and sign (`u32`), empty for bytes and texts.
    """

    offset: int
    length: int
    packed: str
    unit: str
    meaning: str
    name: str = ""
    count: int = 1
    integer: str = ""
    from_raw: Callable[[bytes, Endian], object] | None = None
    to_raw: Callable[[Any, Endian], bytes] | None = None

    @property
    def bits(self) -> int:
        """Width of one integer of this field, in bits."""
        return 8 * self.length // self.count

    @property
    def limits(self) -> tuple[int, int]:
        """Smallest and largest value that fits one integer of this field."""
        if self.integer[0] == "u":
            return 0, (1 << self.bits) - 1
        return -(1 << (self.bits - 1)), (1 << (self.bits - 1)) - 1

    def decoder(self, endian: Endian) -> Callable[[bytes], object] | None:
        """Return what makes a value of this field's bytes, None where struct alone does."""
        if self.count > 1:
            return struct.Struct(endian + self.packed).unpack
        from_raw = self.from_raw
        return (lambda data: from_raw(data, endian)) if from_raw else None

    def check_integer(self, value: int, title: str) -> None:
        """Raise BugError if `value` does not fit one integer of this field of the record called `title`."""
        low, high = self.limits
        if not low <= value <= high:
            raise BugError(f"{title}.{self.name} @ {self.offset}: {value} does not fit a {self.bits}-bit field")

    def raw_bytes(self, value: object, endian: Endian, title: str) -> bytes:
        """Return what struct packs for a value that is not one integer.

        Raises:
            BugError: it is longer than the field, or has not as many integers.
        """
        if self.count > 1:
            values = cast("tuple[int, ...]", value)
            if len(values) != self.count:
                raise BugError(f"{title}.{self.name}: {self.count} values expected, found {len(values)}")
            return struct.pack(endian + self.packed, *values)
        data = self.to_raw(value, endian) if self.to_raw else cast(bytes, value)
        if len(data) > self.length:
            raise BugError(
                f"{title}.{self.name} @ {self.offset}: {len(data)} bytes do not fit a field of {self.length} bytes"
            )
        return data


class _Declared(Frozen):
    """What a field is declared with."""

    default: object
    row: Row


def _field(default: object, row: Row) -> Any:
    return _Declared(default, row)


def _integer(kind: str, offset: int, unit: str, meaning: str) -> int:
    letter = _INTEGERS[kind]
    row = Row(offset, struct.calcsize("<" + letter), f"1{letter}", unit, meaning, integer=kind)
    return cast(int, _field(0, row))


def u8(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare an unsigned integer of 8 bits, `offset` bytes into the record."""
    return _integer("u8", offset, unit, meaning)


def u16(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare an unsigned integer of 16 bits, `offset` bytes into the record."""
    return _integer("u16", offset, unit, meaning)


def u32(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare an unsigned integer of 32 bits, `offset` bytes into the record."""
    return _integer("u32", offset, unit, meaning)


def u64(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare an unsigned integer of 64 bits, `offset` bytes into the record."""
    return _integer("u64", offset, unit, meaning)


def sector32(offset: int, unit: str = "sectors", meaning: str = "") -> Sector:
    """Declare a number of a sector, or of sectors, of 32 bits, `offset` bytes into the record."""
    return Sector(u32(offset, unit, meaning))


def sector64(offset: int, unit: str = "sectors", meaning: str = "") -> Sector:
    """Declare a number of a sector, or of sectors, of 64 bits, `offset` bytes into the record."""
    return Sector(u64(offset, unit, meaning))


def cluster32(offset: int, unit: str = "cluster", meaning: str = "") -> Cluster:
    """Declare the number of a cluster, of 32 bits, `offset` bytes into the record."""
    return Cluster(u32(offset, unit, meaning))


def cluster64(offset: int, unit: str = "cluster", meaning: str = "") -> Cluster:
    """Declare the number of a cluster, of 64 bits, `offset` bytes into the record."""
    return Cluster(u64(offset, unit, meaning))


def i8(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare a signed integer of 8 bits, `offset` bytes into the record."""
    return _integer("i8", offset, unit, meaning)


def i16(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare a signed integer of 16 bits, `offset` bytes into the record."""
    return _integer("i16", offset, unit, meaning)


def i64(offset: int, unit: str = "", meaning: str = "") -> int:
    """Declare a signed integer of 64 bits, `offset` bytes into the record."""
    return _integer("i64", offset, unit, meaning)


def u32s(offset: int, count: int, unit: str = "", meaning: str = "") -> tuple[int, ...]:
    """Declare `count` unsigned integers of 32 bits, `offset` bytes into the record."""
    row = Row(offset, 4 * count, f"{count}I", unit, meaning, count=count, integer="u32")
    return cast("tuple[int, ...]", _field((0,) * count, row))


def raw(offset: int, length: int, unit: str = "", meaning: str = "") -> bytes:
    """Declare `length` bytes, `offset` bytes into the record; a shorter value is padded with zeros."""
    return cast(bytes, _field(bytes(length), Row(offset, length, f"{length}s", unit, meaning)))


def uuid(offset: int, unit: str = "", meaning: str = "") -> UUID:
    """Declare a UUID as it is written (RFC 9562), `offset` bytes into the record."""
    row = Row(
        offset,
        16,
        "16s",
        unit,
        meaning,
        from_raw=lambda data, _: UUID(bytes=data),
        to_raw=lambda one, _: one.bytes,
    )
    return cast(UUID, _field(UUID(int=0), row))


def guid(offset: int, unit: str = "", meaning: str = "") -> UUID:
    """Declare a UUID whose first three fields are little-endian (UEFI 2.10, appendix A), `offset` bytes in."""
    row = Row(
        offset, 16, "16s", unit, meaning,
        from_raw=lambda data, _: UUID(bytes_le=data), to_raw=lambda one, _: one.bytes_le,
    )  # fmt: skip
    return cast(UUID, _field(UUID(int=0), row))


def utf16(offset: int, length: int, unit: str = "", meaning: str = "") -> str:
    """Declare a text of `length` UTF-16 units, padded with NULs, `offset` bytes into the record."""
    row = Row(offset, 2 * length, f"{2 * length}s", unit, meaning, from_raw=_decoded, to_raw=_encoded)
    return cast(str, _field("", row))


def _decoded(data: bytes, endian: Endian) -> str:
    return data.decode("utf-16-le" if endian == "<" else "utf-16-be", "replace").split("\0", 1)[0]


def _encoded(text: str, endian: Endian) -> bytes:
    return text.encode("utf-16-le" if endian == "<" else "utf-16-be")


@dataclass_transform(kw_only_default=True, frozen_default=True)
class Record:
    """A record of a format, which never changes. Subclasses declare their fields; a field not given is zero.

    There are hundreds of subclasses; so their methods are written here once, not made for each.
    The functions that declare fields are not named as field specifiers, so that a type checker sees a default in each.
    """

    title: ClassVar[str]
    size: ClassVar[int]
    endian: ClassVar[Endian]
    rows: ClassVar[tuple[Row, ...]]
    _struct: ClassVar[struct.Struct]  # takes what is more than one integer as bytes, so that a field is one value
    _names: ClassVar[tuple[str, ...]]
    _defaults: ClassVar[dict[str, Any]]
    _by_name: ClassVar[dict[str, Row]]
    _encoders: ClassVar[tuple[tuple[int, Row], ...]]
    _decoders: ClassVar[tuple[tuple[str, Callable[[bytes], object]], ...]]

    def __init_subclass__(cls, *, title: str, size: int, endian: Endian = "<") -> None:
        """Check the declared offsets against one another and against `size`, both in bytes."""
        cls.title, cls.size, cls.endian = title, size, endian
        rows: list[Row] = []
        expected = 0
        declared = {name: one for name, one in vars(cls).items() if isinstance(one, _Declared)}
        for name, field in declared.items():
            delattr(cls, name)
            row = replace(field.row, name=name)
            if row.offset != expected:
                raise BugError(f"{title}.{row.name}: declared at {row.offset}, the fields before end at {expected}")
            rows.append(row)
            expected += row.length
        if expected != size:
            raise BugError(f"{title}: the fields end at {expected}, the record at {size}")
        cls.rows = tuple(rows)
        cls._names = tuple(row.name for row in rows)
        cls._by_name = {row.name: row for row in rows}
        cls._defaults = {name: one.default for name, one in declared.items()}
        cls._struct = struct.Struct(
            endian + "".join(row.packed if row.count == 1 else f"{row.length}s" for row in rows)
        )
        cls._encoders = tuple((index, row) for index, row in enumerate(rows) if not row.integer or row.count > 1)
        cls._decoders = tuple((row.name, one) for row in rows if (one := row.decoder(endian)))

    def __init__(self, **values: Any) -> None:
        self.__dict__.update(self._defaults)
        self._set(values)

    def _set(self, values: Mapping[str, Any]) -> None:
        if not values.keys() <= self._defaults.keys():
            raise TypeError(f"{self.title} has no field {min(values.keys() - self._defaults.keys())}")
        self.__dict__.update(values)

    def __replace__(self, **values: Any) -> Self:
        made = object.__new__(type(self))
        made.__dict__.update(self.__dict__)
        made._set(values)
        return made

    def __setattr__(self, name: str, value: object) -> NoReturn:
        raise AttributeError(f"{self.title}: cannot assign to {name}")

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and other.__dict__ == self.__dict__

    def __hash__(self) -> int:
        return hash(tuple([getattr(self, name) for name in self._names]))

    @classmethod
    def decode(cls, data: bytes | memoryview, where: str = "") -> Self:
        """Return the record at the start of `data`, which is not trusted.

        Raises:
            ImageError: `data` is shorter than the record.
        """
        if len(data) < cls.size:
            place = f" @ {where}" if where else ""
            raise ImageError(f"{cls.title}{place}: {cls.size} bytes expected, found {len(data)}")
        values = dict(zip(cls._names, cls._struct.unpack_from(data), strict=True))
        for name, decoded in cls._decoders:
            values[name] = decoded(values[name])
        made = object.__new__(cls)  # every field is there: no default is to be looked for, one field at a time
        made.__dict__.update(values)
        return made

    def encode(self) -> bytes:
        """Return the record's bytes.

        Raises:
            BugError: a value does not fit its field.
        """
        flat: list[Any] = [getattr(self, name) for name in self._names]
        try:
            for index, row in self._encoders:
                flat[index] = row.raw_bytes(flat[index], self.endian, self.title)
            return self._struct.pack(*flat)
        except struct.error:
            # struct checks the range of integers, but cannot name the field.
            for row in self.rows:
                values = getattr(self, row.name)
                for one in () if not row.integer else values if row.count > 1 else (values,):
                    row.check_integer(one, self.title)
            raise

    @classmethod
    def changed(cls, data: bytes, /, **values: int) -> bytes:
        """Return an encoded record with other values in some of its fields of one integer each.

        Raises:
            BugError: a value does not fit its field.
        """
        whole = bytearray(data)
        for name, value in values.items():
            row = cls._by_name[name]
            row.check_integer(value, cls.title)
            struct.pack_into(cls.endian + row.packed, whole, row.offset, value)
        return bytes(whole)

    @classmethod
    @cache
    def dtype(cls) -> np.dtype[Any]:
        """Return the NumPy structured dtype of a table of these records."""
        import numpy as np

        def column(row: Row) -> Any:
            if not row.integer:
                return f"V{row.length}"
            kind = f"{cls.endian}{row.integer[0]}{row.bits // 8}"
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
            BugError: there is no such column, or a value does not fit it (NumPy itself would cut it silently).
        """
        import numpy as np

        array = np.zeros(count, dtype=cls.dtype())
        for name, values in columns.items():
            row = cls._by_name.get(name)
            if row is None or not row.integer:
                raise BugError(f"{cls.title} has no column of integers called {name}")
            low, high = row.limits
            if count and isinstance(values, int):
                row.check_integer(values, cls.title)
            elif count and (np.min(values) < low or np.max(values) > high):
                raise BugError(f"{cls.title}.{name}: a value does not fit a {row.bits}-bit field")
            array[name] = values
        return array
