"""One try to run a step, in a thread of its own, and transactions that several steps share."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import ExitStack, suppress
from functools import partial
from typing import Any, Protocol

from msgspec.structs import replace

from kanal.connections.journal import Progress
from kanal.connections.loading import Load, RefusedRow
from kanal.connections.reading import Breaker
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError, passes
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.runlog import BatchRecord
from kanal.runner.job_plan import CommandPlan, Group, JobPlan, PipelinePlan, StepPlan
from kanal.runner.messages import Failure, StepOutcome, Stopped
from kanal.runner.replay import Rejected
from kanal.runner.results import StepResult
from kanal.runner.retrying import retrying
from kanal.runner.step import PipelineStep
from kanal.runner.step_state import OpenEnds, SharedLoad
from kanal.runner.write_rules import IndexesRefused

#: Seconds after which a statement that goes on is broken off again.
_ASK_AGAIN = 0.3
#: So often steps that refer to each other are loaded again without rows that refer to nothing.
_TIMES = 50
_LOST = "a resume after a crash at the very commit could append twice"
_WITHOUT_ANSWER = "its commit had succeeded, only the answer was lost"


class Transaction:
    """A transaction that several steps share, while the run goes on."""

    def __init__(self, group: Group, rehearsed: Collection[str] | None = None) -> None:
        self.rehearsal = rehearsed is not None
        #: Steps that a run would commit by themselves.
        self.apart = frozenset(rehearsed or ())
        self.database = group.database
        self.steps = group.steps
        #: Why it was undone, if it was.
        self.undone = ""
        #: The steps that ran within it, in this try, of which it had so many before, and when another may begin.
        self.ran: set[str] = set()
        self.tries = 1
        self.not_before = 0.0
        #: By step, rows that are known to refer to rows which do not come.
        self.open_ends: dict[str, dict[str, RefusedRow]] = {}
        self._left_out = 0
        #: The pipelines that ran within it, by step.
        self.running: dict[str, PipelineStep] = {}
        self._stack = ExitStack()
        self._shared: SharedLoad | None = None
        self._committed: dict[str, Progress] | None = None

    def committed(self, execution: RunContext) -> dict[str, Progress]:
        """What an earlier try has committed, by step, though nobody was left to hear of it; all of it or nothing."""
        if self._committed is None:
            found: dict[str, Progress] = {}
            mine = [step for step in execution.plan.steps if isinstance(step, PipelinePlan) and step.name in self.steps]
            if self.tries == 1 and all(step.name in execution.claimed for step in mine):
                self._committed = found
                return found
            for step in mine:
                if execution.needs_mark(step):
                    journal = step.target.journal
                    if journal.is_ready():
                        done = journal.claim(str(execution.record.token), step.name, execution.log.owner)
                        if done is not None and done.done:
                            found[step.name] = done
            self._committed = found
        return self._committed

    def shared(self, steps: Sequence[StepPlan], done: Collection[str]) -> SharedLoad:
        """The transaction; when it begins, tables are emptied, those that refer to others before them.

        Steps that an earlier try of the run has done are left alone.
        """
        if self._shared is None:
            self._shared = SharedLoad(self._stack.enter_context(self.database.load()))
            mine = [plan for plan in steps if isinstance(plan, PipelinePlan) and plan.name in self.steps]
            mine = [plan for plan in mine if plan.name not in done]
            for plan in mine:
                if plan.open_references and plan.writing.rule.empties:
                    self._shared.load.unlink(plan.target_table, plan.open_references)
            for plan in reversed(mine):
                if plan.name not in self.apart:
                    self._shared.empty(plan)
        return self._shared

    def commit(self, before: Callable[[Load], None]) -> KanalError | None:
        """Commit, after what is to be done before; why it could not be, if it could not."""
        try:
            if self._shared is not None:
                self._shared.finish()
                if not self.rehearsal:
                    before(self._shared.load)
                    self._shared.load.commit()
            self._stack.close()
        except KanalError as error:
            return error
        return None

    def undo(self, why: str) -> None:
        """Roll it back, for good."""
        self.undone = why
        with suppress(Exception):
            self._stack.close()

    def undo_for_now(self, seconds: float) -> None:
        """Roll it back, to be tried again after a time."""
        self._begin_anew()
        self.tries += 1
        self.not_before = time.monotonic() + seconds

    def leave_out(self, ends: OpenEnds) -> bool:
        """Roll it back, to be done again without rows that refer to rows which do not come; False where that was of no
        use so often that it is given up."""
        self._left_out += 1
        for step, rows in ends.rows.items():
            self.open_ends.setdefault(step, {}).update(rows)
        if self._left_out > _TIMES:
            return False
        self._begin_anew()
        return True

    def _begin_anew(self) -> None:
        with suppress(Exception):
            self._stack.close()
        self._stack, self._shared, self._committed = ExitStack(), None, None
        self.ran.clear()


class StepLog(Protocol):
    """What a try tells the run log, or asks it."""

    @property
    def owner(self) -> str:
        """What tells this process from others that may go on with the same run."""

    def begin_step(self, run: int, step: str, batches: int = 0) -> None:
        """Record that a step begins, or begins again; of an earlier try so many batches are left."""

    def refused_in(self, run: int, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target refused in a step of a run."""

    def resolve(self, rejects: Collection[int], run: int, step: str, batch: int | None = None) -> None:
        """Record that rejected rows will have been loaded once a run commits, or a batch of it."""


class RunIdentity(Protocol):
    """Which run it is, and what marks its work in targets."""

    @property
    def run(self) -> int:
        """Its number."""

    @property
    def token(self) -> str | None:
        """What marks its work in targets."""


class RunContext(Protocol):
    """What a try needs of the run that it belongs to."""

    @property
    def plan(self) -> JobPlan:
        """The plan of the job."""

    @property
    def log(self) -> StepLog:
        """Where it is recorded."""

    @property
    def record(self) -> RunIdentity:
        """Which run it is."""

    @property
    def results(self) -> dict[str, StepResult]:
        """The steps that have ended."""

    @property
    def claimed(self) -> Collection[str]:
        """The steps that were claimed for the run in their targets before any of them began."""

    @property
    def replayed(self) -> Mapping[str, Rejected]:
        """Rejected rows to be read instead of sources, by step."""

    @property
    def resumed(self) -> bool:
        """True for a run that goes on."""

    @property
    def moment(self) -> dt.datetime:
        """The run's moment."""

    @property
    def elsewhere(self) -> bool:
        """True where another may be given the step while this one cannot be reached."""

    def try_failed(self, step: str, number: int, said: str) -> None:
        """Say that a try failed by a trouble that passes, and that another follows."""

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True if the target records what of a step is committed, and by whom."""

    def batch_ends(self, step: PipelineStep, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Called after each batch."""

    def earlier_rejects(self, step: PipelinePlan) -> Mapping[str, Sequence[int]]:
        """Rejects of earlier runs that a step may load after all, by the key of their source row."""


class Attempt:
    """One try after another to run a step; called, it raises what broke it off."""

    def __init__(
        self,
        context: RunContext,
        step: StepPlan,
        group: Transaction | None,
        made: Callable[..., PipelineStep] = PipelineStep,
    ) -> None:
        self.context = context
        self._made = made
        self.step = step
        self.group = group
        self.began = time.monotonic()
        self.running: PipelineStep | None = None
        self.notes: list[str] = []
        #: What broke off the last try, if something did.
        self.failure: BaseException | None = None
        #: What was committed by a commit that was not answered.
        self.committed: Progress | None = None
        #: Set when the step was asked to end.
        self.stopped = threading.Event()
        self.stopped_at = 0.0
        #: Set when nobody waits for it any more.
        self.abandoned = False
        self._why: KanalError = Stopped()
        self._marks = False
        self._tried = False
        self._break = Breaker()
        self._done = threading.Event()

    def stop(self, why: KanalError) -> None:
        """Ask, from another thread, that the step ends, is undone, and raises this."""
        if not self.stopped.is_set():
            self._why = why
            self.stopped_at = time.monotonic()
            self.stopped.set()
            threading.Thread(target=self._break_off, name="kanal-break", daemon=True).start()

    def _break_off(self) -> None:
        """Break off what is under way, again and again: a server forgets what it was asked before a statement began."""
        while not (self._done.is_set() or self.abandoned):
            if self.can_be_left:  # a commit is left to end
                if self.running is not None:
                    self.running.stop()
                self._break()
            self._done.wait(_ASK_AGAIN)

    def __call__(self) -> None:
        execution, step = self.context, self.step
        if self.stopped.is_set():
            raise self._why
        if self.group is not None and self.group.committed(execution):
            self.committed = self.group.committed(execution).get(step.name)
            self.notes.append(_WITHOUT_ANSWER)
            return
        begun: Progress | None = None
        if isinstance(step, PipelinePlan) and self.group is None and execution.needs_mark(step):
            self._make_ready(step)
            if self._marks and (step.name not in execution.claimed or self._tried):
                begun = step.target.journal.claim(str(execution.record.token), step.name, execution.log.owner)
                if begun is not None and begun.done:
                    self.committed = begun
                    self.notes.append(_WITHOUT_ANSWER)
                    return
        self._tried = True
        execution.log.begin_step(execution.record.run, step.name, begun.batches if begun else 0)
        try:
            if isinstance(step, CommandPlan):
                self._command(step)
            else:
                self._pipeline(step, begun)
        except BaseException:
            if self.stopped.is_set():
                raise self._why from None  # whatever was raised by what was broken off
            raise

    @property
    def why(self) -> KanalError:
        """Why it was asked to end."""
        return self._why

    @property
    def can_be_left(self) -> bool:
        """True where it is certain that it commits nothing more."""
        return not (self.running is not None and self.running.committing)

    def _command(self, step: CommandPlan) -> None:
        if step.idle:
            self.notes.append(step.idle)
            return
        if self.group is not None:
            load = self.group.shared(self.context.plan.steps, self.context.results).load
            with self._break.knows(load.cancel):
                load.run_sql(step.sql)
            return
        token, owner, marked = str(self.context.record.token), self.context.log.owner, self._marks_command(step)
        if marked:
            self.committed = step.database.journal.claim(token, step.name, owner)
            if self.committed is not None:
                self.notes.append(_WITHOUT_ANSWER)
                return
        with step.database.load() as load:
            with self._break.knows(load.cancel):
                if not self.stopped.is_set():
                    load.run_sql(step.sql)
            if self.stopped.is_set():
                raise self._why
            if marked:
                step.database.journal.record(load, Progress(Tally(), done=True), token, step.name, owner)
            load.commit()

    def _marks_command(self, step: CommandPlan) -> bool:
        """True where another may be given a command, so that its target has to tell whether it was done."""
        if not self.context.elsewhere or Writes.REMEMBER not in step.database.writes:
            return False
        step.database.journal.make_ready()
        return True

    def _pipeline(self, step: PipelinePlan, begun: Progress | None) -> None:
        execution = self.context
        running = self._made(
            step, execution.moment, execution.plan.job.job, replayed=execution.replayed.get(step.name), begun=begun
        )
        running.number = execution.record.run
        if begun is not None and begun.batches:
            running.refused_before = execution.log.refused_in(execution.record.run, step.name)
        running.rehearsal = self.group is not None and self.group.rehearsal
        running.apart = self.group is not None and step.name in self.group.apart
        if self.group is not None:
            self.group.running[step.name] = running
        running.earlier = execution.earlier_rejects(step)
        running.open_ends = self.group.open_ends.get(step.name, {}) if self.group is not None else {}
        self.running = running
        if self.stopped.is_set():
            raise self._why
        if running.replayed is not None:
            numbers = {number for number, _ in running.replayed}
            resolve = partial(execution.log.resolve, run=execution.record.run, step=step.name)
            running.before_commit = lambda: resolve(numbers - running.rejected_again)
        elif running.earlier:
            by_batch = step.settings.commits.by_batch

            def hope() -> None:
                if running.resolved:
                    execution.log.resolve(
                        running.resolved, execution.record.run, step.name, running.batches if by_batch else None
                    )
                    running.resolved.clear()

            running.before_commit = hope
        if self._marks:
            running.record = partial(
                step.target.journal.record, token=str(execution.record.token), step=step.name, owner=execution.log.owner
            )
            if execution.elsewhere:
                running.on_load = partial(
                    step.target.journal.note_session,
                    token=str(execution.record.token), step=step.name, owner=execution.log.owner,
                )  # fmt: skip
        shared = self.group.shared(execution.plan.steps, execution.results) if self.group is not None else None
        try:
            running.run(partial(execution.batch_ends, running), shared)
        except IndexesRefused as error:
            if self.group is not None:
                raise
            # Loaded again with the indexes in place, so that the rows that break them are rejected, and no others.
            self.notes.append(f"it was loaded again with its indexes in place: {error.what}")
            execution.log.begin_step(execution.record.run, step.name)
            settings = step.settings.model_copy(update={"rebuild_indexes": False})
            self._pipeline(replace(step, settings=settings), begun)

    def _make_ready(self, step: PipelinePlan) -> None:
        if self._marks:
            return
        try:
            step.target.journal.make_ready()
            self._marks = True
        except KanalError as error:
            if passes(error) or step.settings.commits.by_batch or self.context.elsewhere:
                raise
            if not step.writing.rule.repeatable:
                self.notes.append(f"the target cannot keep what is committed ({error.what}), so {_LOST}")

    def failed_for_now(self, state: Any) -> None:
        """Note that a try failed by a trouble that passes, and that another will follow."""
        number, error = state.attempt_number, state.outcome.exception()
        self.context.try_failed(self.step.name, number, str(error))
        self.notes.append(failed_try(number, error))

    def outcome(self) -> StepOutcome:
        """How it stands, or has ended."""
        running = self.running
        failure = None if self.failure is None else Failure.of(self.failure)
        notes = (*self.notes, *(running.notes if running is not None else ()))
        if running is None:
            return StepOutcome(notes=notes, committed=self.committed, failure=failure)
        hoped = running.replayed is not None or bool(running.earlier)
        return StepOutcome(running.tally, running.batches, running.kept, running.kept_batches, notes, self.committed,
                           hoped, failure)  # fmt: skip

    def run(self, retries: int, wait: float) -> StepOutcome:
        """Run the step to its end, again where a trouble passes, up to so many times; never raises."""
        try:
            retrying(retries, wait, self.stopped.wait, self.failed_for_now)(self)
        except BaseException as error:  # whatever it is, the step has failed and the run log says so
            self.failure = error
        finally:
            self._done.set()
        return self.outcome()


def failed_try(number: int, error: BaseException | Failure | None, undone: str = "") -> str:
    """A note of a step's try that failed by a trouble that passes, and of what else was undone."""
    return f"try {number} failed and was undone{undone}: {getattr(error, 'what', error)}"
