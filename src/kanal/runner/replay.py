"""Makes batches of rejected rows, as the run log keeps them, so that they can be loaded again."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections import ColumnInfo
from kanal.connections.reading import Reading, Window
from kanal.connections.roles import Reads
from kanal.core.conversions import converter
from kanal.core.errors import KanalError, counted
from kanal.core.frame import SourceBatch, Strays
from kanal.core.native import ExactText
from kanal.core.rejects import row_key
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
            "min_rows": None,
            "max_rejects": None,
            "reject": "row",
            "first_sql": None,
            "commit": "step",
            "split": None,
        }
    )
    return replace(plan, settings=settings, notes=(), since=None, split_by=None, keys_reading=None)


def read_anew(plan: PipelinePlan, rejected: Rejected) -> tuple[PipelinePlan, Rejected, list[int]]:
    """The rejected rows as the source has them now, found by their keys, with a note of what has changed; and the
    numbers of those that it no longer has. Without a key, they are loaded as they were kept."""
    key = plan.row_key
    if not key or plan.settings.source.query is not None or Reads.QUERY not in plan.source.reads:
        return plan, rejected, []
    wanted = {row_key(row, key): row for _, row in rejected if all(row.get(name) is not None for name in key)}
    found: dict[str, Mapping[str, str | None]] = {}
    for reading in _readings(plan, list(wanted.values())):
        with plan.source.read(reading) as batches:
            for batch in batches:
                firsts = {row[key[0]] for row in wanted.values()}
                likely = [place for place, text in enumerate(batch.texts_of(key[0])) if text in firsts]
                for now in batch.row_texts(likely):
                    if row_key(now, key) in wanted:
                        found[row_key(now, key)] = now
    fresh, gone, changed = list[tuple[int, Mapping[str, str | None]]](), list[int](), 0
    for number, row in rejected:
        name = row_key(row, key)
        if name not in wanted:
            fresh.append((number, row))
        elif name not in found:
            gone.append(number)
        else:
            changed += any(found[name].get(column, row[column]) != row[column] for column in row)
            fresh.append((number, found[name]))
    said = {"changed at the source, and tried as it is now": changed, "gone from the source": len(gone)}
    notes = [f"{what}: {counted(count, 'rejected row')}" for what, count in said.items() if count]
    return replace(plan, notes=(*plan.notes, *notes)), fresh, gone


def _readings(plan: PipelinePlan, rows: list[Mapping[str, str | None]]) -> Iterator[Reading]:
    """What is read of the source to find some rows: each by its number, if they are few, else all of it."""
    whole = replace(plan.reading, windows=(), conditions=(), order_by=(), limit=None, seeks=False)
    column = plan.reading.table.column(plan.row_key[0])
    numbers = {row[plan.row_key[0]] for row in rows}
    if column is None or column.stored.family is not Family.INTEGER or len(numbers) > _ONE_BY_ONE:
        yield whole
        return
    for text in sorted(numbers, key=str):
        number = int(text or 0)
        yield replace(whole, windows=(Window(column.name, number, number + 1),))


#: So many rejected rows are asked for one by one; for more, the source is read through.
_ONE_BY_ONE = 200


def batches_of(plan: PipelinePlan, rejected: Rejected) -> Iterator[SourceBatch]:
    """The rejected rows as the reader gave them, with their numbers; raises KanalError if one lacks a column."""
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
    exact: Strays = {row: text for row, text in enumerate(texts) if isinstance(text, ExactText)}
    if exact:
        strays[column.name] = exact
    if column.stored.family is Family.BINARY:
        given = (None if text is None or row in exact else _bytes(text) for row, text in enumerate(texts))
        return pa.array(list(given), pa.binary())
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
        strays[column.name] = {**{fault.row: texts[fault.row] or "" for fault in misfits}, **exact}
    return stored


def _bytes(text: str) -> bytes:
    return bytes.fromhex(text[2:-1]) if text.startswith("x'") and text.endswith("'") else text.encode()
