"""Keeps runs, steps, batches and rejects in a database, and finds them again."""

from __future__ import annotations

import datetime as dt
import functools
import json
import os
import random
import socket
import statistics
import threading
import time
import uuid
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar, cast

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc

from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.databases.base import Database
from kanal.databases.errors import DatabaseError
from kanal.runlog.liveness import born, lives
from kanal.runlog.records import BatchRecord, RunRecord, StepRecord, Usual
from kanal.runlog.tables import BATCH, COUNTS, LOCK, METADATA, REJECT, RUN, STEP, VERSION, VERSION_NOW

#: Seconds before what another run may do at the same moment is tried again.
_MEANWHILE = (0.1, 0.2, 0.3, 0.4)
#: Seconds before an entry is tried again.
_PAUSES = (0.2, 1.0, 4.0, 10.0)
Made = TypeVar("Made")


class RunLogUnusable(DatabaseError):
    """The database of the run log cannot be reached, or refuses what it was asked."""


Method = TypeVar("Method", bound=Callable[..., None])


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


def _now() -> dt.datetime:
    return dt.datetime.now(dt.UTC).replace(tzinfo=None)


class RunLogStore:
    """The run log in one database; its tables are made when first needed.

    Of each step so many rejected rows are kept, and of each job, if that is given, so many runs.
    """

    def __init__(self, database: Database, keep_rejects: int = 100_000, keep_runs: int | None = None) -> None:
        self.database = database
        self.keep_rejects = keep_rejects
        self.keep_runs = keep_runs
        self._one_at_a_time = threading.RLock()
        self._kept: dict[tuple[int, str], int] = {}

    @contextmanager
    def _begin(self) -> Iterator[sa.Connection]:
        try:
            with self._one_at_a_time, self.database.engine.begin() as connection:
                yield connection
        except exc.SQLAlchemyError as error:
            raise RunLogUnusable(
                f"The run log {self.database.shown_url} cannot be used: {self.database.words_of(error)}",
                "set run_log to a database that may be written",
            ) from None

    def prepare(self) -> None:
        """Make the tables that are missing, and the columns that an older run log does not have.

        Raises KanalError for a run log of a newer Kanal.
        """
        _again(self._prepare, _MEANWHILE, lambda _: True)  # another run may make them just now

    def _prepare(self) -> None:
        with self._begin() as connection:
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

    def exists(self) -> bool:
        """True where there is a run log to read."""
        try:
            return bool(sa.inspect(self.database.engine).has_table("kanal_run"))
        except exc.SQLAlchemyError:
            return False

    # --- writing ---------------------------------------------------------------------------------------------------

    def begin_run(
        self, job: str, file: str | None, steps: Sequence[tuple[str, str]], options: Mapping[str, Any] | None = None
    ) -> RunRecord:
        """Record a run that begins, with its steps by name and kind, all waiting.

        Raises AlreadyRunning while another run of the job is under way; one whose process is dead is no obstacle.
        """
        return _again(lambda: self._begin_run(job, file, steps, options), _MEANWHILE, lambda _: True)

    def _begin_run(
        self, job: str, file: str | None, steps: Sequence[tuple[str, str]], options: Mapping[str, Any] | None
    ) -> RunRecord:
        with self._begin() as connection:
            run = _add_run(connection, job, file, options, status="running")
            self._lock(connection, job, run)
            rows = [
                {"run": run, "step": name, "kind": kind, "position": place, "status": "waiting"}
                for place, (name, kind) in enumerate(steps, 1)
            ]
            if rows:
                connection.execute(STEP.insert(), rows)
        return self.run(run)

    def add_failed_run(
        self, job: str, file: str | None, options: Mapping[str, Any], started: dt.datetime, error: str
    ) -> int:
        """Record a run, started at a moment of UTC, that failed before a step could begin, and why; its number."""
        times = {"started": started.replace(tzinfo=None), "finished": _now()}
        with self._begin() as connection:
            return _add_run(connection, job, file, options, status="failed", error=error, **times)

    def resume_run(self, run: int, steps: Sequence[tuple[str, str]], begun: Collection[str] = frozenset()) -> RunRecord:
        """Record that a run goes on, with the steps of its job as it is now; those that succeeded stay.

        Of those in `begun`, batches and rejects stay too, until it is known which of them were committed.
        Raises AlreadyRunning while another run of the job is under way.
        """
        record = self.run(run)
        with self._begin() as connection:
            row = connection.execute(sa.select(RUN).where(RUN.c.run == run)).one()
            if row.status == "running" and _lives(row):
                raise _under_way(row)
            connection.execute(
                RUN.update()
                .where(RUN.c.run == run)
                .values(status="running", finished=None, error=None, **_this_process())
            )
            self._lock(connection, record.job, run)
            done = {step.step for step in record.steps if step.status == "succeeded"}
            names = [name for name, _ in steps]
            connection.execute(STEP.delete().where(STEP.c.run == run, STEP.c.step.not_in(done & set(names))))
            for table in (BATCH, REJECT):
                connection.execute(table.delete().where(table.c.run == run, table.c.step.not_in(done | set(begun))))
            for place, (name, kind) in enumerate(steps, 1):
                if name in done:
                    connection.execute(_step(run, name).values(position=place))
                else:
                    values = {"run": run, "step": name, "kind": kind, "position": place, "status": "waiting"}
                    connection.execute(STEP.insert().values(values))
        return record

    def _lock(self, connection: sa.Connection, job: str, run: int) -> None:
        """Take the job's lock for a run; raises AlreadyRunning where a living one has it."""
        key = job[:200]
        holder = connection.execute(sa.select(LOCK.c.run).where(LOCK.c.job == key)).scalar()
        if holder is None:
            connection.execute(LOCK.insert().values(job=key, run=run))
            return
        row = connection.execute(sa.select(RUN).where(RUN.c.run == holder)).first()
        if row is not None and holder != run and row.status == "running" and _lives(row):
            raise _under_way(row)
        connection.execute(LOCK.update().where(LOCK.c.job == key).values(run=run))

    def give_sign(self, run: int) -> None:
        """Record that a run's process lives."""
        with self._begin() as connection:
            connection.execute(RUN.update().where(RUN.c.run == run).values(sign=_now()))

    def bury_the_dead(self) -> None:
        """Record as failed the runs whose process ended without a word."""
        with self._begin() as connection:
            if "sign" not in {column["name"] for column in sa.inspect(connection).get_columns("kanal_run")}:
                return
            for row in connection.execute(sa.select(RUN).where(RUN.c.status == "running")).all():
                if _lives(row):
                    continue
                ended = row.sign or row.started
                connection.execute(RUN.update().where(RUN.c.run == row.run).values(status="failed", finished=ended))
                why = f"process {row.process} on {row.host} ended without a word; what it had not committed was undone"
                of_run = STEP.update().where(STEP.c.run == row.run)
                undone = {"inserted": 0, "updated": 0, "unchanged": 0, "deleted": 0}
                connection.execute(
                    of_run.where(STEP.c.status == "running").values(status="failed", error=why, **undone)
                )
                connection.execute(
                    of_run.where(STEP.c.status == "waiting").values(status="stopped", error="the run died before it")
                )

    @_lasting
    def begin_step(self, run: int, step: str, batches: int = 0) -> None:
        """Record that a step begins, or begins again; of an earlier try so many batches are left."""
        with self._begin() as connection:
            for table in (BATCH, REJECT):
                of_step = table.delete().where(table.c.run == run, table.c.step == step)
                connection.execute(of_step.where(sa.or_(table.c.batch > batches, table.c.batch.is_(None))))
            connection.execute(_step(run, step).values(status="running", started=_now()))
            kept = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.step == step)
            self._kept[run, step] = int(connection.execute(kept).scalar() or 0) if batches else 0

    @_lasting
    def add_batch(
        self, run: int, step: str, batch: BatchRecord, rejects: Sequence[Reject], keep_all: bool = False
    ) -> None:
        """Record a batch, with the rows of it that were rejected, as far as so many are kept."""
        kept = self._kept.get((run, step), 0)
        chosen = rejects if keep_all else rejects[: max(0, self.keep_rejects - kept)]
        times = {"reading": batch.reading, "computing": batch.computing, "writing": batch.writing}
        with self._begin() as connection:
            values = {"run": run, "step": step, "batch": batch.batch, "seconds": sum(times.values())}
            same = sa.and_(BATCH.c.run == run, BATCH.c.step == step, BATCH.c.batch == batch.batch)
            if connection.execute(sa.select(BATCH.c.batch).where(same)).first() is not None:
                return  # by a try whose answer was lost
            connection.execute(BATCH.insert().values(**values, **times, **_values(batch.tally)))
            if chosen:
                rows = [_reject_row(run, step, reject) | {"batch": batch.batch} for reject in chosen]
                connection.execute(REJECT.insert(), rows)
        self._kept[run, step] = kept + len(chosen)

    @_lasting
    def end_step(self, run: int, record: StepRecord) -> None:
        """Record how a step ended."""
        with self._begin() as connection:
            connection.execute(
                _step(run, record.step).values(
                    status=record.status,
                    seconds=record.seconds,
                    batches=record.batches,
                    error=record.error,
                    note=record.note,
                    **_values(record.tally),
                )
            )

    @_lasting
    def end_run(self, run: int, status: str) -> None:
        """Record how a run ended."""
        with self._begin() as connection:
            connection.execute(RUN.update().where(RUN.c.run == run).values(status=status, finished=_now()))
            connection.execute(LOCK.delete().where(LOCK.c.run == run))
            if self.keep_runs is not None:
                self._prune(connection, run)

    def _prune(self, connection: sa.Connection, run: int) -> None:
        """Remove all but the newest runs of a run's job."""
        assert self.keep_runs is not None
        job = sa.select(RUN.c.job).where(RUN.c.run == run).scalar_subquery()
        of_job = sa.select(RUN.c.run).where(RUN.c.job == job, RUN.c.status != "running").order_by(RUN.c.run.desc())
        old = [row.run for row in connection.execute(of_job.offset(self.keep_runs).limit(100_000))]
        for start in range(0, len(old), 500):
            for table in (BATCH, REJECT, STEP, RUN):
                connection.execute(table.delete().where(table.c.run.in_(old[start : start + 500])))

    # --- reading ---------------------------------------------------------------------------------------------------

    def runs(self, limit: int = 20) -> list[RunRecord]:
        """The latest runs, newest first, with their steps."""
        with self._begin() as connection:
            rows = connection.execute(sa.select(RUN).order_by(RUN.c.run.desc()).limit(limit)).all()
            return [_run_record(row, self._steps(connection, row.run)) for row in rows]

    def run(self, number: int | None) -> RunRecord:
        """A run by its number, or the latest; raises KanalError where there is none."""
        with self._begin() as connection:
            statement = sa.select(RUN).order_by(RUN.c.run.desc()).limit(1)
            if number is not None:
                statement = statement.where(RUN.c.run == number)
            row = connection.execute(statement).first()
            if row is None:
                last = connection.execute(sa.select(sa.func.max(RUN.c.run))).scalar()
                raise KanalError(
                    f"The run log has no run {number}" if number is not None else "The run log has no runs yet",
                    f"the latest is {last}" if last else "run a job first",
                )
            return _run_record(row, self._steps(connection, row.run))

    def times(self, run: int) -> dict[str, tuple[float, float, float]]:
        """The seconds that each step of a run spent reading, computing and writing, side by side."""
        sums = [sa.func.sum(BATCH.c[name]) for name in ("reading", "computing", "writing")]
        with self._begin() as connection:
            rows = connection.execute(sa.select(BATCH.c.step, *sums).where(BATCH.c.run == run).group_by(BATCH.c.step))
            return {row[0]: (row[1] or 0.0, row[2] or 0.0, row[3] or 0.0) for row in rows}

    def usual(self, record: RunRecord, count: int = 10) -> dict[str, Usual]:
        """What is usual for each step of a run, by up to so many earlier runs of its job in which it succeeded."""
        replays = RUN.c.options.like('%"replay"%')
        earlier = sa.select(RUN.c.run).where(
            RUN.c.job == record.job, RUN.c.run < record.run, sa.or_(RUN.c.options.is_(None), ~replays)
        )
        found: dict[str, Usual] = {}
        with self._begin() as connection:
            runs = [row.run for row in connection.execute(earlier.order_by(RUN.c.run.desc()).limit(3 * count))]
            query = sa.select(STEP.c.step, STEP.c.read, STEP.c.seconds).where(
                STEP.c.run.in_(runs), STEP.c.status == "succeeded"
            )
            rows = connection.execute(query.order_by(STEP.c.run.desc())).all()
        for step in record.steps:
            same = [row for row in rows if row.step == step.step][:count]
            if same:
                read, took = (
                    statistics.median(values) for values in zip(*((r.read, r.seconds) for r in same), strict=True)
                )
                found[step.step] = Usual(len(same), read, took)
        return found

    def _steps(self, connection: sa.Connection, run: int) -> tuple[StepRecord, ...]:
        rows = connection.execute(sa.select(STEP).where(STEP.c.run == run).order_by(STEP.c.position))
        return tuple(
            StepRecord(
                row.step,
                row.kind,
                row.status,
                Tally(**{name: getattr(row, name) for name in COUNTS}),
                row.batches,
                row.seconds,
                row.error,
                row.note,
            )
            for row in rows
        )

    def rejects(self, run: int, step: str | None = None, limit: int | None = None, **where: str | None) -> pa.Table:
        """The rejects of a run that are not mended: step, column, reason, value, message, row (JSON), all text.

        Of one step, reason or column alone where these are given.
        """
        names = ("step", "column", "reason", "value", "message", "row")
        chosen = _open(run, step=step, **where)
        statement = sa.select(*(REJECT.c[name] for name in names)).where(chosen).order_by(REJECT.c.reject)
        with self._begin() as connection:
            rows = connection.execute(statement if limit is None else statement.limit(limit)).all()
        columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
        return pa.table({name: pa.array(columns[place], pa.string()) for place, name in enumerate(names)})

    def rejected_rows(self, run: int, step: str) -> list[tuple[int, dict[str, str | None]]]:
        """The rejected source rows of a step that are not mended, each with its number."""
        statement = sa.select(REJECT.c.reject, REJECT.c.row).where(_open(run), REJECT.c.step == step)
        with self._begin() as connection:
            rows = connection.execute(statement.order_by(REJECT.c.reject)).all()
        return [(row.reject, json.loads(row.row)) for row in rows]

    def refused_rows(self, job: str, step: str) -> list[tuple[int, dict[str, str | None]]]:
        """The source rows that the target refused when a step last ran, and that are not mended."""
        last = sa.select(sa.func.max(STEP.c.run)).join(RUN, RUN.c.run == STEP.c.run)
        last = last.where(RUN.c.job == job, STEP.c.step == step, STEP.c.status == "succeeded")
        if not self.exists():
            return []
        with self._begin() as connection:
            run = connection.execute(last).scalar()
            chosen = sa.and_(_open(run, step=step, reason="refused_by_target")) if run is not None else sa.false()
            rows = connection.execute(sa.select(REJECT.c.reject, REJECT.c.row).where(chosen)).all()
        return [(row.reject, json.loads(row.row)) for row in rows]

    @_lasting
    def mend(self, rejects: Collection[int], run: int, step: str) -> None:
        """Record that rejected rows, by their numbers, will have been loaded by a run after all once it commits."""
        numbers = sorted(rejects)
        with self._begin() as connection:
            connection.execute(_mending(run, step).values(mended_by=None))  # what an earlier try hoped for
            for start in range(0, len(numbers), 500):
                chosen = REJECT.c.reject.in_(numbers[start : start + 500])
                connection.execute(REJECT.update().where(chosen).values(mended_by=-run))

    @_lasting
    def settle(self, run: int, step: str, committed: bool) -> None:
        """Record whether the rows that a run was about to mend are committed, or rejected as before."""
        with self._begin() as connection:
            connection.execute(_mending(run, step).values(mended_by=run if committed else None))

    def unsettled(self, run: int) -> list[tuple[int, str, str]]:
        """Runs that died while they loaded rejects of a run: the number, token and step of each."""
        query = sa.select(RUN.c.run, RUN.c.token, REJECT.c.step).where(
            REJECT.c.run == run, REJECT.c.mended_by == -RUN.c.run, RUN.c.status != "running"
        )
        with self._begin() as connection:
            return [(row.run, row.token, row.step) for row in connection.execute(query.distinct())]

    def mended(self, run: int) -> int:
        """How many rejects of a run were mended."""
        statement = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.mended_by > 0)
        with self._begin() as connection:
            return int(connection.execute(statement).scalar() or 0)

    def reject_groups(self, run: int, step: str | None = None, **where: str | None) -> list[dict[str, Any]]:
        """Rejects counted by step, column and reason, most first: with a message and value as example, and `longest`,
        the characters of the longest value. Of one step, reason or column alone where these are given."""
        keys = (REJECT.c.step, REJECT.c.column, REJECT.c.reason)
        statement = (
            sa.select(
                *keys,
                sa.func.count().label("rows"),
                sa.func.max(sa.func.length(REJECT.c.value)).label("longest"),
                sa.func.min(REJECT.c.reject).label("example"),
            )
            .where(_open(run, step=step, **where))
            .group_by(*keys)
            .order_by(sa.desc("rows"), *keys)
        )
        with self._begin() as connection:
            groups = [dict(row._mapping) for row in connection.execute(statement)]
            for group in groups:
                example = connection.execute(
                    sa.select(REJECT.c.value, REJECT.c.message).where(REJECT.c.reject == group.pop("example"))
                ).one()
                group.update(example._mapping)
        return groups


def _open(run: int, **where: str | None) -> sa.ColumnElement[bool]:
    """The rejects of a run that are not mended, of one step, reason or column alone where these are given."""
    given = (REJECT.c[name] == value for name, value in where.items() if value is not None)
    return sa.and_(REJECT.c.run == run, sa.or_(REJECT.c.mended_by.is_(None), REJECT.c.mended_by < 0), *given)


def _mending(run: int, step: str) -> sa.Update:
    return REJECT.update().where(REJECT.c.mended_by == -run, REJECT.c.step == step)


def _step(run: int, step: str) -> sa.Update:
    return STEP.update().where(STEP.c.run == run, STEP.c.step == step)


def _values(tally: Tally) -> dict[str, int]:
    return {name: getattr(tally, name) for name in COUNTS}


def _reject_row(run: int, step: str, reject: Reject) -> dict[str, Any]:
    return {
        "run": run,
        "step": step,
        "column": reject.column,
        "reason": str(reject.reason),
        "value": reject.value,
        "message": reject.message,
        "row": json.dumps(reject.row, ensure_ascii=False),
    }


def _run_record(row: Any, steps: tuple[StepRecord, ...]) -> RunRecord:
    options = json.loads(row.options) if row.options else {}
    return RunRecord(
        row.run, row.job, row.status, row.started, row.finished, steps, row.file, row.token or "", options, row.error
    )


def _add_run(connection: sa.Connection, job: str, file: str | None, options: Any, **values: Any) -> int:
    """Add a run that begins now, in this process; its number."""
    values = {"started": _now()} | values | {"job": job, "file": file, "token": str(uuid.uuid4())}
    values |= {"options": json.dumps(dict(options or {}), default=str)} | _this_process()
    inserted = connection.execute(RUN.insert().values(values)).inserted_primary_key
    return int(inserted[0]) if inserted else 0


def _under_way(row: Any) -> AlreadyRunning:
    return AlreadyRunning(
        f"Run {row.run} of {row.job} is under way, since {row.started:%Y-%m-%d %H:%M:%S} UTC, "
        f"by process {row.process} on {row.host}",
        "wait for it, or stop that process",
    )


def _this_process() -> dict[str, Any]:
    process = os.getpid()
    return {"host": socket.gethostname(), "process": process, "born": born(process), "sign": _now()}


def _lives(row: Any) -> bool:
    return lives(row.host, row.process, row.born, row.sign, _now())
