"""Which rows that a look-up does not find yet an earlier step of the same job will load."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Collection, Sequence

from kanal.core.faults import texts_of
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.step import StepContext, Trial


def loaded_by(
    parents: Collection[str], steps: Sequence[PipelinePlan], moment: dt.datetime, job: str, limit: int | None = None
) -> tuple[dict[str, str], list[str]]:
    """Of rows, as `target_row` says them, those that steps make, and which step; the sources of these are read, up to
    `limit` rows each, and which steps have more.

    The steps are those that fill the looked-up tables. A row counts though its step may reject it, perhaps only since
    what it looks up is not loaded yet either: that is told of that step.
    """
    found: dict[str, str] = {}
    longer: list[str] = []
    for step in steps:
        made = {column.name for column in step.columns}
        # By the columns of the key, since look-ups in one table may go by different ones: its values, and the row.
        wanted: dict[tuple[str, ...], dict[tuple[str | None, ...], str]] = {}
        for parent in parents:
            table, key = json.loads(parent)
            if parent not in found and table == step.target_table.name.casefold() and {*key} <= made:
                wanted.setdefault(tuple(key), {})[tuple(key.values())] = parent
        if not wanted:
            continue
        trial = Trial(StepContext(step, moment, job))
        for batch in trial.batches(limit):
            for names, left in wanted.items():
                columns = [texts_of(batch.made.column(name)) for name in names]
                for place, values in enumerate(zip(*columns, strict=True)):
                    if values in left and (batch.gone is None or not batch.gone[place]):
                        found[left.pop(values)] = step.name
            if not any(wanted.values()):
                break
        if any(wanted.values()) and limit is not None and trial.books.tally.read >= limit:
            longer.append(step.name)
    return found, longer
