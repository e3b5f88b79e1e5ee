"""Makes batches of rejected rows, as the run log keeps them, so that they can be loaded again."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import pyarrow as pa

from kanal.connections import ColumnInfo
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.frame import SourceBatch, Strays
from kanal.core.types import TEXT, Family
from kanal.runner.job_plan import PipelinePlan

#: A column that no source has, which carries the number of each reject through the step.
NUMBER = "\0reject"
Rejected = Sequence[tuple[int, Mapping[str, str | None]]]


def plan_of_replay(plan: PipelinePlan) -> PipelinePlan:
    """A pipeline as it loads rejected rows: added to what is there, none of it removed, and as many as fit."""
    settings = plan.settings.model_copy(
        update={
            "write": plan.writing.rule.adding().name,
            "missing": "keep",
            "max_deletes": None,
            "max_rejects": None,
            "reject": "row",
            "first_sql": None,
            "commit": "step",
            "split": None,
        }
    )
    return replace(plan, settings=settings, notes=(), since=None, split_by=None, keys_reading=None)


def batches_of(plan: PipelinePlan, rejected: Rejected) -> Iterator[SourceBatch]:
    """The rejected rows as the reader gave them, with their numbers; raises KanalError where one lacks a column."""
    size = plan.settings.batch_rows
    columns = plan.reading.table.chosen(plan.reading.columns)
    for start in range(0, len(rejected), size):
        part = rejected[start : start + size]
        arrays: dict[str, pa.Array] = {}
        strays: dict[str, Strays] = {}
        for column in columns:
            if any(column.name not in row for _, row in part):
                raise KanalError(
                    f'the rejected rows do not have the column "{column.name}", which the job did not read then',
                    "run the job again instead",
                )
            arrays[column.name] = _stored(column, [row[column.name] for _, row in part], strays)
        arrays[NUMBER] = pa.array([str(number) for number, _ in part])
        yield SourceBatch(len(part), arrays, strays)


def _stored(column: ColumnInfo, texts: list[str | None], strays: dict[str, Strays]) -> pa.Array:
    """Texts as the type in which the reader delivers the column; those that are none become strays again."""
    if column.stored.family is Family.BINARY:
        return pa.array([None if text is None else _bytes(text) for text in texts], pa.binary())
    values = pa.array(texts, pa.string())
    if column.stored == TEXT or pa.types.is_string(column.stored.arrow):
        return values
    stored, misfits = converter(TEXT, column.stored)(values)
    if misfits and not column.loose:
        raise KanalError(
            f'the value {misfits[0].value} of "{column.name}" is none of its type, {column.stored}, any more',
            "run the job again instead",
        )
    if misfits:
        strays[column.name] = {fault.row: texts[fault.row] or "" for fault in misfits}
    return stored


def _bytes(text: str) -> bytes:
    return bytes.fromhex(text[2:-1]) if text.startswith("x'") and text.endswith("'") else text.encode()
