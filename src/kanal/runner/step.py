"""Runs one step: moves the rows of a pipeline in batches, within one transaction on the target."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import mask_of
from kanal.core.errors import KanalError
from kanal.core.faults import Fault
from kanal.core.frame import Frame, SourceBatch
from kanal.core.keys import SeenKeys, last_of_each
from kanal.core.lookups import LookupTable
from kanal.core.newness import change_text
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.core.transformation import (
    LookupPlan,
    check_rows,
    convert_columns,
    filter_rows,
    look_up,
    rejects_of,
)
from kanal.databases import TableInfo
from kanal.databases.base import Database
from kanal.databases.load import Load
from kanal.databases.progress import Progress
from kanal.databases.reading import Breaker, Reading, Window
from kanal.runlog import BatchRecord
from kanal.runner.newness import Newness
from kanal.runner.plans import PipelinePlan
from kanal.runner.replay import NUMBER, Rejected, batches_of
from kanal.runner.stream import KeptRows, evenly, read_ahead, side_by_side, spooled, timed
from kanal.runner.write_rules import Append, Packed, Truncate, Written, rule_for

#: Called after each batch with its counts and seconds, and its rejects.
OnBatch = Callable[[BatchRecord, list[Reject]], None]
_Tagged = list[tuple[str | None, Fault]]
Rows = np.ndarray[tuple[int], np.dtype[np.intp]]


class Stopped(KanalError):
    """The run was asked to stop; the step was undone."""

    def __init__(self) -> None:
        super().__init__("interrupted; its rows were rolled back")


class TooManyRejects(KanalError):
    """More rows were rejected than the pipeline allows; the load is undone."""


@dataclass
class Prepared:
    """A batch ready to be written: its rows, which of them, which over earlier rows of the load, and which not.

    `made` are the rows as the mapping makes them, `rows` the same as the target stores them.
    """

    batch: SourceBatch
    made: pa.RecordBatch
    rows: pa.RecordBatch
    packed: Packed
    packed_over: Packed
    good: Rows
    replacing: Rows
    bad: Rows
    tally: Tally
    rejects: list[Reject]
    seconds: float


@dataclass
class SharedLoad:
    """One transaction for several steps; the write rules, by step, of those whose targets have been emptied."""

    load: Load
    emptied: dict[str, tuple[Append, int]] = field(default_factory=dict)

    def empty(self, plan: PipelinePlan) -> None:
        """Empty the target of a step that does so, before any of the steps loads."""
        rule = rule_for(self.load, plan.writing)
        if isinstance(rule, Truncate):
            self.emptied[plan.name] = rule, rule.begin().deleted


@dataclass
class PipelineStep:
    """One execution of a pipeline. `tally` counts as it goes."""

    plan: PipelinePlan
    moment: dt.datetime
    job: str
    tally: Tally = field(default_factory=Tally)
    batches: int = 0
    notes: list[str] = field(default_factory=list)
    #: Rejected rows to be read instead of the source, and of them those that were rejected again.
    replayed: Rejected | None = None
    rejected_again: set[int] = field(default_factory=set)
    #: What an earlier try has committed, of a step that commits batch by batch.
    begun: Progress | None = None
    #: Records, within a load, what is committed with it.
    record: Callable[[Load, Progress], None] | None = None
    #: Called at last before the commit.
    before_commit: Callable[[], None] = lambda: None
    #: The counts of what is committed, of a step that commits batch by batch.
    kept: Tally | None = None
    _writes: bool = True
    _stop: threading.Event = field(default_factory=threading.Event)
    _break: Breaker = field(default_factory=Breaker)

    def run(self, on_batch: OnBatch, shared: SharedLoad | None = None) -> None:
        """Load all batches and commit them; raises KanalError, with the target as it was.

        In a transaction shared with other steps, neither commit it nor undo it.
        """
        self._on_batch = on_batch
        self._begin(shared)
        if self.plan.settings.commit == "batch":
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
                prepared.tally.rejected = len(prepared.rejects)
                prepared.tally.inserted = len(prepared.good)
                prepared.tally.superseded += len(prepared.replacing)
                self.tally.add(prepared.tally)
                yield prepared

    def _begin(self, shared: SharedLoad | None) -> None:
        """Read what is looked up, and find out what is new."""
        plan = self.plan
        self._shared = shared
        self.notes = list(plan.notes)
        self._newness = self._what_is_new()
        self._lookups = [
            (lookup, self._lookup_table(lookup, database, table)) for lookup, database, table in plan.lookups
        ]
        self._checks = [check.begin(self._read_columns) for check in plan.checks]
        self._seen = SeenKeys() if plan.key else None

    def _run_as_one(self) -> None:
        """All batches in one transaction."""
        plan, shared = self.plan, self._shared
        with ExitStack() as stack:
            batches = stack.enter_context(self._batches(plan.reading))
            load = shared.load if shared is not None else stack.enter_context(plan.target.load())
            self._break.add(load.cancel)
            rule, deleted = (shared.emptied if shared else {}).get(plan.name, (None, 0))
            if plan.settings.first_sql:
                load.run_sql(plan.settings.first_sql)
            if rule is None:
                rule = rule_for(load, plan.writing)
                deleted = rule.begin().deleted
            self.tally.deleted += deleted
            if plan.settings.write == "truncate" and rule.gathers:
                self.notes.append("rows of other tables refer to these, so they are replaced by their key")
            self._kept = KeptRows() if rule.gathers else None
            if self._kept is not None:
                stack.callback(self._kept.close)
            # One thread reads, one computes, this one writes.
            ready = stack.enter_context(read_ahead((self._prepare(batch, rule) for batch in batches), depth=1))
            for prepared in ready:
                self._go_on()
                started = time.perf_counter()
                tally, rejects = self._write(prepared, rule)
                self._log(prepared, tally, rejects, time.perf_counter() - started)
                self._limit_rejects(final=False)
            self._go_on()
            started = time.perf_counter()
            tally, rejects = self._finish(rule)
            if tally != Tally() or rejects:
                self._log(None, tally, rejects, time.perf_counter() - started)
            self._end(load)
            self._go_on()
            if shared is None:
                if self.record is not None:
                    self.record(load, Progress(self.tally, self.batches, done=True))
                self.before_commit()
                load.commit()
            else:
                rule.close()

    def _run_by_batches(self) -> None:
        """Each batch in a transaction of its own, which records how far the source has been read."""
        plan = self.plan
        assert self.record is not None
        self._kept = None
        reading = plan.reading
        last: tuple[int | str, ...] = ()
        if self.begun is not None:
            last = tuple(self.begun.last)
            self.tally, self.batches = replace(self.begun.tally), self.begun.batches
            self.kept = replace(self.begun.tally)
            if self._newness is not None:
                self._newness.go_on(self.begun.greatest)
            if self._seen is not None or self._checks:
                self._look_back(replace(reading, last=last, up_to_last=True))
            reading = replace(reading, last=last)
            self.notes.append(f"it went on after {self.kept.read:,} rows that were committed before")
        with self._batches(reading) as batches:
            for batch in batches:
                self._go_on()
                last = self._last_key(batch, last)
                with self._load_for_batch() as (load, rule):
                    prepared = self._prepare(batch, rule)
                    started = time.perf_counter()
                    self._kept = KeptRows() if rule.gathers else None
                    tally, rejects = self._write(prepared, rule)
                    more, found = self._finish(rule)
                    tally.add(more)
                    if self._kept is not None:
                        self._kept.close()
                    # Logged first: a reject that was logged in vain is taken back, one that was not would be lost.
                    self._log(prepared, tally, [*rejects, *found], time.perf_counter() - started)
                    self._limit_rejects(final=False)
                    self._go_on()
                    self._commit(load, last)
        with self._load_for_batch() as (load, _):
            self._end(load)
            self._commit(load, last, done=True)

    def _commit(self, load: Load, last: Sequence[int | str], done: bool = False) -> None:
        assert self.record is not None
        greatest = self._newness.greatest if self._newness is not None else None
        greatest = None if greatest is None else change_text(greatest)
        self.record(load, Progress(self.tally, self.batches, last, done, greatest))
        load.commit()
        self.kept = replace(self.tally)

    @contextmanager
    def _load_for_batch(self) -> Iterator[tuple[Load, Append]]:
        """A transaction for one batch; before the first one the target is emptied, where it is to be."""
        plan = self.plan
        writing = replace(plan.writing, by_batch=True)
        first = self.kept is None
        if not first and plan.settings.write == "truncate":
            writing = replace(writing, settings=plan.settings.model_copy(update={"write": "append"}))
        with plan.target.load() as load:
            self._break.add(load.cancel)
            if first and plan.settings.first_sql:
                load.run_sql(plan.settings.first_sql)
            rule = rule_for(load, writing)
            if writing.settings.write == "truncate" and rule.gathers:
                raise KanalError(
                    f"rows of other tables refer to {plan.target_table.name}, so it cannot be emptied before its rows "
                    "are loaded batch by batch",
                    'set commit = "step", or write = "merge"',
                )
            self.tally.deleted += rule.begin().deleted
            yield load, rule

    def _look_back(self, reading: Reading) -> None:
        """Go through rows that are committed, for the keys that they have."""
        with self._batches(reading) as batches:
            for batch in batches:
                self._go_on()
                self._prepare(batch)

    def _last_key(self, batch: SourceBatch, before: Sequence[int | str]) -> tuple[int | str, ...]:
        """The key of a batch's last row; raises KanalError where the rows' order is not one by key."""
        order = self.plan.reading.order_by
        columns = [batch.columns[name] for name in order]
        shown = ", ".join(order)
        if any(values.null_count for values in columns) or any(name in batch.strays for name in order):
            raise KanalError(
                f"the source is read in the order of {shown}, and a row has no value there, or one of another type",
                'name other columns in order_by, or set commit = "step"',
            )
        same = np.ones(batch.rows - 1, dtype=np.bool_)
        for values in columns:
            same &= mask_of(pc.equal(values[1:], values[:-1]))
        first, last = (tuple(_plain(values[row]) for values in columns) for row in (0, -1))
        if same.any() or first == tuple(before):
            raise KanalError(
                f"the source is read in the order of {shown}, and two rows have the same values there",
                'name columns in order_by that tell all rows apart, or set commit = "step"',
            )
        return last

    def _end(self, load: Load) -> None:
        """What is done once all rows are written, before they are committed."""
        self._limit_rejects(final=True)
        if self.plan.settings.last_sql:
            load.run_sql(self.plan.settings.last_sql)
        if self._newness is not None:
            self._newness.move(load)
        self.tally.require_balance()

    def stop(self) -> None:
        """Ask, from another thread, that the step ends and is undone; a statement under way is broken off."""
        self._stop.set()
        self._break()

    def _go_on(self) -> None:
        if self._stop.is_set():
            raise Stopped

    def _log(self, prepared: Prepared | None, tally: Tally, rejects: list[Reject], writing: float) -> None:
        if self.replayed is not None:
            self.rejected_again |= {int(reject.row.pop(NUMBER) or 0) for reject in rejects}
        self.tally.add(tally)
        self.batches += 1
        reading, computing = (prepared.batch.seconds, prepared.seconds) if prepared is not None else (0.0, 0.0)
        self._on_batch(BatchRecord(self.batches, tally, reading, computing, writing), rejects)

    def _what_is_new(self) -> Newness | None:
        if self.plan.since is None:
            return None
        found = Newness.of(self.plan, self.plan.since, self.job, self.moment, self._writes)
        self.notes.extend(found.notes)
        return found

    def _lookup_table(self, lookup: LookupPlan, database: Database, table: TableInfo) -> LookupTable:
        columns = self._read_columns(database, table, _lookup_columns(self.plan, lookup.name, lookup.keys))
        return LookupTable(lookup.name, columns, lookup.keys)

    def _read_columns(self, database: Database, table: TableInfo, columns: Sequence[str]) -> dict[str, pa.Array]:
        """Columns of a table, as the shared transaction sees them where it is in that database."""
        return database.read_columns(table, columns, self._within(database))

    def _within(self, database: Database) -> Load | None:
        shared = self._shared
        return shared.load if shared is not None and shared.load.database.url == database.url else None

    @contextmanager
    def _batches(self, reading: Reading) -> Iterator[Iterator[SourceBatch]]:
        """The source's batches, read ahead; by way of a file where reading would hold up the load."""
        plan, source = self.plan, self.plan.source
        if self.replayed is not None:
            yield batches_of(plan, self.replayed)
            return
        if self._newness is not None:
            reading = replace(reading, windows=self._newness.windows)
        within = self._within(source)
        if within is not None or source.shares_lock_with(plan.target, reading, plan.target_table.name):
            with ExitStack() as spool:
                with source.read(reading, within, self._break) as batches:
                    kept = spool.enter_context(spooled(timed(batches)))
                yield kept
            return
        if plan.split_by is not None and plan.settings.split is not None:
            parts = plan.settings.split.parts
            ranges = [replace(reading, windows=(*reading.windows, part)) for part in self._ranges(parts)]
            with source.snapshot(reading.table, parts) as connections:

                def read(connection: Any) -> Callable[[Reading], Any]:
                    return lambda part: source.read(part, None, self._break, connection)

                with side_by_side(ranges, [read(connection) for connection in connections]) as ahead:
                    yield ahead
            return
        with source.read(reading, None, self._break) as batches, read_ahead(timed(batches)) as ahead:
            yield ahead

    def _ranges(self, parts: int) -> list[Window]:
        """Ranges of the column that a table is split by, which together are all of it."""
        column = self.plan.split_by
        assert column is not None
        table = self.plan.reading.table
        indexed = any(key and key[0] == column.name for key in (table.primary_key, *table.unique))
        # More ranges than readers, so that none has much more to do than the others, where an index finds them.
        cuts = evenly(*self.plan.source.bounds(table, column.name), parts * 8 if indexed else parts)
        lows, highs = [None, *cuts], [*cuts, None]
        return [
            Window(column.name, low, high, with_null=low is None and column.nullable)
            for low, high in zip(lows, highs, strict=True)
        ]

    def _prepare(self, batch: SourceBatch, rule: Append | None = None) -> Prepared:
        """A batch's way up to the write: filter, look up, convert, check, sort out doubled keys; packed for a rule."""
        started = time.perf_counter()
        plan, rejects = self.plan, list[Reject]()
        seconds = batch.seconds
        if self._newness is not None:
            batch, rejects = self._newness.only_new(Frame(batch, plan.source_types, self.moment))
        tally = Tally(read=batch.rows + len(rejects))

        if plan.where is not None:
            wanted, unclear = filter_rows(Frame(batch, plan.source_types, self.moment), plan.where)
            found, _ = rejects_of(batch, unclear)
            rejects += found
            tally.filtered = batch.rows - len(wanted) - len(found)
            batch = batch.take(wanted) if len(wanted) < batch.rows else batch
        batch.seconds = seconds

        frame = Frame(batch, plan.source_types, self.moment)
        faults: _Tagged = []
        for lookup, table in self._lookups:
            faults += look_up(frame, lookup, table)
        rows, misfits = convert_columns(frame, plan.columns)
        faults += misfits
        found, good = rejects_of(batch, faults, plan.settings.list_reasons == "all")
        rejects += found

        if self._checks:
            good = self._without(batch, good, self._failed_checks(rows, good), rejects)
        made = rows
        rows, unstorable = plan.target.storable(plan.target_table, made)
        good = self._without(batch, good, unstorable, rejects)
        bad = np.ones(batch.rows, dtype=np.bool_)
        bad[good] = False
        good, replacing, doubled = self._sort_out_keys(rows, good, tally)
        rejects += rejects_of(batch, doubled)[0]
        packed, over = Packed(rows, None), Packed(rows, None)
        if rule is not None:
            packed, over = rule.pack(_take(rows, good)), rule.pack_over(_take(rows, replacing))
        seconds = time.perf_counter() - started
        return Prepared(batch, made, rows, packed, over, good, replacing, np.flatnonzero(bad), tally, rejects, seconds)

    def _write(self, prepared: Prepared, rule: Append) -> tuple[Tally, list[Reject]]:
        """The rest of a batch's way: write it, and count; its counts and all its rejects."""
        batch, tally = prepared.batch, prepared.tally
        written = rule.write(prepared.packed)
        refused: _Tagged = [(None, _refusal(int(prepared.good[row]), words)) for row, words in written.refused]
        if len(prepared.replacing):
            replaced = rule.replace(prepared.packed_over)
            refused += [(None, _refusal(int(prepared.replacing[row]), words)) for row, words in replaced.refused]
            # What they replace was counted when it was written; they take its place.
            tally.superseded += len(prepared.replacing) - len(replaced.refused)
        rejects = prepared.rejects + rejects_of(batch, refused)[0]
        if len(prepared.bad):
            rule.keep(prepared.rows.take(pa.array(prepared.bad)))
        if self._kept is not None:
            for chosen in (prepared.good, prepared.replacing):
                self._kept.add(batch if len(chosen) == batch.rows else batch.take(chosen))
        _count(tally, written)
        tally.rejected = len(rejects)
        return tally, rejects

    def _finish(self, rule: Append) -> tuple[Tally, list[Reject]]:
        """What becomes of rows that the rule has put by."""
        written, tally = rule.finish(), Tally()
        _count(tally, written)
        rejects: list[Reject] = []
        if written.refused and self._kept is not None:
            words = dict(written.refused)
            first = 0
            for batch, places in self._kept.find(list(words)):
                said = list(words.values())[first : first + len(places)]
                faults: _Tagged = [(None, _refusal(row, word)) for row, word in zip(places, said, strict=True)]
                rejects += rejects_of(batch, faults)[0]
                first += len(places)
        tally.rejected = len(rejects)
        return tally, rejects

    def _failed_checks(self, rows: pa.RecordBatch, good: Rows) -> _Tagged:
        """The faults of those rows, by their place in the batch, that fail a check."""
        types = {column.name: column.type for column in self.plan.columns}
        found = check_rows(_take(rows, good), types, self._checks, self.moment)
        return [(column, replace(fault, row=int(good[fault.row]))) for column, fault in found]

    def _without(
        self, batch: SourceBatch, good: Rows, faults: Sequence[tuple[str | None, Fault]], rejects: list[Reject]
    ) -> Rows:
        """The good rows without those that have a fault, which are added to the rejects."""
        if not faults:
            return good
        still = np.zeros(batch.rows, dtype=np.bool_)
        still[good] = True
        fresh = [(column, fault) for column, fault in faults if still[fault.row]]
        found, kept = rejects_of(batch, fresh, self.plan.settings.list_reasons == "all")
        rejects += found
        keep = np.zeros(batch.rows, dtype=np.bool_)
        keep[kept] = True
        return good[keep[good]]

    def _sort_out_keys(self, rows: pa.RecordBatch, good: Rows, tally: Tally) -> tuple[Rows, Rows, _Tagged]:
        """Rows to write, rows to write over earlier ones of this load, and faults of rows whose key came before."""
        nothing = np.zeros(0, dtype=np.intp)
        if self._seen is None or not len(good):
            return good, nothing, []
        way = self.plan.settings.duplicates
        chosen = _take(rows, good)
        keys = [chosen.column(name) for name in self.plan.key]
        if way == "last":
            last = last_of_each(keys)
            tally.superseded += int((~last).sum())
            good, keys = good[last], [values.filter(pa.array(last)) for values in keys]
            again = self._seen.repeated(keys)
            return good[~again], good[again], []
        again = self._seen.repeated(keys)
        if way == "first":
            tally.superseded += int(again.sum())
            return good[~again], nothing, []
        shown = {int(place): [values[int(place)].as_py() for values in keys] for place in np.flatnonzero(again)}
        return (
            good[~again],
            nothing,
            [(self.plan.key[0], self._doubled(int(good[p]), key)) for p, key in shown.items()],
        )

    def _doubled(self, row: int, key: list[object]) -> Fault:
        named = ", ".join(f"{name} = {part}" for name, part in zip(self.plan.key, key, strict=True))
        message = (
            f"an earlier row of this load has {named} too: correct the source, "
            'or set duplicates = "first" or "last" to say which counts'
        )
        return Fault(row, Reason.DUPLICATE_KEY, ", ".join(str(part) for part in key), message)

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


def _lookup_columns(plan: PipelinePlan, name: str, keys: tuple[str, ...]) -> list[str]:
    """The columns of a look-up that the pipeline uses, its keys first."""
    expressions = [column.expression for column in plan.columns]
    expressions += [probe for lookup, _, _ in plan.lookups for probe in lookup.probes]
    used = {column for expression in expressions for owner, column in expression.uses if owner == name}
    return list(dict.fromkeys([*keys, *sorted(used)]))


def _count(tally: Tally, written: Written) -> None:
    tally.inserted += written.inserted
    tally.updated += written.updated
    tally.unchanged += written.unchanged
    tally.deleted += written.deleted


def _take(rows: pa.RecordBatch, chosen: Rows) -> pa.RecordBatch:
    return rows if len(chosen) == rows.num_rows else rows.take(pa.array(chosen))


def _plain(value: pa.Scalar) -> int | str:
    """A value of a key as it is kept and compared."""
    found = value.as_py()
    if isinstance(found, dt.datetime):
        found = found.astimezone(dt.UTC).replace(tzinfo=None) if found.tzinfo else found
        return found.isoformat(sep=" ")
    return found if isinstance(found, int) else str(found)


def _refusal(row: int, words: str) -> Fault:
    return Fault(row, Reason.REFUSED_BY_TARGET, None, f"the target refused the row: {words}")
