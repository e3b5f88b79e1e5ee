"""What becomes of rows whose keys others had, once those others were refused."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.loading import Written
from kanal.core.arrays import mask_of
from kanal.core.claims import Keyed
from kanal.core.faults import value_text
from kanal.core.frame import Frame, SourceBatch
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject, row_key
from kanal.core.tally import Tally, add_writes
from kanal.core.transformation import (
    ColumnPlan,
    convert_columns,
    look_up,
    rejects_of,
)
from kanal.runner.staged_rows import Mask
from kanal.runner.step_state import Prepared, Rows, StepState, Tagged, refusals
from kanal.runner.stream import Waiting
from kanal.runner.write_rules import WriteRule


class SecondChances(StepState):
    """The part of a step that sees to rows that were kept back, and to those that the target refuses."""

    def _after_refusals(
        self,
        prepared: Prepared,
        rule: WriteRule,
        places: list[int],
        over: list[int],
        tally: Tally,
        rejects: list[Reject],
    ) -> None:
        """See to rows that were kept back, some of whose keys may be theirs now that others were refused."""
        waiting, keyed = prepared.waiting, prepared.keyed
        if keyed is None or self._claims is None:
            return
        lost = np.zeros(len(keyed.hashes[0]), dtype=np.bool_)
        lost[places] = True
        if self._claims.last_wins and (over or not rule.gathers):
            # The row before it in the batch counts then; a row of an earlier batch stays as it is.
            lost[[len(prepared.good) + row for row in over]] = True
            if waiting is not None:
                waiting = self._try_again(waiting, keyed.take(lost), bool(over), rule, tally, rejects)
            if not rule.gathers:
                if waiting is not None:
                    self._settle(waiting, tally, rejects)
                tally.rejected = len(rejects)
                return
        if places and self._claims.last_wins:
            self._unstaged += [prepared.encoded.first + place for place in places]
        elif places:
            self._freed.append(keyed.take(lost))
        if waiting is not None:
            place = self._kept.rows - len(prepared.good) - len(prepared.replacing) if self._kept is not None else 0
            self._spool.add(replace(waiting, place=place))

    def _try_again(
        self, waiting: Waiting, lost: Keyed, over: bool, rule: WriteRule, tally: Tally, rejects: list[Reject]
    ) -> Waiting:
        """Write, of rows that were kept back, the last ones whose keys were lost by others; the rest."""
        assert self._claims is not None
        while len(lost.hashes[0]) and waiting.batch.rows:
            candidates = np.isin(waiting.keyed.hashes[0], lost.hashes[0]) & waiting.keyed.valid[0]
            self._claims.release(lost)
            chosen = np.zeros(waiting.batch.rows, dtype=np.bool_)
            chosen[candidates] = self._claims.second_chance(waiting.keyed.take(candidates))
            if not chosen.any():
                break
            rows, keyed = waiting.batch.take(np.flatnonzero(chosen)), waiting.keyed.take(chosen)
            waiting = waiting.without(chosen)
            refused = self._write_rows(rows, rule, over, tally, rejects)
            lost = keyed.take(refused)
        else:
            self._claims.release(lost)
        return waiting

    def _write_rows(
        self, batch: SourceBatch, rule: WriteRule, over: bool, tally: Tally, rejects: list[Reject]
    ) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
        """Write rows that are known to fit, and count them; which of them were refused."""
        rows = self._stored_rows(batch)
        tally.read += batch.rows
        if over:
            written = rule.replace(rule.encode_replacing(rows, self._gone_of(batch)))
            tally.superseded += written.updated + written.unchanged
            written = replace(written, updated=0, unchanged=0)
        else:
            written = rule.write(rule.encode(rows, self._gone_of(batch)))
        add_writes(tally, written)
        rejects += rejects_of(
            batch, refusals(written.refused, rows, np.arange(batch.rows)), would_be=self._would_be(rows)
        )[0]
        refused = np.zeros(batch.rows, dtype=np.bool_)
        refused[[row.place for row in written.refused]] = True
        self._resolve(batch, np.flatnonzero(~refused))
        return refused

    def _gone(self, frame: Frame) -> tuple[Mask | None, Tagged]:
        """Which rows say that the target's row of their key is to go, and the faults of those that do not tell."""
        if self.plan.delete_when is None:
            return None, []
        gone = mask_of(frame.array(self.plan.delete_when.node.evaluate(frame)))
        return gone, [(None, fault) for fault in frame.collect()]

    def _gone_of(self, batch: SourceBatch) -> Mask | None:
        return self._gone(Frame(batch, self.plan.source_types, self.moment))[0]

    def _stored_rows(self, batch: SourceBatch) -> pa.RecordBatch:
        """Rows as the target stores them, of a batch that has come through once before."""
        return self._stored(batch, self.plan.columns)

    def _keys_of(self, batch: SourceBatch) -> pa.RecordBatch:
        """The keys of rows, as the target stores them."""
        return self._stored(batch, [column for column in self.plan.columns if column.name in self.plan.key])

    def _stored(self, batch: SourceBatch, columns: Sequence[ColumnPlan]) -> pa.RecordBatch:
        """Columns of rows as the target stores them."""
        frame = Frame(batch, self.plan.source_types, self.moment)
        for lookup, table in self._lookups:
            look_up(frame, lookup, table)
        made, _ = convert_columns(frame, columns)
        return self.plan.target.storable(self.plan.target_table, made)[0]

    def _settle(self, waiting: Waiting, tally: Tally, rejects: list[Reject]) -> None:
        """Count rows that stand back for good, those that the job rejects among the rejects."""
        if not waiting.batch.rows:
            return
        assert self._claims is not None
        tally.read += waiting.batch.rows
        by_check = np.array([claim.check is not None for claim in self._claims.claims])[waiting.kept_back_by]
        rejected = np.flatnonzero(by_check | (self.plan.settings.duplicates == "reject"))
        tally.superseded += waiting.batch.rows - len(rejected)
        if len(rejected):
            batch = waiting.batch if len(rejected) == waiting.batch.rows else waiting.batch.take(rejected)
            rows = self._stored_rows(batch)
            faults: Tagged = []
            for row, place in enumerate(waiting.kept_back_by[rejected].tolist()):
                claim = self._claims.claims[place]
                values = [value_text(rows.column(name)[row].as_py(), rows.column(name).type) for name in claim.columns]
                faults.append(claim.fault(row, values))
            rejects += rejects_of(batch, faults)[0]

    def _finish(self, rule: WriteRule) -> Iterator[tuple[Tally, list[Reject]]]:
        """What becomes of rows that the rule has put by, and then of those that were kept back."""
        refused: list[int] = []
        yield self._finish_rule(rule, refused)
        refused = sorted([*refused, *self._unstaged])
        if self._claims is not None and self._claims.last_wins and rule.gathers:
            while refused and self._any_doubled():
                kept, spooled_rows = self._put_earlier_rows(rule, refused)
                if not kept + spooled_rows:
                    break
                refused = []
                tally, rejects = self._finish_rule(rule, refused)
                # What counts now was counted as superseded, or not yet.
                tally.superseded -= kept
                tally.read += spooled_rows
                yield tally, rejects
        while self._freed and self._claims is not None:
            for lost in self._freed:
                self._claims.release(lost)
            self._freed.clear()
            tally, rejects = Tally(), list[Reject]()
            for waiting in self._spool.taken():
                chosen = self._claims.second_chance(waiting.keyed)
                if chosen.any():
                    keyed = waiting.keyed.take(chosen)
                    picked = waiting.batch.take(np.flatnonzero(chosen))
                    if self._kept is not None:
                        self._kept.add(picked)
                    found = self._write_rows(picked, rule, False, tally, rejects)
                    if found.any():
                        self._freed.append(keyed.take(found))
                self._spool.add(waiting.without(chosen))
            tally.rejected = len(rejects)
            yield tally, rejects
            refused = []
            yield self._finish_rule(rule, refused)
        for waiting in self._spool.taken():
            tally, rejects = Tally(), list[Reject]()
            self._settle(waiting, tally, rejects)
            tally.rejected = len(rejects)
            yield tally, rejects

    def _any_doubled(self) -> bool:
        return self.tally.superseded > 0 or self._spool.rows > 0

    def _put_earlier_rows(self, rule: WriteRule, refused: list[int]) -> tuple[int, int]:
        """Of a merge in which the last row of a key counts: in the place of rows that the target refused, put those
        before them; how many had been put by before, and how many had been kept back."""
        assert self._kept is not None and self._claims is not None
        self._never |= set(refused)
        wanted: set[int] = set()
        for batch, places in self._kept.find(refused):
            rows = self._stored_rows(batch.take(np.array(places, dtype=np.intp)))
            wanted |= set(self._claims.keys_of(rows).hashes[0].tolist())
        found: list[SourceBatch] = []
        counts = [0, 0]
        left: list[Waiting] = []
        # Within a batch, the rows that were kept back came before the row that then counted.
        spooled_rows = list(self._spool.taken())
        sources: list[tuple[int, int, Waiting | SourceBatch]] = [(w.place, 1, w) for w in spooled_rows]
        sources += [(first, 0, batch) for first, batch in self._kept.backwards()]
        for first, kind, source in sorted(sources, key=lambda one: one[:2], reverse=True):
            if isinstance(source, Waiting):
                waiting, batch, keyed = source, source.batch, source.keyed
            else:
                waiting, batch, keyed = None, source, self._claims.keys_of(self._stored_rows(source))
            chosen = np.zeros(batch.rows, dtype=np.bool_)
            for row in reversed(np.flatnonzero(np.isin(keyed.hashes[0], list(wanted)) & keyed.valid[0]).tolist()):
                key = int(keyed.hashes[0][row])
                if key in wanted and (kind or first + row not in self._never):
                    wanted.discard(key)
                    self._never |= set() if kind else {first + row}
                    chosen[row] = True
            if chosen.any():
                found.append(batch.take(np.flatnonzero(chosen)))
                counts[kind] += int(chosen.sum())
            if waiting is not None:
                left.append(waiting.without(chosen))
        for waiting in sorted(left, key=lambda one: one.place):
            self._spool.add(waiting)
        for batch in found:
            self._kept.add(batch)
            rule.write(rule.encode(self._stored_rows(batch), self._gone_of(batch)))
        return counts[0], counts[1]

    def _finish_rule(self, rule: WriteRule, refused: list[int]) -> tuple[Tally, list[Reject]]:
        """What becomes of rows that the rule has put by; the numbers of those that the target refused are added."""
        written, tally = rule.finish(), Tally()
        add_writes(tally, written)
        rejects: list[Reject] = []
        if written.refused and self._kept is not None:
            found = sorted(written.refused, key=lambda row: row.place)
            refused += [row.place for row in found]
            first = 0
            for batch, places in self._kept.find([row.place for row in found]):
                said = found[first : first + len(places)]
                chosen = batch.take(np.array(places, dtype=np.intp))
                rows = self._stored_rows(chosen)
                numbered = [replace(row, place=place) for place, row in enumerate(said)]
                rejects += rejects_of(
                    chosen, refusals(numbered, rows, np.arange(len(said))), would_be=self._would_be(rows)
                )[0]
                if self._claims is not None and not self._claims.last_wins:
                    self._freed.append(self._claims.keys_of(rows))
                first += len(places)
        tally.rejected = len(rejects)
        return tally, rejects + self._conflict_notices(written)

    def _conflict_notices(self, written: Written) -> list[Reject]:
        """What is listed of rows that were changed on both sides, both versions of each."""
        notices: list[Reject] = []
        if self._kept is None or not written.conflicting:
            return notices
        by_place = {conflict.place: conflict for conflict in written.conflicting}
        numbers = iter(sorted(by_place))
        for batch, places in self._kept.find(sorted(by_place)):
            for row in batch.row_texts(places):
                conflict = by_place[next(numbers)]
                value = ", ".join(f"{name} {text or 'NULL'}" for name, text in conflict.theirs.items())
                ends = "is overwritten, being older" if conflict.newer else "stays, not being older"
                message = f"the row of {self.plan.target_table.name} was changed too: {value}; it {ends}"
                notices.append(Reject(", ".join(conflict.theirs), Reason.CONFLICT, value, message, row))
        return notices

    def _resolve(self, batch: SourceBatch, *chosen: Rows) -> None:
        """Note which rejects of earlier runs are rows that this one loads."""
        if self.earlier and self.plan.row_key and batch.rows:
            texts = batch.row_texts(list(range(batch.rows)))
            for rows in chosen:
                for row in rows.tolist():
                    self.resolved.update(self.earlier.get(row_key(texts[row], self.plan.row_key), ()))
