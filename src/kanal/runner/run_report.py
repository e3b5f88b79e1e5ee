"""How a run goes: in the run log, to its watcher, as events and as spans."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Collection, Sequence
from contextlib import suppress
from typing import Any

from msgspec.structs import asdict, replace

from kanal.connections.roles import Reads
from kanal.core.errors import KanalError, sentence
from kanal.core.rejects import Reject
from kanal.core.tally import WRITES, Tally
from kanal.runlog import BatchRecord, RunLogStore, RunRecord, StepRecord
from kanal.runner.events import tell
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan
from kanal.runner.messages import Ending, StepOutcome
from kanal.runner.results import RunStatus, StepResult, StepStatus
from kanal.runner.tracing import spans_of
from kanal.runner.watcher import Watcher

#: Seconds that may be spent on counting the rows to be read.
_QUICKLY = 1.0


class RunReport:
    """Reports a run and its steps. `results` has the steps that have ended, `remembers` tells whether the target of a
    step remembers what it commits."""

    def __init__(self, plan: JobPlan, store: RunLogStore, record: RunRecord, watcher: Watcher) -> None:
        self.store = store
        self.record = record
        self.run = record.run
        self.results: dict[str, StepResult] = {}
        self._plan = plan
        self._watcher = watcher
        self._spans = spans_of(plan.job.job, plan.job.chosen_environment)
        self._notes: dict[str, list[str]] = {}
        self._telling = threading.Lock()
        self._watched = True

    # --- the run ---------------------------------------------------------------------------------------------------

    def run_begins(self) -> None:
        """Report that the run begins."""
        steps = self._plan.steps
        self._watch("run_begins", self.run, [(step.name, step.kind) for step in steps])
        tell("run_begins", run=self.run, job=self._plan.job.job, steps=len(steps))
        if self._wants_expected():
            self._report_expected()

    def run_ends(self, status: RunStatus) -> None:
        """Record that the run has ended."""
        self.store.runs.end_run(self.run, status)
        if self._spans is not None:
            with suppress(Exception):
                self._spans.run_ends(str(status))

    def broken_off(self) -> None:
        """Record, after an unexpected error, that the run is over, so that its job can run again."""
        with suppress(Exception):
            self.store.runs.break_off(self.run, RunStatus.STOPPED, "the run was broken off")

    # --- a step ----------------------------------------------------------------------------------------------------

    def step_begins(self, step: StepPlan) -> None:
        """Report that a step begins."""
        self._watch("step_begins", step.name)
        tell("step_begins", run=self.run, step=step.name, kind=step.kind)

    def hold(self, result: StepResult) -> None:
        """Note how a step has ended whose transaction continues: it is recorded once that is committed or undone."""
        self.results[result.step] = result
        self._watch("step_ends", result)

    def end(self, result: StepResult) -> None:
        """Record how a step has ended."""
        self.results[result.step] = result
        self.store.steps.end_step(
            self.run,
            StepRecord(
                result.step, result.kind, str(result.status), result.tally, result.batches, result.seconds,
                result.error, result.note,
            ),
        )  # fmt: skip
        self._watch("step_ends", result)
        tell(
            "step_ends", run=self.run, step=result.step, status=str(result.status),
            seconds=round(result.seconds, 3), error=result.error, **asdict(result.tally),
        )  # fmt: skip

    def end_without_running(self, step: StepPlan, status: StepStatus, why: str) -> None:
        """Record that a step will not run."""
        self.end(StepResult(step.name, step.kind, status, error=why))

    def end_as_before(self, step: StepPlan) -> bool:
        """End a step that had succeeded before the run was resumed; False for any other step."""
        for record in self.record.steps:
            if record.step == step.name and record.status == "succeeded":
                self.hold(self.succeeded(step, record.tally, record.batches, record.note, record.seconds))
                return True
        return False

    def succeeded(
        self, step: StepPlan, tally: Tally, batches: int, note: str | None, seconds: float = 0.0
    ) -> StepResult:
        """The result of a step that has succeeded."""
        return StepResult(
            step.name, step.kind, StepStatus.SUCCEEDED, tally, batches, seconds, None, note, self.store, self.run
        )

    def result(self, step: StepPlan, outcome: StepOutcome, seconds: float) -> StepResult:
        """How a step has ended, with its notes; what a step without success has left in the run log is removed."""
        notes, failure = [*self._notes.get(step.name, ()), *outcome.notes], outcome.failure
        status, error = StepStatus.SUCCEEDED, None
        tally, batches = outcome.tally, outcome.batches
        if failure is not None:
            status = StepStatus.STOPPED if failure.ending is Ending.STOPPED else StepStatus.FAILED
            error = failure.said
        if outcome.committed is not None:
            tally, batches = outcome.committed.tally, outcome.committed.batches
        elif failure is not None:
            tally, batches = self._kept(step, outcome)
            if failure.ending is not Ending.FAILED:
                stays = (
                    f"{tally.written:,} rows of {batches:,} batches stay, the rest was" if tally.written else "it was"
                )
                error = sentence(f"{failure.what}; {stays} undone", failure.remedy)
        if outcome.hoped:
            self.store.rejects.settle(self.run, step.name, status is StepStatus.SUCCEEDED, outcome.kept_batches)
        memory = None
        if isinstance(step, PipelinePlan):
            memory = getattr(step.target, "memory", None)
            if tally.rejected > self.store.steps.keep_rejects and not _keeps_all(step):
                notes.append(
                    f"of its rejected rows the first {self.store.steps.keep_rejects:,} are kept, and all are counted"
                )
        return StepResult(
            step.name, step.kind, status, tally, batches, seconds, error, "; ".join(notes) or None,
            self.store, self.run, memory,
        )  # fmt: skip

    def _kept(self, step: StepPlan, outcome: StepOutcome) -> tuple[Tally, int]:
        """The counts that stay of a step without success, and its batches: none, unless it commits by batches."""
        by_batch = isinstance(step, PipelinePlan) and step.settings.commits.by_batch
        if not by_batch or outcome.kept is None:
            return undone(outcome.tally), outcome.batches
        with suppress(KanalError):
            self.store.steps.drop_batches(self.run, step.name, outcome.kept_batches)
        return outcome.kept, outcome.kept_batches

    def add_note(self, step: str, note: str) -> None:
        """Add a note of an earlier try to the result of a step."""
        self._notes.setdefault(step, []).append(note)

    # --- what steps report -----------------------------------------------------------------------------------------

    def begin_step(self, step: str, batches: int = 0, worker: str | None = None, lost: int = 0) -> None:
        """Record that a step begins, or begins again after so many committed batches; `lost` workers had it before."""
        self.store.steps.begin_step(self.run, step, batches, worker, lost)
        if worker:
            self.works_at(step, worker)

    def batch_ends(self, step: PipelinePlan, tally: Tally, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Record a batch with its rejects; `tally` are the step's counts so far."""
        # The run log must have what a target remembers of a step, and batches that are committed.
        later = not (step.settings.commits.by_batch or (rejects and step.can_leave_progress))
        self.store.steps.add_batch(self.run, step.name, batch, rejects, _keeps_all(step), step.row_key, later)
        self._watch("batch_ends", step.name, tally)
        tell("batch", run=self.run, step=step.name, batch=batch.batch, **asdict(batch.tally))

    def try_failed(self, step: str, number: int, message: str) -> None:
        """Report that a try failed by a temporary error, and that another follows."""
        text = f"{step}: try {number} failed, and another follows: {message}"
        tell("try_failed", logging.WARNING, text, step=step, attempt=number, error=message)

    def refused_in(self, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target has refused in a step."""
        return self.store.rejects.refused_in(self.run, step)

    def resolve(self, rejects: Collection[int], step: str, batch: int | None = None) -> None:
        """Record that rejected rows will be loaded once the step, or its batch of this number, is committed."""
        self.store.rejects.resolve(rejects, self.run, step, batch)

    # --- workers ---------------------------------------------------------------------------------------------------

    def works_at(self, step: str, worker: str) -> None:
        """Report that a worker begins with a step, or a part of it."""
        if hasattr(self._watcher, "works_at"):
            self._watch("works_at", step, worker)
        tell("task_begins", run=self.run, step=step, worker=worker)

    def part_begins(self, step: str, number: int, part: str, batches: range, worker: str, lost: int) -> None:
        """Record that a worker begins with a part of a step, whose batches have these numbers."""
        self.store.steps.drop_batches_of(self.run, step, batches)
        self.store.steps.task_begins(self.run, step, number, part, worker, lost)
        self.works_at(step, worker)

    def part_ends(self, step: str, number: int, seconds: float) -> None:
        """Record that a part of a step has ended."""
        self.store.steps.task_ends(self.run, step, number, seconds)

    # --- the watcher -----------------------------------------------------------------------------------------------

    def _watch(self, event: str, *arguments: Any) -> None:
        """Call the watcher. One that fails is not called again, and harms no load."""
        if self._spans is not None and event not in ("rows_expected", "works_at"):
            with suppress(Exception):
                getattr(self._spans, event)(*arguments)
        with self._telling:
            if self._watched:
                try:
                    getattr(self._watcher, event)(*arguments)
                except Exception as error:
                    self._watched = False
                    tell("watcher_failed", logging.WARNING, f"the progress display has failed: {error}")

    def _wants_expected(self) -> bool:
        """True if the watcher shows how many rows are expected."""
        with suppress(Exception):
            return self._watched and bool(getattr(self._watcher, "wants_expected", False))
        return False

    def _report_expected(self) -> None:
        """Tell the watcher how many rows steps have to read, as far as their databases know quickly."""
        began = time.monotonic()
        for step in self._plan.steps:
            if time.monotonic() - began > _QUICKLY:
                return
            if not isinstance(step, PipelinePlan) or step.settings.source.query is not None:
                continue
            if step.reads_all and not self.record.is_replay and step.source.reads >= {Reads.QUERY}:
                table = step.reading.table
                with suppress(KanalError):
                    counts = step.source.catalogue.row_counts(table.schema, [table.name])
                    if table.name in counts:
                        self._watch("rows_expected", step.name, counts[table.name].rows)


def undone(tally: Tally) -> Tally:
    """The counts of a step whose writing was rolled back."""
    return replace(tally, **dict.fromkeys(WRITES, 0))


def _keeps_all(step: PipelinePlan) -> bool:
    """True if all rejects are kept: the next run does not meet these rows again, or a resume must recognise them."""
    return step.since is not None or (step.settings.commits.by_batch and bool(step.key or step.checks))
