"""Steps that run elsewhere, to their run as if they were Attempts here."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any, Protocol

from msgspec.structs import replace

from kanal.connections.roles import Writes
from kanal.core.errors import KanalError
from kanal.definition import JobDefinition, RunLog
from kanal.definition.bundle import named_texts
from kanal.runner.attempt import failed_try
from kanal.runner.elsewhere.crew import Assignment, Crew
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan, TablePlace
from kanal.runner.messages import (
    BatchEnds,
    Ending,
    Failure,
    RefusedRows,
    StepBegins,
    StepOutcome,
    StepTask,
    Stopped,
    TimedOut,
    TryFailed,
    WillResolve,
)
from kanal.runner.run_context import RunContext, StepRejects
from kanal.runner.run_report import RunReport


class RunHere(RunContext, Protocol):
    """A run whose steps other workers carry out."""

    @property
    def plan(self) -> JobPlan:
        """The plan of the job."""

    @property
    def log(self) -> RunReport:
        """Where its steps are recorded."""

    @property
    def texts(self) -> Mapping[str, bytes]:
        """The texts of the job besides its file."""


class AttemptElsewhere:
    """A step that others carry out, to its run as if it were an Attempt here."""

    #: What it does elsewhere may commit: it is never left alone.
    can_be_left = False

    def __init__(self, context: RunHere, step: StepPlan, crew: Crew, task: StepTask) -> None:
        self.context = context
        self.step = step
        self.began = time.monotonic()
        self.stopped = threading.Event()
        self.stopped_at = 0.0
        self.abandoned = False
        self.why: KanalError = Stopped()
        self.notes: list[str] = []
        self._crew, self._task = crew, task
        self._tags = tags_of(task.job)
        self._under_way: set[Assignment] = set()
        self._lock = threading.Lock()

    def stop(self, why: KanalError) -> None:
        """Ask that the step ends, is undone, and fails with this."""
        if not self.stopped.is_set():
            self.why = why
            self.stopped_at = time.monotonic()
            self.stopped.set()
        self._stop_all()

    def _stop_all(self) -> None:
        """Ask that all ends that is under way."""
        ending = Ending.TIMED_OUT if isinstance(self.why, TimedOut) else Ending.STOPPED
        with self._lock:
            under_way = list(self._under_way)
        for assignment in under_way:
            assignment.stop(ending, self.step.timeout or 0.0)

    def outcome(self) -> StepOutcome:
        """How it stands, as far as that is known here."""
        return StepOutcome(notes=tuple(self.notes))

    def run(self, retries: int, wait: float) -> StepOutcome:
        """Have the step carried out, and do meanwhile what it asks for; how it ended."""
        number = 0
        while True:
            outcome = self._try()
            if isinstance(outcome, StepOutcome):
                return replace(outcome, notes=(*self.notes, *outcome.notes))
            if not outcome.passing or number >= retries or self.stopped.wait(wait):
                return StepOutcome(notes=tuple(self.notes), failure=outcome)
            number += 1
            self.context.log.try_failed(self.step.name, number, outcome.said)
            self.notes.append(failed_try(number, outcome))

    def _try(self) -> StepOutcome | Failure:
        """One try: how the step ended, or why not, which is tried again if that passes."""
        raise NotImplementedError

    def _carried_out(
        self,
        task: Any,
        answer: Callable[[Assignment, Any], Any],
        found: Callable[[], Any] = lambda: None,
        again: bool = True,
    ) -> Any:
        """What a task gave, or why it gave nothing. `answer` is asked what to answer to what it says."""
        assignment = Assignment(self._crew, task, self.context.texts, self._tags, found, self.notes.append, again)
        assignment.answers_by(partial(answer, assignment))
        with self._lock:
            self._under_way.add(assignment)
        try:
            if self.stopped.is_set():
                return Failure.of(self.why)
            outcome = assignment.run()
        except Stopped:
            return Failure.of(self.why)
        except BaseException as error:
            return Failure.of(error)
        finally:
            with self._lock:
                self._under_way.discard(assignment)
        if isinstance(outcome, Failure) and assignment.worker:
            return replace(outcome, said=f"{assignment.worker}: {outcome.said}")
        return outcome


class RemoteAttempt(AttemptElsewhere):
    """A step that one of a crew carries out, who tries it again by itself."""

    def _try(self) -> StepOutcome | Failure:
        found = partial(found_committed, self.context, self.step)
        outcome: StepOutcome | Failure = self._carried_out(
            self._task, partial(answered, self.context, self.step), found, can_be_done_again(self.step)
        )
        return outcome


def can_be_done_again(step: StepPlan) -> bool:
    """True if its target tells whether a step that was lost was committed, so that another may do it."""
    return Writes.REMEMBER in (step.target if isinstance(step, PipelinePlan) else step.database).writes


def answered(context: RunHere, step: StepPlan, assignment: Assignment, message: Any) -> Any:
    """What a run answers to what one of its steps says."""
    if isinstance(message, StepBegins):
        context.log.begin_step(step.name, message.batches, assignment.worker, assignment.lost)
    elif isinstance(message, RefusedRows):
        return context.log.refused_in(step.name)
    elif isinstance(message, WillResolve):
        context.log.resolve(message.rejects, step.name, message.batch)
    elif isinstance(message, TryFailed):
        context.log.try_failed(step.name, message.number, message.said)
    elif isinstance(message, BatchEnds) and isinstance(step, PipelinePlan):
        context.log.batch_ends(step, message.tally, message.batch, message.rejects)
    return None


def found_committed(context: RunHere, step: StepPlan) -> StepOutcome | None:
    """How a step ended that was lost, where its target knows that it was committed."""
    if isinstance(step, PipelinePlan) and step.can_leave_progress:
        with suppress(KanalError):
            found = step.target.journal.recorded(context.identity.token, step.name)
            if found is not None and found.done:
                return StepOutcome(committed=found, notes=("its process ended after it had committed",))
    return None


def task_of(context: RunHere, step: StepPlan, options: Mapping[str, Any]) -> StepTask:
    """The message by which a step of a run is run elsewhere."""
    job = sent(context.plan.job, step.name)
    if isinstance(step, PipelinePlan):  # which the run may have found by its log
        least = job.pipeline[step.name].model_copy(update={"min_rows": step.settings.min_rows})
        job = job.model_copy(update={"pipeline": job.pipeline | {step.name: least}})
    tables, identity = context.plan.tables, context.identity
    rejects = context.rejects_for(step) if isinstance(step, PipelinePlan) else StepRejects()
    return StepTask(
        job,
        step.name,
        options,
        identity.run,
        identity.token,
        identity.moment,
        identity.resumed,
        {place: tables[place] for place in places_of(job) if place in tables},
        rejects.replayed,
        rejects.earlier,
    )


def sent(job: JobDefinition, step: str) -> JobDefinition:
    """What of a job is needed to plan one step of it, and nothing else: no place of the run log, no receivers."""
    pipelines, commands = {}, {}
    names: set[str] = set()
    if step in job.command:
        commands[step] = job.command[step].model_copy(update={"after": []})
        names.add(job.command[step].connection)
    else:
        other = job.pipeline[step].other_way
        for name in (step, *([other] if other in job.pipeline else [])):
            pipelines[name] = job.pipeline[name].model_copy(update={"after": [], "not_after": []})
    checks = {name for pipeline in pipelines for name in job.effective(pipeline).checks}
    rules = {name: rule for name, rule in job.check_.items() if name in checks}
    for pipeline in pipelines.values():
        names |= {pipeline.source.connection, pipeline.target.connection}
        names |= {lookup.table.connection for lookup in pipeline.lookup.values()}
    names |= {rule.table_column.table.connection for rule in rules.values() if rule.table_column is not None}
    return job.unresolved.model_copy(
        update={
            "pipeline": pipelines,
            "command": commands,
            "connection": {name: value for name, value in job.connection.items() if name in names},
            "check_": rules,
            "run_log": RunLog(),
            "schedule": None,
            "notify": {},
            "environment": {},
        }
    )


def tags_of(job: JobDefinition) -> list[str]:
    """The tags that a worker needs to reach all connections of a job."""
    found = (connection.reached_from for connection in job.connection.values())
    return sorted({tag for tag in found if tag is not None})


def places_of(job: JobDefinition) -> set[TablePlace]:
    """The tables that a job names."""
    found: list[Any] = [rule.table_column.table for rule in job.check_.values() if rule.table_column is not None]
    for pipeline in job.pipeline.values():
        found += [pipeline.source, pipeline.target, *(lookup.table for lookup in pipeline.lookup.values())]
    return {(place.connection, place.schema_, place.name) for place in found if getattr(place, "query", None) is None}


def texts_of(job: JobDefinition) -> dict[str, bytes]:
    """The texts that a job is made of besides its file, by their path: its SQL, functions and descriptions."""
    found = {}
    for name in named_texts(job):
        path = job.texts / name
        if not Path(name).is_absolute() and path.is_file():
            found[name] = path.read_bytes()
    return found
