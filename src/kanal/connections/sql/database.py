"""A database of any SQLAlchemy dialect: describe, read in batches, write in one transaction.

Other modules of this package state only how their database differs.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any, ClassVar

import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.base import Column, Connection, OrdinarySource
from kanal.connections.batches import fetched
from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.loading import Load
from kanal.connections.plain import whole_columns
from kanal.connections.reading import Breaker, Reading, with_positions
from kanal.connections.roles import Reads, Writes, lacks
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.journal import SqlJournal
from kanal.connections.sql.load import SqlLoad, sql_load
from kanal.connections.sql.selects import Selects
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch
from kanal.core.types import (
    TEXT,
    Family,
    SqlType,
)


class SqlDatabase(SqlAccess, OrdinarySource):
    """A named connection to a SQL database, with its tables and rows."""

    reads: ClassVar[frozenset[Reads]] = frozenset(Reads) - {Reads.SPLIT, Reads.SHARED, Reads.FILES}

    writes: ClassVar[frozenset[Writes]] = frozenset(Writes) - {
        Writes.FILES, Writes.PORTIONS, Writes.SWAP, Writes.REBUILD, Writes.STREAM,
    }  # fmt: skip

    #: True if the columns of a table cannot have names that differ in case alone.
    folds_columns: ClassVar[bool] = False

    #: True if a load without commit leaves no traces.
    undoes: ClassVar[bool] = True

    @cached_property
    def catalogue(self) -> Catalogue:
        """Its tables."""
        return Catalogue(self)

    @cached_property
    def ddl(self) -> TableDefinitions:
        """How tables are created."""
        return TableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> Selects:
        """The SELECT statements of a database."""
        return Selects(self)

    @cached_property
    def journal(self) -> SqlJournal:
        """Its memory of the loads into it."""
        return SqlJournal(self)

    def has_parts(self, table: TableInfo) -> bool:
        """True if a table may share rows with other tables."""
        del table
        return False

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True if a table shares rows with another one."""
        return self.place_of(table) == other.place_of(there)

    def shares_lock_with(
        self, other: Connection, reading: Reading | None = None, table: TableInfo | None = None
    ) -> bool:
        """True if reading from this connection would block writing to a table of the other one."""
        del other, reading, table
        return False

    def can_undo(self, sql: str) -> bool:
        """True if the transaction undoes everything that some SQL does."""
        del sql
        return True

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        """Why a table takes no rows, and the remedy; None if it takes rows."""
        return (f'"{table.name}" is a view', "load the table behind it") if table.is_view else None

    def may_refuse_emptying(self, table: TableInfo) -> bool:
        """True if rows of other tables may refer to this one's, so that it cannot be emptied first."""
        return not self.defers_references and bool(self.catalogue.referring(table))

    def orders_exactly(self, column: ColumnInfo) -> bool:
        """True if the order of a column distinguishes all of its values."""
        return self.selects.bytewise(sa.column(column.name)) is not None

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        """Values of a key column in a form in which two are equal just if the table's column holds them equal.

        Raises DatabaseError if that is not known.
        """
        del table, name
        return values

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        """This many connections for `read` that see the same state of a table."""
        raise NotImplementedError
        yield

    @contextlib.contextmanager
    def share_snapshot(self) -> Iterator[str]:
        """A name of the present state, by which others can see it while this lasts."""
        raise NotImplementedError
        yield

    @contextlib.contextmanager
    def shared_snapshot(self, name: str) -> Iterator[Any]:
        """A connection for `read` that sees the state with this name."""
        raise NotImplementedError
        yield

    def bounds(self, table: TableInfo, column: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column; None in a table without any."""
        place = self.sa_table(table)
        query = sa.select(sa.func.min(place.c[column]), sa.func.max(place.c[column]))
        info = table.column(column)
        if info is not None and info.type is not None and info.type.family is not Family.INTEGER:
            query = query.where(*self.selects.ordinary(place.c[column]))
        with self.errors(), self.connect() as connection:
            return tuple(connection.execute(query).one())

    def drop_portions(self, table: TableInfo, prefix: str) -> list[str]:
        """Drop the portions with this prefix, next to a table; their names."""
        self.catalogue.forget_names()
        names = [name for name in self.catalogue.table_names(table.schema) if name.startswith(prefix)]
        for name in names:
            gone = sa.schema.DropTable(sa.Table(name, sa.MetaData(), schema=table.schema), if_exists=True)
            self.run_command(self.ddl.definition(gone))
        if names:
            self.catalogue.forget_names()
        return names

    def change(self, statement: sa.Executable) -> int:
        """Run one statement and commit it; the number of rows that it changed."""
        with self.load() as load:
            rows = load.execute(statement)
            load.commit()
            return rows

    def end_session(self, session: str) -> None:
        """End a session of the server, as `SqlLoad.session` names it, if it is still there and may be ended."""

    @contextlib.contextmanager
    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        """Batches of a table's or query's rows, in one consistent snapshot; as a transaction sees them, if given.

        By one of the connections of `snapshot`, if given. `breaker` is told how to break it off.
        """
        with self._rows(reading, within, breaker, connection) as batches:
            yield with_positions(batches, reading) if reading.seeks and not reading.up_to else batches

    @contextlib.contextmanager
    def _rows(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        """Batches of a reading, as they come from the driver."""
        del connection, breaker
        types = {column.name: column.stored for column in reading.table.columns}
        connecting = self.connect() if within is None else contextlib.nullcontext(sql_load(within).connection)
        with self.errors(), connecting as connection:
            # For this statement alone: the options of a connection would hold for the rest of a transaction too.
            streaming = {"stream_results": True, "max_row_buffer": reading.batch_rows}
            result = connection.execute(self.selects.selection(reading), execution_options=streaming)

            def batches() -> Iterator[SourceBatch]:
                while rows := fetched(result, reading.batch_rows, reading.batch_bytes, _FETCHED):
                    columns = list(zip(*rows, strict=True))
                    yield SourceBatch(
                        len(rows),
                        {name: _array(columns[place], types[name]) for place, name in enumerate(reading.columns)},
                    )

            yield batches()

    def read_columns(
        self,
        table: TableInfo,
        columns: Sequence[str],
        within: Load | None = None,
        breaker: Breaker | None = None,
    ) -> dict[str, Column]:
        """Whole columns of a table, for a look-up, each with the faults of values that are not of its type."""
        return whole_columns(self, table, columns, within, breaker)

    def files_to_write(
        self, pattern: str, form: Any, table: TableInfo, partition_by: Sequence[str], file_rows: int | None, adds: bool
    ) -> TableInfo:
        """A table as files; raises KanalError, since a database has none."""
        raise lacks(self.name, Reads.FILES)

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        """The rows as this database takes them, and the faults of values that it could not hold unchanged."""
        del table
        return rows, []

    @contextlib.contextmanager
    def load(self) -> Iterator[SqlLoad]:
        """One transaction on this database; it is undone unless it was committed."""
        with self.errors():
            load = self.new_load()
        try:
            yield load
        finally:
            load.close()

    def new_load(self) -> SqlLoad:
        """A transaction that has begun."""
        return SqlLoad(self, self.catalogue, self)

    def run_command(self, sql: str) -> int:
        """Run the statements of a command in one transaction; the number of rows that they changed."""
        with self.load() as load:
            rows = load.run_sql(sql)
            load.commit()
            return rows


#: Rows that are asked of a driver at once.
_FETCHED = 10


def _array(values: Sequence[Any], sql_type: SqlType) -> pa.Array:
    """Python values of a driver as an array of the type; as text if they do not agree with it."""
    if sql_type == TEXT and any(isinstance(value, dict | list) for value in values):
        values = [json.dumps(v, ensure_ascii=False) if isinstance(v, dict | list) else v for v in values]
    try:
        return pa.array(values, sql_type.arrow)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        return pa.array([None if value is None else str(value) for value in values], pa.string())
