"""The state of a step: its plan and options, its counts, and the objects that it uses."""

from __future__ import annotations

import dataclasses
import datetime as dt
import threading
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from kanal.connections.journal import Progress
from kanal.connections.loading import Load, RefusedRow
from kanal.connections.reading import Breaker
from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.runlog import BatchRecord
from kanal.runner.competition import Competition
from kanal.runner.incremental import Increment
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.new_files import NewFiles
from kanal.runner.own_lookups import OwnLookups
from kanal.runner.replay import Rejected
from kanal.runner.source_rows import SourceRows
from kanal.runner.stages import LookUp, Stage, Where
from kanal.runner.write_rules import WriteRule, rule_for

#: Called after each batch with its counts and seconds, and its rejects.
OnBatch = Callable[[BatchRecord, list[Reject]], None]


class OpenEnds(KanalError):
    """Rows that were loaded refer to rows that were to come later and did not; by step, and by their key."""

    def __init__(self, rows: dict[str, dict[str, RefusedRow]]) -> None:
        self.rows = rows
        step, found = next(iter(rows.items()))
        super().__init__(
            f"{len(found):,} rows of {step} refer to rows that did not come: {next(iter(found.values())).words}",
            "correct the source",
        )


class SharedLoad(Struct):
    """One transaction for several steps; the write rules, by step, of those whose targets have been emptied, and of
    those that have left references open."""

    load: Load
    emptied: dict[str, tuple[WriteRule, int]] = field(default_factory=dict)
    left_open: dict[str, WriteRule] = field(default_factory=dict)
    #: Functions that delete the rows missing in the source after all steps have loaded; by step, in order.
    deleting: dict[str, Callable[[Load], None]] = field(default_factory=dict)
    closing: list[WriteRule] = field(default_factory=list)

    def finish(self) -> None:
        """Do what is done once all steps have loaded; raises OpenEnds, and KanalError."""
        self.close_references()
        for delete in reversed(self.deleting.values()):
            delete(self.load)
        for rule in self.closing:
            rule.close()

    def close_references(self) -> None:
        """Fill in the references that were left open; raises OpenEnds where rows refer to some that did not come."""
        ends: dict[str, dict[str, RefusedRow]] = {}
        for step, rule in self.left_open.items():
            found = rule.left_open.open_ends() if rule.left_open is not None else {}
            if found:
                ends[step] = found
        if ends:
            raise OpenEnds(ends)
        for rule in self.left_open.values():
            if rule.left_open is not None:
                rule.left_open.close_references()
        self.left_open.clear()

    def empty(self, plan: PipelinePlan) -> None:
        """Empty the target of a step before any step loads, if its write rule empties it."""
        rule = rule_for(self.load, plan.writing)
        if rule.empties:
            self.emptied[plan.name] = rule, rule.begin().deleted


@dataclasses.dataclass
class StepState:
    """One execution of a pipeline. `tally` counts as it goes."""

    plan: PipelinePlan
    moment: dt.datetime
    job: str
    #: The number of the run that it belongs to.
    number: int = 0
    tally: Tally = dataclasses.field(default_factory=Tally)
    batches: int = 0
    notes: list[str] = dataclasses.field(default_factory=list)
    #: Rejected rows to read instead of the source, and the numbers of rows that were rejected again.
    replayed: Rejected | None = None
    rejected_again: set[int] = dataclasses.field(default_factory=set)
    #: The progress that an earlier try has committed, if the step commits batch by batch.
    begun: Progress | None = None
    #: Records, within a load, what is committed with it.
    record: Callable[[Load, Progress], None] | None = None
    #: Called with each load that begins.
    on_load: Callable[[Load], None] = lambda load: None
    #: Called at last before the commit.
    before_commit: Callable[[], None] = lambda: None
    #: The counts and the number of committed batches, if the step commits batch by batch.
    kept: Tally | None = None
    kept_batches: int = 0
    #: Rows that the target refused in an earlier try, of a step that commits batch by batch.
    refused_before: Sequence[Mapping[str, str | None]] = ()
    #: Rejects of earlier runs, by the key of their source row; `resolved` are the rejects that this step loads.
    earlier: Mapping[str, Sequence[int]] = dataclasses.field(default_factory=dict)
    #: Rows that refer to rows which will not come, by the key that they would have in the target.
    open_ends: Mapping[str, RefusedRow] = dataclasses.field(default_factory=dict)
    resolved: set[int] = dataclasses.field(default_factory=set)
    #: True during the commit, whose result is unknown if the connection fails.
    committing: bool = False
    #: True if the step is rolled back at the end and must leave no traces.
    rehearsal: bool = False
    apart: bool = False
    _writes: bool = True
    _stop: threading.Event = dataclasses.field(default_factory=threading.Event)
    _break: Breaker = dataclasses.field(default_factory=Breaker)
    _break_reading: Breaker = dataclasses.field(default_factory=Breaker)
    # Set when the step begins.
    _on_batch: OnBatch = dataclasses.field(init=False, default=lambda record, rejects: None)
    _shared: SharedLoad | None = dataclasses.field(init=False, default=None)
    _increment: Increment | None = dataclasses.field(init=False, default=None)
    _files: NewFiles | None = dataclasses.field(init=False, default=None)
    _look_up: LookUp = dataclasses.field(init=False)
    _where: Where = dataclasses.field(init=False)
    _source_rows: SourceRows = dataclasses.field(init=False)
    #: The stages that choose rows of a batch, and the stages after them, up to the competition for keys.
    _arriving: list[Stage] = dataclasses.field(init=False, default_factory=list)
    _making: list[Stage] = dataclasses.field(init=False, default_factory=list)
    _checked: bool = dataclasses.field(init=False, default=False)
    _competition: Competition = dataclasses.field(init=False)
    _deleted: int = dataclasses.field(init=False, default=0)
    #: How many rows the target had, if a share of them is asked for.
    _rows_before: int = dataclasses.field(init=False, default=0)
    #: In an exchange: how far the other direction has loaded the target's changes.
    _theirs: Any = dataclasses.field(init=False, default=None)
    _own: OwnLookups | None = dataclasses.field(init=False, default=None)
