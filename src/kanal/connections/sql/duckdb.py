"""DuckDB, read and written in columns by its own driver."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any, cast

import numpy as np
import pyarrow as pa
import sqlalchemy as sa
from msgspec.structs import replace

from kanal.connections.base import Connection
from kanal.connections.batches import rebatched
from kanal.connections.description import ColumnInfo, Constraint, TableInfo
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import Load, RefusedRow
from kanal.connections.misfits import DAY, bounds_of_years, moment_texts
from kanal.connections.reading import Breaker, Reading
from kanal.connections.roles import Writes
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.duckdb_access import DuckDBAccess
from kanal.connections.sql.duckdb_catalogue import DuckDBCatalogue
from kanal.connections.sql.file_database import FileDatabase
from kanal.connections.sql.load import SqlLoad, sql_load
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.selects import Selects
from kanal.connections.sql.text_rows import cast_to_text
from kanal.connections.sql.writer import TableWriter
from kanal.core.arrays import valid_mask
from kanal.core.frame import SourceBatch, Strays
from kanal.core.native import OwnForm, native_texts, taken_as
from kanal.core.types import BIGINT, Family, SqlType

#: The name under which rows on their way are known to the database.
_ROWS = "kanal_rows"
#: Digits of a DECIMAL.
_DIGITS = 38
#: Types that hold each value which Kanal gives a column of them.
_CERTAIN = {
    "BIGINT", "INTEGER", "SMALLINT", "DOUBLE", "FLOAT", "BOOLEAN", "VARCHAR", "DATE", "TIME", "TIMESTAMP",
    "TIMESTAMP WITH TIME ZONE", "BLOB",
}  # fmt: skip
#: Families of which DuckDB has values outside the years 1 to 9999.
_OF_ANY_YEAR = frozenset({Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ})


class DuckDBTableDefinitions(TableDefinitions):
    """The tables of a DuckDB file."""

    keeps_types = True
    comments_apart = True
    in_one_transaction = True

    def like(self, taken: ColumnInfo, in_key: bool) -> ColumnInfo | None:
        del in_key
        if "UNION(" in taken.declared.upper():  # a text does not say of which kind its value is
            return None
        return replace(taken, dialect_type=NamedType(taken.declared))

    def checks_values(self, column: ColumnInfo) -> bool:
        return bool(column.values) and not column.declared.upper().startswith("ENUM")

    def numbered(self, column: ColumnInfo) -> ColumnInfo:
        return column  # a sequence of it could not go on after the greatest number that is loaded

    def surrogate(self, table: str, name: str) -> ColumnInfo:
        # Only a sequence numbers its rows, so no loaded number can be greater.
        sequence = self._quoted(f"{table}_{name}_seq").replace("'", "''")
        column = self.new_column(name, BIGINT, nullable=False, in_key=True)
        return replace(column, numbered=True, default=f"nextval('{sequence}')")

    def definitions(self, table: TableInfo) -> list[str]:
        sequences = [f"{table.name}_{column.name}_seq" for column in table.columns if column.numbered]
        return [f"CREATE SEQUENCE {self._quoted(name)}" for name in sequences] + super().definitions(table)

    def _quoted(self, name: str) -> str:
        return str(self.database.dialect.identifier_preparer.quote(name))

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        del in_key
        too_wide = sql_type.family is Family.DECIMAL and (sql_type.precision or 0) > _DIGITS
        if too_wide or sql_type.family in (Family.TEXT, Family.INTERVAL):
            return NamedType("VARCHAR")
        made = {"real": "FLOAT", "double precision": "DOUBLE", "binary": "BLOB"}
        return NamedType(made.get(sql_type.name) or str(sql_type).upper())


class DuckDBSelects(Selects):
    """What comes in another form than the column has."""

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        if info is None or (info.type is not None and info.type.family not in (Family.UUID, Family.JSON)):
            return column
        return sa.cast(column, NamedType("VARCHAR")).label(info.name)

    def bytewise(self, column: Any) -> Any:
        return sa.collate(column, "C")  # whatever the column's collation


class DuckDBWriter(TableWriter):
    """Writes rows as an Arrow table that the engine reads."""

    transaction: DuckDBLoad

    def encode(self, rows: pa.RecordBatch) -> Any:
        return pa.table({name: taken_as(rows.column(name)) for name in rows.schema.names})

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        quote = self.transaction.database.dialect.identifier_preparer
        names = encoded.schema.names
        columns = ", ".join(quote.quote(name) for name in names)
        driver = self.transaction.driver
        driver.register(_ROWS, encoded)
        try:
            self._check_values(encoded)
            with self.transaction.all_or_nothing():
                self.transaction.connection.exec_driver_sql(
                    f"INSERT INTO {quote.format_table(self.table)} ({columns}) SELECT {columns} FROM {_ROWS}"
                )
        finally:
            driver.unregister(_ROWS)
        return ()

    def _check_values(self, rows: pa.Table) -> None:
        """Raise RowsRefused for a value that is not of its column's type, of those that DuckDB only can judge."""
        quote = self.transaction.database.dialect.identifier_preparer.quote
        for name in rows.schema.names:
            declared = getattr(self.table.c[name].type, "text", "VARCHAR")
            from_text = pa.types.is_string(rows.schema.field(name).type) and declared != "VARCHAR"
            if not from_text and (declared in _CERTAIN or declared.startswith("DECIMAL")):
                continue
            column = quote(name)
            bad = self.transaction.database.ask(
                self.transaction.driver,
                f"SELECT CAST({column} AS VARCHAR) FROM {_ROWS} "
                f"WHERE {column} IS NOT NULL AND TRY_CAST({column} AS {declared}) IS NULL LIMIT 1",
            )
            if bad:
                raise RowsRefused(f'column {name}: "{bad[0][0]}" is no {declared}')


class DuckDBLoad(SqlLoad):
    """A transaction into which rows go as Arrow arrays. It does not outlive an error, so what the table would refuse is
    found before."""

    database: DuckDBAccess
    catalogue: DuckDBCatalogue

    def writer_of(self, table: sa.Table) -> DuckDBWriter:
        return DuckDBWriter(self, table)

    def begin(self) -> None:
        super().begin()
        self._constraints: dict[tuple[str | None, str], list[Constraint]] = {}

    @property
    def driver(self) -> Any:
        """The driver's connection."""
        return cast(Any, self.connection.connection.driver_connection).driver

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        return super().create_stage(table, columns, (), name)

    def constraints(self, table: TableInfo) -> list[Constraint]:
        place = table.schema, table.name
        if place not in self._constraints:
            self._constraints[place] = self.catalogue.constraints(*place)
        return self._constraints[place]

    def has_triggers(self, table: TableInfo) -> bool:
        return False

    def can_empty(self, table: TableInfo) -> bool:
        # A row to which another refers cannot go in the same transaction as that other (DuckDB's manual, "Indexes").
        return not self.catalogue.referring(table)

    def can_run(self, query: Any) -> bool:
        # To try would be the end of the transaction if it fails; then the step fails.
        del query
        return True

    def cancel(self) -> None:
        self.driver.interrupt()


class DuckDB(DuckDBAccess, FileDatabase):
    """A DuckDB file."""

    folds_columns = True
    writes = FileDatabase.writes - {Writes.UNLINK}

    @cached_property
    def catalogue(self) -> DuckDBCatalogue:
        return DuckDBCatalogue(self)

    @cached_property
    def ddl(self) -> DuckDBTableDefinitions:
        return DuckDBTableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> DuckDBSelects:
        return DuckDBSelects(self)

    @contextlib.contextmanager
    def _rows(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        import duckdb

        sql = self.compiled(self.selects.selection(reading))
        given = connection if within is None else sql_load(within).connection
        connecting = self.connect() if given is None else contextlib.nullcontext(given)
        types = {column.name: column.stored for column in reading.table.columns}
        with connecting as connected, contextlib.ExitStack() as stack:
            driver: Any = cast(Any, connected.connection.driver_connection).driver
            if breaker is not None:
                stack.enter_context(breaker.knows(driver.interrupt))

            def batches() -> Iterator[SourceBatch]:
                try:
                    reader = _reader(driver.sql(sql), reading.batch_rows)
                    for rows in rebatched(reader, reading.batch_rows, reading.batch_bytes):
                        yield _source_batch(rows, reading.columns, types)
                except (duckdb.Error, pa.ArrowException) as error:
                    raise self.failed(str(error)) from None

            yield batches()

    def own_form(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> OwnForm | None:
        if not isinstance(target, DuckDB) or column.declared != there.declared or column.type is None:
            return None
        return _own_form if column.type.family in _OF_ANY_YEAR or column.type.family is Family.JSON else None

    def new_load(self) -> SqlLoad:
        return DuckDBLoad(self, self.catalogue, self)


def _reader(result: Any, rows: int) -> Any:
    """The batches of a result, by the name that the driver's version has for them."""
    read = getattr(result, "to_arrow_reader", None) or result.fetch_record_batch
    return read(rows)


def _source_batch(rows: pa.RecordBatch, names: Sequence[str], types: dict[str, SqlType]) -> SourceBatch:
    """Rows as they came, in Kanal's types; moments outside the years 1 to 9999 are strays."""
    columns: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for place, name in enumerate(names):
        values, wanted = rows.column(place), types[name]
        if pa.types.is_dictionary(values.type):
            values = values.cast(pa.string())
        if wanted.family in _OF_ANY_YEAR:
            values = _moments(name, values, wanted, strays)
        columns[name] = values if values.type == wanted.arrow else values.cast(wanted.arrow)
    return SourceBatch(rows.num_rows, columns, strays)


def _own_form(values: pa.Array, strays: Strays) -> pa.Array:
    """A column's values as the text that DuckDB reads."""
    return native_texts(cast_to_text(values), strays)


def _moments(name: str, values: pa.Array, wanted: SqlType, strays: dict[str, Strays]) -> pa.Array:
    kind = pa.int32() if wanted.family is Family.DATE else pa.int64()
    unit = {"s": 1_000_000, "ms": 1_000}.get(getattr(values.type, "unit", ""), 1)
    numbers = values.cast(kind).fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)
    day = 1 if wanted.family is Family.DATE else DAY // unit
    low, high = bounds_of_years(day)
    beyond = valid_mask(values) & ((numbers < low) | (numbers >= high))
    if not beyond.any():
        return values
    largest = 2**31 - 1 if wanted.family is Family.DATE else 2**63 - 1
    shown = {largest: "infinity", -largest: "-infinity"}
    zone = "+00" if wanted.family is Family.TIMESTAMPTZ else ""

    def text(number: int) -> str:
        date, clock, before = moment_texts(number, day)
        return f"{date}{' (BC)' if before else ''} {clock}".rstrip() + zone

    strays[name] = {
        row: shown.get(int(numbers[row])) or text(int(numbers[row])) for row in np.flatnonzero(beyond).tolist()
    }
    keep = pa.array(np.where(beyond, 0, numbers), mask=beyond | ~valid_mask(values))
    return keep.cast(kind).cast(values.type)
