"""One try to run a step, in a thread of its own, and transactions that several steps share."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import ExitStack, suppress
from functools import partial
from typing import Any, Protocol

from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.databases import progress
from kanal.databases.base import Load
from kanal.runlog import RunLogStore, RunRecord
from kanal.runner.plan import CommandPlan, Group, JobPlan, PipelinePlan, StepPlan
from kanal.runner.replay import Rejected
from kanal.runner.results import StepResult
from kanal.runner.step import PipelineStep, SharedLoad, Stopped

_LOG = logging.getLogger("kanal.runner")


def outcome_of(work: Callable[[], object], stop: Callable[[], None], tick: Callable[[], None]) -> BaseException | None:
    """Do work in a thread of its own; what it raised. Ctrl-C asks it to stop. `tick` is called every second or so.

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
            if not done.wait(1):
                tick()
        except KeyboardInterrupt:
            stop()
    return raised[0] if raised else None


class Transaction:
    """A transaction that several steps share, while the run goes on."""

    def __init__(self, group: Group) -> None:
        self.database = group.database
        self.steps = group.steps
        #: Why it was undone, if it was.
        self.undone = ""
        self._stack = ExitStack()
        self._shared: SharedLoad | None = None

    @property
    def begun(self) -> bool:
        """True while it is open."""
        return self._shared is not None

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

    def commit(self, before: Callable[[Load], None]) -> str | None:
        """Commit, after what is to be done before; why it could not be, if it could not."""
        try:
            if self._shared is not None:
                before(self._shared.load)
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


class Surroundings(Protocol):
    """What a try needs of the run that it belongs to."""

    plan: JobPlan
    log: RunLogStore
    record: RunRecord
    results: dict[str, StepResult]
    replayed: Mapping[str, Rejected]

    @property
    def moment(self) -> Any:
        """The run's moment."""

    def tick(self) -> None:
        """Called every second or so."""

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True where to load a step a second time would change the target again."""

    def batch_ends(self, step: PipelineStep, number: int, tally: Tally, seconds: float, rejects: list[Reject]) -> None:
        """Called after each batch."""


class Attempt:
    """One try after another to run a step; called, it raises what broke it off."""

    def __init__(self, execution: Surroundings, step: StepPlan, group: Transaction | None) -> None:
        self.execution = execution
        self.step = step
        self.group = group
        self.running: PipelineStep | None = None
        self.notes: list[str] = []
        #: The counts of a step whose commit was not answered, but done.
        self.committed: Tally | None = None
        self._marks = False

    def __call__(self) -> None:
        execution, step = self.execution, self.step
        if self._marks and isinstance(step, PipelinePlan):
            self.committed = progress.recorded(step.target, execution.record.token, step.name)
            if self.committed is not None:
                return
        execution.log.begin_step(execution.record.run, step.name)
        if isinstance(step, CommandPlan):
            failure = outcome_of(self._command, lambda: None, execution.tick)
        else:
            self.running = PipelineStep(step, execution.moment, replayed=execution.replayed.get(step.name))
            failure = outcome_of(self._pipeline, self.running.stop, execution.tick)
            if failure is not None and self.running.stopping:
                failure = Stopped()  # whatever was raised by what was broken off
        if failure is not None:
            raise failure

    def _command(self) -> None:
        assert isinstance(self.step, CommandPlan)
        if self.group is not None:
            self.group.shared(self.execution.plan.steps, self.execution.results).load.run_sql(self.step.sql)
        else:
            self.step.database.run_command(self.step.sql)

    def _pipeline(self) -> None:
        running, execution, step = self.running, self.execution, self.step
        assert running is not None and isinstance(step, PipelinePlan)
        if execution.needs_mark(step):
            self._make_ready(step)
        shared = self.group.shared(execution.plan.steps, execution.results) if self.group is not None else None
        on_batch = partial(execution.batch_ends, running)
        running.run(on_batch, shared, self._before_commit if self._marks else None)

    def _make_ready(self, step: PipelinePlan) -> None:
        try:
            progress.make_ready(step.target)
            self._marks = True
        except KanalError as error:
            if getattr(error, "passing", False):
                raise
            self.notes.append(
                f"progress cannot be kept in the target ({error.what}), so a resume after a crash at the very commit "
                "could append twice"
            )

    def _before_commit(self, load: Load) -> None:
        assert self.running is not None
        progress.record(load, self.execution.record.token, {self.step.name: self.running.tally})

    def failed_for_now(self, state: Any) -> None:
        """Note that a try failed by a trouble that passes, and that another will follow."""
        error = state.outcome.exception()
        _LOG.warning("%s: try %d failed, another follows: %s", self.step.name, state.attempt_number, error)
        self.notes.append(f"try {state.attempt_number} failed and was undone: {getattr(error, 'what', error)}")
