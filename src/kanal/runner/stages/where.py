"""Applies the filter of the pipeline, and counts the rows read."""

from __future__ import annotations

import datetime as dt

from kanal.core.frame import Frame
from kanal.core.transformation import filter_rows, rejects_of
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch


class Where:
    """Takes the rows that pass the filter: all, or as many as the pipeline's limit asks for."""

    name = "where"

    def __init__(self, plan: PipelinePlan, moment: dt.datetime) -> None:
        self._types, self._moment, self._condition = plan.source_types, moment, plan.where
        #: How many rows are still asked for, if a limit applies to those that pass.
        self.left = plan.settings.limit if plan.where is not None else None

    def take(self, batch: Batch) -> Batch:
        source = batch.source
        rows = source.rows
        if self._condition is not None:
            wanted, unclear = filter_rows(Frame(source, self._types, self._moment), self._condition)
            if self.left is not None:
                if len(wanted) > self.left:  # the rest has not been asked for
                    rows = int(wanted[self.left - 1]) + 1 if self.left else 0
                    wanted = wanted[: self.left]
                    unclear = [(column, fault) for column, fault in unclear if fault.row < rows]
                self.left -= len(wanted)
            found, _ = rejects_of(source, unclear)
            batch.rejects += found
            batch.tally.filtered += rows - len(wanted) - len(found)
            if len(wanted) < source.rows:
                batch.keep(wanted)
        batch.tally.read += rows
        return batch
