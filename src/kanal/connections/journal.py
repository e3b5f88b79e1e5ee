"""What a target remembers of the loads into it, within their own transactions."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Collection, Mapping, Sequence
from typing import Any, Protocol

from msgspec import Struct
from msgspec.structs import asdict

from kanal.connections.loading import Load
from kanal.core.errors import KanalError
from kanal.core.tally import Tally


class Progress(Struct, frozen=True):
    """What of a step is committed: its counts, its batches, the source's position, and if that was all.

    `greatest` is the greatest change value, as text, of a step that loads what is new.
    """

    tally: Tally
    batches: int = 0
    last: Sequence[Any] = ()
    done: bool = False
    greatest: str | None = None

    def content(self) -> dict[str, Any]:
        """It, in the form that JSON knows."""
        return asdict(self) | {"tally": asdict(self.tally), "last": list(self.last)}

    @classmethod
    def of(cls, content: Mapping[str, Any]) -> Progress:
        """What `content` gave."""
        return cls(**{**content, "tally": Tally(**content["tally"])})


def gone_on_elsewhere() -> KanalError:
    """The error of a process whose run another has taken over."""
    return KanalError(
        "another process goes on with this run, which took it for dead",
        "nothing more is done here; see kanal runs",
    )


def moment_text(moment: dt.datetime) -> str:
    """The time of a file, as text in UTC."""
    return moment.astimezone(dt.UTC).isoformat(timespec="microseconds")


def moved_text(moment: dt.datetime) -> str:
    """The moment at which a watermark was moved, as it is kept."""
    return f"{moment.astimezone(dt.UTC):%Y-%m-%d %H:%M:%S}"


class Watermark(Struct, frozen=True):
    """The last change value that a pipeline has loaded, as text, and the moment (UTC) of the run that set it.

    `expression` gives the change values; None if it is not known. `last_read` is the moment (UTC) of the
    latest run that read up to it, kept for exchanges.
    """

    watermark: str
    moved: str
    expression: str | None = None
    last_read: str | None = None

    def is_settled(self, overlap: Any) -> bool:
        """True if no row up to it can come late: for as long as that may take, runs have found nothing beyond it."""
        if not overlap:
            return True
        if self.last_read is None or not isinstance(overlap, dt.timedelta):
            return False
        moved, read = (dt.datetime.fromisoformat(text) for text in (self.moved, self.last_read))
        return read - moved >= overlap

    def is_of(self, expression: str) -> bool:
        """True unless it is about another expression."""
        return self.expression is None or self.expression == kept_expression(expression)


def kept_expression(expression: str) -> str:
    """The text of an expression that is stored with a watermark. Long texts are cut and end in a digest."""
    text = " ".join(expression.split())
    return text if len(text) <= 400 else f"{text[:330]} {hashlib.sha256(text.encode()).hexdigest()}"


class LoadedFile(Struct, frozen=True):
    """A file that a step has loaded: its name, size in bytes, time of modification and what tells its content; by which
    run and when (UTC), how many rows it had and how many were rejected. `pending` is what is still to be done with it:
    "delete", or "move NAME"."""

    name: str
    size: int
    modified: str
    checksum: str
    run: int
    loaded: str
    rows: int
    rejected: int
    pending: str | None = None


class Journal(Protocol):
    """Progress of runs, so that whoever continues one knows what was committed; watermarks of pipelines; and files
    that were loaded."""

    def make_ready(self) -> None:
        """Make what progress is kept in; raises KanalError if that is not allowed."""

    def is_ready(self) -> bool:
        """True if progress can be kept."""

    def record(self, load: Load, done: Progress, token: str, step: str, owner: str) -> None:
        """Record, within a load's transaction, how far a step is committed with it.

        Raises KanalError if another process has claimed the step: of two, only the later one can commit.
        """

    def recorded(self, token: str, step: str) -> Progress | None:
        """The committed progress of a step; None if nothing is committed."""

    def claim_first(self, token: str, steps: Sequence[str], owner: str) -> None:
        """Make entries for the steps of a new run, all at once; raises KanalError."""

    def claim(self, token: str, step: str, owner: str) -> Progress | None:
        """Make a step's entry that of who continues it, so that nobody else can commit any more; how far it was
        committed before."""

    def note_session(self, load: Load, token: str, step: str, owner: str) -> None:
        """Record, at once, by which session of the target a load continues, so that whoever claims its step can end it;
        nothing if there are none."""

    def forget(self, tokens: Collection[str]) -> None:
        """Remove what was kept for runs that have come to their end."""

    def make_watermarks_ready(self) -> None:
        """Make what watermarks are kept in; raises KanalError if that is not allowed."""

    def watermark(self, job: str, step: str) -> Watermark | None:
        """The watermark of a pipeline; None if it has none yet."""

    def move_watermark(
        self, load: Load, job: str, step: str, watermark: str | None, moment: dt.datetime, expression: str
    ) -> None:
        """Set a watermark within a load's transaction, or with None take it away."""

    def note_read(self, load: Load, job: str, step: str, moment: dt.datetime) -> None:
        """Record, within a load's transaction, that a run has read up to the watermark, if there is one."""

    # --- files -----------------------------------------------------------------------------------------------------

    def make_files_ready(self) -> None:
        """Make what loaded files are kept in; raises KanalError if that is not allowed."""

    def loaded_files(self, job: str, step: str) -> list[LoadedFile]:
        """The files that a step has loaded, in the order of their names."""

    def record_files(self, load: Load, job: str, step: str, files: Sequence[LoadedFile]) -> None:
        """Remember files, within a load's transaction; they replace files with the same names."""

    def forget_files(self, load: Load, job: str, step: str, names: Collection[str]) -> None:
        """Forget files, within a load's transaction."""
