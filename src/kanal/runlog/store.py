"""Keeps runs, steps, batches and rejects in a database, and finds them again."""

from __future__ import annotations

import datetime as dt
import functools
import hashlib
import json
import os
import random
import socket
import time
import uuid
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any, TypeVar, cast

import sqlalchemy as sa

from kanal.connections.sql.opening import SqlOpening
from kanal.core.errors import KanalError
from kanal.core.rejects import Reject, row_key
from kanal.core.tally import COUNTS, WRITES, Tally
from kanal.runlog import clock
from kanal.runlog.liveness import born, lives
from kanal.runlog.reader import RunLogReader, RunLogUnusable, run_record
from kanal.runlog.records import BatchRecord, RunRecord, SeenTable, Start, StepRecord, StepSeed
from kanal.runlog.tables import (
    BATCH,
    FORMER,
    LOCK,
    MESSAGE,
    METADATA,
    PLAN,
    REJECT,
    RUN,
    SCHEDULE,
    SHAPE,
    STEP,
    TASK,
    VERSION,
    VERSION_NOW,
    make_fit,
)

#: Seconds before what another run may do at the same moment is tried again.
_MEANWHILE = (0.1, 0.2, 0.3, 0.4)
#: Seconds before an entry is tried again.
_PAUSES = (0.2, 1.0, 4.0, 10.0)
#: A run that failed so long ago, before others that succeeded, is not gone on with any more.
ABANDONED = dt.timedelta(days=30)
#: Messages are kept for so long, so that none is sent twice.
OLD_MESSAGE = dt.timedelta(days=90)
Made = TypeVar("Made")


Method = TypeVar("Method", bound=Callable[..., None])
#: Seconds for which the entry of a batch may wait for the next entry, if one comes.
_SOON = 0.2

# Made once, since to make a statement costs more than to run it.
_THIS_STEP = STEP.update().where(STEP.c.run == sa.bindparam("this_run"), STEP.c.step == sa.bindparam("this_step"))
_STEP_BEGINS = _THIS_STEP.values(status="running", started=sa.bindparam("now"))
_OF_STEP = ("status", "seconds", "batches", "error", "note", *COUNTS)
_STEP_ENDS = _THIS_STEP.values({name: sa.bindparam(f"new_{name}") for name in _OF_STEP})
_SAME_BATCH = sa.select(BATCH.c.batch).where(
    BATCH.c.run == sa.bindparam("run"), BATCH.c.step == sa.bindparam("step"), BATCH.c.batch == sa.bindparam("batch")
)
_ADD_BATCH = BATCH.insert()


def _again(act: Callable[[], Made], pauses: Sequence[float], worth: Callable[[RunLogUnusable], bool]) -> Made:
    """What a function gives, called again after so many seconds as long as its error is worth that."""
    for pause in pauses:
        try:
            return act()
        except RunLogUnusable as error:
            if not worth(error):
                raise
            time.sleep(pause * random.uniform(1, 1.5))
    return act()


def _lasting(method: Method) -> Method:
    """An entry into the run log, made again after a while where a trouble passes: a run does not die of it at once."""

    @functools.wraps(method)
    def lasting(*arguments: Any, **named: Any) -> None:
        try:
            _again(lambda: method(*arguments, **named), _PAUSES, lambda error: error.passing)
        except RunLogUnusable as error:
            error.passing = False  # whoever hears of it need not try again
            raise

    return cast(Method, lasting)


class AlreadyRunning(KanalError):
    """Another run of the same job is under way."""


class RunLogStore(RunLogReader):
    """The run log in one database; its tables are made when first needed.

    Of each step so many rejected rows are kept, and of each job, where that is given, so many runs, or those of a time.
    """

    def __init__(
        self, database: SqlOpening, keep_rejects: int = 100_000, keep_runs: int | dt.timedelta | None = None
    ) -> None:
        super().__init__(database)
        self.keep_rejects = keep_rejects
        self.keep_runs = keep_runs
        self._kept: dict[tuple[int, str], int] = {}
        #: Runs that this process has begun, and not gone on with, and those of their steps that have begun.
        self._new: set[int] = set()
        self._begun: set[tuple[int, str]] = set()
        #: Entries of batches that wait to be made with the next one.
        self._waiting: list[dict[str, Any]] = []
        self._written = 0.0

    @contextmanager
    def _begin(self, run: int | None = None) -> Iterator[sa.Connection]:
        with self._one_at_a_time:
            with super()._begin(run) as connection:
                waiting = [entry for entry in self._waiting if entry["run"] == run]
                for entry in waiting:
                    _add_batch(connection, entry)
                yield connection
            if waiting:
                self._waiting = [entry for entry in self._waiting if entry["run"] != run]
                self._written = time.monotonic()

    def write_waiting(self, run: int) -> None:
        """Make the entries of batches that have waited for a while."""
        if self._waiting and time.monotonic() - self._written > _SOON:
            with self._begin(run):
                pass

    def prepare(self) -> None:
        """Make the tables that are missing, and the columns that an older run log does not have.

        Raises KanalError for a run log of a newer Kanal.
        """
        _again(self._prepare, _MEANWHILE, lambda _: True)  # another run may make them just now

    def _prepare(self) -> None:
        self._make_private()
        with self._begin() as connection:
            there = set(sa.inspect(connection).get_table_names())
            make_fit(connection.dialect.name)
            if not there >= set(METADATA.tables):
                METADATA.create_all(connection)
            version = connection.execute(sa.select(VERSION.c.version)).scalar()
            if version == VERSION_NOW:
                return
            if version is not None and version > VERSION_NOW:
                raise KanalError(
                    f"The run log {self.database.shown_url} is of form {version}, which a newer Kanal has made; "
                    f"this one knows form {VERSION_NOW}",
                    "use the newer Kanal, or another run log",
                )
            connection.execute(VERSION.delete())
            connection.execute(VERSION.insert().values(version=VERSION_NOW))
            inspector = sa.inspect(connection)
            for table in METADATA.sorted_tables:
                there = {column["name"] for column in inspector.get_columns(table.name)}
                for column in table.columns:
                    if column.name not in there:
                        declared = sa.schema.CreateColumn(column).compile(dialect=connection.dialect)
                        connection.execute(sa.text(f"ALTER TABLE {table.name} ADD COLUMN {declared}"))
                        if FORMER.get(column.name) in there:
                            former: Any = sa.literal_column(FORMER[column.name])
                            connection.execute(table.update().values({column.name: former}))
                for index in table.indexes:
                    index.create(connection, checkfirst=True)

    def _make_private(self) -> None:
        """A file is made for its owner alone, since rejected rows are data."""
        if self.database.url.get_backend_name() == "sqlite" and self.database.url.database:
            with suppress(OSError):
                os.close(os.open(self.database.url.database, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))

    def begin_run(
        self,
        job: str,
        file: str | None,
        steps: Sequence[StepSeed],
        options: Mapping[str, Any] | None = None,
        start: Start | None = None,
    ) -> RunRecord:
        """Record a run that begins, with its steps, all waiting.

        Raises AlreadyRunning while another run of the job is under way, or where the run that is due at that moment has
        begun already; one whose process is dead is no obstacle.
        """
        return _again(lambda: self._begin_run(job, file, steps, options, start or Start()), _MEANWHILE, lambda _: True)

    def _begin_run(
        self, job: str, file: str | None, steps: Sequence[StepSeed], options: Mapping[str, Any] | None, start: Start
    ) -> RunRecord:
        with self._begin() as connection:
            run = _add_run(connection, job, file, options, status="running", owner=self.owner, **start.columns)
            self._lock(connection, job, run, start.series)
            if start.due is not None:
                _must_be_alone(connection, job, run, start)
            rows = [_waiting(run, place, seed) for place, seed in enumerate(steps, 1)]
            if rows:
                connection.execute(STEP.insert(), rows)
        self._new.add(run)
        return self.run(run)

    def add_failed_run(
        self,
        job: str,
        file: str | None,
        options: Mapping[str, Any],
        started: dt.datetime,
        error: str,
        start: Start | None = None,
    ) -> int:
        """Record a run, started at a moment of UTC, that failed before a step could begin, and why; its number."""
        times = {"started": started.replace(tzinfo=None), "finished": clock.now()} | (start or Start()).columns
        with self._begin() as connection:
            return _add_run(connection, job, file, options, status="failed", error=error, **times)

    def resume_run(self, run: int, steps: Sequence[StepSeed]) -> RunRecord:
        """Record that a run goes on, with the steps of its job as it is now; those that succeeded stay.

        Batches and rejects of the others stay too, until it is known which of them were committed. Raises
        AlreadyRunning while another run of the job is under way, or another process goes on with this one.
        """
        return _again(lambda: self._resume_run(run, steps), _MEANWHILE, lambda _: True)

    def _resume_run(self, run: int, steps: Sequence[StepSeed]) -> RunRecord:
        record = self.run(run)
        with self._begin() as connection:
            row = connection.execute(sa.select(RUN).where(RUN.c.run == run)).one()
            if row.status == "running" and _lives(row, connection):
                raise _under_way(row)
            # Of two that go on at once, one alone finds the owner that it has seen.
            same = RUN.c.owner.is_(None) if row.owner is None else RUN.c.owner == row.owner
            same = sa.and_(RUN.c.run == run, RUN.c.status == row.status, same)
            values = {"status": "running", "finished": None, "error": None, "owner": self.owner} | _this_process(
                connection
            )
            values["resumes"] = (row.resumes or 0) + 1
            if not connection.execute(RUN.update().where(same).values(values)).rowcount:
                raise AlreadyRunning(f"Another process goes on with run {run} at this moment", "wait for it")
            self._lock(connection, record.job, run)
            done = {step.step for step in record.steps if step.status == "succeeded"}
            names = [seed.step for seed in steps]
            connection.execute(STEP.delete().where(STEP.c.run == run, STEP.c.step.not_in(done & set(names))))
            for table in (BATCH, REJECT):
                connection.execute(table.delete().where(table.c.run == run, table.c.step.not_in(names)))
            for place, seed in enumerate(steps, 1):
                if seed.step in done:
                    connection.execute(_step(run, seed.step).values(position=place))
                else:
                    connection.execute(STEP.insert().values(_waiting(run, place, seed)))
        return record

    def _lock(self, connection: sa.Connection, job: str, run: int, series: str | None = None) -> None:
        """Take the job's lock for a run; raises AlreadyRunning where a living one has it, or has just taken it.

        Runs of one series share it: the lock is their newest one's."""
        key = job[:200]
        holder = connection.execute(sa.select(LOCK.c.run).where(LOCK.c.job == key)).scalar()
        if holder is None:
            connection.execute(LOCK.insert().values(job=key, run=run))
            return
        row = connection.execute(sa.select(RUN).where(RUN.c.run == holder)).first()
        alive = row is not None and holder != run and row.status == "running" and _lives(row, connection)
        if row is not None and alive and (series is None or row.series != series):
            raise _under_way(row)
        taken = LOCK.update().where(LOCK.c.job == key, LOCK.c.run == holder).values(run=run)
        if not connection.execute(taken).rowcount:
            raise RunLogUnusable(f"Another run of {job} has begun at this very moment", "try again")

    def remember(self, run: int, job: str, seen: Sequence[SeenTable]) -> None:
        """Record what the tables of a run look like, as far as that is new."""
        known = self.remembered(job)
        rows = [
            {"job": job[:200], "step": one.step, "role": one.role, "place": one.place, "run": run,
             "columns": one.shape.to_json()}
            for one in seen
            if (before := known.get((one.step, one.role))) is None
            or (before.place, before.shape) != (one.place, one.shape)
        ]  # fmt: skip
        if rows:
            with self._begin(run) as connection:
                connection.execute(SHAPE.insert(), rows)

    def remember_plan(self, run: int, job: str, outline: Mapping[str, Any]) -> None:
        """Record what the plan of a run looks like."""
        content = json.dumps(outline, ensure_ascii=False)
        digest = hashlib.sha256(content.encode()).hexdigest()
        same = sa.select(PLAN.c.plan).where(PLAN.c.job == job[:200], PLAN.c.digest == digest)
        with self._begin(run) as connection:
            plan = connection.execute(same).scalar()
            if plan is None:
                made = connection.execute(PLAN.insert().values(job=job[:200], digest=digest, content=content))
                plan = made.inserted_primary_key[0] if made.inserted_primary_key else None
            connection.execute(RUN.update().where(RUN.c.run == run).values(plan=plan))

    def give_sign(self, run: int) -> None:
        """Record that a run's process lives."""
        with self._begin(run) as connection:
            connection.execute(RUN.update().where(RUN.c.run == run).values(sign=clock.shared(connection)))

    def end_dead_runs(self) -> None:
        """Record as failed the runs whose process ended without a word."""
        with self._begin() as connection:
            if "sign" not in {column["name"] for column in sa.inspect(connection).get_columns("kanal_run")}:
                return
            for row in connection.execute(sa.select(RUN).where(RUN.c.status == "running")).all():
                if _lives(row, connection):
                    continue
                ended = row.sign or row.started
                connection.execute(RUN.update().where(RUN.c.run == row.run).values(status="failed", finished=ended))
                _end_steps(connection, row.run, "failed", f"process {row.process} on {row.host} ended unexpectedly",
                           "the run died before it")  # fmt: skip

    @_lasting
    def break_off(self, run: int, status: str, why: str) -> None:
        """Record that a run ends, though some of its steps have not come to an end of their own."""
        with self._begin(run) as connection:
            _end_steps(connection, run, status, why, "the run was broken off before it")
        self.end_run(run, status)

    @_lasting
    def begin_step(self, run: int, step: str, batches: int = 0, worker: str | None = None, lost: int = 0) -> None:
        """Record that a step begins, or begins again; of an earlier try so many batches are left.

        A worker is named where one has it, after so many others that were lost.
        """
        with self._begin(run) as connection:
            if run not in self._new or (run, step) in self._begun:
                for table in (BATCH, REJECT):
                    of_step = table.delete().where(table.c.run == run, table.c.step == step)
                    connection.execute(of_step.where(sa.or_(table.c.batch > batches, table.c.batch.is_(None))))
                connection.execute(TASK.delete().where(TASK.c.run == run, TASK.c.step == step))
            self._begun.add((run, step))
            if worker is not None:
                connection.execute(TASK.insert().values(_task(run, step, 0, "", worker, lost)))
            connection.execute(_STEP_BEGINS, {"this_run": run, "this_step": step, "now": clock.now()})
            kept = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.step == step)
            self._kept[run, step] = int(connection.execute(kept).scalar() or 0) if batches else 0

    @_lasting
    def task_begins(self, run: int, step: str, task: int, part: str, worker: str, lost: int = 0) -> None:
        """Record that a worker begins with a part of a step."""
        with self._begin(run) as connection:
            mine = sa.and_(TASK.c.run == run, TASK.c.step == step, TASK.c.task == task)
            connection.execute(TASK.delete().where(mine))
            connection.execute(TASK.insert().values(_task(run, step, task, part, worker, lost)))

    @_lasting
    def task_ends(self, run: int, step: str, task: int, seconds: float) -> None:
        """Record that a worker is done with a step, or a part of it."""
        with self._begin(run) as connection:
            mine = sa.and_(TASK.c.run == run, TASK.c.step == step, TASK.c.task == task)
            connection.execute(TASK.update().where(mine).values(seconds=seconds))

    @_lasting
    def drop_batches(self, run: int, step: str, batches: int) -> None:
        """Take back what was recorded of batches beyond the first so many, which were not committed."""
        with self._begin(run) as connection:
            for table in (BATCH, REJECT):
                of_step = table.delete().where(table.c.run == run, table.c.step == step)
                connection.execute(of_step.where(table.c.batch > batches))

    @_lasting
    def drop_batches_of(self, run: int, step: str, numbers: range) -> None:
        """Take back what was recorded of batches with these numbers, which are loaded again."""
        with self._begin(run) as connection:
            for table in (BATCH, REJECT):
                of_step = table.delete().where(table.c.run == run, table.c.step == step)
                connection.execute(of_step.where(table.c.batch >= numbers.start, table.c.batch < numbers.stop))
            kept = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.step == step)
            self._kept[run, step] = int(connection.execute(kept).scalar() or 0)

    @_lasting
    def add_batch(
        self,
        run: int,
        step: str,
        batch: BatchRecord,
        rejects: Sequence[Reject],
        keep_all: bool = False,
        key: Sequence[str] = (),
        later: bool = False,
    ) -> None:
        """Record a batch, with the rows of it that were rejected, as far as so many are kept.

        `key` are the columns that tell the source's rows apart. With `later`, one without rejects may be recorded
        together with the next entry, or half a second later.
        """
        kept = self._kept.get((run, step), 0)
        chosen = rejects if keep_all else rejects[: max(0, self.keep_rejects - kept)]
        times = {"reading": batch.reading, "computing": batch.computing, "writing": batch.writing}
        entry = {"run": run, "step": step, "batch": batch.batch, "seconds": sum(times.values())}
        entry |= {**times, **_values(batch.tally)}
        if later and not chosen and time.monotonic() - self._written < _SOON:
            with self._one_at_a_time:
                self._waiting.append(entry)
            return
        with self._begin(run) as connection:
            if not _add_batch(connection, entry):
                return
            if chosen:
                origins = _origins(connection, [reject.again for reject in chosen if reject.again is not None])
                rows = [
                    _reject_row(run, step, reject, key) | {"batch": batch.batch, "origin": origins.get(reject.again)}
                    for reject in chosen
                ]
                connection.execute(REJECT.insert(), rows)
        self._written = time.monotonic()
        self._kept[run, step] = kept + len(chosen)

    @_lasting
    def end_step(self, run: int, record: StepRecord) -> None:
        """Record how a step ended."""
        with self._begin(run) as connection:
            values = {**_values(record.tally), **{name: getattr(record, name) for name in _OF_STEP[:5]}}
            named = {f"new_{name}": value for name, value in values.items()}
            connection.execute(_STEP_ENDS, {"this_run": run, "this_step": record.step, **named})

    @_lasting
    def end_run(self, run: int, status: str) -> None:
        """Record how a run ended."""
        with self._begin(run) as connection:
            connection.execute(RUN.update().where(RUN.c.run == run).values(status=status, finished=clock.now()))
            others = sa.select(RUN.c.run).where(RUN.c.status == "running", RUN.c.series.is_not(None))
            own = sa.select(RUN.c.series).where(RUN.c.run == run).scalar_subquery()
            other = connection.execute(others.where(RUN.c.series == own).limit(1)).scalar()
            held = LOCK.c.run == run
            connection.execute(
                LOCK.delete().where(held) if other is None else LOCK.update().where(held).values(run=other)
            )

    def overdue(self, job: str) -> list[tuple[int, str]]:
        """The runs of a job that are not kept any longer, with what marks their work in targets.

        By number or age, as `keep_runs` says; never those that go on, and never the latest that succeeded.
        """
        if self.keep_runs is None:
            return []
        ended = sa.and_(RUN.c.job == job, RUN.c.status != "running")
        found = sa.select(RUN.c.run, RUN.c.token).where(ended).order_by(RUN.c.run.desc())
        if isinstance(self.keep_runs, dt.timedelta):
            found = found.where(RUN.c.started < clock.now() - self.keep_runs)
        else:
            found = found.offset(self.keep_runs)
        last = sa.select(sa.func.max(RUN.c.run)).where(RUN.c.job == job, RUN.c.status == "succeeded")
        with self._begin() as connection:
            best = connection.execute(last).scalar()
            return [(row.run, row.token or "") for row in connection.execute(found.limit(100_000)) if row.run != best]

    def abandoned(self, job: str) -> list[tuple[int, str]]:
        """The runs of a job that failed long ago, and that nobody has gone on with while later ones succeeded.

        Not those of a window, which no other run loads."""
        long_ago = clock.now() - ABANDONED
        last = sa.select(sa.func.max(RUN.c.run)).where(RUN.c.job == job, RUN.c.status == "succeeded").scalar_subquery()
        found = sa.select(RUN.c.run, RUN.c.token).where(
            RUN.c.job == job, RUN.c.status.in_(("failed", "stopped")), RUN.c.finished < long_ago, RUN.c.run < last,
            RUN.c.token != "", sa.or_(RUN.c.options.is_(None), ~RUN.c.options.like('%"until"%')),
        )  # fmt: skip
        with self._begin() as connection:
            return [(row.run, row.token or "") for row in connection.execute(found)]

    def give_up(self, runs: Collection[int]) -> None:
        """Record that runs, by their numbers, cannot be gone on with any more."""
        with self._begin() as connection:
            for some in _hundreds(runs):
                connection.execute(RUN.update().where(RUN.c.run.in_(some)).values(token=""))

    def remove(self, runs: Collection[int]) -> None:
        """Remove runs, by their numbers, with all that belongs to them."""
        with self._begin() as connection:
            for some in _hundreds(runs):
                for table in (BATCH, REJECT, TASK, STEP, RUN):
                    connection.execute(table.delete().where(table.c.run.in_(some)))

    # --- what a service knows of its jobs --------------------------------------------------------------------------

    def keep_schedule(self, job: str, times: str) -> dt.datetime:
        """Since when (UTC) a job's schedule is kept: from now on, where its times are new."""
        with self._begin() as connection:
            row = connection.execute(sa.select(SCHEDULE).where(SCHEDULE.c.job == job)).first()
            if row is not None and row.times == times:
                return cast(dt.datetime, row.since)
            now = clock.now().replace(microsecond=0)
            connection.execute(SCHEDULE.delete().where(SCHEDULE.c.job == job))
            connection.execute(SCHEDULE.insert().values(job=job, times=times, since=now))
            return now

    def note_stopped(self, job: str, run: int | None) -> None:
        """Record that a run was stopped with its service, to be gone on with when that is back; None for none."""
        with self._begin() as connection:
            connection.execute(SCHEDULE.update().where(SCHEDULE.c.job == job).values(stopped_run=run))

    def add_messages(self, rows: Sequence[Mapping[str, Any]]) -> int:
        """Record messages to be sent, of those that are not recorded yet; how many are new. Old ones are removed."""
        added = 0
        with self._begin() as connection:
            connection.execute(MESSAGE.delete().where(MESSAGE.c.made < clock.now() - OLD_MESSAGE))
            for row in rows:
                same = [MESSAGE.c[name] == row[name] for name in ("job", "about", "receiver")]
                if connection.execute(sa.select(MESSAGE.c.message).where(*same)).first() is None:
                    connection.execute(MESSAGE.insert().values(made=clock.now(), **row))
                    added += 1
        return added

    def claim_message(self, message: int, tries: int) -> bool:
        """Claim a message for this process, given its number of tries; False if another process sends it."""
        mine = sa.and_(MESSAGE.c.message == message, MESSAGE.c.tries == tries, MESSAGE.c.sent.is_(None))
        with self._begin() as connection:
            return connection.execute(MESSAGE.update().where(mine).values(tries=tries + 1)).rowcount == 1

    def message_sent(self, message: int, error: str | None) -> None:
        """Record that a claimed message was sent, or why not."""
        values = {"error": error} | ({} if error else {"sent": clock.now()})
        with self._begin() as connection:
            connection.execute(MESSAGE.update().where(MESSAGE.c.message == message).values(values))

    @_lasting
    def resolve(self, rejects: Collection[int], run: int, step: str, batch: int | None = None) -> None:
        """Record that rejected rows, by their numbers, will have been loaded by a run after all once it commits, or
        a batch of it. A row that was rejected again by other runs is the same row."""
        with self._begin(run) as connection:
            if batch is None:  # what an earlier try hoped for
                connection.execute(_resolving(run, step).values(resolved_by=None, resolved_in=None))
            numbers = sorted({*_origins(connection, sorted(rejects)).values()})
            for start in range(0, len(numbers), 500):
                chosen = numbers[start : start + 500]
                same = sa.or_(REJECT.c.reject.in_(chosen), REJECT.c.origin.in_(chosen))
                open_ones = sa.or_(REJECT.c.resolved_by.is_(None), REJECT.c.resolved_by == -run)
                connection.execute(REJECT.update().where(same, open_ones).values(resolved_by=-run, resolved_in=batch))

    def end_gone(self, rejects: Collection[int]) -> None:
        """Record that the rows of rejects, by their numbers, are gone from the source."""
        with self._begin() as connection:
            numbers = sorted({*_origins(connection, sorted(rejects)).values()})
            for start in range(0, len(numbers), 500):
                chosen = numbers[start : start + 500]
                same = sa.or_(REJECT.c.reject.in_(chosen), REJECT.c.origin.in_(chosen))
                connection.execute(REJECT.update().where(same).values(ended="gone"))

    @_lasting
    def settle(self, run: int, step: str, committed: bool, batches: int = 0) -> None:
        """Record whether the rows that a run was about to resolve are committed, or rejected as before.

        Those of its first so many batches are committed."""
        with self._begin() as connection:
            done = (
                sa.true() if committed else sa.and_(REJECT.c.resolved_in.is_not(None), REJECT.c.resolved_in <= batches)
            )
            connection.execute(_resolving(run, step).where(done).values(resolved_by=run))
            connection.execute(_resolving(run, step).values(resolved_by=None, resolved_in=None))

    @_lasting
    def was_committed(self, run: int, step: str, tally: Tally, batches: int, note: str) -> None:
        """Record that a step of a run that was broken off is committed, as its target says; and that the run
        succeeded, if it was the last of its steps."""
        values = {**_values(tally), "status": "succeeded", "batches": batches, "error": None, "note": note}
        of_run = STEP.c.run == run
        left = sa.exists().where(of_run, STEP.c.status != "succeeded")
        with self._begin() as connection:
            connection.execute(STEP.update().where(of_run, STEP.c.step == step).values(values))
            ended = RUN.update().where(RUN.c.run == run, RUN.c.status != "running", ~left)
            connection.execute(ended.values(status="succeeded"))
        self.settle(run, step, True, batches)


def _add_batch(connection: sa.Connection, entry: Mapping[str, Any]) -> bool:
    """Make a batch's entry; False where it is there already, by a try whose answer was lost."""
    if connection.execute(_SAME_BATCH, entry).first() is not None:
        return False
    connection.execute(_ADD_BATCH, entry)
    return True


def _hundreds(numbers: Collection[int]) -> Iterator[list[int]]:
    listed = sorted(numbers)
    for start in range(0, len(listed), 500):
        yield listed[start : start + 500]


def _origins(connection: sa.Connection, numbers: Sequence[int]) -> dict[int | None, int]:
    """The first reject of the row of each of these."""
    found: dict[int | None, int] = {}
    for start in range(0, len(numbers), 500):
        chosen = REJECT.c.reject.in_(numbers[start : start + 500])
        for number, origin in connection.execute(sa.select(REJECT.c.reject, REJECT.c.origin).where(chosen)):
            found[number] = origin or number
    return found


def _task(run: int, step: str, task: int, part: str, worker: str, lost: int) -> dict[str, Any]:
    named = {"run": run, "step": step, "task": task, "part": part, "worker": worker, "lost": lost}
    return named | {"started": clock.now()}


def _waiting(run: int, place: int, seed: StepSeed) -> dict[str, Any]:
    values = {"run": run, "step": seed.step, "kind": seed.kind, "position": place, "status": "waiting"}
    return values | {"reads_all": seed.reads_all, "by_batch": seed.by_batch}


def _end_steps(connection: sa.Connection, run: int, status: str, why: str, never_began: str) -> None:
    """Record how steps end whose run ends before them: of those that commit batch by batch, the batches stay."""
    of_run = STEP.update().where(STEP.c.run == run)
    undone = dict.fromkeys(WRITES, 0)
    # One that waits to go on has committed batches too, if it commits batch by batch.
    begun = sa.or_(STEP.c.status == "running", sa.and_(STEP.c.status == "waiting", STEP.c.by_batch))
    for row in connection.execute(sa.select(STEP).where(STEP.c.run == run, begun)).all():
        sums = [sa.func.sum(BATCH.c[name]) for name in COUNTS]
        of_step = sa.select(*sums, sa.func.count()).where(BATCH.c.run == run, BATCH.c.step == row.step)
        *counts, batches = connection.execute(of_step).one()
        if row.status == "waiting" and not batches:
            continue
        values = dict(zip(COUNTS, (int(count or 0) for count in counts), strict=True))
        said = f"{why}; what it had not committed was undone"
        if row.by_batch:
            said = f"{why}; the batches that it had committed stay, the last one counted here perhaps not"
        values = values if row.by_batch else values | undone
        connection.execute(
            of_run.where(STEP.c.step == row.step).values(status=status, error=said, batches=int(batches), **values)
        )
    connection.execute(of_run.where(STEP.c.status == "waiting").values(status="stopped", error=never_began))


def _resolving(run: int, step: str) -> sa.Update:
    return REJECT.update().where(REJECT.c.resolved_by == -run, REJECT.c.step == step)


def _step(run: int, step: str) -> sa.Update:
    return STEP.update().where(STEP.c.run == run, STEP.c.step == step)


def _values(tally: Tally) -> dict[str, int]:
    return {name: getattr(tally, name) for name in COUNTS}


def _reject_row(run: int, step: str, reject: Reject, key: Sequence[str]) -> dict[str, Any]:
    return {
        "run": run,
        "step": step,
        "column": reject.column,
        "reason": str(reject.reason),
        "value": reject.value,
        "message": reject.message,
        "row": json.dumps(reject.row, ensure_ascii=False),
        "row_key": row_key(reject.row, key) if key else None,
        "constraint": reject.constraint,
        "would_be": reject.would_be,
        "parent": reject.parent,
    }


def _add_run(connection: sa.Connection, job: str, file: str | None, options: Any, **values: Any) -> int:
    """Add a run that begins now, in this process; its number."""
    values = {"started": clock.now()} | values | {"job": job, "file": file, "token": str(uuid.uuid4())}
    values |= {"options": json.dumps(dict(options or {}), default=str)} | _this_process(connection)
    inserted = connection.execute(RUN.insert().values(values)).inserted_primary_key
    return int(inserted[0]) if inserted else 0


def _must_be_alone(connection: sa.Connection, job: str, run: int, start: Start) -> None:
    """Raises AlreadyRunning where another run began for the same due moment, and the same window."""
    same = sa.select(RUN).where(RUN.c.job == job, RUN.c.due == start.columns["due"], RUN.c.run != run)
    for row in connection.execute(same):
        same_window = start.window is None or run_record(row, ()).window == start.window
        if same_window and row.error is None:  # else it could not begin
            raise AlreadyRunning(f"Run {row.run} of {job} is the one that was due then", "look at it with kanal runs")


def _under_way(row: Any) -> AlreadyRunning:
    return AlreadyRunning(
        f"Run {row.run} of {row.job} is under way, since {row.started:%Y-%m-%d %H:%M:%S} UTC, "
        f"by process {row.process} on {row.host}",
        "wait for it, or stop that process",
    )


def _this_process(connection: sa.Connection) -> dict[str, Any]:
    process = os.getpid()
    return {"host": socket.gethostname(), "process": process, "born": born(process), "sign": clock.shared(connection)}


def _lives(row: Any, connection: sa.Connection) -> bool:
    return lives(row.host, row.process, row.born, row.sign, clock.shared(connection))
