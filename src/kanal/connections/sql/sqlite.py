"""SQLite, read and written through its Arrow driver."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any, cast

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from msgspec.structs import replace

from kanal.connections.base import Connection
from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.loading import Load
from kanal.connections.reading import Breaker, Reading
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.file_database import FileDatabase
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.selects import Selects
from kanal.connections.sql.sqlite_access import SQLiteAccess
from kanal.connections.sql.sqlite_catalogue import SQLiteCatalogue
from kanal.connections.sql.sqlite_load import SQLiteLoad
from kanal.connections.sql.sqlite_rows import (
    EXACT_DIGITS,
    RowReader,
    affinity,
    own_form,
    quote,
    stored_form,
)
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch
from kanal.core.native import OwnForm
from kanal.core.types import Family, SqlType

#: Rows at once of a large file, if they are not counted.
_UNCOUNTED = 1_000


def type_to_make(sql_type: SqlType) -> Any:
    """The type of a column that holds every value of one of Kanal's."""
    # The declared name tells Kanal the type again, and SQLite the affinity.
    if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) > EXACT_DIGITS:
        return sa.Text()
    if sql_type.family in (Family.UUID, Family.JSON, Family.INTERVAL):
        return sa.Text()
    return NamedType("BLOB" if sql_type.family is Family.BINARY else str(sql_type).upper())


class SQLiteTableDefinitions(TableDefinitions):
    """The tables of a SQLite database."""

    database: SQLiteAccess
    refers_forward = True
    in_one_transaction = True

    def define(self, statements: Sequence[str]) -> None:
        if self.database.missing_file:
            self.database.path.touch()
        super().define(statements)

    def numbered(self, column: ColumnInfo) -> ColumnInfo:
        # The one INTEGER PRIMARY KEY is the row's number, of 64 bits.
        return replace(column, numbered=True, declared="INTEGER", dialect_type=NamedType("INTEGER"))

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        del in_key
        return type_to_make(sql_type)

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        return None


class SQLiteSelects(Selects):
    """What is asked for in another form than the column has."""

    def bytewise(self, column: Any) -> Any:
        return sa.collate(column, "BINARY")


class SQLite(SQLiteAccess, FileDatabase):
    """A SQLite file."""

    folds_columns = True

    @cached_property
    def catalogue(self) -> SQLiteCatalogue:
        return SQLiteCatalogue(self)

    @cached_property
    def ddl(self) -> SQLiteTableDefinitions:
        return SQLiteTableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> SQLiteSelects:
        return SQLiteSelects(self)

    def shares_lock_with(
        self, other: Connection, reading: Reading | None = None, table: TableInfo | None = None
    ) -> bool:
        del reading, table
        return isinstance(other, SQLite) and self.identity == other.identity

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        collation = self.catalogue._collations.get(table.name, {}).get(name.casefold(), "BINARY")
        if not pa.types.is_string(values.type) or collation == "BINARY":
            return values
        forms = {"NOCASE": pc.ascii_lower, "RTRIM": lambda texts: pc.utf8_rtrim(texts, " ")}
        if collation not in forms:
            raise DatabaseError(
                f"the key column {name} of {table.name} has the collation {collation}, of which Kanal does not know "
                "what it holds equal",
                "declare it with BINARY, NOCASE or RTRIM, or make the key of another column",
            )
        return forms[collation](values)

    @contextlib.contextmanager
    def _rows(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        del connection, breaker  # the driver cannot break off a statement
        connecting = self.arrow() if within is None else contextlib.nullcontext(cast(SQLiteLoad, within).arrow)
        with connecting as connected, connected.cursor() as cursor:
            rows = self._rows_at_once(cursor, reading)
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": str(rows)})
            yield RowReader(
                cursor, reading, self.catalogue._row_numbers.get(reading.table.name), self.driver_failure
            ).batches()

    def _rows_at_once(self, cursor: Any, reading: Reading) -> int:
        """How many rows the driver is to give at once, which cannot count their bytes: by the rows' mean size.

        That is at most the file's size by the number of rows. So a batch may be larger where few rows have nearly all.
        """
        size = self.path.stat().st_size
        number = self.catalogue._row_numbers.get(reading.table.name)
        if size <= 4 * reading.batch_bytes:
            return reading.batch_rows
        if number is None or reading.query is not None:
            return min(reading.batch_rows, _UNCOUNTED)
        cursor.execute(f"SELECT max({number}) FROM {quote(reading.table.name)}")
        rows = max(cursor.fetchall()[0][0] or 1, 1)
        return max(1, min(reading.batch_rows, reading.batch_bytes * rows // size))

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        columns = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            stored, found = stored_form(values, affinity(info.declared) if info else "blob", info)
            columns.append(stored)
            faults.extend((name, fault) for fault in found)
        return pa.RecordBatch.from_arrays(columns, names=rows.schema.names), faults

    def own_form(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> OwnForm | None:
        same = isinstance(target, SQLite) and column.declared.lower() == there.declared.lower()
        # Without a declared type on either side, the job has to say what the values are.
        return own_form if same and column.declared else None

    @contextlib.contextmanager
    def load(self) -> Iterator[SqlLoad]:
        with self.arrow() as connection:
            load = SQLiteLoad(self, self.catalogue, self, connection)
            try:
                yield load
            finally:
                load.close()
