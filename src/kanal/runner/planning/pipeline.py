"""Compiles one pipeline against its databases; everything wrong with it becomes a problem of its job."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Source
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads
from kanal.core.expressions import Expression, Scope
from kanal.core.transformation import ColumnPlan, LookupPlan
from kanal.runner.job_plan import CheckPlan, PipelinePlan, SincePlan
from kanal.runner.planning.abilities import check_abilities, check_replacing, check_shared, notes_of_target
from kanal.runner.planning.columns import mark_unchanged, plan_columns
from kanal.runner.planning.combinations import Facts, impossible
from kanal.runner.planning.created_table import new_table
from kanal.runner.planning.history import check_history, key_of_history, plan_closing
from kanal.runner.planning.keys import check_key, key_to_replace_by, plan_key
from kanal.runner.planning.lookups import expression_scope, plan_lookups
from kanal.runner.planning.places import check_files_once, source_table
from kanal.runner.planning.reading import (
    columns_used,
    in_order_of_mapping,
    order_of_batches,
    plan_conditions,
    plan_order,
    plan_since,
    plan_split,
)
from kanal.runner.planning.row_checks import plan_checks, plan_condition
from kanal.runner.planning.scope import PipelineScope

Lookups = Sequence[tuple[LookupPlan, Source, TableInfo]]


def plan_pipeline(scope: PipelineScope) -> PipelinePlan | None:
    """The plan of a pipeline; None if there are problems. Raises NoFiles if its files may come later."""
    before, settings = scope.problem_count, scope.settings
    source, target = source_table(scope), None
    if source is not None and Reads.FILES in scope.source.reads:
        check_files_once(scope, source)
    with scope.at("target"):
        target = target_table(scope)
    if target is not None and (refused := scope.target.refuses_table(target)) is not None:
        scope.problem("target", *refused)
    if source is None or target is None:
        return None
    check_abilities(scope)
    described = source.source_columns()
    types = {name: column.type for name, column in described.items()}
    place = settings.source.table or "the query's rows"
    of_rows = Scope(types, {}, scope.job.parameters, place, scope.functions)
    lookups = plan_lookups(scope, types, place)
    names = expression_scope(scope, types, {plan.name: plan.types for plan, _, _ in lookups}, place)
    where, delete_when = plan_condition(scope, "where", of_rows), plan_condition(scope, "delete_when", of_rows)
    key = plan_key(scope, target) or key_to_replace_by(scope, target)
    if settings.history is not None:
        key = key_of_history(scope, target, key)
    sound = scope.problem_count
    columns = plan_columns(scope, source, target, names, described, key)
    checks = plan_checks(scope, columns)
    check_history(scope)
    if scope.problem_count == sound:
        check_key(scope, key, columns)
    check_shared(scope, target)
    _check_combinations(scope, lookups, target)
    order_by = order_of_batches(scope, source) if settings.commits.by_batch else plan_order(scope, source)
    since = plan_since(scope, of_rows, source)
    split_by = plan_split(scope, source)
    if scope.problem_count > before:
        return None
    mark_unchanged(scope, columns, source, target, _inspected(scope, columns, key, checks, lookups, target))
    conditions = [one for one in (where, delete_when) if one is not None]
    reading = _reading(scope, source, columns, lookups, conditions, since, order_by)
    plan = PipelinePlan(
        name=scope.name,
        settings=settings,
        source=scope.source,
        target=scope.target,
        reading=reading,
        target_table=target,
        where=where,
        delete_when=delete_when,
        lookups=tuple(lookups),
        columns=tuple(columns),
        checks=tuple(checks),
        key=key,
        source_types=types,
        notes=(*notes_of_target(scope), *_notes_of(reading)),
        since=since,
        split_by=split_by,
        keys_reading=_reading_of_keys(reading, key, columns, lookups) if _needs_keys(scope, since) else None,
        closing=plan_closing(scope, target) if settings.history is not None else None,
        files_at_once=min(scope.job.workers, 8) if Reads.FILES in scope.source.reads else 1,
    )
    check_replacing(scope, plan)
    return plan


def target_table(scope: PipelineScope) -> TableInfo | None:
    """The table that rows go to; files are as the mapping creates them. Raises KanalError."""
    place, settings = scope.settings.target, scope.settings
    database = scope.database(place.connection)
    if database is None or Reads.FILES not in database.reads:
        return scope.table(place)
    target, created = scope.target, new_table(scope)
    if created is None:
        return None
    form = scope.format_named(place.format)
    adds = not (scope.rule.empties or scope.rule.needs_key)
    return target.files_to_write(place.pattern, form, created[0], settings.partition_by, settings.file_rows, adds)


def _inspected(
    scope: PipelineScope,
    columns: Sequence[ColumnPlan],
    key: Sequence[str],
    checks: Sequence[CheckPlan],
    lookups: Lookups,
    target: TableInfo,
) -> set[str]:
    """The target columns of which Kanal itself compares or computes with the values."""
    if _own_lookups(scope, lookups, target):  # which find rows of the load by their values
        return {column.name for column in columns}
    used = [use for check in checks for one in (check.expect, check.value) if one is not None for _, use in one.uses]
    return {*key, *used, *(name for check in checks for name in check.unique), *scope.settings.partition_by}


def _own_lookups(scope: PipelineScope, lookups: Lookups, target: TableInfo) -> tuple[str, ...]:
    """The look-ups in the table that the pipeline fills."""
    place = scope.target.place_of(target)
    return tuple(plan.name for plan, database, table in lookups if database.place_of(table) == place)


def _check_combinations(scope: PipelineScope, lookups: Lookups, target: TableInfo) -> None:
    """Report the settings that cannot be combined."""
    checks = scope.job.check_
    facts = Facts(
        settings=scope.settings,
        rule=scope.rule,
        given=frozenset(scope.job.pipeline[scope.name].model_fields_set),
        unique_checks=tuple(name for name in scope.settings.checks if name in checks and checks[name].unique),
        own_lookups=_own_lookups(scope, lookups, target),
    )
    for pair in impossible(facts):
        scope.problem(pair.key, pair.message(facts), pair.remedy)


def _reading(
    scope: PipelineScope,
    source: TableInfo,
    columns: Sequence[ColumnPlan],
    lookups: Lookups,
    conditions: Sequence[Expression],
    since: SincePlan | None,
    order_by: tuple[str, ...],
) -> Reading:
    """How the source is read, with the columns that the pipeline uses."""
    settings = scope.settings
    expressions = [*(column.expression for column in columns), *conditions, *_probes(lookups)]
    used = columns_used(scope, source, expressions, since, order_by)
    return Reading(
        source,
        settings.source.query,
        in_order_of_mapping(source, used, columns),
        settings.batch_rows,
        order_by,
        # With a filter, the limit counts the rows that pass it.
        settings.limit if settings.where is None else None,
        plan_conditions(scope, source),
        seeks=settings.commits.by_batch,
        batch_bytes=settings.batch_bytes,
        exact=frozenset(column.bare for column in columns if column.own_form is not None and column.bare is not None),
    )


def _needs_keys(scope: PipelineScope, since: SincePlan | None) -> bool:
    """True if the keys of all source rows are read, since the new rows do not show which ones are missing."""
    return scope.settings.missing == "delete" and since is not None


def _reading_of_keys(reading: Reading, key: Sequence[str], columns: Sequence[ColumnPlan], lookups: Lookups) -> Reading:
    """How the keys of all source rows are read."""
    of_keys = [column for column in columns if column.name in key]
    expressions = [*(column.expression for column in of_keys), *_probes(lookups)]
    used = set[str]().union(*(expression.of_source for expression in expressions))
    names = in_order_of_mapping(reading.table, used, of_keys)
    return replace(reading, columns=names, order_by=(), limit=None, conditions=(), seeks=False)


def _probes(lookups: Lookups) -> list[Expression]:
    """The expressions by which rows are looked up."""
    return [probe for plan, _, _ in lookups for probe in plan.probes]


def _notes_of(reading: Reading) -> list[str]:
    """Notes about the conditions that the source itself applies."""
    texts = (" ".join(str(part) for part in condition if part is not None) for condition in reading.conditions)
    return [f"{text} is asked of the source: rows without it are not read" for text in texts]
