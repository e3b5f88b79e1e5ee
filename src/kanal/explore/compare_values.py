"""Forms of values in which equal ones are the same."""

from __future__ import annotations

import datetime as dt
import json
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from kanal.connections.description import TableInfo
from kanal.core.arrays import Mask
from kanal.core.carried_rows import as_batch
from kanal.core.change_values import rows_between
from kanal.core.conversions import converter
from kanal.core.faults import value_text
from kanal.core.frame import Frame, SourceBatch, Strays
from kanal.core.native import ExactText, is_native, native
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


class MadeRows(Struct):
    """Rows that a pipeline has made, and those of the source, if each is made of one and they are needed."""

    step: PipelinePlan
    rows: Any
    source: SourceBatch | None = None

    def take(self, places: Any) -> MadeRows:
        """The rows in these places, in ascending order."""
        source = self.source.take(places) if self.source is not None and native_columns(self.step) else None
        return MadeRows(self.step, self.rows.take(pa.array(places)), source)

    def _delivered(self, name: str) -> tuple[pa.Array, Strays] | None:
        """The source's values of a column that is loaded as it is, and those that Kanal's type cannot hold."""
        taken = native_columns(self.step).get(name)
        if self.source is None or taken is None:
            return None
        return Frame(self.source, self.step.source_types).delivered(taken)

    def typed(self) -> pa.RecordBatch:
        """The rows, with NULL for each value that Kanal's type cannot hold."""
        names, whole, native = self.rows.schema.names, as_batch(self.rows), native_columns(self.step)
        frame = None if self.source is None else Frame(self.source, self.step.source_types)
        columns = [
            frame.column((None, native[name])) if frame is not None and name in native else whole.column(name)
            for name in names
        ]
        return pa.RecordBatch.from_arrays(columns, names=names)

    def given_back(self, info: TableInfo, stored: SqlType, name: str) -> pa.Array:
        """A column in the form in which the target gives it back."""
        (made,) = (column.type for column in self.step.columns if column.name == name)
        found = self._delivered(name)
        values, strays = found or (self.rows.column(name), {})
        return with_strays_kept(given_back(info, stored, name, values, made), strays)


def native_columns(step: PipelinePlan) -> dict[str, str]:
    """The columns of which the target takes every value, with those of the source."""
    return {one.name: one.bare for one in step.columns if one.own_form is not None and one.bare is not None}


def with_strays_kept(values: pa.Array, strays: Strays) -> pa.Array:
    """Values, and the texts of those that their type cannot hold."""
    if not strays:
        return values
    texts: list[str | None] = [None] * len(values)
    for row, stray in strays.items():
        texts[row] = stray.described if isinstance(stray, ExactText) else value_text(stray)
    kept = pa.array(texts, pa.string())
    missing = pc.and_(values.is_null(), kept.is_null())
    return native(pa.StructArray.from_arrays([values, kept], ["value", "stray"], mask=missing))


def shown_value(values: pa.Array, row: int) -> str | None:
    """A value as an example shows it."""
    found = values[row].as_py()
    if found is None or not is_native(values):
        return value_text(found, values.type)
    return found["stray"] or value_text(found["value"], values.type.storage_type[0].type)


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
