"""The target table as the mapping would create it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.base import share_types
from kanal.connections.defaults import default_value
from kanal.connections.description import SpecialIndex
from kanal.core.expressions import Scope, compile_expression
from kanal.core.transformation import given_type
from kanal.core.types import BOOLEAN, TIMESTAMP, Family, SqlType
from kanal.definition import Column, JobError
from kanal.runner.planning.column_rules import quoted, rule_of_column
from kanal.runner.planning.lookups import expression_scope, plan_lookups
from kanal.runner.planning.places import source_table
from kanal.runner.planning.scope import NoFiles, PipelineScope


class _Mapped(Struct):
    """The columns that a mapping fills.

    `found` are their names and types, and whether they may be NULL. `bare` has, by source column, the first that is
    filled with it unchanged, and `same` those whose type is the source column's too.
    """

    found: list[tuple[str, SqlType, bool]] = field(default_factory=list)
    #: The source's column that fills each column without any conversion.
    copied: dict[str, ColumnInfo] = field(default_factory=dict)
    bare: dict[str, str] = field(default_factory=dict)
    same: dict[str, ColumnInfo] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    def key(self, key: tuple[str, ...]) -> tuple[str, ...]:
        """The columns that a key of the source fills; none unless all of it is mapped unchanged."""
        return tuple(self.bare[name] for name in key) if key and all(name in self.bare for name in key) else ()


def new_table(scope: PipelineScope) -> tuple[TableInfo, tuple[str, ...]] | None:
    """The target table as the mapping creates it, with notes; None if the source is not usable."""
    settings, ddl = scope.settings, scope.target.ddl
    before = scope.problem_count
    try:
        source = source_table(scope)
    except NoFiles:
        source = None
    if source is None:
        return None
    types = {name: column.type for name, column in source.source_columns().items()}
    place = f"pipeline {scope.name}"
    lookups = {plan.name: plan.types for plan, _, _ in plan_lookups(scope, types, place)}
    names = expression_scope(scope, types, lookups, place)
    mapped = _mapped(scope, source, names)
    begins = _columns_of_history(scope, mapped.found, names)
    _check_names(scope, [name for name, _, _ in mapped.found])
    if scope.problem_count > before:
        raise JobError([])  # the problems have been reported

    primary = tuple(settings.key) or mapped.key(source.primary_key)
    unique = tuple(key for key in map(mapped.key, source.unique) if key and set(key) != set(primary))
    surrogate = settings.history.surrogate if settings.history is not None else None
    not_null = set(primary)
    if begins is not None:
        # What is unique in the source is unique in each version only.
        versions = (*primary, begins)
        primary, unique = (versions, ()) if surrogate is None else ((surrogate,), (versions,))
    of_source, comment = _indexes_and_comment(scope, source)
    special, of_source = _special_indexes(scope, source, mapped, of_source)
    indexes = tuple(key for key in map(mapped.key, of_source) if key and key not in unique and key != primary)
    in_keys = {name for key in (primary, *unique) for name in key}
    short = in_keys | (set() if ddl.indexes_long_texts else {name for key in indexes for name in key})
    columns = []
    for name, sql_type, may_be_null in mapped.found:
        nullable, copied = may_be_null and name not in not_null, mapped.copied.get(name)
        kept = _like_source(scope, copied, name, name in in_keys)
        column = ddl.new_column(name, sql_type, nullable, name in short)
        if copied is not None and kept is None and (copied.type is None or _same_kind(scope)):
            mapped.notes.append(_not_kept(scope, copied, column))
        taken = mapped.same.get(name) if kept is None else copied
        column = column if kept is None else replace(kept, nullable=nullable)
        columns.append(_as_in_source(scope, column, taken, primary, mapped.notes))
    if surrogate is not None and surrogate not in {column.name for column in columns}:
        columns.insert(0, ddl.surrogate(settings.target.name, surrogate))
    target = settings.target
    table = TableInfo(
        target.schema_, target.name, tuple(columns), primary, unique, indexes=indexes, comment=comment,
        special_indexes=special,
    )  # fmt: skip
    return table, tuple(mapped.notes)


def _mapped(scope: PipelineScope, source: TableInfo, names: Scope) -> _Mapped:
    """The columns that the mapping fills, with their types."""
    mapped = _Mapped()
    for name, column in _wanted(scope, source).items():
        with scope.at("columns", name):
            rule = rule_of_column(column)
            expression = compile_expression(rule.expression, names)
            node, sql_type = expression.node, given_type(rule, expression)
            taken = source.column(node.column[1]) if node.column is not None and node.column[0] is None else None
            if taken is not None:
                mapped.bare.setdefault(taken.name, name)
                if not rule.options.given() and rule.default is None:
                    mapped.copied[name] = taken
            if taken is not None and taken.type == sql_type and not rule.options.given():
                mapped.same[name] = taken
            never_null = taken is not None and not taken.nullable and rule.if_bad != "null" and rule.bad_value is None
            never_null = never_null and not rule.options.null_values
            has_default = rule.default is not None and rule.if_bad != "null"
            mapped.found.append((name, sql_type, not (never_null or has_default)))
    return mapped


def _same_kind(scope: PipelineScope) -> bool:
    """True if source and target are databases of one kind, with the same types."""
    return scope.settings.source.query is None and share_types(scope.source, scope.target)


def _like_source(scope: PipelineScope, taken: ColumnInfo | None, name: str, in_key: bool) -> ColumnInfo | None:
    """A column to be created with the type of the source's; None if it cannot be the same."""
    if taken is None or not _same_kind(scope):
        return None
    found = scope.target.ddl.like(taken, in_key)
    if found is None:
        return None
    return replace(
        found, name=name, filled=False, generated=False, numbered=False, always=False, default=None, comment=None
    )


def _not_kept(scope: PipelineScope, taken: ColumnInfo, new: ColumnInfo) -> str:
    """The note of a column whose type cannot be kept."""
    declared = taken.declared or "a type without a name"
    if _same_kind(scope):
        return f"{new.name}: {declared} becomes {new.declared} here"
    return f"{new.name}: {declared} is not known, and goes as text"


def _special_indexes(
    scope: PipelineScope, source: TableInfo, mapped: _Mapped, others: Sequence[tuple[str, ...]]
) -> tuple[tuple[SpecialIndex, ...], Sequence[tuple[str, ...]]]:
    """The indexes that only this kind of database has, if all columns are copied under their names; and the others."""
    whole = all(name == taken.name for name, taken in mapped.copied.items()) and set(mapped.copied) == set(source.names)
    known = scope.planner.tables.is_new(scope.planner.connections[scope.settings.source.connection], source)
    if not _same_kind(scope) or not whole or known or source.is_view:
        return (), others
    found = scope.source.catalogue.special_indexes(source)
    return ((), others) if found is None else (tuple(found), ())


def _indexes_and_comment(scope: PipelineScope, source: TableInfo) -> tuple[Sequence[tuple[str, ...]], str | None]:
    """The indexes and the comment of a source table; those of a view or a query do not count."""
    if scope.settings.source.query is not None or source.is_view:
        return (), None
    place = scope.planner.connections[scope.settings.source.connection]
    if scope.planner.tables.is_new(place, source):
        return source.indexes, source.comment
    return place.catalogue.indexes(source), place.catalogue.comment(source)


def _check_names(scope: PipelineScope, names: Sequence[str]) -> None:
    """Report columns of a new table without a name, and columns that the database would take for one."""
    if "" in names:
        what = f"table {scope.settings.target.name} cannot be created, because a column of the source has an empty name"
        scope.problem_at((*scope.path, "source"), what, 'leave it out by skip = [""], or read the source by a query')
    folded = [name.casefold() for name in names]
    twins = [name for name in names if folded.count(name.casefold()) > 1]
    if twins and scope.target.folds_columns:
        scope.problem_at(
            (*scope.path, "target"),
            f"table {scope.settings.target.name} is to be made with the columns {' and '.join(twins)}, which differ "
            "in case alone, and the database takes them for one",
            "map one of them to another name in columns",
        )


def _columns_of_history(scope: PipelineScope, found: list[tuple[str, SqlType, bool]], names: Scope) -> str | None:
    """Add the columns that hold from when until when a version is valid, and whether it is current, unless they are
    mapped; the name of the first, or None without a history."""
    history = scope.settings.history
    if history is None:
        return None
    moment = TIMESTAMP
    if history.at is not None:
        with scope.at("history"):
            moment = compile_expression(history.at, names).type
    there = {name.casefold() for name, _, _ in found}
    columns = [(history.from_, moment, False), (history.until, moment, True)]
    columns += [(history.current, BOOLEAN, False)] if history.current is not None else []
    found += [column for column in columns if column[0].casefold() not in there]
    return history.from_


def _as_in_source(
    scope: PipelineScope, new: ColumnInfo, taken: ColumnInfo | None, primary: tuple[str, ...], notes: list[str]
) -> ColumnInfo:
    """A column to be created, with what the source says of a column that is carried over as it is."""
    alike = taken is not None and taken.declared == new.declared
    if not alike and new.type is not None and new.type.family is Family.TIMESTAMPTZ and "TIMESTAMP(" in new.declared:
        notes.append(f"{new.name}: {new.declared} holds 1970 to 2038 only; other values are rejected")
    if taken is None:
        return new
    ddl = scope.target.ddl
    new = replace(new, values=taken.values, comment=taken.comment)
    if taken.numbered and primary == (new.name,):
        return ddl.numbered(new)
    if taken.default is not None and not taken.numbered:
        value = default_value(taken.default, getattr(scope.source, "sql_name", None))
        made = ddl.default(new, value) if value is not None else None
        if made is None and taken.default.upper() != "NULL":
            notes.append(f"{new.name}: its default {taken.default} is left out")
        new = replace(new, default=made)
    return new


def _wanted(scope: PipelineScope, source: TableInfo) -> dict[str, Column]:
    """The target columns that the mapping names, and those that are carried under their own name."""
    settings = scope.settings
    wanted: dict[str, Column] = {}
    named = {name.casefold(): name for name in settings.columns}
    skipped = {name.casefold() for name in settings.skip}
    for name in settings.same if settings.columns or settings.same else ["*"]:
        for column in source.columns if name == "*" else source.chosen([name]):
            if column.name.casefold() in named:
                wanted[named[column.name.casefold()]] = settings.columns[named[column.name.casefold()]]
            elif name != "*" or column.name.casefold() not in skipped:
                wanted[column.name] = Column.model_validate({"from": quoted(column.name)})
    return {name: column for name, column in settings.columns.items() if name not in wanted} | wanted
