"""One run of a planned job, whose steps run one by one or side by side."""

from __future__ import annotations

import datetime as dt
import math
import queue
import threading
import time
from collections.abc import Collection, Mapping
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from kanal.core.errors import KanalError, sentence
from kanal.definition.secrets import share_of
from kanal.runlog import RunLogStore, RunRecord
from kanal.runlog.liveness import SIGN_EVERY
from kanal.runner.attempt import AnyAttempt, Attempt
from kanal.runner.events import tell
from kanal.runner.interruption import Interruption, interrupts
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan
from kanal.runner.messages import Ending, Failure, StepOutcome, Stopped, TimedOut
from kanal.runner.replay import Rejected
from kanal.runner.results import Run, RunStatus, StepResult, StepStatus
from kanal.runner.run_context import Mark, RunIdentity, StepRejects
from kanal.runner.run_options import without_secrets
from kanal.runner.run_report import RunReport
from kanal.runner.schedule import Schedule
from kanal.runner.target_records import TargetRecords
from kanal.runner.transaction import Transaction
from kanal.runner.transactions import Transactions
from kanal.runner.watcher import Watcher

if TYPE_CHECKING:  # imported if an executor is given
    from kanal.runner.elsewhere.crew import Crew

_INTERRUPTED = "the run was stopped before it"
#: The note of a step that only its target knew to be committed.
COMMITTED_BEFORE = "it was committed just before the run was broken off"
#: Seconds after which a step that was asked to stop, and whose driver cannot be interrupted, is abandoned.
PATIENCE = 4.0
#: The same if all its databases are files: no network delays what breaks off their statements.
PATIENCE_WITH_FILES = 1.0


class Execution:
    """One run of a planned job, in which up to `workers` steps run at once.

    `replayed` are rejected rows to read instead of sources, by step. `rehearsed` names, in a rehearsal, the steps that
    a run would commit by themselves. An `interruption` takes the place of Ctrl-C in other threads than the main one.
    """

    def __init__(
        self,
        plan: JobPlan,
        log: RunLogStore,
        record: RunRecord,
        watcher: Watcher,
        replayed: Mapping[str, Rejected] | None = None,
        workers: int | None = None,
        crew: Crew | None = None,
        options: Mapping[str, Any] | None = None,
        rehearsed: Collection[str] | None = None,
        interruption: Interruption | None = None,
    ) -> None:
        _require_usual_rows(plan, log, record)
        self._interrupts = interrupts if interruption is None else interruption.calls
        self._store = log
        self._options = options or {}
        self._crew = crew
        self._replayed = replayed or {}
        self.plan = plan
        # A resumed run keeps its moment, the value of CURRENT_TIMESTAMP.
        moment = record.started.replace(tzinfo=dt.UTC)
        self.identity = RunIdentity(
            record.run, plan.job.job, moment, str(record.token), log.owner, record.steps_begun
        )  # fmt: skip
        self.log = RunReport(plan, log, record, watcher)
        self._records = TargetRecords(plan, self.identity, rehearsed is not None, crew is not None)
        self._halt = ""  # why no more steps begin
        self._transactions = Transactions(
            plan, self.identity, self.log, self._records, lambda: bool(self._halt), rehearsed
        )  # fmt: skip
        self._schedule = Schedule(plan, self.log.results, self._transactions, workers, crew)
        #: Steps that have ended, or None for an interruption.
        self._ended: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._looked_at: set[str] = set()
        self._signed = time.monotonic()
        self._broken: BaseException | None = None  # why nothing can be relied on any more

    @cached_property
    def texts(self) -> Mapping[str, bytes]:
        """The texts of the job besides its file, as they were when the first step was given to a worker."""
        from kanal.runner.elsewhere.remote import texts_of

        return texts_of(self.plan.job)

    def mark_of(self, step: PipelinePlan) -> Mark:
        """Whether the target records what a step commits."""
        return self._records.mark_of(step)

    def rejects_for(self, step: PipelinePlan) -> StepRejects:
        """The rejects of earlier runs that concern a step; a step that reads all of its source loads none of them."""
        replayed = self._replayed.get(step.name)
        if step.reads_all or not step.row_key or replayed is not None:
            return StepRejects(replayed)
        return StepRejects(None, self._store.rejects.open_rejects(self.plan.job.log_name, step.name, self.identity.run))

    def run(self) -> Run:
        """Run all steps; how they ended."""
        started = time.perf_counter()
        self.log.run_begins()
        ended = False
        try:
            with self._interrupts(lambda: self._ended.put(None)):
                self._records.prepare()
                try:
                    self._go_through()
                finally:
                    self._leave()
            status = self._status()
            self.log.run_ends(status)
            ended = True
        finally:
            if not ended:
                self.log.broken_off()
        with suppress(KanalError):
            self._records.tidy(self._store)
        seconds = time.perf_counter() - started
        job, run = self.plan.job, self.identity.run
        tell("run_ends", run=run, job=job.job, status=str(status), seconds=round(seconds, 3))
        results = tuple(self.log.results[step.name] for step in self.plan.steps)
        return Run(run, job.job, status, self.identity.moment, seconds, results, job.chosen_environment)

    def _status(self) -> RunStatus:
        failed = {result.status for result in self.log.results.values()} - {StepStatus.SUCCEEDED}
        if self._halt == _INTERRUPTED and failed:
            return RunStatus.STOPPED
        return RunStatus.FAILED if failed else RunStatus.SUCCEEDED

    # --- which steps run now ---------------------------------------------------------------------------------------

    def _go_through(self) -> None:
        """Begin and end steps until none is left."""
        waiting, again = list(self.plan.steps), self._transactions.again
        while True:
            running = bool(self._schedule.running)  # a step that has ended has put those that run again into `again`
            while not again.empty():
                waiting.append(again.get())
            if not waiting and not running:
                return
            waiting = self._still_waiting(waiting)
            try:
                if self._ended.get(timeout=0.5 if self._schedule.running else 0.05) is None:
                    self._halt = self._halt or _INTERRUPTED
                    self._stop_all()
            except queue.Empty:
                pass
            self._tick()

    def _still_waiting(self, waiting: list[StepPlan]) -> list[StepPlan]:
        """Begin or end those steps that can be; the others."""
        left: list[StepPlan] = []
        for place, step in enumerate(waiting):
            if self._schedule.is_full and not self._halt:
                return left + waiting[place:]
            if not self._begin_or_end(step):
                left.append(step)
        return left

    def _begin_or_end(self, step: StepPlan) -> bool:
        """Begin a step that can run now, or end one that will not; False if it has to wait."""
        if self._schedule.waits_for_others(step):
            return False
        if step.name not in self._looked_at:
            self._looked_at.add(step.name)
            if self._is_done(step):
                return True
        blocked = self._schedule.why_blocked(step)
        if self._halt:
            self.log.end_without_running(step, StepStatus.STOPPED, self._halt)
        elif blocked:
            self.log.end_without_running(step, StepStatus.BLOCKED, blocked)
        elif self._schedule.has_room(step):
            attempt = self._attempt(step)
            self._schedule.running[step.name] = attempt
            threading.Thread(target=self._work, args=(step, attempt), name=f"kanal-{step.name}", daemon=True).start()
            return True
        else:
            return False
        self._transactions.step_ends(step)
        return True

    def _is_done(self, step: StepPlan) -> bool:
        """True for a step that had succeeded before the run was resumed; it is recorded now if only its target knew."""
        if self.log.end_as_before(step):
            return True
        if not (self.identity.resumed and isinstance(step, PipelinePlan)) or self._transactions.of(step) is not None:
            return False
        found = self._records.committed(step)
        if found is None:
            return False
        self._store.rejects.settle(self.identity.run, step.name, True, found.batches)
        self.log.end(self.log.succeeded(step, found.tally, found.batches, COMMITTED_BEFORE))
        return True

    def _tick(self) -> None:
        """Show now and then that the run is alive, and stop steps whose time is over."""
        if self._broken is not None:
            raise self._broken
        if time.monotonic() - self._signed > SIGN_EVERY:
            self._signed = time.monotonic()
            with suppress(KanalError):
                self._schedule.count_workers()
            with suppress(KanalError):
                self._store.runs.give_sign(self.identity.run)
        with suppress(KanalError):
            self._store.steps.write_waiting(self.identity.run)
        for attempt in list(self._schedule.running.values()):
            limit = attempt.step.timeout
            if limit is not None and time.monotonic() - attempt.began > limit:
                attempt.stop(TimedOut(limit))
        self._abandon_the_stuck()

    def _stop_all(self) -> None:
        for attempt in list(self._schedule.running.values()):
            attempt.stop(Stopped())

    def _leave(self) -> None:
        """Stop the steps that still run, if the run itself was broken off, and undo what is not committed."""
        self._stop_all()
        while self._schedule.running:
            with suppress(queue.Empty):
                self._ended.get(timeout=0.2)
            self._abandon_the_stuck()
        for transaction in self._transactions.all:
            if not self._schedule.abandoned & set(transaction.steps):
                transaction.undo("the run was broken off")

    def _abandon_the_stuck(self) -> None:
        """Wait no longer for steps that were asked to stop a while ago and cannot be interrupted.

        They go on until they end by themselves, or with the process; nothing of them is committed.
        """
        for name, attempt in list(self._schedule.running.items()):
            remote = any(connection.lock is None for connection in self._schedule.steps[name].uses)
            patience = PATIENCE if remote else PATIENCE_WITH_FILES
            late = attempt.stopped.is_set() and time.monotonic() - attempt.stopped_at > patience
            if late and attempt.can_be_left and not attempt.abandoned:
                attempt.abandoned = True
                step = self._schedule.steps[name]
                what = f"{attempt.why.what}; what it was doing could not be broken off, and will not be committed"
                ending = Ending.STOPPED if isinstance(attempt.why, Stopped) else Ending.TIMED_OUT
                failure = Failure(ending, what, attempt.why.remedy, sentence(what, attempt.why.remedy))
                self.log.end(self.log.result(step, replace(attempt.outcome(), failure=failure), 0.0))
                self._schedule.abandon(step)

    # --- one step --------------------------------------------------------------------------------------------------

    def _attempt(self, step: StepPlan) -> AnyAttempt:
        """Who runs a step: a worker of the crew, if there is one, or a thread here.

        Steps that share a transaction, or fill a Memory of this program, run here.
        """
        transaction = self._transactions.of(step)
        into_memory = isinstance(step, PipelinePlan) and step.settings.target.memory is not None
        if self._crew is None or transaction is not None or into_memory:
            return Attempt(self, step, transaction)
        from kanal.runner.elsewhere.divided import DividedAttempt
        from kanal.runner.elsewhere.portions import why_whole
        from kanal.runner.elsewhere.remote import RemoteAttempt, task_of

        options = without_secrets(self.plan.job, self._options)
        if not isinstance(step, PipelinePlan) or step.since is None:
            options = {name: value for name, value in options.items() if name not in ("since", "until", "all")}
        task = task_of(self, step, options | {"only": [step.name]})
        if isinstance(step, PipelinePlan) and step.settings.split and not task.replayed and not why_whole(step):
            return DividedAttempt(self, step, self._crew, task)
        return RemoteAttempt(self, step, self._crew, task)

    def _work(self, step: StepPlan, attempt: AnyAttempt) -> None:
        """Run a step to its end, in a thread of its own.

        Not in the main thread, since there the Arrow drivers handle Ctrl-C themselves, and may lose it.
        """
        transaction = self._transactions.of(step)
        try:
            outcome = self._run_step(step, attempt, transaction)
            if outcome is None or attempt.abandoned:
                return
            self._transactions.step_ends(step, outcome)
            ended = self.log.results.get(step.name)
            if ended is not None and ended.status is StepStatus.FAILED and self.plan.job.on_failure == "stop":
                self._halt = self._halt or f'{step.name} failed, and on_failure = "stop" ends the run there'
        except BaseException as error:  # the run log cannot be written: nothing more can be relied on
            self.log.results[step.name] = StepResult(step.name, step.kind, StepStatus.FAILED, error=str(error))
            self._broken = error
        finally:
            if not attempt.abandoned:
                self._schedule.running.pop(step.name, None)
            self._ended.put(step.name)

    def _run_step(self, step: StepPlan, attempt: AnyAttempt, transaction: Transaction | None) -> StepOutcome | None:
        """Run a step to its end, again after temporary errors; None if it was abandoned."""
        self.log.step_begins(step)
        started = time.perf_counter()
        settings = step.settings if isinstance(step, PipelinePlan) else self.plan.job.defaults
        if transaction is not None:
            transaction.ran.add(step.name)
        # A shared transaction is tried again as a whole.
        outcome = attempt.run(settings.retries if transaction is None else 0, settings.retry_wait)
        if attempt.abandoned:
            return None
        result = self.log.result(step, outcome, time.perf_counter() - started)
        if transaction is None:
            self.log.end(result)
        else:
            self.log.hold(result)
        return outcome


def _require_usual_rows(plan: JobPlan, log: RunLogStore, record: RunRecord) -> None:
    """Replace `min_rows` that are shares of earlier runs' rows by numbers; None if no earlier run is known."""
    for place, step in enumerate(plan.steps):
        if isinstance(step, PipelinePlan) and " of " in str(step.settings.min_rows):
            share, _, whole = str(step.settings.min_rows).partition(" of ")
            known = log.past.usual(record, 1 if whole == "last run" else 10).get(step.name)
            least = None if known is None else math.ceil(share_of(share) * known.read)
            plan.steps[place] = replace(step, settings=step.settings.model_copy(update={"min_rows": least}))
