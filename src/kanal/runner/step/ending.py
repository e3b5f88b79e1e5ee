"""The end of a load, after its rows are written: deletions, limits, watermarks and sequences."""

from __future__ import annotations

from typing import Any

import pyarrow as pa

from kanal.connections.loading import Load
from kanal.core.errors import KanalError
from kanal.core.frame import Frame, SourceBatch
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject, target_row
from kanal.core.tally import Tally
from kanal.core.transformation import convert_columns
from kanal.runner.limits import limit_deletes, limit_rejects, limits_deletes, require_rows
from kanal.runner.step.parts import StepParts
from kanal.runner.write_rule import Exchange, WriteRule


def delete_rest(parts: StepParts, rule: WriteRule, load: Load) -> None:
    """Delete rows that are missing in the source, after the rows that referred to them; list rows that stay."""
    plan, books = parts.plan, parts.books
    deleted, left = rule.delete_rest()
    table = plan.target_table.name
    if left and plan.writing.rule.empties:
        first = ", ".join(f"{name} {value}" for name, value in left[0].items())
        raise KanalError(
            f"{len(left):,} rows of {table} that the source no longer has cannot be deleted, since rows of other "
            f"tables refer to them: {first}",
            'remove what refers to them first, for instance in the same job with commit = "job"',
        )
    message = f"the source no longer has this row of {table}, and it stays, since rows of other tables refer to it"
    rejects = []
    for key in left:
        value = ", ".join(text or "NULL" for text in key.values())
        rejects.append(
            Reject(", ".join(key), Reason.NOT_DELETED, value, message, key, None, target_row(table, key))
        )  # fmt: skip
    if left:
        books.notes.append(f"{len(left):,} rows that the source no longer has stay, since others refer to them")
    if deleted or rejects:
        books.log(Tally(deleted=deleted), rejects)
    check_deletes(parts, load)


def check_deletes(parts: StepParts, load: Load) -> None:
    """Raise TooManyDeletes past the pipeline's limit."""
    plan, deleted = parts.plan, parts.books.tally.deleted + parts.books.deleted
    if limits_deletes(plan, deleted):
        stay = plan.writing.rule.keeps_versions  # in a history, versions end, and no row is deleted
        before = load.count(plan.target_table) - parts.books.tally.inserted + (0 if stay else deleted)
        limit_deletes(plan, deleted, before)


def end(parts: StepParts, load: Load) -> None:
    """Check the limits, run `last_sql`, and record watermark, files and sequence, before the commit."""
    plan, books, context = parts.plan, parts.books, parts.context
    if books.deleted:
        books.log(Tally(), [])
    limit_rejects(plan, books.tally, final=True)
    if context.replayed is None:
        require_rows(plan, books.tally, books.rows_before)
    if plan.settings.last_sql:
        load.run_sql(plan.settings.last_sql)
    if parts.increment is not None and context.keeps:
        parts.increment.move(load)
    if parts.files is not None and not context.rehearsal:
        parts.files.record(load)
    advance_sequence(parts, load)
    books.tally.require_balance()


def advance_sequence(parts: StepParts, load: Load) -> None:
    """Let the sequence of the target continue after the loaded numbers."""
    if parts.context.keeps:  # a sequence keeps its value even if everything else is rolled back
        parts.books.note(load.settle(parts.plan.target_table, parts.plan.writing.columns))


def set_moment(parts: StepParts, rule: WriteRule) -> None:
    """Give a history the moment of the run, as its target stores it."""
    plan = parts.plan
    if plan.closing is not None:
        rows, _ = convert_columns(Frame(SourceBatch(1, {}), {}, parts.context.moment), [plan.closing])
        rule.moment = plan.target.storable(plan.target_table, rows)[0]


def set_exchange(parts: StepParts, rule: WriteRule) -> None:
    """Give an exchange's merge the change values up to which both directions have loaded."""
    plan, increment, by = parts.plan, parts.increment, parts.plan.settings.newer_by
    if plan.exchange is None or increment is None or by is None:
        return
    theirs, settled = parts.carried_back or (None, None)
    (column,) = (column for column in plan.columns if column.name == by)

    def stored(value: Any) -> pa.RecordBatch | None:
        if value is None:
            return None
        row = pa.RecordBatch.from_arrays([pa.array([value]).cast(column.type.arrow)], names=[by])
        return plan.target.storable(plan.target_table, row)[0]

    rule.exchange = Exchange(stored(increment.watermark), stored(theirs), stored(settled))
