"""Loads each batch of a step in a transaction of its own, which records how far the source has been read."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager

import numpy as np
from msgspec.structs import replace

from kanal.connections.journal import Progress
from kanal.connections.loading import Load
from kanal.connections.reading import Position, Reading
from kanal.core.change_values import change_text
from kanal.core.errors import KanalError
from kanal.runner.limits import limit_rejects
from kanal.runner.stages import Batch, Encode, Write, through
from kanal.runner.step.ending import advance_sequence, check_deletes, end, set_exchange
from kanal.runner.step.parts import StepParts
from kanal.runner.write_rule import WriteRule
from kanal.runner.write_rules import rule_for


class ByBatches:
    """Batches are read ahead, and written one after the other."""

    def adapt(self, parts: StepParts) -> None:
        """Change the parts of the step before it begins."""

    def run(self, parts: StepParts) -> None:
        """Load and commit all batches, from the first that no earlier try has committed."""
        plan, books, begun = parts.plan, parts.books, parts.context.begun
        last: Position = () if begun is None else tuple(begun.last)
        with ExitStack() as stack:
            stack.enter_context(closing(parts))
            reading = plan.reading if begun is None else _after(parts, begun)
            batches = stack.enter_context(parts.batches(reading))
            stack.push(parts.signal.stop_reading)
            for source in batches:
                parts.signal.check()
                last = source.position
                batch = parts.prepare(source)
                if books.kept is None and plan.writing.rule.empties and batch.tally.read == batch.tally.filtered:
                    books.log(batch.tally, [], batch)  # the table is emptied for the first row that is wanted
                else:
                    _load_batch(parts, batch, last)
        with _load_for_batch(parts) as (load, _):
            end(parts, load)
            _commit(parts, load, last, done=True)


def _after(parts: StepParts, begun: Progress) -> Reading:
    """Continue after what an earlier try has committed: the reading of the rest."""
    books, reading, last = parts.books, parts.plan.reading, tuple(begun.last)
    books.go_on_from(begun)
    if parts.increment is not None:
        parts.increment.go_on(begun.greatest)
    if last and (parts.compete.claims is not None or parts.has_checks):
        _look_back(parts, replace(reading, after=last, up_to=True))
    books.notes.append(f"it went on after {begun.tally.read:,} rows that were committed before")
    return replace(reading, after=last)


def _look_back(parts: StepParts, reading: Reading) -> None:
    """Read committed rows again, for their keys; refused rows hold no key."""
    order = parts.plan.reading.order_by
    refused = {tuple(row.get(name) for name in order) for row in parts.context.refused_before}
    with parts.batches(reading) as batches:
        for batch in batches:
            parts.signal.check()
            keep = list(range(batch.rows))
            if refused:
                texts = batch.row_texts(keep)
                keep = [row for row in keep if tuple(texts[row][name] for name in order) not in refused]
            through([parts.compete], parts.prepare(batch.take(np.array(keep, dtype=np.intp))))
            for _ in parts.compete.rest():
                pass  # they were decided when their batch was committed


def _load_batch(parts: StepParts, batch: Batch, last: Position) -> None:
    """Load and commit a batch, up to this position in the source."""
    plan, books, compete = parts.plan, parts.books, parts.compete
    with _load_for_batch(parts) as (load, rule), compete.of_rule(rule):
        write = Write(plan, rule, compete.note_written, books.resolve)
        batch = through([Encode(rule), compete, write], batch)
        for tally, rejects in compete.finish():
            batch.tally.add(tally)
            batch.rejects += rejects
        # Logged first: an unnecessary reject is removed when the run is resumed, a missing one would be lost.
        books.log(batch.tally, batch.rejects, batch)
        limit_rejects(plan, books.tally, final=False)
        check_deletes(parts, load)
        advance_sequence(parts, load)
        parts.signal.check()
        _commit(parts, load, last)


@contextmanager
def _load_for_batch(parts: StepParts) -> Iterator[tuple[Load, WriteRule]]:
    """A transaction for one batch; the first one empties the target if the write rule does."""
    plan, first = parts.plan, parts.books.kept is None
    writing = replace(plan.writing, by_batch=True)
    if not first:
        writing = replace(writing, rule=writing.rule.adding())
    with plan.target.load() as load, parts.signal.writing.knows(load.cancel):
        parts.context.on_load(load)
        if first and plan.settings.first_sql:
            load.run_sql(plan.settings.first_sql)
        rule = rule_for(load, writing)
        if writing.rule.empties and rule.by_key:
            raise KanalError(
                f"rows of other tables refer to {plan.target_table.name}, so it cannot be emptied before its rows "
                "are loaded batch by batch",
                'set commit = "step", or write = "merge"',
            )
        parts.books.deleted = rule.begin().deleted
        set_exchange(parts, rule)
        yield load, rule


def _commit(parts: StepParts, load: Load, last: Position, done: bool = False) -> None:
    """Commit a batch, with a record of the position up to which the source was read."""
    greatest = parts.increment.greatest if parts.increment is not None else None
    greatest = None if greatest is None else change_text(greatest)
    parts.commit(load, Progress(parts.books.tally, parts.books.batches, last, done, greatest))
    parts.books.committing = False
    parts.books.keep()
