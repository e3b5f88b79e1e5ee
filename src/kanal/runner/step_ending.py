"""The end of a step, after its rows are written: deletions, limits, watermarks and sequences; and its log."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.loading import Load
from kanal.core.change_values import change_value
from kanal.core.errors import KanalError
from kanal.core.frame import Frame, SourceBatch
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject, row_key, target_row
from kanal.core.tally import Tally
from kanal.core.transformation import convert_columns
from kanal.runlog import BatchRecord
from kanal.runner.limits import limit_deletes, limit_rejects, limits_deletes, require_rows
from kanal.runner.new_files import finish_files
from kanal.runner.prepared import Prepared
from kanal.runner.replay import NUMBER
from kanal.runner.stages import Rows
from kanal.runner.step_state import StepState
from kanal.runner.write_rules import Exchange, WriteRule


class StepEnding(StepState):
    """The part of a step that comes after its rows, before they are committed."""

    def after_commit(self) -> None:
        """Move or delete the loaded files, as the pipeline requires."""
        if self._files is not None and self.plan.takes_files:
            try:
                self.notes += finish_files(self.plan, self.job)
            except KanalError as error:
                self.notes.append(f"its files could not be seen to: {error.what}; the next run tries it again")

    def _delete_rest(self, rule: WriteRule, load: Load) -> None:
        """Delete rows that are missing in the source, after the rows that referred to them; list rows that stay."""
        deleted, left = rule.delete_rest()
        table = self.plan.target_table.name
        if left and self.plan.writing.rule.empties:
            first = ", ".join(f"{name} {value}" for name, value in left[0].items())
            raise KanalError(
                f"{len(left):,} rows of {table} that the source no longer has cannot be deleted, since rows of other "
                f"tables refer to them: {first}",
                'remove what refers to them first, for instance in the same job with commit = "job"',
            )
        rejects = []
        for key in left:
            said = f"the source no longer has this row of {table}, and it stays, since rows of other tables refer to it"
            value = ", ".join(text or "NULL" for text in key.values())
            where = ", ".join(key)
            rejects.append(Reject(where, Reason.NOT_DELETED, value, said, key, None, target_row(table, key)))
        if left:
            self.notes.append(f"{len(left):,} rows that the source no longer has stay, since others refer to them")
        if deleted or rejects:
            self._log(None, Tally(deleted=deleted), rejects, 0.0)
        self._limit_deletes(load)

    def _limit_deletes(self, load: Load) -> None:
        """Raise TooManyDeletes past the pipeline's limit."""
        plan, deleted = self.plan, self.tally.deleted + self._deleted
        if limits_deletes(plan, deleted):
            stay = plan.writing.rule.keeps_versions  # of a history, versions end, and none goes
            before = load.count(plan.target_table) - self.tally.inserted + (0 if stay else deleted)
            limit_deletes(plan, deleted, before)

    def _end(self, load: Load) -> None:
        """What is done once all rows are written, before they are committed."""
        if self._deleted:
            self._log(None, Tally(), [], 0.0)
        limit_rejects(self.plan, self.tally, final=True)
        if self.replayed is None:
            require_rows(self.plan, self.tally, self._rows_before)
        if self.plan.settings.last_sql:
            load.run_sql(self.plan.settings.last_sql)
        if self._increment is not None and self._writes:
            self._increment.move(load)
        if self._files is not None and not self.rehearsal:
            self._files.record(load)
        self._number_on(load)
        self.tally.require_balance()

    def _number_on(self, load: Load) -> None:
        """Let the sequence of the target continue after the loaded numbers."""
        if not self._writes:  # a sequence that was set stays so when all else is undone
            return
        notes = load.settle(self.plan.target_table, self.plan.writing.columns)
        self.notes += [note for note in notes if note not in self.notes]

    def _tell_moment(self, rule: WriteRule) -> None:
        """Tell a history what the run's moment is."""
        if self.plan.closing is not None:
            frame = Frame(SourceBatch(1, {}), {}, self.moment)
            rows, _ = convert_columns(frame, [self.plan.closing])
            rule.moment = self.plan.target.storable(self.plan.target_table, rows)[0]

    def _carried_back(self) -> Any:
        """The last change value that the other way of an exchange has carried, and the last one before which no change
        can come late; None if it has carried nothing."""
        exchange = self.plan.exchange
        found = exchange.journal.watermark(self.job, exchange.step) if exchange is not None else None
        if found is None or exchange is None:
            return None
        carried, overlap = change_value(found.watermark, exchange.since.change.type), exchange.since.overlap
        return carried, carried if found.is_settled(overlap) else carried - overlap

    def _tell_exchange(self, rule: WriteRule) -> None:
        """Give a merge the change values up to which its exchange has loaded in both directions."""
        exchange, increment, by = self.plan.exchange, self._increment, self.plan.settings.newer_by
        if exchange is None or increment is None or by is None:
            return
        theirs, settled = self._theirs or (None, None)

        def stored(value: Any) -> pa.RecordBatch | None:
            if value is None:
                return None
            (column,) = (column for column in self.plan.columns if column.name == by)
            row = pa.RecordBatch.from_arrays([pa.array([value]).cast(column.type.arrow)], names=[by])
            return self.plan.target.storable(self.plan.target_table, row)[0]

        rule.exchange = Exchange(stored(increment.watermark), stored(theirs), stored(settled))

    def _resolve(self, batch: SourceBatch, rows: Rows) -> None:
        """Note which rejects of earlier runs are rows that this one loads."""
        if self.earlier and self.plan.row_key and len(rows):
            texts = batch.row_texts(list(range(batch.rows)))
            for row in rows.tolist():
                self.resolved.update(self.earlier.get(row_key(texts[row], self.plan.row_key), ()))

    def _log(self, prepared: Prepared | None, tally: Tally, rejects: list[Reject], writing: float) -> None:
        if self.replayed is not None:
            for place, reject in enumerate(rejects):
                number = int(reject.row.pop(NUMBER) or 0)
                self.rejected_again.add(number)
                rejects[place] = replace(reject, again=number)
        if self._files is not None:
            self._files.rejected(rejects)
        tally.deleted, self._deleted = tally.deleted + self._deleted, 0
        self.tally.add(tally)
        self.batches += 1
        reading, computing = (prepared.batch.seconds, prepared.seconds) if prepared is not None else (0.0, 0.0)
        self._on_batch(BatchRecord(self.batches, tally, reading, computing, writing), rejects)
