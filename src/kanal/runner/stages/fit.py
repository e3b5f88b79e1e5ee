"""Rejects rows with a value that the target would change."""

from __future__ import annotations

from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch, of_staying


class Fit:
    """Gives the rows the form in which the target stores them."""

    name = "fit"

    def __init__(self, plan: PipelinePlan) -> None:
        self._plan = plan

    def take(self, batch: Batch) -> Batch:
        batch.stored, faults = self._plan.target.storable(self._plan.target_table, batch.made)
        batch.reject(self._plan, faults if batch.gone is None else of_staying(self._plan, batch.gone, faults))
        return batch
