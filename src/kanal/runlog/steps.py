"""Records steps with their batches and tasks."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from kanal.core.rejects import Reject, row_as_json, row_key
from kanal.core.tally import COUNTS, Tally
from kanal.runlog import clock
from kanal.runlog.database import SOON, RunLogDatabase, add_batch_entry, lasting, values_of
from kanal.runlog.records import (
    BLOCK,
    BatchRecord,
    StepRecord,
    TaskRecord,
    sum_of_stages,
)
from kanal.runlog.rejects import origins_of
from kanal.runlog.tables import BATCH, REJECT, STEP, TASK

# Built once, since building a statement takes longer than running it.
_THIS_STEP = STEP.update().where(STEP.c.run == sa.bindparam("this_run"), STEP.c.step == sa.bindparam("this_step"))
_OF_STEP = ("status", "seconds", "batches", "error", "note", *COUNTS)
_STEP_BEGINS = _THIS_STEP.values(status="running", started=sa.bindparam("now"))
_STEP_ENDS = _THIS_STEP.values({name: sa.bindparam(f"new_{name}") for name in _OF_STEP})


class StepEntries:
    """The entries of steps."""

    def __init__(self, database: RunLogDatabase, keep_rejects: int) -> None:
        self._database = database
        self.keep_rejects = keep_rejects
        self._kept: dict[tuple[int, str], int] = {}
        self._begun: set[tuple[int, str]] = set()

    @lasting
    def begin_step(self, run: int, step: str, batches: int = 0, worker: str | None = None, lost: int = 0) -> None:
        """Record that a step begins, or begins again; of an earlier try this many batches are left.

        A worker is named if one has it, after so many others that were lost.
        """
        with self._database.begin(run) as connection:
            if run not in self._database.new_runs or (run, step) in self._begun:
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

    @lasting
    def task_begins(self, run: int, step: str, task: int, part: str, worker: str, lost: int = 0) -> None:
        """Record that a worker begins with a part of a step."""
        with self._database.begin(run) as connection:
            mine = sa.and_(TASK.c.run == run, TASK.c.step == step, TASK.c.task == task)
            connection.execute(TASK.delete().where(mine))
            connection.execute(TASK.insert().values(_task(run, step, task, part, worker, lost)))

    @lasting
    def task_ends(self, run: int, step: str, task: int, seconds: float) -> None:
        """Record that a worker is done with a step, or a part of it."""
        with self._database.begin(run) as connection:
            mine = sa.and_(TASK.c.run == run, TASK.c.step == step, TASK.c.task == task)
            connection.execute(TASK.update().where(mine).values(seconds=seconds))

    @lasting
    def drop_batches(self, run: int, step: str, batches: int) -> None:
        """Take back what was recorded of batches beyond the first so many, which were not committed."""
        with self._database.begin(run) as connection:
            for table in (BATCH, REJECT):
                of_step = table.delete().where(table.c.run == run, table.c.step == step)
                connection.execute(of_step.where(table.c.batch > batches))

    @lasting
    def drop_batches_of(self, run: int, step: str, numbers: range) -> None:
        """Take back what was recorded of batches with these numbers, which are loaded again."""
        with self._database.begin(run) as connection:
            for table in (BATCH, REJECT):
                of_step = table.delete().where(table.c.run == run, table.c.step == step)
                connection.execute(of_step.where(table.c.batch >= numbers.start, table.c.batch < numbers.stop))
            kept = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.step == step)
            self._kept[run, step] = int(connection.execute(kept).scalar() or 0)

    @lasting
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
        stages = {name: round(seconds, 6) for name, seconds in batch.stages.items()}
        entry |= {**times, "stages": json.dumps(stages) if stages else None, **values_of(batch.tally)}
        if later and not chosen and time.monotonic() - self._database.written < SOON:
            with self._database.one_at_a_time:
                self._database.waiting.append(entry)
            return
        with self._database.begin(run) as connection:
            if not add_batch_entry(connection, entry):
                return
            if chosen:
                origins = origins_of(connection, [reject.again for reject in chosen if reject.again is not None])
                rows = [
                    _reject_row(run, step, reject, key) | {"batch": batch.batch, "origin": origins.get(reject.again)}
                    for reject in chosen
                ]
                connection.execute(REJECT.insert(), rows)
        self._database.written = time.monotonic()
        self._kept[run, step] = kept + len(chosen)

    @lasting
    def end_step(self, run: int, record: StepRecord) -> None:
        """Record how a step ended."""
        with self._database.begin(run) as connection:
            values = {**values_of(record.tally), **{name: getattr(record, name) for name in _OF_STEP[:5]}}
            named = {f"new_{name}": value for name, value in values.items()}
            connection.execute(_STEP_ENDS, {"this_run": run, "this_step": record.step, **named})

    def write_waiting(self, run: int) -> None:
        """Make the entries of batches that have waited for a while."""
        if self._database.waiting and time.monotonic() - self._database.written > SOON:
            with self._database.begin(run):
                pass

    def progress(self, run: int) -> dict[str, Tally]:
        """The counts of the batches so far, by step of a run; what is not committed yet may still be undone."""
        sums = [sa.func.sum(BATCH.c[name]) for name in COUNTS]
        with self._database.begin() as connection:
            rows = connection.execute(sa.select(BATCH.c.step, *sums).where(BATCH.c.run == run).group_by(BATCH.c.step))
            return {row[0]: Tally(*(int(count or 0) for count in row[1:])) for row in rows}

    def times(self, run: int) -> dict[str, tuple[float, float, float]]:
        """The seconds that each step of a run spent reading, computing and writing, side by side."""
        sums = [sa.func.sum(BATCH.c[name]) for name in ("reading", "computing", "writing")]
        with self._database.begin() as connection:
            rows = connection.execute(sa.select(BATCH.c.step, *sums).where(BATCH.c.run == run).group_by(BATCH.c.step))
            return {row[0]: (row[1] or 0.0, row[2] or 0.0, row[3] or 0.0) for row in rows}

    def stage_times(self, run: int) -> dict[str, dict[str, float]]:
        """The seconds that each step of a run spent in each stage, by step and stage, in the order of the stages."""
        with self._database.begin() as connection:
            of_run = sa.select(BATCH.c.step, BATCH.c.stages).where(BATCH.c.run == run, BATCH.c.stages.is_not(None))
            rows = connection.execute(of_run.order_by(BATCH.c.batch)).all()
        found: dict[str, list[dict[str, float]]] = {}
        for step, stages in rows:
            found.setdefault(step, []).append(json.loads(stages))
        return {step: sum_of_stages(times) for step, times in found.items()}

    def tasks(self, run: int) -> list[TaskRecord]:
        """What workers have or had of the steps of a run, in the order of the steps; nothing if it ran here."""
        block = sa.cast(sa.func.floor(BATCH.c.batch / sa.literal(BLOCK)), sa.Integer)
        sums = [sa.func.sum(BATCH.c[name]) for name in ("read", "reading", "computing", "writing")]
        with self._database.begin() as connection:
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


def _task(run: int, step: str, task: int, part: str, worker: str, lost: int) -> dict[str, Any]:
    named = {"run": run, "step": step, "task": task, "part": part, "worker": worker, "lost": lost}
    return named | {"started": clock.now()}


def _reject_row(run: int, step: str, reject: Reject, key: Sequence[str]) -> dict[str, Any]:
    return {
        "run": run,
        "step": step,
        "column": reject.column,
        "reason": str(reject.reason),
        "value": reject.value,
        "message": reject.message,
        "row": row_as_json(reject.row),
        "row_key": row_key(reject.row, key) if key else None,
        "constraint": reject.constraint,
        "would_be": reject.would_be,
        "parent": reject.parent,
    }
