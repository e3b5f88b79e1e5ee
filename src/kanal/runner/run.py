"""Runs a job: its steps in order, each logged before and after, whatever happens."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from typing import Any, Protocol

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.databases import open_database, progress
from kanal.databases.base import Database, Load
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import RunLogStore, RunRecord, StepRecord
from kanal.runlog.liveness import SIGN_EVERY
from kanal.runner.attempt import Attempt, Transaction
from kanal.runner.plan import JobPlan, PipelinePlan, StepPlan, plan_job
from kanal.runner.replay import Rejected, plan_of_replay
from kanal.runner.results import Run, RunStatus, StepResult, StepStatus
from kanal.runner.step import PipelineStep, Stopped


class Watcher(Protocol):
    """Is told how a run goes on; the interface's, for instance a progress display."""

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """A run begins, with its steps by name and kind."""

    def step_begins(self, step: str) -> None:
        """A step begins."""

    def batch_ends(self, step: str, tally: Tally) -> None:
        """A batch of a step is done; the tally is the step's so far."""

    def step_ends(self, result: StepResult) -> None:
        """A step has ended."""


class Silent:
    """A watcher that does nothing."""

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """Nothing."""

    def step_begins(self, step: str) -> None:
        """Nothing."""

    def batch_ends(self, step: str, tally: Tally) -> None:
        """Nothing."""

    def step_ends(self, result: StepResult) -> None:
        """Nothing."""


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
    return RunLogStore(open_database("run_log", job.run_log, job.folder))


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
    watcher: Watcher | None = None,
) -> Run:
    """Run a job, or of it only the steps named, and return how it went.

    `parameters` replace values of [parameters]; `batch_rows` replaces that of every pipeline. A step that fails does
    not raise: its result says why. Raises JobError where the job is wrong, before any row moves, and KanalError where
    the run log cannot be written or another run of the job is under way.
    """
    given = {"only": only, "parameters": dict(parameters or {}), "batch_rows": batch_rows}
    options = {name: value for name, value in given.items() if value}
    with _planned(job, options) as (plan, log):
        steps = [(step.name, step.kind) for step in plan.steps]
        record = log.begin_run(job.job, _file_of(job), steps, options)
        return _Execution(plan, log, record, watcher or Silent()).run()


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
        record = log.resume_run(record.run, steps)
        return _Execution(plan, log, record, watcher or Silent()).run()


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
    options = {name: value for name, value in record.options.items() if name != "only"}
    with _planned(job, options) as (plan, log):
        _keep_only(plan, list(rejected))
        plan.steps = [plan_of_replay(plan) if isinstance(plan, PipelinePlan) else plan for plan in plan.steps]
        plan.groups = []
        steps = [(plan.name, plan.kind) for plan in plan.steps]
        again = log.begin_run(job.job, _file_of(job), steps, options | {"replay": record.run})
        return _Execution(plan, log, again, watcher or Silent(), rejected).run()


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
def _planned(job: JobDefinition, options: Mapping[str, Any]) -> Iterator[tuple[JobPlan, RunLogStore]]:
    """The plan of a job and its run log, ready; both are closed afterwards."""
    if options.get("parameters"):
        job = with_parameters(job, options["parameters"])
    if options.get("batch_rows"):
        job = with_batch_rows(job, options["batch_rows"])
    plan = plan_job(job)
    try:
        if options.get("only"):
            _keep_only(plan, options["only"])
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


def _dispose(plan: JobPlan) -> None:
    for database in plan.databases.values():
        database.dispose()


def _keep_only(plan: JobPlan, only: list[str]) -> None:
    names = [step.name for step in plan.steps]
    for name in only:
        if name not in names:
            raise JobError([Problem((), f'the job has no step "{name}"', did_you_mean(name, names))])
    plan.steps = [step for step in plan.steps if step.name in only]


def _status(failure: BaseException | None) -> tuple[StepStatus, str | None]:
    """The status of a step that raised this, and its sentence."""
    if failure is None:
        return StepStatus.SUCCEEDED, None
    if isinstance(failure, Stopped | KeyboardInterrupt):
        return StepStatus.STOPPED, str(failure)
    if isinstance(failure, KanalError):
        return StepStatus.FAILED, str(failure)
    if isinstance(failure, MemoryError):
        return StepStatus.FAILED, "the memory ran out. Set a smaller batch_rows."
    return StepStatus.FAILED, f"{type(failure).__name__}: {' '.join(str(failure).split())[:500]}"


def _undone(tally: Tally) -> Tally:
    """The counts of a step whose writing was rolled back."""
    return replace(tally, inserted=0, updated=0, unchanged=0, deleted=0)


class _Execution:
    """One run of a planned job."""

    def __init__(
        self,
        plan: JobPlan,
        log: RunLogStore,
        record: RunRecord,
        watcher: Watcher,
        replayed: Mapping[str, Rejected] | None = None,
    ) -> None:
        self.plan = plan
        self.log = log
        self.record = record
        self.number = record.run
        self.watcher = watcher
        # A run that goes on keeps the moment that CURRENT_TIMESTAMP means.
        self.moment = record.started.replace(tzinfo=dt.UTC)
        self.results: dict[str, StepResult] = {}
        self.replayed = replayed or {}
        transactions = [Transaction(group) for group in plan.groups]
        self.groups = {step: transaction for transaction in transactions for step in transaction.steps}
        self._signed = time.monotonic()

    def run(self) -> Run:
        started = time.perf_counter()
        self.watcher.run_begins(self.number, [(step.name, step.kind) for step in self.plan.steps])
        halt = ""  # why no more steps begin
        for step in self.plan.steps:
            group = self.groups.get(step.name)
            if self._is_done(step):
                continue
            blocker = self._blocker(step)
            if halt:
                self._end(StepResult(step.name, step.kind, StepStatus.STOPPED, error=halt))
            elif blocker is not None:
                why = f"{blocker} did not succeed, and this step waits for it"
                self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=why))
            elif group is not None and group.undone:
                self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=group.undone))
            elif self._run_step(step, group):
                halt = "the run was stopped before it"
            if group is not None:
                self._go_on(group, step)
            if self.results[step.name].status is StepStatus.FAILED and self.plan.job.on_failure == "stop":
                halt = halt or f'{step.name} failed, and on_failure = "stop" ends the run there'
        statuses = {result.status for result in self.results.values()}
        status = RunStatus.FAILED if statuses - {StepStatus.SUCCEEDED} else RunStatus.SUCCEEDED
        if halt == "the run was stopped before it":
            status = RunStatus.STOPPED
        if status is RunStatus.SUCCEEDED:
            for database in self._marked_targets():
                progress.forget(database, self.record.token)
        self.log.end_run(self.number, status)
        seconds = time.perf_counter() - started
        results = tuple(self.results[step.name] for step in self.plan.steps)
        return Run(self.number, self.plan.job.job, status, self.moment, seconds, results)

    # --- steps that are done already -------------------------------------------------------------------------------

    def _is_done(self, step: StepPlan) -> bool:
        """True for a step that succeeded before this run was broken off; its result is then known."""
        for record in self.record.steps:
            if record.step == step.name and record.status == "succeeded":
                self.results[step.name] = StepResult(
                    step.name, step.kind, StepStatus.SUCCEEDED, record.tally, record.batches, record.seconds, None,
                    record.note, self.log, self.number,
                )  # fmt: skip
                self.watcher.step_ends(self.results[step.name])
                return True
        return bool(self.record.steps_begun) and self._was_committed(step)

    def _was_committed(self, step: StepPlan) -> bool:
        """True for a step that its target has committed, though nobody was left to log it; it is logged now."""
        group = self.groups.get(step.name)
        if not isinstance(step, PipelinePlan) or not self.needs_mark(step) or (group is not None and group.begun):
            return False
        try:
            tally = progress.recorded(step.target, self.record.token, step.name)
        except KanalError:
            return False
        if tally is None:
            return False
        note = "it was committed just before the run was broken off"
        self._end(StepResult(step.name, step.kind, StepStatus.SUCCEEDED, tally, note=note))
        return True

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True where to load a step a second time would change the target again."""
        group = self.groups.get(step.name)
        members = [plan for plan in self.plan.steps if group is not None and plan.name in group.steps] or [step]
        return any(isinstance(plan, PipelinePlan) and plan.settings.write == "append" for plan in members)

    def _marked_targets(self) -> list[Database]:
        marked = [step.target for step in self.plan.steps if isinstance(step, PipelinePlan) and self.needs_mark(step)]
        return list(dict.fromkeys(marked))

    def _blocker(self, step: StepPlan) -> str | None:
        """The first step that this one waits for and that did not succeed."""
        for wait in self.plan.waits:
            result = self.results.get(wait.before) if wait.step == step.name else None
            if result is not None and result.status is not StepStatus.SUCCEEDED:
                return wait.before
        return None

    def _go_on(self, group: Transaction, step: StepPlan) -> None:
        """After a step of a transaction shared with others: undo it where the step failed, commit it at its end."""
        failure = None
        if self.results[step.name].status is not StepStatus.SUCCEEDED:
            failure = f"{step.name} did not succeed, which commits together with it"
        elif all(name in self.results for name in group.steps):
            failure = group.commit(lambda load: self._mark(load, group.steps))
            if failure is None:
                for name in group.steps:
                    self._end(self.results[name])
        if failure is None or group.undone:
            return
        group.undo(failure)
        status = StepStatus.STOPPED if self.results[step.name].status is StepStatus.STOPPED else StepStatus.FAILED
        for name in group.steps:
            result = self.results.get(name)
            if result is not None and result.status is StepStatus.SUCCEEDED:
                undone = replace(result, status=status, error=f"undone: {failure}", tally=_undone(result.tally))
                self._end(undone)

    def _mark(self, load: Load, steps: Sequence[str]) -> None:
        """Record in the target, within the transaction, that these steps are committed with it."""
        plans = [plan for plan in self.plan.steps if plan.name in steps and isinstance(plan, PipelinePlan)]
        if plans and self.needs_mark(plans[0]) and progress.is_ready(plans[0].target):
            tallies = {plan.name: self.results[plan.name].tally for plan in plans if plan.name in self.results}
            progress.record(load, self.record.token, tallies)

    def _run_step(self, step: StepPlan, group: Transaction | None) -> bool:
        """Run a step to one of its ends, trying again where the trouble passes; true where it was interrupted."""
        import tenacity

        self.watcher.step_begins(step.name)
        started = time.perf_counter()
        attempt = Attempt(self, step, group)
        settings = step.settings if isinstance(step, PipelinePlan) and group is None else None
        wait = settings.retry_wait if settings else 0.0
        trying = tenacity.Retrying(
            retry=tenacity.retry_if_exception(lambda error: getattr(error, "passing", False)),
            stop=tenacity.stop_after_attempt(1 + (settings.retries if settings else 0)),
            wait=tenacity.wait_exponential(multiplier=wait, max=60) + tenacity.wait_random(0, wait),
            before_sleep=attempt.failed_for_now,
            reraise=True,
        )
        failure: BaseException | None = None
        try:
            trying(attempt)
        except BaseException as error:  # whatever it is, the step has failed and the run log says so
            failure = error
        running, notes = attempt.running, attempt.notes
        status, error_text = _status(failure)
        tally, batches = (running.tally, running.batches) if running is not None else (Tally(), 0)
        if attempt.committed is not None:
            tally = attempt.committed
        if status is not StepStatus.SUCCEEDED:
            tally = _undone(tally)
        elif running is not None and running.replayed is not None:
            self.log.mend({number for number, _ in running.replayed} - running.rejected_again, self.number)
        seconds = time.perf_counter() - started
        note = "; ".join([*notes, *(running.notes if running is not None else ())]) or None
        result = StepResult(
            step.name, step.kind, status, tally, batches, seconds, error_text, note, self.log, self.number
        )
        if group is not None and status is StepStatus.SUCCEEDED:
            # Not logged before the transaction that it shares is committed.
            self.results[step.name] = result
            self.watcher.step_ends(result)
        else:
            self._end(result)
        return status is StepStatus.STOPPED

    def tick(self) -> None:
        """Give a sign of life now and then."""
        if time.monotonic() - self._signed > SIGN_EVERY:
            self._signed = time.monotonic()
            with suppress(KanalError):
                self.log.give_sign(self.number)

    def batch_ends(self, step: PipelineStep, number: int, tally: Tally, seconds: float, rejects: list[Reject]) -> None:
        self.log.add_batch(self.number, step.plan.name, number, tally, seconds, rejects)
        self.watcher.batch_ends(step.plan.name, step.tally)

    def _end(self, result: StepResult) -> None:
        self.results[result.step] = result
        self.log.end_step(
            self.number,
            StepRecord(
                result.step,
                result.kind,
                str(result.status),
                result.tally,
                result.batches,
                result.seconds,
                result.error,
                result.note,
            ),
        )
        self.watcher.step_ends(result)
