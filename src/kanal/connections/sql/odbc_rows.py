"""Reads by ODBC: in columns through Arrow where each value is sure to have room, else row by row."""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.batches import fetched, rebatched, valid_text
from kanal.connections.description import ColumnInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.reading import Reading
from kanal.connections.sql.odbc_access import OdbcAccess
from kanal.core.frame import SourceBatch, Strays
from kanal.core.types import Family

#: Bytes for which a text has room in columns; longer ones are read row by row.
_ROOM = 8_000
#: Texts declared with this many characters or fewer are not measured.
_SHORT = 250
#: Bytes of what is shown of a value that is no text.
_SHOWN = 100
_ROWS_AT_ONCE = 20_000
#: Rows that are asked of a driver at once.
_FETCHED = 500


def longest_texts(database: OdbcAccess, reading: Reading, columns: Sequence[ColumnInfo]) -> int | None:
    """Bytes of the longest text of some columns; None if they are to be read row by row.

    A driver cuts or refuses what has no room in its column's buffer, and says of a text without a declared length what
    it likes. So the server is asked.
    """
    if not database.can_read_columns or any(info.stored.family is Family.BINARY for info in columns):
        return None
    declared = [info.type.length or 0 for info in columns if info.type is not None]
    unknown = [info for info in columns if _may_be_long(info)]
    if unknown and not database.server.keeps_room:
        return None
    if not unknown:
        return max([_SHOWN, *(4 * length for length in declared)])
    place = sa.table(
        reading.table.name, *(sa.column(info.name) for info in reading.table.columns), schema=reading.table.schema
    )
    server = database.server
    longest = [sa.func.max(server.octets(server.delivered(place.c[info.name], info))) for info in unknown]
    try:
        row = database.found_by(sa.select(*longest))[0]
    except DatabaseError:
        return None
    most = max((int(value) for value in row if value is not None), default=0)
    return None if most > _ROOM else max([_SHOWN, most, *(4 * length for length in declared if length <= _SHORT)])


def _may_be_long(info: ColumnInfo) -> bool:
    if info.type is None:
        return True
    if info.type.family in (Family.TEXT, Family.JSON):
        return info.type.length is None or info.type.length > _SHORT
    return False


@contextlib.contextmanager
def in_columns(
    database: OdbcAccess, sql: str, columns: Sequence[ColumnInfo], reading: Reading, longest: int
) -> Iterator[Iterator[SourceBatch]]:
    """The batches of a query, read in columns by a connection of its own."""
    import arrow_odbc

    wanted = pa.schema([(info.name, _fetched_as(info)) for info in columns])
    encoding = arrow_odbc.TextEncoding.UTF8 if database.server.speaks_utf8 else arrow_odbc.TextEncoding.UTF16
    width = sum(_SHOWN if not _may_be_long(info) else longest + 1 for info in columns)
    rows = max(1, min(reading.batch_rows, _ROWS_AT_ONCE, reading.batch_bytes // max(1, width)))
    with failing(database):
        connection = arrow_odbc.connect(database.text, login_timeout_sec=round(database.connect_timeout or 15))
        for statement in database.server.session:
            connection.execute(statement)
        reader = connection.read_arrow_batches(
            query=sql, batch_size=rows, schema=wanted, max_text_size=longest, payload_text_encoding=encoding
        )

    def batches() -> Iterator[SourceBatch]:
        with failing(database):
            for batch in rebatched(reader, reading.batch_rows, reading.batch_bytes):
                yield _source_batch(columns, [batch.column(place) for place in range(len(columns))], batch.num_rows)

    yield batches()


def _fetched_as(info: ColumnInfo) -> pa.DataType:
    """As what a column is fetched: whole and floating numbers as such, all else as text."""
    return info.stored.arrow if info.stored.family in (Family.INTEGER, Family.DOUBLE) else pa.string()


@contextlib.contextmanager
def failing(database: OdbcAccess) -> Iterator[None]:
    """While this lasts, errors of the reader in columns become Kanal's."""
    import arrow_odbc

    try:
        yield
    except (arrow_odbc.Error, pa.ArrowException) as error:
        words = str(error)
        if "too large" in words or "truncat" in words.lower():
            words = "a text has become longer while it was read, and has no room; nothing was cut"
        state = words.partition("State: ")[2][:5]
        message = words.partition("Message: ")[2] or words
        passing = database.passes(RuntimeError(state, message)) or "longer while it was read" in words
        raise database.failed(" ".join(message.split()), passing) from None


def row_by_row(cursor: Any, sql: str, columns: Sequence[ColumnInfo], reading: Reading) -> Iterator[SourceBatch]:
    """The batches of a query, by the rows of a cursor of the driver."""
    cursor.execute(sql)
    while rows := fetched(cursor, reading.batch_rows, reading.batch_bytes, _FETCHED):
        values = zip(*rows, strict=True) if columns else ()
        arrays = [_array(info, list(found)) for info, found in zip(columns, values, strict=True)]
        yield _source_batch(columns, arrays, len(rows))


def _array(info: ColumnInfo, values: list[Any]) -> pa.Array:
    """Values of the driver, as the reader in columns would give them."""
    if info.stored.family is Family.BINARY:
        return pa.array([None if value is None else _bytes(value) for value in values], pa.binary())
    wanted = _fetched_as(info)
    if wanted == pa.string():
        return pa.array([None if value is None else _text(value) for value in values], pa.string())
    return pa.array([None if value is None else value for value in values], wanted)


def _bytes(value: Any) -> bytes:
    return value.encode() if isinstance(value, str) else bytes(value)


def _text(value: Any) -> str:
    if isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, dt.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, bytes | bytearray):
        return bytes(value).hex()
    return str(value)


def _source_batch(columns: Sequence[ColumnInfo], arrays: Sequence[pa.Array], rows: int) -> SourceBatch:
    found: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for info, values in zip(columns, arrays, strict=True):
        checked = valid_text(info.name, values, strays) if pa.types.is_string(values.type) else values
        found[info.name] = checked
    return SourceBatch(rows, found, strays)
