"""One run of a planned job: which steps run now, one by one or side by side, and what follows from their ends."""

from __future__ import annotations

import datetime as dt
import queue
import signal
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from typing import Any

from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.databases import marks, progress
from kanal.databases.base import Database
from kanal.databases.load import Load
from kanal.runlog import BatchRecord, RunLogStore, RunRecord, StepRecord
from kanal.runlog.liveness import SIGN_EVERY
from kanal.runner.attempt import Attempt, TimedOut, Transaction, note_failed_try
from kanal.runner.events import tell
from kanal.runner.plans import JobPlan, PipelinePlan, StepPlan
from kanal.runner.replay import Rejected
from kanal.runner.results import Run, RunStatus, StepResult, StepStatus
from kanal.runner.retrying import passes, pause, retrying
from kanal.runner.step import PipelineStep, Stopped
from kanal.runner.watcher import Watcher

_INTERRUPTED = "the run was stopped before it"


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
    if isinstance(failure, OSError):
        what = f"{failure.strerror or failure}" + (f" ({failure.filename})" if failure.filename else "")
        return StepStatus.FAILED, f"{what}. Make room where temporary files are kept, or name another place by TMPDIR."
    return StepStatus.FAILED, f"{type(failure).__name__}: {' '.join(str(failure).split())[:500]}"


def _undone(tally: Tally) -> Tally:
    """The counts of a step whose writing was rolled back."""
    return replace(tally, inserted=0, updated=0, unchanged=0, deleted=0)


def _held(step: StepPlan, written: bool = False) -> set[Any]:
    """The files that a step uses, or writes to."""
    return {database.lock for database in (step.writes if written else step.uses)} - {None}


@contextmanager
def _interrupts(interrupt: Callable[[], None]) -> Iterator[None]:
    """While it lasts, Ctrl-C and SIGTERM call this; the second breaks off at once. Only in the main thread."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    seen: list[int] = []

    def handle(number: int, _: Any) -> None:
        seen.append(number)
        if len(seen) > 1:
            raise KeyboardInterrupt
        interrupt()

    before = {number: signal.signal(number, handle) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


class Execution:
    """One run of a planned job, in which up to `workers` steps run at once."""

    def __init__(
        self,
        plan: JobPlan,
        log: RunLogStore,
        record: RunRecord,
        watcher: Watcher,
        replayed: Mapping[str, Rejected] | None = None,
        workers: int | None = None,
    ) -> None:
        self.plan = plan
        self.log = log
        self.record = record
        self.number = record.run
        self.watcher = watcher
        self.workers = workers or plan.job.workers
        # A run that goes on keeps the moment that CURRENT_TIMESTAMP means.
        self.moment = record.started.replace(tzinfo=dt.UTC)
        self.results: dict[str, StepResult] = {}
        self.replayed = replayed or {}
        transactions = [Transaction(group) for group in plan.groups]
        self.groups = {step: transaction for transaction in transactions for step in transaction.steps}
        self._signed = time.monotonic()
        self._halt = ""  # why no more steps begin
        self._running: dict[str, Attempt] = {}
        #: Steps of transactions that are tried again, and what is to be said of earlier tries.
        self._again: queue.SimpleQueue[StepPlan] = queue.SimpleQueue()
        self._notes: dict[str, list[str]] = {}
        self._steps = {step.name: step for step in plan.steps}
        self._befores: dict[str, list[str]] = {name: [] for name in self._steps}
        for wait in plan.waits:
            if wait.step in self._steps and wait.before in self._steps:
                self._befores[wait.step].append(wait.before)
        #: Steps that have ended, or None for an interruption.
        self._ended: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._telling = threading.Lock()
        self._looked_at: set[str] = set()
        self._broken: BaseException | None = None  # why nothing can be relied on any more

    @property
    def resumed(self) -> bool:
        """True for a run that goes on."""
        return self.record.steps_begun

    def run(self) -> Run:
        """Run all steps; how they ended."""
        started = time.perf_counter()
        self.watcher.run_begins(self.number, [(step.name, step.kind) for step in self.plan.steps])
        tell("run_begins", run=self.number, job=self.plan.job.job, steps=len(self.plan.steps))
        with _interrupts(lambda: self._ended.put(None)):
            self._make_ready()
            try:
                self._go_through()
            finally:
                self._leave()
        statuses = {result.status for result in self.results.values()}
        status = RunStatus.FAILED if statuses - {StepStatus.SUCCEEDED} else RunStatus.SUCCEEDED
        if self._halt == _INTERRUPTED:
            status = RunStatus.STOPPED
        if status is RunStatus.SUCCEEDED:
            for database in self._marked_targets():
                progress.forget(database, self.record.token)
        self.log.end_run(self.number, status)
        seconds = time.perf_counter() - started
        tell("run_ends", run=self.number, job=self.plan.job.job, status=str(status), seconds=round(seconds, 3))
        results = tuple(self.results[step.name] for step in self.plan.steps)
        return Run(self.number, self.plan.job.job, status, self.moment, seconds, results)

    def _make_ready(self) -> None:
        """Make what targets keep for Kanal, before any load is under way; what fails is said by the step."""
        for database in self._marked_targets():
            with suppress(KanalError):
                progress.make_ready(database)
        for step in self.plan.steps:
            if isinstance(step, PipelinePlan) and step.since is not None:
                with suppress(KanalError):
                    marks.make_ready(step.target)

    # --- which steps run now ---------------------------------------------------------------------------------------

    def _go_through(self) -> None:
        waiting = list(self.plan.steps)
        while True:
            running = bool(self._running)  # what does not run any more has said before if others are to run again
            while not self._again.empty():
                waiting.append(self._again.get())
            if not waiting and not running:
                return
            waiting = [step for step in waiting if not self._begin_or_end(step)]
            try:
                if self._ended.get(timeout=1 if self._running else 0.05) is None:
                    self._halt = self._halt or _INTERRUPTED
                    for attempt in list(self._running.values()):
                        attempt.stop(Stopped())
            except queue.Empty:
                pass
            self._tick()

    def _leave(self) -> None:
        """Stop what still runs, where the run itself was broken off, and undo what was not committed."""
        for attempt in list(self._running.values()):
            attempt.stop(Stopped())
        while self._running:
            self._ended.get()
        for group in self.groups.values():
            group.undo("the run was broken off")

    def _begin_or_end(self, step: StepPlan) -> bool:
        """Begin a step that can run now, or end one that will not; False where it has to wait."""
        befores = self._befores[step.name]
        if any(before not in self.results or before in self._running for before in befores):
            return False
        group = self.groups.get(step.name)
        if step.name not in self._looked_at:
            self._looked_at.add(step.name)
            if self._is_done(step):
                return True
        blocker = next((name for name in befores if self.results[name].status is not StepStatus.SUCCEEDED), None)
        if self._halt:
            self._end(StepResult(step.name, step.kind, StepStatus.STOPPED, error=self._halt))
        elif blocker is not None:
            why = f"{blocker} did not succeed, and this step waits for it"
            self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=why))
        elif group is not None and group.undone:
            self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=group.undone))
        elif self._has_room(step):
            attempt = Attempt(self, step, group)
            self._running[step.name] = attempt
            threading.Thread(target=self._work, args=(step, attempt), name=f"kanal-{step.name}", daemon=True).start()
            return True
        else:
            return False
        if group is not None:
            self._go_on(group, step)
        return True

    def _has_room(self, step: StepPlan) -> bool:
        """True where a step may run now, beside those that run already."""
        group = self.groups.get(step.name)
        if group is not None and time.monotonic() < group.not_before:
            return False
        others = [self._steps[name] for name in list(self._running)]
        if not others:
            return True
        if len(others) >= self.workers or (group is not None and any(o.name in group.steps for o in others)):
            return False
        for database, weight in step.uses.items():
            taken = sum(other.uses.get(database, 0) for other in others)
            limit = self.plan.limits.get(database.name)
            if limit is not None and taken and taken + weight > limit:
                return False
        # A file is read by many or written by one.
        return not any(
            _held(step) & _held(other, written=True) or _held(step, written=True) & _held(other) for other in others
        )

    def _work(self, step: StepPlan, attempt: Attempt) -> None:
        """Run a step to its end, in a thread of its own.

        Not in the main thread, since there the Arrow drivers take Ctrl-C for themselves, and may lose it.
        """
        group = self.groups.get(step.name)
        try:
            self._run_step(step, attempt, group)
            if group is not None:
                self._go_on(group, step, attempt)
            ended = self.results.get(step.name)
            if ended is not None and ended.status is StepStatus.FAILED and self.plan.job.on_failure == "stop":
                self._halt = self._halt or f'{step.name} failed, and on_failure = "stop" ends the run there'
        except BaseException as error:  # the run log cannot be written: nothing more can be relied on
            self.results[step.name] = StepResult(step.name, step.kind, StepStatus.FAILED, error=str(error))
            self._broken = error
        finally:
            del self._running[step.name]
            self._ended.put(step.name)

    def _tick(self) -> None:
        """Give a sign of life now and then, and stop steps whose time is over."""
        if self._broken is not None:
            raise self._broken
        if time.monotonic() - self._signed > SIGN_EVERY:
            self._signed = time.monotonic()
            with suppress(KanalError):
                self.log.give_sign(self.number)
        for attempt in list(self._running.values()):
            limit = attempt.step.timeout
            if limit is not None and time.monotonic() - attempt.began > limit:
                attempt.stop(TimedOut(limit))

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
        return self.resumed and self._was_committed(step)

    def _was_committed(self, step: StepPlan) -> bool:
        """True for a step that its target has committed, though nobody was left to log it; it is logged now."""
        if not isinstance(step, PipelinePlan) or step.name in self.groups or not self.needs_mark(step):
            return False
        try:
            found = progress.recorded(step.target, self.record.token, step.name)
        except KanalError:
            return False
        if found is None or not found.done:
            return False
        note = "it was committed just before the run was broken off"
        self._end(StepResult(step.name, step.kind, StepStatus.SUCCEEDED, found.tally, found.batches, note=note))
        return True

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True where to load a step a second time would change the target again, or be counted otherwise."""
        group = self.groups.get(step.name)
        members = [plan for plan in self.plan.steps if group is not None and plan.name in group.steps] or [step]
        return any(isinstance(plan, PipelinePlan) and plan.leaves_progress for plan in members)

    def _marked_targets(self) -> list[Database]:
        marked = [step.target for step in self.plan.steps if isinstance(step, PipelinePlan) and self.needs_mark(step)]
        return list(dict.fromkeys(marked))

    # --- transactions that several steps share ---------------------------------------------------------------------

    def _go_on(self, group: Transaction, step: StepPlan, attempt: Attempt | None = None) -> None:
        """After a step of a transaction shared with others: undo it where the step failed, commit it at its end."""
        failure, error = None, attempt.failure if attempt is not None else None
        if self.results[step.name].status is not StepStatus.SUCCEEDED:
            failure = f"{step.name} did not succeed, which commits together with it"
        elif all(name in self.results for name in group.steps):
            error = group.commit(lambda load: self._mark(load, group.steps))
            if error is None:
                for name in group.steps:
                    self._end(self.results[name])
            else:
                failure = str(error)
        if passes(error) and self._try_again(group, step, error):
            return
        if attempt is not None and self.results[step.name].status is not StepStatus.SUCCEEDED:
            self._end(self.results[step.name])
        if failure is None or group.undone:
            return
        group.undo(failure)
        status = StepStatus.STOPPED if self.results[step.name].status is StepStatus.STOPPED else StepStatus.FAILED
        for name in group.steps:
            result = self.results.get(name)
            if result is not None and result.status is StepStatus.SUCCEEDED:
                undone = replace(result, status=status, error=f"undone: {failure}", tally=_undone(result.tally))
                self._end(undone)

    def _try_again(self, group: Transaction, step: StepPlan, error: BaseException | None) -> bool:
        """Undo a shared transaction and have its steps run again, after a while; False after too many tries."""
        settings = [s.settings for s in self.plan.steps if isinstance(s, PipelinePlan) and s.name in group.steps]
        if self._halt or group.tries > max(each.retries for each in settings):
            return False
        self._notes.setdefault(step.name, []).append(
            note_failed_try(step.name, group.tries, error, ", and all that commits with it")
        )
        ran = [plan for plan in self.plan.steps if plan.name in group.ran]
        group.undo_for_now(pause(group.tries, max(each.retry_wait for each in settings)))
        for plan in ran:
            self.results.pop(plan.name, None)
            self._again.put(plan)
        return True

    def _mark(self, load: Load, steps: Sequence[str]) -> None:
        """Record in the target, within the transaction, that these steps are committed with it."""
        plans = [plan for plan in self.plan.steps if plan.name in steps and isinstance(plan, PipelinePlan)]
        if plans and self.needs_mark(plans[0]) and progress.is_ready(plans[0].target):
            for plan in plans:
                if plan.name in self.results:
                    done = progress.Progress(self.results[plan.name].tally, self.results[plan.name].batches, done=True)
                    progress.record(load, done, self.record.token, plan.name)

    # --- one step --------------------------------------------------------------------------------------------------

    def _run_step(self, step: StepPlan, attempt: Attempt, group: Transaction | None) -> None:
        """Run a step to one of its ends, trying again where the trouble passes."""
        with self._telling:
            self.watcher.step_begins(step.name)
        tell("step_begins", run=self.number, step=step.name, kind=step.kind)
        started = time.perf_counter()
        settings = step.settings if isinstance(step, PipelinePlan) else self.plan.job.defaults
        retries = settings.retries if group is None else 0  # what is shared is tried again as a whole
        trying = retrying(retries, settings.retry_wait, attempt.stopped.wait, attempt.failed_for_now)
        if group is not None:
            group.ran.add(step.name)
        try:
            trying(attempt)
        except BaseException as error:  # whatever it is, the step has failed and the run log says so
            attempt.failure = error
        running, notes = attempt.running, [*self._notes.get(step.name, ()), *attempt.notes]
        status, error_text = _status(attempt.failure)
        tally, batches = (running.tally, running.batches) if running is not None else (Tally(), 0)
        if attempt.committed is not None:
            tally, batches = attempt.committed.tally, attempt.committed.batches
        elif status is not StepStatus.SUCCEEDED:
            # Of a step that commits batch by batch, what was committed stays.
            tally = running.kept if running is not None and running.kept is not None else _undone(tally)
        if step.name in self.replayed:
            self.log.settle(self.number, step.name, status is StepStatus.SUCCEEDED)
        seconds = time.perf_counter() - started
        notes = [*notes, *(running.notes if running is not None else ())]
        if isinstance(step, PipelinePlan) and tally.rejected > self.log.keep_rejects and not self._keeps_all(step):
            notes.append(f"of its rejected rows the first {self.log.keep_rejects:,} are kept, and all are counted")
        note = "; ".join(notes) or None
        result = StepResult(
            step.name, step.kind, status, tally, batches, seconds, error_text, note, self.log, self.number
        )
        if group is not None:
            # Not logged before the transaction that it shares is committed or undone.
            self.results[step.name] = result
            with self._telling:
                self.watcher.step_ends(result)
        else:
            self._end(result)

    def batch_ends(self, step: PipelineStep, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Log a batch."""
        self.log.add_batch(self.number, step.plan.name, batch, rejects, self._keeps_all(step.plan))
        with self._telling:
            self.watcher.batch_ends(step.plan.name, step.tally)
        tell("batch", run=self.number, step=step.plan.name, batch=batch.batch, **vars(batch.tally))

    def _keeps_all(self, step: PipelinePlan) -> bool:
        """True where rejected rows are not met again by the next run, so that none may be forgotten."""
        return step.since is not None

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
        with self._telling:
            self.watcher.step_ends(result)
        tell(
            "step_ends", run=self.number, step=result.step, status=str(result.status),
            seconds=round(result.seconds, 3), error=result.error, **vars(result.tally),
        )  # fmt: skip
