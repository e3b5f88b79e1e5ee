"""The books of a step: rows read, written and rejected, and what is worth noting."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from kanal.connections.journal import Progress
from kanal.core.frame import SourceBatch
from kanal.core.rejects import Reject, row_key
from kanal.core.tally import Tally
from kanal.runlog import BatchRecord
from kanal.runner.new_files import NewFiles
from kanal.runner.replay import NUMBER
from kanal.runner.stages import Batch, Rows
from kanal.runner.step.context import StepContext


class Books:
    """Counts as the step goes. The writing thread alone adds to it."""

    def __init__(self, context: StepContext) -> None:
        self._context = context
        self.tally = Tally()
        self.batches = 0
        self.notes: list[str] = []
        #: The counts and the number of committed batches, if the step commits batch by batch.
        self.kept: Tally | None = None
        self.kept_batches = 0
        #: The numbers of replayed rows that were rejected again.
        self.rejected_again: set[int] = set()
        #: Rejects of earlier runs that this step loads.
        self.resolved: set[int] = set()
        #: Rows that the target had, if a share of them is required.
        self.rows_before = 0
        #: Deleted rows that no batch has counted yet.
        self.deleted = 0
        #: True during the commit, whose result is unknown if the connection fails.
        self.committing = False
        #: The new files, whose rejects are counted too.
        self.files: NewFiles | None = None

    def log(self, tally: Tally, rejects: list[Reject], batch: Batch | None = None, seconds: float = 0.0) -> None:
        """Add the counts and rejects of a batch, or of rows of several batches that took `seconds` to write."""
        if self._context.replayed is not None:
            for place, reject in enumerate(rejects):
                number = int(reject.row.pop(NUMBER) or 0)
                self.rejected_again.add(number)
                rejects[place] = replace(reject, again=number)
        if self.files is not None:
            self.files.rejected(rejects)
        tally.deleted, self.deleted = tally.deleted + self.deleted, 0
        self.tally.add(tally)
        self.batches += 1
        times = {"write": seconds} if batch is None else batch.times
        reading, writing = 0.0 if batch is None else batch.reading, times.get("write", 0.0)
        record = BatchRecord(self.batches, tally, reading, sum(times.values()) - writing, writing, times)
        self._context.on_batch(self.tally, record, rejects)

    def note(self, notes: Sequence[str]) -> None:
        """Add notes, each of them once."""
        self.notes += [note for note in notes if note not in self.notes]

    def resolve(self, batch: SourceBatch, rows: Rows) -> None:
        """Note which rejects of earlier runs are these rows of a batch, which are loaded."""
        earlier, key = self._context.earlier, self._context.plan.row_key
        if earlier and key and len(rows):
            texts = batch.row_texts(list(range(batch.rows)))
            for row in rows.tolist():
                self.resolved.update(earlier.get(row_key(texts[row], key), ()))

    def go_on_from(self, begun: Progress) -> None:
        """Continue after the batches that an earlier try has committed."""
        self.tally, self.batches = replace(begun.tally), begun.batches
        self.kept, self.kept_batches = replace(begun.tally), begun.batches

    def keep(self) -> None:
        """Note that all batches so far are committed."""
        self.kept, self.kept_batches = replace(self.tally), self.batches
