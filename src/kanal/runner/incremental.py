"""The rows of a source that are new to a pipeline: the first change value to read, and the next watermark."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
from msgspec import Struct, field

from kanal.connections.journal import Journal, Watermark, kept_expression
from kanal.connections.loading import Load
from kanal.connections.reading import Window
from kanal.core.change_values import change_text, change_value, rows_between
from kanal.core.errors import KanalError
from kanal.core.frame import Frame, SourceBatch
from kanal.core.rejects import Reject
from kanal.core.transformation import rejects_of
from kanal.runner.job_plan import PipelinePlan, SincePlan


class Increment(Struct):
    """The range that a step reads, and the greatest change value that it has met."""

    since: SincePlan
    journal: Journal
    job: str
    step: str
    moment: dt.datetime
    watermark: Any
    low: Any
    #: Rows at `low` itself are loaded already: they would be appended twice, or come back once they are deleted.
    beyond_low: bool
    #: Rows without a change value are rejected if each run would load them again.
    rejects_unclear: bool
    #: True if the table is loaded the other way too.
    exchanged: bool = False
    greatest: Any = None
    notes: list[str] = field(default_factory=list)

    @classmethod
    def of(cls, plan: PipelinePlan, since: SincePlan, job: str, moment: dt.datetime, writes: bool) -> Increment:
        """The range that is new now, by the target's watermark; raises KanalError if the target cannot keep one."""
        journal = plan.target.journal
        if writes:
            journal.make_watermarks_ready()
        found = journal.watermark(job, plan.name)
        appends = not plan.writing.rule.repeatable
        notes = []
        if found is not None and not found.is_of(since.change.text):
            notes.append(_of_other(plan.name, since.change.text, found, appends and not since.bounded))
            found = None
        watermark = None if found is None else change_value(found.watermark, since.change.type)
        low = since.lowest(watermark)
        # What comes again may be what the target has deleted meanwhile.
        once = (
            plan.exchange is not None and plan.exchange.deletes and (found is None or found.is_settled(since.overlap))
        )
        if once and watermark is not None and not since.bounded:
            low = watermark
        beyond = (appends or once) and not since.bounded and watermark is not None
        # A comparison takes all rows, and finds those rejected that each run rejects.
        rejects = appends and (not since.bounded or (since.everything and not writes))
        made = cls(
            since,
            journal,
            job,
            plan.name,
            moment,
            watermark,
            low,
            beyond,
            rejects,
            plan.exchange is not None,
            notes=notes,
        )
        parts = [] if low is None else [f"{since.change.text} {'>' if beyond else '>='} {change_text(low)}"]
        parts += [] if since.high is None else [f"{since.change.text} < {change_text(since.high)}"]
        if appends and since.bounded:
            parts.append("appended, even if the target has it")
        made.notes.append(f"read: {' and '.join(parts)}" if parts else "read: all rows, as new")
        return made

    @property
    def windows(self) -> tuple[Window, ...]:
        """The windows to request from the source, if the change value is one of its columns."""
        since = self.since
        if since.column is None or (self.low is None and since.high is None):
            return ()
        return (Window(since.column, self.low, since.high, with_null=since.nullable and not since.bounded),)

    def only_new(self, frame: Frame) -> tuple[SourceBatch, list[Reject]]:
        """The new rows of a batch, and rejects of rows whose change value is unclear. Other rows are not counted."""
        batch, since = frame.batch, self.since
        inside, unclear, greatest = rows_between(frame, since.change, self.low, since.high, self.beyond_low)
        if greatest is not None and (self.greatest is None or greatest > self.greatest):
            self.greatest = greatest
        rejects: list[Reject] = []
        if unclear and self.rejects_unclear:
            rejects = rejects_of(batch, [(since.column, fault) for fault in unclear])[0]
        elif not since.bounded or since.everything:
            inside[[fault.row for fault in unclear]] = True
        return batch if inside.all() else batch.take(np.flatnonzero(inside)), rejects

    def go_on(self, greatest: str | None) -> None:
        """Continue from the greatest change value of an earlier try."""
        self.greatest = None if greatest is None else change_value(greatest, self.since.change.type)

    def move(self, load: Load) -> None:
        """Move the watermark, within the load's transaction, to the greatest change value read; never back."""
        beyond = self.watermark is None or (self.greatest is not None and self.greatest > self.watermark)
        if self.greatest is not None and beyond and self.since.high is None:
            watermark, expression = change_text(self.greatest), kept_expression(self.since.change.text)
            self.journal.move_watermark(load, self.job, self.step, watermark, self.moment, expression)
        if self.exchanged and self.since.high is None:
            self.journal.note_read(load, self.job, self.step, self.moment)


def _of_other(step: str, expression: str, found: Watermark, appends: bool) -> str:
    """The note that a watermark is about another expression; raises KanalError if rows would be appended twice."""
    what = f"since is now {expression}, and the watermark {found.watermark} is one of {found.expression}"
    if appends:
        raise KanalError(
            f"{what}, so which rows are loaded already is not known",
            f"set it by kanal watermarks JOB {step} --set VALUE, or clear it with --clear to append all rows",
        )
    return f"{what}: it does not apply"
