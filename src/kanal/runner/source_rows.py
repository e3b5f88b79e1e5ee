"""Reads the rows of a pipeline's source ahead, in the way that suits the source."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext
from functools import partial
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kanal.connections.base import as_file_source
from kanal.connections.loading import Load
from kanal.connections.reading import Breaker, Reading, Window
from kanal.core.frame import SourceBatch
from kanal.runner.incremental import Increment
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.new_files import NewFiles
from kanal.runner.replay import Rejected, batches_of
from kanal.runner.stream import evenly, in_turn, read_ahead, side_by_side, spooled, timed

#: So many connections read the parts of a split at most.
_READERS = 64

Batches = AbstractContextManager[Iterator[SourceBatch]]


class SourceRows(Struct, frozen=True):
    """The rows of a pipeline's source.

    `break_off` cancels a running statement. With `within`, the rows are read as this load sees them. `replayed` rows
    are read instead of the source. `increment` chooses the new rows, and `files` the new files.
    """

    plan: PipelinePlan
    break_off: Breaker
    within: Load | None = None
    replayed: Rejected | None = None
    increment: Increment | None = None
    files: NewFiles | None = None

    def batches(self, reading: Reading, everything: bool = False) -> Batches:
        """The batches of a reading; with `everything`, also of rows and files that are not new.

        They wait in a file if the load could not write while they are read.
        """
        plan, source = self.plan, self.plan.source
        if self.replayed is not None:
            return nullcontext(batches_of(plan, self.replayed))
        if not everything:
            reading = self._only_new(reading)
        if self.within is not None or source.shares_lock_with(plan.target, reading, plan.target_table):
            return self._spooled(reading)
        if plan.files_at_once > 1 and reading.limit is None and not everything:
            return self._files_in_turn(reading)
        if plan.split_by is not None and plan.settings.split is not None and not everything:
            return self._ranges_side_by_side(reading)
        return self._ahead(reading)

    def _only_new(self, reading: Reading) -> Reading:
        if self.files is not None:
            reading = replace(reading, table=self.files.table)
        return reading if self.increment is None else replace(reading, windows=self.increment.windows)

    @contextmanager
    def _ahead(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        source = self.plan.source
        with source.read(reading, None, self.break_off) as batches, read_ahead(timed(batches)) as ahead:
            yield ahead

    @contextmanager
    def _spooled(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        with ExitStack() as spool:
            with self.plan.source.read(reading, self.within, self.break_off) as batches:
                kept = spool.enter_context(spooled(timed(batches)))
            yield kept

    @contextmanager
    def _files_in_turn(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        source = as_file_source(self.plan.source)
        found = self.files.chosen if self.files is not None else source.files_of(reading.table)
        tables = [source.with_files(reading.table, [file]) for file in found]
        streams = [self._timed(replace(reading, table=table)) for table in tables]
        with in_turn(streams, self.plan.files_at_once) as ahead:
            yield ahead

    def _timed(self, reading: Reading) -> Iterator[SourceBatch]:
        with self.plan.source.read(reading, None, self.break_off) as batches:
            yield from timed(batches)

    @contextmanager
    def _ranges_side_by_side(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        plan, source = self.plan, self.plan.source
        assert plan.split_by is not None and plan.settings.split is not None
        parts = min(plan.settings.split.parts, _READERS)
        # If an index finds the ranges, there are more of them than readers, so that all readers end together.
        table = plan.reading.table
        indexed = any(key and key[0] == plan.split_by.name for key in (table.primary_key, *table.unique))
        windows = ranges(plan, parts * 8 if indexed else parts)
        readings = [replace(reading, windows=(*reading.windows, part)) for part in windows]
        common = plan.settings.split.snapshot == "common"
        with source.snapshot(reading.table, parts) if common else nullcontext([None] * parts) as connections:
            readers = [partial(self._read_by, connection) for connection in connections]
            with side_by_side(readings, readers) as ahead:
                yield ahead

    def _read_by(self, connection: Any, reading: Reading) -> Any:
        return self.plan.source.read(reading, None, self.break_off, connection)


def ranges(plan: PipelinePlan, parts: int) -> list[Window]:
    """Ranges of the column that a table is split by, which together are all of it."""
    column = plan.split_by
    assert column is not None
    cuts = evenly(*plan.source.bounds(plan.reading.table, column.name), parts)
    lows, highs = [None, *cuts], [*cuts, None]
    return [
        Window(column.name, low, high, with_null=low is None and column.nullable)
        for low, high in zip(lows, highs, strict=True)
    ]
