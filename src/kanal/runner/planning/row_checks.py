"""The conditions and checks of a pipeline."""

from __future__ import annotations

from collections.abc import Mapping

from kanal.connections.base import as_source
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.nodes import convert
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import ColumnPlan
from kanal.core.types import BOOLEAN, Family, SqlType
from kanal.definition import Check
from kanal.runner.job_plan import CheckPlan
from kanal.runner.planning.scope import PipelineScope


def plan_checks(scope: PipelineScope, columns: list[ColumnPlan]) -> list[CheckPlan]:
    """The checks of the pipeline on its mapped columns."""
    types = {column.name: column.type for column in columns}
    plans = []
    for name in scope.settings.checks:
        check = scope.job.check_.get(name)
        if check is not None and columns:
            with scope.planner.problems.at(("check", name)):
                plans.append(_check(scope, name, check, types))
    return plans


def _check(scope: PipelineScope, name: str, check: Check, types: Mapping[str, SqlType]) -> CheckPlan:
    place = f"the mapped columns of pipeline {scope.name}"
    names = Scope(types, {}, scope.job.parameters, place, scope.functions)
    if check.expect is not None:
        expect = compile_expression(check.expect, names)
        if expect.type != BOOLEAN:
            raise ExpressionError(f"it is {expect.type}, not a condition", "write a comparison", expect.text)
        return CheckPlan(name, expect=expect)
    if check.unique:
        for column in check.unique:
            if column not in types:
                raise KanalError(f'unique: there is no column "{column}" in {place}', did_you_mean(column, types))
        return CheckPlan(name, unique=tuple(check.unique))
    place_of = check.table_column
    assert place_of is not None and check.value is not None
    table = scope.table(place_of.table)
    database = scope.database(place_of.table.connection)
    if table is None or database is None:
        raise KanalError(f"{place_of.table.label} cannot be looked at", "correct its connection")
    column_info = table.column(place_of.column)
    if column_info is None:
        raise KanalError(
            f'there is no column "{place_of.column}" in {table.name}', did_you_mean(place_of.column, table.names)
        )
    value = compile_expression(check.value, names)
    wanted = table.source_columns()[column_info.name].type
    value = Expression(value.text, convert(value.node, wanted), value.uses)
    return CheckPlan(
        name,
        value=value,
        members=(as_source(database), table, column_info.name),
        present=check.exists_in is not None,
    )


def plan_condition(scope: PipelineScope, key: str, names: Scope) -> Expression | None:
    """The condition of a key such as `where`; None if there is none, or after a problem."""
    text = getattr(scope.settings, key)
    if text is None:
        return None
    with scope.at(key):
        found = compile_expression(text, names)
        if found.type != BOOLEAN and found.type.family is not Family.NULL:
            raise ExpressionError(f"it is {found.type}, not a condition", "write a comparison", found.text)
        return found
    return None
