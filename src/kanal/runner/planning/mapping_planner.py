"""Plans what fills the columns of a pipeline's target, and the target itself where it is to be made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.base import Connection, Source, Target, as_file_source, as_source, as_target
from kanal.connections.defaults import default_value
from kanal.connections.files.naming import scope
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.columns import SourceColumn, TargetColumn
from kanal.core.errors import KanalError
from kanal.core.expressions import Scope, compile_expression
from kanal.core.expressions.registry import Function
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import ColumnPlan, ColumnRule, LookupPlan, given_type, plan_lookup
from kanal.core.types import BOOLEAN, TIMESTAMP, Family, SqlType, parse_type
from kanal.definition import Column, Format, JobDefinition, JobError, Lookup, Table
from kanal.definition import Source as SourcePlace
from kanal.definition.problems import KeyPath
from kanal.runner.job_plan import Difference
from kanal.runner.write_rules import rule_of

#: Of these types are the columns that say when a version is valid.
MOMENTS = (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)


class Planner(Protocol):
    """What a pipeline's planner needs of the job's."""

    job: JobDefinition
    problems: list[Any]
    connections: dict[str, Connection]
    functions: Mapping[str, Function | KanalError]
    #: Columns that tables lack, where these are asked for; else they are problems.
    adding: list[Difference] | None
    #: Pipelines whose sources are told by what others will write.
    deriving: set[str]

    def problem(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Something is wrong."""

    def note(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Something is worth knowing."""

    def at(self, path: KeyPath) -> AbstractContextManager[None]:
        """While it lasts, errors become problems of that key."""

    def database(self, name: str) -> Connection | None:
        """The database of a connection."""

    def table(self, place: SourcePlace | Table) -> TableInfo | None:
        """The table of a place; None where the connection is not usable."""

    def is_being_planned(self, place: Table, step: str) -> bool:
        """True for a table that a step will create and whose columns are not known yet."""

    def format_named(self, name: str | None) -> Format | None:
        """The format of files that the job names; raises KanalError where it has none of that name."""

    def is_new(self, database: Connection, table: TableInfo) -> bool:
        """True for a table that is not there yet, and will be made."""


class NoFiles(KanalError):
    """There is no file yet, or none any more, of a pipeline that loads each file once."""


class MappingPlanner:
    """The part of a pipeline's planner that maps columns."""

    def __init__(self, planner: Planner, name: str) -> None:
        self.planner = planner
        self.job = planner.job
        self.name = name
        self.path = ("pipeline", name)
        self.settings = self.job.effective(name)
        self.rule = rule_of(self.settings)
        self._none_there: NoFiles | None = None

    @property
    def source(self) -> Source:
        """The connection that rows come from; raises KanalError where it is no source."""
        return as_source(self.planner.connections[self.settings.source.connection])

    @property
    def target(self) -> Target:
        """The connection that rows go to; raises KanalError where it is no target."""
        return as_target(self.planner.connections[self.settings.target.connection])

    def _problem(self, key: str, what: str, remedy: str = "") -> None:
        self.planner.problem((*self.path, key), what, remedy)

    def _source(self) -> TableInfo | None:
        place = self.settings.source
        with self.planner.at((*self.path, "source")):
            database = self.planner.database(place.connection)
            of_files = place.query is None and database is not None and Reads.FILES in database.reads
            if place.files is not None or of_files:
                if database is None:
                    return None
                differ = self.settings.columns_differ
                form = self.planner.format_named(place.format)
                taken = self.settings.loads_each_once
                writer = self._writer_of(database, place.pattern)
                if (taken or writer is not None) and not database.catalogue.has_table(None, place.pattern):
                    made = None if writer is None else self._files_to_come(database, place.pattern, writer)
                    if made is not None:
                        return made
                    if taken:
                        self._none_there = NoFiles(f"no file of connection {place.connection} fits {place.pattern}")
                        return None
                found = database.catalogue.describe_files(place.pattern, form, differ, self.settings.bad_file != "fail")
                if not isinstance(self.settings.bad_file, str) and Reads.MOVE not in database.reads:
                    error = lacks(place.connection, Reads.MOVE)
                    self._problem("bad_file", error.what, error.remedy)
                return found
            if place.query is None:
                return self.planner.table(place)
            return None if database is None else database.catalogue.describe_query(place.query)
        return None

    def _writer_of(self, database: Connection, pattern: str) -> str | None:
        """The other pipeline of the job that writes files of a pattern; None where none does."""
        wanted = TableInfo(None, pattern, ())
        for name, other in self.job.pipeline.items():
            there = self.planner.connections.get(other.target.connection)
            if name == self.name or there is None or Writes.FILES not in there.writes:
                continue
            if database.overlaps(wanted, there, TableInfo(None, scope(other.target.pattern), ())):
                return name
        return None

    def _files_to_come(self, database: Connection, pattern: str, writer: str) -> TableInfo | None:
        """The table of files that another pipeline will write; None where that cannot be told."""
        if self.name in self.planner.deriving:
            return None
        self.planner.deriving.add(self.name)
        try:
            table = type(self)(self.planner, writer)._target_table()
        finally:
            self.planner.deriving.discard(self.name)
        return None if table is None else as_file_source(database).files_like(table, pattern)

    def _target_table(self) -> TableInfo | None:
        """The table that rows go to; files are as the mapping makes them. Raises KanalError."""
        place, settings = self.settings.target, self.settings
        database = self.planner.database(place.connection)
        if database is None or Reads.FILES not in database.reads:
            return self.planner.table(place)
        target = self.target
        made = self.new_table()
        if made is None:
            return None
        form = self.planner.format_named(place.format)
        rows, columns = settings.file_rows, settings.partition_by
        adds = not (self.rule.empties or self.rule.needs_key)
        return target.files_to_write(place.pattern, form, made[0], columns, rows, adds)

    def _lookups(self, types: Mapping[str, SqlType], place: str) -> list[tuple[LookupPlan, Source, TableInfo]]:
        planned: list[tuple[LookupPlan, Source, TableInfo]] = []
        for name, lookup in self.settings.lookup.items():
            path = (*self.path, "lookup", name)
            with self.planner.at(path):
                if self.planner.is_being_planned(lookup.table, self.name):
                    raise KanalError(
                        f"table {lookup.table.name} is created by this pipeline, so it cannot be looked up yet",
                        "create it by hand first",
                    )
                table = self.planner.table(lookup.table)
                if table is None:
                    continue
                columns = {column: described.type for column, described in table.source_columns().items()}
                on = self._lookup_keys(path, lookup, table)
                known = {plan.name: plan.types for plan, _, _ in planned}
                scope = Scope(types, known, self.job.parameters, place, self.planner.functions)
                with self.planner.at((*path, "on")):
                    as_of = self._as_of(lookup, table)
                    plan = plan_lookup(name, on, columns, lookup.missing, scope, as_of)
                    plan = replace(plan, null_key=lookup.null_key, table=table.name)
                    source = as_source(self.planner.connections[lookup.table.connection])
                    for column in plan.keys:  # raises an error if its collation is not known
                        source.key_form(table, column, pa.array([], pa.string()))
                    planned.append((plan, source, table))
        return planned

    def _scope(self, types: Mapping[str, SqlType], lookups: Mapping[str, Mapping[str, SqlType]], place: str) -> Scope:
        """The names that the pipeline's mapping may use."""
        unresolved = frozenset(self.settings.lookup) - frozenset(lookups)
        return Scope(types, lookups, self.job.parameters, place, self.planner.functions, unresolved)

    def _as_of(self, lookup: Lookup, table: TableInfo) -> tuple[str, str, str] | None:
        """The columns that say when a looked-up version is valid, and the moment; raises KanalError."""
        if lookup.as_of is None:
            return None
        begins, ends = lookup.as_of.from_, lookup.as_of.until
        if begins is None or ends is None:
            place = lookup.table
            for name in self.job.pipeline:
                filling = self.job.effective(name)
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

    def _lookup_keys(self, path: KeyPath, lookup: Lookup, table: TableInfo) -> dict[str, str]:
        on = {}
        for column, text in lookup.on.items():
            found = table.column(column)
            if found is None:
                raise KanalError(
                    f'on: there is no column "{column}" in {table.name}', did_you_mean(column, table.names)
                )
            on[found.name] = text
        del path
        return on

    def _columns(
        self,
        source: TableInfo,
        target: TableInfo,
        scope: Scope,
        described: Mapping[str, SourceColumn],
        key: tuple[str, ...],
    ) -> list[ColumnPlan]:
        rules = self._rules(source, target)
        plans = []
        for column in target.columns:
            if column.name not in rules:
                if not column.nullable and not column.filled and column.name.casefold() not in self._kept_by_rule:
                    self._problem(
                        "columns",
                        f'target column "{column.name}" is NOT NULL and gets no value',
                        "map it, or give it a default in the table",
                    )
                continue
            path, rule = rules[column.name]
            with self.planner.at(path):
                if column.generated:
                    raise KanalError(f'"{column.name}" is generated by the database', "leave it out")
                self._check_always(column, key)
                self._check_some_type(column, rule, source)
                nullable = column.nullable and column.name not in key
                if self.rule.needs_key and column.name in key and column.nullable:
                    self._check_key_is_filled(column, rule, source)
                # NULL in the one column that numbers rows by itself asks for the next number.
                plans.append(ColumnPlan(rule, TargetColumn(column.name, column.type, nullable), scope, described))
        return plans

    def _check_always(self, column: ColumnInfo, key: tuple[str, ...]) -> None:
        """A column of which the database always makes the values is written where that is asked for."""
        if not column.always:
            return
        if self.settings.generated == "own":
            raise KanalError(
                f'"{column.name}" is GENERATED ALWAYS AS IDENTITY: the database numbers the rows itself',
                'set generated = "keep" to load the values of the source, or leave the column out by skip',
            )
        if self.rule.needs_key and column.name not in key and self.settings.matched == "update":
            raise KanalError(
                f'"{column.name}" is GENERATED ALWAYS AS IDENTITY, and cannot be updated',
                'make it the key of the merge, or leave it out by skip, or set matched = "keep"',
            )

    def _check_some_type(self, column: ColumnInfo, rule: ColumnRule, source: TableInfo) -> None:
        """Between columns that no type is declared of, numbers would arrive as texts."""
        taken = source.column(rule.expression.strip('"'))
        untyped = taken is not None and taken.type is None and not taken.declared
        if untyped and column.type is None and not column.declared and rule.type is None:
            raise KanalError(
                f'neither "{column.name}" nor "{taken.name if taken else ""}" of the source has a declared type, '
                "so that numbers would arrive as texts",
                f'say what they are: {column.name} = {{ from = "{column.name}", type = "bigint" }}, '
                'or "text", or "binary"',
            )

    def _check_key_is_filled(self, column: ColumnInfo, rule: ColumnRule, source: TableInfo) -> None:
        """A key that may be NULL on both sides would match nothing, and its rows come again with every run."""
        taken = source.column(rule.expression.strip('"'))
        if taken is not None and taken.nullable and rule.default is None:
            raise KanalError(
                f'the key column "{column.name}" may be NULL, here and in the source, and NULL matches nothing',
                "declare it NOT NULL, or map it with COALESCE or a default",
            )

    @property
    def _kept_by_rule(self) -> set[str]:
        """The columns that the write rule fills by itself."""
        history = self.settings.history
        if history is None:
            return set()
        filled = (history.until, history.current, history.surrogate)
        return {name.casefold() for name in filled if name is not None}

    def _rule_history(self, target: TableInfo, rules: dict[str, tuple[KeyPath, ColumnRule]]) -> set[str]:
        """Have the moment of a change fill its column; the columns, in lower case, that no mapping fills."""
        history = self.settings.history
        if history is None:
            return set()
        begins = target.column(history.from_)
        if begins is not None and begins.name not in rules:
            rule = ColumnRule(expression=history.at or moment_of_run(begins))
            rules[begins.name] = ((*self.path, "history", "at"), rule)
        elif history.at is not None and begins is not None:
            self._problem(
                "history", f'"{begins.name}" is mapped, and at says how it is filled', "remove one of the two"
            )
        return {history.from_.casefold(), *self._kept_by_rule}

    def _rules(self, source: TableInfo, target: TableInfo) -> dict[str, tuple[KeyPath, ColumnRule]]:
        """What fills each target column, with the key of the job that says so."""
        settings = self.settings
        rules: dict[str, tuple[KeyPath, ColumnRule]] = {}
        for name, column in settings.columns.items():
            path = (*self.path, "columns", name)
            found = target.column(name)
            if found is None:
                self._missing_column(path, target, name)
            elif found.name in rules:
                self.planner.problem(path, f'"{found.name}" is mapped twice', "remove one of the two")
            elif found.name.casefold() in self._kept_by_rule:
                self.planner.problem(path, f'the history fills "{found.name}" by itself', "leave it out of columns")
            else:
                rules[found.name] = (path, _rule(column))
        same = settings.same if settings.columns or settings.same else ["*"]
        skipped = {name.casefold() for name in settings.skip} | self._rule_history(target, rules)
        self._check_skip(source, target)
        chosen: list[tuple[ColumnInfo, ColumnInfo]] = []
        for name in same:
            if name == "*":
                chosen.extend(self._by_name(source, target, skipped))
                continue
            found_in, into = source.column(name), target.column(name)
            if found_in is None or into is None:
                where = "source" if found_in is None else "target"
                names = source.names if found_in is None else target.names
                self._problem("same", f'there is no column "{name}" in the {where}', did_you_mean(name, names))
            else:
                chosen.append((found_in, into))
        for taken, filled in chosen:
            rules.setdefault(filled.name, ((*self.path, "columns", filled.name), ColumnRule(quoted(taken.name))))
        if not rules and not self.planner.problems:
            self._problem(
                "columns",
                f"source and target {target.name} have no column name in common",
                "map them in [columns]",
            )
        return rules

    def _missing_column(self, path: KeyPath, target: TableInfo, name: str) -> None:
        """A table lacks a column that the mapping fills, which is a problem unless such are asked for."""
        if self.planner.adding is None:
            what = f'there is no column "{name}" in {target.name}'
            remedy = did_you_mean(name, target.names)
            if Writes.CREATE in self.target.writes:
                remedy += f"{'; or' if remedy else ''} add it by kanal create --alter"
            self.planner.problem(path, what, remedy)
            return
        made = self.new_table()
        new = made[0].column(name) if made is not None else None
        if new is not None:
            sql = self.target.ddl.addition(target, new)
            found = Difference(self.name, target.name, name, None, new.declared, sql, True, self.target)
            self.planner.adding.append(found)

    def _by_name(self, source: TableInfo, target: TableInfo, skipped: set[str]) -> list[tuple[ColumnInfo, ColumnInfo]]:
        pairs, unmatched = [], []
        for column in source.columns:
            into = target.column(column.name)
            if column.name.casefold() in skipped:
                continue
            if into is None:
                unmatched.append(column.name)
            elif not into.generated:
                pairs.append((column, into))
        if unmatched and self.planner.adding is not None:
            for name in unmatched:
                self._missing_column((*self.path, "same"), target, name)
        elif unmatched:
            names = ", ".join(unmatched)
            self.planner.note(
                self.path,
                f"source columns that no target column has the name of: {names}",
                "they are not loaded; map them in [columns], or name them in skip, or add them to the table by "
                "kanal create --alter",
            )
        return pairs

    def _check_skip(self, source: TableInfo, target: TableInfo) -> None:
        """Report columns to skip that neither table has."""
        for name in self.settings.skip:
            if source.column(name) is None and target.column(name) is None:
                self._problem("skip", f'there is no column "{name}" to skip', did_you_mean(name, source.names))

    def new_table(self) -> tuple[TableInfo, tuple[str, ...]] | None:
        """The target table as the mapping makes it, with what is worth knowing; None where the source is not usable."""
        settings = self.settings
        before = len(self.planner.problems)
        source = self._source()
        if source is None:
            return None
        database = self.target
        types = {name: column.type for name, column in source.source_columns().items()}
        place = f"pipeline {self.name}"
        lookups = {plan.name: plan.types for plan, _, _ in self._lookups(types, place)}
        scope = self._scope(types, lookups, place)
        bare: dict[str, str] = {}
        found: list[tuple[str, SqlType, bool]] = []
        same: dict[str, ColumnInfo] = {}
        notes = []
        for name, column in self._wanted(source).items():
            path = (*self.path, "columns", name)
            with self.planner.at(path):
                rule = _rule(column)
                expression = compile_expression(rule.expression, scope)
                node, made = expression.node, given_type(rule, expression)
                taken = source.column(node.column[1]) if node.column is not None and node.column[0] is None else None
                if taken is not None:
                    bare.setdefault(taken.name, name)
                    if taken.type is None:
                        notes.append(
                            f"{name}: {taken.declared or 'a type without a name'} is not known, and goes as text"
                        )
                if taken is not None and taken.type == made and not rule.options.given():
                    same[name] = taken
                certain = taken is not None and not taken.nullable and rule.if_bad != "null" and rule.bad_value is None
                certain = certain and not rule.options.null_values
                found.append((name, made, not (certain or (rule.default is not None and rule.if_bad != "null"))))

        begins = self._columns_of_history(found, scope)
        self._check_twins([name for name, _, _ in found])
        if len(self.planner.problems) > before:
            raise JobError([])  # which has been said

        def mapped(key: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(bare[name] for name in key) if key and all(name in bare for name in key) else ()

        primary = tuple(settings.key) or mapped(source.primary_key)
        unique = tuple(key for key in map(mapped, source.unique) if key and set(key) != set(primary))
        surrogate = settings.history.surrogate if settings.history is not None else None
        firm = set(primary)  # columns that are NOT NULL
        if begins is not None:
            # What is unique in the source is so in each version only.
            versions = (*primary, begins)
            primary, unique = (versions, ()) if surrogate is None else ((surrogate,), (versions,))
        of_source, comment = self._indexes_and_comment(source)
        indexes = tuple(key for key in map(mapped, of_source) if key and key not in unique and key != primary)
        in_keys = {name for key in (primary, *unique, *indexes) for name in key}
        columns = tuple(
            database.ddl.new_column(name, made, nullable and name not in firm, name in in_keys)
            for name, made, nullable in found
        )
        columns = tuple(self._as_in_source(new, same.get(new.name), primary, notes) for new in columns)
        if surrogate is not None and surrogate not in {column.name for column in columns}:
            columns = (database.ddl.surrogate(settings.target.name, surrogate), *columns)
        table = TableInfo(
            settings.target.schema_, settings.target.name, columns, primary, unique, indexes=indexes, comment=comment
        )
        return table, tuple(notes)

    def _indexes_and_comment(self, source: TableInfo) -> tuple[Sequence[tuple[str, ...]], str | None]:
        """The indexes and the comment of a source table; those of a view or a query do not count."""
        if self.settings.source.query is not None or source.is_view:
            return (), None
        place = self.planner.connections[self.settings.source.connection]
        if self.planner.is_new(place, source):
            return source.indexes, source.comment
        return place.catalogue.indexes(source), place.catalogue.comment(source)

    def _check_twins(self, names: Sequence[str]) -> None:
        """Columns of a new table that the database would take for one."""
        folded = [name.casefold() for name in names]
        twins = [name for name in names if folded.count(name.casefold()) > 1]
        if twins and self.target.folds_columns:
            self.planner.problem(
                (*self.path, "target"),
                f"table {self.settings.target.name} is to be made with the columns {' and '.join(twins)}, which differ "
                "in case alone, and the database takes them for one",
                "map one of them to another name in columns",
            )

    def _columns_of_history(self, found: list[tuple[str, SqlType, bool]], scope: Scope) -> str | None:
        """Add the columns that hold from when until when a version is valid, and whether it is current, unless they are
        mapped; the name of the first, or None without a history."""
        history = self.settings.history
        if history is None:
            return None
        moment = TIMESTAMP
        if history.at is not None:
            with self.planner.at((*self.path, "history")):
                moment = compile_expression(history.at, scope).type
        there = {name.casefold() for name, _, _ in found}
        columns = [(history.from_, moment, False), (history.until, moment, True)]
        columns += [(history.current, BOOLEAN, False)] if history.current is not None else []
        found += [column for column in columns if column[0].casefold() not in there]
        return history.from_

    def _as_in_source(
        self, new: ColumnInfo, taken: ColumnInfo | None, primary: tuple[str, ...], notes: list[str]
    ) -> ColumnInfo:
        """A column to be made, with what the source says of a column that is carried over as it is."""
        if new.type is not None and new.type.family is Family.TIMESTAMPTZ and "TIMESTAMP(" in new.declared:
            notes.append(f"{new.name}: {new.declared} holds 1970 to 2038 only; other values are rejected")
        if taken is None:
            return new
        ddl = self.target.ddl
        new = replace(new, values=taken.values, comment=taken.comment)
        if taken.numbered and primary == (new.name,):
            return ddl.numbered(new)
        if taken.default is not None and not taken.numbered:
            value = default_value(taken.default, getattr(self.source, "sql_name", None))
            made = ddl.default(new, value) if value is not None else None
            if made is None and taken.default.upper() != "NULL":
                notes.append(f"{new.name}: its default {taken.default} is left out")
            new = replace(new, default=made)
        return new

    def _wanted(self, source: TableInfo) -> dict[str, Column]:
        """The target columns that the mapping names, and those that are carried under their own name."""
        settings = self.settings
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


def moment_of_run(column: ColumnInfo) -> str:
    """The expression of the run's moment for a column."""
    family = column.type.family if column.type is not None else None
    zone = "" if family is Family.TIMESTAMPTZ else " AT TIME ZONE 'UTC'"
    moment = f"CURRENT_TIMESTAMP{zone}"
    if family is Family.DATE:
        return f"CAST({moment} AS date)"
    return f"date_trunc('second', {moment})" if column.decimals < 6 else moment


def quoted(name: str) -> str:
    """A column's name as an expression."""
    return '"' + name.replace('"', '""') + '"'


def _rule(column: Column) -> ColumnRule:
    bad_value = column.if_bad["value"] if isinstance(column.if_bad, dict) else None
    return ColumnRule(
        expression=column.from_,
        type=parse_type(column.type) if column.type else None,
        options=column.options(),
        default=column.default,
        if_bad=column.if_bad if isinstance(column.if_bad, str) else "reject",  # type: ignore[arg-type]
        bad_value=bad_value,
    )
