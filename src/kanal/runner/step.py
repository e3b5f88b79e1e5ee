"""Runs one step: moves the rows of a pipeline in batches, within one transaction on the target."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from functools import partial

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Column, Connection, Source
from kanal.connections.journal import Progress
from kanal.connections.loading import Load
from kanal.connections.reading import Position, Reading
from kanal.core.change_values import change_text
from kanal.core.claims import Claim, Claims
from kanal.core.errors import KanalError
from kanal.core.frame import SourceBatch
from kanal.core.tally import Tally
from kanal.core.transformation import (
    rejects_of_bad_lines,
)
from kanal.runner.competition import Competition
from kanal.runner.contest import LastRow
from kanal.runner.incremental import Increment
from kanal.runner.limits import limit_rejects
from kanal.runner.new_files import NewFiles
from kanal.runner.own_lookups import OwnLookups
from kanal.runner.prepared import Prepared
from kanal.runner.set_aside import SetAside
from kanal.runner.source_rows import SourceRows
from kanal.runner.staged_rows import EncodedRows
from kanal.runner.stages import (
    Batch,
    Check,
    Convert,
    Fit,
    HoldBack,
    LookUp,
    OnlyNew,
    OpenReferences,
    Stage,
    Where,
    taken,
    through,
)
from kanal.runner.step_state import OnBatch, SharedLoad
from kanal.runner.step_writing import StepWriting
from kanal.runner.stream import (
    read_ahead,
)
from kanal.runner.write_rules import WriteRule, rule_for


class PipelineStep(StepWriting):
    """One execution of a pipeline, from reading to commit."""

    def run(self, on_batch: OnBatch, shared: SharedLoad | None = None) -> None:
        """Load all batches and commit them; raises KanalError, with the target as it was.

        In a transaction shared with other steps, neither commit it nor undo it.
        """
        self._on_batch = on_batch
        self._writes = not self.rehearsal
        self._begin(shared)
        if self.plan.settings.commits.by_batch:
            self._run_by_batches()
        else:
            self._run_as_one()

    def try_out(self, limit: int | None = None) -> Iterator[Prepared]:
        """Do all but write, for the first rows of the source or all of them."""
        self._writes = False
        self._begin(None)
        reading = self.plan.reading
        if limit is not None:
            reading = replace(reading, limit=min(limit, reading.limit or limit))
        with self._batches(reading) as batches:
            for batch in batches:
                self._go_on()
                prepared = self._prepare(batch)
                self._competition.compete(prepared, None)
                for beaten in self._competition.rest():
                    self._competition.settle(beaten, prepared.tally, prepared.rejects)
                prepared.tally.rejected = len(prepared.rejects)
                withdrawn = 0 if prepared.gone is None else int(prepared.gone[prepared.good].sum())
                prepared.tally.inserted = len(prepared.good) - withdrawn
                prepared.tally.withdrawn = withdrawn
                prepared.tally.superseded += len(prepared.replacing)
                self.tally.add(prepared.tally)
                yield prepared

    def _begin(self, shared: SharedLoad | None) -> None:
        """Read what is looked up, and find out what is new."""
        plan = self.plan
        self._shared = shared
        self.notes = list(plan.notes)
        self._increment = self._what_is_new()
        self._files = None
        if plan.takes_files and self.replayed is None and (self._writes or self.rehearsal):
            self._files = NewFiles.of(plan, self.job, self.number, self.moment)
            self.notes += self._files.notes
        self._theirs = self._carried_back()  # before the source is read, whose file it may be in
        self._source_rows = self._read_by()
        names = plan.own_lookups
        own = self._own = OwnLookups(plan, names, self.moment) if names and (self._writes or self.rehearsal) else None
        emptied = own.names if own is not None and plan.empties else ()
        self._look_up = LookUp(plan, self.moment, self._read_columns, emptied)
        self._where = Where(plan, self.moment)
        self._arriving = [OnlyNew(plan, self._increment, self.moment)] if self._increment is not None else []
        self._arriving += [self._where]
        self._arriving += [HoldBack(own, lambda: self._look_up.tables)] if own is not None else []
        checks = [check.begin(self._read_columns) for check in plan.checks if not check.unique]
        self._checked = bool(checks)
        self._making = [
            self._look_up,
            Convert(plan),
            Check(plan, checks, self.moment),
            Fit(plan),
            self._known_refusals(),
        ]
        claims = [Claim(plan.key)] if plan.key else []
        claims += [Claim(check.unique, check.name) for check in plan.checks if check.unique]
        last_wins = plan.settings.duplicates == "last"
        form = partial(plan.target.key_form, plan.target_table)
        claimed = Claims(claims, form, last_wins) if claims else None
        self._competition = Competition(plan, self.moment, self._look_up, claimed, self._resolve)
        self._deleted = 0

    def _run_as_one(self) -> None:
        """All batches in one transaction."""
        plan, shared = self.plan, self._shared
        keys = self._keys_of_the_source() if plan.keys_reading is not None else []
        with ExitStack() as stack:
            batches = None if self._may_move else stack.enter_context(self._batches(plan.reading))
            load = shared.load if shared is not None else stack.enter_context(plan.target.load())
            load.for_run(self.number, plan.name, self.moment)
            self.on_load(load)
            stack.enter_context(self._break.knows(load.cancel))
            rule = self._begin_rule(load)
            for rows in keys:
                rule.keep(rows)
            if self._own is not None:
                stack.enter_context(closing(self._own))
            competition = self._competition
            competition.kept = stack.enter_context(closing(SetAside[SourceBatch]())) if rule.gathers else None
            if competition.contest is not None:
                if plan.writing.last_wins:
                    competition.contest = LastRow()
                stack.enter_context(closing(competition.contest))
            if batches is not None or not self._moved(rule):
                batches = stack.enter_context(self._batches(plan.reading)) if batches is None else batches
                # One thread reads, one computes, this one writes.
                ready = stack.enter_context(read_ahead((self._prepare(batch, rule) for batch in batches), depth=1))
                stack.push(self._stop_reading)
                self._write_all(ready, rule)
            self._go_on()
            self._write_waiting(rule)
            started = time.perf_counter()
            for tally, rejects in self._competition.finish(rule):
                if tally != Tally() or rejects:
                    self._log(None, tally, rejects, time.perf_counter() - started)
                started = time.perf_counter()
            self._go_on()
            rule.complete()
            self.notes += rule.notes
            if shared is None or self.apart:
                self._delete_rest(rule, load)
            self._end(load)
            self._go_on()
            if shared is None:
                self._commit_as_one(load)
            else:
                self._hand_over(rule, shared)

    @property
    def _may_move(self) -> bool:
        """True if the target's engine may copy the rows by itself."""
        return self.plan.may_move and self.replayed is None and self.plan.keys_reading is None

    def _moved(self, rule: WriteRule) -> bool:
        """Let the target's engine copy the rows by itself; False if it did not, and changed nothing."""
        started = time.perf_counter()
        names = {column.name: str(column.unchanged) for column in self.plan.columns}
        written = rule.move(self.plan.reading.table, names)
        if written is not None and written.inserted:
            tally = Tally(read=written.inserted, inserted=written.inserted)
            self._log(None, tally, [], time.perf_counter() - started)
        return written is not None

    def _commit_as_one(self, load: Load) -> None:
        """Commit all of a step."""
        if self.record is not None:
            self.record(load, Progress(self.tally, self.batches, done=True))
        self.before_commit()
        self.committing = True
        load.commit()
        self.after_commit()

    def _begin_rule(self, load: Load) -> WriteRule:
        """The write rule, begun; in a shared transaction it may have been begun before."""
        plan, shared = self.plan, self._shared
        rule, deleted = (shared.emptied if shared else {}).get(plan.name, (None, 0))
        if plan.settings.first_sql:
            load.run_sql(plan.settings.first_sql)
        self._rows_before = deleted
        if rule is None:
            rule = rule_for(load, plan.writing)
            if isinstance(plan.settings.min_rows, str):
                self._rows_before = load.count(plan.target_table)
            deleted = rule.begin().deleted
        self._tell_moment(rule)
        self._tell_exchange(rule)
        self._deleted = deleted
        if plan.writing.rule.empties and rule.by_key:
            self.notes.append("rows of other tables refer to these, so they are replaced by their key")
        return rule

    def _hand_over(self, rule: WriteRule, shared: SharedLoad) -> None:
        """Leave to the shared transaction what is done once all its steps have loaded."""
        if self.apart:
            shared.load.verify()
        else:
            shared.deleting[self.plan.name] = partial(self._delete_rest, rule)
        if rule.left_open is not None:
            shared.left_open[self.plan.name] = rule
        shared.closing.append(rule)

    def _stop_reading(self, error: type[BaseException] | None, *_: object) -> None:
        """Stop the reader if the load has failed; it could continue for a long time."""
        if error is not None:
            self._break_reading()

    def _run_by_batches(self) -> None:
        """Each batch in a transaction of its own, which records how far the source has been read."""
        plan = self.plan
        assert self.record is not None
        reading = plan.reading
        last: Position = ()
        if self.begun is not None:
            last = tuple(self.begun.last)
            self.tally, self.batches = replace(self.begun.tally), self.begun.batches
            self.kept, self.kept_batches = replace(self.begun.tally), self.begun.batches
            if self._increment is not None:
                self._increment.go_on(self.begun.greatest)
            if last and (self._competition.claims is not None or self._checked):
                self._look_back(replace(reading, after=last, up_to=True))
            reading = replace(reading, after=last)
            self.notes.append(f"it went on after {self.kept.read:,} rows that were committed before")
        with ExitStack() as stack:
            batches = stack.enter_context(self._batches(reading))
            stack.push(self._stop_reading)
            for batch in batches:
                self._go_on()
                last = batch.position
                prepared = self._prepare(batch)
                if self.kept is None and plan.writing.rule.empties and prepared.tally.read == prepared.tally.filtered:
                    self._log(prepared, prepared.tally, [], 0.0)  # no row yet for which the table is to be emptied
                    continue
                with self._load_for_batch() as (load, rule):
                    self._encode(prepared, rule)
                    self._competition.compete(prepared, rule)
                    started = time.perf_counter()
                    kept = self._competition.kept = SetAside[SourceBatch]() if rule.gathers else None
                    tally, rejects = self._write(prepared, rule)
                    for more, found in self._competition.finish(rule):
                        tally.add(more)
                        rejects += found
                    if kept is not None:
                        kept.close()
                    # Logged first: a reject that was logged in vain is taken back, one that was not would be lost.
                    self._log(prepared, tally, rejects, time.perf_counter() - started)
                    limit_rejects(plan, self.tally, final=False)
                    self._limit_deletes(load)
                    self._number_on(load)
                    self._go_on()
                    self._commit(load, last)
        with self._load_for_batch() as (load, _):
            self._end(load)
            self._commit(load, last, done=True)

    def _commit(self, load: Load, last: Position, done: bool = False) -> None:
        assert self.record is not None
        greatest = self._increment.greatest if self._increment is not None else None
        greatest = None if greatest is None else change_text(greatest)
        self.record(load, Progress(self.tally, self.batches, last, done, greatest))
        self.before_commit()
        self.committing = True
        load.commit()
        self.committing = False
        self.kept, self.kept_batches = replace(self.tally), self.batches

    @contextmanager
    def _load_for_batch(self) -> Iterator[tuple[Load, WriteRule]]:
        """A transaction for one batch; the first one empties the target if the write rule does."""
        plan = self.plan
        writing = replace(plan.writing, by_batch=True)
        first = self.kept is None
        if not first:
            writing = replace(writing, rule=writing.rule.adding())
        with plan.target.load() as load, self._break.knows(load.cancel):
            self.on_load(load)
            if first and plan.settings.first_sql:
                load.run_sql(plan.settings.first_sql)
            rule = rule_for(load, writing)
            if writing.rule.empties and rule.by_key:
                raise KanalError(
                    f"rows of other tables refer to {plan.target_table.name}, so it cannot be emptied before its rows "
                    "are loaded batch by batch",
                    'set commit = "step", or write = "merge"',
                )
            self._deleted = rule.begin().deleted
            self._tell_exchange(rule)
            yield load, rule

    def _look_back(self, reading: Reading) -> None:
        """Read committed rows again, for their keys; refused rows hold no key."""
        order = self.plan.reading.order_by
        refused = {tuple(row.get(name) for name in order) for row in self.refused_before}
        with self._batches(reading) as batches:
            for batch in batches:
                self._go_on()
                keep = list(range(batch.rows))
                if refused:
                    texts = batch.row_texts(keep)
                    keep = [row for row in keep if tuple(texts[row][name] for name in order) not in refused]
                self._competition.compete(self._prepare(batch.take(np.array(keep, dtype=np.intp))), None)
                for _ in self._competition.rest():
                    pass  # they were decided when their batch was committed

    def _keys_of_the_source(self) -> list[pa.RecordBatch]:
        """The keys of all rows of the source, new or not, as the target stores them."""
        plan, found = self.plan, list[pa.RecordBatch]()
        assert plan.keys_reading is not None
        with self._source_rows.batches(plan.keys_reading, everything=True) as batches:
            for batch in batches:
                self._go_on()
                found.append(self._competition.keys_of(batch))
        return found

    def stop(self) -> None:
        """Ask, from another thread, that the step ends and is undone; a statement under way is broken off."""
        self._stop.set()
        self._break_reading()
        self._break()

    def _read_by(self) -> SourceRows:
        """What reads the source's rows."""
        within = self._within(self.plan.source)
        return SourceRows(self.plan, self._break_reading, within, self.replayed, self._increment, self._files)

    def _known_refusals(self) -> Stage:
        """The stage that rejects rows which the target has refused in an earlier try."""
        return OpenReferences(self.plan, self.open_ends)

    def _what_is_new(self) -> Increment | None:
        if self.plan.since is None:
            return None
        found = Increment.of(self.plan, self.plan.since, self.job, self.moment, self._writes)
        self.notes.extend(found.notes)
        return found

    def _read_columns(
        self, database: Source, table: TableInfo, columns: Sequence[str], within: Load | None = None
    ) -> dict[str, Column]:
        """Columns of a table, as a load sees them, or as the shared transaction does if it is in that database."""
        return database.read_columns(table, columns, within or self._within(database), self._break_reading)

    def _within(self, database: Connection) -> Load | None:
        shared = self._shared
        return shared.load if shared is not None and shared.load.target.identity == database.identity else None

    @contextmanager
    def _batches(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        """The source's batches, read ahead, until as many rows have passed the filter as are wanted."""
        if self._where.left is not None:
            reading = replace(reading, limit=None if reading is self.plan.reading else reading.limit)
        with self._source_rows.batches(reading) as batches:
            yield batches if self._where.left is None else self._until_enough(batches)

    def _until_enough(self, batches: Iterator[SourceBatch]) -> Iterator[SourceBatch]:
        while self._where.left:
            batch = next(batches, None)
            if batch is None:
                return
            yield batch

    def _prepare(self, batch: SourceBatch, rule: WriteRule | None = None) -> Prepared:
        """A batch's way up to the contest for its keys; encoded for a rule."""
        started = time.perf_counter()
        if self._files is not None:
            self._files.read(batch)
        found = rejects_of_bad_lines(batch)
        arrived = through(self._arriving, Batch(batch, Tally(read=len(found)), found))
        arrived.source.seconds = batch.seconds
        return self._made(arrived, rule, started)

    def _made(self, batch: Batch, rule: WriteRule | None, started: float) -> Prepared:
        """The rest of that way, of rows that are wanted."""
        made = through(self._making, batch)
        good = made.good
        claims = self._competition.claims
        keyed = claims.keys_of(taken(made.stored, good)) if claims is not None and len(good) else None
        prepared = Prepared(
            batch=made.source,
            made=made.made,
            rows=made.stored,
            encoded=EncodedRows(made.stored, None),
            offered=good,
            good=good,
            replacing=np.zeros(0, dtype=np.intp),
            bad=made.bad,
            tally=made.tally,
            rejects=made.rejects,
            seconds=0.0,
            keyed=keyed,
            gone=made.gone,
            held=made.held,
        )
        if rule is not None:
            self._encode(prepared, rule)
        prepared.seconds = time.perf_counter() - started
        return prepared

    def _encode(self, prepared: Prepared, rule: WriteRule) -> None:
        """Have the rows that may be written ready for a rule."""
        gone = None if prepared.gone is None else prepared.gone[prepared.offered]
        prepared.encoded = rule.encode(taken(prepared.rows, prepared.offered), gone)
        prepared.batch.forget()

    def _write_waiting(self, rule: WriteRule) -> None:
        """Write the rows that look up others of this load, once these are there."""
        own, gone_on = self._own, 1
        while own is not None and own.waiting.rows:
            started = time.perf_counter()
            tally, rejects = self._competition.finish_rule(rule)
            if tally != Tally() or rejects:
                self._log(None, tally, rejects, time.perf_counter() - started)
            self._look_up.read_again(own.names, rule.load)
            before, gone_on = gone_on, 0
            for batch in own.next_round(self._look_up.tables, before):
                self._go_on()
                started = time.perf_counter()
                waits = own.holds_back(batch, self._look_up.tables)
                own.waiting.add(batch.take(np.flatnonzero(waits)))
                free = batch.take(np.flatnonzero(~waits))
                gone_on += free.rows
                if free.rows:
                    prepared = self._made(Batch(free, Tally(read=free.rows)), rule, started)
                    self._competition.compete(prepared, rule)
                    self._write_one(prepared, rule)
