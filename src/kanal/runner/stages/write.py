"""Writes the rows of a batch, and counts the result."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import pyarrow as pa

from kanal.connections.loading import Written
from kanal.core.frame import SourceBatch
from kanal.core.tally import add_writes
from kanal.core.transformation import rejects_of
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch, Rows, keys_in_target, refusals, taken
from kanal.runner.write_rule import WriteRule


class Write:
    """Writes by a rule; refused rows become rejects.

    `note` is called with the places of refused rows, among the good ones and among those that replace others.
    `resolve` is called with the rows that are loaded.
    """

    name = "write"

    def __init__(
        self,
        plan: PipelinePlan,
        rule: WriteRule,
        note: Callable[[Batch, Sequence[int], Sequence[int]], None],
        resolve: Callable[[SourceBatch, Rows], None],
    ) -> None:
        self._plan, self.rule, self._note, self._resolve = plan, rule, note, resolve

    def take(self, batch: Batch) -> Batch:
        return self.count(batch, self.rule.write(batch.rows_to_write))

    def may_send(self, batch: Batch) -> bool:
        """True if the target may take a batch before it has confirmed earlier ones."""
        return self.rule.may_send and not batch.undecided and batch.held is None and not len(batch.replacing)

    def count(self, batch: Batch, written: Written) -> Batch:
        """Write the rows of a batch that replace others, after its other rows; then count, and list the rejects."""
        tally, rule = batch.tally, self.rule
        refused = refusals(written.refused, batch.stored, batch.good)
        places, over = [row.place for row in written.refused], list[int]()
        if len(batch.replacing):
            gone = None if batch.gone is None else batch.gone[batch.replacing]
            replaced = rule.replace(rule.encode_replacing(taken(batch.stored, batch.replacing), gone))
            refused += refusals(replaced.refused, batch.stored, batch.replacing)
            over = [row.place for row in replaced.refused]
            # Each replaces a row that was counted when it was written; a row that the target did not have after all is
            # counted as an inserted one.
            tally.inserted += replaced.inserted
            tally.superseded += len(batch.replacing) - len(over) - replaced.inserted
        batch.rejects += rejects_of(batch.source, refused, would_be=keys_in_target(self._plan, batch.stored))[0]
        if len(batch.bad):
            rule.keep(batch.stored.take(pa.array(batch.bad)))
        add_writes(tally, written)
        tally.rejected = len(batch.rejects)
        self._resolve(batch.source, np.delete(batch.good, places))
        self._resolve(batch.source, np.delete(batch.replacing, over))
        self._note(batch, places, over)
        return batch
