"""What the run log tells of runs, steps and batches."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from kanal.core.tally import Tally

if TYPE_CHECKING:
    from kanal.core.shapes import TableShape


class BatchRecord(Struct, frozen=True):
    """A batch, by its number from 1: its counts, and the seconds that reading, computing and writing it took.

    `stages` are the seconds of each stage that the batch went through, by name, in order.
    """

    batch: int
    tally: Tally
    reading: float
    computing: float
    writing: float
    stages: Mapping[str, float] = {}

    def joined(self, later: BatchRecord) -> BatchRecord:
        """This one and a later one as one, which has the number of the later one."""
        times = (self.reading + later.reading, self.computing + later.computing, self.writing + later.writing)
        tally = Tally.sum([self.tally, later.tally])
        return BatchRecord(later.batch, tally, *times, sum_of_stages([self.stages, later.stages]))


def sum_of_stages(times: Iterable[Mapping[str, float]]) -> dict[str, float]:
    """The sums of the seconds that each stage took, by its name."""
    sums: dict[str, float] = {}
    for stages in times:
        for name, seconds in stages.items():
            sums[name] = sums.get(name, 0.0) + seconds
    return sums


class Usual(Struct, frozen=True):
    """The medians of a step in earlier runs that succeeded: of rows read and of seconds, and of how many runs."""

    runs: int
    read: float
    seconds: float


class StepRecord(Struct, frozen=True):
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


#: The batches of a range of a step are numbered from the number of the range times this.
BLOCK = 1_000_000


class TaskRecord(Struct, frozen=True):
    """What a worker has or had of a step: all of it, or a part. `seconds` is its duration, None while it is under way;
    reading, computing and writing went on side by side; `lost` workers had it before."""

    step: str
    task: int
    part: str
    worker: str
    seconds: float | None
    lost: int
    read: int = 0
    reading: float = 0.0
    computing: float = 0.0
    writing: float = 0.0


class WorkerShare(Struct):
    """What a worker did of a run: how many tasks, rows and seconds; what it has under way; and how many tasks it had
    from workers that were lost."""

    worker: str
    tasks: int = 0
    read: int = 0
    reading: float = 0.0
    computing: float = 0.0
    writing: float = 0.0
    lost: int = 0
    now: list[str] = field(default_factory=list)


def by_worker(tasks: Sequence[TaskRecord], running: Collection[str] = ()) -> list[WorkerShare]:
    """What each worker did of a run, whose steps of these names are under way."""
    found: dict[str, WorkerShare] = {}
    for task in tasks:
        share = found.setdefault(task.worker, WorkerShare(task.worker))
        share.tasks += 1
        for name in ("read", "reading", "computing", "writing", "lost"):
            setattr(share, name, getattr(share, name) + getattr(task, name))
        if task.step in running and task.seconds is None:
            share.now.append(f"{task.step}, {task.part}" if task.part else task.step)
    return [found[name] for name in sorted(found)]


class StepSeed(Struct, frozen=True):
    """A step as a run begins with it: whether it reads all of its source, and commits batch by batch."""

    step: str
    kind: str
    reads_all: bool = False
    by_batch: bool = False


class Start(Struct, frozen=True):
    """Why a run begins: in which environment, by whom, when it was due (UTC), with which window, in which series."""

    environment: str | None = None
    by: str | None = None
    due: dt.datetime | None = None
    window: tuple[str, str] | None = None
    series: str | None = None

    @property
    def columns(self) -> dict[str, Any]:
        """The same as columns of the run log."""
        due = self.due.astimezone(dt.UTC).replace(tzinfo=None) if self.due is not None and self.due.tzinfo else self.due
        return {"environment": self.environment, "started_by": self.by, "due": due, "series": self.series}


class SeenTable(Struct, frozen=True):
    """A table of a step, by its role there: its place, and its shape as it is now, or as a run first saw it (UTC)."""

    step: str
    role: str
    place: str
    shape: TableShape
    run: int | None = None
    when: dt.datetime | None = None


def mark_of(status: str, rejected: int) -> str:
    """How a run went, in a word, by its status and rejected rows: good, rejects, failed, stopped or running."""
    return ("rejects" if rejected else "good") if status == "succeeded" else status


class RunGlance(Struct, frozen=True):
    """A run at a glance, with the sums of its steps' counts. Times are UTC."""

    run: int
    status: str
    started: dt.datetime
    finished: dt.datetime | None
    read: int
    written: int
    rejected: int
    is_replay: bool

    @property
    def mark(self) -> str:
        """How it went, in a word: good, rejects, failed, stopped or running."""
        return mark_of(self.status, self.rejected)

    @property
    def seconds(self) -> float:
        """The run's duration, 0 while it has none."""
        return (self.finished - self.started).total_seconds() if self.finished else 0.0


class RunRecord(Struct, frozen=True):
    """A run as the run log has it, its job with the environment, as in `register@test`. Times are UTC."""

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
    environment: str | None = None
    started_by: str | None = None
    host: str | None = None
    due: dt.datetime | None = None
    resumes: int = 0

    @property
    def name(self) -> str:
        """The job's own name, without that of the environment."""
        return self.job.removesuffix(f"@{self.environment}") if self.environment else self.job

    @property
    def is_replay(self) -> bool:
        """True if it loaded rejects of another run again."""
        return "replay" in self.options

    @property
    def total(self) -> Tally:
        """The counts of all its steps."""
        return Tally.sum(step.tally for step in self.steps)

    @property
    def job_arguments(self) -> str:
        """By which arguments a command finds its job and environment."""
        return f"--job {self.file or 'JOB'}" + (f" --env {self.environment}" if self.environment else "")

    @property
    def window(self) -> tuple[str, str] | None:
        """The range of change values that it loaded, if it was told one."""
        low, high = self.options.get("since"), self.options.get("until")
        return (str(low), str(high)) if low is not None and high is not None and not self.is_replay else None

    @property
    def steps_begun(self) -> bool:
        """True if a step has begun at least once."""
        return any(step.status != "waiting" for step in self.steps)

    @property
    def seconds(self) -> float:
        """The run's duration, 0 while it has none."""
        return (self.finished - self.started).total_seconds() if self.finished else 0.0
