"""What can be done with a job: check it, run it, continue a run, load its rejects again."""

from __future__ import annotations

import datetime as dt
import getpass
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from kanal.connections import open_connection, open_log
from kanal.connections.journal import Progress, kept_expression
from kanal.core.change_values import change_text, change_value
from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.core.reasons import NOT_REPLAYED
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import RunLogStore, RunRecord, SeenTable, Start, StepSeed
from kanal.runner.elsewhere import crew_of, known_of
from kanal.runner.events import tell
from kanal.runner.execution import COMMITTED_BEFORE, Execution
from kanal.runner.interruption import Interruption
from kanal.runner.job_plan import JobPlan, PipelinePlan, SincePlan
from kanal.runner.outline import outline_of
from kanal.runner.replay import Rejected, plan_of_replay, read_anew
from kanal.runner.results import Run
from kanal.runner.run_options import RunOptions, choose, keep_only, plan_to_run, planned, with_options, without_secrets
from kanal.runner.shapes import UnplannedJob, table_changes, with_notes
from kanal.runner.watcher import NullWatcher, Watcher

if TYPE_CHECKING:
    from kanal.runner.elsewhere.crew import Crew


class HalfLoaded(KanalError):
    """An unfinished run has committed rows that another run would append once more."""


def run_log_of(job: JobDefinition) -> RunLogStore:
    """The run log that the job names."""
    database = open_log(job.run_log, job.folder)
    return RunLogStore(database, job.run_log.keep_rejects, job.run_log.kept)


def check_job(job: JobDefinition) -> list[Problem]:
    """All that is wrong with a job, offline and against its databases; empty if it can be run."""
    try:
        with planned(job):
            return []
    except JobError as error:
        return error.problems


def run_job(
    job: JobDefinition,
    options: RunOptions | None = None,
    watcher: Watcher | None = None,
    executor: Executor | Crew | None = None,
    interruption: Interruption | None = None,
) -> Run:
    """Run a job, its steps by an executor if one is given, and return the result.

    Ctrl-C and SIGTERM stop it if this is the main thread; in another one an interruption does, if it is given.

    A step that fails does not raise: its result says why. Raises JobError if the job is wrong, before any row moves
    (a failed run then is in the run log), and KanalError if the run log cannot be written or another run of the
    job is under way.
    """
    options = options or RunOptions()
    with crew_of(executor) as crew, _ready(job, options.kept, _start_of(job, options), crew) as (plan, log):
        _settle_replays(plan, log, job.log_name)
        left = _left_in_targets(plan, log.past.unfinished(job.log_name))
        if not options.anew:
            _refuse_half_loaded(left, job)
        _record_committed(left, log)
        record = log.runs.begin_run(
            job.log_name, file_of(job), seeds_of(plan), without_secrets(job, options.kept), _start_of(job, options)
        )
        log.seen.remember(record.run, job.log_name, plan.seen)
        log.seen.remember_plan(record.run, job.log_name, outline_of(plan))
        return Execution(
            plan,
            log,
            record,
            watcher or NullWatcher(),
            workers=options.workers,
            crew=crew,
            options=options.kept,
            interruption=interruption,
        ).run()


def resume_run(
    job: JobDefinition,
    number: int | None = None,
    watcher: Watcher | None = None,
    executor: Executor | Crew | None = None,
) -> Run:
    """Resume a run of the job that failed, was stopped or died: the latest one, or the one with this number.

    Steps that succeeded are not run again. The run keeps its number, its moment and its options. Raises JobError if
    the job is wrong, and KanalError if there is nothing to resume.
    """
    log, record = _past_run(job, number, to_go_on=True)
    if record.status == "succeeded":
        raise KanalError(f"Run {record.run} succeeded, there is nothing to resume", "run the job again")
    if "replay" in record.options:
        raise KanalError(
            f"Run {record.run} loaded rejects of run {record.options['replay']} again", "replay those that are left"
        )
    if not record.token:
        raise KanalError(
            f"Run {record.run} failed long ago, later runs succeeded, and its progress in the targets was cleared",
            "run the job again",
        )
    since = log.past.done_since(record)
    if since is not None:
        raise KanalError(
            f"Run {record.run} has nothing left to do: run {since} has since done all that it did not",
            "run the job again to load its rows once more",
        )
    with crew_of(executor) as crew, _ready(job, record.options, crew=crew) as (plan, log):
        _settle_replays(plan, log, job.log_name)
        record = log.runs.resume_run(record.run, seeds_of(plan))
        log.seen.remember(record.run, job.log_name, plan.seen)
        log.seen.remember_plan(record.run, job.log_name, outline_of(plan))
        workers, options = record.options.get("workers"), record.options
        return Execution(plan, log, record, watcher or NullWatcher(), None, workers, crew, options).run()


def seeds_of(plan: JobPlan) -> list[StepSeed]:
    """The steps of a plan as the run log keeps them."""
    return [
        StepSeed(step.name, step.kind, step.reads_all, step.settings.commits.by_batch)
        if isinstance(step, PipelinePlan)
        else StepSeed(step.name, step.kind)
        for step in plan.steps
    ]


def replay_run(
    job: JobDefinition,
    number: int | None = None,
    step: str | None = None,
    watcher: Watcher | None = None,
    executor: Executor | Crew | None = None,
) -> Run:
    """Load the rejected rows of a run again, and no others, with the present job; this is a new run.

    Of the latest run or that of a number, of all its steps or of one. Rows that load are recorded as resolved, the
    others stay rejected. Rows are added to the target or merged into it, never is anything removed. Raises KanalError
    if there is nothing to load again.
    """
    log, record = _past_run(job, number)
    names = [result.step for result in record.steps]
    if step is not None and step not in names:
        raise KanalError(f'Run {record.run} has no step "{step}"', did_you_mean(step, names))
    groups = [group for group in log.rejects.groups(record.run, step) if group["reason"] not in NOT_REPLAYED]
    if not groups:
        raise KanalError(
            f"Run {record.run} has no rejected rows that are not resolved", "there is nothing to load again"
        )
    names = [name for name in names if any(group["step"] == name for group in groups)]
    kept = ("parameters", "batch_rows", "workers", "create")
    options = {name: value for name, value in record.options.items() if name in kept}
    with crew_of(executor) as crew, _ready(job, options, crew=crew) as (plan, log):
        _settle_replays(plan, log, job.log_name)
        _record_committed(_left_in_targets(plan, [record]), log)
        names = _to_replay(log, log.past.run(record.run, job.log_name), names)
        rejected: dict[str, Rejected] = {name: log.rejects.rejected_rows(record.run, name) for name in names}
        rejected = {name: rows for name, rows in rejected.items() if rows}
        if not rejected:
            raise KanalError(
                f"The rejected rows of run {record.run} had been loaded by a replay that died just then",
                "there is nothing to load again",
            )
        keep_only(plan, list(rejected))
        plan.steps = [plan_of_replay(plan) if isinstance(plan, PipelinePlan) else plan for plan in plan.steps]
        plan.steps = [replace(s, open_references=()) if isinstance(s, PipelinePlan) else s for s in plan.steps]
        plan.groups = []
        _read_anew(plan, rejected, log)
        seeds = [StepSeed(step.name, step.kind) for step in plan.steps]
        options = options | {"replay": record.run}
        again = log.runs.begin_run(job.log_name, file_of(job), seeds, options, _start_of(job, RunOptions()))
        return Execution(plan, log, again, watcher or NullWatcher(), rejected, crew=crew, options=options).run()


def _read_anew(plan: JobPlan, rejected: dict[str, Rejected], log: RunLogStore) -> None:
    """Take the rejected rows as the source has them now; raises KanalError if it has none of them."""
    gone: list[int] = []
    for place, step in enumerate(plan.steps):
        if isinstance(step, PipelinePlan):
            plan.steps[place], rejected[step.name], missing = read_anew(step, rejected[step.name])
            gone += missing
    if gone:
        log.rejects.end_gone(gone)
    for name in [name for name, rows in rejected.items() if not rows]:
        del rejected[name]
    if not rejected:
        raise KanalError(f"The source no longer has any of the {len(gone):,} rejected rows", "there is nothing to load")
    keep_only(plan, list(rejected))


def _left_in_targets(plan: JobPlan, runs: Sequence[RunRecord]) -> list[tuple[RunRecord, PipelinePlan, Progress]]:
    """The commits that targets have recorded of steps of these runs which did not succeed by the run log."""
    steps = {step.name: step for step in plan.steps if isinstance(step, PipelinePlan) and step.can_leave_progress}
    left = []
    for record in runs:
        for result in record.steps:
            step = steps.get(result.step)
            if step is None or result.status == "succeeded" or not record.token:
                continue
            with suppress(KanalError):  # the step reports it if its target cannot be reached
                found = step.target.journal.recorded(record.token, step.name)
                if found is not None:
                    left.append((record, step, found))
    return left


def _refuse_half_loaded(left: Sequence[tuple[RunRecord, PipelinePlan, Progress]], job: JobDefinition) -> None:
    """Raise KanalError if an unfinished run has committed rows that another run would append once more."""
    for record, step, found in left:
        repeatable = step.writing.rule.repeatable or (found.done and step.takes_only_new)
        if found.tally.written and not repeatable:
            file = file_of(job) or "JOB"
            raise HalfLoaded(
                f"Run {record.run} was broken off after {found.tally.written:,} rows of {step.name} were committed, "
                "and this run would append them again",
                f"continue it with kanal resume --job {file}, or load all rows with kanal run {file} --anew",
            )


def _record_committed(left: Sequence[tuple[RunRecord, PipelinePlan, Progress]], log: RunLogStore) -> None:
    """Record in the run log that steps have succeeded which their targets have wholly committed."""
    for record, step, found in left:
        if found.done:
            log.runs.was_committed(record.run, step.name, found.tally, found.batches, COMMITTED_BEFORE)


def _to_replay(log: RunLogStore, record: RunRecord, names: list[str]) -> list[str]:
    """The steps of a run whose rejects may be loaded again, of those that have some; raises KanalError if none may.

    Not those of a step that a resumed run would load itself, and not those that a later run has read again: an older
    value must never overwrite a newer one.
    """
    unfinished = {step.step for step in record.steps if step.status != "succeeded"}
    chosen, why = [], KanalError("")
    for name in names:
        since = log.past.read_since(record, name)
        if "replay" not in record.options and name in unfinished:
            why = KanalError(
                f"{name} of run {record.run} did not succeed, so its rows are loaded when the run is resumed",
                f"resume it first, by kanal resume {record.run}",
            )
        elif since is not None:
            why = KanalError(
                f"{name} of run {record.run}: run {since} has read all of its rows since, so these may be out of date",
                f"load the rejects of that run instead, by kanal replay {since}",
            )
        else:
            chosen.append(name)
    if not chosen:
        raise why
    return chosen


def _settle_replays(plan: JobPlan, log: RunLogStore, job: str) -> None:
    """Record in the run log which rejects are resolved by runs that died while they loaded them again."""
    targets = {step.name: step.target for step in plan.steps if isinstance(step, PipelinePlan)}
    for dead, token, name in log.rejects.unresolved_replays(job):
        if name in targets:
            # Claimed, so that a process that was taken for dead commits nothing more.
            found = targets[name].journal.claim(token, name, log.owner)
            log.rejects.settle(dead, name, found is not None and found.done, found.batches if found is not None else 0)


def _past_run(job: JobDefinition, number: int | None, to_go_on: bool = False) -> tuple[RunLogStore, RunRecord]:
    """A job's run log, and a run of the job in it: that of a number, the latest, or the latest that is unfinished;
    raises KanalError for none."""
    log = run_log_of(job)
    if not log.exists():
        raise KanalError(f"There is no run of {job.job} yet", "run the job first")
    log.prepare()
    log.runs.end_dead_runs()
    unfinished = log.past.unfinished(job.log_name) if to_go_on and number is None else []
    record = unfinished[0] if unfinished else log.past.run(number, job.log_name)
    if record.job != job.log_name and record.name == job.job:
        where = f"in environment {record.environment}" if record.environment else "in no environment"
        remedy = f"add --env {record.environment}" if record.environment else "leave --env out"
        raise KanalError(f"Run {record.run} of {job.job} was {where}", remedy)
    if record.job != job.log_name:
        raise KanalError(f"Run {record.run} is one of the job {record.job}, not of {job.job}", "name its own job file")
    return log, record


def _start_of(job: JobDefinition, options: RunOptions) -> Start:
    """Why a run begins: what started it, and when it was due."""
    start = options.start or Start()
    window = (str(options.since), str(options.until)) if None not in (options.since, options.until) else None
    return replace(start, environment=job.chosen_environment, by=start.by or user_name(), window=window)


def user_name() -> str | None:
    """The name of the user of this process, if the system knows it."""
    with suppress(OSError, KeyError, ImportError):
        return getpass.getuser()
    return None


def file_of(job: JobDefinition) -> str | None:
    """The absolute path of the job's file; None for a job created in Python."""
    file, _ = job.located(())
    return str(file.resolve()) if file else None


@contextmanager
def _ready(
    job: JobDefinition, options: Mapping[str, Any], start: Start | None = None, crew: Crew | None = None
) -> Iterator[tuple[JobPlan, RunLogStore]]:
    """The plan of a job for a run and its run log, ready; both are closed afterwards.

    Where the job cannot be begun, and a `start` is given, a failed run is in the run log.
    """
    logged = without_secrets(job, options)
    job = with_options(job, options)
    started = dt.datetime.now(dt.UTC)
    try:
        plan = plan_to_run(job, options, known_of(job, crew))
    except KanalError as error:
        error = _with_changes(job, error)
        if start is not None:
            _note_failure(job, logged, started, error, start)
        raise error from None
    try:
        choose(plan, options)
        log = run_log_of(job)
        for database in plan.connections.values():
            if database.lock is not None and database.lock == log.database.lock:
                place = job.located(("run_log",))
                what = f"the run log is in the file of connection {database.name}"
                raise JobError([Problem(("run_log",), what, "give it a file of its own", *place)])
        log.prepare()
        try:
            log.runs.end_dead_runs()
            with_notes(plan, table_changes(plan.seen, log.seen.latest(job.log_name), plan))
            yield plan, log
        finally:
            log.database.dispose()
    finally:
        plan.dispose()


def _with_changes(job: JobDefinition, error: KanalError) -> KanalError:
    """An error of planning, with the changes of the job's tables since its last run."""
    if isinstance(error, UnplannedJob):
        changed = error.changes(remembered(job))
        return JobError([*error.problems, *changed], error.passing) if changed else error
    return error


def remembered(job: JobDefinition) -> dict[tuple[str, str], SeenTable]:
    """What the tables of a job, by step and role, last looked like; nothing where its run log cannot be read."""
    return {(seen.step, seen.role): seen for seen in _seen_tables(job)}


def first_seen(job: JobDefinition) -> dict[tuple[str, str], SeenTable]:
    """What the tables of a job, by step and role, first looked like; nothing where its run log cannot be read."""
    return {(seen.step, seen.role): seen for seen in reversed(_seen_tables(job))}


def _seen_tables(job: JobDefinition) -> list[SeenTable]:
    with suppress(KanalError):
        log = run_log_of(job)
        try:
            return log.seen.tables(job.log_name) if log.exists() else []
        finally:
            log.database.dispose()
    return []


def _note_failure(
    job: JobDefinition, options: Mapping[str, Any], started: dt.datetime, error: KanalError, start: Start
) -> None:
    """Record a run that failed before any of its steps began, if that is possible."""
    with suppress(KanalError):
        log = run_log_of(job)
        for name, connection in job.connection.items():
            with suppress(KanalError):
                lock = open_connection(name, connection, job.folder).lock
                if lock is not None and lock == log.database.lock:
                    return
        try:
            log.prepare()
            run = log.runs.add_failed_run(job.log_name, file_of(job), options, started, str(error), start)
            tell("run_ends", run=run, job=job.job, status="failed", error=str(error))
        finally:
            log.database.dispose()


class WatermarkState(Struct, frozen=True):
    """A step that loads what is new: its change column, its watermark, and the moment (UTC) of the run that set it."""

    step: str
    column: str
    watermark: str | None
    moved: str | None


@contextmanager
def _steps_with_watermarks(job: JobDefinition) -> Iterator[list[tuple[PipelinePlan, SincePlan]]]:
    with planned(job) as plan:
        yield [(step, step.since) for step in plan.steps if isinstance(step, PipelinePlan) and step.since is not None]


def watermarks_of(job: JobDefinition) -> list[WatermarkState]:
    """The watermarks of the steps that load only new rows; raises JobError if the job is wrong."""
    states = []
    with _steps_with_watermarks(job) as found:
        for step, since in found:
            known = step.target.journal.watermark(job.job, step.name)
            if known is not None and not known.is_of(since.change.text):
                known = None
            watermark, moved = (known.watermark, known.moved) if known is not None else (None, None)
            states.append(WatermarkState(step.name, since.change.text, watermark, moved))
    return states


def set_watermark(job: JobDefinition, step: str, value: object) -> None:
    """Set the watermark from which the next run of a step continues; None removes it. Raises KanalError."""
    with _steps_with_watermarks(job) as found:
        for plan, since in found:
            if plan.name == step:
                text = None if value is None else change_text(change_value(value, since.change.type))
                plan.target.journal.make_watermarks_ready()
                with plan.target.load() as load:
                    expression = kept_expression(since.change.text)
                    plan.target.journal.move_watermark(load, job.job, step, text, dt.datetime.now(dt.UTC), expression)
                    load.commit()
                return
        names = [plan.name for plan, _ in found]
    raise KanalError(f'"{step}" is not a step that loads only new rows', did_you_mean(step, names) or "give it since")
