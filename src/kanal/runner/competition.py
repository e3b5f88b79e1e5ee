"""The competition of a step's rows for their keys, and the rows that follow refused ones."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence

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
from kanal.core.transformation import (
    ColumnPlan,
    convert_columns,
    rejects_of,
)
from kanal.runner.contest import ByTurns, Contest, Next
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.prepared import Prepared
from kanal.runner.set_aside import Beaten, SetAside
from kanal.runner.staged_rows import Mask
from kanal.runner.stages import Batch, LookUp, Rows, Tagged, keys_in_target, refusals, withdrawn
from kanal.runner.write_rules import WriteRule


class Competition:
    """The rows of a step that compete for their keys. `resolve` is called with the rows of a batch that are loaded."""

    def __init__(
        self,
        plan: PipelinePlan,
        moment: dt.datetime,
        look_up: LookUp,
        claims: Claims | None,
        resolve: Callable[[SourceBatch, Rows], None],
    ) -> None:
        self.plan = plan
        self.claims = claims
        #: The contest, if rows can compete; only the thread that writes uses it.
        self.contest: Contest | None = ByTurns(claims) if claims is not None else None
        #: The rows that wait in the target, as the source gave them.
        self.kept: SetAside[SourceBatch] | None = None
        self._moment = moment
        self._look_up = look_up
        self._resolve = resolve

    def compete(self, prepared: Prepared, rule: WriteRule | None) -> None:
        """Offer a batch's rows for their keys. Beaten rows are set aside and not written now."""
        contest, keyed = self.contest, prepared.keyed
        if contest is None or keyed is None:
            return
        offered = prepared.offered
        verdict = contest.offer(prepared.batch.take(offered), keyed)
        if verdict.accepted.all():
            return
        prepared.undecided = int((verdict.kept_back_by >= 0).sum())
        prepared.tally.read -= prepared.undecided  # counted once it is decided what becomes of them
        prepared.good, prepared.replacing = offered[verdict.accepted], offered[verdict.replacing]
        if rule is not None:
            prepared.encoded = rule.encode_some(prepared.encoded, verdict.accepted)

    def note_refusals(self, prepared: Prepared, refused: Sequence[int], over: Sequence[int]) -> None:
        """Tell the contest which of a batch's rows were refused, by their places among the good ones, and among those
        that replace others."""
        contest, keyed = self.contest, prepared.keyed
        if contest is None or keyed is None:
            return
        for chosen, places, replacing in ((prepared.good, refused, False), (prepared.replacing, over, True)):
            if places:
                contest.refused(keyed.take(np.isin(prepared.offered, chosen[list(places)])), replacing)
        if refused and prepared.encoded.numbers is not None:
            contest.refused_numbers(prepared.encoded.numbers[list(refused)].tolist())

    def _write_next(self, following: Next, rule: WriteRule, tally: Tally, rejects: list[Reject]) -> None:
        """Write rows whose turn it is, and count them."""
        assert self.contest is not None
        count = following.batch.rows
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
                self.contest.refused(keyed.take(places), over)
                if encoded.numbers is not None:
                    self.contest.refused_numbers(encoded.numbers[places].tolist())
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
        frame = self._look_up.take(Batch(batch)).frame
        assert frame is not None
        made, _ = convert_columns(frame, columns)
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

    def finish(self, rule: WriteRule) -> Iterator[tuple[Tally, list[Reject]]]:
        """Write the rows that wait in the target, then the rows that follow refused ones; their counts and rejects."""
        contest = self.contest
        if contest is not None:
            superseded = contest.superseded()
            if len(superseded):
                rule.take_out(superseded)
                yield Tally(superseded=len(superseded)), []
        yield self.finish_rule(rule)
        while contest is not None and contest.undecided:
            tally, rejects = Tally(), list[Reject]()
            for following in contest.next_round(self.kept):
                self._write_next(following, rule, tally, rejects)
            tally.rejected = len(rejects)
            yield tally, rejects
            yield self.finish_rule(rule)
        for beaten in self.rest():
            tally, rejects = Tally(), list[Reject]()
            self.settle(beaten, tally, rejects)
            tally.rejected = len(rejects)
            yield tally, rejects

    def finish_rule(self, rule: WriteRule) -> tuple[Tally, list[Reject]]:
        """Write the rows that wait in the target; their counts and rejects."""
        written, tally = rule.finish(), Tally()
        add_writes(tally, written)
        rejects: list[Reject] = []
        if written.refused and self.kept is not None:
            found = sorted(written.refused, key=lambda row: row.place)
            if self.contest is not None:
                self.contest.refused_numbers([row.place for row in found])
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
                    self.contest.refused(self.claims.keys_of(rows))
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
