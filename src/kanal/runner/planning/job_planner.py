"""Turns a job into steps ready to run, or says all that is wrong with it before a row moves."""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections import ForeignKey, TableInfo, open_connection, secret_value
from kanal.connections.arrow import ArrowSource, MemoryTarget
from kanal.connections.base import Connection, as_target
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.errors import ExpressionError, KanalError, UnresolvedLookupError, passes
from kanal.core.expressions.registry import Function
from kanal.core.nearest import did_you_mean
from kanal.core.types import Family
from kanal.definition import Connection as ConnectionSettings
from kanal.definition import Format, JobDefinition, JobError, Pipeline, Problem, Secret, Source, Table
from kanal.definition.problems import KeyPath
from kanal.runlog import SeenTable
from kanal.runner.job_plan import CommandPlan, Difference, Group, JobPlan, NewTable, PipelinePlan, StepPlan, TablePlace
from kanal.runner.planning.circles import break_circles, circle_groups, with_open_references
from kanal.runner.planning.exchanges import link_exchanges
from kanal.runner.planning.mapping_planner import NoFiles
from kanal.runner.planning.new_tables import references
from kanal.runner.planning.order import CircleError, Wait, in_order
from kanal.runner.planning.pipeline_planner import PipelinePlanner
from kanal.runner.planning.user_functions import load_functions
from kanal.runner.shapes import SOURCE, TARGET, UnplannedJob, seen_table


class Known(Struct, frozen=True):
    """What is known before a job is planned: how its connections are opened, and what its tables look like."""

    opened: Callable[[str, ConnectionSettings, Path], Connection] = open_connection
    tables: Mapping[TablePlace, TableInfo] = field(default_factory=dict)
    #: False where the connections stay open when the plan is closed.
    owned: bool = True


def plan_job(job: JobDefinition, create: bool = False, known: Known | None = None) -> JobPlan:
    """The job's steps in order, compiled against the databases; raises JobError with every problem found.

    With `create`, target tables may be missing; they are then planned as the mapping would make them. Else only those
    of pipelines that say so may.
    """
    planner = _Planner(job, create, known or Known())
    try:
        return planner.plan()
    except BaseException:
        for database in planner.connections.values() if planner.known.owned else ():
            database.dispose()
        raise


class _Planner:
    def __init__(self, job: JobDefinition, create: bool, known: Known) -> None:
        self.job = with_secrets(job)
        self.known = known
        self._create = create
        self.adding: list[Difference] | None = [] if create else None
        self._new: dict[TablePlace, NewTable] = {}
        self.problems: list[Problem] = []
        self.notes: list[Problem] = []
        self._passing: set[Problem] = set()
        self.connections: dict[str, Connection] = {}
        self._unusable: set[str] = set()
        self._making: set[str] = set()
        #: Tables to be created whose columns are not known yet, or because of a reported problem; with the step.
        self._unplanned: dict[TablePlace, str] = {}
        self.deriving: set[str] = set()
        self._tables: dict[TablePlace, TableInfo] = dict(known.tables)
        self.functions: Mapping[str, Function | KanalError] = {}

    def plan(self) -> JobPlan:
        job = self.job
        if not job.pipeline and not job.command:
            self.problem((), "the job has no pipelines", "add one, such as [pipeline.locks] with source and target")
        self._open_connections()
        self._check_names()
        with self.at(("functions",)):
            self.functions = load_functions(job)
        self._expect_tables()
        steps: dict[str, StepPlan] = {}
        for name in job.pipeline:
            with self.at(("pipeline", name)):
                steps |= self._planned(name)
        for name, command in job.command.items():
            if command.connection in self.connections:
                with self.at(("command", name)):
                    database = self.connections[command.connection]
                    if Writes.SQL not in database.writes:
                        raise lacks(database.name, Writes.SQL)
                    steps[name] = CommandPlan(name, as_target(database), self._sql(name), command.timeout)
        self._refer(steps)
        link_exchanges(steps, self.problem)
        waits, given_up = self._waits(steps), list[Wait]()
        names = [name for name in (*job.pipeline, *job.command) if name in steps]
        groups = self._groups(steps)
        try:
            broken = break_circles(names, waits, steps)
            given_up, circles = broken.given_up, circle_groups(waits, broken, steps)
            with_open_references(steps, given_up)
            groups += [group for group in circles if not any({*group.steps} <= {*whole.steps} for whole in groups)]
            waits = broken.waits
            for group in groups:
                waits += _waits_for_whole(group, waits)
            ordered = in_order(names, waits)
            self._check_circles(circles, steps)
        except CircleError as error:
            step = error.circle[0].step
            self.problem(("pipeline" if step in job.pipeline else "command", step), error.what, error.remedy)
        self._check_deletions(steps)
        self._check_files(steps)
        self._check_windows(steps)
        seen = list(self._seen(steps))
        if self.problems:
            wrong = JobError(list(dict.fromkeys(self.problems)), self._passing.issuperset(self.problems))
            raise UnplannedJob(wrong, job, seen)
        places = {name: place for place, name in enumerate(ordered)}
        groups = [Group(group.database, tuple(sorted(group.steps, key=places.__getitem__))) for group in groups]
        new = _made_in_order(sorted(self._new.values(), key=lambda table: places[table.step]))
        return JobPlan(
            job, [steps[name] for name in ordered], waits, self.connections, self.notes, groups, new, self.adding or [],
            given_up, seen, {place: table for place, table in self._tables.items() if place not in self._new},
            self.known.owned,
        )  # fmt: skip

    def _planned(self, name: str) -> dict[str, StepPlan]:
        """The plan of a pipeline, by its name; nothing where it has none."""
        try:
            plan = PipelinePlanner(self, name).plan()
        except NoFiles as error:
            target = self.connections.get(self.job.pipeline[name].target.connection)
            if target is None:
                return {}
            why = f"{error.what}, so nothing is loaded"
            self.note(("pipeline", name, "source"), why, "its columns are checked once there is one")
            return {name: CommandPlan(name, as_target(target), "", kind="pipeline", idle=why)}
        return {} if plan is None else {name: plan}

    def _seen(self, steps: Mapping[str, StepPlan]) -> Iterator[SeenTable]:
        """What the tables look like that each pipeline uses, those apart that are to be made."""
        for name, pipeline in self.job.pipeline.items():
            query, plan = pipeline.source.query, steps.get(name)
            described = query is not None or (isinstance(plan, PipelinePlan) and Reads.FILES in plan.source.reads)
            if described and isinstance(plan, PipelinePlan):
                yield seen_table(name, SOURCE, plan.source, plan.reading.table, query)
            places: list[tuple[str, Source | Table]] = [(SOURCE, pipeline.source), (TARGET, pipeline.target)]
            places += [(lookup, settings.table) for lookup, settings in pipeline.lookup.items()]
            for role, place in places:
                key = (place.connection, place.schema_, place.name)
                if key in self._tables and key not in self._new and place.connection in self.connections:
                    yield seen_table(name, role, self.connections[place.connection], self._tables[key])

    def _open_connections(self) -> None:
        """Open what the job reads and writes: its connections, and what pipelines of a Python program bring along."""
        job = self.job
        for name, connection in job.connection.items():
            with self.at(("connection", name)):
                self.connections[name] = self.known.opened(name, connection, job.folder)
        for name, pipeline in job.pipeline.items():
            if pipeline.source.data is not None:
                self.connections.setdefault(
                    pipeline.source.connection, ArrowSource(f"the data of pipeline {name}", pipeline.source.data)
                )
            if pipeline.target.memory is not None:
                memory = MemoryTarget(f"the memory of pipeline {name}", pipeline.target.memory)
                self.connections.setdefault(pipeline.target.connection, memory)
            if pipeline.target.connection in self.connections:
                self.connections[pipeline.target.connection].may_be_made()

    def _groups(self, steps: Mapping[str, StepPlan]) -> list[Group]:
        """Steps whose pipelines say commit = "job", by target, with the commands there."""
        pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
        groups = []
        together = dict.fromkeys(plan.target.identity for plan in pipelines if plan.settings.commits.shared)
        for identity in together:
            members = [plan for plan in pipelines if plan.target.identity == identity]
            for plan in members:
                if not plan.settings.commits.shared:
                    self.problem(
                        ("pipeline", plan.name, "commit"),
                        'other pipelines into this target say commit = "job", and this one does not',
                        "set it for all of them, for instance in [defaults]",
                    )
            commands = [
                p.name for p in steps.values() if isinstance(p, CommandPlan) and p.database.identity == identity
            ]
            groups.append(Group(members[0].target, (*(plan.name for plan in members), *commands)))
        return groups

    def _check_circles(self, circles: list[Group], steps: Mapping[str, StepPlan]) -> None:
        """Steps that refer to each other are committed together, which must be possible."""
        for circle in circles:
            for name in circle.steps:
                step = steps[name]
                if not isinstance(step, PipelinePlan) or step.target.identity != circle.database.identity:
                    kind = "pipeline" if isinstance(step, PipelinePlan) else "command"
                    self.problem(
                        (kind, name),
                        f"it stands between {' and '.join(other for other in circle.steps if other != name)}, which "
                        "refer to each other and are loaded in one transaction",
                        "have it run before or after both",
                    )
                elif step.settings.commits.by_batch:
                    self.problem(
                        ("pipeline", name, "commit"),
                        f'"batch" does not go with tables that refer to each other ({", ".join(circle.steps)}), which '
                        "are loaded in one transaction",
                        'set commit = "step"',
                    )

    def _check_deletions(self, steps: Mapping[str, StepPlan]) -> None:
        """No pipeline may delete what another one loads into the same table."""
        for pipelines in _by_target(steps).values():
            for plan in pipelines if len(pipelines) > 1 else ():
                if plan.settings.missing == "delete":
                    other = next(one for one in pipelines if one is not plan)
                    self.problem(
                        ("pipeline", plan.name, "missing"),
                        f"it would delete the rows that pipeline {other.name} loads into the same table",
                        'read both in one query, or set missing = "keep"',
                    )

    def _check_files(self, steps: Mapping[str, StepPlan]) -> None:
        """No two pipelines may write files of the same names."""
        plans = [
            plan for plan in steps.values() if isinstance(plan, PipelinePlan) and Writes.FILES in plan.target.writes
        ]
        plans = [plan for plan in plans if Reads.FILES in plan.target.reads]
        for place, plan in enumerate(plans):
            for other in plans[:place]:
                if plan.target.overlaps(plan.target_table, other.target, other.target_table):
                    self.problem(
                        ("pipeline", plan.name, "target"),
                        f"pipeline {other.name} writes files of these names too",
                        "give each its own, for instance by {step} in the name",
                    )

    def _check_windows(self, steps: Mapping[str, StepPlan]) -> None:
        """The windows of a schedule must be some of what pipelines load."""
        schedule = self.job.schedule
        if schedule is None or schedule.step is None:
            return
        changes = {
            p.name: p.since.change for p in steps.values() if isinstance(p, PipelinePlan) and p.since is not None
        }
        if not changes and not self.problems:
            self.problem(
                ("schedule", "window"), "no pipeline loads only what is new", "give one since, or take the window away"
            )
        for name, change in changes.items():
            if change.type.family not in (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ):
                what = f"{change.text} is of type {change.type}, and the windows of the schedule are times"
                self.problem(("pipeline", name, "since"), what, "take a date or timestamp, or run it by hand with --by")
            elif change.type.family is Family.DATE and schedule.step.unit in ("seconds", "minutes", "hours"):
                what = f"{change.text} is a date, and the windows of the schedule are {schedule.window}"
                self.problem(("pipeline", name, "since"), what, 'make the window "1 day" or longer')

    # --- problems --------------------------------------------------------------------------------------------------

    def problem(self, path: KeyPath, what: str, remedy: str = "") -> None:
        self.problems.append(self._located(path, what, remedy))

    def note(self, path: KeyPath, what: str, remedy: str = "") -> None:
        self.notes.append(self._located(path, what, remedy))

    def _located(self, path: KeyPath, what: str, remedy: str) -> Problem:
        file, line = self.job.located(path)
        if path[:1] == ("connection",):
            what = re.sub(rf"^connection {re.escape(path[1])}(?:: | \((.*?)\)(?=: ))", r"\1", what)  # the path says it
        return Problem(path, what, remedy, file, line)

    @contextmanager
    def at(self, path: KeyPath) -> Iterator[None]:
        """While it lasts, errors become problems of that key."""
        try:
            yield
        except UnresolvedLookupError:
            pass  # the look-up's own problem is enough
        except ExpressionError as error:
            what = error.what
            if error.text and error.text != what:
                place = f"at character {error.position + 1} of " if error.position is not None else "in "
                what = f"{what}, {place}{_around(error.text, error.position)}"
            self.problem(path, what, error.remedy)
        except JobError as error:
            self.problems.extend(error.problems)
        except KanalError as error:
            self._failed(path, error)

    def _failed(self, path: KeyPath, error: KanalError) -> None:
        self.problem(path, error.what, error.remedy)
        if passes(error):
            self._passing.add(self.problems[-1])

    # --- names -----------------------------------------------------------------------------------------------------

    def _check_names(self) -> None:
        """Every name that one part of the job uses must be that of another."""
        job = self.job
        steps = [*job.pipeline, *job.command]
        for name in set(job.pipeline) & set(job.command):
            self.problem(("command", name), f'a pipeline is named "{name}" too', "give one of the two another name")
        for name, pipeline in job.pipeline.items():
            path = ("pipeline", name)
            effective = job.effective(name)
            named = {**job.connection, **self.connections}
            self._known((*path, "source"), "connection", pipeline.source.connection, named)
            self._known((*path, "target"), "connection", pipeline.target.connection, named)
            for lookup, settings in pipeline.lookup.items():
                self._known((*path, "lookup", lookup), "connection", settings.table.connection, job.connection)
            self._check_after(path, pipeline, steps)
            if pipeline.other_way is not None:
                self._known((*path, "other_way"), "pipeline", pipeline.other_way, job.pipeline)
            for check in effective.checks:
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

    def _check_after(self, path: KeyPath, pipeline: Pipeline, steps: list[str]) -> None:
        for key in ("after", "not_after"):
            for step in getattr(pipeline, key):
                self._known((*path, key), "step", step, steps)
        both = sorted(set(pipeline.after) & set(pipeline.not_after))
        if both:
            self.problem((*path, "not_after"), f"{', '.join(both)} is named in after too", "name it in one of the two")

    def _known(self, path: KeyPath, what: str, name: str, names: Any) -> None:
        if name not in names:
            self.problem(
                path,
                f'there is no {what} "{name}" in the job',
                did_you_mean(name, names) or f"add [{what}.{name}]",
            )

    def database(self, name: str) -> Connection | None:
        return self.connections.get(name)

    def table(self, place: Source | Table) -> TableInfo | None:
        """The table of a place; None if that depends on what is a problem already, such as a connection that fails."""
        database = self.database(place.connection)
        if database is None or place.connection in self._unusable:
            return None
        table = place.name
        key = (place.connection, place.schema_, table)
        if place.files is not None or Reads.FILES in database.reads:
            return database.catalogue.describe_files(place.pattern, self.format_named(place.format))
        if key not in self._tables:
            try:
                database.catalogue.table_names(place.schema_)
            except KanalError as error:
                self._unusable.add(place.connection)
                self._failed(("connection", place.connection), error)
                return None
            if key in self._unplanned:
                return None
            self._tables[key] = self._planned_table(key, place, database)
        return self._tables[key]

    def _planned_table(self, key: TablePlace, place: Source | Table, database: Connection) -> TableInfo:
        """The table of a place: as the database describes it, or as the first pipeline that loads it will create it."""
        maker = None if database.catalogue.has_table(place.schema_, place.name) else self._maker(place)
        if maker is None and database.missing_file:
            raise KanalError(
                f"there is no file {database.missing_file} yet, and no table {place.name} in it",
                'let Kanal make both: set create = "missing", or run with --create',
            )
        if maker is None:
            return database.catalogue.describe(place.schema_, place.name)
        if Writes.CREATE not in database.writes:
            raise lacks(database.name, Writes.CREATE)
        self._unplanned[key] = maker
        made = PipelinePlanner(self, maker).new_table()
        if made is None:
            raise JobError([])  # the problem of the source has been reported
        del self._unplanned[key]
        self._new[key] = NewTable(maker, as_target(database), *made)
        return made[0]

    def is_being_planned(self, place: Table, step: str) -> bool:
        """True for a table that a step will create and whose columns are not known yet."""
        return self._unplanned.get((place.connection, place.schema_, place.name)) == step

    def format_named(self, name: str | None) -> Format | None:
        """The format of files that the job names; raises KanalError where it has none of that name."""
        if name is not None and name not in self.job.format_:
            raise KanalError(f'there is no format "{name}" in the job',
                             did_you_mean(name, self.job.format_) or f"add [format.{name}]")  # fmt: skip
        return self.job.format_[name] if name is not None else None

    def is_new(self, database: Connection, table: TableInfo) -> bool:
        """True for a table that is not there yet, and will be made."""
        return any(new.database is database and new.table is table for new in self._new.values())

    def _maker(self, place: Source | Table) -> str | None:
        """The pipeline by whose mapping a missing table may be made; its first."""
        for name in self.job.pipeline:
            settings = self.job.effective(name)
            target = settings.target
            same = (target.connection, target.schema_) == (place.connection, place.schema_)
            same = same and target.name.casefold() == place.name.casefold()
            wanted = self._create or settings.create == "missing" or target.memory is not None
            if same and wanted and name not in self._making:
                self._making.add(name)
                return name
        return None

    def _refer(self, steps: dict[str, StepPlan]) -> None:
        """Give tables to be made the references of their sources, and those to the tables that they look up."""
        for place, new in self._new.items():
            plan = steps.get(new.step)
            if isinstance(plan, PipelinePlan):
                found = references(plan, [step for step in steps.values() if isinstance(step, PipelinePlan)])
                indexed = {*new.table.indexes, *new.table.unique, new.table.primary_key}
                keys = [key.columns for key in found]
                wanted = [key for key in keys if not any(index[: len(key)] == key for index in indexed)]
                more = tuple(dict.fromkeys(wanted))
                table = replace(new.table, foreign_keys=tuple(found), indexes=(*new.table.indexes, *more))
                self._new[place] = replace(new, table=table)
                for name, step in steps.items():
                    if isinstance(step, PipelinePlan) and step.target_table is new.table:
                        steps[name] = replace(step, target_table=table)

    def _expect_tables(self) -> None:
        """Tell each database which of its tables the job names."""
        places: list[Source | Table] = []
        for pipeline in self.job.pipeline.values():
            places += [pipeline.target, *(lookup.table for lookup in pipeline.lookup.values())]
            places += [pipeline.source] if pipeline.source.table is not None else []
        places += [rule.table_column.table for rule in self.job.check_.values() if rule.table_column is not None]
        named: dict[tuple[str, str | None], set[str]] = {}
        for place in places:
            if (place.connection, place.schema_, place.name) not in self._tables:
                named.setdefault((place.connection, place.schema_), set()).add(place.name)
        for (connection, schema), tables in named.items():
            if connection in self.connections:
                self.connections[connection].catalogue.expect(schema, tables)

    def _sql(self, name: str) -> str:
        command = self.job.command[name]
        if command.sql is not None:
            return command.sql
        path = self.job.texts / str(command.sql_file)
        try:
            return path.read_text(encoding="utf-8")
        except (OSError, ValueError) as error:
            why = getattr(error, "strerror", None) or "it is not text in UTF-8"
            raise KanalError(f"sql_file {path} cannot be read: {why}", "correct its path") from None

    # --- order -----------------------------------------------------------------------------------------------------

    def _waits(self, steps: Mapping[str, StepPlan]) -> list[Wait]:
        job = self.job
        waits: dict[tuple[str, str], Wait] = {}
        steps_in_order = list(job.pipeline)

        def wait(step: str, before: str, why: str, *keys: ForeignKey) -> None:
            if step == before or (why != "after" and step in job.pipeline and before in job.pipeline[step].not_after):
                return
            both_ways = step in job.pipeline and job.pipeline[step].other_way == before
            if both_ways and steps_in_order.index(before) > steps_in_order.index(step):
                return  # of two ways, the one that comes first in the job goes first
            known = waits.setdefault((step, before), Wait(step, before, why, keys))
            if known.keys and not keys:  # it waits for something else too
                waits[step, before] = Wait(step, before, why)
            elif known.keys and keys[0] not in known.keys:
                waits[step, before] = replace(known, keys=(*known.keys, *keys))

        afters = {name: step.after for name, step in job.pipeline.items()}
        afters |= {name: step.after for name, step in job.command.items()}
        for name, before_it in afters.items():
            for before in before_it:
                wait(name, before, "after")
        fillers = _Fillers(steps)
        for plan in fillers.pipelines:
            for other, why, key in fillers.used_by(plan):
                wait(plan.name, other.name, why, *([key] if key is not None else []))
        for same in fillers.by_target.values():
            for place, plan in enumerate(same):
                for later in same[place + 1 :]:
                    if (plan.name, later.name) not in waits and (later.name, plan.name) not in waits:
                        label = later.settings.target.label
                        wait(later.name, plan.name, f"writes {label} too, and comes later in the job")
        return list(waits.values())


def _around(text: str, position: int | None) -> str:
    """An expression for a message; of a long one, what stands around a position."""
    if len(text) <= 200:
        return text
    start = max(0, (position or 0) - 60)
    return f"{'…' if start else ''}{text[start : start + 140]}{'…' if start + 140 < len(text) else ''}"


def _by_target(steps: Mapping[str, StepPlan]) -> dict[Hashable, list[PipelinePlan]]:
    """The pipelines of each table, in the order of the job."""
    found: dict[Hashable, list[PipelinePlan]] = {}
    for plan in steps.values():
        if isinstance(plan, PipelinePlan):
            found.setdefault(plan.target.place_of(plan.target_table), []).append(plan)
    return found


class _Fillers:
    """The tables that a job fills, found by what uses them."""

    def __init__(self, steps: Mapping[str, StepPlan]) -> None:
        self.pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
        self.by_target = _by_target(steps)
        self._by_reference: dict[tuple[Hashable, str], list[PipelinePlan]] = {}
        #: Tables that may be parts of others, of which rows are to be found by another name.
        self._by_database: dict[Hashable, list[PipelinePlan]] = {}
        for same in self.by_target.values():
            first = same[0]
            key = (first.target.identity, first.target_table.name.casefold())
            self._by_reference.setdefault(key, []).extend(same)
            self._by_database.setdefault(first.target.identity, []).append(first)

    def _filling(self, database: Connection, table: TableInfo) -> Iterator[PipelinePlan]:
        """The pipelines that fill a table, or one that has some of its rows."""
        direct = self.by_target.get(database.place_of(table), [])
        yield from direct
        if database.has_parts(table):
            for first in self._by_database.get(database.identity, []):
                if first not in direct and database.overlaps(table, first.target, first.target_table):
                    yield from self.by_target[first.target.place_of(first.target_table)]

    def used_by(self, step: PipelinePlan) -> Iterator[tuple[PipelinePlan, str, ForeignKey | None]]:
        """The pipelines for which a step has to wait, each with the reason why, and the foreign key that it is."""
        if step.settings.source.query is None:
            for other in self._filling(step.source, step.reading.table):
                yield other, f"reads {other.settings.target.label}", None
        for _, database, table in step.lookups:
            for other in self._filling(database, table):
                yield other, f"looks up {other.settings.target.label}", None
        for check in step.checks:
            if check.members is not None:
                for other in self._filling(*check.members[:2]):
                    yield other, f"checks against {other.settings.target.label}", None
        for key in step.target_table.foreign_keys:
            if key.refers_to(step.target_table):
                continue  # pipelines into one table run in the order of the job
            for other in self._by_reference.get((step.target.identity, key.table.casefold()), []):
                if key.refers_to(other.target_table):
                    yield other, f"refers to {other.settings.target.label} by a foreign key", key


def with_secrets(job: JobDefinition) -> JobDefinition:
    """The job with the values of parameters that are secret; raises JobError where one cannot be had."""
    found: dict[str, Any] = {}
    for name, value in job.parameters.items():
        if isinstance(value, Secret):
            try:
                found[name] = secret_value(value, f"parameter {name}", job.folder)
            except KanalError as error:
                place = job.located(("parameters", name))
                raise JobError([Problem(("parameters", name), error.what, error.remedy, *place)]) from None
    return job.model_copy(update={"parameters": job.parameters | found}) if found else job


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


def _made_in_order(tables: list[NewTable]) -> list[NewTable]:
    """Tables to be made, those references apart that can only be made once all are there."""
    made = []
    for place, new in enumerate(tables):
        after = [other.table for other in tables[place + 1 :] if other.database.identity == new.database.identity]
        keys = new.table.foreign_keys if not new.database.ddl.refers_forward else ()
        later = tuple(key for key in keys if any(key.refers_to(table) for table in after))
        now = tuple(key for key in new.table.foreign_keys if key not in later)
        made.append(replace(new, table=replace(new.table, foreign_keys=now), later=later))
    return made
