"""Turns a job into steps ready to run, or says all that is wrong with it before a row moves."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa

from kanal.core.columns import SourceColumn, TargetColumn
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.nodes import convert
from kanal.core.expressions.pushdown import Comparison, comparisons
from kanal.core.expressions.registry import Function
from kanal.core.nearest import did_you_mean
from kanal.core.newness import GROWING, change_value
from kanal.core.transformation import (
    ColumnPlan,
    ColumnRule,
    ExpectCheck,
    LookupPlan,
    MembershipCheck,
    RowCheck,
    UniqueCheck,
    plan_lookup,
)
from kanal.core.types import BOOLEAN, Family, SqlType, parse_type
from kanal.databases import ColumnInfo, TableInfo, open_database
from kanal.databases.base import Database, Reading
from kanal.definition import Check, Column, JobDefinition, JobError, Lookup, Pipeline, Problem, Source, Table
from kanal.definition.problems import KeyPath
from kanal.runner.order import CircleError, Wait, in_order
from kanal.runner.user_functions import load_functions
from kanal.runner.write_rules import Writing


@dataclass(frozen=True)
class CheckPlan:
    """A check, compiled over the converted row. It becomes a new RowCheck for each run of the step."""

    name: str
    expect: Expression | None = None
    unique: tuple[str, ...] = ()
    value: Expression | None = None
    members: tuple[Database, TableInfo, str] | None = None
    present: bool = True

    def begin(self, read_columns: Callable[[Database, TableInfo, list[str]], Mapping[str, pa.Array]]) -> RowCheck:
        """The check as it begins a load, with the values of its table's column read."""
        if self.expect is not None:
            return ExpectCheck(self.name, self.expect)
        if self.members is None or self.value is None:
            return UniqueCheck(self.name, self.unique)
        database, table, column = self.members
        values = read_columns(database, table, [column])[column]
        return MembershipCheck(self.name, self.value, f"{table.name}.{column}", values, self.present)


@dataclass(frozen=True)
class SincePlan:
    """How a pipeline finds what is new: the change value of a row, and what is said of a range of it.

    `column` is the source's column, where it is one. `low` and `high` are bounds that a run was given for itself;
    `everything` takes all rows.
    """

    change: Expression
    column: str | None
    nullable: bool
    first: Any
    overlap: Any
    low: Any = None
    high: Any = None
    everything: bool = False

    @property
    def asked(self) -> bool:
        """True where a run was given bounds for itself."""
        return self.low is not None or self.high is not None or self.everything

    def given(self, options: Mapping[str, Any]) -> SincePlan:
        """The same for a run that was told `since`, `until` or `all`; raises KanalError for values of another type."""
        bounds = {
            bound: change_value(options[name], self.change.type)
            for bound, name in (("low", "since"), ("high", "until"))
            if options.get(name) is not None
        }
        return replace(self, **bounds, everything=bool(options.get("all")))

    def lowest(self, mark: Any) -> Any:
        """From where on rows are read, when the last run came up to a mark; None for all."""
        if self.asked:
            return self.low
        if mark is None or self.overlap is None:
            return mark if mark is not None else self.first
        return mark - self.overlap


@dataclass(frozen=True)
class PipelinePlan:
    """A pipeline, compiled and checked against its databases."""

    name: str
    settings: Pipeline
    source: Database
    target: Database
    reading: Reading
    target_table: TableInfo
    where: Expression | None
    lookups: tuple[tuple[LookupPlan, Database, TableInfo], ...]
    columns: tuple[ColumnPlan, ...]
    checks: tuple[CheckPlan, ...]
    key: tuple[str, ...]
    source_types: Mapping[str, SqlType]
    notes: tuple[str, ...] = ()
    since: SincePlan | None = None
    #: Ranges of this column are read side by side.
    split_by: ColumnInfo | None = None
    kind: str = "pipeline"

    @property
    def writing(self) -> Writing:
        """How its rows are written."""
        columns = tuple(column.name for column in self.columns)
        return Writing(self.target_table, self.settings, columns, self.key, self.settings.missing == "delete")

    @property
    def leaves_progress(self) -> bool:
        """True where the target must tell what of the step is committed."""
        settings = self.settings
        return settings.write == "append" or settings.commit == "batch" or self.since is not None

    @property
    def timeout(self) -> float | None:
        """The seconds that it may take."""
        return self.settings.timeout

    @property
    def uses(self) -> dict[Database, int]:
        """The databases that it uses, with how many connections."""
        others = [database for _, database, _ in self.lookups]
        others += [check.members[0] for check in self.checks if check.members is not None]
        weights = dict.fromkeys([self.target, *others], 1)
        return weights | {self.source: self.settings.split.parts if self.settings.split else 1}

    @property
    def writes(self) -> tuple[Database, ...]:
        """The databases that it writes to."""
        return (self.target,)


@dataclass(frozen=True)
class CommandPlan:
    """A command with its connection and the text of its SQL."""

    name: str
    database: Database
    sql: str
    timeout: float | None = None
    kind: str = "command"

    @property
    def uses(self) -> dict[Database, int]:
        """The databases that it uses, with how many connections."""
        return {self.database: 1}

    @property
    def writes(self) -> tuple[Database, ...]:
        """The databases that it writes to."""
        return (self.database,)


StepPlan = PipelinePlan | CommandPlan


@dataclass(frozen=True)
class Group:
    """Steps that one transaction on their target makes visible together."""

    database: Database
    steps: tuple[str, ...]


@dataclass
class JobPlan:
    """A job ready to run: its steps in order, what waits for what, and what is worth knowing about it."""

    job: JobDefinition
    steps: list[StepPlan]
    waits: list[Wait]
    databases: dict[str, Database]
    notes: list[Problem] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)

    @property
    def limits(self) -> dict[str, int]:
        """How many connections at once some of the databases, by name, allow."""
        connections = self.job.connection.items()
        return {name: connection.max_parallel for name, connection in connections if connection.max_parallel}


def plan_job(job: JobDefinition) -> JobPlan:
    """The job's steps in order, compiled against the databases; raises JobError with every problem found."""
    return _Planner(job).plan()


class _Planner:
    def __init__(self, job: JobDefinition) -> None:
        self.job = job
        self.problems: list[Problem] = []
        self.notes: list[Problem] = []
        self.databases: dict[str, Database] = {}
        self._unusable: set[str] = set()
        self._tables: dict[tuple[str, str | None, str], TableInfo] = {}
        self.functions: Mapping[str, Function] = {}

    def plan(self) -> JobPlan:
        job = self.job
        if not job.pipeline and not job.command:
            self.problem((), "the job has no pipelines", "add one, such as [pipeline.locks] with source and target")
        self._check_names()
        with self.at(("functions",)):
            self.functions = load_functions(job)
        for name, connection in job.connection.items():
            with self.at(("connection", name)):
                self.databases[name] = open_database(name, connection, job.folder)
        self._expect_tables()
        steps: dict[str, StepPlan] = {}
        for name in job.pipeline:
            with self.at(("pipeline", name)):
                plan = _PipelinePlanner(self, name).plan()
                if plan is not None:
                    steps[name] = plan
        for name, command in job.command.items():
            if command.connection in self.databases:
                with self.at(("command", name)):
                    database = self.databases[command.connection]
                    steps[name] = CommandPlan(name, database, self._sql(name), command.timeout)
        waits = self._waits(steps)
        names = [*job.pipeline, *job.command]
        groups = self._groups(steps)
        for group in groups:
            waits += _waits_for_whole(group, waits)
        try:
            ordered = in_order(names, waits)
        except CircleError as error:
            self.problem(("pipeline", error.circle[0].step), error.what, error.remedy)
        self._check_deletions(steps)
        if self.problems:
            raise JobError(list(dict.fromkeys(self.problems)))
        places = {name: place for place, name in enumerate(ordered)}
        groups = [Group(group.database, tuple(sorted(group.steps, key=places.__getitem__))) for group in groups]
        return JobPlan(job, [steps[name] for name in ordered], waits, self.databases, self.notes, groups)

    def _groups(self, steps: Mapping[str, StepPlan]) -> list[Group]:
        """Steps whose pipelines say commit = "job", by target, with the commands there."""
        pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
        groups = []
        for url in dict.fromkeys(plan.target.url for plan in pipelines if plan.settings.commit == "job"):
            members = [plan for plan in pipelines if plan.target.url == url]
            for plan in members:
                if plan.settings.commit != "job":
                    self.problem(
                        ("pipeline", plan.name, "commit"),
                        'other pipelines into this target say commit = "job", and this one does not',
                        "set it for all of them, for instance in [defaults]",
                    )
            commands = [p.name for p in steps.values() if isinstance(p, CommandPlan) and p.database.url == url]
            groups.append(Group(members[0].target, (*(plan.name for plan in members), *commands)))
        return groups

    def _check_deletions(self, steps: Mapping[str, StepPlan]) -> None:
        """No pipeline may delete what another one loads into the same table."""
        pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
        for plan in pipelines:
            for other in pipelines:
                same = _place(plan.target, plan.target_table) == _place(other.target, other.target_table)
                if same and plan is not other and plan.settings.missing == "delete":
                    self.problem(
                        ("pipeline", plan.name, "missing"),
                        f"it would delete the rows that pipeline {other.name} loads into the same table",
                        'read both in one query, or set missing = "keep"',
                    )

    # --- problems --------------------------------------------------------------------------------------------------

    def problem(self, path: KeyPath, what: str, remedy: str = "") -> None:
        self.problems.append(self._located(path, what, remedy))

    def note(self, path: KeyPath, what: str, remedy: str = "") -> None:
        self.notes.append(self._located(path, what, remedy))

    def _located(self, path: KeyPath, what: str, remedy: str) -> Problem:
        file, line = self.job.located(path)
        if path[:1] == ("connection",):
            what = what.removeprefix(f"connection {path[1]}: ")  # which the path says
        return Problem(path, what, remedy, file, line)

    @contextmanager
    def at(self, path: KeyPath) -> Iterator[None]:
        """While it lasts, errors become problems of that key."""
        try:
            yield
        except ExpressionError as error:
            what = error.what
            if error.text and error.text != what:
                place = f"at character {error.position + 1} of " if error.position is not None else "in "
                what = f"{what}, {place}{error.text}"
            self.problem(path, what, error.remedy)
        except JobError as error:
            self.problems.extend(error.problems)
        except KanalError as error:
            self.problem(path, error.what, error.remedy)

    # --- names -----------------------------------------------------------------------------------------------------

    def _check_names(self) -> None:
        """Every name that one part of the job uses must be that of another."""
        job = self.job
        steps = [*job.pipeline, *job.command]
        for name in set(job.pipeline) & set(job.command):
            self.problem(("command", name), f'a pipeline is named "{name}" too', "give one of the two another name")
        for name, pipeline in job.pipeline.items():
            path = ("pipeline", name)
            self._known((*path, "source"), "connection", pipeline.source.connection, job.connection)
            self._known((*path, "target"), "connection", pipeline.target.connection, job.connection)
            for lookup, settings in pipeline.lookup.items():
                self._known((*path, "lookup", lookup), "connection", settings.table.connection, job.connection)
            for step in pipeline.after:
                self._known((*path, "after"), "step", step, steps)
            for check in job.settled(name).checks:
                self._known((*path, "checks"), "check", check, job.check_)
            for column, mapped in pipeline.columns.items():
                if mapped.conversion is not None:
                    self._known((*path, "columns", column), "conversion", mapped.conversion, job.conversion)
        for name, rule in job.check_.items():
            if rule.table_column is not None:
                self._known(("check", name), "connection", rule.table_column.table.connection, job.connection)
        for name, command in job.command.items():
            self._known(("command", name), "connection", command.connection, job.connection)
            for step in command.after:
                self._known(("command", name, "after"), "step", step, steps)

    def _known(self, path: KeyPath, what: str, name: str, names: Any) -> None:
        if name not in names:
            self.problem(
                path,
                f'there is no {what} "{name}" in the job',
                did_you_mean(name, names) or f"add [{what}.{name}]",
            )

    def database(self, name: str) -> Database | None:
        return self.databases.get(name)

    def table(self, place: Source | Table) -> TableInfo | None:
        """The table of a place; None where the connection is not usable, which is then said once."""
        database = self.database(place.connection)
        if database is None or place.connection in self._unusable:
            return None
        table = place.table or ""
        key = (place.connection, place.schema_, table)
        if key not in self._tables:
            try:
                database.table_names(place.schema_)
            except KanalError as error:
                self._unusable.add(place.connection)
                self.problem(("connection", place.connection), error.what, error.remedy)
                return None
            self._tables[key] = database.describe(place.schema_, table)
        return self._tables[key]

    def _expect_tables(self) -> None:
        """Tell each database which of its tables the job names."""
        places: list[Source | Table] = []
        for pipeline in self.job.pipeline.values():
            places += [pipeline.target, *(lookup.table for lookup in pipeline.lookup.values())]
            places += [pipeline.source] if pipeline.source.table is not None else []
        places += [rule.table_column.table for rule in self.job.check_.values() if rule.table_column is not None]
        named: dict[tuple[str, str | None], set[str]] = {}
        for place in places:
            named.setdefault((place.connection, place.schema_), set()).add(place.table or "")
        for (connection, schema), tables in named.items():
            if connection in self.databases:
                self.databases[connection].expect(schema, tables)

    def _sql(self, name: str) -> str:
        command = self.job.command[name]
        if command.sql is not None:
            return command.sql
        path = self.job.folder / str(command.sql_file)
        try:
            return path.read_text(encoding="utf-8")
        except OSError as error:
            raise KanalError(f"sql_file {path} cannot be read: {error.strerror}", "correct its path") from None

    # --- order -----------------------------------------------------------------------------------------------------

    def _waits(self, steps: Mapping[str, StepPlan]) -> list[Wait]:
        job = self.job
        waits: dict[tuple[str, str], Wait] = {}

        def wait(step: str, before: str, why: str) -> None:
            if step != before:
                waits.setdefault((step, before), Wait(step, before, why))

        afters = {name: step.after for name, step in job.pipeline.items()}
        afters |= {name: step.after for name, step in job.command.items()}
        for name, before_it in afters.items():
            for before in before_it:
                wait(name, before, "after")
        pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
        for plan in pipelines:
            for other in pipelines:
                for why in _uses(other, plan):
                    wait(other.name, plan.name, why)
        for place, plan in enumerate(pipelines):
            for later in pipelines[place + 1 :]:
                same = _place(plan.target, plan.target_table) == _place(later.target, later.target_table)
                if same and (plan.name, later.name) not in waits:
                    wait(later.name, plan.name, f"writes {plan.settings.target.label} too, and comes later in the job")
        return list(waits.values())


def _waits_for_whole(group: Group, waits: list[Wait]) -> list[Wait]:
    """What waits for one step of a group waits for all of it."""
    why = 'is committed together with the step that it waits for, by commit = "job"'
    outside = {wait.step for wait in waits if wait.before in group.steps and wait.step not in group.steps}
    known = {(wait.step, wait.before) for wait in waits}
    return [
        Wait(step, member, f"{member} {why}")
        for step in sorted(outside)
        for member in group.steps
        if (step, member) not in known
    ]


def _uses(step: PipelinePlan, other: PipelinePlan) -> Iterator[str]:
    """Why a step waits for another: in which ways it uses the table that the other fills."""
    filled, label = _place(other.target, other.target_table), other.settings.target.label
    if step.settings.source.query is None and filled == _place(step.source, step.reading.table):
        yield f"reads {label}"
    if any(filled == _place(database, table) for _, database, table in step.lookups):
        yield f"looks up {label}"
    if any(check.members is not None and filled == _place(*check.members[:2]) for check in step.checks):
        yield f"checks against {label}"
    for key in step.target_table.foreign_keys:
        if step.target.url == other.target.url and _same_table(key.schema, key.table, other.target_table):
            yield f"refers to {label} by a foreign key"


def _place(database: Database, table: TableInfo) -> tuple[Any, str | None, str]:
    return database.url, table.schema, table.name


def _same_table(schema: str | None, name: str, table: TableInfo) -> bool:
    return name.casefold() == table.name.casefold() and (schema or table.schema) == (table.schema or schema)


class _PipelinePlanner:
    """Compiles one pipeline; what is wrong becomes problems of the job's planner."""

    def __init__(self, planner: _Planner, name: str) -> None:
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
                self.planner.problem(
                    path, f'there is no column "{name}" in {target.name}', did_you_mean(name, target.names)
                )
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
            quoted = '"' + taken.name.replace('"', '""') + '"'
            rules.setdefault(filled.name, ((*self.path, "columns", filled.name), ColumnRule(quoted)))
        if not rules and not self.planner.problems:
            self._problem(
                "columns",
                f"source and target {target.name} have no column name in common",
                "map them in [columns]",
            )
        return rules

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
