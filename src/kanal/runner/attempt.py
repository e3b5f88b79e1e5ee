"""One try to run a step, in a thread of its own, and transactions that several steps share."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import ExitStack, suppress
from functools import partial
from typing import Any, Protocol

from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.databases import progress
from kanal.databases.load import Load
from kanal.databases.progress import Progress
from kanal.runlog import BatchRecord, RunLogStore, RunRecord
from kanal.runner.events import tell
from kanal.runner.plans import CommandPlan, Group, JobPlan, PipelinePlan, StepPlan
from kanal.runner.replay import Rejected
from kanal.runner.results import StepResult
from kanal.runner.step import PipelineStep, SharedLoad, Stopped

_WITHOUT_ANSWER = "its commit had succeeded, only the answer was lost"


class TimedOut(KanalError):
    """A step took longer than its timeout; it was undone."""

    def __init__(self, limit: float) -> None:
        super().__init__(f"it took longer than its timeout of {limit:g} s, and was undone", "set a longer timeout")


class Transaction:
    """A transaction that several steps share, while the run goes on."""

    def __init__(self, group: Group) -> None:
        self.database = group.database
        self.steps = group.steps
        #: Why it was undone, if it was.
        self.undone = ""
        #: The steps that ran within it, in this try, of which it had so many before, and when another may begin.
        self.ran: set[str] = set()
        self.tries = 1
        self.not_before = 0.0
        self._stack = ExitStack()
        self._shared: SharedLoad | None = None
        self._committed: dict[str, Progress] | None = None

    def committed(self, execution: Surroundings) -> dict[str, Progress]:
        """What an earlier try has committed, by step, though nobody was left to hear of it; all of it or nothing."""
        if self._committed is None:
            found: dict[str, Progress] = {}
            for step in execution.plan.steps if self.tries > 1 or execution.resumed else ():
                if isinstance(step, PipelinePlan) and step.name in self.steps and execution.needs_mark(step):
                    done = progress.recorded(step.target, execution.record.token, step.name)
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
            for plan in reversed(steps):
                if isinstance(plan, PipelinePlan) and plan.name in self.steps and plan.name not in done:
                    self._shared.empty(plan)
        return self._shared

    def commit(self, before: Callable[[Load], None]) -> KanalError | None:
        """Commit, after what is to be done before; why it could not be, if it could not."""
        try:
            if self._shared is not None:
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
        with suppress(Exception):
            self._stack.close()
        self._stack, self._shared, self._committed = ExitStack(), None, None
        self.ran.clear()
        self.tries += 1
        self.not_before = time.monotonic() + seconds


class Surroundings(Protocol):
    """What a try needs of the run that it belongs to."""

    plan: JobPlan
    log: RunLogStore
    record: RunRecord
    results: dict[str, StepResult]
    replayed: Mapping[str, Rejected]

    @property
    def resumed(self) -> bool:
        """True for a run that goes on."""

    @property
    def moment(self) -> Any:
        """The run's moment."""

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True where to load a step a second time would change the target again, or be counted otherwise."""

    def batch_ends(self, step: PipelineStep, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Called after each batch."""


class Attempt:
    """One try after another to run a step; called, it raises what broke it off."""

    def __init__(self, execution: Surroundings, step: StepPlan, group: Transaction | None) -> None:
        self.execution = execution
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
        self._why: KanalError = Stopped()
        self._marks = False
        self._cancel: Callable[[], None] | None = None

    def stop(self, why: KanalError) -> None:
        """Ask, from another thread, that the step ends, is undone, and raises this."""
        if not self.stopped.is_set():
            self._why = why
            self.stopped.set()
        if self.running is not None:
            self.running.stop()
        if self._cancel is not None:
            self._cancel()

    def __call__(self) -> None:
        execution, step = self.execution, self.step
        if self.stopped.is_set():
            raise self._why
        if self.group is not None and self.group.committed(execution):
            self.committed = self.group.committed(execution).get(step.name)
            self.notes.append(_WITHOUT_ANSWER)
            return
        begun: Progress | None = None
        if isinstance(step, PipelinePlan) and self.group is None and execution.needs_mark(step):
            self._make_ready(step)
            if self._marks and (self.running is not None or execution.resumed):
                begun = progress.recorded(step.target, execution.record.token, step.name)
                if begun is not None and begun.done:
                    self.committed = begun
                    self.notes.append(_WITHOUT_ANSWER)
                    return
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

    def _command(self, step: CommandPlan) -> None:
        if self.group is not None:
            load = self.group.shared(self.execution.plan.steps, self.execution.results).load
            self._cancel = load.cancel
            load.run_sql(step.sql)
            return
        with step.database.load() as load:
            self._cancel = load.cancel
            load.run_sql(step.sql)
            if self.stopped.is_set():
                raise self._why
            load.commit()

    def _pipeline(self, step: PipelinePlan, begun: Progress | None) -> None:
        execution = self.execution
        running = PipelineStep(
            step, execution.moment, execution.plan.job.job, replayed=execution.replayed.get(step.name), begun=begun
        )
        self.running = running
        if self.stopped.is_set():
            raise self._why
        if running.replayed is not None:
            numbers = {number for number, _ in running.replayed}
            mend = partial(execution.log.mend, run=execution.record.run, step=step.name)
            running.before_commit = lambda: mend(numbers - running.rejected_again)
        if self._marks:
            running.record = partial(progress.record, token=execution.record.token, step=step.name)
        shared = self.group.shared(execution.plan.steps, execution.results) if self.group is not None else None
        running.run(partial(execution.batch_ends, running), shared)

    def _make_ready(self, step: PipelinePlan) -> None:
        if self._marks:
            return
        try:
            progress.make_ready(step.target)
            self._marks = True
        except KanalError as error:
            if getattr(error, "passing", False) or step.settings.commit == "batch":
                raise
            self.notes.append(
                f"progress cannot be kept in the target ({error.what}), so a resume after a crash at the very commit "
                "could append twice"
            )

    def failed_for_now(self, state: Any) -> None:
        """Note that a try failed by a trouble that passes, and that another will follow."""
        self.notes.append(note_failed_try(self.step.name, state.attempt_number, state.outcome.exception()))


def note_failed_try(step: str, number: int, error: BaseException | None, undone: str = "") -> str:
    """Log that a step's try of this number failed by a trouble that passes, and what else was undone; a note of it."""
    said = f"{step}: try {number} failed, and another follows: {error}"
    tell("try_failed", logging.WARNING, said, step=step, attempt=number, error=str(error))
    return f"try {number} failed and was undone{undone}: {getattr(error, 'what', error)}"
