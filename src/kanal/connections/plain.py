"""A base for connections that are not SQL databases, with defaults for most methods."""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Collection, Hashable, Iterator, Sequence
from typing import Any, ClassVar

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.base import Column, Connection, OrdinarySource, TableMaker, Target
from kanal.connections.defaults import DefaultValue
from kanal.connections.description import About, ColumnInfo, ForeignKey, Right, RowCount, SpecialIndex, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.journal import Journal
from kanal.connections.loading import Load, Merging, RefusedRow
from kanal.connections.reading import Breaker, Reading
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.arrays import single
from kanal.core.errors import KanalError
from kanal.core.faults import Fault
from kanal.core.frame import Frame, SourceBatch
from kanal.core.nearest import did_you_mean
from kanal.core.types import BIGINT, SqlType


class PlainCatalogue:
    """A catalogue of tables that are known by name; a kind overrides `tables`, and `describe` if that is dear."""

    def __init__(self, connection: str) -> None:
        self.connection = connection

    def tables(self) -> dict[str, TableInfo]:
        """The tables that there are, by name."""
        return {}

    def about(self) -> About:
        """What is at the other end."""
        return About(self.connection, "", "")

    def rights(self, schema: str | None = None) -> list[Right]:
        """What the user may do: not known."""
        del schema
        return []

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        """Which of select, insert, update and delete the user may do to a table: not known."""
        del table
        return {}

    def table_names(self, schema: str | None = None) -> list[str]:
        """The names of the tables."""
        del schema
        return sorted(self.tables())

    def other_schemas(self) -> dict[str, int]:
        """Schemas: none."""
        return {}

    def other_databases(self) -> list[str]:
        """Databases next to this one: none."""
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        """The numbers of rows of tables: not known."""
        del schema, names
        return {}

    def has_table(self, schema: str | None, table: str) -> bool:
        """True if there is a table of that name, regardless of case."""
        return table.casefold() in {name.casefold() for name in self.table_names(schema)}

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """A table; raises DatabaseError if no table has that name."""
        for name, info in self.tables().items():
            if name.casefold() == table.casefold():
                return info
        names = self.table_names(schema)
        raise DatabaseError(
            f'There is no table "{table}" in connection {self.connection}',
            did_you_mean(table, names) or "there are no tables",
        )

    def describe_query(self, query: str) -> TableInfo:
        """The columns of a query; raises KanalError, since it has no queries."""
        del query
        raise lacks(self.connection, Reads.QUERY)

    def describe_files(self, pattern: str, form: Any, differ: str = "fail", lenient: bool = False) -> TableInfo:
        """The table of a pattern of files; raises KanalError, since it has no files."""
        del pattern, form, differ, lenient
        raise lacks(self.connection, Reads.FILES)

    def expect(self, schema: str | None, tables: Collection[str]) -> None:
        """Prepare to describe these tables."""

    def comment(self, table: TableInfo) -> str | None:
        """The comment of a table."""
        del table
        return None

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        """Indexes: none."""
        del table
        return []

    def special_indexes(self, table: TableInfo) -> list[SpecialIndex] | None:
        """None: it has no indexes."""
        del table
        return None


class PlainTables:
    """How tables are created if they have columns and no more: of any type, without references, and never changed."""

    refers_forward: ClassVar[bool] = True
    keeps_types: ClassVar[bool] = False
    indexes_long_texts: ClassVar[bool] = True

    def __init__(self, connection: str) -> None:
        self.connection = connection

    def like(self, taken: ColumnInfo, in_key: bool) -> ColumnInfo | None:
        """None: a column of any type is created by its SQL type."""
        del taken, in_key
        return None

    def new_column(self, name: str, sql_type: SqlType, nullable: bool, in_key: bool) -> ColumnInfo:
        """A column of a type."""
        del in_key
        return ColumnInfo(name, str(sql_type), sql_type, sql_type, nullable)

    def numbered(self, column: ColumnInfo) -> ColumnInfo:
        """The same: it numbers no rows."""
        return column

    def surrogate(self, table: str, name: str) -> ColumnInfo:
        """A column of whole numbers, since no place of this kind keeps a history."""
        del table
        return self.new_column(name, BIGINT, False, in_key=True)

    def default(self, column: ColumnInfo, value: DefaultValue) -> str | None:
        """None: it has no defaults."""
        del column, value
        return None

    def reference(self, table: TableInfo, key: ForeignKey) -> str:
        """Nothing: its tables refer to none."""
        del table, key
        return ""

    def refer(self, table: TableInfo, key: ForeignKey) -> None:
        """Nothing: its tables refer to none."""

    def create(self, table: TableInfo) -> None:
        """Make a table."""
        raise NotImplementedError

    def definitions(self, table: TableInfo) -> list[str]:
        """The SQL that creates a table: none."""
        del table
        return []

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        """What changes a column's type: nothing."""
        del table, column
        return None

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        """What adds a column; raises KanalError."""
        raise KanalError(f'{self.connection} has no column "{column.name}" of {table.name}', "create it again")

    def define(self, statements: Sequence[str]) -> None:
        """Change tables: none can be."""
        del statements


class PlainWriter:
    """Writes rows into one table of a PlainLoad."""

    def __init__(self, load: PlainLoad, table: TableInfo) -> None:
        self._load, self._table = load, table

    def encode(self, rows: pa.RecordBatch) -> Any:
        """The rows in the form that the load takes."""
        return self._load.encode(self._table, rows)

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        """Add rows; the refused ones."""
        return self._load.insert(self._table, encoded) or ()  # those of other packages may return nothing


class PlainLoad:
    """A load of a target that only takes rows, and knows neither keys nor SQL; it defines `insert` and `commit`."""

    def __init__(self, target: Target) -> None:
        self.target = target

    def for_run(self, number: int, step: str, moment: dt.datetime) -> None:
        """Note the run and the step that loads."""

    def can_empty(self, table: TableInfo) -> bool:
        """True: no table refers to it."""
        del table
        return True

    def count(self, table: TableInfo) -> int:
        """How many rows a table has; raises KanalError if that is not known."""
        raise lacks(self.target.name, Writes.DELETE)

    def empty(self, table: TableInfo) -> int:
        """Remove all rows; raises KanalError if they cannot be."""
        raise lacks(self.target.name, Writes.EMPTY)

    def writer(self, table: TableInfo) -> PlainWriter:
        """A writer for a table."""
        return PlainWriter(self, table)

    def encode(self, table: TableInfo, rows: pa.RecordBatch) -> Any:
        """The rows, unchanged."""
        del table
        return rows

    def insert(self, table: TableInfo, encoded: Any) -> Sequence[RefusedRow]:
        """Add rows."""
        raise NotImplementedError

    def stage(self, merging: Merging, columns: tuple[str, ...], name: str) -> Any:
        """Where rows wait to be merged; raises KanalError, since here they cannot be."""
        raise lacks(self.target.name, Writes.MERGE)

    def may_stage(self) -> bool:
        """False: rows are only added."""
        return False

    def sifts_first(self, table: TableInfo) -> bool:
        """False: no row is refused."""
        del table
        return False

    def check_at_once(self, keys: Sequence[ForeignKey]) -> None:
        """Does nothing: there are no foreign keys."""

    def defer(self, keys: Sequence[ForeignKey]) -> None:
        """Does nothing: there are no foreign keys."""

    def unlink(self, table: TableInfo, keys: Sequence[ForeignKey]) -> None:
        """Does nothing: there are no foreign keys."""

    def settle(self, table: TableInfo, columns: Sequence[str]) -> list[str]:
        """Does nothing: it does not number rows."""
        del table, columns
        return []

    def run_sql(self, sql: str) -> int:
        """Run SQL; raises KanalError."""
        raise lacks(self.target.name, Writes.SQL)

    def cancel(self) -> None:
        """Does nothing: no statement runs for long."""

    def verify(self) -> None:
        """Does nothing: no commit fails because of references."""

    def commit(self) -> None:
        """Make the rows visible."""
        raise NotImplementedError

    def close(self) -> None:
        """Forget the rows that are not committed."""


class PlainConnection(OrdinarySource):
    """A connection with the abilities that its class lists in `reads` and `writes`; a source defines `batches`."""

    reads: ClassVar[frozenset[Reads]] = frozenset()
    writes: ClassVar[frozenset[Writes]] = frozenset()
    drivers: ClassVar[frozenset[str]] = frozenset()
    folds_columns: ClassVar[bool] = False
    #: True if a load without commit leaves no traces.
    undoes: ClassVar[bool] = True

    def __init__(self, name: str) -> None:
        self.name = name

    @property
    def catalogue(self) -> PlainCatalogue:
        """Its tables."""
        raise NotImplementedError

    @property
    def identity(self) -> Hashable:
        """What two connections to one place have in common."""
        return id(self)

    @property
    def shown_url(self) -> str:
        """Where it is, without what may be secret."""
        return self.name

    @property
    def user(self) -> str | None:
        """Whose rights count: nobody's."""
        return None

    @property
    def lock(self) -> Any:
        """What is locked as a whole; nothing."""
        return None

    @property
    def missing_file(self) -> str | None:
        """The file that will be created: none."""
        return None

    @property
    def journal(self) -> Journal:
        """What it remembers; raises KanalError, since it remembers nothing."""
        raise lacks(self.name, Writes.REMEMBER)

    @property
    def ddl(self) -> TableMaker:
        """How tables are created; raises KanalError, since none are."""
        raise lacks(self.name, Writes.CREATE)

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        """Why a table takes no rows, and the remedy; None if it takes rows."""
        del table
        return None

    def may_be_made(self) -> None:
        """Allow it to be created."""

    def place_of(self, table: TableInfo) -> Hashable:
        """The identity of a table: equal for two descriptions of one table."""
        return self.identity, table.name.casefold()

    def has_parts(self, table: TableInfo) -> bool:
        """False: tables do not share rows."""
        del table
        return False

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True if a table shares rows with another one."""
        return self.place_of(table) == other.place_of(there)

    def shares_lock_with(self, other: Target, reading: Reading | None = None, table: TableInfo | None = None) -> bool:
        """False: reading does not block writing."""
        del other, reading, table
        return False

    def orders_exactly(self, column: ColumnInfo) -> bool:
        """True if the order of a column distinguishes all of its values."""
        del column
        return False

    def dispose(self) -> None:
        """Close all connections."""

    # --- as a source -----------------------------------------------------------------------------------------------

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        """The batches of a reading."""
        raise lacks(self.name, Reads.ROWS)

    @contextlib.contextmanager
    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        """The batches of a reading."""
        del within, breaker, connection
        yield self.batches(reading)

    def read_columns(
        self, table: TableInfo, columns: Sequence[str], within: Load | None = None, breaker: Breaker | None = None
    ) -> dict[str, Column]:
        """Whole columns of a table, each with the faults of values that are not of its type."""
        return whole_columns(self, table, columns, within, breaker)

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        """Connections that see the same state of a table; raises KanalError, since it cannot share states."""
        raise lacks(self.name, Reads.SPLIT)
        yield

    def bounds(self, table: TableInfo, column: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column; raises KanalError."""
        raise lacks(self.name, Reads.SPLIT)

    # --- as a target -----------------------------------------------------------------------------------------------

    def files_to_write(
        self, pattern: str, form: Any, table: TableInfo, partition_by: Sequence[str], file_rows: int | None, adds: bool
    ) -> TableInfo:
        """A table as files; raises KanalError, since it has no files."""
        raise lacks(self.name, Reads.FILES)

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        """The rows, unchanged."""
        del table
        return rows, []

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        """Values of a key column in a form in which values are equal if the column treats them as equal."""
        del table, name
        return values

    def may_refuse_emptying(self, table: TableInfo) -> bool:
        """True if a table cannot be emptied while rows of others refer to it: never."""
        del table
        return False


def whole_columns(
    source: Any, table: TableInfo, columns: Sequence[str], within: Load | None, breaker: Breaker | None
) -> dict[str, Column]:
    """Whole columns of a source's table, each with the faults of values that are not of its type."""
    types = {name: column.type for name, column in table.source_columns().items()}
    parts: dict[str, list[pa.Array]] = {name: [] for name in columns}
    faults: dict[str, list[Fault]] = {name: [] for name in columns}
    rows = 0
    with source.read(Reading(table, None, tuple(columns), 100_000), within, breaker) as batches:
        for batch in batches:
            if batch.bad_lines:  # a row that is not there would be a wrong answer
                bad = batch.bad_lines[0]
                raise DatabaseError(f"{bad.file}, line {bad.line}: {bad.wrong}", "correct it: it is looked up")
            frame = Frame(batch, types)
            for name in columns:
                parts[name].append(frame.column((None, name)))
                faults[name] += [replace(fault, row=rows + fault.row) for fault in frame.collect()]
            rows += batch.rows
    return {
        name: (
            single(pa.chunked_array(found, types[name].arrow)) if found else pa.array([], types[name].arrow),
            faults[name],
        )
        for name, found in parts.items()
    }
