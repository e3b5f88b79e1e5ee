"""Arrow data of a Python program: as a source whatever has the Arrow PyCapsule interface, as a target Memory."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import threading
import weakref
from collections.abc import Hashable, Iterator, Sequence
from typing import Any

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.description import About, ColumnInfo, TableInfo
from kanal.connections.loading import RefusedRow
from kanal.connections.plain import PlainCatalogue, PlainConnection, PlainLoad, PlainTables
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads, Writes
from kanal.core.errors import KanalError
from kanal.core.frame import SourceBatch, Strays
from kanal.core.types import (
    BIGINT,
    BINARY,
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    JSON,
    REAL,
    SMALLINT,
    TEXT,
    TIME,
    TIMESTAMP,
    TIMESTAMPTZ,
    SqlType,
    decimal,
)

#: Streams whose rows were taken, by whatever run.
_READ: weakref.WeakSet[Any] = weakref.WeakSet()
#: The name of the one table of a source.
TABLE = "data"
_TYPES: list[tuple[Any, SqlType]] = [
    (pa.types.is_boolean, BOOLEAN),
    (lambda t: t in (pa.int8(), pa.int16(), pa.uint8()), SMALLINT),
    (lambda t: t in (pa.int32(), pa.uint16()), INTEGER),
    (lambda t: t in (pa.int64(), pa.uint32()), BIGINT),
    (lambda t: t == pa.uint64(), decimal(20, 0)),
    (lambda t: t in (pa.float16(), pa.float32()), REAL),
    (lambda t: t == pa.float64(), DOUBLE),
    (pa.types.is_date, DATE),
    (pa.types.is_time, TIME),
    (lambda t: pa.types.is_timestamp(t) and t.tz is not None, TIMESTAMPTZ),
    (pa.types.is_timestamp, TIMESTAMP),
    (pa.types.is_nested, JSON),
]


def sql_type(arrow: pa.DataType) -> SqlType:
    """The SQL type of an Arrow type; text if there is none of its own."""
    if isinstance(arrow, pa.ExtensionType | pa.BaseExtensionType):
        arrow = arrow.storage_type
    if pa.types.is_dictionary(arrow):
        arrow = arrow.value_type
    if pa.types.is_decimal(arrow):
        # Digits in front of the point, if the scale is negative.
        return decimal(arrow.precision - min(arrow.scale, 0), max(arrow.scale, 0))
    name = str(arrow)
    if "binary" in name:
        return BINARY
    return next((found for fits, found in _TYPES if fits(arrow)), TEXT)


class ArrowSource(PlainConnection):
    """Rows of a pyarrow Table or RecordBatchReader, a pandas DataFrame, or what has the Arrow PyCapsule interface.

    A stream, such as a RecordBatchReader, can be read once; everything else as often as it is asked for.
    """

    reads = frozenset({Reads.ROWS, Reads.SNAPSHOT})

    def __init__(self, name: str, data: Any) -> None:
        super().__init__(name)
        self._data = data
        self._lock = threading.Lock()
        self._schema: pa.Schema | None = None
        self._first: pa.RecordBatchReader | None = None
        self._is_stream = isinstance(data, pa.RecordBatchReader) or not _is_table(data)

    @property
    def catalogue(self) -> PlainCatalogue:
        return _SourceCatalogue(self)

    @property
    def identity(self) -> Hashable:
        return "arrow", id(self._data)

    def schema(self) -> pa.Schema:
        """The schema of the data; raises KanalError if it gives none."""
        with self._lock:
            if self._schema is None:
                self._first = self._stream()
                self._schema = self._first.schema
        return self._schema

    def _stream(self) -> pa.RecordBatchReader:
        data = self._data
        try:
            if isinstance(data, pa.RecordBatchReader):
                return data
            if isinstance(data, pa.Table):
                return data.to_reader()
            if hasattr(data, "__arrow_c_stream__"):
                if type(data).__module__.partition(".")[0] == "pandas":
                    return pa.Table.from_pandas(data, preserve_index=False).to_reader()
                return pa.RecordBatchReader.from_stream(data)
            return pa.Table.from_batches([pa.record_batch(data)]).to_reader()
        except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, TypeError, ValueError) as error:
            why = " ".join(str(error).split())[:300]
            raise KanalError(f"{self.name} cannot be read as a table: {why}", "give an Arrow table") from None

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        schema = self.schema()
        with self._lock:
            stream, self._first = self._first, None
            if self._is_stream and (stream is None or self._data in _READ):
                raise KanalError(
                    f"{self.name} is a stream, which has been read already",
                    "give a table, which can be read again",
                )
            if self._is_stream:
                _READ.add(self._data)
        stream = stream or self._stream()
        left = reading.limit
        places = [schema.names.index(name) for name in reading.columns]
        for batch in stream:
            most = max(1, min(reading.batch_rows, reading.batch_bytes * batch.num_rows // max(batch.nbytes, 1)))
            for start in range(0, batch.num_rows, most):
                rows = batch.slice(start, min(most, batch.num_rows - start))
                rows = rows if left is None else rows.slice(0, left)
                if rows.num_rows:
                    yield _source_batch(rows, places, reading.columns)
                if left is not None:
                    left -= rows.num_rows
                    if left <= 0:
                        return


def _is_table(data: Any) -> bool:
    """True for data that gives a stream each time that it is asked."""
    return isinstance(data, pa.Table | pa.RecordBatch) or type(data).__module__.partition(".")[0] != "pyarrow"


class _SourceCatalogue(PlainCatalogue):
    def __init__(self, source: ArrowSource) -> None:
        super().__init__(source.name)
        self._source = source

    def tables(self) -> dict[str, TableInfo]:
        schema = self._source.schema()
        doubled = next((name for name in schema.names if schema.names.count(name) > 1), None)
        if doubled is not None:
            raise KanalError(f'{self.connection} has two columns named "{doubled}"', "rename one of them")
        columns = tuple(
            ColumnInfo(field.name, str(field.type), found := sql_type(field.type), found, field.nullable, loose=True)
            for field in schema
        )
        return {TABLE: TableInfo(None, TABLE, columns)}

    def about(self) -> About:
        return About("Arrow", pa.__version__, "pyarrow")


def _source_batch(rows: pa.RecordBatch, places: Sequence[int], names: Sequence[str]) -> SourceBatch:
    columns: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for place, name in zip(places, names, strict=True):
        columns[name], found = as_stored(rows.column(place))
        if found:
            strays[name] = found
    return SourceBatch(rows.num_rows, columns, strays)


def as_stored(values: pa.Array) -> tuple[pa.Array, Strays]:
    """Values in the Arrow type of their SQL type, and those that it cannot hold, by row, as text."""
    if isinstance(values, pa.ExtensionArray):
        values = values.storage
    if pa.types.is_dictionary(values.type):
        values = values.dictionary_decode()
    wanted = sql_type(values.type)
    if wanted == JSON:
        texts = [None if value is None else _json(value) for value in values.to_pylist()]
        return pa.array(texts, pa.string()), {}
    if values.type == wanted.arrow:
        return values, {}
    if pa.types.is_null(values.type):
        return pa.nulls(len(values), wanted.arrow), {}
    if pa.types.is_duration(values.type) or pa.types.is_interval(values.type):
        return pa.array([None if value is None else str(value) for value in values.to_pylist()], pa.string()), {}
    try:
        return values.cast(wanted.arrow), {}
    except pa.ArrowInvalid:
        pass
    # Some are finer, or lie beyond: one by one, which the others need not suffer from.
    found: Strays = {}
    kept: list[Any] = []
    for row in range(len(values)):
        try:
            kept.append(values[row].cast(wanted.arrow).as_py())
        except pa.ArrowInvalid:
            kept.append(None)
            found[row] = str(values[row].cast(pa.string()).as_py())
    return pa.array(kept, wanted.arrow), found


def _json(value: Any) -> str:
    return json.dumps(_plain(value), ensure_ascii=False)


def _plain(value: Any) -> Any:
    """A nested value with what JSON has no form for as text."""
    if isinstance(value, dict):
        return {str(name): _plain(part) for name, part in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(part) for part in value]
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, dt.date | dt.time | dt.datetime | dt.timedelta) or not isinstance(
        value, str | int | float | bool | None
    ):
        return str(value)
    return value


class Memory:  # its marker tells the job's models what it is
    """A target in memory. After a run it has the rows that were loaded: `memory.table()`, or `run["step"].table()`.

    The columns are those of the mapping, of the Arrow types that represent their SQL types. A run with
    `write = "truncate"` replaces the rows, one with `"append"` adds to them; a run that fails leaves them as they were.
    """

    kanal_target = True

    def __init__(self) -> None:
        self._info: TableInfo | None = None
        self._batches: list[pa.RecordBatch] = []

    def table(self) -> pa.Table:
        """The rows; raises KanalError if nothing was loaded yet."""
        if self._info is None:
            raise KanalError("nothing was loaded into this memory yet", "run the job first")
        schema = pa.schema([
            pa.field(column.name, (column.type or TEXT).arrow, column.nullable) for column in self._info.columns
        ])  # fmt: skip
        arrays = [pa.chunked_array([_column(batch, field) for batch in self._batches], field.type) for field in schema]
        return pa.Table.from_arrays(arrays, schema=schema)

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        return self.table().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        return f"<Memory of {sum(batch.num_rows for batch in self._batches):,} rows>"


def _column(batch: pa.RecordBatch, field: pa.Field) -> pa.Array:
    if field.name not in batch.schema.names:
        return pa.nulls(batch.num_rows, field.type)
    return batch.column(field.name)


class MemoryTarget(PlainConnection):
    """A Memory, as a connection."""

    writes = frozenset({Writes.APPEND, Writes.EMPTY, Writes.CREATE})
    reads = frozenset({Reads.ROWS, Reads.SNAPSHOT})

    def __init__(self, name: str, memory: Memory) -> None:
        super().__init__(name)
        self.memory = memory

    @property
    def identity(self) -> Hashable:
        return "arrow", id(self.memory)

    @property
    def catalogue(self) -> PlainCatalogue:
        return _MemoryCatalogue(self)

    @property
    def ddl(self) -> _MemoryTables:
        """How its table is created."""
        return _MemoryTables(self)

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        return ArrowSource(self.name, self.memory.table()).batches(reading)

    def can_undo(self, sql: str) -> bool:
        """False: it takes no SQL."""
        del sql
        return False

    @contextlib.contextmanager
    def load(self) -> Iterator[MemoryLoad]:
        """A transaction: batches are kept apart until it is committed."""
        yield MemoryLoad(self)


class _MemoryCatalogue(PlainCatalogue):
    def __init__(self, target: MemoryTarget) -> None:
        super().__init__(target.name)
        self._memory = target.memory

    def tables(self) -> dict[str, TableInfo]:
        info = self._memory._info
        return {} if info is None else {info.name: info}


class _MemoryTables(PlainTables):
    """Makes the one table of a Memory, of the columns that a mapping gives."""

    def __init__(self, target: MemoryTarget) -> None:
        super().__init__(target.name)
        self._memory = target.memory

    def create(self, table: TableInfo) -> None:
        """Make the table."""
        self._memory._info = replace(table, foreign_keys=(), indexes=())


class MemoryLoad(PlainLoad):
    """One load into a Memory."""

    def __init__(self, target: MemoryTarget) -> None:
        super().__init__(target)
        self._memory = target.memory
        self._batches = list(target.memory._batches)

    def count(self, table: TableInfo) -> int:
        del table
        return sum(batch.num_rows for batch in self._batches)

    def empty(self, table: TableInfo) -> int:
        rows = self.count(table)
        self._batches = []
        return rows

    def insert(self, table: TableInfo, encoded: pa.RecordBatch) -> Sequence[RefusedRow]:
        del table
        self._batches.append(encoded)
        return ()

    def commit(self) -> None:
        self._memory._batches = self._batches
