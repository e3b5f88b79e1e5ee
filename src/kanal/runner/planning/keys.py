"""The key of a pipeline."""

from __future__ import annotations

from kanal.connections import TableInfo
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import ColumnPlan
from kanal.runner.planning.scope import PipelineScope


def plan_key(scope: PipelineScope, target: TableInfo) -> tuple[str, ...]:
    """The columns of the key that the pipeline names."""
    settings = scope.settings
    if scope.rule.needs_key and not settings.key:
        names = ", ".join(f'"{name}"' for name in target.primary_key) or "COLUMN, …"
        scope.problem("write", "a merge needs a key that identifies the rows", f"add key = [{names}]")
    return scope.columns_named("key", settings.key, target, target.name)


def key_to_replace_by(scope: PipelineScope, target: TableInfo) -> tuple[str, ...]:
    """The key by which a table's rows are replaced that cannot be emptied, since rows of others refer to them."""
    database = scope.target
    if not scope.rule.empties or not database.may_refuse_emptying(target):
        return ()
    mapped = {name.casefold() for name in scope.settings.columns} | {name.casefold() for name in scope.settings.same}
    by_name = not scope.settings.columns or "*" in scope.settings.same
    keys = [key for key in (target.primary_key, *target.unique) if key]
    for key in keys:
        if by_name or all(name.casefold() in mapped for name in key):
            return key
    return ()


def check_key(scope: PipelineScope, key: tuple[str, ...], columns: list[ColumnPlan]) -> None:
    """Check that the mapping fills the key, and what else it needs."""
    settings = scope.settings
    mapped = [column.name for column in columns]
    for name in key:
        if columns and name not in mapped:
            scope.problem("key", f'key column "{name}" gets no value', "map it in columns")
    if settings.newer_by is not None and settings.newer_by not in mapped:
        scope.problem(
            "newer_by",
            f'"{settings.newer_by}" is not a mapped column',
            did_you_mean(settings.newer_by, mapped),
        )
    if settings.duplicates != "reject" and not key:
        scope.problem("duplicates", "only a key decides which rows are duplicates", "add key = [COLUMN, …]")
