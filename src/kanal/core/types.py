"""SQL types: their names, what they can hold, and the Arrow type in which their values travel."""

from __future__ import annotations

import re
from enum import Enum
from functools import cached_property

import pyarrow as pa
from msgspec import Struct

from kanal.core.errors import TypeNameError
from kanal.core.nearest import did_you_mean


class Family(Enum):
    """Types that are converted and computed with alike."""

    INTEGER = "integer"
    DECIMAL = "decimal"
    DOUBLE = "double precision"
    BOOLEAN = "boolean"
    TEXT = "text"
    DATE = "date"
    TIME = "time"
    TIMESTAMP = "timestamp"
    TIMESTAMPTZ = "timestamp with time zone"
    INTERVAL = "interval"
    BINARY = "binary"
    UUID = "uuid"
    JSON = "json"
    NULL = "null"


#: Name in SQL: (family, Arrow type or None if it depends on the parameters, number of parameters allowed).
_TYPES: dict[str, tuple[Family, pa.DataType | None, int]] = {
    "smallint": (Family.INTEGER, pa.int16(), 0),
    "integer": (Family.INTEGER, pa.int32(), 0),
    "bigint": (Family.INTEGER, pa.int64(), 0),
    "decimal": (Family.DECIMAL, None, 2),
    "real": (Family.DOUBLE, pa.float32(), 0),
    "double precision": (Family.DOUBLE, pa.float64(), 0),
    "boolean": (Family.BOOLEAN, pa.bool_(), 0),
    "varchar": (Family.TEXT, pa.string(), 1),
    "text": (Family.TEXT, pa.string(), 0),
    "date": (Family.DATE, pa.date32(), 0),
    "time": (Family.TIME, pa.time64("us"), 0),
    "timestamp": (Family.TIMESTAMP, pa.timestamp("us"), 0),
    "timestamp with time zone": (Family.TIMESTAMPTZ, pa.timestamp("us", "UTC"), 0),
    "interval": (
        Family.INTERVAL,
        pa.struct([("months", pa.int32()), ("days", pa.int32()), ("microseconds", pa.int64())]),
        0,
    ),
    "binary": (Family.BINARY, pa.binary(), 0),
    "uuid": (Family.UUID, pa.string(), 0),
    "json": (Family.JSON, pa.string(), 0),
    "null": (Family.NULL, pa.null(), 0),
}
#: Other spellings in ISO SQL or common to several databases.
_SYNONYMS = {
    "int": "integer",
    "numeric": "decimal",
    "dec": "decimal",
    "float": "double precision",
    "double": "double precision",
    "bool": "boolean",
    "character varying": "varchar",
    "char varying": "varchar",
    "char": "varchar",
    "character": "varchar",
    "timestamp without time zone": "timestamp",
    "timestamptz": "timestamp with time zone",
    "time without time zone": "time",
    "varbinary": "binary",
    "binary varying": "binary",
    "blob": "binary",
    "clob": "text",
}
_INTEGER_BITS = {"smallint": 16, "integer": 32, "bigint": 64}
_TYPE_TEXT = re.compile(
    r"\s*([a-z][a-z ]*?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)\s*([a-z ]*))?", re.IGNORECASE | re.ASCII
)
#: Digits that Arrow's widest decimal holds.
MAX_PRECISION = 76


class SqlType(Struct, frozen=True, dict=True):
    """One SQL type with its parameters: `length` in characters, `precision` and `scale` in decimal digits."""

    name: str
    length: int | None = None
    precision: int | None = None
    scale: int | None = None

    @cached_property
    def family(self) -> Family:
        """The family of types that it belongs to."""
        return _TYPES[self.name][0]

    @cached_property
    def arrow(self) -> pa.DataType:
        """The Arrow type of an array of such values."""
        fixed = _TYPES[self.name][1]
        if fixed is not None:
            return fixed
        assert self.precision is not None and self.scale is not None
        if self.precision <= 38:
            return pa.decimal128(self.precision, self.scale)
        return pa.decimal256(self.precision, self.scale)

    @cached_property
    def integer_range(self) -> tuple[int, int]:
        """The least and the greatest value of an integer type."""
        half: int = 2 ** (_INTEGER_BITS[self.name] - 1)
        return -half, half - 1

    @cached_property
    def whole_digits(self) -> int:
        """Digits before the decimal point that any value of an integer or decimal type may have."""
        if self.family is Family.INTEGER:
            return len(str(self.integer_range[1]))
        assert self.precision is not None and self.scale is not None
        return self.precision - self.scale

    @property
    def is_number(self) -> bool:
        """True for integer, decimal and floating types."""
        return self.family in (Family.INTEGER, Family.DECIMAL, Family.DOUBLE)

    def __str__(self) -> str:
        if self.length is not None:
            return f"{self.name}({self.length})"
        if self.precision is not None:
            return f"{self.name}({self.precision},{self.scale})"
        return self.name


SMALLINT = SqlType("smallint")
INTEGER = SqlType("integer")
BIGINT = SqlType("bigint")
REAL = SqlType("real")
DOUBLE = SqlType("double precision")
BOOLEAN = SqlType("boolean")
TEXT = SqlType("text")
DATE = SqlType("date")
TIME = SqlType("time")
TIMESTAMP = SqlType("timestamp")
TIMESTAMPTZ = SqlType("timestamp with time zone")
INTERVAL = SqlType("interval")
BINARY = SqlType("binary")
UUID = SqlType("uuid")
JSON = SqlType("json")
NULL = SqlType("null")
#: What a decimal declared without precision and scale is held in.
WIDE_DECIMAL = SqlType("decimal", precision=38, scale=18)


def decimal(precision: int, scale: int) -> SqlType:
    """The decimal type of this many digits in all, and after the point."""
    return SqlType("decimal", precision=precision, scale=scale)


def varchar(length: int) -> SqlType:
    """Text of at most this many characters."""
    return SqlType("varchar", length=length)


def holds(target: SqlType, source: SqlType) -> bool | None:
    """True if a type holds every value of another; None if that depends on the values, as of texts."""
    one, other = target.family, source.family
    if one is Family.TEXT:
        if other is not Family.TEXT:
            return True if target.length is None else None
        return target.length is None or (source.length is not None and source.length <= target.length)
    if other in (Family.TEXT, Family.NULL, Family.JSON):
        return None if one is not other else True
    if target.is_number and source.is_number:
        if one is Family.DOUBLE:
            exact = {"real": 7, "double precision": 15}[target.name]
            if other is Family.DOUBLE:
                return source.name == "real" or target.name != "real"
            return source.whole_digits + (source.scale or 0) <= exact
        if other is Family.DOUBLE:
            return False
        if one is other is Family.INTEGER:
            return target.integer_range[1] >= source.integer_range[1]
        return target.whole_digits >= source.whole_digits and (target.scale or 0) >= (source.scale or 0)
    if one is Family.TIMESTAMP and other is Family.DATE:
        return True
    return one is other


def wider(one: SqlType, other: SqlType) -> SqlType | None:
    """The type that holds every value of two texts or two exact numbers; None of other types."""
    if one.family is other.family is Family.TEXT:
        longest = max(one.length or 0, other.length or 0)
        return varchar(longest) if one.length is not None and other.length is not None else TEXT
    exact = (Family.INTEGER, Family.DECIMAL)
    if one.family is other.family is Family.INTEGER:
        return max(one, other, key=lambda type_: type_.integer_range[1])
    if one.family in exact and other.family in exact:
        scale = max(one.scale or 0, other.scale or 0)
        digits = max(one.whole_digits, other.whole_digits) + scale
        return decimal(digits, scale) if digits <= MAX_PRECISION else None
    if one.family is other.family is Family.DOUBLE:
        return DOUBLE
    return None


def parse_type(text: str) -> SqlType:
    """The type named by an SQL text such as `decimal(9,2)` or `timestamp with time zone`.

    Raises TypeNameError with the nearest known name.
    """
    match = _TYPE_TEXT.fullmatch(text)
    if match is None:
        raise TypeNameError(f'"{text}" is not a type', "write it as in SQL, for instance decimal(9,2)")
    head, first, second, tail = match.groups()
    name = " ".join(f"{head} {tail or ''}".lower().split())
    name = _SYNONYMS.get(name, name)
    if name not in _TYPES or name == "null":
        raise TypeNameError(f'"{text}" is not a type', did_you_mean(name, {*_TYPES, *_SYNONYMS} - {"null"}))
    given = [int(number) for number in (first, second) if number is not None]
    if name in ("timestamp", "timestamp with time zone", "time"):
        if given not in ([], [6]):
            raise TypeNameError(f'"{text}" is not a type', "times are kept to the microsecond; write it without digits")
        return SqlType(name)
    if len(given) > _TYPES[name][2]:
        raise TypeNameError(f'"{text}" has too many parameters', f"write {name} with {_TYPES[name][2]} or fewer")
    if name == "varchar":
        if not given:
            return TEXT
        return varchar(_positive(text, given[0]))
    if name == "decimal":
        if not given:
            return WIDE_DECIMAL
        precision, scale = given[0], given[1] if len(given) > 1 else 0
        if not 1 <= precision <= MAX_PRECISION or scale > precision:
            raise TypeNameError(
                f'"{text}" is not a type',
                f"precision is 1 to {MAX_PRECISION} digits, scale 0 to the precision",
            )
        return decimal(precision, scale)
    return SqlType(name)


def _positive(text: str, length: int) -> int:
    if length < 1:
        raise TypeNameError(f'"{text}" is not a type', "a length is at least 1 character")
    return length
