"""A database of any SQLAlchemy dialect: describe, read in batches, write in one transaction.

Other modules of this package state only how their database differs.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Hashable, Iterator, Sequence
from functools import cached_property
from typing import Any, ClassVar, cast

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.base import Column, Connection, OrdinarySource
from kanal.connections.batches import fetched
from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.loading import Load
from kanal.connections.plain import whole_columns
from kanal.connections.reading import Breaker, Reading, with_positions
from kanal.connections.roles import Reads, Writes, lacks
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.journal import SqlJournal
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.opening import SqlOpening
from kanal.connections.sql.selects import Selects
from kanal.connections.sql.statements import split_statements
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch
from kanal.core.types import (
    TEXT,
    Family,
    SqlType,
)


class SqlDatabase(SqlOpening, OrdinarySource):
    """A named connection to a SQL database, with its tables and rows."""

    #: True where a join of two whole tables is quick without an index of one.
    joins_whole: ClassVar[bool] = False
    #: True where rows of other tables may refer to rows that are missing, as long as they are there at the commit.
    defers_references: ClassVar[bool] = False
    #: True where what failed within a transaction can be undone by itself, to a savepoint.
    has_savepoints: bool = True
    reads: ClassVar[frozenset[Reads]] = frozenset(Reads) - {Reads.SPLIT, Reads.SHARED, Reads.FILES}
    writes: ClassVar[frozenset[Writes]] = frozenset(Writes) - {
        Writes.FILES, Writes.PORTIONS, Writes.SWAP, Writes.REBUILD, Writes.STREAM,
    }  # fmt: skip
    #: True where the columns of a table cannot have names that differ in case alone.
    folds_columns: ClassVar[bool] = False
    #: True where a load that is not committed leaves nothing.
    undoes: ClassVar[bool] = True

    #: True where a reference is checked as each row comes, and not at the end of the statement as ISO SQL has it.
    checks_each_row: ClassVar[bool] = False

    #: The name by which its SQL is parted into statements, and SQLAlchemy's dialect by which statements become text.
    sql_name: ClassVar[str | None] = None
    sql_dialect: ClassVar[Any] = None

    # --- its parts -------------------------------------------------------------------------------------------------

    @cached_property
    def catalogue(self) -> Catalogue:
        """What there is."""
        return Catalogue(self)

    @cached_property
    def ddl(self) -> TableDefinitions:
        """How tables are made."""
        return TableDefinitions(self)

    @cached_property
    def selects(self) -> Selects:
        """How rows are asked for."""
        return Selects(self)

    @cached_property
    def journal(self) -> SqlJournal:
        """What it remembers of the loads into it."""
        return SqlJournal(self)

    def compiled(self, statement: Any) -> str:
        """A statement made with SQLAlchemy as text."""
        return str(statement.compile(dialect=self.dialect_of_text, compile_kwargs={"literal_binds": True}))

    @property
    def dialect(self) -> Any:
        """SQLAlchemy's dialect, which knows how statements are written here."""
        return self.engine.dialect if self.sql_dialect is None else self.sql_dialect

    @cached_property
    def dialect_of_text(self) -> Any:
        """The same for statements that are run as text."""
        if self.sql_dialect is not None:
            return self.sql_dialect
        known = self.engine.dialect
        if getattr(known, "server_version_info", None) is None:
            self.connect().close()  # by which it learns what the server can do
        kind: Any = type(known)
        # With the placeholders of some drivers, SQLAlchemy doubles each % of a name.
        made = kind(paramstyle="named")
        made.server_version_info = getattr(known, "server_version_info", None)
        made.max_identifier_length = known.max_identifier_length
        return made

    def place_of(self, table: TableInfo) -> Hashable:
        """What two descriptions of one table have in common."""
        return self.identity, table.schema, table.name

    def has_parts(self, table: TableInfo) -> bool:
        """True where rows of a table may be those of others too."""
        del table
        return False

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True where rows of a table are rows of another's too."""
        return self.place_of(table) == other.place_of(there)

    def broken_constraint(self, error: BaseException) -> str | None:
        """The name of the constraint that a refused row breaks, where the database tells."""
        del error
        return None

    def refuses(self, error: exc.SQLAlchemyError) -> bool:
        """True for an error by which the target refuses a row, and not the connection.

        Drivers differ in what they call a broken constraint; what was not a row's fault is then refused for each row,
        and the load given up with the database's words.
        """
        lost = isinstance(error, exc.OperationalError | exc.InterfaceError)
        return isinstance(error, exc.DBAPIError) and not error.connection_invalidated and not lost

    def shares_lock_with(
        self, other: Connection, reading: Reading | None = None, table: TableInfo | None = None
    ) -> bool:
        """True where reading from the one, or this reading from it, would hold up writing to a table of the other."""
        del other, reading, table
        return False

    def scalar(self, query: sa.Executable) -> Any:
        """The one value that a query finds, None where there is none; outside of any load."""
        found = self.found_by(query)
        return found[0][0] if found else None

    def found_by(self, query: sa.Executable) -> list[tuple[Any, ...]]:
        """The rows that a query finds, outside of any load."""
        with self.errors(), self.connect() as connection:
            return [tuple(row) for row in connection.execute(query)]

    def rows_of(self, sql: str, **values: Any) -> list[Any]:
        """The rows that a question about the database itself finds."""
        with self.errors(), self.connect() as connection:
            return list(connection.execute(sa.text(sql), values))

    def sa_table(self, table: TableInfo) -> sa.Table:
        """SQLAlchemy's Table for a table, for composing statements."""
        columns = [
            sa.Column(
                column.name,
                column.dialect_type or sa.types.NullType(),
                autoincrement=False,
                info={"always": column.always},
            )
            for column in table.columns
        ]
        return sa.Table(table.name, sa.MetaData(), *columns, schema=table.schema)

    def differs(self, column: ColumnInfo, left: Any, right: Any) -> sa.ColumnElement[bool]:
        """The condition that two values of a column are not displayed alike; NULL is the same as NULL."""
        pairs = zip(self.exact(column, left), self.exact(column, right), strict=True)
        return sa.or_(*(one.is_distinct_from(other) for one, other in pairs))

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        """Forms of a column's value that are equal in SQL only if the value is displayed alike, under any collation.

        A dialect whose equality ignores a difference (case, blanks, the sign of zero) returns stricter forms.
        """
        del column
        return [value]

    def can_undo(self, sql: str) -> bool:
        """True where all that some SQL does is undone with the transaction that it runs in."""
        del sql
        return True

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        """Why a table takes no rows, and what to do; None where it does."""
        return (f'"{table.name}" is a view', "load the table behind it") if table.is_view else None

    def may_refuse_emptying(self, table: TableInfo) -> bool:
        """True where rows of other tables may refer to this one's, so that it cannot be emptied first."""
        return not self.defers_references and bool(self.catalogue.referring(table))

    def orders_exactly(self, column: ColumnInfo) -> bool:
        """True where the order of a column's values tells all of them apart."""
        return self.selects.bytewise(sa.column(column.name)) is not None

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        """Values of a key column in a form in which two are equal just where the table's column holds them equal.

        Raises DatabaseError where that cannot be told.
        """
        del table, name
        return values

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        """So many connections for `read` that see one and the same state of a table."""
        raise NotImplementedError
        yield

    @contextlib.contextmanager
    def share_snapshot(self) -> Iterator[str]:
        """A name of the present state, by which others can see it while this lasts."""
        raise NotImplementedError
        yield

    @contextlib.contextmanager
    def shared_snapshot(self, name: str) -> Iterator[Any]:
        """A connection for `read` that sees the state of that name."""
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
        """Drop the portions whose names begin so, in the place of a table; their names."""
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

    def break_off(self, driver: Any) -> None:
        """Break off what a connection of the driver is doing, by way of another; nothing where the driver cannot."""

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
        connecting = self.connect() if within is None else contextlib.nullcontext(cast(SqlLoad, within).connection)
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
        """Whole columns of a table, for a look-up, each with the faults of values that are none of its type."""
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
        return SqlLoad(self)

    def statements(self, sql: str) -> list[str]:
        """The statements of a command, as they are to be run one after the other."""
        return split_statements(sql, self.sql_name)

    def run_command(self, sql: str) -> int:
        """Run the statements of a command in one transaction; the number of rows that they changed."""
        with self.load() as load:
            rows = load.run_sql(sql)
            load.commit()
            return rows


#: Rows that are asked of a driver at once.
_FETCHED = 10


def _array(values: Sequence[Any], sql_type: SqlType) -> pa.Array:
    """Python values of a driver as an array of the type; as text where they do not agree with it."""
    if sql_type == TEXT and any(isinstance(value, dict | list) for value in values):
        values = [json.dumps(v, ensure_ascii=False) if isinstance(v, dict | list) else v for v in values]
    try:
        return pa.array(values, sql_type.arrow)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        return pa.array([None if value is None else str(value) for value in values], pa.string())
