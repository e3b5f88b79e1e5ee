"""A batch of rows on its way to the target, and what a stage is."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from kanal.connections.loading import RefusedRow
from kanal.core.arrays import Mask, mask_of
from kanal.core.claims import Keyed
from kanal.core.faults import Fault, texts_of, value_text
from kanal.core.frame import Frame, SourceBatch
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject, target_row
from kanal.core.tally import Tally
from kanal.core.transformation import rejects_of
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.staged_rows import EncodedRows

#: Faults, each with the column that it is about.
Tagged = list[tuple[str | None, Fault]]
#: The places of rows in a batch, from 0.
Rows = np.ndarray[tuple[int], np.dtype[np.intp]]

_NONE = pa.RecordBatch.from_arrays([], names=[])


class Batch(Struct):
    """Rows on their way: as the source gave them, their counts, and the rejects among them.

    From the look-ups on, `frame` gives the values of expressions over the rows. From the conversion on, `made` are the
    rows as the mapping makes them, and `good` the places of those that are not rejected; `stored` are the same rows as
    the target stores them. `faults` are not counted as rejects yet. `gone` marks rows whose keys are to be deleted in
    the target, and `held` are rows that wait for others of the load. `encoded` are the rows that may be written, in the
    form that the load takes.

    `offered` are the good rows that compete for their keys in `keyed`. After the contest, `good` are the winners and
    `replacing` those that replace earlier rows of the load; `undecided` rows wait, since others have their keys.
    `times` are the seconds that each stage took, and `reading` those of the source.
    """

    source: SourceBatch
    tally: Tally = field(default_factory=Tally)
    rejects: list[Reject] = field(default_factory=list)
    frame: Frame | None = None
    faults: Tagged = field(default_factory=list)
    made: pa.RecordBatch = _NONE
    stored: pa.RecordBatch = _NONE
    good: Rows = field(default_factory=lambda: np.zeros(0, dtype=np.intp))
    gone: Mask | None = None
    held: SourceBatch | None = None
    offered: Rows | None = None
    keyed: Keyed | None = None
    replacing: Rows = field(default_factory=lambda: np.zeros(0, dtype=np.intp))
    undecided: int = 0
    encoded: EncodedRows | None = None
    times: dict[str, float] = field(default_factory=dict)
    reading: float = 0.0

    def keep(self, rows: Rows) -> None:
        """Go on with the rows of these places only."""
        self.source = self.source.take(rows)

    def reject(self, plan: PipelinePlan, faults: Sequence[tuple[str | None, Fault]]) -> None:
        """Reject the good rows that have a fault."""
        if not faults:
            return
        still = np.zeros(self.source.rows, dtype=np.bool_)
        still[self.good] = True
        fresh = [(column, fault) for column, fault in faults if still[fault.row]]
        list_all = plan.settings.list_reasons == "all"
        found, kept = rejects_of(self.source, fresh, list_all, keys_in_target(plan, self.made))
        self.rejects += found
        keep = np.zeros(self.source.rows, dtype=np.bool_)
        keep[kept] = True
        self.good = self.good[keep[self.good]]

    @property
    def bad(self) -> Rows:
        """The places of rejected rows."""
        bad = np.ones(self.source.rows, dtype=np.bool_)
        bad[self.good if self.offered is None else self.offered] = False
        return np.flatnonzero(bad)

    @property
    def rows_to_write(self) -> EncodedRows:
        """The encoded rows, from the encoding on."""
        assert self.encoded is not None
        return self.encoded


class Stage(Protocol):
    """One stage of a batch's way."""

    @property
    def name(self) -> str:
        """Its name in the run log."""

    def take(self, batch: Batch) -> Batch:
        """Do one thing with a batch; raises KanalError if that cannot be done."""


def through(stages: Sequence[Stage], batch: Batch) -> Batch:
    """Take a batch through stages, and measure the time of each."""
    for stage in stages:
        started = time.perf_counter()
        batch = stage.take(batch)
        batch.times[stage.name] = batch.times.get(stage.name, 0.0) + time.perf_counter() - started
    return batch


def keys_in_target(plan: PipelinePlan, rows: pa.RecordBatch) -> Callable[[int], str | None]:
    """A function that gives, by its place, the key that a row has or would have in the target, as text."""
    table, mapped = plan.target_table, set(rows.schema.names)
    keys = (key for key in (table.primary_key, *table.unique, plan.key) if key and set(key) <= mapped)
    key = next(keys, ())

    def key_of(row: int) -> str | None:
        values = (rows.column(name) for name in key)
        return target_row(table.name, dict(zip(key, (texts_of(v.slice(row, 1))[0] for v in values), strict=True)))

    return key_of


def taken(rows: pa.RecordBatch, chosen: Rows) -> pa.RecordBatch:
    """The rows in these places."""
    return rows if len(chosen) == rows.num_rows else rows.take(pa.array(chosen))


def refusals(refused: Sequence[RefusedRow], rows: pa.RecordBatch, places: Rows) -> Tagged:
    """The faults of rows that the target refused, of those in some places of a batch as the target stores them."""
    found: Tagged = []
    for row in refused:
        place = int(places[row.place])
        columns = [name for name in row.columns if name in rows.schema.names]
        texts = [value_text(rows.column(name)[place].as_py(), rows.column(name).type) or "NULL" for name in columns]
        said = f"the target refused the row: {row.words}"
        parent = None
        if row.refers is not None and columns == list(row.refers.columns):
            parent = target_row(row.refers.table, dict(zip(row.refers.referred, texts, strict=True)))
        value = ", ".join(texts) if columns else None
        fault = Fault(place, Reason.REFUSED_BY_TARGET, value, said, row.constraint, parent)
        found.append((", ".join(columns) or None, fault))
    return found


def withdrawn(plan: PipelinePlan, frame: Frame) -> tuple[Mask | None, Tagged]:
    """The rows that ask for the deletion of the target's row of their key, and the faults of rows of which this is not
    clear; None if no row of the pipeline can ask for that."""
    if plan.delete_when is None:
        return None, []
    gone = mask_of(frame.array(plan.delete_when.node.evaluate(frame)))
    return gone, [(None, fault) for fault in frame.collect()]


def of_staying(plan: PipelinePlan, gone: Mask, faults: Sequence[tuple[str | None, Fault]]) -> Tagged:
    """The faults that count: of a row that is withdrawn, its key alone matters."""
    return [one for one in faults if not gone[one[1].row] or one[0] in plan.key]
