"""A step whose ranges are loaded by several of a crew, to its run as if it were an Attempt here."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import ExitStack
from functools import partial
from typing import Any

from msgspec.structs import replace

from kanal.connections.base import as_portioned, as_sharing
from kanal.core.errors import KanalError
from kanal.core.tally import Tally
from kanal.runlog import BLOCK
from kanal.runner.elsewhere.crew import Assignment, Crew
from kanal.runner.elsewhere.names import prefix_of
from kanal.runner.elsewhere.portions import Known, PortionOutcome, PortionTask, PublishTask, Unpublished
from kanal.runner.elsewhere.remote import AttemptElsewhere, RunHere, answered, found_committed
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.messages import BatchEnds, Failure, StepBegins, StepOutcome, StepTask, Stopped
from kanal.runner.source_rows import ranges

#: So often rows are taken out of portions, before that is given up.
_TIMES = 50


class DividedAttempt(AttemptElsewhere):
    """A step of which several load a range each, and one publishes all."""

    step: PipelinePlan

    def __init__(self, context: RunHere, step: PipelinePlan, crew: Crew, task: StepTask) -> None:
        super().__init__(context, step, crew, task)
        self._tallies: dict[int, Tally] = {}
        self._ranges = 0
        self._began: dict[int, float] = {}
        self._place = prefix_of(context.plan.job.log_name, context.identity.token, step.name)

    def _try(self) -> StepOutcome | Failure:
        found = found_committed(self.context, self.step) if self.context.identity.resumed else None
        if found is not None:
            return found
        try:
            self.context.log.begin_step(self.step.name)
            with ExitStack() as stack:
                stack.callback(self._drop)
                assert self.step.settings.split is not None
                snapshot = None
                if self.step.settings.split.snapshot == "common":
                    snapshot = stack.enter_context(as_sharing(self.step.source).share_snapshot())
                outcome = self._load(snapshot)
        except Stopped:
            return Failure.of(self.why)
        except BaseException as error:
            return Failure.of(error)
        # All of it is tried again, not what publishes it alone.
        failure = outcome.failure if isinstance(outcome, StepOutcome) else None
        return outcome if failure is None or not failure.passing else failure

    def _drop(self) -> None:
        try:
            as_portioned(self.step.target).drop_portions(self.step.target_table, self._place)
        except KanalError as error:
            self.notes.append(f"its portions could not be dropped: {error.what}; kanal clean does so")

    # --- ranges ----------------------------------------------------------------------------------------------------

    def _load(self, snapshot: str | None) -> StepOutcome | Failure:
        assert self.step.settings.split is not None
        windows = ranges(self.step, self.step.settings.split.parts)
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
                return failure
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
        limit = self.context.plan.limits.get(self.step.target.name, len(tasks))
        room = threading.Semaphore(max(1, limit))

        def load(task: PortionTask) -> None:
            with room:
                outcome = Failure.of(Stopped()) if failures else self._part(task, task.number)
            if isinstance(outcome, PortionOutcome) and outcome.outcome.failure is not None:
                outcome = outcome.outcome.failure
            if isinstance(outcome, Failure):
                failures.append(outcome)
                self._stop_all()
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

    def _publish(self, portions: list[PortionOutcome]) -> StepOutcome | Failure | Unpublished:
        task = PublishTask(replace(self._task, earlier={}), portions)
        base = sum(portion.outcome.batches for portion in portions)
        outcome = self._part(task, self._ranges, base, partial(found_committed, self.context, self.step))
        if isinstance(outcome, StepOutcome):
            notes = dict.fromkeys(note for portion in portions for note in portion.outcome.notes)
            return replace(outcome, notes=tuple(dict.fromkeys((*notes, *outcome.notes))))
        return outcome  # type: ignore[no-any-return]

    def _part(self, task: Any, number: int, base: int = 0, found: Callable[[], Any] = lambda: None) -> Any:
        """What a part gave, whose batches are numbered from the number of its block on."""
        outcome = self._carried_out(task, partial(self._answer, number, base), found)
        seconds = time.monotonic() - self._began.get(number, time.monotonic())
        self.context.log.part_ends(self.step.name, number + 1, seconds)
        return outcome

    def _answer(self, block: int, base: int, assignment: Assignment, message: Any) -> Any:
        name, log = self.step.name, self.context.log
        first = block * BLOCK
        if isinstance(message, StepBegins):
            part = "publishing" if block == self._ranges else f"range {block + 1} of {self._ranges}"
            batches = range(first, first + BLOCK)
            log.part_begins(name, block + 1, part, batches, assignment.worker, assignment.lost)
            self._tallies[block], self._began[block] = Tally(), time.monotonic()
        elif isinstance(message, BatchEnds):
            batch = replace(message.batch, batch=first + message.batch.batch - base)
            self._tallies[block] = message.tally
            # Whoever publishes counts all of them too.
            total = message.tally if block == self._ranges else Tally.sum(list(self._tallies.values()))
            log.batch_ends(self.step, total, batch, message.rejects)
        else:
            return answered(self.context, self.step, assignment, message)
        return None


def take_in(known: list[dict[int, list[Known]]], more: Any) -> set[int]:
    """Add what is known of rows, by their portion and content; the portions that have to be loaded again.

    Where rows are refused, others may have their keys: which stand back for which is then asked again.
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
