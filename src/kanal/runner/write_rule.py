"""What a write rule is; and the merge, on which all others that gather rows are built."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import ClassVar, cast

import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from kanal.connections.description import ForeignKey, TableInfo
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import (
    Conflict,
    HistoryColumns,
    Load,
    Merging,
    MovingLoad,
    Stage,
    StreamLoad,
    StreamWriter,
    Written,
)
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError
from kanal.definition import Pipeline
from kanal.runner.refusal_search import RefusalSearch
from kanal.runner.staged_rows import EncodedRows, Mask, Numbers, StagedRows, key_texts, numbers_of, taken_rows


class Exchange(Struct, frozen=True):
    """Up to where an exchange has carried the changes of a table: rows of one value, as the target stores it, of the
    column that holds when a row was changed. `ours` of the source's changes; `theirs` of the target's, and `settled` of
    those that none can come late of; None if nothing was carried yet."""

    ours: pa.RecordBatch | None
    theirs: pa.RecordBatch | None
    settled: pa.RecordBatch | None


class Writing(Struct, frozen=True):
    """How rows are written: the rule, the columns given, the key, and whether rows that are gone are deleted."""

    table: TableInfo
    settings: Pipeline
    columns: tuple[str, ...]
    key: tuple[str, ...]
    rule: type[WriteRule]
    delete_missing: bool = False
    #: True if a source without rows empties the table.
    empties_all: bool = False
    #: True if rows replace others of the same load.
    replacing: bool = False
    #: True if each batch is committed, so that its rows are written when it ends.
    by_batch: bool = False
    #: References that are filled in after later steps have loaded, and the key that identifies their rows.
    open_references: tuple[ForeignKey, ...] = ()
    filling_key: tuple[str, ...] = ()
    #: The columns of a history, if every version of a row is kept.
    history: HistoryColumns | None = None

    @property
    def last_wins(self) -> bool:
        """True if the last row of a key counts among all rows of a load."""
        return self.settings.duplicates == "last" and not self.by_batch

    @property
    def merging(self) -> Merging:
        """How rows are merged with the rows of the table."""
        settings = self.settings
        update, insert = settings.matched == "update", settings.not_matched == "insert"
        later = self.open_references, self.filling_key
        return Merging(
            self.table, self.columns, self.key, update, insert, settings.newer_by, *later, self.history, self.replacing
        )

    @property
    def inserting(self) -> Merging:
        """How rows are added to the rows of the table."""
        return Merging(self.table, self.columns, (), False, True, None, self.open_references, self.filling_key)


class WriteRule:
    """How rows are written into a table. The class states what is to be known before; an object is one load.

    Every row goes in by `write`, or by `replace` over one with its key; then comes `finish`.
    """

    #: Its name in a job.
    name: ClassVar[str]
    #: What the target must be able to do, and which rights its user needs.
    needs: ClassVar[frozenset[Writes]]
    rights: ClassVar[tuple[str, ...]] = ("insert",)
    #: True if a key identifies the rows.
    needs_key: ClassVar[bool] = False
    #: True if the target's rows are removed first.
    empties: bool = False
    #: True if loading the same rows again changes nothing.
    repeatable: ClassVar[bool] = True
    #: True if rows are collected and written by `finish`; and if they are then merged with existing rows by their key.
    gathers: ClassVar[bool] = False
    by_key: ClassVar[bool] = False
    #: True if every version of a row is kept.
    keeps_versions: ClassVar[bool] = False
    #: True if the database itself may insert all rows unchanged.
    inserts_all: ClassVar[bool] = False

    def __init__(self, load: Load, writing: Writing) -> None:
        self.load = load
        self.writing = writing
        self.writer = load.writer(writing.table)
        #: The run's moment, as a row of the one column from which the versions of a history are valid.
        self.moment: pa.RecordBatch | None = None
        #: In an exchange: how far either direction has loaded the table.
        self.exchange: Exchange | None = None
        #: What is worth knowing of the load.
        self.notes: list[str] = []
        self._encoded: EncodedRows | None = None
        self._merge: Merge | None = None
        #: Where rows go once the target has refused one.
        self._staged: StagedRows | None = None

    @classmethod
    def adding(cls) -> type[WriteRule]:
        """The rule that adds more rows to the rows written before."""
        return cls

    def begin(self) -> Written:
        """Make the target ready; rows removed by that are counted."""
        return Written()

    def encode(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        """A batch ready for `write`. Batches are encoded in order, while earlier ones are written."""
        del withdrawn
        direct = rows.num_rows and self._staged is None
        return EncodedRows(rows, self.writer.encode(rows) if direct else None)

    def encode_replacing(self, rows: pa.RecordBatch, withdrawn: Mask | None = None) -> EncodedRows:
        """Rows ready for `replace`."""
        return EncodedRows(rows, None, None, withdrawn)

    def write(self, encoded: EncodedRows) -> Written:
        """Write a batch, or put it by for `finish`; the places of refused rows count from 0 in the batch."""
        self._encoded = encoded
        if self._staged is not None:
            return self._write_staged(encoded.rows)
        rows = encoded.rows.num_rows
        if rows and not self.load.sifts_first(self.writing.table):
            with suppress(RowsRefused):
                return self._insert(0, rows)
        if rows and can_stage(self.load):
            self._staged = StagedRows(self.load, self.writing.inserting, "kanal_refused")
            return self._write_staged(encoded.rows)
        return RefusalSearch(self._insert)(0, rows)

    @property
    def may_send(self) -> bool:
        """True if batches may be sent before the target has confirmed earlier ones."""
        return (
            Writes.STREAM in self.load.target.writes
            and self._staged is None
            and not self.load.sifts_first(self.writing.table)
        )

    def send(self, encoded: EncodedRows) -> int | None:
        """Send a batch that `confirm` confirms later; its size in bytes, or None if it was not sent because earlier
        batches must be confirmed first."""
        if not encoded.rows.num_rows:
            return 0
        return cast(StreamWriter, self.writer).send(encoded.content)

    def confirm(self) -> None:
        """Wait until the sent batches are written; raises RowsRefused, with all of them rolled back."""
        cast(StreamLoad, self.load).confirm()

    def sent(self, encoded: EncodedRows) -> Written:
        """The counts of a batch that was sent and confirmed."""
        return Written(inserted=encoded.rows.num_rows)

    def _write_staged(self, rows: pa.RecordBatch) -> Written:
        staged = self._staged
        assert staged is not None
        if not rows.num_rows:
            return Written()
        encoded = staged.encode(rows)
        added = staged.add(encoded)
        written = staged.write()
        first = int(numbers_of(encoded)[0])
        written.refused = added.refused + [replace(row, place=row.place - first) for row in written.refused]
        return written

    def replace(self, encoded: EncodedRows) -> Written:
        """Write rows whose keys this load has written before, over those."""
        if self._merge is None:
            self._merge = Merge(self.load, replace(self.writing, replacing=True), stage="kanal_replace")
            self._merge.exchange = self.exchange
            self._merge.begin()
        before = self._merge.staged
        added = self._merge.write(self._merge.encode(encoded.rows, encoded.withdrawn))
        written = self._merge.finish()
        written.refused = added.refused + [replace(row, place=row.place - before) for row in written.refused]
        written.refused.sort(key=lambda row: row.place)
        return written

    def encode_some(self, encoded: EncodedRows, chosen: Mask) -> EncodedRows:
        """Some rows of an encoded batch, ready for `write`."""
        withdrawn = None if encoded.withdrawn is None else encoded.withdrawn[chosen]
        return self.encode(taken_rows(encoded.rows, chosen), withdrawn)

    def take_out(self, numbers: Numbers) -> None:
        """Remove waiting rows that are not to be written after all."""
        raise NotImplementedError

    @property
    def left_open(self) -> StagedRows | None:
        """Its rows, where some of their references are to be filled in once other steps have loaded."""
        return None

    def keep(self, rows: pa.RecordBatch) -> None:
        """Note rejected rows, whose keys exist in the source all the same."""

    def finish(self) -> Written:
        """Write what was put by; the places of refused rows count from 0 at the first row of the load."""
        return Written()

    def delete_rest(self) -> tuple[int, list[dict[str, str | None]]]:
        """Delete rows that could not be deleted before, because others referred to them; the number of deleted rows,
        and the keys of rows that stay."""
        return 0, []

    def move(self, source: TableInfo, names: Mapping[str, str]) -> Written | None:
        """Have the target's engine take all rows of a source's table by itself, by the source's column of each column;
        None if it does not, or refuses some of them."""
        if self.writing.open_references or self.load.sifts_first(self.writing.table):
            return None
        with suppress(RowsRefused):
            return Written(inserted=cast(MovingLoad, self.load).move(source, names, self.writing.table))
        return None

    def complete(self) -> None:
        """Do what is left to do once all rows are written; raises IndexesRefused."""

    def close(self) -> None:
        """Remove temporary tables of the load, since the transaction continues for other steps."""
        if self._merge is not None:
            self._merge.close()
        if self._staged is not None:
            self._staged.drop()

    def _insert(self, start: int, stop: int) -> Written:
        encoded = self._encoded
        assert encoded is not None
        if stop - start < encoded.rows.num_rows or encoded.content is None:
            encoded = self.encode(encoded.rows.slice(start, stop - start))
        refused = self.writer.insert(encoded.content)
        found = [replace(row, place=start + row.place) for row in refused]
        return Written(inserted=stop - start - len(found), refused=found)


class Merge(WriteRule):
    """ISO SQL's MERGE by the key: rows the target has are updated if they differ, others are inserted.

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
        self._kept: Stage | None = None
        self._keyless = 0
        self._deleted_missing = False
        #: The keys of the rows that came, if missing rows have to stay because others refer to them.
        self._keys: Stage | None = None
        self._settled: Stage | None = None

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

    def encode_some(self, encoded: EncodedRows, chosen: Mask) -> EncodedRows:
        return self.rows.encode_some(encoded, chosen)

    def take_out(self, numbers: Numbers) -> None:
        self.rows.take_out(numbers)

    def write(self, encoded: EncodedRows) -> Written:
        return self.rows.add(encoded)

    @property
    def may_send(self) -> bool:
        return Writes.STREAM in self.load.target.writes

    def send(self, encoded: EncodedRows) -> int | None:
        return self.rows.stage.send(encoded.content)

    def sent(self, encoded: EncodedRows) -> Written:
        return Written()

    def keep(self, rows: pa.RecordBatch) -> None:
        """Remember the keys of rejected rows, so that the target's rows of these keys are not taken for missing."""
        if self.writing.delete_missing:
            self._keep_keys(rows)

    def _keep_keys(self, rows: pa.RecordBatch) -> None:
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
        conflicts = self._conflicts()
        written.add(self.rows.write())
        refused = {row.place for row in written.refused}
        written.conflicting = [conflict for conflict in conflicts if conflict.place not in refused]
        written.conflicts = len(written.conflicting)
        return written

    def _conflicts(self) -> list[Conflict]:
        """The rows that were changed on both sides since the last exchange."""
        exchange = self.exchange
        if exchange is None or exchange.ours is None or exchange.theirs is None or not self.rows.waiting:
            return []
        self.rows.ready()
        ours, theirs = self._value("_ours", exchange.ours), self._value("_theirs", exchange.theirs)
        found: list[Conflict] = self.stage.conflicts(ours, theirs)
        for stage in (ours, theirs):
            stage.drop()
        schema = self.rows.schema
        return [
            replace(one, theirs={name: key_texts([value], schema, name)[0] for name, value in one.theirs.items()})
            for one in found
        ]

    def _value(self, suffix: str, row: pa.RecordBatch) -> Stage:
        """A stage of one row."""
        made = self._made(suffix, tuple(row.schema.names))
        made.add(made.encode(row))
        return made

    def delete_rest(self) -> tuple[int, list[dict[str, str | None]]]:
        """Delete what is missing, and could not be deleted before for what referred to it; how many rows, and the keys
        of those that stay."""
        if self._keys is None:
            return 0, []
        deleted, _ = self._keys.delete_unmatched(self._kept)
        left = self._keys.unmatched(self._kept)
        columns = [key_texts(values, self.rows.schema, name) for name, values in
                   zip(self.writing.key, zip(*left, strict=True), strict=False)]  # fmt: skip
        return deleted, [dict(zip(self.writing.key, key, strict=True)) for key in zip(*columns, strict=True)]

    def close(self) -> None:
        for stage in (self._rows, self._kept, self._keys, self._settled):
            if stage is not None:
                stage.drop()

    def delete_missing_of(self, portions: Sequence[Stage], kept: Sequence[Stage], keyless: int) -> Written:
        """Delete the target's rows whose keys no portion has; rejected rows have the others, or no usable key."""
        self._keyless = keyless
        stage = self._made("_all", self.writing.key)
        for portion in portions:
            stage.take_keys_of(portion)
        if kept:
            self._kept = self._made("_kept", self.writing.key)
            for portion in kept:
                self._kept.take_keys_of(portion)
        schema, self._rows = self.rows.schema, StagedRows(self.load, self.writing.merging, self._name, stage)
        self._rows.schema = schema
        self.rows.ready()
        return Written(deleted=self._delete_missing())

    def _check_keys(self) -> None:
        if self._keyless:
            raise KanalError(
                f"{self._keyless:,} rejected rows have no usable key, so which rows of {self.writing.table.name} the "
                "source no longer has cannot be told",
                'correct them, or leave them out by the query of the source, or set missing = "keep"',
            )

    def _source_is_empty(self) -> bool:
        """True for a source without rows, which is more likely a mistake than a deletion of all rows."""
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
        if self.exchange is not None:
            if self.exchange.settled is None:
                self.notes.append("nothing is deleted before the other way has loaded once")
                return 0
            self._settled = self._value("_settled", self.exchange.settled)
            self.stage.spare_newer(self._settled)
        try:
            deleted, all_gone = self.stage.delete_unmatched(self._kept)
        except RowsRefused as refusal:
            raise KanalError(
                f"rows of {name} that the source no longer has cannot be deleted: {refusal.what}",
                "correct what the target refuses",
            ) from None
        if not all_gone:
            # Merged rows leave the stage, so their keys are kept to find the missing rows.
            self._keys = self._made("_keys", self.writing.key)
            if self._settled is not None:
                self._keys.spare_newer(self._settled)
            self._keys.take_keys_of(self.stage)
        return deleted


def can_stage(load: Load) -> bool:
    """True if rows may wait in the target before they are written."""
    return Writes.MERGE in load.target.writes and load.may_stage()
