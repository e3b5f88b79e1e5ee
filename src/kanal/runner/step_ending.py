"""What a step does once its rows are written: deletions, limits, watermarks, sequences; and how it logs."""

from __future__ import annotations

import math
from typing import Any

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.loading import Load
from kanal.core.change_values import change_value
from kanal.core.errors import KanalError
from kanal.core.frame import Frame, SourceBatch
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject, target_row
from kanal.core.tally import Tally
from kanal.core.transformation import convert_columns
from kanal.definition.secrets import share_of
from kanal.runlog import BatchRecord
from kanal.runner.new_files import finish_files
from kanal.runner.replay import NUMBER
from kanal.runner.second_chances import SecondChances
from kanal.runner.step_state import Prepared
from kanal.runner.write_rules import Exchange, WriteRule


class TooManyRejects(KanalError):
    """More rows were rejected than the pipeline allows; the load is undone."""


class TooManyDeletes(KanalError):
    """More rows of the target would be deleted than the pipeline allows; the load is undone."""


class TooFewRows(KanalError):
    """The source gave fewer rows than the pipeline requires; the load is undone."""


class StepEnding(SecondChances):
    """The part of a step that comes after its rows, before they are committed."""

    def after_commit(self) -> None:
        """Do with the files that were loaded what the pipeline says."""
        if self._files is not None and self.plan.takes_files:
            try:
                self.notes += finish_files(self.plan, self.job)
            except KanalError as error:
                self.notes.append(f"its files could not be seen to: {error.what}; the next run tries it again")

    def _delete_rest(self, rule: WriteRule, load: Load) -> None:
        """Delete what is missing in the source, and what referred to it is gone by now; say which rows stay."""
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
        settings, tally = self.plan.settings, self.tally
        deleted = tally.deleted + self._deleted
        if settings.max_deletes is None or self.plan.writing.rule.empties or not deleted:
            return
        stay = self.plan.writing.rule.keeps_versions  # of a history, versions end, and none goes
        before = load.count(self.plan.target_table) - tally.inserted + (0 if stay else deleted)
        if not settings.allows_deletes(deleted, before):
            raise TooManyDeletes(
                f"{deleted:,} of {before:,} rows of {self.plan.target_table.name} would be deleted, more than "
                f"max_deletes = {settings.max_deletes} allows",
                "see with kanal compare which ones, and correct the source, or allow more",
            )

    def _end(self, load: Load) -> None:
        """What is done once all rows are written, before they are committed."""
        if self._deleted:
            self._log(None, Tally(), [], 0.0)
        self._limit_rejects(final=True)
        self._ask_for_rows()
        if self.plan.settings.last_sql:
            load.run_sql(self.plan.settings.last_sql)
        if self._increment is not None and self._writes:
            self._increment.move(load)
        if self._files is not None and not self.rehearsal:
            self._files.record(load)
        self._number_on(load)
        self.tally.require_balance()

    def _ask_for_rows(self) -> None:
        """Raise TooFewRows if the source has given fewer rows than the pipeline requires, or no rows for a table that
        is emptied and had some."""
        least, tally = self.plan.settings.min_rows, self.tally
        if self.replayed is not None or (least is None and not self.plan.writing.rule.empties):
            return
        came, table = tally.read - tally.filtered, self.plan.target_table.name
        if least is None:
            if not came and tally.deleted:
                raise TooFewRows(
                    f"the source gave no rows, and {table} has {tally.deleted:,}, which would all be gone",
                    "see what the source and the filter give, or set min_rows = 0 if the table may be emptied",
                )
            return
        wanted = least if isinstance(least, int) else math.ceil(share_of(least) * self._rows_before)
        if came < wanted:
            asked = f"{least:,}" if isinstance(least, int) else f"{least} of the {self._rows_before:,} of {table}"
            raise TooFewRows(
                f"the source gave {came:,} rows, fewer than min_rows = {asked}",
                "see what the source and the filter give, or set a smaller min_rows",
            )

    def _number_on(self, load: Load) -> None:
        """Have what numbers the target's rows go on after those that were loaded."""
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
        """Tell a merge up to where the exchange that it is one way of has carried changes."""
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

    def _limit_rejects(self, final: bool) -> None:
        """Raise TooManyRejects past the pipeline's limit; a share can only be judged at the end."""
        settings, rejected, read = self.plan.settings, self.tally.rejected, self.tally.read
        if final and settings.reject == "all" and rejected:
            raise TooManyRejects(
                f'{rejected:,} of {read:,} rows do not fit, and reject = "all" refuses the whole load for one',
                "see them with kanal rejects, and correct the source or the mapping",
            )
        if (final or not isinstance(settings.max_rejects, str)) and not settings.allows_rejects(rejected, read):
            raise TooManyRejects(
                f"{rejected:,} of {read:,} rows were rejected, more than max_rejects = {settings.max_rejects} allows",
                "see them with kanal rejects, and correct the source or the mapping",
            )

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
