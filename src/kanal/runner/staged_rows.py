"""Rows on their way into a target: how they are to be written, encoded for that, and put by to be written at once."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from numpy.typing import NDArray

from kanal.connections.errors import RowsRefused
from kanal.connections.loading import Load, Merging, RefusedRow, Stage, Written
from kanal.core.faults import texts_of
from kanal.core.rejects import target_row
from kanal.runner.refusal_search import RefusalSearch

Mask = NDArray[np.bool_]
Numbers = NDArray[np.int64]


class EncodedRows(Struct, frozen=True):
    """Rows, also in the form that the load inserts."""

    rows: pa.RecordBatch
    content: Any
    #: The numbers of rows that wait in a stage.
    numbers: Numbers | None = None
    #: The rows whose keys are to be deleted in the target.
    withdrawn: Mask | None = None


def numbers_of(encoded: EncodedRows) -> Numbers:
    """The numbers of rows that wait in a stage."""
    assert encoded.numbers is not None
    return encoded.numbers


def taken_rows(rows: pa.RecordBatch, chosen: Mask) -> pa.RecordBatch:
    """The chosen rows."""
    return rows if chosen.all() else rows.take(pa.array(np.flatnonzero(chosen)))


class StagedRows:
    """Rows put by in a stage of the target, to be written all at once."""

    def __init__(self, load: Load, merging: Merging, name: str, stage: Stage | None = None) -> None:
        """In a new stage of that name, or in one that is given, which may have rows that wait."""
        self.stage: Stage = load.stage(merging, merging.columns, name) if stage is None else stage
        self._load = load
        #: True once rows were taken out, so that those left have to be counted.
        self.counted = False
        self._again = bool(merging.own_references)
        #: True if rows stay until their references are filled in.
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
        self.schema = rows.schema
        if withdrawn is not None and withdrawn.any():
            self.counted = True
        numbers = self.stage.number_next(rows.num_rows)
        return EncodedRows(rows, self.stage.encode(rows, numbers, withdrawn), numbers, withdrawn)

    def encode_some(self, encoded: EncodedRows, chosen: Mask) -> EncodedRows:
        """Some rows of a batch, ready for `add`, with the numbers that they have."""
        self.counted = True
        rows, numbers = taken_rows(encoded.rows, chosen), numbers_of(encoded)[chosen]
        withdrawn = None if encoded.withdrawn is None else encoded.withdrawn[chosen]
        return EncodedRows(rows, self.stage.encode(rows, numbers, withdrawn), numbers, withdrawn)

    def take_out(self, numbers: Numbers) -> None:
        """Take out rows that are not to be written after all."""
        self.counted = True
        self._ready_for_parts()
        self.stage.take_out([*numbers.tolist(), *(-1 - numbers).tolist()])

    def add(self, encoded: EncodedRows) -> Written:
        """Add a batch to the stage; the places of refused rows, whose values do not fit their columns, count from 0."""

        def put(start: int, stop: int) -> Written:
            part = encoded.rows.slice(start, stop - start)
            gone = encoded.withdrawn[start:stop] if encoded.withdrawn is not None else None
            self.stage.add(self.stage.encode(part, numbers_of(encoded)[start:stop], gone))
            return Written(inserted=stop - start)

        content = encoded.content
        if content is None and encoded.rows.num_rows:
            content = self.stage.encode(encoded.rows, numbers_of(encoded), encoded.withdrawn)
        try:
            self.stage.add(content)
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
        """True if rows have come since the last were written."""
        return self.stage.rows > self._written

    def write(self) -> Written:
        """Write what has come; the places of refused rows count from 0 at the first row of the stage."""
        self.ready()
        gone = self.stage.withdraw() if self.waiting else Written()
        first = self.waiting and self._load.sifts_first(self._merging.table)
        found = self._sift(self._written, self.stage.rows) if first else []
        written = RefusalSearch(self._merge, self._sift)(self._written, self.stage.rows, found)
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
        columns = [key_texts(column, self.schema, name) for name, column in zip(names, values, strict=False)]
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
        if not whole:
            self._ready_for_parts()
        return self.stage.merge(range(start, stop), whole, self.counted)

    def _ready_for_parts(self) -> None:
        if not self._searching:
            self.stage.ready_for_parts()
            self._searching = True

    def _sift(self, start: int, stop: int) -> list[RefusedRow]:
        del stop
        found: list[RefusedRow] = self.stage.sift(start if self.stays else 0)
        self.counted = self.counted or bool(found)
        return found


def key_texts(values: Sequence[Any], schema: pa.Schema | None, name: str) -> list[str | None]:
    """Values that a database gave of a column, as rejects show those that were written."""
    made = pa.array(values)
    if schema is not None and made.type != schema.field(name).type:
        with suppress(pa.ArrowException):
            made = made.cast(schema.field(name).type, safe=False)
    return texts_of(made)
