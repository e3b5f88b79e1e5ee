"""A step whose ranges are loaded by several of a crew, to its run as if it were an Attempt here."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import replace
from functools import partial
from typing import Any

from kanal.connections.base import as_portioned, as_sharing
from kanal.core.errors import KanalError
from kanal.core.tally import Tally
from kanal.runlog import BLOCK
from kanal.runner.attempt import failed_try
from kanal.runner.elsewhere.crew import Assignment, Crew
from kanal.runner.elsewhere.names import prefix_of
from kanal.runner.elsewhere.portions import Known, PortionOutcome, PortionTask, PublishTask, Unpublished
from kanal.runner.elsewhere.remote import RunHere, answered, found_committed, tags_of, texts_of
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.messages import BatchEnds, Ending, Failure, StepBegins, StepOutcome, StepTask, Stopped, TimedOut
from kanal.runner.step import PipelineStep

#: So often rows are taken out of portions, before that is given up.
_TIMES = 50


class DividedAttempt:
    """A step of which several load a range each, and one publishes all."""

    def __init__(self, context: RunHere, step: PipelinePlan, crew: Crew, task: StepTask) -> None:
        self.context = context
        self.step = step
        self.began = time.monotonic()
        self.stopped = threading.Event()
        self.stopped_at = 0.0
        self.abandoned = False
        self.why: KanalError = Stopped()
        self.notes: list[str] = []
        self._crew, self._task = crew, task
        self._texts = texts_of(context.plan.job)
        self._running: set[Assignment] = set()
        self._lock = threading.Lock()
        self._tallies: dict[int, Tally] = {}
        self._ranges = 0
        self._began: dict[int, float] = {}
        self._place = prefix_of(context.plan.job.log_name, str(context.record.token), step.name)

    #: What is published may be committed: it is never left alone.
    can_be_left = False

    def stop(self, why: KanalError) -> None:
        """Ask that the step ends, is undone, and fails with this."""
        if not self.stopped.is_set():
            self.why = why
            self.stopped_at = time.monotonic()
            self.stopped.set()
        with self._lock:
            running = list(self._running)
        for assignment in running:
            self._stop(assignment)

    def _stop(self, assignment: Assignment) -> None:
        assignment.stop(
            Ending.TIMED_OUT if isinstance(self.why, TimedOut) else Ending.STOPPED, self.step.timeout or 0.0
        )

    def outcome(self) -> StepOutcome:
        """How it stands, as far as that is known here."""
        return StepOutcome(notes=tuple(self.notes))

    def run(self, retries: int, wait: float) -> StepOutcome:
        """Have all ranges loaded and published; how it ended. It is tried again as a whole where a trouble passes."""
        tries = 0
        while True:
            outcome = self._try()
            failure = outcome.failure
            if failure is None or not failure.passing or tries >= retries or self.stopped.wait(wait):
                return replace(outcome, notes=(*self.notes, *outcome.notes))
            tries += 1
            self.context.try_failed(self.step.name, tries, failure.said)
            self.notes.append(failed_try(tries, failure))

    def _try(self) -> StepOutcome:
        found = found_committed(self.context, self.step) if self.context.resumed else None
        if found is not None:
            return found
        try:
            self.context.log.begin_step(self.context.record.run, self.step.name)
            with ExitStack() as stack:
                stack.callback(self._drop)
                assert self.step.settings.split is not None
                snapshot = None
                if self.step.settings.split.snapshot == "common":
                    snapshot = stack.enter_context(as_sharing(self.step.source).share_snapshot())
                return self._load(snapshot)
        except Stopped:
            return StepOutcome(failure=Failure.of(self.why))
        except BaseException as error:
            return StepOutcome(failure=Failure.of(error))

    def _drop(self) -> None:
        try:
            as_portioned(self.step.target).drop_portions(self.step.target_table, self._place)
        except KanalError as error:
            self.notes.append(f"its portions could not be dropped: {error.what}; kanal clean does so")

    # --- ranges ----------------------------------------------------------------------------------------------------

    def _load(self, snapshot: str | None) -> StepOutcome:
        assert self.step.settings.split is not None
        windows = PipelineStep.ranges(self.step, self.step.settings.split.parts)
        self._ranges = len(windows)
        portions: list[PortionOutcome | None] = [None] * len(windows)
        known: list[dict[int, list[Known]]] = [{} for _ in windows]
        for _ in range(_TIMES):
            tasks = [
                PortionTask(self._task, number, window, snapshot, f"{self._place}{number}_", known[number])
                for number, window in enumerate(windows)
                if portions[number] is None
            ]
            failure = self._load_portions(tasks, portions)
            if failure is not None:
                return StepOutcome(failure=failure)
            done = [portion for portion in portions if portion is not None]
            outcome = self._publish(done)
            if not isinstance(outcome, Unpublished):
                return outcome
            for number in take_in(known, outcome.known):
                portions[number] = None
        raise KanalError("rows that the target refuses were taken out too many times", "correct the source")

    def _load_portions(self, tasks: list[PortionTask], portions: list[PortionOutcome | None]) -> Failure | None:
        """Have ranges loaded side by side; why that failed, if it did."""
        failures: list[Failure] = []

        def load(task: PortionTask) -> None:
            outcome = self._carried_out(task, task.number)
            if isinstance(outcome, PortionOutcome) and outcome.outcome.failure is not None:
                outcome = outcome.outcome.failure
            if isinstance(outcome, Failure):
                failures.append(outcome)
                with self._lock:
                    others = list(self._running)
                for other in others:
                    self._stop(other)
            else:
                portions[task.number] = outcome

        threads = [threading.Thread(target=load, args=(task,), name="kanal-portion", daemon=True) for task in tasks]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        if self.stopped.is_set():
            return Failure.of(self.why)
        return failures[0] if failures else None

    def _publish(self, portions: list[PortionOutcome]) -> StepOutcome | Unpublished:
        if self.stopped.is_set():
            return StepOutcome(failure=Failure.of(self.why))
        task = PublishTask(replace(self._task, earlier={}), portions)
        base = sum(portion.outcome.batches for portion in portions)
        found = partial(found_committed, self.context, self.step)
        outcome = self._carried_out(task, self._ranges, base, found)
        if isinstance(outcome, Failure):
            return StepOutcome(failure=outcome)
        if isinstance(outcome, StepOutcome):
            notes = dict.fromkeys(note for portion in portions for note in portion.outcome.notes)
            return replace(outcome, notes=tuple(dict.fromkeys((*notes, *outcome.notes))))
        return outcome  # type: ignore[no-any-return]

    def _carried_out(self, task: Any, number: int, base: int = 0, found: Callable[[], Any] = lambda: None) -> Any:
        """What a task gave, whose batches are numbered from the number of its block on."""
        log, tags = self.context.log, tags_of(self._task.job)
        assignment = Assignment(self._crew, task, self._texts, tags, None, found, self.notes.append)
        assignment.answers_by(partial(self._answer, number, base, assignment))
        with self._lock:
            self._running.add(assignment)
        try:
            if self.stopped.is_set():
                return Failure.of(self.why)
            outcome = assignment.run()
            seconds = time.monotonic() - self._began.get(number, time.monotonic())
            log.task_ends(self.context.record.run, self.step.name, number + 1, seconds)
            return outcome
        except Stopped:
            return Failure.of(self.why)
        except BaseException as error:
            return Failure.of(error)
        finally:
            with self._lock:
                self._running.discard(assignment)

    def _answer(self, block: int, base: int, assignment: Assignment, message: Any) -> Any:
        run, name = self.context.record.run, self.step.name
        first = block * BLOCK
        if isinstance(message, StepBegins):
            log = self.context.log
            log.drop_batches_of(run, name, range(first, first + BLOCK))
            part = "publishing" if block == self._ranges else f"range {block + 1} of {self._ranges}"
            log.task_begins(run, name, block + 1, part, assignment.worker, assignment.lost)
            self.context.works_at(name, assignment.worker)
            self._tallies[block], self._began[block] = Tally(), time.monotonic()
        elif isinstance(message, BatchEnds):
            batch = replace(message.batch, batch=first + message.batch.batch - base)
            self._tallies[block] = message.tally
            # Whoever publishes counts all of them too.
            total = message.tally if block == self._ranges else Tally.sum(list(self._tallies.values()))
            counted = PipelineStep(self.step, self.context.moment, self.context.plan.job.job, tally=total)
            self.context.batch_ends(counted, batch, message.rejects)
        else:
            return answered(self.context, self.step, message, assignment)
        return None


def take_in(known: list[dict[int, list[Known]]], more: Any) -> set[int]:
    """Add what is known of rows, by their portion and content; the portions that have to be loaded again.

    Where rows are refused, others may have their keys: which stand back for which is then asked anew.
    """
    changed = set()
    if any(not isinstance(why, int) for _, _, why in more):
        for number, mine in enumerate(known):
            for content, whys in list(mine.items()):
                left: list[Known] = [why for why in whys if not isinstance(why, int)]
                if len(left) < len(whys):
                    changed.add(number)
                    mine[content] = left
    for number, content, why in more:
        known[number].setdefault(content, []).append(why)
        changed.add(number)
    return changed
