"""A step whose source is divided into ranges: each is loaded into a portion of its own, and one load publishes all."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from typing import Any, cast

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import as_sharing
from kanal.connections.loading import Load, PortionLoad, PortionRows, RefusedRow, SwapLoad
from kanal.connections.reading import Reading, Window
from kanal.connections.roles import Reads, Writes
from kanal.core.change_values import change_text, change_value
from kanal.core.claims import Claims
from kanal.core.errors import KanalError
from kanal.core.faults import value_text
from kanal.core.frame import SourceBatch
from kanal.core.tally import Tally, add_writes
from kanal.runner.incremental import Increment
from kanal.runner.job_plan import PipelinePlan, refuse_swap
from kanal.runner.messages import StepOutcome, StepTask
from kanal.runner.source_rows import Batches, SourceRows
from kanal.runner.staged_rows import StagedRows
from kanal.runner.stages import Batch, Convert, OpenReferences, Rows, Stage, Tagged, refusals, taken
from kanal.runner.step import OneTransaction, StepParts
from kanal.runner.step.ending import delete_rest
from kanal.runner.step.one_transaction import announced
from kanal.runner.stream import read_ahead, timed
from kanal.runner.write_rule import Merge, WriteRule
from kanal.runner.write_rules import Append, Portioned, rule_for, rule_of

#: What is known of a row beforehand: that the target refuses it, or which claim another row of the load has.
Known = RefusedRow | int


class PortionTask(Struct, frozen=True):
    """One range of a step's source, to be loaded into a table of this name; `snapshot` is the state to be read.

    `known` are the faults of rows that an earlier try has shown, by what tells a row's content.
    """

    step: StepTask
    number: int
    window: Window
    snapshot: str | None
    place: str
    known: Mapping[int, Sequence[Known]] = field(default_factory=dict)


class PortionOutcome(Struct, frozen=True):
    """How a range ended: what waits where, the greatest change value, and which rejects of earlier runs it resolves."""

    outcome: StepOutcome
    place: str = ""
    there: PortionRows = field(default_factory=lambda: PortionRows(0, 0))
    kept: PortionRows | None = None
    keyless: int = 0
    greatest: str | None = None
    resolved: frozenset[int] = frozenset()


class PublishTask(Struct, frozen=True):
    """All ranges of a step, to be created visible at once."""

    step: StepTask
    portions: Sequence[PortionOutcome]


class Unpublished(Struct, frozen=True):
    """What hinders that: rows, by the number of their portion and what tells their content."""

    known: Sequence[tuple[int, int, Known]]


class NotPublished(KanalError):
    """Rows have to be taken out of portions first."""

    def __init__(self, known: Sequence[tuple[int, int, Known]]) -> None:
        super().__init__(f"{len(known):,} rows have to be taken out first")
        self.known = known


def why_whole(plan: PipelinePlan) -> str | None:
    """Why the source of a step is not divided among several workers, though it has a split; None if it is."""
    settings, writing = plan.settings, plan.writing
    assert settings.split is not None
    reasons = (
        (settings.split.snapshot == "common" and Reads.SHARED not in plan.source.reads,
         f'{plan.source.name} cannot show one state to readers on several machines: set its snapshot to "none" if each '
         "range may be of another moment"),
        (Writes.PORTIONS not in plan.target.writes, f"{plan.target.name} cannot hold ranges back until all are there"),
        (rule_of(settings).keeps_versions, "a history is kept"),
        (plan.delete_when is not None, "delete_when is given"),
        (bool(plan.own_lookups), "it looks up rows of its own load"),
        (bool(writing.merging.own_references), "its rows refer to each other"),
        (bool(plan.open_references), "its rows refer to rows that are loaded later"),
        (plan.exchange is not None, "it is one way of an exchange"),
    )  # fmt: skip
    return next((why for applies, why in reasons if applies), None)


class RangeRows(SourceRows, frozen=True, kw_only=True):
    """The rows of one range of the source."""

    portion: PortionTask

    def batches(self, reading: Reading, everything: bool = False) -> Batches:
        return super().batches(reading, everything) if everything else self._of_range(reading)

    @contextmanager
    def _of_range(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        plan, snapshot = self.plan, self.portion.snapshot
        windows = self.increment.windows if self.increment is not None else reading.windows
        reading = replace(reading, windows=(*windows, self.portion.window))
        with ExitStack() as stack:
            connection = None
            if snapshot is not None:
                connection = stack.enter_context(as_sharing(plan.source).shared_snapshot(snapshot))
            batches = stack.enter_context(plan.source.read(reading, None, self.break_off, connection))
            yield stack.enter_context(read_ahead(timed(batches)))


class KnownFaults:
    """The stage that rejects rows of a range which the load that publishes the ranges has refused."""

    name = "open references"

    def __init__(self, plan: PipelinePlan, way: IntoPortion, claims: Claims | None) -> None:
        self._plan, self._way, self._claims = plan, way, claims
        self._known = {content: list(known) for content, known in way.portion.known.items()}

    def take(self, batch: Batch) -> Batch:
        if self._known:
            batch.reject(self._plan, self._faults(batch.stored, batch.good))
        return batch

    def _faults(self, rows: pa.RecordBatch, good: Rows) -> Tagged:
        """The faults of good rows that are known."""
        refused: list[RefusedRow] = []
        found: Tagged = []
        contents = cast(Any, self._way.rule.stage).hashes(taken(rows, good)).view(np.int64)
        for place in np.flatnonzero(np.isin(contents, list(self._known))).tolist():
            known = self._known[int(contents[place])]
            if not known:
                continue
            fault = known.pop(0)
            if isinstance(fault, RefusedRow):
                refused.append(replace(fault, place=place))
            elif self._claims is not None:
                claim, row = self._claims.claims[fault], int(good[place])
                values = [value_text(rows.column(name)[row].as_py(), rows.column(name).type) for name in claim.columns]
                found.append(claim.fault(row, values))
        return found + refusals(refused, rows, good)


class IntoPortion(OneTransaction):
    """Loads one range into its portion."""

    rule: Portioned

    def __init__(self, portion: PortionTask) -> None:
        self.portion = portion
        self._increment: Increment | None = None

    def adapt(self, parts: StepParts) -> None:
        self._increment = parts.increment
        parts.rows = RangeRows(
            parts.plan, parts.signal.reading, increment=parts.increment, files=parts.files, portion=self.portion
        )
        known = KnownFaults(parts.plan, self, parts.compete.claims)
        # A row is found again by its content.
        convert = Convert(parts.plan, whole=True)
        instead: dict[type[Stage], Stage] = {OpenReferences: known, Convert: convert}
        parts.making = [instead.get(type(stage), stage) for stage in parts.making]

    def outcome_of(self, outcome: StepOutcome) -> PortionOutcome:
        """How it ended, and what waits in the portion."""
        greatest = self._increment.greatest if self._increment is not None else None
        greatest = None if greatest is None else change_text(greatest)
        rule, place = self.rule, self.portion.place
        return PortionOutcome(outcome, place, rule.there, rule.kept, rule.keyless, greatest)

    def may_move(self, parts: StepParts) -> bool:
        del parts
        return False

    def keys(self, parts: StepParts) -> list[pa.RecordBatch]:
        return super().keys(parts) if self.portion.number == 0 else []

    def begin_rule(self, parts: StepParts, load: Load) -> WriteRule:
        writing = parts.plan.writing
        keeps_keys = bool(writing.key) and (writing.delete_missing or writing.rule.empties)
        self.rule = Portioned(load, writing, self.portion.place, keeps_keys)
        self.rule.begin()
        return self.rule

    def end(self, parts: StepParts, load: Load) -> None:
        """Nothing more: what follows is done once all ranges are there."""


class FromPortions(OneTransaction):
    """Publishes all ranges of a step: their rows go from the portions into the target, in one transaction."""

    def __init__(self, portions: Sequence[PortionOutcome]) -> None:
        self._portions = portions
        self._twin: TableInfo | None = None

    def run(self, parts: StepParts) -> None:
        plan, books = parts.plan, parts.books
        for portion in self._portions:
            books.tally.add(portion.outcome.tally)
            books.batches += portion.outcome.batches
        if parts.increment is not None:
            kind = parts.increment.since.change.type
            greatest = (change_value(one.greatest, kind) for one in self._portions if one.greatest is not None)
            parts.increment.greatest = max(greatest, default=None)
        with plan.target.load() as load, announced(parts, load):
            started = time.perf_counter()
            rule = self.begin_rule(parts, load)
            tally = self._publish(parts, cast(PortionLoad, load), rule)
            rule.complete()
            books.log(tally, [], seconds=time.perf_counter() - started)
            books.notes += rule.notes
            if self._twin is not None:
                cast(SwapLoad, load).exchange(plan.target_table, self._twin)
            delete_rest(parts, rule, load)
            self.end(parts, load)
            parts.signal.check()
            parts.commit_all(load)

    def begin_rule(self, parts: StepParts, load: Load) -> WriteRule:
        if not parts.plan.swaps:
            return super().begin_rule(parts, load)
        plan, swapping = parts.plan, cast(SwapLoad, load)
        if plan.settings.first_sql:
            load.run_sql(plan.settings.first_sql)
        refuse_swap(plan)
        self._twin = swapping.twin(plan.target_table, f"{self._portions[0].place}_all")
        parts.books.deleted = load.count(plan.target_table)
        return rule_for(load, replace(plan.writing, table=self._twin, rule=Append))

    def _publish(self, parts: StepParts, load: PortionLoad, rule: WriteRule) -> Tally:
        """Write the rows of all portions; raises NotPublished if some of them have to be taken out first."""
        writing = rule.writing
        merging = writing.merging if rule.by_key else writing.inserting
        filled = [(number, portion) for number, portion in enumerate(self._portions) if portion.there.count]
        waiting = [load.portion(merging, merging.columns, portion.place, portion.there) for _, portion in filled]
        known: list[tuple[int, int, Known]] = []
        claims = parts.compete.claims
        for place, claim in enumerate(claims.claims if claims is not None else ()):
            later = load.doubled(waiting, claim.columns)
            known += [(filled[row.portion][0], row.content, place) for row in later]
        if known:
            raise NotPublished(list({one[:2]: one for one in known}.values()))
        tally = Tally()
        if isinstance(rule, Merge) and writing.delete_missing:
            kept = [
                load.portion(writing.merging, writing.key, f"{portion.place}_k", portion.kept)
                for portion in self._portions
                if portion.kept is not None and portion.kept.count
            ]
            add_writes(tally, rule.delete_missing_of(waiting, kept, sum(one.keyless for one in self._portions)))
        for (number, portion), stage in zip(filled, waiting, strict=True):
            parts.signal.check()
            staged = StagedRows(load, merging, "", stage)
            staged.counted = portion.there.count != portion.there.numbered
            written = staged.write()
            add_writes(tally, written)
            if written.refused:
                contents = stage.hashes_of([row.place for row in written.refused])
                known += [(number, contents[row.place], row) for row in written.refused]
        if known:
            raise NotPublished(known)
        return tally
