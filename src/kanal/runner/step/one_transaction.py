"""Loads all rows of a step in one transaction, its own or one that it shares with other steps."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from functools import partial

import pyarrow as pa

from kanal.connections.loading import Load
from kanal.core.tally import Tally
from kanal.runner.limits import limit_rejects
from kanal.runner.stages import Batch, KeepHeld, Stage, Write, through
from kanal.runner.step.ending import delete_rest, end, set_exchange, set_moment
from kanal.runner.step.parts import StepParts
from kanal.runner.step.sending import Sending
from kanal.runner.step.shared_load import SharedLoad
from kanal.runner.stream import read_ahead
from kanal.runner.write_rule import WriteRule
from kanal.runner.write_rules import rule_for


class OneTransaction:
    """One thread reads, one takes batches through the stages, and this one writes."""

    def adapt(self, parts: StepParts) -> None:
        """Change the parts of the step before it begins."""

    def run(self, parts: StepParts) -> None:
        """Load all rows, and commit them unless the transaction is shared."""
        keys = self.keys(parts)
        with ExitStack() as stack:
            stack.enter_context(closing(parts))
            # The source is opened before the load, since it may be in the same file.
            batches = None if self.may_move(parts) else stack.enter_context(parts.batches(parts.plan.reading))
            load = parts.shared.load if parts.shared is not None else stack.enter_context(parts.plan.target.load())
            stack.enter_context(announced(parts, load))
            rule = self.begin_rule(parts, load)
            for rows in keys:
                rule.keep(rows)
            stack.enter_context(parts.compete.of_rule(rule, parts.plan.writing.last_wins))
            sending = self._sending(parts, rule)
            if batches is not None or not _moved(parts, rule):
                batches = stack.enter_context(parts.batches(parts.plan.reading)) if batches is None else batches
                ready = stack.enter_context(read_ahead((parts.prepare(batch, rule) for batch in batches), depth=1))
                stack.push(parts.signal.stop_reading)
                sending.write_all(ready)
            parts.signal.check()
            _write_waiting(parts, rule, sending)
            _log_rest(parts)
            parts.signal.check()
            rule.complete()
            parts.books.notes += rule.notes
            if parts.shared is None or parts.context.apart:
                delete_rest(parts, rule, load)
            self.end(parts, load)
            parts.signal.check()
            if parts.shared is None:
                parts.commit_all(load)
            else:
                _hand_over(parts, rule, parts.shared)

    def may_move(self, parts: StepParts) -> bool:
        """True if the target's engine may copy the rows by itself."""
        return parts.plan.may_move and parts.context.replayed is None and parts.plan.keys_reading is None

    def keys(self, parts: StepParts) -> list[pa.RecordBatch]:
        """The keys of the rows that the target may keep, if rows that are missing in the source are deleted."""
        return parts.keys_of_the_source()

    def begin_rule(self, parts: StepParts, load: Load) -> WriteRule:
        """The write rule, begun; in a shared transaction it may have been begun before."""
        plan, books = parts.plan, parts.books
        rule, deleted = (parts.shared.emptied if parts.shared else {}).get(plan.name, (None, 0))
        if plan.settings.first_sql:
            load.run_sql(plan.settings.first_sql)
        books.rows_before = deleted
        if rule is None:
            rule = rule_for(load, plan.writing)
            if isinstance(plan.settings.min_rows, str):
                books.rows_before = load.count(plan.target_table)
            deleted = rule.begin().deleted
        set_moment(parts, rule)
        set_exchange(parts, rule)
        books.deleted = deleted
        if plan.writing.rule.empties and rule.by_key:
            books.notes.append("rows of other tables refer to these, so they are replaced by their key")
        return rule

    def end(self, parts: StepParts, load: Load) -> None:
        """Do what follows the rows, before the commit."""
        end(parts, load)

    def _sending(self, parts: StepParts, rule: WriteRule) -> Sending:
        compete, books = parts.compete, parts.books

        def log(batch: Batch) -> None:
            books.log(batch.tally, batch.rejects, batch)
            limit_rejects(parts.plan, books.tally, final=False)

        before: list[Stage] = []
        if parts.own is not None:
            before.append(KeepHeld(parts.own, lambda held: rule.keep(compete.keys_of(held))))
        write = Write(parts.plan, rule, compete.note_written, books.resolve)
        return Sending(compete, before, write, log, parts.signal.check)


@contextmanager
def announced(parts: StepParts, load: Load) -> Iterator[None]:
    """Let a load know its run, and let the run stop it."""
    context = parts.context
    load.for_run(context.run, parts.plan.name, context.moment)
    context.on_load(load)
    with parts.signal.writing.knows(load.cancel):
        yield


def _moved(parts: StepParts, rule: WriteRule) -> bool:
    """Let the target's engine copy the rows by itself; False if it did not, and changed nothing."""
    started = time.perf_counter()
    names = {column.name: str(column.unchanged) for column in parts.plan.columns}
    written = rule.move(parts.plan.reading.table, names)
    if written is not None and written.inserted:
        tally = Tally(read=written.inserted, inserted=written.inserted)
        parts.books.log(tally, [], seconds=time.perf_counter() - started)
    return written is not None


def _write_waiting(parts: StepParts, rule: WriteRule, sending: Sending) -> None:
    """Write the rows that look up others of this load, once these are there."""
    own, hold_back, released = parts.own, parts.hold_back, 1
    while own is not None and hold_back is not None and own.waiting.rows:
        started = time.perf_counter()
        tally, rejects = parts.compete.finish_rule()
        if tally != Tally() or rejects:
            parts.books.log(tally, rejects, seconds=time.perf_counter() - started)
        parts.look_up.read_again(own.names, rule.load)
        before, released = released, 0
        for source in own.next_round(parts.look_up.tables, before):
            parts.signal.check()
            batch = through([hold_back], Batch(source, Tally(read=source.rows)))
            if batch.held is not None:
                own.waiting.add(batch.held)
                batch.held = None
            released += batch.source.rows
            if batch.source.rows:
                sending.write_one(through([parts.compete], parts.make(batch, rule)))


def _log_rest(parts: StepParts) -> None:
    """Write and log the rows that wait in the target, and those that follow refused ones."""
    started = time.perf_counter()
    for tally, rejects in parts.compete.finish():
        if tally != Tally() or rejects:
            parts.books.log(tally, rejects, seconds=time.perf_counter() - started)
        started = time.perf_counter()


def _hand_over(parts: StepParts, rule: WriteRule, shared: SharedLoad) -> None:
    """Leave to the shared transaction what follows once all its steps have loaded."""
    if parts.context.apart:
        shared.load.verify()
    else:
        shared.deleting[parts.plan.name] = partial(delete_rest, parts, rule)
    if rule.left_open is not None:
        shared.left_open[parts.plan.name] = rule
    shared.closing.append(rule)
