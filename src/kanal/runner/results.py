"""What comes back from a run: its steps, their counts, and the rows that were rejected."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from enum import StrEnum
from typing import ClassVar

import pyarrow as pa
from msgspec import Struct, field

from kanal.connections.arrow import Memory
from kanal.core.errors import KanalError
from kanal.core.records import PartlyCompared
from kanal.core.rejects import row_from_json
from kanal.core.tally import COUNTS, Tally
from kanal.runlog import RunLogStore
from kanal.runner.html import html_table


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


class StepResult(PartlyCompared, Struct, frozen=True, eq=False):
    """How a step ended: `seconds` is its duration, `error` why it did not succeed, `note` what is worth knowing."""

    aside: ClassVar[frozenset[str]] = frozenset({"_log", "_run", "_memory"})

    step: str
    kind: str
    status: StepStatus
    tally: Tally = field(default_factory=Tally)
    batches: int = 0
    seconds: float = 0.0
    error: str | None = None
    note: str | None = None
    _log: RunLogStore | None = None
    _run: int = 0
    _memory: Memory | None = None

    def rejects(self, *, reason: str | None = None, column: str | None = None) -> pa.Table:
        """The rejected rows: step, column, reason, value and message as text, and the source row as a struct of texts.

        Only those with a reason, such as `too_long`, or of a column, if given. Raises KanalError for a step of a dry
        run, of which no row is kept.
        """
        if self._log is None:
            raise KanalError(f"The rows that {self.step} would reject were not kept", "run it, or see Job.check")
        found = self._log.rejects.table(self._run, self.step, reason=reason, column=column)
        rows = [row_from_json(row) for row in found["row"].to_pylist()]
        names = list(dict.fromkeys(name for row in rows for name in row))
        struct = pa.array(rows, pa.struct([pa.field(name, pa.string()) for name in names]))
        return found.set_column(found.schema.get_field_index("row"), "row", struct)

    def table(self) -> pa.Table:
        """The rows in the Memory that the step loads into; raises KanalError for another target."""
        if self._memory is None:
            raise KanalError(f"{self.step} does not load into memory", "give its pipeline target=kanal.Memory()")
        return self._memory.table()

    def _repr_html_(self) -> str:
        return html_table(f"step {self.step}", _NAMES, [_row_of(self)])


class Run(Struct, frozen=True):
    """One execution of a job. `run["passages"]` is the step of that name."""

    run: int
    job: str
    status: RunStatus
    started: dt.datetime
    seconds: float
    steps: tuple[StepResult, ...]
    environment: str | None = None

    def __getitem__(self, step: str) -> StepResult:
        for result in self.steps:
            if result.step == step:
                return result
        raise KeyError(step)

    def __iter__(self) -> Iterator[StepResult]:
        return iter(self.steps)

    def _repr_html_(self) -> str:
        number = f"run {self.run}" if self.run else "dry run"
        return html_table(f"{self.job}, {number}: {self.status}", _NAMES, map(_row_of, self.steps))


_NAMES = ("step", "status", *COUNTS, "seconds", "error")


def _row_of(step: StepResult) -> list[object]:
    counts = (getattr(step.tally, name) for name in COUNTS)
    return [step.step, str(step.status), *counts, step.seconds, step.error]
