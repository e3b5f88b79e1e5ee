"""What a connection is to the rest of Kanal: a place with tables, and what can be asked of it as source and target."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, ClassVar, Protocol, cast

import pyarrow as pa
from msgspec import Struct

from kanal.connections.defaults import DefaultValue
from kanal.connections.description import About, ColumnInfo, ForeignKey, Right, RowCount, SpecialIndex, TableInfo
from kanal.connections.loading import Load
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch
from kanal.core.native import OwnForm

if TYPE_CHECKING:
    from kanal.connections.files.stores import FoundFile
    from kanal.connections.journal import Journal, LoadedFile
    from kanal.connections.reading import Breaker, Reading

#: The values of a column, and the faults of those that are not of its type.
Column = tuple[pa.Array, list[Fault]]


class Catalogue(Protocol):
    """The tables of a place, and what its user may do."""

    def about(self) -> About:
        """The server and its version; raises KanalError if it cannot be reached."""

    def rights(self, schema: str | None = None) -> list[Right]:
        """What the user may do, as far as it is known."""

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        """Which of select, insert, update and delete the user may do to a table; empty if that is not known."""

    def table_names(self, schema: str | None = None) -> list[str]:
        """The tables and views of a schema, or of the connection's own."""

    def other_schemas(self) -> dict[str, int]:
        """The schemas that have tables, and how many."""

    def other_databases(self) -> list[str]:
        """The databases of the server."""

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        """The numbers of rows of tables: counted, or estimated if counting takes long."""

    def has_table(self, schema: str | None, table: str) -> bool:
        """True if there is a table or view of that name, regardless of case."""

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """A table or view; raises KanalError if no table has that name."""

    def describe_query(self, query: str) -> TableInfo:
        """The columns that a query gives."""

    def describe_files(self, pattern: str, form: Any, differ: str = "fail", lenient: bool = False) -> TableInfo:
        """The table that the files of a pattern make, in a format or that of their ending, and what is done with those
        whose columns differ; raises KanalError."""

    def expect(self, schema: str | None, tables: Collection[str]) -> None:
        """Prepare to describe these tables."""

    def comment(self, table: TableInfo) -> str | None:
        """The comment of a table."""

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        """The columns of each index of a table that is neither its key nor unique."""

    def special_indexes(self, table: TableInfo) -> list[SpecialIndex] | None:
        """All indexes of a table but its keys as its database defines them; None if lists of columns describe them."""


class Connection(Protocol):
    """A named place that holds tables."""

    name: str
    #: Its abilities as a source, and as a target; empty if it is not one.
    reads: ClassVar[frozenset[Reads]]
    writes: ClassVar[frozenset[Writes]]

    @property
    def catalogue(self) -> Catalogue:
        """Its tables."""

    @property
    def identity(self) -> Hashable:
        """What two connections have in common that lead to one place, however each is written.

        Raises KanalError if the place must be asked, and cannot be reached.
        """

    @property
    def shown_url(self) -> str:
        """Where it is, without what may be secret."""

    @property
    def lock(self) -> Any:
        """The file that is locked as a whole, so that many may read it or one may write it; None if rows are locked."""

    def place_of(self, table: TableInfo) -> Hashable:
        """The identity of a table: equal for two descriptions of one table."""

    def has_parts(self, table: TableInfo) -> bool:
        """True if a table may share rows with other tables."""

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True if a table shares rows with another one."""

    @property
    def missing_file(self) -> str | None:
        """The file that it is, if it does not exist yet and will be created."""

    def may_be_made(self) -> None:
        """Allow the file to be created, together with its first table."""

    def dispose(self) -> None:
        """Close all connections."""


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
        """True if a target takes the values of a column in the form in which this source sends them."""
        del column, target, there
        return False

    def own_form(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> OwnForm | None:
        """How every value of a column reaches a column of the same type as it is; None if Kanal's types do."""
        del column, target, there
        return None

    def moves_to(self, target: Connection) -> bool:
        """True if the engine of a target can itself take rows from here."""
        del target
        return False

    def digest(self, table: TableInfo, columns: Sequence[str]) -> Digest | None:
        """What the engine itself makes of a table's rows; None if it cannot, or a row has a value that is none of
        Kanal's."""
        del table, columns
        return None


class Compared(Protocol):
    """A connection whose columns may compare texts in their own way."""

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
        """Whole columns of a table, for a look-up, each with the faults of values that are not of its type."""

    def snapshot(self, table: TableInfo, count: int) -> AbstractContextManager[list[Any]]:
        """This many connections for `read` that see the same state of a table."""

    def bounds(self, table: TableInfo, column: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column; None in a table without any."""

    def orders_exactly(self, column: ColumnInfo) -> bool:
        """True if the order of a column distinguishes all of its values."""

    def carries(self, column: ColumnInfo, target: Target, there: ColumnInfo) -> bool:
        """True if a target takes the values of a column in the form in which this source sends them."""

    def own_form(self, column: ColumnInfo, target: Target, there: ColumnInfo) -> OwnForm | None:
        """How every value of a column reaches a column of the same type, in a database of the same kind, as it is;
        None if these are different types, or if Kanal's types hold every value."""

    def moves_to(self, target: Target) -> bool:
        """True if the engine of a target can itself take rows from here, by `MovingLoad.move`."""

    def digest(self, table: TableInfo, columns: Sequence[str]) -> Digest | None:
        """What the engine itself makes of a table's rows; None if it cannot, or a row has a value that is none of
        Kanal's."""

    def shares_lock_with(self, other: Target, reading: Reading | None = None, table: TableInfo | None = None) -> bool:
        """True if reading from this connection would block writing to a table of the other one."""


class SharingSource(Source, Protocol):
    """A source that can share its present state with other connections."""

    def share_snapshot(self) -> AbstractContextManager[str]:
        """A name of the present state, by which others see it while this lasts."""

    def shared_snapshot(self, name: str) -> AbstractContextManager[Any]:
        """A connection for `read` that sees the state with this name."""


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
    """A connection with an ability; raises KanalError if it does not have it."""
    if ability not in (connection.reads if isinstance(ability, Reads) else connection.writes):
        raise lacks(connection.name, ability)
    return connection


def as_file_source(connection: Connection) -> FileSource:
    """A connection as a source of files; raises KanalError if it is not."""
    return cast("FileSource", _able(connection, Reads.FILES))


def as_sharing(connection: Connection) -> SharingSource:
    """A connection as a source whose state others can see; raises KanalError if it is not."""
    return cast("SharingSource", _able(connection, Reads.SHARED))


def as_swapping(connection: Connection) -> SwapTarget:
    """A connection as a target that exchanges tables; raises KanalError if it does not."""
    return cast("SwapTarget", _able(connection, Writes.SWAP))


def as_rebuilding(connection: Connection) -> RebuildTarget:
    """A connection as a target that rebuilds indexes; raises KanalError if it cannot."""
    return cast("RebuildTarget", _able(connection, Writes.REBUILD))


def as_portioned(connection: Connection) -> PortionTarget:
    """A connection as a target that takes portions; raises KanalError if it does not."""
    return cast("PortionTarget", _able(connection, Writes.PORTIONS))


def as_source(connection: Connection) -> Source:
    """A connection as a source; raises KanalError if it is not."""
    return cast("Source", _able(connection, Reads.ROWS))


def as_target(connection: Connection) -> Target:
    """A connection as a target; raises KanalError if it is not."""
    return cast("Target", _able(connection, Writes.APPEND))


def share_types(source: Connection, target: Connection) -> bool:
    """True if a table created in the target can have the types of the source's columns: see `TableMaker.like`."""
    # By ODBC, a database of the same kind describes its types differently.
    one, other = ((type(place), getattr(place, "sql_name", None)) for place in (source, target))
    return one == other and bool(getattr(getattr(target, "ddl", None), "keeps_types", False))


class TableMaker(Protocol):
    """How tables are created in a place."""

    #: True if a column can be created with the type of one in another place of the kind: see `like`.
    keeps_types: ClassVar[bool]
    #: True if an index may be of texts of any length.
    indexes_long_texts: ClassVar[bool]

    def like(self, taken: ColumnInfo, in_key: bool) -> ColumnInfo | None:
        """A column to be created with exactly the type of one in another database of the same kind.

        None if this database cannot have it; `in_key` is true if it belongs to a primary or unique key.
        """

    def new_column(self, name: str, sql_type: Any, nullable: bool, in_key: bool) -> ColumnInfo:
        """A column of a table to be created, with a type that holds every value of a SQL type."""

    def numbered(self, column: ColumnInfo) -> ColumnInfo:
        """A column to be created, which numbers rows by itself."""

    def surrogate(self, table: str, name: str) -> ColumnInfo:
        """A column to be created that numbers the rows of a table by itself, and is its primary key."""

    def default(self, column: ColumnInfo, value: DefaultValue) -> str | None:
        """A default as it is written for a column to be created; None if there is none."""

    def definitions(self, table: TableInfo) -> list[str]:
        """The SQL that creates a table and its indexes; empty if the place has no SQL."""

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        """The SQL that changes the type of a column; None if it cannot be changed in place."""

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        """The SQL that adds a column to a table."""

    def define(self, statements: Sequence[str]) -> None:
        """Run the SQL that creates or changes a table."""

    #: True if a table may refer to one that is not there yet.
    refers_forward: ClassVar[bool]

    def reference(self, table: TableInfo, key: ForeignKey) -> str:
        """The SQL that adds a foreign key to a table."""

    def refer(self, table: TableInfo, key: ForeignKey) -> None:
        """Add a foreign key to a table."""

    def create(self, table: TableInfo) -> None:
        """Create a table with its indexes and comments; all or nothing, if possible."""


class Target(Connection, Compared, Protocol):
    """A connection that rows are written to."""

    #: True if the columns of a table cannot have names that differ in case alone.
    folds_columns: ClassVar[bool]
    #: True if a load without commit leaves no traces.
    undoes: ClassVar[bool]

    @property
    def user(self) -> str | None:
        """The user whose rights count, if there are users."""

    @property
    def ddl(self) -> TableMaker:
        """How tables are created."""

    @property
    def journal(self) -> Journal:
        """Its memory of the loads into it; only for targets with Writes.REMEMBER."""

    def can_undo(self, sql: str) -> bool:
        """True if the transaction undoes everything that some SQL does."""

    def files_to_write(
        self, pattern: str, form: Any, table: TableInfo, partition_by: Sequence[str], file_rows: int | None, adds: bool
    ) -> TableInfo:
        """A table as files of a pattern, divided by columns and in this many rows; with `adds`, next to those that are
        there. Raises KanalError if that cannot be."""

    def load(self) -> AbstractContextManager[Load]:
        """One transaction; it is undone unless it was committed."""

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        """The rows in the form that is stored here, and the faults of values that would be changed."""

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        """Why a table takes no rows, and the remedy; None if it takes rows."""

    def may_refuse_emptying(self, table: TableInfo) -> bool:
        """True if rows of other tables may refer to this one's, so that it cannot be emptied first."""


class PortionTarget(Target, Protocol):
    """A target in which the ranges of a source can wait, each in a table of its own, until all are published."""

    def drop_portions(self, table: TableInfo, prefix: str) -> list[str]:
        """Drop the portions with this prefix, next to a table; their names."""


class RebuildTarget(Target, Protocol):
    """A target that can rebuild the indexes of a table within a transaction."""

    def why_not_rebuilt(self, table: TableInfo) -> list[str]:
        """What would break or be lost by rebuilding the indexes of a table; empty if they can be rebuilt."""


class SwapTarget(PortionTarget, Protocol):
    """A target that can exchange a table for another within a transaction."""

    def why_not_swapped(self, table: TableInfo) -> list[str]:
        """What would break or be lost by exchanging a table for a new one; empty if it can be exchanged."""
