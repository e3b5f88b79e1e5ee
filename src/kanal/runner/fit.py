"""Where a target does not hold all that its mapping may give it."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence

from kanal.connections import ColumnInfo
from kanal.connections.roles import Writes
from kanal.core.transformation import given_type
from kanal.core.types import SqlType, holds, wider
from kanal.runner.job_plan import Difference, JobPlan, PipelinePlan


def differences(plan: JobPlan) -> list[Difference]:
    """Columns of existing target tables that are missing, or whose type does not hold every value of the mapping."""
    new = {table.step for table in plan.new_tables}
    missing = {(one.database.identity, one.table, one.column): one for one in reversed(plan.differences)}
    narrow: dict[Hashable, list[tuple[PipelinePlan, ColumnInfo, SqlType]]] = {}
    for step in plan.steps:
        if isinstance(step, PipelinePlan) and step.name not in new:
            for info, comes in too_narrow(step):
                place = step.target.place_of(step.target_table), info.name
                narrow.setdefault(place, []).append((step, info, comes))
    return [*reversed(missing.values()), *(_difference(same) for same in narrow.values())]


def too_narrow(step: PipelinePlan) -> Iterator[tuple[ColumnInfo, SqlType]]:
    """The columns of a step's target that do not hold every value of the mapping, with the type of what comes."""
    for column in step.columns:
        info = step.target_table.column(column.name)
        comes = given_type(column.rule, column.expression)
        options = column.rule.options
        settled = (
            options.rounding or options.too_long or options.time_zone or column.expression.node.literal is not None
        )
        if info is None or info.type is None or settled or holds(info.type, comes) is not False:
            continue
        yield info, comes


def _difference(same: Sequence[tuple[PipelinePlan, ColumnInfo, SqlType]]) -> Difference:
    """What one column would have to be, given the types that come to it and the steps that give them."""
    (step, info, comes), *_ = same
    both: SqlType | None = info.type
    for _, _, one in same:
        both = wider(both, one) if both is not None else None
    wanted, sql = str(both or comes), None
    if Writes.CREATE in step.target.writes:
        in_key = info.name in step.target_table.primary_key
        made = step.target.ddl.new_column(info.name, both or comes, info.nullable, in_key)
        wanted, sql = made.declared, step.target.ddl.alteration(step.target_table, made)
    names = step.name, step.target_table.name, info.name
    return Difference(*names, info.declared, wanted, sql, both is not None, step.target)
