"""Finds runs and their steps."""

from __future__ import annotations

import datetime as dt
import json
import statistics
from collections.abc import Collection, Mapping
from typing import Any

import sqlalchemy as sa

from kanal.core.errors import KanalError
from kanal.core.tally import COUNTS, Tally
from kanal.runlog.database import RunLogDatabase
from kanal.runlog.records import (
    RunGlance,
    RunRecord,
    StepRecord,
    Usual,
)
from kanal.runlog.tables import BATCH, RUN, STEP

#: The condition that a run did not load rejects of another one again.
_NO_REPLAY = sa.or_(RUN.c.options.is_(None), ~RUN.c.options.like('%"replay"%'))


class PastRuns:
    """The runs that a run log has."""

    def __init__(self, database: RunLogDatabase) -> None:
        self._database = database

    def latest(self, limit: int = 20, name: str | None = None) -> list[RunRecord]:
        """The latest runs, newest first, with their steps; of one job, in any environment, if its name is given."""
        chosen = sa.select(RUN).order_by(RUN.c.run.desc()).limit(limit)
        if name is not None:
            chosen = chosen.where(sa.or_(RUN.c.job == name, RUN.c.job.startswith(f"{name}@", autoescape=True)))
        with self._database.begin() as connection:
            rows = connection.execute(chosen).all()
            return [run_record(row, self._steps(connection, row.run)) for row in rows]

    def runs_of(self, job: str, limit: int, steps: bool = True) -> list[RunRecord]:
        """The latest runs of a job, newest first, with their steps unless they are not wanted."""
        chosen = sa.select(RUN).where(RUN.c.job == job).order_by(RUN.c.run.desc()).limit(limit)
        with self._database.begin() as connection:
            rows = connection.execute(chosen).all()
            return [run_record(row, self._steps(connection, row.run) if steps else ()) for row in rows]

    def windows_of(self, job: str) -> list[RunRecord]:
        """The runs of a job that loaded a range of change values, without their steps, in the order they began."""
        return self._windows(sa.and_(RUN.c.job == job), 100_000)

    def _windows(self, which: sa.ColumnElement[bool], limit: int) -> list[RunRecord]:
        chosen = sa.select(RUN).where(which, RUN.c.options.like('%"until"%')).order_by(RUN.c.run.desc())
        with self._database.begin() as connection:
            found = [run_record(row, ()) for row in connection.execute(chosen.limit(limit))]
        return [record for record in reversed(found) if record.window is not None]

    def loaded_windows(self, job: str) -> list[tuple[str, str]]:
        """The windows that the latest runs of a job have loaded."""
        records = self._windows(sa.and_(RUN.c.job == job, RUN.c.status == "succeeded"), 2_000)
        return [record.window for record in records if record.window is not None]

    def due_runs(self, job: str, limit: int = 50) -> list[RunRecord]:
        """The latest runs of a job that were due by its schedule, oldest first; the last one with its steps."""
        chosen = sa.select(RUN).where(RUN.c.job == job, RUN.c.due.is_not(None)).order_by(RUN.c.run.desc())
        with self._database.begin() as connection:
            rows = connection.execute(chosen.limit(limit)).all()
            return [run_record(row, self._steps(connection, row.run) if row is rows[0] else ()) for row in rows[::-1]]

    def glance(self, jobs: Collection[str], limit: int) -> dict[str, list[RunGlance]]:
        """The latest runs of each job, oldest first, with the counts of all their steps."""
        found: dict[str, list[Any]] = {}
        columns = (RUN.c.run, RUN.c.job, RUN.c.status, RUN.c.started, RUN.c.finished, RUN.c.options)
        with self._database.begin() as connection:
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
        with self._database.begin() as connection:
            rows = connection.execute(found.group_by(RUN.c.job, RUN.c.status))
            return [(row[0], row[1], int(row[2])) for row in rows]

    def counted_rows(self, jobs: Collection[str]) -> dict[str, dict[str, int]]:
        """How many rows of each job had which fate, in all runs that are kept."""
        sums = [sa.func.sum(STEP.c[name]) for name in COUNTS]
        found = sa.select(RUN.c.job, *sums).join(STEP, STEP.c.run == RUN.c.run).where(RUN.c.job.in_(list(jobs)))
        with self._database.begin() as connection:
            rows = connection.execute(found.group_by(RUN.c.job))
            return {row[0]: dict(zip(COUNTS, (int(count or 0) for count in row[1:]), strict=True)) for row in rows}

    def pulse(self) -> tuple[int, ...]:
        """Numbers that change as soon as a run begins, goes on or ends."""
        running = sa.select(RUN.c.run).where(RUN.c.status == "running")
        with self._database.begin() as connection:
            last = connection.execute(sa.select(sa.func.max(RUN.c.run))).scalar() or 0
            numbers = sorted(int(row[0]) for row in connection.execute(running))
            batches = sa.select(sa.func.count()).where(BATCH.c.run.in_(numbers))
            ended = sa.select(sa.func.count()).where(STEP.c.run.in_(numbers), STEP.c.status == "running")
            return last, *numbers, *(connection.execute(query).scalar() or 0 for query in (batches, ended) if numbers)

    def is_running(self, job: str) -> bool:
        """True while a run of a job is under way, as far as the run log knows."""
        with self._database.begin() as connection:
            found = sa.select(RUN.c.run).where(RUN.c.job == job, RUN.c.status == "running").limit(1)
            return connection.execute(found).first() is not None

    def last_success(self, job: str) -> dt.datetime | None:
        """When (UTC) the latest run of a job that succeeded ended; replays are not counted."""
        found = sa.select(sa.func.max(RUN.c.finished)).where(RUN.c.job == job, RUN.c.status == "succeeded")
        with self._database.begin() as connection:
            value = connection.execute(found.where(_NO_REPLAY)).scalar()
        return value if value is None or isinstance(value, dt.datetime) else dt.datetime.fromisoformat(value)

    def run(self, number: int | None, job: str | None = None) -> RunRecord:
        """A run by its number, or the latest, of a job if one is given; raises KanalError if there is none."""
        with self._database.begin() as connection:
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
        """Runs that did not succeed and can be continued, newest first: replays apart, and those of which a later
        run has done all that was left; of one job if it is given."""
        query = sa.select(RUN).where(RUN.c.status.not_in(["succeeded", "running"]))
        query = query.where(_NO_REPLAY).order_by(RUN.c.run.desc())
        if job is not None:
            query = query.where(RUN.c.job == job)
        with self._database.begin() as connection:
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
        with self._database.begin() as connection:
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
        with self._database.begin() as connection:
            found = connection.execute(later).scalar()
            return int(found) if found else None

    def tokens_of_done(self, job: str) -> list[str]:
        """What marks, in targets, the work of a job's runs that will not be continued any more."""
        latest = sa.select(RUN.c.run).order_by(RUN.c.run.desc()).limit(200).subquery()
        mine = sa.select(RUN.c.run, RUN.c.token, RUN.c.status).where(RUN.c.job == job, RUN.c.run.in_(sa.select(latest)))
        with self._database.begin() as connection:
            found = connection.execute(mine.where(RUN.c.status != "running").order_by(RUN.c.run.desc())).all()
        return [token for run, token, status in found if status == "succeeded" or self.done_since(self.run(run, job))]

    def usual(self, record: RunRecord, count: int = 10) -> dict[str, Usual]:
        """What is usual for each step of a run, by up to so many earlier runs of its job in which it succeeded."""
        earlier = sa.select(RUN.c.run).where(RUN.c.job == record.job, RUN.c.run < record.run, _NO_REPLAY)
        found: dict[str, Usual] = {}
        with self._database.begin() as connection:
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


def _range_of(options: Mapping[str, Any]) -> tuple[Any, ...]:
    return tuple(options.get(name) for name in ("since", "until"))


def run_record(row: Any, steps: tuple[StepRecord, ...]) -> RunRecord:
    """A row of the table of runs as a record."""
    options = json.loads(row.options) if row.options else {}
    return RunRecord(
        row.run, row.job, row.status, row.started, row.finished, steps, row.file, row.token or "", options, row.error,
        row.environment, row.started_by, row.host, row.due, row.resumes or 0,
    )  # fmt: skip
