"""What the run log tells of runs, steps and batches."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from kanal.core.shapes import TableShape
from kanal.core.tally import Tally


@dataclass(frozen=True)
class BatchRecord:
    """A batch, by its number from 1: its counts, and the seconds that reading, computing and writing it took."""

    batch: int
    tally: Tally
    reading: float
    computing: float
    writing: float


@dataclass(frozen=True)
class Usual:
    """The medians of a step in earlier runs that succeeded: of rows read and of seconds, and of how many runs."""

    runs: int
    read: float
    seconds: float


@dataclass(frozen=True)
class StepRecord:
    """A step as the run log has it. `seconds` is its duration."""

    step: str
    kind: str
    status: str
    tally: Tally
    batches: int
    seconds: float
    error: str | None
    note: str | None = None
    reads_all: bool = False


@dataclass(frozen=True)
class StepSeed:
    """A step as a run begins with it: whether it reads all of its source, and commits batch by batch."""

    step: str
    kind: str
    reads_all: bool = False
    by_batch: bool = False


@dataclass(frozen=True)
class SeenTable:
    """A table of a step, by its role there: its place, and its shape as it is now, or as a run first saw it (UTC)."""

    step: str
    role: str
    place: str
    shape: TableShape
    run: int | None = None
    when: dt.datetime | None = None


@dataclass(frozen=True)
class RunRecord:
    """A run as the run log has it. Times are UTC."""

    run: int
    job: str
    status: str
    started: dt.datetime
    finished: dt.datetime | None
    steps: tuple[StepRecord, ...] = ()
    file: str | None = None
    token: str = ""
    options: Mapping[str, Any] = field(default_factory=dict)
    error: str | None = None

    @property
    def steps_begun(self) -> bool:
        """True where a step has begun at least once."""
        return any(step.status != "waiting" for step in self.steps)

    @property
    def seconds(self) -> float:
        """The run's duration, 0 while it has none."""
        return (self.finished - self.started).total_seconds() if self.finished else 0.0
