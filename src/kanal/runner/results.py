"""What comes back from a run: its steps, their counts, and the rows that were rejected."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

import pyarrow as pa

from kanal.core.tally import Tally
from kanal.runlog import RunLogStore, RunRecord, StepRecord


class StepStatus(StrEnum):
    """The life of a step, from waiting to one of the four ways in which it ends."""

    WAITING = "waiting"
    RUNNING = "running"
    SUCCEEDED = "succeeded"
    FAILED = "failed"
    BLOCKED = "blocked"
    STOPPED = "stopped"


class RunStatus(StrEnum):
    """The life of a run."""

    RUNNING = "running"
    SUCCEEDED = "succeeded"
    FAILED = "failed"
    STOPPED = "stopped"


@dataclass(frozen=True)
class StepResult:
    """How a step ended: `seconds` is its duration, `error` why it did not succeed, `note` what is worth knowing."""

    step: str
    kind: str
    status: StepStatus
    tally: Tally = field(default_factory=Tally)
    batches: int = 0
    seconds: float = 0.0
    error: str | None = None
    note: str | None = None
    _log: RunLogStore | None = field(default=None, repr=False, compare=False)
    _run: int = field(default=0, repr=False, compare=False)

    def rejects(self) -> pa.Table:
        """The rejected rows: step, column, reason, value, message, and the source row as JSON, all as text."""
        assert self._log is not None
        return self._log.rejects(self._run, self.step)


@dataclass(frozen=True)
class Run:
    """One execution of a job. `run["passages"]` is the step of that name."""

    run: int
    job: str
    status: RunStatus
    started: dt.datetime
    seconds: float
    steps: tuple[StepResult, ...]

    def __getitem__(self, step: str) -> StepResult:
        for result in self.steps:
            if result.step == step:
                return result
        raise KeyError(step)

    def __iter__(self) -> Iterator[StepResult]:
        return iter(self.steps)


def step_document(step: StepResult | StepRecord) -> dict[str, Any]:
    """A step as the --json documents have it."""
    tally = step.tally
    return {
        "step": step.step,
        "kind": step.kind,
        "status": str(step.status),
        "read": tally.read,
        "filtered": tally.filtered,
        "rejected": tally.rejected,
        "superseded": tally.superseded,
        "inserted": tally.inserted,
        "updated": tally.updated,
        "unchanged": tally.unchanged,
        "deleted": tally.deleted,
        "written": tally.written,
        "batches": step.batches,
        "seconds": round(step.seconds, 3),
        "error": step.error,
    }


def run_document(run: Run | RunRecord) -> dict[str, Any]:
    """A run as the --json documents have it; with an `error` where none of its steps could begin."""
    error = getattr(run, "error", None)
    return {
        "run": run.run,
        "job": run.job,
        "status": str(run.status),
        "started": run.started.replace(tzinfo=None).isoformat(timespec="seconds") + "Z",
        "seconds": round(run.seconds, 3),
        "steps": [step_document(step) for step in run.steps],
    } | ({"error": error} if error else {})
