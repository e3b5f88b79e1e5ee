"""Compiles one pipeline against its databases; all that is wrong with it becomes problems of the job."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractContextManager
from typing import Any, Protocol

from kanal.core.columns import SourceColumn, TargetColumn
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.nodes import convert
from kanal.core.expressions.pushdown import Comparison, comparisons
from kanal.core.expressions.registry import Function
from kanal.core.nearest import did_you_mean
from kanal.core.newness import GROWING, change_value
from kanal.core.transformation import ColumnPlan, ColumnRule, LookupPlan, given_type, plan_lookup
from kanal.core.types import BOOLEAN, Family, SqlType, parse_type
from kanal.databases import ColumnInfo, TableInfo
from kanal.databases.base import Database
from kanal.databases.reading import Reading
from kanal.definition import Check, Column, JobDefinition, JobError, Lookup, Source, Table
from kanal.definition.problems import KeyPath
from kanal.runner.plans import CheckPlan, Difference, PipelinePlan, SincePlan


class Planner(Protocol):
    """What a pipeline's planner needs of the job's."""

    job: JobDefinition
    problems: list[Any]
    databases: dict[str, Database]
    functions: Mapping[str, Function]
    #: Columns that tables lack, where these are asked for; else they are problems.
    adding: list[Difference] | None

    def problem(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Something is wrong."""

    def note(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Something is worth knowing."""

    def at(self, path: KeyPath) -> AbstractContextManager[None]:
        """While it lasts, errors become problems of that key."""

    def database(self, name: str) -> Database | None:
        """The database of a connection."""

    def table(self, place: Source | Table) -> TableInfo | None:
        """The table of a place; None where the connection is not usable."""


class PipelinePlanner:
    """Compiles one pipeline; what is wrong becomes problems of the job's planner."""

    def __init__(self, planner: Planner, name: str) -> None:
        self.planner = planner
        self.job = planner.job
        self.name = name
        self.path = ("pipeline", name)
        self.settings = self.job.settled(name)

    def plan(self) -> PipelinePlan | None:
        before = len(self.planner.problems)
        settings = self.settings
        source = self._source()
        target = None
        with self.planner.at((*self.path, "target")):
            target = self.planner.table(settings.target)
        if target is not None and target.is_view:
            self._problem("target", f'"{target.name}" is a view', "load the table behind it")
        if source is None or target is None:
            return None
        described = source.source_columns()
        types = {name: column.type for name, column in described.items()}
        place = settings.source.table or "the query's rows"
        lookups = self._lookups(types, place)
        scope = Scope(
            types, {plan.name: plan.types for plan, _, _ in lookups}, self.job.parameters, place, self.planner.functions
        )
        where = self._where(Scope(types, {}, self.job.parameters, place, self.planner.functions))
        key = self._key(target) or self._key_to_replace_by(target)
        sound = len(self.planner.problems)
        columns = self._columns(source, target, scope, described, key)
        checks = self._checks(columns)
        if len(self.planner.problems) == sound:
            self._check_key(key, columns)
        order_by = self._order_by(source)
        since = self._since(Scope(types, {}, self.job.parameters, place, self.planner.functions), source)
        split_by = self._split(source)
        if settings.commit == "batch":
            order_by = self._order_of_batches(source, order_by)
        if len(self.planner.problems) > before:
            return None
        plans = [plan for plan, _, _ in lookups]
        used = {name for node in columns for owner, name in node.expression.uses if owner is None}
        for expression in [where, *(probe for plan in plans for probe in plan.probes)]:
            used |= {name for owner, name in expression.uses if owner is None} if expression else set()
        # The key of the source is kept with every reject, to find the row again.
        used |= set(source.primary_key)
        if since is not None:
            used |= {name for _, name in since.change.uses}
        if settings.commit == "batch":
            used |= set(order_by)
        reading = Reading(
            source,
            settings.source.query,
            tuple(name for name in source.names if name in used),
            settings.batch_rows,
            order_by,
            settings.limit,
            self._conditions(source),
        )
        notes = tuple(
            f"{' '.join(str(part) for part in condition if part is not None)} is asked of the source: rows without it "
            "are not read"
            for condition in reading.conditions
        )
        return PipelinePlan(
            self.name,
            settings,
            self.planner.databases[settings.source.connection],
            self.planner.databases[settings.target.connection],
            reading,
            target,
            where,
            tuple(lookups),
            tuple(columns),
            tuple(checks),
            key,
            types,
            notes,
            since,
            split_by,
        )

    def _since(self, scope: Scope, source: TableInfo) -> SincePlan | None:
        settings = self.settings
        if settings.since is None:
            return None
        with self.planner.at((*self.path, "since")):
            change = compile_expression(settings.since.column, scope)
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
                if settings.write != "merge":
                    raise KanalError("with an overlap, rows are read again, and would be appended again", "merge them")
            for key, fits, why in (
                ("write", settings.write != "truncate", "it empties the target, which then has what is new alone"),
                ("limit", settings.limit is None, "rows beyond the limit would be taken for loaded"),
                ("missing", settings.missing != "delete", "what is not new would be deleted"),
            ):
                if not fits:
                    self._problem(key, f"this does not go with since: {why}", "remove one of the two")
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

    def _split(self, source: TableInfo) -> ColumnInfo | None:
        """The column by whose ranges the source is read side by side."""
        settings = self.settings
        if settings.split is None:
            return None
        with self.planner.at((*self.path, "split")):
            database = self.planner.databases[settings.source.connection]
            if not database.splits or settings.source.query is not None:
                what = "a query" if settings.source.query is not None else f"connection {database.name}"
                raise KanalError(
                    f"{what} cannot be read in parts that all see the same state",
                    "split tables of PostgreSQL or MariaDB, or leave split out",
                )
            for key, fits in (
                ("order_by", not settings.order_by),
                ("limit", settings.limit is None),
                ("duplicates", settings.duplicates == "reject"),
                ("commit", settings.commit != "batch"),
            ):
                if not fits:
                    self._problem(
                        key, "this needs an order, and the parts of a split have none", "remove one of the two"
                    )
            limit = self.job.connection[settings.source.connection].max_parallel
            if limit is not None and settings.split.parts > limit:
                raise KanalError(
                    f"{settings.split.parts} parts are read by as many connections, and max_parallel of connection "
                    f"{database.name} allows {limit}",
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

    def _order_of_batches(self, source: TableInfo, order_by: tuple[str, ...]) -> tuple[str, ...]:
        """The columns in whose order batches are read, which must come the same way again when a run goes on."""
        settings = self.settings
        for key, fits, why in (
            ("reject", settings.reject == "row", "earlier batches are committed when a bad row is found"),
            ("missing", settings.missing == "keep", "which rows are missing is known only at the end"),
            ("limit", settings.limit is None, "when a run goes on, rows would be counted anew"),
        ):
            if not fits:
                self._problem(key, f'this does not go with commit = "batch": {why}', 'set commit = "step"')
        filled = {column.name for column in source.columns if not column.nullable}
        keys = [key for key in (source.primary_key, *source.unique) if key and set(key) <= filled]
        order = order_by or (keys[0] if keys else ())
        if not order:
            self._problem(
                "commit",
                "the source has no key, so its rows come in no order in which a broken run could go on",
                'name columns in order_by that tell the rows apart, or set commit = "step"',
            )
        families = (Family.INTEGER, Family.TEXT, Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ, Family.UUID)
        for column in source.chosen(order):
            if column.type is None or column.type.family not in families:
                self._problem(
                    "commit",
                    f'the source is read in the order of "{column.name}", which is {column.type or column.declared}',
                    "name columns of whole numbers, texts, dates or times in order_by",
                )
        return order

    # --- a target that is to be made ------------------------------------------------------------------------------

    def new_table(self) -> tuple[TableInfo, tuple[str, ...]] | None:
        """The target table as the mapping makes it, with what is worth knowing; None where the source is not usable."""
        settings = self.settings
        before = len(self.planner.problems)
        source = self._source()
        if source is None:
            return None
        database = self.planner.databases[settings.target.connection]
        types = {name: column.type for name, column in source.source_columns().items()}
        place = f"pipeline {self.name}"
        lookups = {plan.name: plan.types for plan, _, _ in self._lookups(types, place)}
        scope = Scope(types, lookups, self.job.parameters, place, self.planner.functions)
        bare: dict[str, str] = {}
        found: list[tuple[str, SqlType, bool]] = []
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
                certain = taken is not None and not taken.nullable and rule.if_bad != "null" and rule.bad_value is None
                certain = certain and not rule.options.null_values
                found.append((name, made, not (certain or (rule.default is not None and rule.if_bad != "null"))))

        folded = [name.casefold() for name, _, _ in found]
        twins = [name for name, _, _ in found if folded.count(name.casefold()) > 1]
        if twins and database.folds_columns:
            self.planner.problem(
                (*self.path, "target"),
                f"table {settings.target.table} is to be made with the columns {' and '.join(twins)}, which differ in "
                "case alone, and the database takes them for one",
                "map one of them to another name in columns",
            )
        if len(self.planner.problems) > before:
            raise JobError([])  # which has been said

        def mapped(key: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(bare[name] for name in key) if key and all(name in bare for name in key) else ()

        primary = tuple(settings.key) or mapped(source.primary_key)
        unique = tuple(key for key in map(mapped, source.unique) if key and set(key) != set(primary))
        real = settings.source.query is None and not source.is_view
        of_source = self.planner.databases[settings.source.connection].indexes(source) if real else []
        indexes = tuple(key for key in map(mapped, of_source) if key and key not in unique and key != primary)
        in_keys = {name for key in (primary, *unique, *indexes) for name in key}
        columns = tuple(
            database.new_column(name, made, nullable and name not in primary, name in in_keys)
            for name, made, nullable in found
        )
        for new in columns:
            if new.type is not None and new.type.family is Family.TIMESTAMPTZ and "TIMESTAMP(" in new.declared:
                notes.append(f"{new.name}: {new.declared} holds 1970 to 2038 only; other values are rejected")
        table = TableInfo(settings.target.schema_, settings.target.table, columns, primary, unique, indexes=indexes)
        return table, tuple(notes)

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

    def _conditions(self, source: TableInfo) -> tuple[Comparison, ...]:
        """The parts of the filter that are asked of the source."""
        if self.settings.where is None or self.settings.source.query is not None:
            return ()
        firm = [column for column in source.columns if not column.loose and column.type is not None]
        numbers = [column.name for column in firm if column.stored.family in (Family.INTEGER, Family.DECIMAL)]
        names = [column.name for column in firm]
        return tuple(comparisons(self.settings.where, numbers, names, self.job.parameters))

    def _key_to_replace_by(self, target: TableInfo) -> tuple[str, ...]:
        """The key by which a table's rows are replaced that cannot be emptied, since rows of others refer to them."""
        database = self.planner.databases[self.settings.target.connection]
        if self.settings.write != "truncate" or database.defers_references or not database.referring(target):
            return ()
        mapped = {name.casefold() for name in self.settings.columns} | {name.casefold() for name in self.settings.same}
        by_name = not self.settings.columns or "*" in self.settings.same
        keys = [key for key in (target.primary_key, *target.unique) if key]
        for key in keys:
            if by_name or all(name.casefold() in mapped for name in key):
                return key
        return ()

    def _problem(self, key: str, what: str, remedy: str = "") -> None:
        self.planner.problem((*self.path, key), what, remedy)

    def _source(self) -> TableInfo | None:
        place = self.settings.source
        with self.planner.at((*self.path, "source")):
            if place.query is None:
                return self.planner.table(place)
            database = self.planner.database(place.connection)
            return None if database is None else database.describe_query(place.query)
        return None

    def _order_by(self, source: TableInfo) -> tuple[str, ...]:
        found = []
        for name in self.settings.order_by:
            column = source.column(name)
            if column is None:
                self._problem(
                    "order_by", f'there is no column "{name}" in the source', did_you_mean(name, source.names)
                )
            else:
                found.append(column.name)
        return tuple(found)

    def _lookups(self, types: Mapping[str, SqlType], place: str) -> list[tuple[LookupPlan, Database, TableInfo]]:
        planned: list[tuple[LookupPlan, Database, TableInfo]] = []
        for name, lookup in self.settings.lookup.items():
            path = (*self.path, "lookup", name)
            with self.planner.at(path):
                table = self.planner.table(lookup.table)
                if table is None:
                    continue
                columns = {column: described.type for column, described in table.source_columns().items()}
                on = self._lookup_keys(path, lookup, table)
                known = {plan.name: plan.types for plan, _, _ in planned}
                scope = Scope(types, known, self.job.parameters, place, self.planner.functions)
                with self.planner.at((*path, "on")):
                    plan = plan_lookup(name, on, columns, lookup.missing, scope)
                    planned.append((plan, self.planner.databases[lookup.table.connection], table))
        return planned

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

    def _where(self, scope: Scope) -> Expression | None:
        if self.settings.where is None:
            return None
        with self.planner.at((*self.path, "where")):
            where = compile_expression(self.settings.where, scope)
            if where.type != BOOLEAN and where.type.family is not Family.NULL:
                raise ExpressionError(f"it is {where.type}, not a condition", "write a comparison", where.text)
            return where
        return None

    def _key(self, target: TableInfo) -> tuple[str, ...]:
        settings = self.settings
        if settings.write == "merge" and not settings.key:
            hint = f'add key = ["{", ".join(target.primary_key)}"]' if target.primary_key else "add key = [COLUMN, …]"
            hint = hint.replace(", ", '", "') if target.primary_key else hint
            self._problem("write", "a merge needs a key by which rows are the same", hint)
        found = []
        for name in settings.key:
            column = target.column(name)
            if column is None:
                self._problem("key", f'there is no column "{name}" in {target.name}', did_you_mean(name, target.names))
            else:
                found.append(column.name)
        return tuple(found)

    def _check_key(self, key: tuple[str, ...], columns: list[ColumnPlan]) -> None:
        settings = self.settings
        mapped = [column.name for column in columns]
        for name in key:
            if columns and name not in mapped:
                self._problem("key", f'key column "{name}" gets no value', "map it in columns")
        if settings.newer_by is not None and settings.newer_by not in mapped:
            self._problem(
                "newer_by",
                f'"{settings.newer_by}" is not a mapped column',
                did_you_mean(settings.newer_by, mapped),
            )
        if settings.write != "merge" and settings.missing == "delete":
            self._problem("missing", "only a merge knows which rows are missing", 'set write = "merge"')
        if settings.missing == "delete":
            for part in ("where", "limit"):
                if getattr(settings, part) is not None:
                    self._problem(
                        "missing",
                        f"only a part of the source is read, by {part}; all other rows of the target would be deleted",
                        f'put the condition into a query as source, or remove {part}, or set missing = "keep"',
                    )
        if settings.duplicates != "reject" and not key:
            self._problem("duplicates", "which rows are doubled is told by a key", "add key = [COLUMN, …]")

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
                if not column.nullable and not column.filled:
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
                nullable = column.nullable and column.name not in key
                if self.settings.write == "merge" and column.name in key and column.nullable:
                    self._check_key_is_filled(column, rule, source)
                # NULL in the one column that numbers rows by itself asks for the next number.
                plans.append(ColumnPlan(rule, TargetColumn(column.name, column.type, nullable), scope, described))
        return plans

    def _check_key_is_filled(self, column: ColumnInfo, rule: ColumnRule, source: TableInfo) -> None:
        """A key that may be NULL on both sides would match nothing, and its rows come again with every run."""
        taken = source.column(rule.expression.strip('"'))
        if taken is not None and taken.nullable and rule.default is None:
            raise KanalError(
                f'the key column "{column.name}" may be NULL, here and in the source, and NULL matches nothing',
                "declare it NOT NULL, or map it with COALESCE or a default",
            )

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
            else:
                rules[found.name] = (path, _rule(column))
        same = settings.same if settings.columns or settings.same else ["*"]
        skipped = {name.casefold() for name in settings.skip}
        for name in settings.skip:
            if source.column(name) is None and target.column(name) is None:
                self._problem("skip", f'there is no column "{name}" to skip', did_you_mean(name, source.names))
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
            self.planner.problem(path, what, did_you_mean(name, target.names))
            return
        made = self.new_table()
        new = made[0].column(name) if made is not None else None
        if new is not None:
            sql = self.planner.databases[self.settings.target.connection].addition(target, new)
            self.planner.adding.append(Difference(self.name, target.name, name, None, new.declared, sql))

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
        if unmatched:
            names = ", ".join(unmatched)
            self.planner.note(
                self.path,
                f"source columns that no target column has the name of: {names}",
                "they are not loaded; map them in [columns], or name them in skip",
            )
        return pairs

    def _checks(self, columns: list[ColumnPlan]) -> list[CheckPlan]:
        types = {column.name: column.type for column in columns}
        plans = []
        for name in self.settings.checks:
            check = self.job.check_.get(name)
            if check is not None and columns:
                with self.planner.at(("check", name)):
                    plans.append(self._check(name, check, types))
        return plans

    def _check(self, name: str, check: Check, types: Mapping[str, SqlType]) -> CheckPlan:
        place = f"the mapped columns of pipeline {self.name}"
        scope = Scope(types, {}, self.job.parameters, place, self.planner.functions)
        if check.expect is not None:
            expect = compile_expression(check.expect, scope)
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
        table = self.planner.table(place_of.table)
        database = self.planner.database(place_of.table.connection)
        if table is None or database is None:
            raise KanalError(f"{place_of.table.label} cannot be looked at", "mend its connection")
        column_info = table.column(place_of.column)
        if column_info is None:
            raise KanalError(
                f'there is no column "{place_of.column}" in {table.name}', did_you_mean(place_of.column, table.names)
            )
        value = compile_expression(check.value, scope)
        wanted = table.source_columns()[column_info.name].type
        value = Expression(value.text, convert(value.node, wanted), value.uses)
        return CheckPlan(
            name, value=value, members=(database, table, column_info.name), present=check.exists_in is not None
        )


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
