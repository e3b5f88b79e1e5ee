"""The write rules: append, truncate and merge, each a small class with the same methods."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import sqlalchemy as sa

from kanal.core.errors import KanalError
from kanal.databases import TableInfo
from kanal.databases.errors import RowsRefused
from kanal.databases.load import Load
from kanal.definition import Pipeline

#: After so many rows in a row of which the target takes none, the load gives up.
HOPELESS = 200


#: Into so many parts a range is split in which a row is refused. With two, most rows would be written thrice.
PARTS = 16


class NothingTaken(KanalError):
    """The target refuses whatever it is given."""


@dataclass
class Written:
    """What became of rows: counts, and (place, the database's words) for each that the target refused."""

    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    deleted: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)

    def add(self, other: Written) -> None:
        """Add another's counts and refusals."""
        self.inserted += other.inserted
        self.updated += other.updated
        self.unchanged += other.unchanged
        self.deleted += other.deleted
        self.refused.extend(other.refused)

    @property
    def taken(self) -> int:
        """Rows that the target has now, by this write or before."""
        return self.inserted + self.updated + self.unchanged


class Search:
    """Writes ranges of rows; where the target refuses one, goes on around the offending rows.

    The database often says which row it refuses; else the range is parted until the row stands alone.
    """

    def __init__(self, write: Callable[[int, int], Written]) -> None:
        self._write = write
        self._anything_taken = False

    def __call__(self, start: int, stop: int) -> Written:
        """Write the rows from start to before stop; raises NothingTaken where the target takes none of many."""
        total = Written()
        ranges = [(start, stop)]
        while ranges:
            first, end = ranges.pop()
            if first >= end:
                continue
            try:
                done = self._write(first, end)
            except RowsRefused as refusal:
                if end - first == 1:
                    total.refused.append((first, refusal.what))
                    self._give_up_if_hopeless(total)
                    continue
                known = refusal.row is not None and 0 <= refusal.row < end - first
                if known:
                    bad = first + (refusal.row or 0)
                    total.refused.append((bad, refusal.what))
                    self._give_up_if_hopeless(total)
                    # Not all are known to be good before it: the target may look at rows in another order.
                    ranges += [(bad + 1, end), (first, bad)]
                else:
                    step = -(-(end - first) // PARTS)
                    ranges += [(part, min(part + step, end)) for part in reversed(range(first, end, step))]
                continue
            self._anything_taken = self._anything_taken or done.taken > 0
            total.add(done)
        total.refused.sort()
        return total

    def _give_up_if_hopeless(self, total: Written) -> None:
        if not self._anything_taken and len(total.refused) >= HOPELESS:
            raise NothingTaken(
                f"the target refused each of the first {len(total.refused):,} rows, the last of them with: "
                f"{total.refused[-1][1]}",
                "correct the mapping or the target; the load was given up",
            )


@dataclass(frozen=True)
class Writing:
    """How rows are written: the columns given, the key, and whether rows that the source no longer has are deleted."""

    table: TableInfo
    settings: Pipeline
    columns: tuple[str, ...]
    key: tuple[str, ...]
    delete_missing: bool = False
    #: True where each batch is committed, so that its rows are written when it ends.
    by_batch: bool = False


@dataclass(frozen=True)
class Packed:
    """Rows, and the same in the form in which the load inserts them."""

    rows: pa.RecordBatch
    content: Any


class Append:
    """Every row is inserted."""

    #: True where rows are put by, and written by `finish`.
    gathers: ClassVar[bool] = False

    def __init__(self, load: Load, writing: Writing) -> None:
        self.load = load
        self.writing = writing
        self.table = load.database.sa_table(writing.table)
        self._packed: Packed | None = None
        self._search = Search(self._insert)
        self._merge: Merge | None = None

    def begin(self) -> Written:
        """Make the target ready; rows removed by that are counted."""
        return Written()

    def pack(self, rows: pa.RecordBatch) -> Packed:
        """A batch ready for `write`. Batches are packed in order, beside the writing of those before."""
        return Packed(rows, self.load.pack(self.table, rows) if rows.num_rows else None)

    def pack_over(self, rows: pa.RecordBatch) -> Packed:
        """Rows ready for `replace`."""
        return Packed(rows, None)

    def write(self, packed: Packed) -> Written:
        """Write a batch, or put it by for `finish`; the places of refused rows count from 0 in the batch."""
        self._packed = packed
        return self._search(0, packed.rows.num_rows)

    def replace(self, packed: Packed) -> Written:
        """Write rows whose keys this load has written before, over those."""
        if self._merge is None:
            self._merge = Merge(self.load, self.writing, stage="kanal_replace")
            self._merge.begin()
        before = self._merge.staged
        self._merge.write(self._merge.pack(packed.rows))
        written = self._merge.finish()
        written.refused = [(row - before, words) for row, words in written.refused]
        return written

    def keep(self, rows: pa.RecordBatch) -> None:
        """Be told of rejected rows, whose keys the source has all the same."""

    def finish(self) -> Written:
        """Write what was put by; the places of refused rows count from 0 at the first row of the load."""
        return Written()

    def close(self) -> None:
        """Take away what was made for the load alone, where the transaction goes on for other steps."""
        if self._merge is not None:
            self._merge.close()

    def _insert(self, start: int, stop: int) -> Written:
        packed = self._packed
        assert packed is not None
        if stop - start < packed.rows.num_rows:
            packed = self.pack(packed.rows.slice(start, stop - start))
        self.load.insert(self.table, packed.content)
        return Written(inserted=stop - start)


class Truncate(Append):
    """The target is emptied in the transaction of the load, then every row is inserted."""

    def begin(self) -> Written:
        return Written(deleted=self.load.empty(self.table))


class Stage:
    """A temporary table of rows of the target's form, numbered as they come."""

    def __init__(self, load: Load, writing: Writing, name: str, columns: Sequence[str]) -> None:
        self.load = load
        self.columns = list(columns)
        self.table = load.create_stage(writing.table, self.columns, writing.key, name)
        #: The column that numbers the rows.
        self.number = list(self.table.c)[-1]
        #: Rows packed so far, which numbers the next.
        self.rows = 0

    def pack(self, rows: pa.RecordBatch) -> Packed:
        """Rows, numbered, ready to be put in."""
        numbers = pa.array(np.arange(self.rows, self.rows + rows.num_rows))
        self.rows += rows.num_rows
        arrays, names = [*(rows.column(name) for name in self.columns), numbers], [*self.columns, self.number.name]
        numbered = pa.RecordBatch.from_arrays(arrays, names=names)
        return Packed(rows, self.load.pack(self.table, numbered) if rows.num_rows else None)

    def add(self, packed: Packed) -> None:
        """Put rows in."""
        if packed.rows.num_rows:
            self.load.insert(self.table, packed.content)

    def clear(self) -> None:
        """Take all rows out."""
        self.load.execute(self.table.delete())


class Merge(Append):
    """ISO SQL's MERGE by the key: rows the target has are updated where they differ, others are inserted.

    The rows are gathered in a temporary table and merged by one statement for each thing to be done.
    """

    gathers = True

    def __init__(self, load: Load, writing: Writing, stage: str = "kanal_stage") -> None:
        super().__init__(load, writing)
        self._name = stage
        self._merged = 0
        self._replaced: Stage | None = None
        self._kept: Stage | None = None
        self._keyless = 0
        self._searching = False

    def begin(self) -> Written:
        self._stage = Stage(self.load, self.writing, self._name, self.writing.columns)
        self.stage = self._stage.table
        return Written()

    @property
    def staged(self) -> int:
        """Rows put by so far."""
        return self._stage.rows

    def pack(self, rows: pa.RecordBatch) -> Packed:
        return self._stage.pack(rows)

    def pack_over(self, rows: pa.RecordBatch) -> Packed:
        return super().pack_over(rows) if self.writing.by_batch else self.pack(rows)

    def write(self, packed: Packed) -> Written:
        self._stage.add(packed)
        return Written()

    def replace(self, packed: Packed) -> Written:
        """Put rows by in the place of those with the same keys."""
        if self.writing.by_batch:
            return super().replace(packed)
        if self._replaced is None:
            self._replaced = Stage(self.load, self.writing, f"{self._name}_replaced", self.writing.columns)
        self._replaced.add(self._replaced.pack(packed.rows))
        self.load.execute(self.stage.delete().where(self._in_stage(self.stage, self._replaced.table)))
        self._replaced.clear()
        return self.write(packed)

    def keep(self, rows: pa.RecordBatch) -> None:
        """Remember the keys of rejected rows, so that the target's rows of these keys are not taken for missing."""
        if not self.writing.delete_missing:
            return
        keys = pa.table({name: rows.column(name) for name in self.writing.key})
        usable = keys.drop_null()
        self._keyless += keys.num_rows - usable.num_rows
        if self._kept is None:
            self._kept = Stage(self.load, self.writing, f"{self._name}_kept", self.writing.key)
        for batch in usable.combine_chunks().to_batches():
            self._kept.add(self._kept.pack(batch))

    def finish(self) -> Written:
        written = Written()
        if self.staged > self._merged:
            self.load.settle_stage(self.stage)
        if self.writing.delete_missing:
            # First, since a row that goes may have a value that is unique and now another row's.
            written.deleted = self._delete_missing()
        written.add(Search(self._merge_rows)(self._merged, self.staged))
        self._merged = self.staged
        self._stage.clear()
        return written

    def close(self) -> None:
        for stage in (self._stage, self._replaced, self._kept):
            if stage is not None:
                self.load.drop_stage(stage.table)

    def _merge_rows(self, start: int, stop: int) -> Written:
        """Merge the rows with these numbers."""
        number = self._stage.number
        of_range: list[Any] = []
        if (start, stop) != (self._merged, self.staged):
            if not self._searching:
                self.load.index_rows(self.stage)
                self._searching = True
            of_range = [number >= start, number < stop]
        statements = [self._update_statement(of_range), self._insert_statement(of_range)]
        counts = iter(self.load.attempt(*(statement for statement in statements if statement is not None)))
        updated, inserted = (0 if statement is None else next(counts) for statement in statements)
        rows = stop - start
        if self._replaced is not None:
            rows = self.load.scalar(sa.select(sa.func.count()).select_from(self.stage).where(*of_range))
        if updated + inserted > rows:
            raise KanalError(
                f"{rows:,} rows were merged into {self.writing.table.name} and {updated:,} rows of it updated: "
                f"rows of the target share the key {', '.join(self.writing.key)}",
                "name a key that is unique in the target",
            )
        return Written(inserted=inserted, updated=updated, unchanged=rows - updated - inserted)

    def _same_key(self, one: sa.Table, other: sa.Table) -> list[Any]:
        return [one.c[name] == other.c[name] for name in self.writing.key]

    def _in_stage(self, table: sa.Table, stage: sa.Table) -> Any:
        """The condition that a stage has a row with the key of a table's row."""
        rows = sa.select(sa.literal(1)).select_from(stage).where(*self._same_key(table, stage))
        return sa.exists(rows.correlate(table))

    def _update_statement(self, of_range: list[Any]) -> Any:
        settings, key = self.writing.settings, self.writing.key
        others = [name for name in self.writing.columns if name not in key]
        if settings.matched == "keep" or not others:
            return None
        differs = self.load.database.differs
        changed = sa.or_(*(differs(self.table.c[name], self.stage.c[name]) for name in others))
        values = {name: self.stage.c[name] for name in others}
        same = self._same_key(self.table, self.stage)
        statement = self.table.update().values(values).where(*same, changed, *of_range)
        if settings.newer_by is not None:
            there, coming = self.table.c[settings.newer_by], self.stage.c[settings.newer_by]
            statement = statement.where(sa.or_(there.is_(None), coming > there))
        return statement

    def _insert_statement(self, of_range: list[Any]) -> Any:
        if self.writing.settings.not_matched == "ignore":
            return None
        rows = sa.select(*(self.stage.c[name] for name in self.writing.columns))
        rows = rows.where(~self._in_stage(self.stage, self.table), *of_range)
        return self.table.insert().from_select(list(self.writing.columns), rows, include_defaults=False)

    def _delete_missing(self) -> int:
        """Delete the target's rows whose key no row of the source has; how many."""
        if self._keyless:
            raise KanalError(
                f"{self._keyless:,} rejected rows have no usable key, so which rows of {self.writing.table.name} the "
                "source no longer has cannot be told",
                'correct them, or leave them out by the query of the source, or set missing = "keep"',
            )
        statement = self.table.delete().where(~self._in_stage(self.table, self.stage))
        if self._kept is not None:
            statement = statement.where(~self._in_stage(self.table, self._kept.table))
        try:
            (deleted,) = self.load.attempt(statement)
        except RowsRefused as refusal:
            raise KanalError(
                f"rows of {self.writing.table.name} that the source no longer has cannot be deleted: {refusal.what}",
                'remove what refers to them first, for instance in the same job with commit = "job"',
            ) from None
        return deleted


WRITE_RULES: dict[str, type[Append]] = {"append": Append, "truncate": Truncate, "merge": Merge}


def rule_for(load: Load, writing: Writing) -> Append:
    """The write rule of a pipeline.

    A table to be emptied, to whose rows others refer, is brought to the same contents row by row, where the database
    allows no reference to be open for a while.
    """
    rule = WRITE_RULES[writing.settings.write]
    if rule is Truncate and writing.key and not load.database.defers_references:
        database = load.database
        for other in database.referring(writing.table):
            if load.scalar(sa.select(sa.literal(1)).select_from(database.sa_table(other)).limit(1)):
                return Merge(load, replace(writing, delete_missing=True))
    return rule(load, writing)
