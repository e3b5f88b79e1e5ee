"""What a connection is to the rest of Kanal: a place with tables, and what can be asked of it as source and target."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, ClassVar, Protocol, cast

import pyarrow as pa
from msgspec import Struct

from kanal.connections.defaults import DefaultValue
from kanal.connections.description import About, ColumnInfo, ForeignKey, Right, RowCount, TableInfo
from kanal.connections.loading import Load
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch

if TYPE_CHECKING:
    from kanal.connections.files.stores import FoundFile
    from kanal.connections.journal import Journal, LoadedFile
    from kanal.connections.reading import Breaker, Reading

#: The values of a column, and the faults of those that are none of its type.
Column = tuple[pa.Array, list[Fault]]


class Catalogue(Protocol):
    """What there is in a place."""

    def about(self) -> About:
        """What is at the other end; raises KanalError where it cannot be reached."""

    def rights(self, schema: str | None = None) -> list[Right]:
        """What the user may do, as far as can be told."""

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        """Which of select, insert, update and delete the user may do to a table; empty where that cannot be told."""

    def table_names(self, schema: str | None = None) -> list[str]:
        """The tables and views of a schema, or of the connection's own."""

    def other_schemas(self) -> dict[str, int]:
        """The schemas that have tables, and how many."""

    def other_databases(self) -> list[str]:
        """The databases that the server has."""

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        """How many rows tables have: counted, or estimated where counting is dear."""

    def has_table(self, schema: str | None, table: str) -> bool:
        """True where there is a table or view of that name, regardless of case."""

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """A table or view; raises KanalError where there is none of that name."""

    def describe_query(self, query: str) -> TableInfo:
        """The columns that a query gives."""

    def describe_files(self, pattern: str, form: Any, differ: str = "fail", lenient: bool = False) -> TableInfo:
        """The table that the files of a pattern make, in a format or that of their ending, and what is done with those
        whose columns differ; raises KanalError."""

    def expect(self, schema: str | None, tables: Collection[str]) -> None:
        """Be told which tables will be described."""

    def comment(self, table: TableInfo) -> str | None:
        """What the place was told of a table, for people."""

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        """The columns of each index of a table that is neither its key nor unique."""


class Connection(Protocol):
    """A named place that holds tables."""

    name: str
    #: What it can do as a source, and as a target; nothing where it is none.
    reads: ClassVar[frozenset[Reads]]
    writes: ClassVar[frozenset[Writes]]

    @property
    def catalogue(self) -> Catalogue:
        """What there is."""

    @property
    def identity(self) -> Hashable:
        """What two connections have in common that lead to one place, however each is written.

        Raises KanalError where the place must be asked, and cannot be reached.
        """

    @property
    def shown_url(self) -> str:
        """Where it is, without what may be secret."""

    @property
    def lock(self) -> Any:
        """What is locked as a whole, so that many may read it or one write it; None where rows are."""

    def place_of(self, table: TableInfo) -> Hashable:
        """What two descriptions of one table have in common."""

    def has_parts(self, table: TableInfo) -> bool:
        """True where rows of a table may be those of others too."""

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True where rows of a table are rows of another's too."""

    @property
    def missing_file(self) -> str | None:
        """The file that it is, where that is not there yet and will be made."""

    def may_be_made(self) -> None:
        """Be told that the job writes to it: a file that is not there is then made when the first table is."""

    def dispose(self) -> None:
        """Close what is open."""


class Digest(Struct, frozen=True):
    """How many rows there are, and a number made of their hashes, of which only those of one `kind` can be compared.

    Two tables that differ have the same one with a chance of about one in 2 to the 64th.
    """

    kind: Hashable
    rows: int
    number: int


class OrdinarySource:
    """What holds of most sources: Kanal reads their rows itself, and makes values of what was sent."""

    def carries(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> bool:
        """True where a target takes a column's values in the very form in which this source sends them."""
        del column, target, there
        return False

    def moves_to(self, target: Connection) -> bool:
        """True where the engine of a target can itself take rows from here."""
        del target
        return False

    def digest(self, table: TableInfo, columns: Sequence[str]) -> Digest | None:
        """What the engine itself makes of a table's rows; None where it cannot, or a row has a value that is none of
        Kanal's."""
        del table, columns
        return None


class Compared(Protocol):
    """A connection that knows how its columns compare texts."""

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        """The values of a key column, changed so that two are equal exactly if the table's column holds them equal.

        Raises KanalError if the column's collation is not known.
        """


class Source(Connection, Compared, Protocol):
    """A connection that rows are read from."""

    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> AbstractContextManager[Iterator[SourceBatch]]:
        """Batches of a table's or query's rows; as a load sees them, if given, or one connection of a snapshot.

        `breaker` is told how to break it off.
        """

    def read_columns(
        self, table: TableInfo, columns: Sequence[str], within: Load | None = None, breaker: Breaker | None = None
    ) -> dict[str, Column]:
        """Whole columns of a table, for a look-up, each with the faults of values that are none of its type."""

    def snapshot(self, table: TableInfo, count: int) -> AbstractContextManager[list[Any]]:
        """So many connections for `read` that see one and the same state of a table."""

    def bounds(self, table: TableInfo, column: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column; None in a table without any."""

    def orders_exactly(self, column: ColumnInfo) -> bool:
        """True where the order of a column's values tells all of them apart."""

    def carries(self, column: ColumnInfo, target: Target, there: ColumnInfo) -> bool:
        """True where a target takes a column's values in the very form in which this source sends them."""

    def moves_to(self, target: Target) -> bool:
        """True where the engine of a target can itself take rows from here, by `MovingLoad.move`."""

    def digest(self, table: TableInfo, columns: Sequence[str]) -> Digest | None:
        """What the engine itself makes of a table's rows; None where it cannot, or a row has a value that is none of
        Kanal's."""

    def shares_lock_with(self, other: Target, reading: Reading | None = None, table: TableInfo | None = None) -> bool:
        """True where reading from the one, or this reading from it, would hold up writing to a table of the other."""


class SharingSource(Source, Protocol):
    """A source whose present state others can see too, by its name."""

    def share_snapshot(self) -> AbstractContextManager[str]:
        """A name of the present state, by which others see it while this lasts."""

    def shared_snapshot(self, name: str) -> AbstractContextManager[Any]:
        """A connection for `read` that sees the state of that name."""


class FileSource(Source, Protocol):
    """A source whose tables are files."""

    def files_of(self, table: TableInfo) -> list[FoundFile]:
        """The files of a table as they are now, in their order; raises KanalError."""

    def with_files(self, table: TableInfo, files: Sequence[FoundFile]) -> TableInfo:
        """A table with some of its files."""

    def files_like(self, table: TableInfo, pattern: str) -> TableInfo:
        """The table of files of a pattern that are not there yet, and will be written as another table says."""

    def after_load(self, file: LoadedFile) -> str | None:
        """Move or delete a loaded file as its entry requires, if this is still to be done; a note if the file stays, or
        was moved because it cannot be read.

        Another file of the same name stays, and no file is overwritten. Raises KanalError.
        """


def _able(connection: Connection, ability: Reads | Writes) -> Any:
    """A connection that can do something; raises KanalError where it cannot."""
    if ability not in (connection.reads if isinstance(ability, Reads) else connection.writes):
        raise lacks(connection.name, ability)
    return connection


def as_file_source(connection: Connection) -> FileSource:
    """A connection as a source of files; raises KanalError where it is none."""
    return cast("FileSource", _able(connection, Reads.FILES))


def as_sharing(connection: Connection) -> SharingSource:
    """A connection as a source whose state others can see; raises KanalError where it is none."""
    return cast("SharingSource", _able(connection, Reads.SHARED))


def as_swapping(connection: Connection) -> SwapTarget:
    """A connection as a target that exchanges tables; raises KanalError where it does not."""
    return cast("SwapTarget", _able(connection, Writes.SWAP))


def as_rebuilding(connection: Connection) -> RebuildTarget:
    """A connection as a target that makes indexes anew; raises KanalError where it does not."""
    return cast("RebuildTarget", _able(connection, Writes.REBUILD))


def as_portioned(connection: Connection) -> PortionTarget:
    """A connection as a target that takes portions; raises KanalError where it does not."""
    return cast("PortionTarget", _able(connection, Writes.PORTIONS))


def as_source(connection: Connection) -> Source:
    """A connection as a source; raises KanalError where it is none."""
    return cast("Source", _able(connection, Reads.ROWS))


def as_target(connection: Connection) -> Target:
    """A connection as a target; raises KanalError where it is none."""
    return cast("Target", _able(connection, Writes.APPEND))


class TableMaker(Protocol):
    """How tables are made in a place."""

    def new_column(self, name: str, sql_type: Any, nullable: bool, in_key: bool) -> ColumnInfo:
        """A column of a table to be made, of a type that holds every value of a SQL type."""

    def numbered(self, column: ColumnInfo) -> ColumnInfo:
        """A column to be made, which numbers rows by itself."""

    def surrogate(self, table: str, name: str) -> ColumnInfo:
        """A column to be created that numbers the rows of a table by itself, and is its primary key."""

    def default(self, column: ColumnInfo, value: DefaultValue) -> str | None:
        """A default as it is written for a column to be made; None where there is none such."""

    def definitions(self, table: TableInfo) -> list[str]:
        """The SQL that makes a table and its indexes; nothing where there is no SQL."""

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        """What gives a table's column the type of another; None where that cannot be done in place."""

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        """What adds a column to a table."""

    def define(self, statements: Sequence[str]) -> None:
        """Carry out what makes or changes a table."""

    #: True where a table may refer to one that is not there yet.
    refers_forward: ClassVar[bool]

    def reference(self, table: TableInfo, key: ForeignKey) -> str:
        """The SQL that has a table refer to another."""

    def refer(self, table: TableInfo, key: ForeignKey) -> None:
        """Have a table refer to another."""

    def create(self, table: TableInfo) -> None:
        """Make a table with what belongs to it; all or nothing, where that is possible."""


class Target(Connection, Compared, Protocol):
    """A connection that rows are written to."""

    #: True where the columns of a table cannot have names that differ in case alone.
    folds_columns: ClassVar[bool]
    #: True where a load that is not committed leaves nothing.
    undoes: ClassVar[bool]

    @property
    def user(self) -> str | None:
        """Whose rights count, where there are users."""

    @property
    def ddl(self) -> TableMaker:
        """How tables are made."""

    @property
    def journal(self) -> Journal:
        """What it remembers of the loads into it; only of one that can."""

    def can_undo(self, sql: str) -> bool:
        """True where all that some SQL does is undone with the transaction that it runs in."""

    def files_to_write(
        self, pattern: str, form: Any, table: TableInfo, partition_by: Sequence[str], file_rows: int | None, adds: bool
    ) -> TableInfo:
        """A table as files of a pattern, divided by columns and in so many rows; with `adds`, beside those that are
        there. Raises KanalError where that cannot be."""

    def load(self) -> AbstractContextManager[Load]:
        """One transaction; it is undone unless it was committed."""

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        """The rows as they are stored here, and the faults of values that could not be held unchanged."""

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        """Why a table takes no rows, and what to do; None where it does."""

    def may_refuse_emptying(self, table: TableInfo) -> bool:
        """True where rows of other tables may refer to this one's, so that it cannot be emptied first."""


class PortionTarget(Target, Protocol):
    """A target in which the ranges of a source can wait, each in a table of its own, until all are published."""

    def drop_portions(self, table: TableInfo, prefix: str) -> list[str]:
        """Drop the portions whose names begin so, in the place of a table; their names."""


class RebuildTarget(Target, Protocol):
    """A target that can take a table's indexes away and make them again within a transaction."""

    def why_not_rebuilt(self, table: TableInfo) -> list[str]:
        """What would break or be lost if a table's indexes were made anew; nothing where they can be."""


class SwapTarget(PortionTarget, Protocol):
    """A target that can exchange a table for another within a transaction."""

    def why_not_swapped(self, table: TableInfo) -> list[str]:
        """What would break or be lost if a table were exchanged for a new one; nothing where it can be."""
