"""The write rules: append, truncate and merge, each a class that states its facts and asks its target for the rest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.connections import ForeignKey, TableInfo
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import HistoryColumns, Load, Merging, RefusedRow, Stage, Written
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError
from kanal.core.faults import texts_of
from kanal.core.rejects import target_row
from kanal.definition import Pipeline, Settings

#: After so many rows in a row of which the target takes none, the load gives up.
HOPELESS = 200


#: Into so many parts a range is split in which a row is refused. With two, most rows would be written thrice.
PARTS = 16


class NothingTaken(KanalError):
    """The target refuses whatever it is given."""


class RefusalSearch:
    """Writes ranges of rows; where the target refuses one, goes on around the offending rows.

    `sift` says which rows of a range are bad, as far as that can be told of all at once, and takes them out. Beyond
    that, the database often says which row it refuses; else the range is parted until the row stands alone.
    """

    def __init__(
        self, write: Callable[[int, int], Written], sift: Callable[[int, int], list[RefusedRow]] | None = None
    ) -> None:
        self._write = write
        self._sift = sift
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
                if self._sift is not None:
                    found, self._sift = self._sift(first, end), None
                    if found:
                        total.refused += found
                        if len(found) < end - first:
                            ranges.append((first, end))
                        else:
                            self._give_up_if_hopeless(total)
                        continue
                if end - first == 1:
                    total.refused.append(RefusedRow(first, refusal.what, refusal.constraint))
                    self._give_up_if_hopeless(total)
                    continue
                known = refusal.row is not None and 0 <= refusal.row < end - first
                if known:
                    bad = first + (refusal.row or 0)
                    total.refused.append(RefusedRow(bad, refusal.what, refusal.constraint))
                    self._give_up_if_hopeless(total)
                    # Not all are known to be good before it: the target may look at rows in another order.
                    ranges += [(bad + 1, end), (first, bad)]
                else:
                    step = -(-(end - first) // PARTS)
                    ranges += [(part, min(part + step, end)) for part in reversed(range(first, end, step))]
                continue
            self._anything_taken = self._anything_taken or done.taken > 0
            total.add(done)
        total.refused.sort(key=lambda row: row.place)
        return total

    def _give_up_if_hopeless(self, total: Written) -> None:
        if not self._anything_taken and len(total.refused) >= HOPELESS:
            raise NothingTaken(
                f"the target refused each of the first {len(total.refused):,} rows, the last of them with: "
                f"{total.refused[-1].words}",
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
    #: True where a source without rows leaves a table without rows.
    empties_all: bool = False
    #: True where each batch is committed, so that its rows are written when it ends.
    by_batch: bool = False
    #: References that are filled in once later steps have loaded, and the key by which their rows are found then.
    open_references: tuple[ForeignKey, ...] = ()
    filling_key: tuple[str, ...] = ()
    #: Where every version of a row is kept.
    history: HistoryColumns | None = None

    @property
    def merging(self) -> Merging:
        """How rows meet those that the table has."""
        settings = self.settings
        update, insert = settings.matched == "update", settings.not_matched == "insert"
        later = self.open_references, self.filling_key
        return Merging(self.table, self.columns, self.key, update, insert, settings.newer_by, *later, self.history)

    @property
    def inserting(self) -> Merging:
        """How rows are put beside those that the table has."""
        return Merging(self.table, self.columns, (), False, True, None, self.open_references, self.filling_key)


Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class EncodedRows:
    """Rows, and the same in the form in which the load inserts them."""

    rows: pa.RecordBatch
    content: Any
    #: Of rows that are put by, the number of the first.
    first: int = 0
    #: Which of them say that the target's rows of their keys are to go.
    withdrawn: Mask | None = None


class StagedRows:
    """Rows put by in a stage of the target, to be written all at once."""

    def __init__(self, load: Load, merging: Merging, name: str) -> None:
        self.stage: Stage = load.stage(merging, merging.columns, name)
        self._load = load
        #: True once rows were taken out, so that those left have to be counted.
        self.counted = False
        self._again = bool(merging.own_references)
        #: True where rows stay until their references are filled in.
        self.stays = bool(merging.open_references)
        if self.stays:
            later = merging.filled_later
            load.defer([key for key in merging.open_references if key not in later])
        self.schema: pa.Schema | None = None
        self._merging = merging
        self._written = 0
        self._ready = 0
        self._searching = False

    def encode(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        """A batch ready for `add`, with its numbers."""
        first = self.stage.rows
        self.schema = rows.schema
        if withdrawn is not None and withdrawn.any():
            self.counted = True
        return EncodedRows(rows, self.stage.encode(rows, withdrawn=withdrawn), first, withdrawn)

    def add(self, encoded: EncodedRows) -> Written:
        """Put a batch by; the places of rows that cannot be, since a value is none of its column's, count from 0."""

        def put(start: int, stop: int) -> Written:
            part = encoded.rows.slice(start, stop - start)
            gone = encoded.withdrawn[start:stop] if encoded.withdrawn is not None else None
            self.stage.add(self.stage.encode(part, encoded.first + start, gone))
            return Written(inserted=stop - start)

        try:
            self.stage.add(encoded.content)
        except RowsRefused:
            self.counted = True
            return Written(refused=RefusalSearch(put)(0, encoded.rows.num_rows).refused)
        return Written()

    def ready(self) -> None:
        """Called before what waits is looked at by SQL."""
        if self.waiting and self._ready < self.stage.rows:
            self.stage.ready()
            self._ready = self.stage.rows

    @property
    def waiting(self) -> bool:
        """True where rows have come since the last were written."""
        return self.stage.rows > self._written

    def write(self) -> Written:
        """Write what has come; the places of refused rows count from 0 at the first row of the stage."""
        self.ready()
        gone = self.stage.withdraw() if self.waiting else Written()
        found = self._sift(self._written, self.stage.rows) if self._load.checks_at_commit and self.waiting else []
        written = RefusalSearch(self._merge, self._sift)(self._written, self.stage.rows)
        written.refused += found
        written.add(gone)
        while self._again and written.refused and written.taken:
            # What a row refers to may have come in after it was tried.
            refused, written.refused, taken = written.refused, [], written.taken
            for row in refused:
                written.add(
                    RefusalSearch(self._merge)(row.place, row.place + 1) if not row.columns else Written(refused=[row])
                )
            if written.taken == taken:
                break
        self._written = self.stage.rows
        if self.stays:
            self.stage.take_out([row.place for row in written.refused])
        else:
            self.stage.clear()
        return written

    def open_ends(self) -> dict[str, RefusedRow]:
        """The rows that were written and refer to rows that did not come, by what `target_row` says of their keys."""
        found = self.stage.open_ends()
        names, table = self._merging.filling_key, self._merging.table.name
        values = zip(*(key for _, key in found), strict=True)
        columns = [_texts(column, self.schema, name) for name, column in zip(names, values, strict=False)]
        keys = (target_row(table, dict(zip(names, key, strict=True))) for key in zip(*columns, strict=True))
        return {key: row for key, (row, _) in zip(keys, found, strict=True) if key is not None}

    def close_references(self) -> None:
        """Have the rows refer to those that have come meanwhile."""
        self.stage.close_references()

    def drop(self) -> None:
        """Take it away."""
        self.stage.drop()

    def _merge(self, start: int, stop: int) -> Written:
        """Write the rows with these numbers."""
        whole = (start, stop) == (self._written, self.stage.rows) and not (self.stays and self._written)
        if not whole and not self._searching:
            self.stage.ready_for_parts()
            self._searching = True
        return self.stage.merge(range(start, stop), whole, self.counted)

    def _sift(self, start: int, stop: int) -> list[RefusedRow]:
        del stop
        found: list[RefusedRow] = self.stage.sift(start if self.stays else 0)
        self.counted = self.counted or bool(found)
        return found


def _texts(values: Sequence[Any], schema: pa.Schema | None, name: str) -> list[str | None]:
    """Values that a database gave of a column, as rejects show those that were written."""
    made = pa.array(values)
    if schema is not None and made.type != schema.field(name).type:
        with suppress(pa.ArrowException):
            made = made.cast(schema.field(name).type, safe=False)
    return texts_of(made)


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
    empties: bool = False
    #: True where to load the same rows again changes nothing.
    repeatable: ClassVar[bool] = True
    #: True where rows are put by, and written by `finish`; and where they then meet those that are there by their key.
    gathers: ClassVar[bool] = False
    by_key: ClassVar[bool] = False

    def __init__(self, load: Load, writing: Writing) -> None:
        self.load = load
        self.writing = writing
        #: The run's moment, as a row of the one column from which the versions of a history are valid.
        self.moment: pa.RecordBatch | None = None
        #: What is worth knowing of the load.
        self.notes: list[str] = []
        self._encoded: EncodedRows | None = None
        self._merge: Merge | None = None
        #: Where rows go once the target has refused one.
        self._staged: StagedRows | None = None

    @classmethod
    def adding(cls) -> type[WriteRule]:
        """The rule by which more rows are added to what it has written."""
        return cls

    def begin(self) -> Written:
        """Make the target ready; rows removed by that are counted."""
        return Written()

    def encode(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        """A batch ready for `write`. Batches are encoded in order, beside the writing of those before."""
        del withdrawn
        direct = rows.num_rows and self._staged is None
        return EncodedRows(rows, self.load.encode(self.writing.table, rows) if direct else None)

    def encode_replacing(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        """Rows ready for `replace`."""
        return EncodedRows(rows, None, 0, withdrawn)

    def write(self, encoded: EncodedRows) -> Written:
        """Write a batch, or put it by for `finish`; the places of refused rows count from 0 in the batch."""
        self._encoded = encoded
        if self._staged is not None:
            return self._write_staged(encoded.rows)
        if encoded.rows.num_rows and can_stage(self.load):
            if not self.load.checks_at_commit:
                try:
                    return self._insert(0, encoded.rows.num_rows)
                except RowsRefused:
                    pass
            self._staged = StagedRows(self.load, self.writing.inserting, "kanal_refused")
            return self._write_staged(encoded.rows)
        return RefusalSearch(self._insert)(0, encoded.rows.num_rows)

    def _write_staged(self, rows: pa.RecordBatch) -> Written:
        staged = self._staged
        assert staged is not None
        if not rows.num_rows:
            return Written()
        encoded = staged.encode(rows)
        added = staged.add(encoded)
        written = staged.write()
        written.refused = added.refused + [replace(row, place=row.place - encoded.first) for row in written.refused]
        return written

    def replace(self, encoded: EncodedRows) -> Written:
        """Write rows whose keys this load has written before, over those."""
        if self._merge is None:
            self._merge = Merge(self.load, self.writing, stage="kanal_replace")
            self._merge.begin()
        before = self._merge.staged
        self._merge.write(self._merge.encode(encoded.rows, encoded.withdrawn))
        written = self._merge.finish()
        written.refused = [replace(row, place=row.place - before) for row in written.refused]
        return written

    @property
    def left_open(self) -> StagedRows | None:
        """Its rows, where some of their references are to be filled in once other steps have loaded."""
        return None

    def keep(self, rows: pa.RecordBatch) -> None:
        """Be told of rejected rows, whose keys the source has all the same."""

    def finish(self) -> Written:
        """Write what was put by; the places of refused rows count from 0 at the first row of the load."""
        return Written()

    def delete_rest(self) -> tuple[int, list[dict[str, str | None]]]:
        """Delete what could not be deleted before, for what referred to it; how many rows, and the keys of those that
        stay."""
        return 0, []

    def close(self) -> None:
        """Take away what was made for the load alone, where the transaction goes on for other steps."""
        if self._merge is not None:
            self._merge.close()
        if self._staged is not None:
            self._staged.drop()

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
    rights: ClassVar[tuple[str, ...]] = ("select", "insert", "update")
    needs_key = True
    gathers = True
    by_key = True

    def __init__(self, load: Load, writing: Writing, stage: str = "kanal_stage") -> None:
        super().__init__(load, writing)
        self._name = stage
        self._rows: StagedRows | None = None
        self._replaced: Stage | None = None
        self._kept: Stage | None = None
        self._keyless = 0
        self._deleted_missing = False
        self._closed = 0
        #: The keys of the rows that came, where rows that did not have to stay for what refers to them.
        self._keys: Stage | None = None

    def begin(self) -> Written:
        self._rows = StagedRows(self.load, self.writing.merging, self._name)
        return Written()

    def _made(self, suffix: str, columns: tuple[str, ...]) -> Stage:
        made: Stage = self.load.stage(self.writing.merging, columns, self._name + suffix)
        return made

    @property
    def rows(self) -> StagedRows:
        """The rows that wait, once the load has begun."""
        assert self._rows is not None
        return self._rows

    @property
    def stage(self) -> Stage:
        """Where the rows wait, once the load has begun."""
        return self.rows.stage

    @property
    def left_open(self) -> StagedRows | None:
        return self.rows if self.rows.stays else None

    @property
    def staged(self) -> int:
        """Rows put by so far."""
        return self.stage.rows

    def encode(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        return self.rows.encode(rows, withdrawn)

    def encode_replacing(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        if self.writing.by_batch:
            return super().encode_replacing(rows, withdrawn)
        return self.encode(rows, withdrawn)

    def write(self, encoded: EncodedRows) -> Written:
        return self.rows.add(encoded)

    def replace(self, encoded: EncodedRows) -> Written:
        """Put rows by in the place of those with the same keys."""
        if self.writing.by_batch:
            return super().replace(encoded)
        if self._replaced is None:
            self._replaced = self._made("_replaced", self.writing.columns)
            self.rows.counted = True
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
        if self.writing.delete_missing and not self._deleted_missing:
            self._deleted_missing = True
            self.rows.ready()
            # First, since a row that goes may have a value that is unique and now another row's.
            written.deleted = self._delete_missing()
            written.closed = self._closed
        written.add(self.rows.write())
        return written

    def delete_rest(self) -> tuple[int, list[dict[str, str | None]]]:
        """Delete what is missing, and could not be deleted before for what referred to it; how many rows, and the keys
        of those that stay."""
        if self._keys is None:
            return 0, []
        deleted, _ = self._keys.delete_unmatched(self._kept)
        left = self._keys.unmatched(self._kept)
        columns = [_texts(values, self.rows.schema, name) for name, values in
                   zip(self.writing.key, zip(*left, strict=True), strict=False)]  # fmt: skip
        return deleted, [dict(zip(self.writing.key, key, strict=True)) for key in zip(*columns, strict=True)]

    def close(self) -> None:
        for stage in (self._rows, self._replaced, self._kept, self._keys):
            if stage is not None:
                stage.drop()

    def _check_keys(self) -> None:
        if self._keyless:
            raise KanalError(
                f"{self._keyless:,} rejected rows have no usable key, so which rows of {self.writing.table.name} the "
                "source no longer has cannot be told",
                'correct them, or leave them out by the query of the source, or set missing = "keep"',
            )

    def _source_is_empty(self) -> bool:
        """True for a source without rows, of which more is to be believed than that all rows are gone."""
        if self.staged or self._kept is not None or self.writing.empties_all:
            return False
        self.notes.append("the source had no rows, so none were deleted: set max_deletes to allow it")
        return True

    def _delete_missing(self) -> int:
        """Delete the target's rows whose key no row of the source has; how many."""
        name = self.writing.table.name
        self._check_keys()
        if self._source_is_empty():
            return 0
        try:
            deleted, all_gone = self.stage.delete_unmatched(self._kept)
        except RowsRefused as refusal:
            raise KanalError(
                f"rows of {name} that the source no longer has cannot be deleted: {refusal.what}",
                "correct what the target refuses",
            ) from None
        if not all_gone:
            # The rows are taken out of the stage when they are merged; what is missing is told by their keys.
            self._keys = self._made("_keys", self.writing.key)
            self._keys.take_keys_of(self.stage)
        return deleted


class GatheredInsert(Merge):
    """Rows whose table refers to itself are inserted all at once, so that their order does not matter."""

    name = "gathered"
    needs = Append.needs
    rights = Append.rights
    needs_key = False
    by_key = False
    repeatable = False

    def __init__(self, load: Load, writing: Writing) -> None:
        super().__init__(load, replace(writing, delete_missing=False))
        self.empties = writing.rule.empties

    def begin(self) -> Written:
        deleted = self.load.empty(self.writing.table) if self.empties else 0
        self._rows = StagedRows(self.load, self.writing.inserting, self._name)
        return Written(deleted=deleted)


class History(Merge):
    """Every version of a row is kept: a change ends the version that is valid at its moment, and begins another."""

    name = "history"

    def _delete_missing(self) -> int:
        self._check_keys()
        if self._source_is_empty():
            return 0
        assert self.writing.history is not None and self.moment is not None
        moment = self._made("_moment", (self.writing.history.from_,))
        moment.add(moment.encode(self.moment))
        self._closed = self.stage.close_unmatched(self._kept, moment)
        moment.drop()
        return 0


WRITE_RULES: dict[str, type[WriteRule]] = {rule.name: rule for rule in (Append, Truncate, Merge, History)}


def rule_of(settings: Settings) -> type[WriteRule]:
    """The write rule that a pipeline asks for."""
    return WRITE_RULES[settings.write]


def can_stage(load: Load) -> bool:
    """True where rows may wait in the target before they are written."""
    return Writes.MERGE in load.target.writes and load.may_stage()


def rule_for(load: Load, writing: Writing) -> WriteRule:
    """The write rule of a pipeline, for one load.

    A table to be emptied, to whose rows others refer, is brought to the same contents row by row, where the target
    allows no reference to be open for a while.
    """
    if writing.rule.empties and writing.key and not load.can_empty(writing.table):
        return Merge(load, replace(writing, delete_missing=True, empties_all=True))
    refers = writing.merging.own_references or writing.open_references
    if refers and not writing.rule.gathers and can_stage(load):
        return GatheredInsert(load, writing)
    return writing.rule(load, writing)
