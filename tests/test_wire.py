"""The forms in which rows go to and come from servers, held to plain encoders and decoders that go value by value."""

from __future__ import annotations

import datetime as dt
import io
import struct
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kanal.connections.batches import rebatched
from kanal.connections.sql import mariadb_rows
from kanal.connections.sql.copy_binary import binary_rows
from kanal.connections.sql.mariadb_rows import row_batches
from kanal.connections.sql.text_rows import cast_to_text, text_rows

TEXT = st.one_of(
    st.text(max_size=12), st.sampled_from(["", "\\N", "\t", "\n", "\\", "\r", "😀" * 300, "x" * 513, "y" * 512])
)
UTC = dt.UTC
#: Arrow type: values of it, and how the manual of PostgreSQL has their bytes.
KINDS: dict[str, tuple[pa.DataType, st.SearchStrategy[Any], Any]] = {
    "smallint": (pa.int16(), st.integers(-(2**15), 2**15 - 1), lambda v: struct.pack(">h", v)),
    "integer": (pa.int32(), st.integers(-(2**31), 2**31 - 1), lambda v: struct.pack(">i", v)),
    "bigint": (pa.int64(), st.integers(-(2**63), 2**63 - 1), lambda v: struct.pack(">q", v)),
    "real": (pa.float32(), st.floats(width=32, allow_nan=False), lambda v: struct.pack(">f", v)),
    "double": (pa.float64(), st.floats(allow_nan=False), lambda v: struct.pack(">d", v)),
    "boolean": (pa.bool_(), st.booleans(), lambda v: b"\1" if v else b"\0"),
    "text": (pa.string(), TEXT, lambda v: v.encode()),
    "binary": (pa.binary(), st.binary(max_size=20), lambda v: v),
    "date": (pa.date32(), st.dates(), lambda v: struct.pack(">i", (v - dt.date(2000, 1, 1)).days)),
    "time": (pa.time64("us"), st.times(), lambda v: struct.pack(">q", microseconds(v))),
    "timestamp": (pa.timestamp("us"), st.datetimes(), lambda v: struct.pack(">q", since_2000(v))),
    "moment": (
        pa.timestamp("us", "UTC"), st.datetimes(timezones=st.just(UTC)),
        lambda v: struct.pack(">q", since_2000(v.replace(tzinfo=None))),
    ),
}  # fmt: skip


def microseconds(value: dt.time) -> int:
    return ((value.hour * 60 + value.minute) * 60 + value.second) * 1_000_000 + value.microsecond


def since_2000(value: dt.datetime) -> int:
    return (value - dt.datetime(2000, 1, 1)) // dt.timedelta(microseconds=1)


@st.composite
def tables(draw: st.DrawFn, kinds: list[str]) -> tuple[list[str], list[tuple[Any, ...]]]:
    """Names of kinds, and rows of values of them, some NULL."""
    chosen = draw(st.lists(st.sampled_from(kinds), min_size=1, max_size=6))
    values = st.tuples(
        *(st.one_of(st.none(), KINDS[kind][1]) if draw(st.booleans()) else KINDS[kind][1] for kind in chosen)
    )
    return chosen, draw(st.lists(values, max_size=20))


def columns_of(kinds: list[str], rows: list[tuple[Any, ...]], skip: int = 0) -> list[pa.Array]:
    """The columns, sliced out of longer arrays so that they begin in the middle of a buffer."""
    columns = list(zip(*rows, strict=True)) or [()] * len(kinds)
    padded = [[None] * skip + list(column) for column in columns]
    return [pa.array(column, KINDS[kind][0]).slice(skip) for kind, column in zip(kinds, padded, strict=True)]


@given(tables(list(KINDS)), st.integers(0, 3))
@settings(max_examples=150, deadline=None)
def test_binary_rows_are_as_the_manual_of_postgresql_has_them(
    table: tuple[list[str], list[tuple[Any, ...]]], skip: int
) -> None:
    kinds, rows = table
    expected = bytearray()
    for row in rows:
        expected += struct.pack(">h", len(row))
        for kind, value in zip(kinds, row, strict=True):
            content = None if value is None else KINDS[kind][2](value)
            expected += struct.pack(">i", -1) if content is None else struct.pack(">i", len(content)) + content
    assert bytes(binary_rows(columns_of(kinds, rows, skip))) == bytes(expected)


@pytest.mark.parametrize(("precision", "scale"), [(1, 0), (5, 2), (12, 2), (18, 0), (18, 18), (18, 7), (9, 4), (8, 5)])
def test_binary_decimals_keep_their_value(precision: int, scale: int) -> None:
    most = 10**precision - 1
    numbers = [0, 1, -1, most, -most, most // 3, 10 ** (precision // 2), -(10 ** (precision // 2)) + 1]
    values = [Decimal(number).scaleb(-scale) for number in numbers]
    content = bytes(binary_rows([pa.array(values, pa.decimal128(precision, scale))]))
    width = len(content) // len(values)
    for place, value in enumerate(values):
        fields = struct.unpack(f">hi{(width - 6) // 2}h", content[place * width : (place + 1) * width])
        _, size, count, weight, sign, shown, *digits = fields
        assert (size, len(digits), shown) == (width - 6, count, scale)
        found = sum(Decimal(digit) * Decimal(10_000) ** (weight - power) for power, digit in enumerate(digits))
        assert (-found if sign else found) == value


def unescaped(field: str) -> str | None:
    """A field as COPY and LOAD DATA read it."""
    if field == "\\N":
        return None
    found, characters = [], iter(field)
    for character in characters:
        found.append(
            {"t": "\t", "n": "\n", "r": "\r", "\\": "\\"}[next(characters)] if character == "\\" else character
        )
    return "".join(found)


@given(tables(["text"]), st.integers(0, 2))
@settings(max_examples=100, deadline=None)
def test_text_rows_read_back(table: tuple[list[str], list[tuple[Any, ...]]], skip: int) -> None:
    kinds, rows = table
    lines = bytes(text_rows(columns_of(kinds, rows, skip))).decode().split("\n")
    assert lines.pop() == ""
    assert [tuple(map(unescaped, line.split("\t"))) for line in lines] == rows


@pytest.mark.parametrize(
    ("kind", "value", "text"),
    [
        ("boolean", True, "1"), ("binary", b"\0\xff", "00ff"), ("bigint", -5, "-5"), ("double", 0.1, "0.1"),
        ("date", dt.date(1, 1, 1), "0001-01-01"), ("time", dt.time(1, 2, 3, 4), "01:02:03.000004"),
        ("timestamp", dt.datetime(9999, 12, 31, 23, 59, 59, 999999), "9999-12-31 23:59:59.999999"),
        ("moment", dt.datetime(2025, 7, 1, 10, tzinfo=UTC), "2025-07-01 10:00:00.000000"),
    ],
)  # fmt: skip
def test_values_as_servers_read_them_from_text(kind: str, value: Any, text: str) -> None:
    assert cast_to_text(pa.array([value, None], KINDS[kind][0])).to_pylist() == [text, None]
    decimals = pa.array([Decimal("0.00000001"), Decimal("-12.5")], pa.decimal128(20, 8))
    assert cast_to_text(decimals).to_pylist() == ["0.00000001", "-12.50000000"]


class Server:
    """Sends rows as MariaDB does."""

    _result: Any = None

    def __init__(self, rows: list[tuple[bytes | None, ...]], at_once: int = 2**20, first: int = 250) -> None:
        packets = [b"".join(map(self.encoded, row)) for row in rows] + [b"\xfe\0\0\2\0"]
        self.content = b"".join(
            len(p).to_bytes(3, "little") + bytes([(first + number) % 256]) + p for number, p in enumerate(packets)
        )
        self._rfile, self._at_once = self, at_once
        self._sent = io.BytesIO(self.content)

    def read1(self, size: int) -> bytes:
        return self._sent.read(min(size, self._at_once))

    def encoded(self, value: bytes | None) -> bytes:
        if value is None:
            return b"\xfb"
        size = len(value)
        if size < 0xFB:
            return bytes([size]) + value
        mark, width = (b"\xfc", 2) if size < 2**16 else (b"\xfd", 3)
        return mark + size.to_bytes(width, "little") + value

    def query(self, sql: str, unbuffered: bool) -> None:
        self._result = type("Result", (), {"unbuffered_active": unbuffered})()


@given(tables(["text"]), st.integers(1, 7), st.sampled_from([9, 100, 2**20]), st.booleans(), st.integers(0, 255))
@settings(max_examples=150, deadline=None)
def test_rows_of_mariadb_are_read_as_they_were_sent(
    table: tuple[list[str], list[tuple[Any, ...]]], size: int, at_once: int, long: bool, first: int
) -> None:
    kinds, rows = table
    rows = [*rows, *([tuple("z" * 70_000 for _ in kinds)] if long else []), tuple("\0\0\0\0\1\0\0\1a" for _ in kinds)]
    server = Server([tuple(None if value is None else value.encode() for value in row) for row in rows], at_once, first)
    batches = list(row_batches(server, "SELECT", [pa.string()] * len(kinds), size, 10**9))
    assert [len(batch[0]) for batch in batches[:-1]] == [size] * (len(batches) - 1)
    assert [row for batch in batches for row in zip(*(a.to_pylist() for a in batch), strict=True)] == rows


@given(st.lists(st.integers(0, 9), max_size=8), st.integers(1, 12), st.sampled_from([1, 20, 50, 10**9]))
def test_batches_are_cut_and_joined(sizes: list[int], rows: int, most: int) -> None:
    numbers = list(range(sum(sizes)))
    starts = [sum(sizes[:place]) for place in range(len(sizes))]
    given_batches = [
        pa.record_batch([pa.array(numbers[start : start + size], pa.int64())], names=["n"])
        for start, size in zip(starts, sizes, strict=True)
    ]
    found = [batch.column(0).to_pylist() for batch in rebatched(given_batches, rows, most)]
    assert [number for batch in found for number in batch] == numbers
    assert all(0 < len(batch) <= rows and (len(batch) == 1 or 8 * len(batch) <= most) for batch in found)
    assert most < 10**9 or all(len(batch) == rows for batch in found[:-1])


def test_packets_of_mariadb_are_found_at_once_or_not_at_all() -> None:
    rows = [(f"row {number}".encode(), b"\0" * (number % 9)) for number in range(600)]
    content = Server(rows).content
    found = mariadb_rows._found(bytearray(content), 0, 2).tolist()
    lengths = [len(b"".join(map(Server([]).encoded, row))) + 4 for row in rows]
    assert found == [sum(lengths[:place]) for place in range(len(rows) + 1)]
    for place in (3, lengths[0] + 3):  # packets that are not numbered as they come
        changed = bytearray(content)
        changed[place] ^= 1
        assert not len(mariadb_rows._found(changed, 0, 2))
