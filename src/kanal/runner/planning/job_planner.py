"""Turns a job into steps ready to run, or reports everything that is wrong with it before a row moves."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from kanal.connections import TableInfo, open_connection, secret_value
from kanal.connections.arrow import ArrowSource, MemoryTarget
from kanal.connections.base import Connection, as_target
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.errors import KanalError
from kanal.core.expressions.registry import Function
from kanal.definition import Connection as ConnectionSettings
from kanal.definition import JobDefinition, JobError, Problem, Secret, Source, Table
from kanal.runlog import SeenTable
from kanal.runner.job_plan import CommandPlan, Difference, Group, JobPlan, PipelinePlan, StepPlan, TablePlace
from kanal.runner.planning.circles import break_circles, circle_groups, with_open_references
from kanal.runner.planning.created_table import new_table
from kanal.runner.planning.exchanges import link_exchanges
from kanal.runner.planning.job_checks import check_circles, check_deletions, check_files, check_names, check_windows
from kanal.runner.planning.job_tables import JobTables, in_order_of_creation
from kanal.runner.planning.order import CircleError, Wait, in_order
from kanal.runner.planning.pipeline import plan_pipeline, target_table
from kanal.runner.planning.problems import Problems
from kanal.runner.planning.scope import NoFiles, PipelineScope
from kanal.runner.planning.user_functions import load_functions
from kanal.runner.planning.waits import groups_of, waits_for_whole, waits_of
from kanal.runner.shapes import SOURCE, TARGET, UnplannedJob, seen_table


class Known(Struct, frozen=True):
    """What is known before a job is planned: how its connections are opened, and the descriptions of its tables."""

    opened: Callable[[str, ConnectionSettings, Path], Connection] = open_connection
    tables: Mapping[TablePlace, TableInfo] = field(default_factory=dict)
    #: False if the connections stay open when the plan is closed.
    owned: bool = True


def plan_job(job: JobDefinition, create: bool = False, known: Known | None = None) -> JobPlan:
    """The job's steps in order, compiled against the databases; raises JobError with every problem found.

    With `create`, target tables may be missing; they are planned as the mapping would create them. Otherwise only
    those of pipelines with create = "missing" may.
    """
    planner = JobPlanner(job, create, known or Known())
    try:
        return planner.plan()
    except BaseException:
        for database in planner.connections.values() if planner.known.owned else ():
            database.dispose()
        raise


class JobPlanner:
    """Plans a job. Its attributes are what planning a pipeline needs."""

    def __init__(self, job: JobDefinition, create: bool, known: Known) -> None:
        self.job = with_secrets(job)
        self.known = known
        self.adding: list[Difference] | None = [] if create else None
        self.problems = Problems(self.job)
        self.connections: dict[str, Connection] = {}
        self.functions: Mapping[str, Function | KanalError] = {}
        self.deriving: set[str] = set()
        self.tables = JobTables(
            self.job, self.connections, self.problems, known.tables, create,
            lambda name: new_table(PipelineScope.of(self, name)),
        )  # fmt: skip

    def target_table(self, step: str) -> TableInfo | None:
        """The table that a pipeline of the job fills; None if it is not known."""
        return target_table(PipelineScope.of(self, step))

    def plan(self) -> JobPlan:
        """The plan; raises JobError."""
        job, problems = self.job, self.problems
        if not job.pipeline and not job.command:
            problems.add((), "the job has no pipelines", "add one, such as [pipeline.locks] with source and target")
        self._open_connections()
        check_names(job, self.connections, problems)
        with problems.at(("functions",)):
            self.functions = load_functions(job)
        self.tables.expect()
        steps = self._steps()
        self.tables.add_references(steps)
        link_exchanges(steps, problems.add)
        waits, given_up, ordered = waits_of(job, steps), list[Wait](), list[str]()
        groups = groups_of(steps, problems)
        try:
            names = [name for name in (*job.pipeline, *job.command) if name in steps]
            broken = break_circles(names, waits, steps)
            given_up, circles = broken.given_up, circle_groups(waits, broken, steps)
            with_open_references(steps, given_up)
            groups += [group for group in circles if not any({*group.steps} <= {*whole.steps} for whole in groups)]
            waits = broken.waits
            for group in groups:
                waits += waits_for_whole(group, waits)
            ordered = in_order(names, waits)
            check_circles(circles, steps, problems)
        except CircleError as error:
            step = error.circle[0].step
            problems.add(("pipeline" if step in job.pipeline else "command", step), error.what, error.remedy)
        check_deletions(steps, problems)
        check_files(steps, problems)
        check_windows(job, steps, problems)
        seen = list(self._seen(steps))
        if problems.found:
            raise UnplannedJob(problems.error, job, seen)
        places = {name: place for place, name in enumerate(ordered)}
        new = sorted(self.tables.new.values(), key=lambda table: places[table.step])
        return JobPlan(
            job=job,
            steps=[steps[name] for name in ordered],
            waits=waits,
            connections=self.connections,
            notes=problems.notes,
            groups=[Group(one.database, tuple(sorted(one.steps, key=places.__getitem__))) for one in groups],
            new_tables=in_order_of_creation(new),
            differences=self.adding or [],
            given_up=given_up,
            seen=seen,
            tables=self.tables.described,
            owns_connections=self.known.owned,
        )

    def _steps(self) -> dict[str, StepPlan]:
        """The plans of all pipelines and commands that have no problems."""
        job, steps = self.job, dict[str, StepPlan]()
        for name in job.pipeline:
            with self.problems.at(("pipeline", name)):
                plan = self._pipeline(name)
                if plan is not None:
                    steps[name] = plan
        for name, command in job.command.items():
            if command.connection in self.connections:
                with self.problems.at(("command", name)):
                    database = self.connections[command.connection]
                    if Writes.SQL not in database.writes:
                        raise lacks(database.name, Writes.SQL)
                    steps[name] = CommandPlan(name, as_target(database), self._sql(name), command.timeout)
        return steps

    def _pipeline(self, name: str) -> StepPlan | None:
        """The plan of a pipeline; None if it has problems. If its files are still to come, it does nothing."""
        try:
            return plan_pipeline(PipelineScope.of(self, name))
        except NoFiles as error:
            target = self.connections.get(self.job.pipeline[name].target.connection)
            if target is None:
                return None
            why = f"{error.what}, so nothing is loaded"
            self.problems.note(("pipeline", name, "source"), why, "its columns are checked once there is one")
            return CommandPlan(name, as_target(target), "", kind="pipeline", idle=why)

    def _seen(self, steps: Mapping[str, StepPlan]) -> Iterator[SeenTable]:
        """The shapes of the tables that each pipeline uses, except those to be created."""
        tables = self.tables.described
        for name, pipeline in self.job.pipeline.items():
            query, plan = pipeline.source.query, steps.get(name)
            described = query is not None or (isinstance(plan, PipelinePlan) and Reads.FILES in plan.source.reads)
            if described and isinstance(plan, PipelinePlan):
                yield seen_table(name, SOURCE, plan.source, plan.reading.table, query)
            places: list[tuple[str, Source | Table]] = [(SOURCE, pipeline.source), (TARGET, pipeline.target)]
            places += [(lookup, settings.table) for lookup, settings in pipeline.lookup.items()]
            for role, place in places:
                key = (place.connection, place.schema_, place.name)
                if key in tables and place.connection in self.connections:
                    yield seen_table(name, role, self.connections[place.connection], tables[key])

    def _open_connections(self) -> None:
        """Open the connections of the job, and the data that pipelines of a Python program bring along."""
        job = self.job
        for name, connection in job.connection.items():
            with self.problems.at(("connection", name)):
                self.connections[name] = self.known.opened(name, connection, job.folder)
        for name, pipeline in job.pipeline.items():
            if pipeline.source.data is not None:
                data = ArrowSource(f"the data of pipeline {name}", pipeline.source.data)
                self.connections.setdefault(pipeline.source.connection, data)
            if pipeline.target.memory is not None:
                memory = MemoryTarget(f"the memory of pipeline {name}", pipeline.target.memory)
                self.connections.setdefault(pipeline.target.connection, memory)
            if pipeline.target.connection in self.connections:
                self.connections[pipeline.target.connection].may_be_made()

    def _sql(self, name: str) -> str:
        """The SQL of a command."""
        command = self.job.command[name]
        if command.sql is not None:
            return command.sql
        path = self.job.texts / str(command.sql_file)
        try:
            return path.read_text(encoding="utf-8")
        except (OSError, ValueError) as error:
            why = getattr(error, "strerror", None) or "it is not text in UTF-8"
            raise KanalError(f"sql_file {path} cannot be read: {why}", "correct its path") from None


def with_secrets(job: JobDefinition) -> JobDefinition:
    """The job with the values of its secret parameters; raises JobError if one cannot be found."""
    found: dict[str, Any] = {}
    for name, value in job.parameters.items():
        if isinstance(value, Secret):
            try:
                found[name] = secret_value(value, f"parameter {name}", job.folder)
            except KanalError as error:
                place = job.located(("parameters", name))
                raise JobError([Problem(("parameters", name), error.what, error.remedy, *place)]) from None
    return job.with_parameters(found, resolved=True) if found else job
