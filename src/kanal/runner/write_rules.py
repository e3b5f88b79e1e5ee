"""The write rules: append, truncate and merge, each a class that states its facts and asks its target for the rest."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import pyarrow as pa

from kanal.connections import TableInfo
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import Load, Merging, Stage, Written
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError
from kanal.definition import Pipeline, Settings

#: After so many rows in a row of which the target takes none, the load gives up.
HOPELESS = 200


#: Into so many parts a range is split in which a row is refused. With two, most rows would be written thrice.
PARTS = 16


class NothingTaken(KanalError):
    """The target refuses whatever it is given."""


class RefusalSearch:
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
    """How rows are written: the rule, the columns given, the key, and whether rows that are gone are deleted."""

    table: TableInfo
    settings: Pipeline
    columns: tuple[str, ...]
    key: tuple[str, ...]
    rule: type[WriteRule]
    delete_missing: bool = False
    #: True where each batch is committed, so that its rows are written when it ends.
    by_batch: bool = False

    @property
    def merging(self) -> Merging:
        """How rows meet those that the table has."""
        settings = self.settings
        update, insert = settings.matched == "update", settings.not_matched == "insert"
        return Merging(self.table, self.columns, self.key, update, insert, settings.newer_by)


@dataclass(frozen=True)
class EncodedRows:
    """Rows, and the same in the form in which the load inserts them."""

    rows: pa.RecordBatch
    content: Any


class WriteRule:
    """How rows are written into a table. The class states what is to be known before; an object is one load.

    Every row goes in by `write`, or by `replace` over one with its key; then comes `finish`.
    """

    #: Its name in a job.
    name: ClassVar[str]
    #: What the target must be able to do, and which rights its user needs.
    needs: ClassVar[frozenset[Writes]]
    rights: ClassVar[tuple[str, ...]] = ("insert",)
    #: True where rows are told apart by a key.
    needs_key: ClassVar[bool] = False
    #: True where the target's rows are removed first.
    empties: ClassVar[bool] = False
    #: True where to load the same rows again changes nothing.
    repeatable: ClassVar[bool] = True
    #: True where rows are put by, and written by `finish`.
    gathers: ClassVar[bool] = False

    def __init__(self, load: Load, writing: Writing) -> None:
        self.load = load
        self.writing = writing
        self._encoded: EncodedRows | None = None
        self._merge: Merge | None = None

    @classmethod
    def adding(cls) -> type[WriteRule]:
        """The rule by which more rows are added to what it has written."""
        return cls

    def begin(self) -> Written:
        """Make the target ready; rows removed by that are counted."""
        return Written()

    def encode(self, rows: pa.RecordBatch) -> EncodedRows:
        """A batch ready for `write`. Batches are encoded in order, beside the writing of those before."""
        return EncodedRows(rows, self.load.encode(self.writing.table, rows) if rows.num_rows else None)

    def encode_replacing(self, rows: pa.RecordBatch) -> EncodedRows:
        """Rows ready for `replace`."""
        return EncodedRows(rows, None)

    def write(self, encoded: EncodedRows) -> Written:
        """Write a batch, or put it by for `finish`; the places of refused rows count from 0 in the batch."""
        self._encoded = encoded
        return RefusalSearch(self._insert)(0, encoded.rows.num_rows)

    def replace(self, encoded: EncodedRows) -> Written:
        """Write rows whose keys this load has written before, over those."""
        if self._merge is None:
            self._merge = Merge(self.load, self.writing, stage="kanal_replace")
            self._merge.begin()
        before = self._merge.staged
        self._merge.write(self._merge.encode(encoded.rows))
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
        encoded = self._encoded
        assert encoded is not None
        if stop - start < encoded.rows.num_rows:
            encoded = self.encode(encoded.rows.slice(start, stop - start))
        self.load.insert(self.writing.table, encoded.content)
        return Written(inserted=stop - start)


class Append(WriteRule):
    """Every row is inserted."""

    name = "append"
    needs = frozenset({Writes.APPEND})
    repeatable = False


class Truncate(WriteRule):
    """The target is emptied in the transaction of the load, then every row is inserted."""

    name = "truncate"
    needs = frozenset({Writes.APPEND, Writes.EMPTY})
    rights = ("insert", "delete")
    empties = True

    @classmethod
    def adding(cls) -> type[WriteRule]:
        return Append

    def begin(self) -> Written:
        return Written(deleted=self.load.empty(self.writing.table))


class Merge(WriteRule):
    """ISO SQL's MERGE by the key: rows the target has are updated where they differ, others are inserted.

    The rows are gathered in a stage of the target and merged all at once.
    """

    name = "merge"
    needs = frozenset({Writes.MERGE})
    rights = ("select", "insert", "update")
    needs_key = True
    gathers = True

    def __init__(self, load: Load, writing: Writing, stage: str = "kanal_stage") -> None:
        super().__init__(load, writing)
        self._name = stage
        self._stage: Stage | None = None
        self._replaced: Stage | None = None
        self._kept: Stage | None = None
        self._merged = 0
        self._keyless = 0
        self._searching = False
        self._deleted_missing = False

    def begin(self) -> Written:
        self._stage = self._made("", self.writing.columns)
        return Written()

    def _made(self, suffix: str, columns: tuple[str, ...]) -> Stage:
        made: Stage = self.load.stage(self.writing.merging, columns, self._name + suffix)
        return made

    @property
    def stage(self) -> Stage:
        """Where the rows wait, once the load has begun."""
        assert self._stage is not None
        return self._stage

    @property
    def staged(self) -> int:
        """Rows put by so far."""
        return self.stage.rows

    def encode(self, rows: pa.RecordBatch) -> EncodedRows:
        return EncodedRows(rows, self.stage.encode(rows))

    def encode_replacing(self, rows: pa.RecordBatch) -> EncodedRows:
        return super().encode_replacing(rows) if self.writing.by_batch else self.encode(rows)

    def write(self, encoded: EncodedRows) -> Written:
        self.stage.add(encoded.content)
        return Written()

    def replace(self, encoded: EncodedRows) -> Written:
        """Put rows by in the place of those with the same keys."""
        if self.writing.by_batch:
            return super().replace(encoded)
        if self._replaced is None:
            self._replaced = self._made("_replaced", self.writing.columns)
        self._replaced.add(self._replaced.encode(encoded.rows))
        self.stage.remove_keys_of(self._replaced)
        self._replaced.clear()
        return self.write(encoded)

    def keep(self, rows: pa.RecordBatch) -> None:
        """Remember the keys of rejected rows, so that the target's rows of these keys are not taken for missing."""
        if not self.writing.delete_missing:
            return
        keys = pa.table({name: rows.column(name) for name in self.writing.key})
        usable = keys.drop_null()
        self._keyless += keys.num_rows - usable.num_rows
        if self._kept is None:
            self._kept = self._made("_kept", self.writing.key)
        for batch in usable.combine_chunks().to_batches():
            self._kept.add(self._kept.encode(batch))

    def finish(self) -> Written:
        written = Written()
        if self.staged > self._merged:
            self.stage.ready()
        if self.writing.delete_missing and not self._deleted_missing:
            self._deleted_missing = True
            # First, since a row that goes may have a value that is unique and now another row's.
            written.deleted = self._delete_missing()
        written.add(RefusalSearch(self._merge_rows)(self._merged, self.staged))
        self._merged = self.staged
        self.stage.clear()
        return written

    def close(self) -> None:
        for stage in (self._stage, self._replaced, self._kept):
            if stage is not None:
                stage.drop()

    def _merge_rows(self, start: int, stop: int) -> Written:
        """Merge the rows with these numbers."""
        whole = (start, stop) == (self._merged, self.staged)
        if not whole and not self._searching:
            self.stage.ready_for_parts()
            self._searching = True
        return self.stage.merge(range(start, stop), whole, counted=self._replaced is not None)

    def _delete_missing(self) -> int:
        """Delete the target's rows whose key no row of the source has; how many."""
        name = self.writing.table.name
        if self._keyless:
            raise KanalError(
                f"{self._keyless:,} rejected rows have no usable key, so which rows of {name} the "
                "source no longer has cannot be told",
                'correct them, or leave them out by the query of the source, or set missing = "keep"',
            )
        try:
            return self.stage.delete_unmatched(self._kept)
        except RowsRefused as refusal:
            raise KanalError(
                f"rows of {name} that the source no longer has cannot be deleted: {refusal.what}",
                'remove what refers to them first, for instance in the same job with commit = "job"',
            ) from None


WRITE_RULES: dict[str, type[WriteRule]] = {rule.name: rule for rule in (Append, Truncate, Merge)}


def rule_of(settings: Settings) -> type[WriteRule]:
    """The write rule that a pipeline asks for."""
    return WRITE_RULES[settings.write]


def rule_for(load: Load, writing: Writing) -> WriteRule:
    """The write rule of a pipeline, for one load.

    A table to be emptied, to whose rows others refer, is brought to the same contents row by row, where the target
    allows no reference to be open for a while.
    """
    if writing.rule.empties and writing.key and not load.can_empty(writing.table):
        return Merge(load, replace(writing, delete_missing=True))
    return writing.rule(load, writing)
