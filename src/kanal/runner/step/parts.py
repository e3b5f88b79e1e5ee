"""The parts of a step, built from its plan: what reads its rows, the list of its stages, and what competes for keys."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from typing import Any

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Column, Connection, Source
from kanal.connections.journal import Progress
from kanal.connections.loading import Load
from kanal.connections.reading import Reading
from kanal.core.change_values import change_value
from kanal.core.claims import Claim, Claims
from kanal.core.errors import KanalError
from kanal.core.frame import SourceBatch
from kanal.core.tally import Tally
from kanal.core.transformation import rejects_of_bad_lines
from kanal.runner.incremental import Increment
from kanal.runner.new_files import NewFiles, finish_files
from kanal.runner.own_lookups import OwnLookups
from kanal.runner.source_rows import SourceRows
from kanal.runner.stages import (
    Batch,
    Check,
    Compete,
    Convert,
    Encode,
    Fit,
    HoldBack,
    LookUp,
    OfferKeys,
    OnlyNew,
    OpenReferences,
    Stage,
    Where,
    through,
)
from kanal.runner.step.books import Books
from kanal.runner.step.context import StepContext
from kanal.runner.step.shared_load import SharedLoad
from kanal.runner.step.signal import StopSignal
from kanal.runner.write_rule import WriteRule


class StepParts:
    """What a step works with.

    A batch goes through the stages `arriving`, which choose its rows, then through `making`, which give them the form
    of the target. What happens to it afterwards depends on the write rule.
    """

    def __init__(
        self, context: StepContext, books: Books, signal: StopSignal, shared: SharedLoad | None = None
    ) -> None:
        """Find out what is new, and read what is looked up. With `shared`, the step is part of that transaction."""
        plan = self.plan = context.plan
        self.context, self.books, self.signal, self.shared = context, books, signal, shared
        books.notes = list(plan.notes)
        self.increment = self._what_is_new()
        self.files: NewFiles | None = None
        writes = not context.trial
        if plan.takes_files and context.replayed is None and writes:
            self.files = books.files = NewFiles.of(plan, context.job, context.run, context.moment)
            books.notes += self.files.notes
        #: In an exchange: how far the other direction has loaded. It is read before the source, which may be locked.
        self.carried_back = self._carried_back()
        self.rows = SourceRows(
            plan, signal.reading, self._within(plan.source), context.replayed, self.increment, self.files
        )
        names = plan.own_lookups
        self.own = OwnLookups(plan, names, context.moment) if names and writes else None
        emptied = self.own.names if self.own is not None and plan.empties else ()
        self.look_up = LookUp(plan, context.moment, self._read_columns, emptied)
        self.where = Where(plan, context.moment)
        self.hold_back = HoldBack(self.own, lambda: self.look_up.tables) if self.own is not None else None
        checks = [check.begin(self._read_columns) for check in plan.checks if not check.unique]
        self.has_checks = bool(checks)
        claims = self._claims()
        self.arriving: list[Stage] = [
            *([OnlyNew(plan, self.increment, context.moment)] if self.increment is not None else []),
            self.where,
            *([self.hold_back] if self.hold_back is not None else []),
        ]
        self.making: list[Stage] = [
            self.look_up,
            Convert(plan),
            Check(plan, checks, context.moment),
            Fit(plan),
            OpenReferences(plan, context.open_ends),
            OfferKeys(claims),
        ]
        self.compete = Compete(plan, context.moment, self.look_up.frame_of, claims, books.resolve)

    @contextmanager
    def batches(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        """The source's batches, read ahead, until as many rows have passed the filter as are wanted."""
        if self.where.left is not None:
            reading = replace(reading, limit=None if reading is self.plan.reading else reading.limit)
        with self.rows.batches(reading) as batches:
            yield batches if self.where.left is None else self._until_enough(batches)

    def prepare(self, source: SourceBatch, rule: WriteRule | None = None) -> Batch:
        """Take a batch of the source through the stages before the contest for its keys; encoded for a rule."""
        if self.files is not None:
            self.files.read(source)
        found = rejects_of_bad_lines(source)
        batch = Batch(source, Tally(read=len(found)), found, reading=source.seconds)
        return self.make(through(self.arriving, batch), rule)

    def make(self, batch: Batch, rule: WriteRule | None) -> Batch:
        """Take rows that are wanted through the rest of these stages."""
        return through(self.making if rule is None else [*self.making, Encode(rule)], batch)

    def keys_of_the_source(self) -> list[pa.RecordBatch]:
        """The keys of all rows of the source, new or not, as the target stores them; empty if they are not needed."""
        found: list[pa.RecordBatch] = []
        if self.plan.keys_reading is not None:
            with self.rows.batches(self.plan.keys_reading, everything=True) as batches:
                for batch in batches:
                    self.signal.check()
                    found.append(self.compete.keys_of(batch))
        return found

    def commit_all(self, load: Load) -> None:
        """Commit all of a step."""
        self.commit(load, Progress(self.books.tally, self.books.batches, done=True))
        self.after_commit()

    def commit(self, load: Load, progress: Progress) -> None:
        """Commit what a load has done, with a record of it in the target if the target keeps one."""
        if self.context.record is not None:
            self.context.record(load, progress)
        self.context.before_commit()
        self.books.committing = True
        load.commit()

    def after_commit(self) -> None:
        """Move or delete the loaded files, as the pipeline requires."""
        if self.files is not None and self.plan.takes_files:
            try:
                self.books.notes += finish_files(self.plan, self.context.job)
            except KanalError as error:
                self.books.notes.append(f"its files could not be seen to: {error.what}; the next run tries it again")

    def close(self) -> None:
        """Remove the rows that were set aside."""
        self.compete.close()
        if self.own is not None:
            self.own.close()

    def _until_enough(self, batches: Iterator[SourceBatch]) -> Iterator[SourceBatch]:
        while self.where.left:
            batch = next(batches, None)
            if batch is None:
                return
            yield batch

    def _claims(self) -> Claims | None:
        """The claims of rows on keys and unique values, if there are any."""
        plan = self.plan
        claims = [Claim(plan.key)] if plan.key else []
        claims += [Claim(check.unique, check.name) for check in plan.checks if check.unique]
        form = partial(plan.target.key_form, plan.target_table)
        return Claims(claims, form, plan.settings.duplicates == "last") if claims else None

    def _what_is_new(self) -> Increment | None:
        context, since = self.context, self.plan.since
        if since is None:
            return None
        found = Increment.of(self.plan, since, context.job, context.moment, context.keeps)
        self.books.notes.extend(found.notes)
        return found

    def _carried_back(self) -> Any:
        """The last change value that the other way of an exchange has carried, and the last one before which no change
        can come late; None if it has carried nothing."""
        exchange = self.plan.exchange
        found = exchange.journal.watermark(self.context.job, exchange.step) if exchange is not None else None
        if found is None or exchange is None:
            return None
        carried, overlap = change_value(found.watermark, exchange.since.change.type), exchange.since.overlap
        return carried, carried if found.is_settled(overlap) else carried - overlap

    def _read_columns(
        self, database: Source, table: TableInfo, columns: Sequence[str], within: Load | None = None
    ) -> dict[str, Column]:
        """Columns of a table, as a load sees them, or as the shared transaction does if it is in that database."""
        return database.read_columns(table, columns, within or self._within(database), self.signal.reading)

    def _within(self, database: Connection) -> Load | None:
        shared = self.shared
        return shared.load if shared is not None and shared.load.target.identity == database.identity else None
