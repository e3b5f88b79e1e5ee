"""Rejects rows whose references an earlier try found to be missing."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from kanal.connections.loading import RefusedRow
from kanal.core.faults import texts_of
from kanal.core.rejects import target_row
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch, refusals, taken


class OpenReferences:
    """`known` has, by its key in the target, why a row is refused."""

    name = "open references"

    def __init__(self, plan: PipelinePlan, known: Mapping[str, RefusedRow]) -> None:
        self._plan, self._known = plan, known

    def take(self, batch: Batch) -> Batch:
        if not self._known:
            return batch
        names = self._plan.writing.filling_key
        columns = [texts_of(taken(batch.stored, batch.good).column(name)) for name in names]
        table, bad = self._plan.target_table.name, []
        for place, key in enumerate(zip(*columns, strict=True)):
            found = self._known.get(target_row(table, dict(zip(names, key, strict=True))) or "")
            if found is not None:
                bad.append(replace(found, place=place))
        batch.reject(self._plan, refusals(bad, batch.stored, batch.good))
        return batch
