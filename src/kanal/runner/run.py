"""What can be done with a job: check it, run it, go on with a run, load its rejects again."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.core.newness import change_text, change_value
from kanal.databases import marks, open_database
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import RunLogStore, RunRecord
from kanal.runner.execution import Execution
from kanal.runner.new_tables import create_tables
from kanal.runner.plan import plan_job
from kanal.runner.plans import JobPlan, PipelinePlan, SincePlan
from kanal.runner.replay import plan_of_replay
from kanal.runner.results import Run
from kanal.runner.watcher import Silent, Watcher


def with_parameters(job: JobDefinition, values: Mapping[str, Any]) -> JobDefinition:
    """The job with other values for some of its parameters; raises JobError for one that it does not have."""
    for name in values:
        if name not in job.parameters:
            remedy = did_you_mean(name, job.parameters) or "add it to [parameters]"
            raise JobError([Problem(("parameters",), f'the job has no parameter "{name}"', remedy)])
    return _changed(job, {"parameters": job.parameters | dict(values)})


def with_batch_rows(job: JobDefinition, batch_rows: int) -> JobDefinition:
    """The job with another number of rows a batch, for all pipelines."""
    pipelines = {name: p.model_copy(update={"batch_rows": batch_rows}) for name, p in job.pipeline.items()}
    return _changed(job, {"pipeline": pipelines})


def _changed(job: JobDefinition, update: dict[str, Any]) -> JobDefinition:
    return job.model_copy(update=update)


def run_log_of(job: JobDefinition) -> RunLogStore:
    """The run log that the job names."""
    database = open_database("run_log", job.run_log, job.folder)
    return RunLogStore(database, job.run_log.keep_rejects, job.run_log.keep_runs)


def check_job(job: JobDefinition) -> list[Problem]:
    """All that is wrong with a job, offline and against its databases; empty where it can be run."""
    try:
        plan = plan_job(job)
    except JobError as error:
        return error.problems
    _dispose(plan)
    return []


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
    row moves, and KanalError where the run log cannot be written or another run of the job is under way.
    """
    given: dict[str, Any] = {"only": only, "parameters": dict(parameters or {}), "batch_rows": batch_rows}
    given["workers"] = workers
    given |= {name: None if bound is None else str(bound) for name, bound in (("since", since), ("until", until))}
    options = {name: value for name, value in (given | {"all": everything, "create": create}).items() if value}
    with _planned(job, options) as (plan, log):
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
    with _planned(job, record.options) as (plan, log):
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
    rejected = {name: log.rejected_rows(record.run, name) for name in names if step in (None, name)}
    rejected = {name: rows for name, rows in rejected.items() if rows}
    if not rejected:
        raise KanalError(f"Run {record.run} has no rejected rows that are not mended", "there is nothing to load again")
    kept = ("parameters", "batch_rows", "workers", "create")
    options = {name: value for name, value in record.options.items() if name in kept}
    with _planned(job, options) as (plan, log):
        _keep_only(plan, list(rejected))
        plan.steps = [plan_of_replay(plan) if isinstance(plan, PipelinePlan) else plan for plan in plan.steps]
        plan.groups = []
        steps = [(plan.name, plan.kind) for plan in plan.steps]
        again = log.begin_run(job.job, _file_of(job), steps, options | {"replay": record.run})
        return Execution(plan, log, again, watcher or Silent(), rejected).run()


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
def planned(job: JobDefinition, options: Mapping[str, Any]) -> Iterator[JobPlan]:
    """The plan of a job as a run with these options would have it, for looking only; closed afterwards."""
    job = _with_options(job, options)
    plan = plan_job(job)
    try:
        _apply(plan, options)
        yield plan
    finally:
        _dispose(plan)


def _with_options(job: JobDefinition, options: Mapping[str, Any]) -> JobDefinition:
    if options.get("parameters"):
        job = with_parameters(job, options["parameters"])
    if options.get("batch_rows"):
        job = with_batch_rows(job, options["batch_rows"])
    return job


def _apply(plan: JobPlan, options: Mapping[str, Any]) -> None:
    if options.get("only"):
        _keep_only(plan, options["only"])
    if any(options.get(name) for name in ("since", "until", "all")):
        _set_range(plan, options)


@contextmanager
def _planned(job: JobDefinition, options: Mapping[str, Any]) -> Iterator[tuple[JobPlan, RunLogStore]]:
    """The plan of a job and its run log, ready; both are closed afterwards."""
    job = _with_options(job, options)
    plan = plan_job(job, create=bool(options.get("create")))
    if plan.new_tables:
        try:
            create_tables(plan)
        finally:
            _dispose(plan)
        plan = plan_job(job)  # as the databases describe what was made
    try:
        _apply(plan, options)
        log = run_log_of(job)
        for database in plan.databases.values():
            if database.shares_lock_with(log.database):
                raise JobError(
                    [
                        Problem(
                            ("run_log",),
                            f"the run log is in the file of connection {database.name}",
                            "give it a file of its own",
                            *job.located(("run_log",)),
                        )
                    ]
                )
        log.prepare()
        try:
            log.bury_the_dead()
            yield plan, log
        finally:
            log.database.dispose()
    finally:
        _dispose(plan)


def _set_range(plan: JobPlan, options: Mapping[str, Any]) -> None:
    """Take, of pipelines that load what is new, what the run was told."""
    if options.get("all") and (options.get("since") or options.get("until")):
        raise JobError([Problem((), "all rows, and rows of a range, are asked for at once", "ask for one of the two")])
    found = [step for step in plan.steps if isinstance(step, PipelinePlan) and step.since is not None]
    if not found:
        raise JobError([Problem((), "no step of this run loads only what is new", "give a pipeline the key since")])
    for step in found:
        assert step.since is not None
        try:
            since = step.since.given(options)
        except KanalError as error:
            raise JobError([Problem(("pipeline", step.name, "since"), error.what, error.remedy)]) from None
        plan.steps[plan.steps.index(step)] = replace(step, since=since)


def _dispose(plan: JobPlan) -> None:
    for database in plan.databases.values():
        database.dispose()


def _keep_only(plan: JobPlan, only: list[str]) -> None:
    names = [step.name for step in plan.steps]
    for name in only:
        if name not in names:
            raise JobError([Problem((), f'the job has no step "{name}"', did_you_mean(name, names))])
    plan.steps = [step for step in plan.steps if step.name in only]


@dataclass(frozen=True)
class MarkState:
    """A step that loads only what is new: its change column, its mark, and the moment (UTC) of the run that set it."""

    step: str
    column: str
    mark: str | None
    moved: str | None


@contextmanager
def _steps_with_marks(job: JobDefinition) -> Iterator[list[tuple[PipelinePlan, SincePlan]]]:
    plan = plan_job(job)
    try:
        yield [(step, step.since) for step in plan.steps if isinstance(step, PipelinePlan) and step.since is not None]
    finally:
        _dispose(plan)


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
