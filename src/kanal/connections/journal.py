"""What a target remembers of the loads into it, within their own transactions."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from kanal.connections.loading import Load
from kanal.core.tally import Tally


@dataclass(frozen=True)
class Progress:
    """What of a step is committed: its counts, its batches, the source's position, and if that was all.

    `greatest` is the greatest change value, as text, of a step that loads what is new.
    """

    tally: Tally
    batches: int = 0
    last: Sequence[Any] = ()
    done: bool = False
    greatest: str | None = None


@dataclass(frozen=True)
class Watermark:
    """Up to which change value a pipeline has loaded, as text, and the moment (UTC) of the run that set it."""

    watermark: str
    moved: str


class Journal(Protocol):
    """Progress of runs, so that whoever goes on with one knows what was committed, and watermarks of pipelines."""

    def make_ready(self) -> None:
        """Make what progress is kept in; raises KanalError where that is not allowed."""

    def is_ready(self) -> bool:
        """True where progress can be kept."""

    def record(self, load: Load, done: Progress, token: str, step: str, owner: str) -> None:
        """Record, within a load's transaction, how far a step is committed with it.

        Raises KanalError where another process has gone on with the run: of two that do, one alone can commit.
        """

    def recorded(self, token: str, step: str) -> Progress | None:
        """How far a step was committed; None where nothing of it was."""

    def take_over(self, token: str, step: str, owner: str) -> None:
        """Make a step's entry that of a process that goes on with it, so that no other can commit any more."""

    def forget(self, tokens: Collection[str]) -> None:
        """Remove what was kept for runs that have come to their end."""

    def make_watermarks_ready(self) -> None:
        """Make what watermarks are kept in; raises KanalError where that is not allowed."""

    def watermark(self, job: str, step: str) -> Watermark | None:
        """The watermark of a pipeline; None where it has none yet."""

    def move_watermark(self, load: Load, job: str, step: str, watermark: str | None, moment: dt.datetime) -> None:
        """Set a watermark within a load's transaction, or with None take it away."""
