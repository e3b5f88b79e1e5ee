"""Compares what a job's sources hold, after its mapping, with what is in the targets.

Both sides are read once, at the same time, and of each row the hashes of its key and of itself are kept in a temporary
file, in parts. Only if a part differs are its rows told apart; a second reading finds the values of some of them.
"""

from __future__ import annotations

import copy
import datetime as dt
import tempfile
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections.base import Digest, as_source
from kanal.connections.reading import Reading
from kanal.core.arrays import Mask, mask_of
from kanal.core.comparison import WITHDRAWN, Compared, compare_hashes, last_of_key, not_withdrawn
from kanal.core.errors import KanalError
from kanal.core.frame import Frame
from kanal.core.hashing import Hashes, RowHash
from kanal.core.tally import Tally
from kanal.explore.compare_values import (
    MadeRows,
    _before_first,
    _last_of_each,
    _whole,
    comparable,
    native_columns,
    shown_value,
    with_strays_kept,
)
from kanal.runlog import RunLogStore
from kanal.runner.html import html_table
from kanal.runner.job_plan import JobPlan, PipelinePlan
from kanal.runner.replay import plan_of_replay
from kanal.runner.step import StepContext, Trial

#: Hashes are kept in this many parts, by the first bits of the key's.
_PARTS = 64
_SEED = 4711


class Example(Struct, frozen=True):
    """A row that is missing in the target, extra in it, or differs: its key, and where it differs both values."""

    kind: str
    key: dict[str, str | None]
    values: dict[str, tuple[str | None, str | None]] = field(default_factory=dict)


class Comparison(Struct):
    """How a target table compares with what its pipelines would load.

    `tally` counts what the mapping made of the source; `refused` are rows of it that the target refused last time.
    Without a key, rows are compared as a whole. `columns` names, of a quick comparison, those that differ.
    """

    table: str
    steps: tuple[str, ...]
    key: tuple[str, ...]
    tally: Tally = field(default_factory=Tally)
    source_rows: int = 0
    target_rows: int = 0
    same: int = 0
    missing: int = 0
    extra: int = 0
    differing: int = 0
    refused: int = 0
    #: Rows that the write rule does not load or leaves as they are, which are not counted as missing or differing.
    left_out: int = 0
    columns: tuple[str, ...] = ()
    examples: list[Example] = field(default_factory=list)
    quick: bool = False
    error: str | None = None

    def _repr_html_(self) -> str:
        names = ("table", "source_rows", "target_rows", "same", "missing", "extra", "differing", "refused", "error")
        return html_table(f"comparison of {self.table}", names, [[getattr(self, name) for name in names]])

    def differs(self, allow_extra: bool = False) -> bool:
        """True if something is not as it should be."""
        if self.quick:
            short = self.source_rows > self.target_rows if allow_extra else self.source_rows != self.target_rows
            return short or bool(self.columns) or self.error is not None
        extra = 0 if allow_extra else self.extra
        return bool(self.missing or extra or self.differing) or self.error is not None


def compare(plan: JobPlan, log: RunLogStore | None = None, quick: bool = False, shown: int = 3) -> Iterator[Comparison]:
    """The comparisons of all tables that the pipelines of a plan fill, one after the other."""
    groups: dict[Any, list[PipelinePlan]] = {}
    for step in plan.steps:
        if isinstance(step, PipelinePlan):
            place = step.target.place_of(step.target_table)
            groups.setdefault(place, []).append(step)
    for steps in groups.values():
        table = _Table(plan, steps, log)
        target = steps[0]
        try:
            if not target.target.catalogue.has_table(target.target_table.schema, target.target_table.name):
                raise KanalError("the table is not there yet", "run the job, or make it by kanal create")
            yield table.compare_quickly() if quick else table.compare(shown)
        except KanalError as error:
            table.found.error = str(error)
            yield table.found


class _Hashed:
    """Hashes of keys and rows, by parts, in a temporary file."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(prefix="kanal-")  # noqa: SIM115 - closed by `close`
        self._cuts: list[tuple[int, Any]] = []
        self.counts = np.zeros(_PARTS, np.int64)
        self.sums = np.zeros(_PARTS, np.uint64)

    def add(self, keys: Hashes, rows: Hashes) -> None:
        """Put hashes by."""
        part = (keys >> np.uint64(58)).astype(np.intp)
        order = np.argsort(part, kind="stable")
        counts = np.bincount(part, minlength=_PARTS)
        self._cuts.append((self._file.tell(), np.concatenate([[0], np.cumsum(counts)])))
        self._file.write(np.stack([keys[order], rows[order]], axis=1).tobytes())
        self.counts += counts
        both = (keys ^ (rows * np.uint64(0x9E3779B97F4A7C15))) * np.uint64(0xBF58476D1CE4E5B9)
        both ^= both >> np.uint64(29)
        np.add.at(self.sums, part, both)

    def part(self, number: int) -> tuple[Hashes, Hashes]:
        """The hashes of one part, in the order in which they came."""
        found = []
        for start, cuts in self._cuts:
            first, last = int(cuts[number]), int(cuts[number + 1])
            self._file.seek(start + 16 * first)
            found.append(np.frombuffer(self._file.read(16 * (last - first)), np.uint64).reshape(-1, 2))
        both = np.concatenate(found) if found else np.zeros((0, 2), np.uint64)
        return both[:, 0], both[:, 1]

    def close(self) -> None:
        """Remove the file."""
        self._file.close()


class _Table:
    """One target table, and the pipelines that fill it."""

    def __init__(self, plan: JobPlan, steps: Sequence[PipelinePlan], log: RunLogStore | None) -> None:
        self.job, self._log_name = plan.job.job, plan.job.log_name
        self.steps = [_whole(step) for step in steps]
        self.log = log
        self.target = steps[0].target
        self.info = steps[0].target_table
        mapped = [{column.name for column in step.columns} for step in steps]
        self.columns = [column.name for column in self.info.columns if all(column.name in names for names in mapped)]
        #: Of a history, its current versions are compared.
        self.history = steps[0].history
        if self.history is not None:
            apart = {self.history.from_, self.history.until, self.history.current}
            self.columns = [name for name in self.columns if name not in apart]
        keys = [*(step.business_key for step in steps), self.info.primary_key, *self.info.unique]
        self.key = next((key for key in keys if key and set(key) <= set(self.columns)), ())
        self.types = {name: column.type for name, column in self.info.source_columns().items()}
        self.moment = dt.datetime.now(dt.UTC)
        self.found = Comparison(steps[0].settings.target.label, tuple(step.name for step in steps), tuple(self.key))
        self.hash = RowHash(_SEED)

    # --- reading both sides ----------------------------------------------------------------------------------------

    def source_rows(self, counted: bool = False) -> Iterator[list[pa.Array]]:
        """The columns of what the pipelines would load, batch by batch."""
        for made, _, gone in self._made(counted):
            yield self._mapped(made.take(np.flatnonzero(~gone)) if gone.any() else made)

    def _every_row(self) -> Iterator[list[pa.Array]]:
        """The same, with the rows that say that the target's row of their key is to go."""
        for made, _, _ in self._made():
            yield self._mapped(made)

    def _made(self, counted: bool = False) -> Iterator[tuple[MadeRows, Mask, Mask]]:
        """What the pipelines would load; which rows of it were never asked for, since their change value lies before
        the first that is wanted; and which say that the target's row of their key is to go."""
        for step in self.steps:
            trial = Trial(StepContext(step, self.moment, self.job))
            changes: list[pa.RecordBatch] = []
            for batch in trial.batches():
                chosen = np.sort(np.concatenate([batch.good, batch.replacing]))
                early = _before_first(step, batch.source, self.moment)[chosen]
                gone = np.zeros(len(chosen), dtype=np.bool_) if batch.gone is None else batch.gone[chosen]
                made = MadeRows(step, batch.made, batch.source).take(chosen)
                if step.history is not None:
                    changes.append(made.typed())
                    continue
                yield made, early, gone
            for rows in _last_of_each(changes, step):
                none = np.zeros(rows.num_rows, dtype=np.bool_)
                yield MadeRows(step, rows), none, none
            if counted:
                self.found.tally.add(trial.books.tally)

    def target_rows(self) -> Iterator[list[pa.Array]]:
        """The columns of what is in the target, batch by batch."""
        ends = [self.history.until] if self.history is not None else []
        names = tuple(dict.fromkeys([*self.columns, *ends]))
        exact = frozenset(name for name in names if self._is_native(name))
        with as_source(self.target).read(Reading(self.info, None, names, 50_000, exact=exact)) as batches:
            for batch in batches:
                current = [np.flatnonzero(mask_of(batch.columns[name].is_null())) for name in ends]
                frame = Frame(batch.take(current[0]) if current else batch, self.types)
                yield [self._given(frame, name) for name in self.columns]

    def _given(self, frame: Frame, name: str) -> pa.Array:
        """A column of the target's rows in a form in which equal values are the same."""
        if not self._is_native(name):
            return comparable(self.info, self.types[name], name, frame.column((None, name)))
        values, strays = frame.delivered(name)
        return with_strays_kept(comparable(self.info, self.types[name], name, values), strays)

    def _is_native(self, name: str) -> bool:
        """True if every value of a column is as it is in the source."""
        return self.history is None and all(name in native_columns(step) for step in self.steps)

    def _mapped(self, made: MadeRows) -> list[pa.Array]:
        """The columns of rows that a pipeline has made, as the target gives them back."""
        return [made.given_back(self.info, self.types[name], name) for name in self.columns]

    def _hashes(self, columns: list[pa.Array], hash_rows: RowHash) -> tuple[Hashes, Hashes]:
        rows = hash_rows.rows(columns)
        if not self.key:
            return rows, rows
        keys = [self.target.key_form(self.info, name, columns[self.columns.index(name)]) for name in self.key]
        hashes, valid = hash_rows(keys)
        return (hashes if valid.all() else np.where(valid, hashes, hash_rows.rows(keys))), rows

    # --- comparing -------------------------------------------------------------------------------------------------

    def _asked(self, columns: Sequence[str]) -> int | None:
        """How many rows there are on both sides, if the engines themselves say that all are the same in columns
        that are carried."""
        (step,), sides = self.steps, list[Digest | None]([None, None])

        def of_source() -> None:
            sides[0] = step.source.digest(step.reading.table, [step.carried[name] for name in columns])

        def of_target() -> None:
            sides[1] = as_source(self.target).digest(self.info, columns)

        _at_once(of_source, of_target)
        return sides[0].rows if sides[0] is not None and sides[0] == sides[1] else None

    def _same_by_digest(self) -> bool:
        """True, with the counts, if the engines say that all rows are the same on both sides."""
        whole = len(self.steps) == 1 and self.steps[0].goes_on_whole
        rows = self._asked(self.columns) if whole else None
        if rows is not None:
            self.found.tally = Tally(read=rows, inserted=rows)
            self.found.source_rows = self.found.target_rows = self.found.same = rows
        return rows is not None

    def _narrowed(self) -> _Table:
        """The table with its key and the columns that may differ, if the engines hold the others the same."""
        (step, *others) = self.steps
        carried = [name for name in self.columns if name in step.carried]
        key = {*self.key, *step.key}
        told_apart = bool(self.key) and self.key in (self.info.primary_key, *self.info.unique) and key <= set(carried)
        told_apart = told_apart and not any(column.nullable for column in self.info.chosen(self.key))
        if others or not step.keeps_rows or not told_apart or not 0 < len(self.columns) - len(carried) <= len(carried):
            return self
        if self._asked(carried) is None:
            return self
        left = key | (set(self.columns) - set(carried))
        columns = tuple(column for column in step.columns if column.name in left)
        used = set(step.reading.table.primary_key).union(*(column.expression.of_source for column in columns))
        read = tuple(name for name in step.reading.columns if name in used)
        narrowed = copy.copy(self)
        narrowed.columns = [name for name in self.columns if name in left]
        narrowed.steps = [replace(step, columns=columns, reading=replace(step.reading, columns=read))]
        return narrowed

    def compare(self, shown: int) -> Comparison:
        found = self.found
        if self._same_by_digest():
            return found
        sides, read = [_Hashed(), _Hashed()], self._narrowed()
        early_keys: list[Hashes] = []
        withdrawn: list[Hashes] = [np.zeros(0, np.uint64)]

        def gather_source() -> None:
            hash_rows = RowHash(_SEED)  # one for each thread; all of a seed are the same
            for made, early, gone in read._made(counted=True):
                keys, hashes = read._hashes(read._mapped(made), hash_rows)
                sides[0].add(keys, np.where(gone, WITHDRAWN, hashes))
                if gone.any():
                    withdrawn.append(keys[gone])
                if early.any():
                    early_keys.append(keys[early])

        def gather_target() -> None:
            hash_rows = RowHash(_SEED)
            for columns in read.target_rows():
                sides[1].add(*read._hashes(columns, hash_rows))

        try:
            _at_once(gather_source, gather_target)
            results = list(
                _compare_parts(sides[0], sides[1], any(step.settings.duplicates == "last" for step in self.steps))
            )
        finally:
            for side in sides:
                side.close()
        refused = self._refused()
        missing = np.concatenate([result.missing for result in results])
        extra, differing = (
            np.concatenate([getattr(result, kind) for result in results]) for kind in ("extra", "differing")
        )
        # What the write rule does not load, or leaves as it is, is as it should be.
        left_out = np.isin(missing, np.concatenate([np.zeros(0, np.uint64), *early_keys]))
        if all(step.writing.rule.needs_key and step.settings.not_matched == "ignore" for step in self.steps):
            left_out[:] = True
        missing = missing[~left_out]
        kept = self._kept_as_they_are(differing)
        differing = differing[~kept]
        outlived = np.isin(extra, np.concatenate(withdrawn))
        outlived[outlived] = self._newer_here(extra[outlived])
        extra = extra[~outlived]
        found.left_out = int(left_out.sum() + kept.sum() + outlived.sum())
        known = np.isin(missing, refused)
        found.refused = int(known.sum())
        missing = missing[~known]
        found.same = sum(result.same for result in results) + int(kept.sum())
        found.missing, found.extra, found.differing = len(missing), len(extra), len(differing)
        found.source_rows = found.same + len(missing) + len(differing) + found.refused
        found.target_rows = found.same + len(extra) + len(differing)
        self._find_examples({"missing": missing[:shown], "extra": extra[:shown], "differing": differing[:shown]})
        return found

    def _kept_as_they_are(self, differing: Hashes) -> Mask:
        """Which rows that differ do so by the rule of the merge that loads them: kept, or newer in the target."""
        none = np.zeros(len(differing), dtype=np.bool_)
        settings = [step.settings for step in self.steps]
        if not all(step.writing.rule.needs_key for step in self.steps):
            return none
        if all(one.matched == "keep" for one in settings):
            return ~none
        return self._newer_here(differing)

    def _newer_here(self, differing: Hashes) -> Mask:
        """Which rows are by `newer_by` not older in the target than what the source says of their key."""
        none, settings = np.zeros(len(differing), dtype=np.bool_), [step.settings for step in self.steps]
        by = settings[0].newer_by
        if not len(differing) or by is None or any(one.newer_by != by for one in settings) or by not in self.columns:
            return none
        wanted = np.unique(differing)
        there, here = (self._values_of(read, by, wanted) for read in (self._every_row, self.target_rows))
        newer = [
            key for key in wanted.tolist()
            if here.get(key) is not None and (there.get(key) is None or not there[key] > here[key])
        ]  # fmt: skip
        return np.isin(differing, np.array(newer, np.uint64))

    def _values_of(self, read: Callable[[], Iterator[list[pa.Array]]], name: str, keys: Hashes) -> dict[int, Any]:
        """The values of a column in the rows of some hashed keys."""
        found: dict[int, Any] = {}
        place = self.columns.index(name)
        for columns in read():
            hashes, _ = self._hashes(columns, self.hash)
            for row in np.flatnonzero(np.isin(hashes, keys)).tolist():
                found[int(hashes[row])] = columns[place][row].as_py()
        return found

    def _refused_rows(self) -> Iterator[list[pa.Array]]:
        """Rows that the target refused in the last run, as the run log has them, and the mapping makes them now."""
        for step in self.steps:
            rows = self.log.rejects.refused_rows(self._log_name, step.name) if self.log is not None else []
            if rows:
                trial = Trial(StepContext(plan_of_replay(step), self.moment, self.job, replayed=rows))
                for batch in trial.batches():
                    good = batch.good if batch.gone is None else batch.good[~batch.gone[batch.good]]
                    yield self._mapped(MadeRows(step, batch.made, batch.source).take(good))

    def _refused(self) -> Hashes:
        """The hashed keys of such rows."""
        keys = [self._hashes(columns, self.hash)[0] for columns in self._refused_rows()]
        return np.concatenate([np.zeros(0, np.uint64), *keys])

    def _find_examples(self, wanted: dict[str, Hashes]) -> None:
        """Read again, until the rows that are to be shown are found."""
        on_source = np.concatenate([wanted["missing"], wanted["differing"]])
        on_target = np.concatenate([wanted["extra"], wanted["differing"]])
        there = self._rows_of(self.source_rows, on_source)
        here = self._rows_of(self.target_rows, on_target)
        for kind, keys in wanted.items():
            for key in dict.fromkeys(keys.tolist()):
                one, other = there.get(key), here.get(key)
                row = one or other
                if row is None:
                    continue
                shown = {name: row[name] for name in self.key or self.columns}
                values = {}
                if kind == "differing" and one is not None and other is not None:
                    values = {name: (one[name], other[name]) for name in self.columns if one[name] != other[name]}
                self.found.examples.append(Example(kind, shown, values))

    def _rows_of(self, read: Callable[[], Iterator[list[pa.Array]]], keys: Hashes) -> dict[int, dict[str, str | None]]:
        found: dict[int, dict[str, str | None]] = {}
        left = set(keys.tolist())
        if not left:
            return found
        for columns in read():
            hashes, _ = self._hashes(columns, self.hash)
            for row in np.flatnonzero(np.isin(hashes, np.array(sorted(left), np.uint64))).tolist():
                values = (shown_value(column, row) for column in columns)
                found[int(hashes[row])] = dict(zip(self.columns, values, strict=True))
            if left <= set(found):
                break
        return found

    def compare_quickly(self) -> Comparison:
        """Compare the numbers of rows, and of each column the sum of its hashes."""
        found = self.found
        found.quick = True
        if self._same_by_digest():
            found.same = 0  # which is not counted
            return found
        sums = np.zeros((2, len(self.columns)), np.uint64)
        counts = [0, 0]

        def gather(side: int, rows: Iterator[list[pa.Array]]) -> None:
            hash_rows = RowHash(_SEED)
            for columns in rows:
                counts[side] += len(columns[0])
                sums[side] += np.array([hash_rows.rows([v]).sum(dtype=np.uint64) for v in columns], np.uint64)

        _at_once(lambda: gather(0, self.source_rows(counted=True)), lambda: gather(1, self.target_rows()))
        for columns in self._refused_rows():
            found.refused += len(columns[0])
            sums[0] -= np.array([self.hash.rows([v]).sum(dtype=np.uint64) for v in columns], np.uint64)
        counts[0] -= found.refused
        found.source_rows, found.target_rows = counts
        different = np.flatnonzero(sums[0] != sums[1]).tolist()
        found.columns = tuple(self.columns[place] for place in different)
        return found


def _compare_parts(source: _Hashed, target: _Hashed, takes_last: bool) -> Iterator[Compared]:
    """Compare the hashes of both sides, part by part; with `takes_last`, the last row of a key counts."""
    for number in range(_PARTS):
        if source.counts[number] == target.counts[number] and source.sums[number] == target.sums[number]:
            nothing = np.zeros(0, np.uint64)
            yield Compared(int(source.counts[number]), nothing, nothing, nothing)
            continue
        left = not_withdrawn(*source.part(number))
        yield compare_hashes(*(last_of_key(*left) if takes_last else left), *target.part(number))


def _at_once(*works: Callable[[], None]) -> None:
    """Do several things at the same time, each in a thread of its own."""
    with ThreadPoolExecutor(len(works)) as pool:
        for done in [pool.submit(work) for work in works]:
            done.result()
