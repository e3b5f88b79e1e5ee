"""Which rows that a look-up does not find yet an earlier step of the same job will load."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Collection, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.faults import texts_of
from kanal.core.rejects import target_row
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.step import PipelineStep


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
        keys = [json.loads(parent) for parent in parents if parent not in found]
        wanted = [key for table, key in keys if table == step.target_table.name.casefold()]
        names = tuple(wanted[0]) if wanted else ()
        if not names or not {*names} <= {column.name for column in step.columns}:
            continue
        values = [pa.array(sorted({key[name] for key in wanted}), pa.string()) for name in names]
        left = len({tuple(key.values()) for key in wanted})
        running = PipelineStep(step, moment, job)
        for prepared in running.try_out(limit):
            rows = [pa.array(texts_of(prepared.made.column(name)), pa.string()) for name in names]
            like = np.ones(len(rows[0]), dtype=np.bool_) if prepared.gone is None else ~prepared.gone
            for column, some in zip(rows, values, strict=True):
                like &= pc.is_in(column, some).to_numpy(zero_copy_only=False)
            for place in np.flatnonzero(like).tolist():
                key = {name: column[place].as_py() for name, column in zip(names, rows, strict=True)}
                parent = target_row(step.target_table.name, key)
                if parent and parent in parents and parent not in found:
                    found[parent] = step.name
                    left -= 1
            if not left:
                break
        if left and limit is not None and running.tally.read >= limit:
            longer.append(step.name)
    return found, longer
