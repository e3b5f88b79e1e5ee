"""The look-ups of a pipeline."""

from __future__ import annotations

from collections.abc import Mapping

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Source, as_source
from kanal.core.errors import KanalError
from kanal.core.expressions import Scope
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import LookupPlan, plan_lookup
from kanal.core.types import SqlType
from kanal.definition import Lookup
from kanal.runner.planning.scope import MOMENTS, PipelineScope


def plan_lookups(
    scope: PipelineScope, types: Mapping[str, SqlType], place: str
) -> list[tuple[LookupPlan, Source, TableInfo]]:
    """The look-ups that have no problems, with their tables; `types` are those of the source's columns."""
    planned: list[tuple[LookupPlan, Source, TableInfo]] = []
    for name, lookup in scope.settings.lookup.items():
        path = (*scope.path, "lookup", name)
        with scope.planner.problems.at(path):
            if scope.planner.tables.is_being_planned(lookup.table, scope.name):
                raise KanalError(
                    f"table {lookup.table.name} is created by this pipeline, so it cannot be looked up yet",
                    "create it by hand first",
                )
            table = scope.table(lookup.table)
            if table is None:
                continue
            columns = {column: described.type for column, described in table.source_columns().items()}
            on = _lookup_keys(lookup, table)
            known = {plan.name: plan.types for plan, _, _ in planned}
            names = Scope(types, known, scope.job.parameters, place, scope.functions)
            with scope.planner.problems.at((*path, "on")):
                as_of = _as_of(scope, lookup, table)
                plan = plan_lookup(name, on, columns, lookup.missing, names, as_of)
                plan = replace(plan, null_key=lookup.null_key, table=table.name)
                source = as_source(scope.planner.connections[lookup.table.connection])
                for column in plan.keys:  # raises an error if its collation is not known
                    source.key_form(table, column, pa.array([], pa.string()))
                planned.append((plan, source, table))
    return planned


def expression_scope(
    scope: PipelineScope, types: Mapping[str, SqlType], lookups: Mapping[str, Mapping[str, SqlType]], place: str
) -> Scope:
    """The names that the pipeline's mapping may use."""
    unresolved = frozenset(scope.settings.lookup) - frozenset(lookups)
    return Scope(types, lookups, scope.job.parameters, place, scope.functions, unresolved)


def _as_of(scope: PipelineScope, lookup: Lookup, table: TableInfo) -> tuple[str, str, str] | None:
    """The columns that hold when a looked-up version is valid, and the expression of the moment; raises KanalError."""
    if lookup.as_of is None:
        return None
    begins, ends = lookup.as_of.from_, lookup.as_of.until
    if begins is None or ends is None:
        place = lookup.table
        for name in scope.job.pipeline:
            filling = scope.job.effective(name)
            there = (filling.target.connection, filling.target.schema_, filling.target.name.casefold())
            if filling.history is not None and there == (place.connection, place.schema_, place.name.casefold()):
                begins, ends = begins or filling.history.from_, ends or filling.history.until
    if begins is None or ends is None:
        raise KanalError(
            f"as_of: no pipeline of the job keeps a history in {table.name}, so its columns are not known",
            'say it: as_of = { at = "…", from = "…", until = "…" }',
        )
    found = [table.column(begins), table.column(ends)]
    for name, column in zip((begins, ends), found, strict=True):
        if column is None or column.type is None or column.type.family not in MOMENTS:
            what = f'there is no column "{name}" in {table.name}' if column is None else (
                f'"{name}" of {table.name} is {column.declared}')  # fmt: skip
            raise KanalError(f"as_of: {what}", "name a date or a timestamp")
    return (*(column.name for column in found if column is not None), lookup.as_of.at)  # type: ignore[return-value]


def _lookup_keys(lookup: Lookup, table: TableInfo) -> dict[str, str]:
    """The columns of the table by which rows are looked up, with the expressions for their values."""
    on = {}
    for column, text in lookup.on.items():
        found = table.column(column)
        if found is None:
            raise KanalError(f'on: there is no column "{column}" in {table.name}', did_you_mean(column, table.names))
        on[found.name] = text
    return on
