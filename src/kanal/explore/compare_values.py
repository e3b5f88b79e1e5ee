"""Forms of values in which equal ones are the same."""

from __future__ import annotations

import datetime as dt
import json
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from kanal.connections.description import TableInfo
from kanal.core.arrays import Mask
from kanal.core.change_values import rows_between
from kanal.core.conversions import converter
from kanal.core.frame import Frame, SourceBatch
from kanal.core.types import Family, SqlType
from kanal.runner.job_plan import PipelinePlan


def _last_of_each(changes: list[pa.RecordBatch], step: PipelinePlan) -> list[pa.RecordBatch]:
    """Of a history's changes the last of each key, which says what the current version is."""
    if not changes or step.history is None:
        return []
    table = pa.Table.from_batches(changes)
    order = table.sort_by([(step.history.from_, "ascending")])
    place = pa.array(np.arange(order.num_rows))
    last = order.append_column("\0place", place).group_by(list(step.business_key)).aggregate([("\0place", "max")])
    chosen = last.column("\0place_max").combine_chunks().sort()
    result: list[pa.RecordBatch] = order.take(chosen).combine_chunks().to_batches()
    return result


def _whole(step: PipelinePlan) -> PipelinePlan:
    """A pipeline that reads all its rows, new or not."""
    since = replace(step.since, everything=True) if step.since is not None else None
    return replace(step, since=since, notes=())


def _before_first(step: PipelinePlan, batch: SourceBatch, moment: dt.datetime) -> Mask:
    """Which rows of a batch have a change value before the first that the job wants."""
    if step.since is None or step.since.first is None:
        return np.zeros(batch.rows, dtype=np.bool_)
    frame = Frame(batch, step.source_types, moment)
    inside, _, _ = rows_between(frame, step.since.change, None, step.since.first, False)
    return inside


def _canonical(text: str) -> str:
    """JSON in a form in which equal documents are the same: blanks and the order of an object's names do not count,
    each digit of a number does, and so does a name that stands twice."""
    try:
        return json.dumps(json.loads(text, parse_int=_number, parse_float=_number, object_pairs_hook=_members))
    except (ValueError, RecursionError):
        return ascii(text)


def _number(text: str) -> list[str]:
    return ["number", format(Decimal(text), "f")] if len(text) < 40 else ["number", text]


def _members(pairs: list[tuple[str, Any]]) -> list[Any]:
    return ["members", sorted(([name, value] for name, value in pairs), key=json.dumps)]


def given_back(info: TableInfo, stored: SqlType, name: str, values: pa.Array, made: SqlType) -> pa.Array:
    """Values of the mapping, of type `made`, in the form in which a column of the target gives them back."""
    if values.type != stored.arrow:
        values = converter(made, stored)(values)[0]
    return comparable(info, stored, name, info.given_back(name, values))


def comparable(info: TableInfo, stored: SqlType, name: str, values: pa.Array) -> pa.Array:
    """Values of a column of the target in a form in which equal ones are the same."""
    if stored.family is Family.JSON:
        texts = (None if text is None else _canonical(text) for text in values.to_pylist())
        return pa.array(texts, pa.string())
    column = info.column(name)
    if column is not None and column.declared.upper().startswith(("CHAR(", "CHARACTER(")):
        return pc.utf8_rtrim(values, " ")
    return values
