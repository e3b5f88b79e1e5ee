"""What a step needs from the run that it belongs to, here or on another machine."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from enum import Enum
from typing import Protocol

from msgspec import Struct, field

from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.runlog import BatchRecord
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.replay import Rejected


class RunIdentity(Struct, frozen=True):
    """Which run it is: its number, its job and its moment; in targets, `token` and `owner` mark its commits.

    `elsewhere` is true if another worker may get the step while this one cannot be reached.
    """

    run: int
    job: str
    moment: dt.datetime
    token: str
    owner: str
    resumed: bool = False
    elsewhere: bool = False


class Mark(Enum):
    """Whether the target records what a step commits: not at all; or for a run that has claimed it, or still must."""

    NONE = "none"
    CLAIMED = "claimed"
    TO_BE_CLAIMED = "to be claimed"


class StepRejects(Struct, frozen=True):
    """Rejected rows to read instead of the source; and rejects of earlier runs that the step may load after all, by
    the key of their source row."""

    replayed: Rejected | None = None
    earlier: Mapping[str, Sequence[int]] = field(default_factory=dict)


class StepLog(Protocol):
    """Records the steps of a run."""

    def begin_step(self, step: str, batches: int = 0) -> None:
        """Record that a step begins, or begins again after so many committed batches."""

    def batch_ends(self, step: PipelinePlan, tally: Tally, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Record a batch with its rejects; `tally` are the step's counts so far."""

    def try_failed(self, step: str, number: int, message: str) -> None:
        """Record that a try failed by a temporary error, and that another follows."""

    def refused_in(self, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target has refused in a step."""

    def resolve(self, rejects: Collection[int], step: str, batch: int | None = None) -> None:
        """Record that rejected rows will be loaded once the step, or its batch of this number, is committed."""


class RunContext(Protocol):
    """A run, as its steps see it."""

    @property
    def identity(self) -> RunIdentity:
        """Which run it is."""

    @property
    def log(self) -> StepLog:
        """Where its steps are recorded."""

    def mark_of(self, step: PipelinePlan) -> Mark:
        """Whether the target records what a step commits."""

    def rejects_for(self, step: PipelinePlan) -> StepRejects:
        """The rejects of earlier runs that concern a step."""
