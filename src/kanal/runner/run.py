"""Runs a job: its steps in order, each logged before and after, whatever happens."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack, suppress
from dataclasses import replace
from functools import partial
from typing import Any, Protocol

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.databases import open_database
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import RunLogStore, StepRecord
from kanal.runner.plan import CommandPlan, Group, JobPlan, PipelinePlan, StepPlan, plan_job
from kanal.runner.results import Run, RunStatus, StepResult, StepStatus
from kanal.runner.step import PipelineStep, SharedLoad, Stopped


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
    the run log cannot be written.
    """
    if parameters:
        job = with_parameters(job, parameters)
    if batch_rows is not None:
        job = with_batch_rows(job, batch_rows)
    plan = plan_job(job)
    if only:
        _keep_only(plan, only)
    try:
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
            return _Execution(plan, log, watcher or Silent()).run()
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


def _outcome(work: Callable[[], object], stop: Callable[[], None]) -> BaseException | None:
    """Do work in a thread of its own; what it raised. Ctrl-C asks it to stop.

    Not in the main thread, since there the Arrow drivers take the signal for themselves, and may lose it.
    """
    raised: list[BaseException] = []

    def run() -> None:
        try:
            work()
        except BaseException as error:  # whatever it is, the main thread judges it
            raised.append(error)
        finally:
            done.set()

    # Waiting for an event, since a join that Ctrl-C breaks off takes the thread for ended (Python 3.11).
    done = threading.Event()
    threading.Thread(target=run, name="kanal-step").start()
    while not done.is_set():
        try:
            done.wait(1)
        except KeyboardInterrupt:
            stop()
    return raised[0] if raised else None


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


class _Transaction:
    """A transaction that several steps share, while the run goes on."""

    def __init__(self, group: Group) -> None:
        self.database = group.database
        self.steps = group.steps
        #: Why it was undone, if it was.
        self.undone = ""
        self._stack = ExitStack()
        self._shared: SharedLoad | None = None

    def shared(self, steps: Sequence[StepPlan]) -> SharedLoad:
        """The transaction; when it begins, tables are emptied, those that refer to others before them."""
        if self._shared is None:
            self._shared = SharedLoad(self._stack.enter_context(self.database.load()))
            for plan in reversed(steps):
                if isinstance(plan, PipelinePlan) and plan.name in self.steps:
                    self._shared.empty(plan)
        return self._shared

    def commit(self) -> str | None:
        """Commit; why it could not be, if it could not."""
        try:
            if self._shared is not None:
                self._shared.load.commit()
            self._stack.close()
        except KanalError as error:
            return str(error)
        return None

    def undo(self, why: str) -> None:
        """Roll it back."""
        self.undone = why
        with suppress(Exception):
            self._stack.close()


class _Execution:
    """One run of a planned job."""

    def __init__(self, plan: JobPlan, log: RunLogStore, watcher: Watcher) -> None:
        self.plan = plan
        self.log = log
        self.watcher = watcher
        self.moment = dt.datetime.now(dt.UTC)
        self.results: dict[str, StepResult] = {}
        transactions = [_Transaction(group) for group in plan.groups]
        self.groups = {step: transaction for transaction in transactions for step in transaction.steps}

    def run(self) -> Run:
        started = time.perf_counter()
        steps = [(step.name, step.kind) for step in self.plan.steps]
        file, _ = self.plan.job.located(())
        self.number = self.log.begin_run(self.plan.job.job, str(file) if file else None, steps)
        self.watcher.run_begins(self.number, steps)
        interrupted = False
        for step in self.plan.steps:
            blocker = self._blocker(step)
            group = self.groups.get(step.name)
            if interrupted:
                self._end(StepResult(step.name, step.kind, StepStatus.STOPPED, error="the run was stopped before it"))
            elif blocker is not None:
                why = f"{blocker} did not succeed, and this step waits for it"
                self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=why))
            elif group is not None and group.undone:
                self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=group.undone))
            else:
                interrupted = self._run_step(step, group)
            if group is not None:
                self._go_on(group, step)
        status = RunStatus.SUCCEEDED
        if interrupted:
            status = RunStatus.STOPPED
        elif any(result.status is not StepStatus.SUCCEEDED for result in self.results.values()):
            status = RunStatus.FAILED
        self.log.end_run(self.number, status)
        seconds = time.perf_counter() - started
        results = tuple(self.results[step.name] for step in self.plan.steps)
        return Run(self.number, self.plan.job.job, status, self.moment, seconds, results)

    def _blocker(self, step: StepPlan) -> str | None:
        """The first step that this one waits for and that did not succeed."""
        for wait in self.plan.waits:
            result = self.results.get(wait.before) if wait.step == step.name else None
            if result is not None and result.status is not StepStatus.SUCCEEDED:
                return wait.before
        return None

    def _go_on(self, group: _Transaction, step: StepPlan) -> None:
        """After a step of a transaction shared with others: undo it where the step failed, commit it at its end."""
        failure = None
        if self.results[step.name].status is not StepStatus.SUCCEEDED:
            failure = f"{step.name} did not succeed, which commits together with it"
        elif step.name == group.steps[-1]:
            failure = group.commit()
        if failure is None or group.undone:
            return
        group.undo(failure)
        status = StepStatus.STOPPED if self.results[step.name].status is StepStatus.STOPPED else StepStatus.FAILED
        for name in group.steps:
            result = self.results.get(name)
            if result is not None and result.status is StepStatus.SUCCEEDED:
                undone = replace(result, status=status, error=f"undone: {failure}", tally=_undone(result.tally))
                self._end(undone)

    def _run_step(self, step: StepPlan, group: _Transaction | None) -> bool:
        """Run a step to one of its ends; true where the user interrupted it."""
        self.log.begin_step(self.number, step.name)
        self.watcher.step_begins(step.name)
        started = time.perf_counter()
        running = PipelineStep(step, self.moment) if isinstance(step, PipelinePlan) else None
        if running is not None:
            pipeline = running

            def work() -> None:
                shared = group.shared(self.plan.steps) if group is not None else None
                pipeline.run(partial(self._batch, pipeline), shared)

            failure = _outcome(work, pipeline.stop)
        else:
            assert isinstance(step, CommandPlan)
            command = step

            def work() -> None:
                if group is not None:
                    group.shared(self.plan.steps).load.run_sql(command.sql)
                else:
                    command.database.run_command(command.sql)

            failure = _outcome(work, lambda: None)
        if failure is not None and running is not None and running.stopping:
            failure = Stopped()  # whatever was raised by what was broken off
        status, error = _status(failure)
        tally, batches = (running.tally, running.batches) if running is not None else (Tally(), 0)
        if status is not StepStatus.SUCCEEDED:
            tally = _undone(tally)
        seconds = time.perf_counter() - started
        note = "; ".join(running.notes) if running is not None and running.notes else None
        self._end(StepResult(step.name, step.kind, status, tally, batches, seconds, error, note, self.log, self.number))
        return status is StepStatus.STOPPED

    def _batch(self, step: PipelineStep, number: int, tally: Tally, seconds: float, rejects: list[Reject]) -> None:
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
