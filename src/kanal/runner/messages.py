"""What a run and whoever runs its steps say to each other: plain messages, which any process can read."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Any

from msgspec import Struct, field
from msgspec.structs import force_setattr

from kanal.connections.description import TableInfo
from kanal.connections.journal import Progress
from kanal.core.errors import KanalError, passes
from kanal.core.hidden import without_hidden
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.definition import JobDefinition
from kanal.runlog import BatchRecord
from kanal.runner.job_plan import TablePlace
from kanal.runner.replay import Rejected


class Stopped(KanalError):
    """The run was asked to stop; what the step had not committed was undone."""

    def __init__(self) -> None:
        super().__init__("interrupted")


class TimedOut(KanalError):
    """A step took longer than its timeout; it was undone."""

    def __init__(self, limit: float) -> None:
        super().__init__(f"it took longer than its timeout of {limit:g} s", "set a longer timeout")


class Ending(StrEnum):
    """The ways in which a step does not succeed."""

    STOPPED = "stopped"
    TIMED_OUT = "timed out"
    FAILED = "failed"


class Failure(Struct, frozen=True):
    """Why a step did not succeed: `said` is the whole sentence; `passing` is worth a new try."""

    ending: Ending
    what: str
    remedy: str
    said: str
    passing: bool = False

    def __post_init__(self) -> None:
        for name in ("what", "remedy", "said"):
            force_setattr(self, name, without_hidden(getattr(self, name)))

    @classmethod
    def of(cls, error: BaseException) -> Failure:
        """An exception as a message."""
        if isinstance(error, KanalError):
            by_kind = {Stopped: Ending.STOPPED, TimedOut: Ending.TIMED_OUT}
            return cls(by_kind.get(type(error), Ending.FAILED), error.what, error.remedy, str(error), passes(error))
        if isinstance(error, KeyboardInterrupt):
            return cls(Ending.STOPPED, "interrupted", "", str(error))
        if isinstance(error, MemoryError):
            said = "the memory ran out. Set a smaller batch_bytes."
        elif isinstance(error, OSError):
            what = f"{error.strerror or error}" + (f" ({error.filename})" if error.filename else "")
            said = f"{what}. Make room where temporary files are kept, or name another place by TMPDIR."
        else:
            said = f"{type(error).__name__}: {' '.join(str(error).split())[:500]}"
        return cls(Ending.FAILED, said, "", said, passes(error))

    def __str__(self) -> str:
        return self.said


class StepTask(Struct, frozen=True):
    """A step to be run if the task is read: planned there again, with secrets resolved there.

    `token` marks its progress in the target; `tables` are described as the run has found them; `replayed` are rejected
    rows to be read instead of the source, `earlier` rejects of earlier runs by the key of their source row.
    """

    job: JobDefinition
    step: str
    options: Mapping[str, Any]
    run: int
    token: str | None
    moment: dt.datetime
    resumed: bool
    tables: Mapping[TablePlace, TableInfo]
    replayed: Rejected | None = None
    earlier: Mapping[str, Sequence[int]] = field(default_factory=dict)


class StepOutcome(Struct, frozen=True):
    """How a step ended. `kept` are the counts of what stays of one that failed and commits batch by batch.

    `committed` is what the target says was committed by a commit that was not answered. `hoped` is true where rejects
    of earlier runs may have been loaded, which the run log has to settle.
    """

    tally: Tally = field(default_factory=Tally)
    batches: int = 0
    kept: Tally | None = None
    kept_batches: int = 0
    notes: tuple[str, ...] = ()
    committed: Progress | None = None
    hoped: bool = False
    failure: Failure | None = None


# --- what is said while a task is under way; all of it by the task, and answered --------------------------------------


class Speaker(Struct, frozen=True):
    """Who speaks: on which host, in which process, and what the cluster calls the worker."""

    host: str
    process: int
    worker: str = ""

    @property
    def label(self) -> str:
        """The worker, for people."""
        return self.worker or f"process {self.process} on {self.host}"


class Sign(Struct, frozen=True):
    """The task is still under way."""


class Goodbye(Struct, frozen=True):
    """The task is done; what it gave."""

    outcome: Any


class StepBegins(Struct, frozen=True):
    """A try begins, of which this many batches are left by an earlier one."""

    batches: int


class RefusedRows(Struct, frozen=True):
    """Asks for the source rows that the target refused in an earlier try."""


class BatchEnds(Struct, frozen=True):
    """A batch was written, and the step has counted so much."""

    batch: BatchRecord
    rejects: Sequence[Reject]
    tally: Tally


class WillResolve(Struct, frozen=True):
    """These rejects will have been loaded once the step, or its batch of this number, is committed."""

    rejects: frozenset[int]
    batch: int | None


class TryFailed(Struct, frozen=True):
    """A try failed by a trouble that passes, and another follows."""

    number: int
    said: str


class StopRequest(Struct, frozen=True):
    """The run asks the task to end."""

    ending: Ending
    limit: float = 0.0


class Said(Struct, frozen=True):
    """A message of a try of a task to its run, numbered, since one that is not answered is sent again."""

    number: int
    message: Any
    speaker: Speaker


class Answer(Struct, frozen=True):
    """The run's answer to a message; number 0 is for one that was not asked for. `stop` asks the task to end."""

    number: int
    content: Any = None
    stop: StopRequest | None = None
