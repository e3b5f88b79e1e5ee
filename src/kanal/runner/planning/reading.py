"""How the source of a pipeline is read: its columns, order, ranges and increments."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.roles import Reads
from kanal.core.change_values import GROWING, change_value
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.pushdown import PushedCondition
from kanal.core.transformation import ColumnPlan
from kanal.core.types import Family
from kanal.runner.job_plan import SincePlan
from kanal.runner.planning.scope import PipelineScope


def plan_since(scope: PipelineScope, names: Scope, source: TableInfo) -> SincePlan | None:
    """How the pipeline recognises what is new; None if it loads all rows."""
    settings = scope.settings
    if settings.since is None:
        return None
    with scope.at("since"):
        change = compile_expression(settings.since.column, names)
        family = change.type.family
        if family not in GROWING:
            raise ExpressionError(
                f"it is {change.type}, which does not grow with each change",
                "name a timestamp, a date or a growing number, or convert it with CAST",
                change.text,
            )
        first = settings.since.first
        overlap: Any = settings.since.overlap
        if overlap is not None:
            is_time = family in (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)
            overlap = settings.since.overlap_time if is_time else overlap
            if overlap is None or isinstance(overlap, str):
                raise KanalError(
                    f"the overlap of {change.text}, which is {change.type}, cannot be {settings.since.overlap}",
                    'write a time such as "2 hours" for times, a number for numbers',
                )
            if not scope.rule.repeatable:
                raise KanalError("with an overlap, rows are read again, and would be appended again", "merge them")
        found = source.column(settings.since.column.strip().strip('"'))
        bare = found if found is not None and len(change.uses) == 1 and found.type == change.type else None
        return SincePlan(
            change,
            bare.name if bare else None,
            bare is None or bare.nullable,
            None if first is None else change_value(first, change.type),
            overlap,
        )
    return None


def plan_split(scope: PipelineScope, source: TableInfo) -> ColumnInfo | None:
    """The column by whose ranges the source is read side by side."""
    settings = scope.settings
    if settings.split is None or settings.source.query is not None:
        return None
    with scope.at("split"):
        connection = scope.job.connection.get(settings.source.connection)
        limit = connection.max_parallel if connection is not None else None
        if limit is not None and settings.split.parts > limit:
            raise KanalError(
                f"{settings.split.parts} parts are read by as many connections, and max_parallel of connection "
                f"{scope.source.name} allows {limit}",
                "split it in fewer parts, or allow more",
            )
        keys = [key[0] for key in (source.primary_key, *source.unique) if key]
        names = [settings.split.column] if settings.split.column else keys
        columns = [column for name in names if (column := source.column(name)) is not None]
        families = (Family.INTEGER, Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)
        fitting = [column for column in columns if column.type is not None and column.type.family in families]
        if not fitting:
            raise KanalError(
                f"ranges of {names[0] if names else 'no column'} cannot be told: a number, date or time is needed",
                'name one, such as split = { column = "…", parts = 4 }',
            )
        return fitting[0]
    return None


def order_of_batches(scope: PipelineScope, source: TableInfo) -> tuple[str, ...]:
    """The columns in whose order batches are read, which must come the same way again when a run continues."""
    order_by = plan_order(scope, source)
    filled = {column.name for column in source.columns if not column.nullable}
    keys = [key for key in (source.primary_key, *source.unique) if key and set(key) <= filled]
    order = order_by or (keys[0] if keys else ())
    if not order:
        scope.problem(
            "commit",
            "the source has no key, so its rows come in no order in which a broken run could go on",
            'name columns in order_by that tell the rows apart, or set commit = "step"',
        )
    families = (Family.INTEGER, Family.TEXT, Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ, Family.UUID)
    for column in source.chosen(order):
        text = column.type is not None and column.type.family is Family.TEXT
        if text and not scope.source.orders_exactly(column):
            scope.problem(
                "commit",
                f'the source is read in the order of "{column.name}", a text, which {scope.source.name} may '
                "hold equal to another one",
                'name columns of numbers, dates or times in order_by, or set commit = "step"',
            )
        if column.type is None or column.type.family not in families:
            scope.problem(
                "commit",
                f'the source is read in the order of "{column.name}", which is {column.type or column.declared}',
                "name columns of whole numbers, texts, dates or times in order_by",
            )
    return order


def plan_conditions(scope: PipelineScope, source: TableInfo) -> tuple[PushedCondition, ...]:
    """The parts of the filter that are asked of the source."""
    asked = scope.settings.where is not None and scope.settings.source.query is None
    if not asked or Reads.FILTER not in scope.source.reads:
        return ()
    assert scope.settings.where is not None
    firm = [column for column in source.columns if not column.loose and column.type is not None]
    numbers = [column.name for column in firm if column.stored.family in (Family.INTEGER, Family.DECIMAL)]
    names = [column.name for column in firm]
    from kanal.core.expressions.pushdown import comparisons  # which brings the parser

    return tuple(comparisons(scope.settings.where, numbers, names, scope.job.parameters))


def plan_order(scope: PipelineScope, source: TableInfo) -> tuple[str, ...]:
    """The columns that the pipeline wants the source to be ordered by."""
    return scope.columns_named("order_by", scope.settings.order_by, source, "the source")


def columns_used(
    scope: PipelineScope,
    source: TableInfo,
    expressions: Sequence[Expression],
    since: SincePlan | None,
    order_by: Sequence[str],
) -> set[str]:
    """The columns of the source that are read."""
    used = set[str]().union(*(expression.of_source for expression in expressions))
    # The key of the source is kept with every reject, to find the row again.
    used |= set(source.primary_key)
    if since is not None:
        used |= {name for _, name in since.change.uses}
    if scope.settings.commits.by_batch:
        used |= set(order_by)
    if Reads.FILES in scope.source.reads:
        used |= {"file.name", "file.line"}  # by which a reject is found in its file
    return used


def in_order_of_mapping(source: TableInfo, used: set[str], columns: Sequence[ColumnPlan]) -> tuple[str, ...]:
    """Columns of the source in the order in which rejects show them: its key, what the mapping names, all else."""
    mapped = [column.expression.of_source for column in columns]
    ordered = [*source.primary_key, *(name for names in mapped for name in source.names if name in names)]
    return tuple(name for name in dict.fromkeys([*ordered, *source.source_columns()]) if name in used)
