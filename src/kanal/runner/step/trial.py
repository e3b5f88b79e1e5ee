"""Does all of a step but the writing."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing

from msgspec.structs import replace

from kanal.runner.stages import Batch, through
from kanal.runner.step.books import Books
from kanal.runner.step.context import StepContext
from kanal.runner.step.parts import StepParts
from kanal.runner.step.signal import StopSignal


class Trial:
    """A step that is tried out, with its books so far."""

    def __init__(self, context: StepContext) -> None:
        self.context = replace(context, trial=True)
        self.books = Books(self.context)

    def batches(self, limit: int | None = None) -> Iterator[Batch]:
        """The batches of the source, or of its first `limit` rows, as they would be written; raises KanalError."""
        parts = StepParts(self.context, self.books, StopSignal())
        reading = parts.plan.reading
        if limit is not None:
            reading = replace(reading, limit=min(limit, reading.limit or limit))
        with closing(parts), parts.batches(reading) as batches:
            for source in batches:
                batch = through([parts.compete], parts.prepare(source))
                for beaten in parts.compete.rest():
                    parts.compete.settle(beaten, batch.tally, batch.rejects)
                tally = batch.tally
                tally.rejected = len(batch.rejects)
                tally.withdrawn = 0 if batch.gone is None else int(batch.gone[batch.good].sum())
                tally.inserted = len(batch.good) - tally.withdrawn
                tally.superseded += len(batch.replacing)
                self.books.tally.add(tally)
                yield batch
