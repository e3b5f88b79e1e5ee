"""Leaves out rows that earlier runs have loaded."""

from __future__ import annotations

import datetime as dt

from kanal.core.frame import Frame
from kanal.runner.incremental import Increment
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch


class OnlyNew:
    """Rows that are not new are not even counted; a row whose change value is unclear may be rejected."""

    name = "only new"

    def __init__(self, plan: PipelinePlan, increment: Increment, moment: dt.datetime) -> None:
        self._types, self._moment, self._increment = plan.source_types, moment, increment

    def take(self, batch: Batch) -> Batch:
        batch.source, unclear = self._increment.only_new(Frame(batch.source, self._types, self._moment))
        batch.rejects += unclear
        batch.tally.read += len(unclear)
        return batch
