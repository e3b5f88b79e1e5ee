"""Where a target does not hold all that its mapping may give it."""

from __future__ import annotations

from kanal.connections.roles import Writes
from kanal.core.transformation import given_type
from kanal.core.types import holds
from kanal.runner.job_plan import Difference, JobPlan, PipelinePlan


def differences(plan: JobPlan) -> list[Difference]:
    """Columns of existing target tables that are missing, or whose type does not hold every value of the mapping."""
    new = {table.step for table in plan.new_tables}
    found = list(plan.differences)
    for step in plan.steps:
        if isinstance(step, PipelinePlan) and step.name not in new:
            found += _narrow(step)
    return found


def _narrow(step: PipelinePlan) -> list[Difference]:
    found = []
    for column in step.columns:
        info = step.target_table.column(column.name)
        comes = given_type(column.rule, column.expression)
        options = column.rule.options
        settled = (
            options.rounding or options.too_long or options.time_zone or column.expression.node.literal is not None
        )
        if info is None or info.type is None or settled or holds(info.type, comes) is not False:
            continue
        wanted, sql = str(comes), None
        if Writes.CREATE in step.target.writes:
            in_key = info.name in step.target_table.primary_key
            made = step.target.ddl.new_column(info.name, comes, info.nullable, in_key)
            wanted, sql = made.declared, step.target.ddl.alteration(step.target_table, made)
        found.append(Difference(step.name, step.target_table.name, info.name, info.declared, wanted, sql))
    return found
