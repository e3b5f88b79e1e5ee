"""Makes the target's columns from the source's rows, by the mapping."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kanal.core.arrays import Mask, mask_of
from kanal.core.faults import Fault
from kanal.core.frame import Frame
from kanal.core.transformation import convert_columns
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch, Tagged


class Convert:
    """Rows with a value that does not fit are rejected."""

    def __init__(self, plan: PipelinePlan) -> None:
        self._plan = plan

    def take(self, batch: Batch) -> Batch:
        assert batch.frame is not None
        batch.made, misfits = convert_columns(batch.frame, self._plan.columns)
        batch.stored = batch.made
        faults = batch.faults + misfits
        batch.gone, unclear = withdrawn(self._plan, batch.frame)
        if batch.gone is not None:
            faults = unclear + of_staying(self._plan, batch.gone, faults)
        batch.faults = []
        batch.good = np.arange(batch.source.rows)
        batch.reject(self._plan, faults)
        return batch


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
