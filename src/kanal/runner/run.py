"""What can be done with a job: check it, run it, go on with a run, load its rejects again."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.core.newness import change_text, change_value
from kanal.databases import marks, open_database, progress
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import RunLogStore, RunRecord
from kanal.runner.events import tell
from kanal.runner.execution import Execution
from kanal.runner.planning import choose, keep_only, plan_to_run, planned, told, with_options
from kanal.runner.plans import JobPlan, PipelinePlan, SincePlan
from kanal.runner.replay import plan_of_replay
from kanal.runner.results import Run
from kanal.runner.watcher import Silent, Watcher


def run_log_of(job: JobDefinition) -> RunLogStore:
    """The run log that the job names."""
    database = open_database("run_log", job.run_log, job.folder)
    return RunLogStore(database, job.run_log.keep_rejects, job.run_log.keep_runs)


def check_job(job: JobDefinition) -> list[Problem]:
    """All that is wrong with a job, offline and against its databases; empty where it can be run."""
    try:
        with planned(job):
            return []
    except JobError as error:
        return error.problems


def run_job(
    job: JobDefinition,
    *,
    only: list[str] | None = None,
    parameters: Mapping[str, Any] | None = None,
    batch_rows: int | None = None,
    workers: int | None = None,
    since: object = None,
    until: object = None,
    everything: bool = False,
    create: bool = False,
    watcher: Watcher | None = None,
) -> Run:
    """Run a job, or of it only the steps named, and return how it went.

    `parameters` replace values of [parameters]; `batch_rows` replaces that of every pipeline; `workers` is how many
    steps may run at once. Of pipelines that load what is new, `since`, `until` and `everything` say what to take this
    time: change values from the one on and before the other, or all. With `create`, missing target tables are made
    first. A step that fails does not raise: its result says why. Raises JobError where the job is wrong, before any
    row moves (a failed run then stands in the run log), and KanalError where the run log cannot be written or another
    run of the job is under way.
    """
    options = told(
        only=only, parameters=parameters, batch_rows=batch_rows, workers=workers, since=since, until=until,
        everything=everything, create=create,
    )  # fmt: skip
    with _ready(job, options, noted=True) as (plan, log):
        steps = [(step.name, step.kind) for step in plan.steps]
        record = log.begin_run(job.job, _file_of(job), steps, options)
        return Execution(plan, log, record, watcher or Silent(), workers=workers).run()


def resume_run(job: JobDefinition, number: int | None = None, watcher: Watcher | None = None) -> Run:
    """Go on with a run of the job that failed, was stopped or died: the latest, or that of a number.

    Steps that succeeded are not run again. The run keeps its number, its moment and what it was told. Raises JobError
    where the job is wrong, and KanalError where there is nothing to go on with.
    """
    record = _past_run(job, number)[1]
    if "replay" in record.options:
        raise KanalError(
            f"Run {record.run} loaded rejects of run {record.options['replay']} again", "replay those that are left"
        )
    if record.status == "succeeded":
        raise KanalError(f"Run {record.run} succeeded, there is nothing to go on with", "run the job anew")
    with _ready(job, record.options) as (plan, log):
        steps = [(step.name, step.kind) for step in plan.steps]
        begun = [step.name for step in plan.steps if isinstance(step, PipelinePlan) and step.settings.commit == "batch"]
        record = log.resume_run(record.run, steps, begun)
        return Execution(plan, log, record, watcher or Silent(), workers=record.options.get("workers")).run()


def replay_run(
    job: JobDefinition, number: int | None = None, step: str | None = None, watcher: Watcher | None = None
) -> Run:
    """Load the rejected rows of a run again, and only those, through the job as it is now; a run of its own.

    Of the latest run or that of a number, of all its steps or of one. Rows that load are recorded as mended, the others
    stay rejected. Rows are added to the target or merged into it, never is anything removed. Raises KanalError where
    there is nothing to load again.
    """
    log, record = _past_run(job, number)
    names = [result.step for result in record.steps]
    if step is not None and step not in names:
        raise KanalError(f'Run {record.run} has no step "{step}"', did_you_mean(step, names))
    if not log.reject_groups(record.run, step):
        raise KanalError(f"Run {record.run} has no rejected rows that are not mended", "there is nothing to load again")
    kept = ("parameters", "batch_rows", "workers", "create")
    options = {name: value for name, value in record.options.items() if name in kept}
    with _ready(job, options) as (plan, log):
        _settle(plan, log, record.run)
        rejected = {name: log.rejected_rows(record.run, name) for name in names if step in (None, name)}
        rejected = {name: rows for name, rows in rejected.items() if rows}
        if not rejected:
            raise KanalError(
                f"The rejected rows of run {record.run} had been loaded by a replay that died just then",
                "there is nothing to load again",
            )
        keep_only(plan, list(rejected))
        plan.steps = [plan_of_replay(plan) if isinstance(plan, PipelinePlan) else plan for plan in plan.steps]
        plan.groups = []
        steps = [(plan.name, plan.kind) for plan in plan.steps]
        again = log.begin_run(job.job, _file_of(job), steps, options | {"replay": record.run})
        return Execution(plan, log, again, watcher or Silent(), rejected).run()


def _settle(plan: JobPlan, log: RunLogStore, run: int) -> None:
    """Ask the targets what was committed by runs that died while they loaded rejects of a run."""
    targets = {step.name: step.target for step in plan.steps if isinstance(step, PipelinePlan)}
    unsettled = [found for found in log.unsettled(run) if found[2] in targets]
    for dead, token, name in unsettled:
        found = progress.recorded(targets[name], token, name)
        log.settle(dead, name, found is not None and found.done)
    for _, token, name in unsettled:
        progress.forget(targets[name], token)


def _past_run(job: JobDefinition, number: int | None) -> tuple[RunLogStore, RunRecord]:
    """A job's run log, and a run of the job in it: the latest or that of a number; raises KanalError for none."""
    log = run_log_of(job)
    if not log.exists():
        raise KanalError(f"There is no run of {job.job} yet", "run the job first")
    log.prepare()
    log.bury_the_dead()
    record = log.run(number)
    if record.job != job.job:
        raise KanalError(f"Run {record.run} is one of the job {record.job}, not of {job.job}", "name its own job file")
    return log, record


def _file_of(job: JobDefinition) -> str | None:
    """The job's file, as it is found from any folder; None for a job made in Python."""
    file, _ = job.located(())
    return str(file.resolve()) if file else None


@contextmanager
def _ready(
    job: JobDefinition, options: Mapping[str, Any], noted: bool = False
) -> Iterator[tuple[JobPlan, RunLogStore]]:
    """The plan of a job for a run and its run log, ready; both are closed afterwards.

    Where the job cannot be begun, and that is to be `noted`, a failed run stands in the run log.
    """
    job = with_options(job, options)
    started = dt.datetime.now(dt.UTC)
    try:
        plan = plan_to_run(job, options)
    except KanalError as error:
        if noted:
            _note_failure(job, options, started, error)
        raise
    try:
        choose(plan, options)
        log = run_log_of(job)
        for database in plan.databases.values():
            if database.shares_lock_with(log.database):
                place = job.located(("run_log",))
                what = f"the run log is in the file of connection {database.name}"
                raise JobError([Problem(("run_log",), what, "give it a file of its own", *place)])
        log.prepare()
        try:
            log.bury_the_dead()
            yield plan, log
        finally:
            log.database.dispose()
    finally:
        plan.dispose()


def _note_failure(job: JobDefinition, options: Mapping[str, Any], started: dt.datetime, error: KanalError) -> None:
    """Record a run that failed before any of its steps began, where that is possible."""
    with suppress(KanalError):
        log = run_log_of(job)
        for name, connection in job.connection.items():
            with suppress(KanalError):
                if open_database(name, connection, job.folder).shares_lock_with(log.database):
                    return
        try:
            log.prepare()
            run = log.add_failed_run(job.job, _file_of(job), options, started, str(error))
            tell("run_ends", run=run, job=job.job, status="failed", error=str(error))
        finally:
            log.database.dispose()


@dataclass(frozen=True)
class MarkState:
    """A step that loads only what is new: its change column, its mark, and the moment (UTC) of the run that set it."""

    step: str
    column: str
    mark: str | None
    moved: str | None


@contextmanager
def _steps_with_marks(job: JobDefinition) -> Iterator[list[tuple[PipelinePlan, SincePlan]]]:
    with planned(job) as plan:
        yield [(step, step.since) for step in plan.steps if isinstance(step, PipelinePlan) and step.since is not None]


def marks_of(job: JobDefinition) -> list[MarkState]:
    """The marks of a job's steps that load only what is new; raises JobError where the job is wrong."""
    states = []
    with _steps_with_marks(job) as found:
        for step, since in found:
            known = marks.mark_of(step.target, job.job, step.name)
            mark, moved = (known.mark, known.moved) if known is not None else (None, None)
            states.append(MarkState(step.name, since.change.text, mark, moved))
    return states


def set_mark(job: JobDefinition, step: str, value: object) -> None:
    """Set the mark of a step, from which its next run goes on; None takes it away. Raises KanalError."""
    with _steps_with_marks(job) as found:
        for plan, since in found:
            if plan.name == step:
                text = None if value is None else change_text(change_value(value, since.change.type))
                marks.make_ready(plan.target)
                with plan.target.load() as load:
                    marks.move(load, job.job, step, text, dt.datetime.now(dt.UTC))
                    load.commit()
                return
        names = [plan.name for plan, _ in found]
    raise KanalError(f'"{step}" is no step that loads only what is new', did_you_mean(step, names) or "give it since")
