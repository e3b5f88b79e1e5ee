"""One run of a planned job: which steps run now, one by one or side by side, and what follows from their ends."""

from __future__ import annotations

import datetime as dt
import logging
import math
import queue
import signal
import threading
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import TYPE_CHECKING, Any

from msgspec.structs import asdict, replace

from kanal.connections.base import Target
from kanal.connections.journal import Progress
from kanal.connections.loading import Load
from kanal.connections.roles import Reads, Writes
from kanal.core.errors import KanalError, passes, sentence
from kanal.core.rejects import Reject
from kanal.core.tally import WRITES, Tally
from kanal.definition.secrets import share_of
from kanal.runlog import BatchRecord, RunLogStore, RunRecord, StepRecord
from kanal.runlog.liveness import SIGN_EVERY
from kanal.runner.attempt import Attempt, Transaction, failed_try
from kanal.runner.events import tell
from kanal.runner.job_plan import CommandPlan, JobPlan, PipelinePlan, StepPlan
from kanal.runner.messages import Ending, Failure, StepOutcome, Stopped, TimedOut
from kanal.runner.new_files import finish_files
from kanal.runner.replay import Rejected
from kanal.runner.results import Run, RunStatus, StepResult, StepStatus
from kanal.runner.retrying import pause
from kanal.runner.run_options import without_secrets
from kanal.runner.step import PipelineStep
from kanal.runner.step_state import OpenEnds
from kanal.runner.tracing import spans_of
from kanal.runner.watcher import Watcher

if TYPE_CHECKING:  # it is imported where an executor is given
    from kanal.runner.elsewhere.crew import Crew
    from kanal.runner.elsewhere.remote import AttemptElsewhere

    AnyAttempt = Attempt | AttemptElsewhere

#: Seconds that may be spent on asking how many rows there are.
_QUICKLY = 1.0
_INTERRUPTED = "the run was stopped before it"
#: The note of a step that only its target knew to be committed.
COMMITTED_BEFORE = "it was committed just before the run was broken off"
#: Seconds after which a step that was asked to stop, and whose driver cannot be broken off, is left alone.
PATIENCE = 4.0


def _as_it_ended(result: StepResult, running: PipelineStep | None) -> StepResult:
    """How a step has ended of which something was left to do until the others of its transaction had ended."""
    if running is None or running.batches == result.batches:
        return result
    notes = [result.note or "", *(note for note in running.notes if note not in (result.note or ""))]
    return replace(result, tally=running.tally, batches=running.batches, note="; ".join(filter(None, notes)) or None)


def _undone(tally: Tally) -> Tally:
    """The counts of a step whose writing was rolled back."""
    return replace(tally, **dict.fromkeys(WRITES, 0))


def _held(step: StepPlan, written: bool = False) -> set[Any]:
    """The files that a step uses, or writes to."""
    return {database.lock for database in (step.writes if written else step.uses)} - {None}


class Interruption:
    """What several runs do that go on in threads, when the main thread is interrupted: each what it would do alone."""

    def __init__(self) -> None:
        self._heard_by: list[Callable[[], None]] = []
        #: True once it has come.
        self.seen = False

    @contextmanager
    def calls(self, interrupt: Callable[[], None]) -> Iterator[None]:
        """While this lasts, an interruption calls that; one that has come too."""
        self._heard_by.append(interrupt)
        try:
            if self.seen:
                interrupt()
            yield
        finally:
            self._heard_by.remove(interrupt)

    def __call__(self) -> None:
        """Tell all of it."""
        self.seen = True
        for interrupt in list(self._heard_by):
            interrupt()


@contextmanager
def interrupts(interrupt: Callable[[], None]) -> Iterator[None]:
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
        crew: Crew | None = None,
        options: Mapping[str, Any] | None = None,
        rehearsed: Collection[str] | None = None,
        interruption: Interruption | None = None,
    ) -> None:
        self._interrupts = interrupts if interruption is None else interruption.calls
        self.plan = plan
        self.log = log
        self._options = options or {}
        self._crew = crew
        self.record = record
        self.number = record.run
        self.watcher = watcher
        self._spans = spans_of(plan.job.job, plan.job.chosen_environment)
        self._limit = workers
        self.workers = self._at_once()
        # A run that goes on keeps the moment that CURRENT_TIMESTAMP means.
        self.moment = record.started.replace(tzinfo=dt.UTC)
        self.results: dict[str, StepResult] = {}
        #: The steps that were claimed for it in their targets before any of them began.
        self.claimed: set[str] = set()
        self.replayed = replayed or {}
        #: In a rehearsal, the steps that a run would commit by themselves.
        self.rehearsal = rehearsed is not None
        transactions = [Transaction(group, rehearsed) for group in plan.groups]
        self.groups = {step: transaction for transaction in transactions for step in transaction.steps}
        self._signed = time.monotonic()
        self._halt = ""  # why no more steps begin
        self._running: dict[str, AnyAttempt] = {}
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
        self._watched = True
        self._looked_at: set[str] = set()
        #: Steps that nobody waits for any more, and the files that they still hold.
        self._abandoned: set[str] = set()
        self._held_up: set[Any] = set()
        self._broken: BaseException | None = None  # why nothing can be relied on any more

    #: Its own steps are not given to others.
    elsewhere = False

    @cached_property
    def texts(self) -> Mapping[str, bytes]:
        """The texts that its job is made of besides its file, as they were when the first step was handed out."""
        from kanal.runner.elsewhere.remote import texts_of

        return texts_of(self.plan.job)

    @property
    def resumed(self) -> bool:
        """True for a run that goes on."""
        return self.record.steps_begun

    def _know_least_rows(self) -> None:
        """Replace shares of earlier runs' rows, as pipelines ask for, by numbers of rows; none if no run is known."""
        for place, step in enumerate(self.plan.steps):
            if isinstance(step, PipelinePlan) and " of " in str(step.settings.min_rows):
                share, _, whole = str(step.settings.min_rows).partition(" of ")
                known = self.log.usual(self.record, 1 if whole == "last run" else 10).get(step.name)
                least = None if known is None else math.ceil(share_of(share) * known.read)
                made = replace(step, settings=step.settings.model_copy(update={"min_rows": least}))
                self.plan.steps[place] = self._steps[step.name] = made

    def run(self) -> Run:
        """Run all steps; how they ended."""
        self._know_least_rows()
        started = time.perf_counter()
        self._watch("run_begins", self.number, [(step.name, step.kind) for step in self.plan.steps])
        tell("run_begins", run=self.number, job=self.plan.job.job, steps=len(self.plan.steps))
        ended = False
        if self._wants_expected():
            self._tell_expected()
        try:
            with self._interrupts(lambda: self._ended.put(None)):
                self._make_ready()
                try:
                    self._go_through()
                finally:
                    self._leave()
            status = self._status()
            self.log.end_run(self.number, status)
            ended = True
        finally:
            if not ended:  # whatever it was, the run log says that the run is over, and its job can run again
                with suppress(Exception):
                    self.log.break_off(self.number, RunStatus.STOPPED, "the run was broken off")
        if self._spans is not None:
            with suppress(Exception):
                self._spans.run_ends(str(status))
        with suppress(KanalError):
            self._tidy()
        seconds = time.perf_counter() - started
        tell("run_ends", run=self.number, job=self.plan.job.job, status=str(status), seconds=round(seconds, 3))
        results = tuple(self.results[step.name] for step in self.plan.steps)
        return Run(
            self.number, self.plan.job.job, status, self.moment, seconds, results, self.plan.job.chosen_environment
        )

    def _tidy(self) -> None:
        """Remove what no run will need any more, from the targets first, then from the run log."""
        name = self.plan.job.log_name
        abandoned, overdue = self.log.abandoned(name), self.log.overdue(name)
        tokens = {*self.log.tokens_of_done(name), *(token for _, token in [*abandoned, *overdue] if token)}
        # Whether a replay that died has committed is still to be asked.
        tokens -= {token for _, token, _ in self.log.unresolved_replays(name)}
        for database in self._targets_with_progress():
            with suppress(KanalError):
                database.journal.forget(tokens)
        self.log.give_up([run for run, _ in abandoned])
        self.log.remove([run for run, _ in overdue])

    def _status(self) -> RunStatus:
        statuses = {result.status for result in self.results.values()}
        if self._halt == _INTERRUPTED and statuses - {StepStatus.SUCCEEDED}:
            return RunStatus.STOPPED
        return RunStatus.FAILED if statuses - {StepStatus.SUCCEEDED} else RunStatus.SUCCEEDED

    def _watch(self, event: str, *arguments: Any) -> None:
        """Tell the watcher; one that fails is told nothing more, and harms no load."""
        if self._spans is not None and event not in ("rows_expected", "works_at"):
            with suppress(Exception):
                getattr(self._spans, event)(*arguments)
        with self._telling:
            if self._watched:
                try:
                    getattr(self.watcher, event)(*arguments)
                except Exception as error:
                    self._watched = False
                    tell("watcher_failed", logging.WARNING, f"the progress display has failed: {error}")

    def _wants_expected(self) -> bool:
        """True for a watcher that likes to be told how many rows there are; one that fails does not."""
        with suppress(Exception):
            return self._watched and bool(getattr(self.watcher, "wants_expected", False))
        return False

    def _tell_expected(self) -> None:
        """Tell the watcher how many rows steps have to read, as far as their databases say so quickly."""
        began = time.monotonic()
        for step in self.plan.steps:
            if time.monotonic() - began > _QUICKLY:
                return
            if not isinstance(step, PipelinePlan) or step.settings.source.query is not None:
                continue
            if step.reads_all and step.name not in self.replayed and step.source.reads >= {Reads.QUERY}:
                table = step.reading.table
                with suppress(KanalError):
                    counts = step.source.catalogue.row_counts(table.schema, [table.name])
                    if table.name in counts:
                        self._watch("rows_expected", step.name, counts[table.name].rows)

    def _make_ready(self) -> None:
        """Make what targets keep for Kanal, before any load is under way; what fails is said by the step."""
        if self.rehearsal:
            return
        for database in self._targets_with_progress():
            with suppress(KanalError):
                database.journal.make_ready()
                if not self.resumed:
                    self._claim_first(database)
        for step in self.plan.steps:
            if isinstance(step, PipelinePlan) and step.since is not None:
                with suppress(KanalError):
                    step.target.journal.make_watermarks_ready()
            if isinstance(step, PipelinePlan) and step.takes_files:
                with suppress(KanalError):
                    step.target.journal.make_files_ready()
                    finish_files(step, self.plan.job.job)

    def _claim_first(self, database: Target) -> None:
        """Claim the steps of a new run that load into a target, so that none of them claims itself."""
        names = [step.name for step in self.plan.steps if isinstance(step, PipelinePlan) and step.target is database]
        if names and self._crew is None:
            database.journal.claim_first(self.record.token, names, self.log.owner)
            self.claimed |= set(names)

    # --- which steps run now ---------------------------------------------------------------------------------------

    def _go_through(self) -> None:
        waiting = list(self.plan.steps)
        while True:
            running = bool(self._running)  # what does not run any more has said before if others are to run again
            while not self._again.empty():
                waiting.append(self._again.get())
            if not waiting and not running:
                return
            waiting = self._still_waiting(waiting)
            try:
                if self._ended.get(timeout=0.5 if self._running else 0.05) is None:
                    self._halt = self._halt or _INTERRUPTED
                    for attempt in list(self._running.values()):
                        attempt.stop(Stopped())
            except queue.Empty:
                pass
            self._tick()

    def _still_waiting(self, waiting: list[StepPlan]) -> list[StepPlan]:
        """Begin or end those steps that can be; the others."""
        left: list[StepPlan] = []
        for place, step in enumerate(waiting):
            if self._is_full:
                return left + waiting[place:]
            if not self._begin_or_end(step):
                left.append(step)
        return left

    def _at_once(self) -> int:
        """How many steps may run at once: as many as was said, or as a crew carries out now."""
        slots = self._crew.slots if self._crew is not None and self._limit is None else None
        return self._limit or slots or self.plan.job.workers

    @property
    def _is_full(self) -> bool:
        """True where no further step can begin, and none is to be ended."""
        return not self._halt and len(self._running) >= self.workers

    def _leave(self) -> None:
        """Stop what still runs, where the run itself was broken off, and undo what was not committed."""
        for attempt in list(self._running.values()):
            attempt.stop(Stopped())
        while self._running:
            with suppress(queue.Empty):
                self._ended.get(timeout=0.2)
            self._abandon_the_stuck()
        for group in self.groups.values():
            if not self._abandoned & set(group.steps):
                group.undo("the run was broken off")

    def _abandon_the_stuck(self) -> None:
        """Give up waiting for steps that were asked to stop a while ago and cannot be broken off.

        What they do goes on until it ends by itself, or with the process; none of it is committed.
        """
        for name, attempt in list(self._running.items()):
            late = attempt.stopped.is_set() and time.monotonic() - attempt.stopped_at > PATIENCE
            if late and attempt.can_be_left and not attempt.abandoned:
                attempt.abandoned = True
                self._abandoned.add(name)
                step = self._steps[name]
                said = f"{attempt.why.what}; what it was doing could not be broken off, and will not be committed"
                ending = Ending.STOPPED if isinstance(attempt.why, Stopped) else Ending.TIMED_OUT
                failure = Failure(ending, said, attempt.why.remedy, sentence(said, attempt.why.remedy))
                self._end(self._result(step, replace(attempt.outcome(), failure=failure), 0.0))
                self._held_up |= _held(step)
                del self._running[name]

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
        elif _held(step) & self._held_up:
            why = "a step that could not be broken off still holds the file that this one uses"
            self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=why))
        elif group is not None and group.undone:
            self._end(StepResult(step.name, step.kind, StepStatus.BLOCKED, error=group.undone))
        elif self._has_room(step):
            attempt = self._attempt(step, group)
            self._running[step.name] = attempt
            threading.Thread(target=self._work, args=(step, attempt), name=f"kanal-{step.name}", daemon=True).start()
            return True
        else:
            return False
        if group is not None:
            self._go_on(group, step)
        return True

    def _attempt(self, step: StepPlan, group: Transaction | None) -> AnyAttempt:
        """Who is to run a step: the executor, if one was given, or a thread here.

        What shares a transaction, or fills a Memory of this program, is run here.
        """
        here = group is not None or (isinstance(step, PipelinePlan) and step.settings.target.memory is not None)
        if self._crew is None or here:
            return Attempt(self, step, group)
        from kanal.runner.elsewhere.divided import DividedAttempt
        from kanal.runner.elsewhere.portions import why_whole
        from kanal.runner.elsewhere.remote import RemoteAttempt, task_of

        options = without_secrets(self.plan.job, self._options)
        if not isinstance(step, PipelinePlan) or step.since is None:
            options = {name: value for name, value in options.items() if name not in ("since", "until", "all")}
        task = task_of(self, step, self.plan.job, options | {"only": [step.name]}, self.moment)
        if isinstance(step, PipelinePlan) and step.settings.split and not task.replayed and not why_whole(step):
            return DividedAttempt(self, step, self._crew, task)
        return RemoteAttempt(self, step, self._crew, task)

    def _has_room(self, step: StepPlan) -> bool:
        """True where a step may run now, beside those that run already."""
        group = self.groups.get(step.name)
        if group is not None and time.monotonic() < group.not_before:
            return False
        others = [self._steps[name] for name in list(self._running)]
        if not others:
            return True
        if group is not None and any(other.name in group.steps for other in others):
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

    def _work(self, step: StepPlan, attempt: AnyAttempt) -> None:
        """Run a step to its end, in a thread of its own.

        Not in the main thread, since there the Arrow drivers take Ctrl-C for themselves, and may lose it.
        """
        group = self.groups.get(step.name)
        try:
            outcome = self._run_step(step, attempt, group)
            if attempt.abandoned:
                return
            if group is not None:
                self._go_on(group, step, outcome)
            ended = self.results.get(step.name)
            if ended is not None and ended.status is StepStatus.FAILED and self.plan.job.on_failure == "stop":
                self._halt = self._halt or f'{step.name} failed, and on_failure = "stop" ends the run there'
        except BaseException as error:  # the run log cannot be written: nothing more can be relied on
            self.results[step.name] = StepResult(step.name, step.kind, StepStatus.FAILED, error=str(error))
            self._broken = error
        finally:
            if not attempt.abandoned:
                self._running.pop(step.name, None)
            self._ended.put(step.name)

    def _tick(self) -> None:
        """Give a sign of life now and then, and stop steps whose time is over."""
        if self._broken is not None:
            raise self._broken
        if time.monotonic() - self._signed > SIGN_EVERY:
            self._signed = time.monotonic()
            with suppress(KanalError):
                self.workers = self._at_once()  # workers come and go
            with suppress(KanalError):
                self.log.give_sign(self.number)
        with suppress(KanalError):
            self.log.write_waiting(self.number)
        for attempt in list(self._running.values()):
            limit = attempt.step.timeout
            if limit is not None and time.monotonic() - attempt.began > limit:
                attempt.stop(TimedOut(limit))
        self._abandon_the_stuck()

    # --- steps that are done already -------------------------------------------------------------------------------

    def _is_done(self, step: StepPlan) -> bool:
        """True for a step that succeeded before this run was broken off; its result is then known."""
        for record in self.record.steps:
            if record.step == step.name and record.status == "succeeded":
                self.results[step.name] = StepResult(
                    step.name, step.kind, StepStatus.SUCCEEDED, record.tally, record.batches, record.seconds, None,
                    record.note, self.log, self.number,
                )  # fmt: skip
                self._watch("step_ends", self.results[step.name])
                return True
        return self.resumed and self._was_committed(step)

    def _was_committed(self, step: StepPlan) -> bool:
        """True for a step that its target has committed, though nobody was left to log it; it is logged now."""
        if not isinstance(step, PipelinePlan) or step.name in self.groups or not self.needs_mark(step):
            return False
        try:
            found = step.target.journal.recorded(self.record.token, step.name)
        except KanalError:
            return False
        if found is None or not found.done:
            return False
        self.log.settle(self.number, step.name, True, found.batches)
        self._end(
            StepResult(
                step.name, step.kind, StepStatus.SUCCEEDED, found.tally, found.batches, 0.0, None, COMMITTED_BEFORE,
                self.log, self.number,
            )
        )  # fmt: skip
        return True

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True if the target records what of a step is committed, and by whom."""
        return step.can_leave_progress and not self.rehearsal

    def _targets_with_progress(self) -> list[Target]:
        marked = [step.target for step in self.plan.steps if isinstance(step, PipelinePlan) and self.needs_mark(step)]
        if self._crew is not None:
            commands = (step.database for step in self.plan.steps if isinstance(step, CommandPlan))
            marked += [database for database in commands if Writes.REMEMBER in database.writes]
        return list(dict.fromkeys(marked))

    # --- transactions that several steps share ---------------------------------------------------------------------

    def _go_on(self, group: Transaction, step: StepPlan, outcome: StepOutcome | None = None) -> None:
        """After a step of a transaction shared with others: undo it where the step failed, commit it at its end."""
        failure: str | None = None
        error: KanalError | Failure | None = outcome.failure if outcome is not None else None
        if self.results[step.name].status is not StepStatus.SUCCEEDED:
            failure = f"{step.name} did not succeed, which commits together with it"
        elif all(name in self.results for name in group.steps):
            error = group.commit(lambda load: self._mark(load, group.steps))
            if error is None:
                for running in group.running.values():
                    running.after_commit()
                for name in group.steps:
                    self._end(_as_it_ended(self.results[name], group.running.get(name)))
            else:
                failure = str(error)
        if error is not None and passes(error) and self._try_again(group, step, error):
            return
        if isinstance(error, OpenEnds) and not self._halt and group.leave_out(error):
            self._run_again([plan for plan in self.plan.steps if plan.name in group.steps])
            return
        if outcome is not None and self.results[step.name].status is not StepStatus.SUCCEEDED:
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

    def _try_again(self, group: Transaction, step: StepPlan, error: KanalError | Failure) -> bool:
        """Undo a shared transaction and have its steps run again, after a while; False after too many tries."""
        settings = [s.settings for s in self.plan.steps if isinstance(s, PipelinePlan) and s.name in group.steps]
        if self._halt or group.tries > max(each.retries for each in settings):
            return False
        self.try_failed(step.name, group.tries, str(error))
        self._notes.setdefault(step.name, []).append(failed_try(group.tries, error, ", and all that commits with it"))
        ran = [plan for plan in self.plan.steps if plan.name in group.ran]
        group.undo_for_now(pause(group.tries, max(each.retry_wait for each in settings)))
        self._run_again(ran)
        return True

    def _run_again(self, steps: Sequence[StepPlan]) -> None:
        """Have steps run once more, whose transaction was undone."""
        for plan in steps:
            self.results.pop(plan.name, None)
            self._again.put(plan)

    def _mark(self, load: Load, steps: Sequence[str]) -> None:
        """Record in the target, within the transaction, that these steps are committed with it."""
        plans = [plan for plan in self.plan.steps if plan.name in steps and isinstance(plan, PipelinePlan)]
        if plans and self.needs_mark(plans[0]) and plans[0].target.journal.is_ready():
            for plan in plans:
                if plan.name in self.results:
                    done = Progress(self.results[plan.name].tally, self.results[plan.name].batches, done=True)
                    plan.target.journal.record(load, done, self.record.token, plan.name, self.log.owner)

    # --- one step --------------------------------------------------------------------------------------------------

    def _run_step(self, step: StepPlan, attempt: AnyAttempt, group: Transaction | None) -> StepOutcome | None:
        """Run a step to one of its ends, trying again where the trouble passes; None where it was given up."""
        self._watch("step_begins", step.name)
        tell("step_begins", run=self.number, step=step.name, kind=step.kind)
        started = time.perf_counter()
        settings = step.settings if isinstance(step, PipelinePlan) else self.plan.job.defaults
        retries = settings.retries if group is None else 0  # what is shared is tried again as a whole
        if group is not None:
            group.ran.add(step.name)
        outcome = attempt.run(retries, settings.retry_wait)
        if attempt.abandoned:
            return None
        result = self._result(step, outcome, time.perf_counter() - started)
        if group is not None:
            # Not logged before the transaction that it shares is committed or undone.
            self.results[step.name] = result
            self._watch("step_ends", result)
        else:
            self._end(result)
        return outcome

    def _result(self, step: StepPlan, outcome: StepOutcome, seconds: float) -> StepResult:
        """How a step has ended, with what is worth knowing of it."""
        notes, failure = [*self._notes.get(step.name, ()), *outcome.notes], outcome.failure
        status, said = StepStatus.SUCCEEDED, None
        tally, batches = outcome.tally, outcome.batches
        if failure is not None:
            status = StepStatus.STOPPED if failure.ending is Ending.STOPPED else StepStatus.FAILED
            said = failure.said
        if outcome.committed is not None:
            tally, batches = outcome.committed.tally, outcome.committed.batches
        elif failure is not None:
            tally, batches = self._kept_of(step, outcome)
            if failure.ending is not Ending.FAILED:
                stays = (
                    f"{tally.written:,} rows of {batches:,} batches stay, the rest was" if tally.written else "it was"
                )
                said = sentence(f"{failure.what}; {stays} undone", failure.remedy)
        if outcome.hoped:
            self.log.settle(self.number, step.name, status is StepStatus.SUCCEEDED, outcome.kept_batches)
        if isinstance(step, PipelinePlan) and tally.rejected > self.log.keep_rejects and not self._keeps_all(step):
            notes.append(f"of its rejected rows the first {self.log.keep_rejects:,} are kept, and all are counted")
        note = "; ".join(notes) or None
        memory = getattr(step.target, "memory", None) if isinstance(step, PipelinePlan) else None
        return StepResult(
            step.name, step.kind, status, tally, batches, seconds, said, note, self.log, self.number, memory
        )

    def _kept_of(self, step: StepPlan, outcome: StepOutcome) -> tuple[Tally, int]:
        """Of a step that did not succeed, the counts of what stays, which is committed batch by batch."""
        by_batch = isinstance(step, PipelinePlan) and step.settings.commits.by_batch
        if not by_batch or outcome.kept is None:
            return _undone(outcome.tally), outcome.batches
        with suppress(KanalError):
            self.log.drop_batches(self.number, step.name, outcome.kept_batches)
        return outcome.kept, outcome.kept_batches

    def earlier_rejects(self, step: PipelinePlan) -> Mapping[str, Sequence[int]]:
        """Rejects of earlier runs that a step may load after all, by the key of their source row; those of a step that
        reads all of its source are not asked for, since none of them is loaded again."""
        if step.reads_all or not step.row_key or step.name in self.replayed:
            return {}
        return self.log.open_rejects(self.plan.job.log_name, step.name, self.number)

    def try_failed(self, step: str, number: int, said: str) -> None:
        """Say that a try failed by a trouble that passes, and that another follows."""
        text = f"{step}: try {number} failed, and another follows: {said}"
        tell("try_failed", logging.WARNING, text, step=step, attempt=number, error=said)

    def works_at(self, step: str, worker: str) -> None:
        """Be told that a worker begins with a step, or a part of it."""
        if hasattr(self.watcher, "works_at"):
            self._watch("works_at", step, worker)
        tell("task_begins", run=self.number, step=step, worker=worker)

    def batch_ends(self, step: PipelineStep, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Log a batch."""
        keep_all, key = self._keeps_all(step.plan), step.plan.row_key
        # What a target remembers of a step, and batches that are committed, must not be missing in the log.
        later = not (step.plan.settings.commits.by_batch or (rejects and self.needs_mark(step.plan)))
        self.log.add_batch(self.number, step.plan.name, batch, rejects, keep_all, key, later)
        self._watch("batch_ends", step.plan.name, step.tally)
        tell("batch", run=self.number, step=step.plan.name, batch=batch.batch, **asdict(batch.tally))

    def _keeps_all(self, step: PipelinePlan) -> bool:
        """True where rejected rows are not met again by the next run, or must be told from others when it goes on."""
        return step.since is not None or (step.settings.commits.by_batch and bool(step.key or step.checks))

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
        self._watch("step_ends", result)
        tell(
            "step_ends", run=self.number, step=result.step, status=str(result.status),
            seconds=round(result.seconds, 3), error=result.error, **asdict(result.tally),
        )  # fmt: skip
