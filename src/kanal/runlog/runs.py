"""Records how runs begin, go on and end."""

from __future__ import annotations

import datetime as dt
import json
import os
import socket
import uuid
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from kanal.core.errors import KanalError
from kanal.core.tally import COUNTS, WRITES, Tally
from kanal.runlog import clock
from kanal.runlog.database import RunLogDatabase, RunLogUnusable, again, lasting, values_of
from kanal.runlog.liveness import born, lives
from kanal.runlog.past_runs import PastRuns, run_record
from kanal.runlog.records import (
    RunRecord,
    Start,
    StepSeed,
)
from kanal.runlog.rejects import RejectEntries
from kanal.runlog.tables import BATCH, LOCK, REJECT, RUN, STEP


class AlreadyRunning(KanalError):
    """Another run of the same job is in progress."""


class RunEntries:
    """The entries of runs."""

    def __init__(self, database: RunLogDatabase, past: PastRuns, rejects: RejectEntries) -> None:
        self._database, self._past, self._rejects = database, past, rejects

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
        return again(lambda: self._begin_run(job, file, steps, options, start or Start()))

    def _begin_run(
        self, job: str, file: str | None, steps: Sequence[StepSeed], options: Mapping[str, Any] | None, start: Start
    ) -> RunRecord:
        with self._database.begin() as connection:
            run = _add_run(
                connection, job, file, options, status="running", owner=self._database.owner, **start.columns
            )
            self._lock(connection, job, run, start.series)
            if start.due is not None:
                _must_be_alone(connection, job, run, start)
            rows = [_waiting(run, place, seed) for place, seed in enumerate(steps, 1)]
            if rows:
                connection.execute(STEP.insert(), rows)
        self._database.new_runs.add(run)
        return self._past.run(run)

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
        with self._database.begin() as connection:
            return _add_run(connection, job, file, options, status="failed", error=error, **times)

    def resume_run(self, run: int, steps: Sequence[StepSeed]) -> RunRecord:
        """Record that a run continues, with the steps of its job as it is now; those that succeeded stay.

        Batches and rejects of the others stay too, until it is known which of them were committed. Raises
        AlreadyRunning while another run of the job is under way, or another process continues this one.
        """
        return again(lambda: self._resume_run(run, steps))

    def _resume_run(self, run: int, steps: Sequence[StepSeed]) -> RunRecord:
        record = self._past.run(run)
        with self._database.begin() as connection:
            row = connection.execute(sa.select(RUN).where(RUN.c.run == run)).one()
            if row.status == "running" and _lives(row, connection):
                raise _under_way(row)
            # Of two that go on at once, one alone finds the owner that it has seen.
            same = RUN.c.owner.is_(None) if row.owner is None else RUN.c.owner == row.owner
            same = sa.and_(RUN.c.run == run, RUN.c.status == row.status, same)
            values = {
                "status": "running",
                "finished": None,
                "error": None,
                "owner": self._database.owner,
            } | _this_process(connection)
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
        """Take the job's lock for a run; raises AlreadyRunning if a living one has it, or has just taken it.

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

    def give_sign(self, run: int) -> None:
        """Record that a run's process lives."""
        with self._database.begin(run) as connection:
            connection.execute(RUN.update().where(RUN.c.run == run).values(sign=clock.shared(connection)))

    def end_dead_runs(self) -> None:
        """Record as failed the runs whose process ended without a word."""
        with self._database.begin() as connection:
            if "sign" not in {column["name"] for column in sa.inspect(connection).get_columns("kanal_run")}:
                return
            for row in connection.execute(sa.select(RUN).where(RUN.c.status == "running")).all():
                if _lives(row, connection):
                    continue
                ended = row.sign or row.started
                connection.execute(RUN.update().where(RUN.c.run == row.run).values(status="failed", finished=ended))
                _end_steps(connection, row.run, "failed", f"process {row.process} on {row.host} ended unexpectedly",
                           "the run died before it")  # fmt: skip

    @lasting
    def break_off(self, run: int, status: str, why: str) -> None:
        """Record that a run ends, though some of its steps have not come to an end of their own."""
        with self._database.begin(run) as connection:
            _end_steps(connection, run, status, why, "the run was broken off before it")
        self.end_run(run, status)

    @lasting
    def end_run(self, run: int, status: str) -> None:
        """Record how a run ended."""
        with self._database.begin(run) as connection:
            connection.execute(RUN.update().where(RUN.c.run == run).values(status=status, finished=clock.now()))
            others = sa.select(RUN.c.run).where(RUN.c.status == "running", RUN.c.series.is_not(None))
            own = sa.select(RUN.c.series).where(RUN.c.run == run).scalar_subquery()
            other = connection.execute(others.where(RUN.c.series == own).limit(1)).scalar()
            held = LOCK.c.run == run
            connection.execute(
                LOCK.delete().where(held) if other is None else LOCK.update().where(held).values(run=other)
            )

    @lasting
    def was_committed(self, run: int, step: str, tally: Tally, batches: int, note: str) -> None:
        """Record that a step of a run that was broken off is committed, as its target says; and that the run
        succeeded, if it was the last of its steps."""
        values = {**values_of(tally), "status": "succeeded", "batches": batches, "error": None, "note": note}
        of_run = STEP.c.run == run
        left = sa.exists().where(of_run, STEP.c.status != "succeeded")
        with self._database.begin() as connection:
            connection.execute(STEP.update().where(of_run, STEP.c.step == step).values(values))
            ended = RUN.update().where(RUN.c.run == run, RUN.c.status != "running", ~left)
            connection.execute(ended.values(status="succeeded"))
        self._rejects.settle(run, step, True, batches)


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


def _step(run: int, step: str) -> sa.Update:
    return STEP.update().where(STEP.c.run == run, STEP.c.step == step)


def _add_run(connection: sa.Connection, job: str, file: str | None, options: Any, **values: Any) -> int:
    """Add a run that begins now, in this process; its number."""
    values = {"started": clock.now()} | values | {"job": job, "file": file, "token": str(uuid.uuid4())}
    values |= {"options": json.dumps(dict(options or {}), default=str)} | _this_process(connection)
    inserted = connection.execute(RUN.insert().values(values)).inserted_primary_key
    return int(inserted[0]) if inserted else 0


def _must_be_alone(connection: sa.Connection, job: str, run: int, start: Start) -> None:
    """Raises AlreadyRunning if another run began for the same due moment, and the same window."""
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
