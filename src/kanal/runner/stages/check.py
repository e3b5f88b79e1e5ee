"""Rejects rows that fail a check of the job."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from msgspec.structs import replace

from kanal.core.transformation import RowCheck, check_rows
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch, taken


class Check:
    """Checks the rows as the mapping makes them; rows that are withdrawn are not checked."""

    name = "check"

    def __init__(self, plan: PipelinePlan, checks: Sequence[RowCheck], moment: dt.datetime) -> None:
        self._plan, self._checks, self._moment = plan, checks, moment
        self._types = {column.name: column.type for column in plan.columns}

    def take(self, batch: Batch) -> Batch:
        if self._checks:
            good = batch.good if batch.gone is None else batch.good[~batch.gone[batch.good]]
            found = check_rows(taken(batch.made, good), self._types, self._checks, self._moment)
            batch.reject(
                self._plan, [(column, replace(fault, row=int(good[fault.row]))) for column, fault in found]
            )  # fmt: skip
        return batch
