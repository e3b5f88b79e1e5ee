"""Finds runs, steps, batches and rejects again in the database of a run log."""

from __future__ import annotations

import datetime as dt
import json
import statistics
import threading
import uuid
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.errors import DatabaseError
from kanal.connections.sql.opening import SqlOpening
from kanal.core.errors import KanalError
from kanal.core.reasons import NOT_REPLAYED
from kanal.core.tally import COUNTS, Tally
from kanal.runlog.records import BLOCK, RunGlance, RunRecord, SeenTable, StepRecord, TaskRecord, Usual
from kanal.runlog.tables import BATCH, MESSAGE, PLAN, REJECT, RUN, SCHEDULE, SHAPE, STEP, TASK

if TYPE_CHECKING:
    import pyarrow as pa

#: The condition that a reject is of a row that can be loaded again by itself.
_REPLAYED = REJECT.c.reason.not_in([str(reason) for reason in NOT_REPLAYED])


#: The condition that a run did not load rejects of another one again.
_NO_REPLAY = sa.or_(RUN.c.options.is_(None), ~RUN.c.options.like('%"replay"%'))


class RunLogUnusable(DatabaseError):
    """The database of the run log cannot be reached, or refuses what it was asked."""


class TakenOver(KanalError):
    """Another process has gone on with the run, since it took this one for dead."""

    def __init__(self, run: int) -> None:
        super().__init__(f"another process goes on with run {run}", "nothing more is done here; see kanal runs")


def _open(run: int, **where: str | None) -> sa.ColumnElement[bool]:
    """The rejects of a run that are not resolved, of one step, reason or column alone where these are given."""
    given = (REJECT.c[name] == value for name, value in where.items() if value is not None)
    unresolved = sa.or_(REJECT.c.resolved_by.is_(None), REJECT.c.resolved_by < 0)
    return sa.and_(REJECT.c.run == run, unresolved, REJECT.c.ended.is_(None), *given)


def run_record(row: Any, steps: tuple[StepRecord, ...]) -> RunRecord:
    """A row of the table of runs as a record."""
    options = json.loads(row.options) if row.options else {}
    return RunRecord(
        row.run, row.job, row.status, row.started, row.finished, steps, row.file, row.token or "", options, row.error,
        row.environment, row.started_by, row.host, row.due, row.resumes or 0,
    )  # fmt: skip


def _range_of(options: Mapping[str, Any]) -> tuple[Any, ...]:
    return tuple(options.get(name) for name in ("since", "until"))


# Made once, since to make a statement costs more than to run it.
_OWNER = sa.select(RUN.c.owner).where(RUN.c.run == sa.bindparam("this"))


class RunLogReader:
    """What can be asked of the run log in one database."""

    def __init__(self, database: SqlOpening) -> None:
        self.database = database
        self._one_at_a_time = threading.RLock()
        #: What tells this process from others that may go on with the same run.
        self.owner = str(uuid.uuid4())

    @contextmanager
    def _begin(self, run: int | None = None) -> Iterator[sa.Connection]:
        """A transaction; for an entry into a run, raises TakenOver where it is another process's by now."""
        try:
            with self._one_at_a_time, self.database.engine.begin() as connection:
                if run is not None:
                    owner = connection.execute(_OWNER, {"this": run}).scalar()
                    if owner not in (None, self.owner):
                        raise TakenOver(run)
                yield connection
        except exc.SQLAlchemyError as error:
            raise RunLogUnusable(
                f"The run log {self.database.shown_url} cannot be used: {self.database.words_of(error)}",
                "set run_log to a database that may be written",
                self.database.passes(error),
            ) from None

    def exists(self) -> bool:
        """True where there is a run log to read; raises RunLogUnusable where it is damaged, or cannot be reached."""
        self.database.may_be_made()
        if self.database.missing_file:  # which looking would make
            return False
        try:
            return bool(sa.inspect(self.database.engine).has_table("kanal_run"))
        except exc.SQLAlchemyError as error:
            words = self.database.words_of(error)
            if "unable to open database file" in words:
                return False
            raise RunLogUnusable(
                f"The run log {self.database.shown_url} cannot be read: {words}",
                "restore it from a copy, or move it away; a new one is made by the next run",
            ) from None

    def runs(self, limit: int = 20, name: str | None = None) -> list[RunRecord]:
        """The latest runs, newest first, with their steps; of one job, in any environment, if its name is given."""
        chosen = sa.select(RUN).order_by(RUN.c.run.desc()).limit(limit)
        if name is not None:
            chosen = chosen.where(sa.or_(RUN.c.job == name, RUN.c.job.startswith(f"{name}@", autoescape=True)))
        with self._begin() as connection:
            rows = connection.execute(chosen).all()
            return [run_record(row, self._steps(connection, row.run)) for row in rows]

    def runs_of(self, job: str, limit: int, steps: bool = True) -> list[RunRecord]:
        """The latest runs of a job, newest first, with their steps unless they are not wanted."""
        chosen = sa.select(RUN).where(RUN.c.job == job).order_by(RUN.c.run.desc()).limit(limit)
        with self._begin() as connection:
            rows = connection.execute(chosen).all()
            return [run_record(row, self._steps(connection, row.run) if steps else ()) for row in rows]

    def windows_of(self, job: str) -> list[RunRecord]:
        """The runs of a job that loaded a range of change values, without their steps, in the order they began."""
        return self._windows(sa.and_(RUN.c.job == job), 100_000)

    def _windows(self, which: sa.ColumnElement[bool], limit: int) -> list[RunRecord]:
        chosen = sa.select(RUN).where(which, RUN.c.options.like('%"until"%')).order_by(RUN.c.run.desc())
        with self._begin() as connection:
            found = [run_record(row, ()) for row in connection.execute(chosen.limit(limit))]
        return [record for record in reversed(found) if record.window is not None]

    def loaded_windows(self, job: str) -> list[tuple[str, str]]:
        """The windows that the latest runs of a job have loaded."""
        records = self._windows(sa.and_(RUN.c.job == job, RUN.c.status == "succeeded"), 2_000)
        return [record.window for record in records if record.window is not None]

    def due_runs(self, job: str, limit: int = 50) -> list[RunRecord]:
        """The latest runs of a job that were due by its schedule, oldest first; the last one with its steps."""
        chosen = sa.select(RUN).where(RUN.c.job == job, RUN.c.due.is_not(None)).order_by(RUN.c.run.desc())
        with self._begin() as connection:
            rows = connection.execute(chosen.limit(limit)).all()
            return [run_record(row, self._steps(connection, row.run) if row is rows[0] else ()) for row in rows[::-1]]

    def plan_of(self, run: int) -> dict[str, Any]:
        """What the plan of a run looked like; empty where that is not known."""
        found = sa.select(PLAN.c.content).join(RUN, RUN.c.plan == PLAN.c.plan).where(RUN.c.run == run)
        with self._begin() as connection:
            content = connection.execute(found).scalar()
        return dict(json.loads(content)) if content else {}

    def progress(self, run: int) -> dict[str, Tally]:
        """The counts of the batches so far, by step of a run; what is not committed yet may still be undone."""
        sums = [sa.func.sum(BATCH.c[name]) for name in COUNTS]
        with self._begin() as connection:
            rows = connection.execute(sa.select(BATCH.c.step, *sums).where(BATCH.c.run == run).group_by(BATCH.c.step))
            return {row[0]: Tally(*(int(count or 0) for count in row[1:])) for row in rows}

    def glance(self, jobs: Collection[str], limit: int) -> dict[str, list[RunGlance]]:
        """The latest runs of each job, oldest first, with the counts of all their steps."""
        found: dict[str, list[Any]] = {}
        columns = (RUN.c.run, RUN.c.job, RUN.c.status, RUN.c.started, RUN.c.finished, RUN.c.options)
        with self._begin() as connection:
            for job in jobs:
                chosen = sa.select(*columns).where(RUN.c.job == job).order_by(RUN.c.run.desc()).limit(limit)
                found[job] = list(connection.execute(chosen))[::-1]
            numbers = [row.run for rows in found.values() for row in rows]
            counts: dict[int, tuple[int, int, int]] = {}
            for start in range(0, len(numbers), 500):
                some = STEP.c.run.in_(numbers[start : start + 500])
                written = STEP.c.inserted + STEP.c.updated
                sums = [sa.func.sum(column) for column in (STEP.c.read, written, STEP.c.rejected)]
                for row in connection.execute(sa.select(STEP.c.run, *sums).where(some).group_by(STEP.c.run)):
                    counts[row[0]] = int(row[1] or 0), int(row[2] or 0), int(row[3] or 0)
        return {
            job: [
                RunGlance(row.run, row.status, row.started, row.finished, *counts.get(row.run, (0, 0, 0)),
                          is_replay='"replay"' in (row.options or ""))
                for row in rows
            ]
            for job, rows in found.items()
        }  # fmt: skip

    def counted_runs(self, jobs: Collection[str]) -> list[tuple[str, str, int]]:
        """How many runs of each job there are, by status."""
        found = sa.select(RUN.c.job, RUN.c.status, sa.func.count()).where(RUN.c.job.in_(list(jobs)))
        with self._begin() as connection:
            rows = connection.execute(found.group_by(RUN.c.job, RUN.c.status))
            return [(row[0], row[1], int(row[2])) for row in rows]

    def counted_rows(self, jobs: Collection[str]) -> dict[str, dict[str, int]]:
        """How many rows of each job had which fate, in all runs that are kept."""
        sums = [sa.func.sum(STEP.c[name]) for name in COUNTS]
        found = sa.select(RUN.c.job, *sums).join(STEP, STEP.c.run == RUN.c.run).where(RUN.c.job.in_(list(jobs)))
        with self._begin() as connection:
            rows = connection.execute(found.group_by(RUN.c.job))
            return {row[0]: dict(zip(COUNTS, (int(count or 0) for count in row[1:]), strict=True)) for row in rows}

    def pulse(self) -> tuple[int, ...]:
        """Numbers that change as soon as a run begins, goes on or ends."""
        running = sa.select(RUN.c.run).where(RUN.c.status == "running")
        with self._begin() as connection:
            last = connection.execute(sa.select(sa.func.max(RUN.c.run))).scalar() or 0
            numbers = sorted(int(row[0]) for row in connection.execute(running))
            batches = sa.select(sa.func.count()).where(BATCH.c.run.in_(numbers))
            ended = sa.select(sa.func.count()).where(STEP.c.run.in_(numbers), STEP.c.status == "running")
            return last, *numbers, *(connection.execute(query).scalar() or 0 for query in (batches, ended) if numbers)

    def is_running(self, job: str) -> bool:
        """True while a run of a job is under way, as far as the run log knows."""
        with self._begin() as connection:
            found = sa.select(RUN.c.run).where(RUN.c.job == job, RUN.c.status == "running").limit(1)
            return connection.execute(found).first() is not None

    def last_success(self, job: str) -> dt.datetime | None:
        """When (UTC) the latest run of a job that succeeded ended; replays are not counted."""
        found = sa.select(sa.func.max(RUN.c.finished)).where(RUN.c.job == job, RUN.c.status == "succeeded")
        with self._begin() as connection:
            value = connection.execute(found.where(_NO_REPLAY)).scalar()
        return value if value is None or isinstance(value, dt.datetime) else dt.datetime.fromisoformat(value)

    def stopped_run(self, job: str) -> int | None:
        """The run of a job that was stopped with its service."""
        with self._begin() as connection:
            return connection.execute(sa.select(SCHEDULE.c.stopped_run).where(SCHEDULE.c.job == job)).scalar()

    def unsent(self, job: str, tries: int) -> list[dict[str, Any]]:
        """The messages of a job that are not sent, and were not tried more often than that."""
        found = sa.select(MESSAGE).where(MESSAGE.c.job == job, MESSAGE.c.sent.is_(None), MESSAGE.c.tries < tries)
        first = MESSAGE.alias("first")  # two services may have noted the same message
        same = [first.c[name] == MESSAGE.c[name] for name in ("job", "about", "receiver")]
        earlier = sa.select(sa.literal(1)).select_from(first).where(*same, first.c.message < MESSAGE.c.message)
        found = found.where(~sa.exists(earlier.correlate(MESSAGE)))
        with self._begin() as connection:
            return [dict(row._mapping) for row in connection.execute(found.order_by(MESSAGE.c.message))]

    def run(self, number: int | None, job: str | None = None) -> RunRecord:
        """A run by its number, or the latest, of a job if one is given; raises KanalError where there is none."""
        with self._begin() as connection:
            statement = sa.select(RUN).order_by(RUN.c.run.desc()).limit(1)
            if number is not None:
                statement = statement.where(RUN.c.run == number)
            elif job is not None:
                statement = statement.where(RUN.c.job == job)
            row = connection.execute(statement).first()
            if row is None:
                raise self._no_run(connection, number, job)
            return run_record(row, self._steps(connection, row.run))

    @staticmethod
    def _no_run(connection: sa.Connection, number: int | None, job: str | None) -> KanalError:
        if number is not None or job is None:
            last = connection.execute(sa.select(sa.func.max(RUN.c.run))).scalar()
            what = "The run log has no runs yet" if number is None else f"The run log has no run {number}"
            return KanalError(what, f"the latest is {last}" if last else "run the job first")
        name, _, environment = job.partition("@")
        others = sa.select(RUN.c.job, sa.func.max(RUN.c.run)).group_by(RUN.c.job).order_by(RUN.c.job)
        known = [
            (one.partition("@")[2], run) for one, run in connection.execute(others) if one.partition("@")[0] == name
        ]
        where = f" in environment {environment}" if environment else " outside of its environments" if known else ""
        there = [f"--env {one} (run {run})" if one else f"no --env (run {run})" for one, run in known]
        remedy = f"there are runs with {' and '.join(there)}" if there else "run the job first"
        return KanalError(f"The run log has no runs of {name}{where} yet", remedy)

    def unfinished(self, job: str | None = None) -> list[RunRecord]:
        """Runs that did not succeed and can be gone on with, newest first: replays apart, and those of which a later
        run has done all that was left; of one job if it is given."""
        query = sa.select(RUN).where(RUN.c.status.not_in(["succeeded", "running"]))
        query = query.where(_NO_REPLAY).order_by(RUN.c.run.desc())
        if job is not None:
            query = query.where(RUN.c.job == job)
        with self._begin() as connection:
            rows = connection.execute(query.limit(100)).all()
            found = [run_record(row, self._steps(connection, row.run)) for row in rows]
        return [record for record in found if self.done_since(record) is None]

    def done_since(self, record: RunRecord) -> int | None:
        """The later run of the job by which all steps have succeeded that did not in this one; None for none.

        Runs that were told another range of change values did something else.
        """
        left = {step.step for step in record.steps if step.status != "succeeded"}
        if not left:
            return None
        later = sa.select(STEP.c.step, STEP.c.run, RUN.c.options).join(RUN, RUN.c.run == STEP.c.run)
        later = later.where(RUN.c.job == record.job, RUN.c.run > record.run, STEP.c.status == "succeeded", _NO_REPLAY)
        later = later.where(STEP.c.step.in_(left)).order_by(STEP.c.run.desc()).limit(20_000)
        done: dict[str, int] = {}
        with self._begin() as connection:
            for step, run, options in connection.execute(later):
                if step not in done and _range_of(json.loads(options or "{}")) == _range_of(record.options):
                    done[step] = int(run)
        return max(done.values()) if left <= set(done) else None

    def read_since(self, record: RunRecord, step: str) -> int | None:
        """A later run in which a step has succeeded that reads all of its source, so that what it rejected in this
        one was offered again; None for none."""
        later = sa.select(sa.func.max(STEP.c.run)).join(RUN, RUN.c.run == STEP.c.run)
        later = later.where(RUN.c.job == record.job, RUN.c.run > record.run, STEP.c.step == step)
        later = later.where(STEP.c.status == "succeeded", STEP.c.reads_all.is_(True))
        with self._begin() as connection:
            found = connection.execute(later).scalar()
            return int(found) if found else None

    def tokens_of_done(self, job: str) -> list[str]:
        """What marks, in targets, the work of a job's runs that will not be gone on with any more."""
        latest = sa.select(RUN.c.run).order_by(RUN.c.run.desc()).limit(200).subquery()
        mine = sa.select(RUN.c.run, RUN.c.token, RUN.c.status).where(RUN.c.job == job, RUN.c.run.in_(sa.select(latest)))
        with self._begin() as connection:
            found = connection.execute(mine.where(RUN.c.status != "running").order_by(RUN.c.run.desc())).all()
        return [token for run, token, status in found if status == "succeeded" or self.done_since(self.run(run, job))]

    def seen_tables(self, job: str) -> list[SeenTable]:
        """What the tables of a job's steps looked like, each shape as it was first seen, in the order of the runs."""
        found = sa.select(SHAPE, RUN.c.started).join(RUN, RUN.c.run == SHAPE.c.run, isouter=True)
        found = found.where(SHAPE.c.job == job[:200]).order_by(SHAPE.c.shape)
        from kanal.core.shapes import TableShape

        with self._begin() as connection:
            rows = connection.execute(found).all()
        return [
            SeenTable(row.step, row.role, row.place, TableShape.from_json(row.columns), row.run, row.started)
            for row in rows
        ]

    def remembered(self, job: str) -> dict[tuple[str, str], SeenTable]:
        """What each table of a job's steps, by step and role, last looked like."""
        return {(seen.step, seen.role): seen for seen in self.seen_tables(job)}

    def times(self, run: int) -> dict[str, tuple[float, float, float]]:
        """The seconds that each step of a run spent reading, computing and writing, side by side."""
        sums = [sa.func.sum(BATCH.c[name]) for name in ("reading", "computing", "writing")]
        with self._begin() as connection:
            rows = connection.execute(sa.select(BATCH.c.step, *sums).where(BATCH.c.run == run).group_by(BATCH.c.step))
            return {row[0]: (row[1] or 0.0, row[2] or 0.0, row[3] or 0.0) for row in rows}

    def tasks(self, run: int) -> list[TaskRecord]:
        """What workers have or had of the steps of a run, in the order of the steps; nothing where it ran here."""
        block = sa.cast(sa.func.floor(BATCH.c.batch / sa.literal(BLOCK)), sa.Integer)
        sums = [sa.func.sum(BATCH.c[name]) for name in ("read", "reading", "computing", "writing")]
        with self._begin() as connection:
            if not sa.inspect(connection).has_table(TASK.name):
                return []
            rows = connection.execute(sa.select(TASK).where(TASK.c.run == run).order_by(TASK.c.step, TASK.c.task)).all()
            if not rows:
                return []
            of_run = sa.select(BATCH.c.step, block, *sums).where(BATCH.c.run == run).group_by(BATCH.c.step, block)
            spent = {(step, int(number)): counts for step, number, *counts in connection.execute(of_run)}
            order = {row.step: row.position for row in connection.execute(sa.select(STEP).where(STEP.c.run == run))}
        found = []
        for row in rows:
            read, *parts = spent.get((row.step, max(0, row.task - 1))) or (0, 0.0, 0.0, 0.0)
            found.append(TaskRecord(row.step, row.task, row.part, row.worker, row.seconds, row.lost, int(read or 0),
                                    *(float(part or 0) for part in parts)))  # fmt: skip
        return sorted(found, key=lambda task: (order.get(task.step, 0), task.task))

    def usual(self, record: RunRecord, count: int = 10) -> dict[str, Usual]:
        """What is usual for each step of a run, by up to so many earlier runs of its job in which it succeeded."""
        earlier = sa.select(RUN.c.run).where(RUN.c.job == record.job, RUN.c.run < record.run, _NO_REPLAY)
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
                bool(row.reads_all),
            )
            for row in rows
        )

    def rejects(self, run: int, step: str | None = None, **where: str | None) -> pa.Table:
        """The rejects of a run that are not resolved: step, column, reason, value, message, constraint (of the target),
        row (JSON), all text.

        Of one step, reason or column alone where these are given.
        """
        names = ("step", "column", "reason", "value", "message", "constraint", "row")
        chosen = _open(run, step=step, **where)
        statement = sa.select(*(REJECT.c[name] for name in names)).where(chosen).order_by(REJECT.c.reject)
        with self._begin() as connection:
            rows = connection.execute(statement).all()
        import pyarrow as pa

        columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
        return pa.table({name: pa.array(columns[place], pa.string()) for place, name in enumerate(names)})

    def rejects_page(self, run: int, limit: int, offset: int, **where: str | None) -> list[dict[str, Any]]:
        """So many rejects of a run that are not resolved, after others; of one step, reason or column if given."""
        names = ("step", "column", "reason", "value", "message", "constraint", "row")
        chosen = sa.select(*(REJECT.c[name] for name in names)).where(_open(run, **where)).order_by(REJECT.c.reject)
        with self._begin() as connection:
            return [dict(row._mapping) for row in connection.execute(chosen.limit(limit).offset(offset))]

    def rejected_rows(self, run: int, step: str) -> list[tuple[int, dict[str, str | None]]]:
        """The rejected source rows of a step that are not resolved, each with its number."""
        statement = sa.select(REJECT.c.reject, REJECT.c.row).where(_open(run), REJECT.c.step == step, _REPLAYED)
        with self._begin() as connection:
            rows = connection.execute(statement.order_by(REJECT.c.reject)).all()
        return [(row.reject, json.loads(row.row)) for row in rows]

    def refused_in(self, run: int, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target refused in a step of a run."""
        chosen = sa.and_(REJECT.c.run == run, REJECT.c.step == step, REJECT.c.reason == "refused_by_target")
        with self._begin() as connection:
            return [json.loads(row[0]) for row in connection.execute(sa.select(REJECT.c.row).where(chosen))]

    def refused_rows(self, job: str, step: str) -> list[tuple[int, dict[str, str | None]]]:
        """The source rows that the target refused when a step last ran, and that are not resolved."""
        last = sa.select(sa.func.max(STEP.c.run)).join(RUN, RUN.c.run == STEP.c.run)
        last = last.where(RUN.c.job == job, STEP.c.step == step, STEP.c.status == "succeeded")
        if not self.exists():
            return []
        with self._begin() as connection:
            run = connection.execute(last).scalar()
            chosen = sa.and_(_open(run, step=step, reason="refused_by_target")) if run is not None else sa.false()
            rows = connection.execute(sa.select(REJECT.c.reject, REJECT.c.row).where(chosen)).all()
        return [(row.reject, json.loads(row.row)) for row in rows]

    def open_rejects(self, job: str, step: str, before: int) -> dict[str, list[int]]:
        """The rejects of a step in a job's runs before one, that are not resolved, by the keys of their source rows."""
        query = sa.select(REJECT.c.row_key, REJECT.c.reject).join(RUN, RUN.c.run == REJECT.c.run)
        query = query.where(
            RUN.c.job == job, REJECT.c.step == step, REJECT.c.run < before, REJECT.c.row_key.is_not(None), _REPLAYED
        )
        found: dict[str, list[int]] = {}
        with self._begin() as connection:
            for key, number in connection.execute(query.where(REJECT.c.resolved_by.is_(None))):
                found.setdefault(key, []).append(int(number))
        return found

    def unresolved_replays(self, job: str) -> list[tuple[int, str, str]]:
        """Runs of a job that died while they loaded rejects of earlier ones: the number, token and step of each."""
        query = sa.select(RUN.c.run, RUN.c.token, REJECT.c.step).where(
            RUN.c.job == job, REJECT.c.resolved_by == -RUN.c.run, RUN.c.status != "running"
        )
        with self._begin() as connection:
            return [(row.run, row.token, row.step) for row in connection.execute(query.distinct())]

    def resolved(self, run: int) -> int:
        """How many rejects of a run were resolved."""
        statement = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.resolved_by > 0)
        with self._begin() as connection:
            return int(connection.execute(statement).scalar() or 0)

    def gone(self, run: int) -> int:
        """How many rejects of a run are of rows that the source no longer had when they were to be loaded again."""
        statement = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.ended == "gone")
        with self._begin() as connection:
            return int(connection.execute(statement).scalar() or 0)

    def reject_groups(self, run: int, step: str | None = None, **where: str | None) -> list[dict[str, Any]]:
        """Rejects counted by step, column, reason and constraint, most first: with a message and value as example,
        and `longest`, the characters of the longest value. Of one step, reason or column alone where these are given.
        """
        keys = (REJECT.c.step, REJECT.c.column, REJECT.c.reason, REJECT.c.constraint)
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

    def examples(self, run: int, group: Mapping[str, Any], limit: int | None) -> list[dict[str, Any]]:
        """The first rejects of a group, as `reject_groups` gives it, or all of them: their messages and rows (JSON)."""
        keys = ("step", "column", "reason", "constraint")
        same = [REJECT.c[key].is_(None) if group[key] is None else REJECT.c[key] == group[key] for key in keys]
        query = sa.select(REJECT.c.message, REJECT.c.row).where(_open(run), *same).order_by(REJECT.c.reject)
        with self._begin() as connection:
            return [dict(row._mapping) for row in connection.execute(query.limit(limit))]

    def cascades(self, run: int, step: str | None = None) -> list[dict[str, Any]]:
        """Rejects for which another reject of the run is to blame, since they refer to the row that it would have been.

        Counted by step, constraint and the reject to blame, most first: `rows`, and of the reject to blame
        `parent_step`, `parent_column`, `parent_reason`, `parent` (a table and its key, JSON).
        """
        blamed = REJECT.alias("blamed")
        parts = (blamed.c[name].label(f"parent_{name}") for name in ("step", "column", "reason"))
        keys: list[Any] = [REJECT.c.step, REJECT.c.constraint, REJECT.c.parent, *parts]
        statement = (
            sa.select(*keys, sa.func.count().label("rows"))
            .join(blamed, sa.and_(blamed.c.run == REJECT.c.run, blamed.c.would_be == REJECT.c.parent))
            .where(_open(run, step=step))
            .group_by(*keys)
            .order_by(sa.desc("rows"), *keys)
        )
        with self._begin() as connection:
            return [dict(row._mapping) for row in connection.execute(statement)]
