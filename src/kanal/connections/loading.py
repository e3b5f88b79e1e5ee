"""What a write rule may ask of a target: a load, which is a transaction, and a stage, where rows wait to be merged."""

from __future__ import annotations

import datetime as dt
from collections.abc import Hashable, Mapping, Sequence
from typing import Any, Protocol, Self

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from numpy.typing import NDArray

from kanal.connections.description import ForeignKey, TableInfo
from kanal.connections.roles import Writes
from kanal.core.tally import add_writes
from kanal.core.types import Family


class RefusedRow(Struct, frozen=True):
    """A row that the target did not take: its place, why, and where that is known the constraint that it breaks."""

    place: int
    words: str
    constraint: str | None = None
    columns: tuple[str, ...] = ()
    #: The foreign key that it breaks, if it is one.
    refers: ForeignKey | None = None


class DoubledRow(Struct, frozen=True):
    """A row of a portion whose key an earlier row has: which portion, and what tells its content."""

    portion: int
    content: int


class PortionRows(Struct, frozen=True):
    """How many rows of a portion were numbered, and how many are in: not those that its columns cannot hold."""

    numbered: int
    count: int


class Conflict(Struct, frozen=True):
    """A row that was changed on both sides: its place, whether it is the newer one, and what the target had in the
    columns that differ."""

    place: int
    newer: bool
    theirs: dict[str, Any]


class Written(Struct):
    """The result of writing rows: counts, and the refused rows."""

    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    withdrawn: int = 0
    deleted: int = 0
    closed: int = 0
    conflicts: int = 0
    refused: list[RefusedRow] = field(default_factory=list)
    conflicting: list[Conflict] = field(default_factory=list)

    def add(self, other: Written) -> None:
        """Add the counts and refused rows of another result."""
        add_writes(self, other)
        self.refused.extend(other.refused)
        self.conflicting.extend(other.conflicting)

    @property
    def taken(self) -> int:
        """The written rows that the target has now, new or not."""
        return self.inserted + self.updated + self.unchanged


class HistoryColumns(Struct, frozen=True):
    """Which columns of a table say from when until when a version of a row is valid, and whether it is the current one;
    and which columns are not kept as they were, but overwritten."""

    from_: str
    until: str
    current: str | None = None
    overwrite: tuple[str, ...] = ()


class Merging(Struct, frozen=True):
    """How staged rows meet those of a table: by which key, into which columns.

    `update` changes rows that are there and differ, with `newer_by` only those whose value in that column is less than
    the staged one; `insert` adds rows that are missing.
    """

    table: TableInfo
    columns: tuple[str, ...]
    key: tuple[str, ...]
    update: bool = True
    insert: bool = True
    newer_by: str | None = None
    #: References that are filled in later, and the key by which their rows are found then.
    open_references: tuple[ForeignKey, ...] = ()
    filling_key: tuple[str, ...] = ()
    #: The columns of a history, if every version of a row is kept.
    history: HistoryColumns | None = None
    #: True if a row replaces the whole other one, also a key that is equal but spelt otherwise.
    rewrites_key: bool = False

    @property
    def updated(self) -> list[str]:
        """The columns that an update changes."""
        texts = {
            column.name for column in self.table.columns if column.type is None or column.type.family is Family.TEXT
        }
        return [name for name in self.columns if name not in self.key or (self.rewrites_key and name in texts)]

    @property
    def filled_later(self) -> tuple[ForeignKey, ...]:
        """Of the open references those that can be empty, and are so at first; the others are checked at the commit."""
        columns = {column.name: column for column in self.table.columns}
        return tuple(key for key in self.open_references if all(columns[name].nullable for name in key.columns))

    @property
    def own_references(self) -> tuple[ForeignKey, ...]:
        """The foreign keys by which staged rows may refer to each other."""
        if self.history is not None:
            return ()
        return tuple(
            key
            for key in self.table.own_references
            if {*key.columns, *key.referred} <= set(self.columns) and not set(key.columns) & set(self.key)
        )


class Stage(Protocol):
    """Rows of a table's form that wait in the target, numbered from 0 as they come; seen by this load alone."""

    #: The number of rows encoded so far.
    rows: int
    #: A stage with the load's one moment, if a history closes missing rows at it.
    moment: Any

    def number_next(self, count: int) -> NDArray[np.int64]:
        """The numbers of the next rows."""

    def encode(
        self,
        rows: pa.RecordBatch,
        numbers: NDArray[np.int64] | None = None,
        withdrawn: NDArray[np.bool_] | None = None,
    ) -> Any:
        """Rows ready to be put in, with their numbers, by default the next ones. A withdrawn row deletes the
        table's row of its key."""

    def add(self, encoded: Any) -> None:
        """Put rows in; raises RowsRefused, with none of them in, for values that the table's columns cannot hold."""

    def send(self, encoded: Any) -> int | None:
        """As `add`, to a StreamLoad, which says by its `confirm` what becomes of the rows; otherwise as its `send`."""

    def clear(self) -> None:
        """Remove all rows; their numbers are not used again."""

    def take_keys_of(self, other: Self) -> None:
        """Add the keys of the rows of another stage."""

    def ready(self) -> None:
        """Called after all rows have come, before they are merged."""

    def ready_for_parts(self) -> None:
        """Called before parts of the rows are merged, many times."""

    def sift(self, first: int) -> list[RefusedRow]:
        """Take out the rows, from a number on, that break a constraint of the table, as far as it is known of all
        at once."""

    def take_out(self, numbers: Sequence[int]) -> None:
        """Remove rows by their numbers."""

    def open_ends(self) -> list[tuple[RefusedRow, tuple[Any, ...]]]:
        """The written rows that refer, by a reference that is filled in later, to a row that is not there: each with
        the values of its filling key."""

    def close_references(self) -> None:
        """Fill in the references that were left open; raises RowsRefused."""

    def merge(self, part: range, whole: bool, counted: bool) -> Written:
        """Merge the rows with these numbers, all or none; raises RowsRefused.

        `whole`: these are all that are in. `counted`: some were taken out again, so that they have to be counted.
        """

    def conflicts(self, ours: Self, theirs: Self) -> list[Conflict]:
        """The rows that differ from the table's of their key, if the staged one is newer than the one value of a
        stage, and the table's newer than that of the other."""

    def spare_newer(self, bound: Self) -> None:
        """Delete no row of the table that is newer than the one value of a stage."""

    def withdraw(self) -> Written:
        """Delete the table's rows of withdrawn keys, and take these out; refused are those to which others refer."""

    def delete_unmatched(self, kept: Self | None) -> tuple[int, bool]:
        """Delete the table's rows whose keys neither this stage nor the other has, but for those to which others refer;
        how many, and whether these are all."""

    def close_unmatched(self, kept: Self | None, moment: Self) -> int:
        """Of a history, end the current versions whose keys neither this stage nor the other has, at the one moment of
        a stage; how many."""

    def unmatched(self, kept: Self | None) -> list[tuple[Any, ...]]:
        """The keys of those rows of the table that could not be deleted."""

    def drop(self) -> None:
        """Drop it."""


class Portion(Stage, Protocol):
    """A stage that stays when its load is committed, for another load to publish its rows."""

    def hashes(self, rows: pa.RecordBatch) -> NDArray[np.uint64]:
        """Hashes of the content of rows, the same in every process."""

    def hashes_of(self, numbers: Sequence[int]) -> dict[int, int]:
        """The same, as signed numbers, of rows that are in, by their numbers."""


class TableWriter(Protocol):
    """Writes rows into one table within a load."""

    def encode(self, rows: pa.RecordBatch) -> Any:
        """A storable batch in the form that `insert` takes. May be called while the load does something else."""

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        """Insert an encoded batch; raises RowsRefused, with nothing of it inserted, if the target refuses a row.

        A target that takes rows one by one returns those that it refused; the others are inserted.
        """


class StreamWriter(TableWriter, Protocol):
    """Writes rows that the load confirms later, several batches at once."""

    def send(self, encoded: Any) -> int | None:
        """Send an encoded batch; its size in bytes. None if it was not sent, since it is of another form than the
        earlier ones, which have to be confirmed first."""


class LoadTarget(Protocol):
    """Where the rows of a load go."""

    @property
    def name(self) -> str:
        """The name of the connection."""

    @property
    def writes(self) -> frozenset[Writes]:
        """What it can do."""

    @property
    def identity(self) -> Hashable:
        """What two connections to one place have in common."""


class Load(Protocol):
    """One transaction on a target; what is not committed when it is closed is undone."""

    @property
    def target(self) -> LoadTarget:
        """Where the rows go."""

    def for_run(self, number: int, step: str, moment: dt.datetime) -> None:
        """Note the run, by its number and moment, and the step that loads."""

    def can_empty(self, table: TableInfo) -> bool:
        """False if rows of other tables refer to this one's, and no reference may be open for a while."""

    def count(self, table: TableInfo) -> int:
        """The number of rows of a table."""

    def empty(self, table: TableInfo) -> int:
        """Remove all rows of a table; their number."""

    def writer(self, table: TableInfo) -> TableWriter:
        """A writer for a table."""

    def stage(self, merging: Merging, columns: tuple[str, ...], name: str) -> Any:
        """A new, empty Stage for some of the columns of a merge."""

    def check_at_once(self, keys: Sequence[ForeignKey]) -> None:
        """Check these foreign keys for each row, although they are declared to be checked at the commit."""

    def defer(self, keys: Sequence[ForeignKey]) -> None:
        """Check these foreign keys only at the commit, if they can be deferred."""

    def unlink(self, table: TableInfo, keys: Sequence[ForeignKey]) -> None:
        """Before a table is emptied, have its rows refer to nothing by these keys, so that others can be emptied before
        it."""

    def sifts_first(self, table: TableInfo) -> bool:
        """True if bad rows have to be found before they are written: only the commit would notice them, or the whole
        transaction would end with the first."""

    def may_stage(self) -> bool:
        """True if rows may wait in a stage."""

    def settle(self, table: TableInfo, columns: Sequence[str]) -> list[str]:
        """Before the commit: have what numbers rows go on after the greatest values that were written; notes on what
        could not be done."""

    def run_sql(self, sql: str) -> int:
        """Run the statements of a text of the job; the number of changed rows."""

    def cancel(self) -> None:
        """Cancel a running statement from another thread, if the driver can."""

    def verify(self) -> None:
        """Raise KanalError if a commit would fail because of missing referenced rows."""

    def commit(self) -> None:
        """Make everything visible at once."""

    def close(self) -> None:
        """Undo everything that is not committed, and return the connection."""


class StreamLoad(Load, Protocol):
    """A transaction on a target that can be sent several batches before it says what it makes of them.

    Its writers send batches. Nothing else may be asked of it between the first one and `confirm`.
    """

    def confirm(self) -> None:
        """Wait for what becomes of all that was sent; raises RowsRefused, with nothing of it inserted, if the target
        refuses a row."""


class MovingLoad(Load, Protocol):
    """A transaction on a target whose engine can itself take rows from a source."""

    def move(self, source: TableInfo, names: Mapping[str, str], table: TableInfo) -> int:
        """Insert all rows of a source's table, by the source's column of each column; how many they are.

        Raises RowsRefused, with nothing inserted, if the target refuses a row, or a value Kanal does not have.
        """


class RebuildLoad(Load, Protocol):
    """A transaction on a target that rebuilds indexes."""

    def drop_indexes(self, table: TableInfo) -> Any:
        """Drop the indexes of a table with their keys; what `make_indexes` needs to create them again."""

    def make_indexes(self, dropped: Any) -> None:
        """Create them again; raises RowsRefused if rows break them."""


class PortionLoad(Load, Protocol):
    """A transaction on a target that takes portions."""

    def portion(self, merging: Merging, columns: tuple[str, ...], name: str, there: PortionRows | None = None) -> Any:
        """A new, empty Portion for some of the columns of a merge, or one that was committed; raises KanalError if
        that has other rows than it should."""

    def doubled(self, portions: Sequence[Any], columns: Sequence[str]) -> list[DoubledRow]:
        """The rows of portions whose values in some columns an earlier row has too."""


class SwapLoad(PortionLoad, Protocol):
    """A transaction on a target that exchanges tables."""

    def twin(self, table: TableInfo, name: str) -> TableInfo:
        """A new, empty table with the columns, keys and indexes of another one."""

    def exchange(self, table: TableInfo, twin: TableInfo) -> None:
        """Put a twin in the place of a table, which is dropped."""
