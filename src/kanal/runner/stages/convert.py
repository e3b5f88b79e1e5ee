"""Computes the target's columns from the source's rows."""

from __future__ import annotations

import numpy as np

from kanal.core.transformation import convert_columns
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch, of_staying, withdrawn


class Convert:
    """Rows with a value that does not fit are rejected."""

    name = "convert"

    def __init__(self, plan: PipelinePlan, whole: bool = False) -> None:
        """With `whole`, equal values have the same form in all batches: see `convert_columns`."""
        self._plan = plan
        self._whole = whole

    def take(self, batch: Batch) -> Batch:
        assert batch.frame is not None
        batch.made, misfits = convert_columns(batch.frame, self._plan.columns, self._whole)
        batch.stored = batch.made
        faults = batch.faults + misfits
        batch.gone, unclear = withdrawn(self._plan, batch.frame)
        if batch.gone is not None:
            faults = unclear + of_staying(self._plan, batch.gone, faults)
        batch.faults = []
        batch.good = np.arange(batch.source.rows)
        batch.reject(self._plan, faults)
        return batch
