"""One try to run a step, in a thread of its own."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection
from functools import partial
from typing import Any, Protocol

from msgspec.structs import replace

from kanal.connections.journal import Progress
from kanal.connections.reading import Breaker
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError, passes
from kanal.core.tally import Tally
from kanal.runner.job_plan import CommandPlan, PipelinePlan, StepPlan
from kanal.runner.messages import Failure, StepOutcome, Stopped
from kanal.runner.retrying import retrying
from kanal.runner.run_context import Mark, RunContext
from kanal.runner.step import PipelineStep, StepContext, Way
from kanal.runner.transaction import Transaction
from kanal.runner.write_rules import IndexesRefused

#: Seconds after which a statement that is still running is cancelled again.
_ASK_AGAIN = 0.3
_LOST = "a resume after a crash at the very commit could append twice"
_WITHOUT_ANSWER = "its commit had succeeded, only the answer was lost"


class AnyAttempt(Protocol):
    """A step on its way to its end, here or elsewhere."""

    began: float
    stopped: threading.Event
    stopped_at: float
    abandoned: bool
    why: KanalError

    @property
    def step(self) -> StepPlan:
        """The step."""

    @property
    def can_be_left(self) -> bool:
        """True if it certainly commits nothing more."""

    def stop(self, why: KanalError) -> None:
        """Ask, from another thread, that the step ends, is undone, and fails with this error."""

    def run(self, retries: int, wait: float) -> StepOutcome:
        """Run the step to its end, again after temporary errors, up to this many times; never raises."""

    def outcome(self) -> StepOutcome:
        """How the step stands, or has ended."""


class Attempt:
    """One try after another to run a step. `run` never raises; how the step ended is its outcome.

    `group` is the transaction that the step shares with others. `way` makes the way in which a try loads the rows.
    `resolved` are rejects of earlier runs that parts of the step have loaded already.
    """

    def __init__(
        self,
        context: RunContext,
        step: StepPlan,
        group: Transaction | None = None,
        way: Callable[[], Way | None] = lambda: None,
        resolved: Collection[int] = (),
    ) -> None:
        self.context = context
        self.step = step
        self.group = group
        self.began = time.monotonic()
        self.running: PipelineStep | None = None
        self.notes: list[str] = []
        #: The error of the last try, if there was one.
        self.failure: BaseException | None = None
        #: What a commit without an answer has committed.
        self.committed: Progress | None = None
        #: Set when the step is asked to end.
        self.stopped = threading.Event()
        self.stopped_at = 0.0
        #: Set when nobody waits for it any more.
        self.abandoned = False
        self.why: KanalError = Stopped()
        self._way, self._resolved = way, resolved
        self._journal_ready = False
        self._tried = False
        self._break = Breaker()
        self._done = threading.Event()

    def stop(self, why: KanalError) -> None:
        """Ask, from another thread, that the step ends, is undone, and fails with this error."""
        if not self.stopped.is_set():
            self.why = why
            self.stopped_at = time.monotonic()
            self.stopped.set()
            threading.Thread(target=self._cancel, name="kanal-break", daemon=True).start()

    def run(self, retries: int, wait: float) -> StepOutcome:
        """Run the step to its end, again after temporary errors, up to this many times; never raises."""
        try:
            retrying(retries, wait, self.stopped.wait, self._note_failure)(self._try)
        except BaseException as error:  # whatever it is, the step has failed and the run log records it
            self.failure = error
        finally:
            self._done.set()
        return self.outcome()

    def outcome(self) -> StepOutcome:
        """How the step stands, or has ended."""
        failure = None if self.failure is None else Failure.of(self.failure)
        if self.running is None:
            return StepOutcome(notes=tuple(self.notes), committed=self.committed, failure=failure)
        context, books = self.running.context, self.running.books
        return StepOutcome(
            tally=books.tally,
            batches=books.batches,
            kept=books.kept,
            kept_batches=books.kept_batches,
            notes=(*self.notes, *books.notes),
            committed=self.committed,
            hoped=context.replayed is not None or bool(context.earlier) or bool(self._resolved),
            failure=failure,
        )

    @property
    def can_be_left(self) -> bool:
        """True if it certainly commits nothing more."""
        return not (self.running is not None and self.running.books.committing)

    def _cancel(self) -> None:
        """Cancel running statements, again and again: a server forgets a request made before a statement began."""
        while not (self._done.is_set() or self.abandoned):
            if self.can_be_left:  # a commit is not cancelled
                if self.running is not None:
                    self.running.stop()
                self._break()
            self._done.wait(_ASK_AGAIN)

    def _note_failure(self, state: Any) -> None:
        """Note that a try failed by a temporary error, and that another will follow."""
        number, error = state.attempt_number, state.outcome.exception()
        self.context.log.try_failed(self.step.name, number, str(error))
        self.notes.append(failed_try(number, error))

    def _try(self) -> None:
        """One try; raises KanalError."""
        self._check()
        begun: Progress | None = None
        if self.group is not None:
            committed = self.group.committed(self.context)
            if committed:
                self._was_committed(committed.get(self.step.name))
                return
        elif isinstance(self.step, PipelinePlan):
            begun = self._claim(self.step)
            if begun is not None and begun.done:
                self._was_committed(begun)
                return
        self._tried = True
        self.context.log.begin_step(self.step.name, begun.batches if begun else 0)
        try:
            if isinstance(self.step, CommandPlan):
                self._command(self.step)
            else:
                self._pipeline(self.step, begun)
        except BaseException:
            if self.stopped.is_set():
                raise self.why from None  # the error is a result of the cancelling
            raise

    def _check(self) -> None:
        if self.stopped.is_set():
            raise self.why

    def _was_committed(self, progress: Progress | None) -> None:
        """Note that the commit of an earlier try had succeeded."""
        self.committed = progress
        self.notes.append(_WITHOUT_ANSWER)

    def _claim(self, step: PipelinePlan) -> Progress | None:
        """Claim the step in its target, if the target records it; what an earlier try has committed."""
        identity, mark = self.context.identity, self.context.mark_of(step)
        if mark is Mark.NONE:
            return None
        self._make_ready(step)
        if not self._journal_ready or (mark is Mark.CLAIMED and not self._tried):
            return None
        return step.target.journal.claim(identity.token, step.name, identity.owner)

    def _make_ready(self, step: PipelinePlan) -> None:
        if self._journal_ready:
            return
        try:
            step.target.journal.make_ready()
            self._journal_ready = True
        except KanalError as error:
            if passes(error) or step.settings.commits.by_batch or self.context.identity.elsewhere:
                raise
            if not step.writing.rule.repeatable:
                self.notes.append(f"the target cannot keep what is committed ({error.what}), so {_LOST}")

    def _command(self, step: CommandPlan) -> None:
        if step.idle:
            self.notes.append(step.idle)
            return
        if self.group is not None:
            load = self.group.shared().load
            with self._break.knows(load.cancel):
                load.run_sql(step.sql)
            return
        identity, journal = self.context.identity, step.database.journal
        # If another worker may get the command, its target has to record whether it was done.
        recorded = identity.elsewhere and Writes.REMEMBER in step.database.writes
        if recorded:
            journal.make_ready()
            done = journal.claim(identity.token, step.name, identity.owner)
            if done is not None:
                self._was_committed(done)
                return
        with step.database.load() as load:
            with self._break.knows(load.cancel):
                self._check()
                load.run_sql(step.sql)
            self._check()
            if recorded:
                journal.record(load, Progress(Tally(), done=True), identity.token, step.name, identity.owner)
            load.commit()

    def _pipeline(self, step: PipelinePlan, begun: Progress | None) -> None:
        running = PipelineStep(self._context_of(step, begun), self._way())
        running.context.before_commit = self._before_commit(running)
        if self.group is not None:
            self.group.running[step.name] = running
        self.running = running
        self._check()
        try:
            running.run(self.group.shared() if self.group is not None else None)
        except IndexesRefused as error:
            if self.group is not None:
                raise
            # Loaded again with the indexes in place, so that only the rows that break them are rejected.
            self.notes.append(f"it was loaded again with its indexes in place: {error.what}")
            self.context.log.begin_step(step.name)
            settings = step.settings.model_copy(update={"rebuild_indexes": False})
            self._pipeline(replace(step, settings=settings), begun)

    def _context_of(self, step: PipelinePlan, begun: Progress | None) -> StepContext:
        """What a try is to do."""
        identity, log, group = self.context.identity, self.context.log, self.group
        rejects = self.context.rejects_for(step)
        context = StepContext(
            step, identity.moment, identity.job, identity.run,
            replayed=rejects.replayed, begun=begun, earlier=rejects.earlier, on_batch=partial(log.batch_ends, step),
        )  # fmt: skip
        if begun is not None and begun.batches:
            context.refused_before = log.refused_in(step.name)
        if group is not None:
            context.rehearsal, context.apart = group.rehearsal, step.name in group.apart
            context.open_ends = group.open_ends.get(step.name, {})
        if self._journal_ready:
            token, owner, journal = identity.token, identity.owner, step.target.journal
            context.record = partial(journal.record, token=token, step=step.name, owner=owner)
            if identity.elsewhere:
                context.on_load = partial(journal.note_session, token=token, step=step.name, owner=owner)
        return context

    def _before_commit(self, running: PipelineStep) -> Callable[[], None]:
        """What records, before a commit, which rejects of earlier runs are loaded with it."""
        context, books, log = running.context, running.books, self.context.log
        step, resolved = context.plan, self._resolved

        def of_parts() -> None:
            if resolved:
                log.resolve(resolved, step.name)

        def of_replay() -> None:
            log.resolve({number for number, _ in context.replayed or ()} - books.rejected_again, step.name)

        def of_earlier() -> None:
            if books.resolved:
                log.resolve(books.resolved, step.name, books.batches if step.settings.commits.by_batch else None)
                books.resolved.clear()

        if context.replayed is not None:
            return of_replay
        return of_earlier if context.earlier else of_parts


def failed_try(number: int, error: BaseException | Failure | None, undone: str = "") -> str:
    """A note of a step's try that failed by a temporary error, and of what else was undone."""
    return f"try {number} failed and was undone{undone}: {getattr(error, 'what', error)}"
