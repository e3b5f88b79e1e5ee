"""Decides which row of a key is loaded, and which one follows if the target refuses it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.loading import Written
from kanal.core.claims import Claims
from kanal.core.faults import value_text
from kanal.core.frame import Frame, SourceBatch
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject
from kanal.core.tally import Tally, add_writes
from kanal.core.transformation import ColumnPlan, convert_columns, rejects_of
from kanal.runner.contest import ByTurns, Contest, LastRow, Next, RefusedKeys
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.set_aside import Beaten, SetAside
from kanal.runner.staged_rows import Mask
from kanal.runner.stages.batch import Batch, Rows, Tagged, keys_in_target, refusals, withdrawn
from kanal.runner.write_rule import WriteRule


class Compete:
    """Lets rows compete for their keys, and writes the rows that follow refused ones.

    Only the thread that writes uses it. `frame_of` looks up rows again that have come before. `resolve` is called with
    the rows of a batch that are loaded.
    """

    name = "contest"

    def __init__(
        self,
        plan: PipelinePlan,
        moment: dt.datetime,
        frame_of: Callable[[SourceBatch], Frame],
        claims: Claims | None,
        resolve: Callable[[SourceBatch, Rows], None],
    ) -> None:
        self.plan = plan
        self.claims = claims
        #: The contest, if rows can compete.
        self.contest: Contest | None = ByTurns(claims) if claims is not None else None
        #: The rows that wait in the target, as the source gave them.
        self.kept: SetAside[SourceBatch] | None = None
        self._rule: WriteRule | None = None
        self._moment = moment
        self._frame_of = frame_of
        self._resolve = resolve

    @contextmanager
    def of_rule(self, rule: WriteRule, last_wins: bool = False) -> Iterator[None]:
        """Take the rows of a load, which are written by a rule; with `last_wins`, the last row of a key counts."""
        if last_wins and self.contest is not None:
            self.contest.close()
            self.contest = LastRow()
        self._rule, self.kept = rule, SetAside[SourceBatch]() if rule.gathers else None
        try:
            yield
        finally:
            if self.kept is not None:
                self.kept.close()

    @property
    def rule(self) -> WriteRule:
        """The rule by which rows are written now."""
        assert self._rule is not None
        return self._rule

    def close(self) -> None:
        """Remove what was set aside."""
        if self.contest is not None:
            self.contest.close()

    def take(self, batch: Batch) -> Batch:
        """Offer a batch's rows for their keys. Beaten rows are set aside and not written now."""
        contest, keyed, offered = self.contest, batch.keyed, batch.offered
        if contest is None or keyed is None or offered is None:
            return batch
        verdict = contest.offer(batch.source.take(offered), keyed)
        if verdict.accepted.all():
            return batch
        batch.undecided = int((verdict.kept_back_by >= 0).sum())
        batch.tally.read -= batch.undecided  # they are counted once they are decided
        batch.good, batch.replacing = offered[verdict.accepted], offered[verdict.replacing]
        if batch.encoded is not None:
            batch.encoded = self.rule.encode_some(batch.encoded, verdict.accepted)
        return batch

    def note_written(self, batch: Batch, refused: Sequence[int], over: Sequence[int]) -> None:
        """Keep the rows of a written batch as long as they wait in the target, and note which were refused: by their
        places among the good ones, and among those that replace others."""
        offered = batch.good if batch.offered is None else batch.offered
        if self.kept is not None:
            self.kept.add(batch.source if len(offered) == batch.source.rows else batch.source.take(offered))
        contest, keyed = self.contest, batch.keyed
        if contest is None or keyed is None:
            return
        waiting = batch.rows_to_write.numbers
        if refused:
            numbers = () if waiting is None else waiting[list(refused)].tolist()
            contest.note(RefusedKeys(keyed.take(np.isin(offered, batch.good[list(refused)])), numbers))
        if over:
            replacing = batch.replacing[list(over)]
            contest.note(RefusedKeys(keyed.take(np.isin(offered, replacing)), over=True))

    def _write_next(self, following: Next, tally: Tally, rejects: list[Reject]) -> None:
        """Write rows whose turn it is, and count them."""
        assert self.contest is not None
        rule, count = self.rule, following.batch.rows
        if following.superseded:
            tally.superseded -= count
        else:
            tally.read += count
        for over in (False, True):
            chosen = following.over == over
            if not chosen.any():
                continue
            places = np.flatnonzero(chosen)
            batch, keyed = following.batch.take(places), following.keyed.take(places)
            rows, gone = self.stored_rows(batch), self._gone_of(batch)
            encoded = rule.encode_replacing(rows, gone) if over else rule.encode(rows, gone)
            written = rule.replace(encoded) if over else rule.write(encoded)
            if over:
                tally.superseded += written.updated + written.unchanged
                written = replace(written, updated=0, unchanged=0)
            elif self.kept is not None:
                self.kept.add(batch)
            add_writes(tally, written)
            places = np.array([row.place for row in written.refused], dtype=np.intp)
            found = refusals(written.refused, rows, np.arange(batch.rows))
            rejects += rejects_of(batch, found, would_be=keys_in_target(self.plan, rows))[0]
            if len(places):
                numbers = () if encoded.numbers is None else encoded.numbers[places].tolist()
                self.contest.note(RefusedKeys(keyed.take(places), numbers, over))
            self._resolve(batch, np.delete(np.arange(batch.rows), places))

    def _gone_of(self, batch: SourceBatch) -> Mask | None:
        return withdrawn(self.plan, Frame(batch, self.plan.source_types, self._moment))[0]

    def stored_rows(self, batch: SourceBatch) -> pa.RecordBatch:
        """Rows as the target stores them, of a batch that has come through once before."""
        return self._stored(batch, self.plan.columns)

    def keys_of(self, batch: SourceBatch) -> pa.RecordBatch:
        """The keys of rows, as the target stores them."""
        return self._stored(batch, [column for column in self.plan.columns if column.name in self.plan.key])

    def _stored(self, batch: SourceBatch, columns: Sequence[ColumnPlan]) -> pa.RecordBatch:
        """Columns of rows as the target stores them."""
        made, _ = convert_columns(self._frame_of(batch), columns)
        return self.plan.target.storable(self.plan.target_table, made)[0]

    def rest(self) -> Iterator[Beaten]:
        """The rows that stay beaten."""
        return self.contest.settle() if self.contest is not None else iter(())

    def settle(self, beaten: Beaten, tally: Tally, rejects: list[Reject]) -> None:
        """Count rows that stay beaten: as rejects if the job rejects duplicates, else as superseded."""
        assert self.claims is not None
        tally.read += beaten.rows
        by_check = np.array([claim.check is not None for claim in self.claims.claims])[beaten.by]
        rejected = by_check | (self.plan.settings.duplicates == "reject")
        tally.superseded += int((~rejected).sum())
        if rejected.any():
            beaten = beaten.take(rejected)
            rows = self.stored_rows(beaten.batch)
            faults: Tagged = []
            for row, place in enumerate(beaten.by.tolist()):
                claim = self.claims.claims[place]
                values = [value_text(rows.column(name)[row].as_py(), rows.column(name).type) for name in claim.columns]
                faults.append(claim.fault(row, values))
            rejects += rejects_of(beaten.batch, faults)[0]

    def finish(self) -> Iterator[tuple[Tally, list[Reject]]]:
        """Write the rows that wait in the target, then the rows that follow refused ones; their counts and rejects."""
        contest = self.contest
        if contest is not None:
            superseded = contest.superseded()
            if len(superseded):
                self.rule.take_out(superseded)
                yield Tally(superseded=len(superseded)), []
        yield self.finish_rule()
        while contest is not None and contest.undecided:
            tally, rejects = Tally(), list[Reject]()
            for following in contest.next_round(self.kept):
                self._write_next(following, tally, rejects)
            tally.rejected = len(rejects)
            yield tally, rejects
            yield self.finish_rule()
        for beaten in self.rest():
            tally, rejects = Tally(), list[Reject]()
            self.settle(beaten, tally, rejects)
            tally.rejected = len(rejects)
            yield tally, rejects

    def finish_rule(self) -> tuple[Tally, list[Reject]]:
        """Write the rows that wait in the target; their counts and rejects."""
        written, tally = self.rule.finish(), Tally()
        add_writes(tally, written)
        rejects: list[Reject] = []
        if written.refused and self.kept is not None:
            found = sorted(written.refused, key=lambda row: row.place)
            first = 0
            for batch, places in self.kept.find([row.place for row in found]):
                said = found[first : first + len(places)]
                chosen = batch.take(np.array(places, dtype=np.intp))
                rows = self.stored_rows(chosen)
                numbered = [replace(row, place=place) for place, row in enumerate(said)]
                rejects += rejects_of(
                    chosen, refusals(numbered, rows, np.arange(len(said))), would_be=keys_in_target(self.plan, rows)
                )[0]
                if self.claims is not None and self.contest is not None:
                    waited = [row.place for row in said]
                    self.contest.note(RefusedKeys(self.claims.keys_of(rows), waited))
                first += len(places)
        tally.rejected = len(rejects)
        return tally, rejects + self._conflict_notices(written)

    def _conflict_notices(self, written: Written) -> list[Reject]:
        """What is listed of rows that were changed on both sides, both versions of each."""
        notices: list[Reject] = []
        if self.kept is None or not written.conflicting:
            return notices
        by_place = {conflict.place: conflict for conflict in written.conflicting}
        numbers = iter(sorted(by_place))
        for batch, places in self.kept.find(sorted(by_place)):
            for row in batch.row_texts(places):
                conflict = by_place[next(numbers)]
                value = ", ".join(f"{name} {text or 'NULL'}" for name, text in conflict.theirs.items())
                ends = "is overwritten, being older" if conflict.newer else "stays, not being older"
                message = f"the row of {self.plan.target_table.name} was changed too: {value}; it {ends}"
                notices.append(Reject(", ".join(conflict.theirs), Reason.CONFLICT, value, message, row))
        return notices
