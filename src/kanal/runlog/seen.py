"""Remembers the tables and plans of runs."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from kanal.runlog.database import RunLogDatabase
from kanal.runlog.records import (
    SeenTable,
)
from kanal.runlog.tables import PLAN, RUN, SHAPE


class SeenTables:
    """The shapes of tables, and plans, that runs have seen."""

    def __init__(self, database: RunLogDatabase) -> None:
        self._database = database

    def remember(self, run: int, job: str, seen: Sequence[SeenTable]) -> None:
        """Record what the tables of a run look like, as far as that is new."""
        known = self.latest(job)
        rows = [
            {"job": job[:200], "step": one.step, "role": one.role, "place": one.place, "run": run,
             "columns": one.shape.to_json()}
            for one in seen
            if (before := known.get((one.step, one.role))) is None
            or (before.place, before.shape) != (one.place, one.shape)
        ]  # fmt: skip
        if rows:
            with self._database.begin(run) as connection:
                connection.execute(SHAPE.insert(), rows)

    def remember_plan(self, run: int, job: str, outline: Mapping[str, Any]) -> None:
        """Record what the plan of a run looks like."""
        content = json.dumps(outline, ensure_ascii=False)
        digest = hashlib.sha256(content.encode()).hexdigest()
        same = sa.select(PLAN.c.plan).where(PLAN.c.job == job[:200], PLAN.c.digest == digest)
        with self._database.begin(run) as connection:
            plan = connection.execute(same).scalar()
            if plan is None:
                made = connection.execute(PLAN.insert().values(job=job[:200], digest=digest, content=content))
                plan = made.inserted_primary_key[0] if made.inserted_primary_key else None
            connection.execute(RUN.update().where(RUN.c.run == run).values(plan=plan))

    def tables(self, job: str) -> list[SeenTable]:
        """What the tables of a job's steps looked like, each shape as it was first seen, in the order of the runs."""
        found = sa.select(SHAPE, RUN.c.started).join(RUN, RUN.c.run == SHAPE.c.run, isouter=True)
        found = found.where(SHAPE.c.job == job[:200]).order_by(SHAPE.c.shape)
        from kanal.core.shapes import TableShape

        with self._database.begin() as connection:
            rows = connection.execute(found).all()
        return [
            SeenTable(row.step, row.role, row.place, TableShape.from_json(row.columns), row.run, row.started)
            for row in rows
        ]

    def latest(self, job: str) -> dict[tuple[str, str], SeenTable]:
        """What each table of a job's steps, by step and role, last looked like."""
        return {(seen.step, seen.role): seen for seen in self.tables(job)}

    def plan_of(self, run: int) -> dict[str, Any]:
        """What the plan of a run looked like; empty if that is not known."""
        found = sa.select(PLAN.c.content).join(RUN, RUN.c.plan == PLAN.c.plan).where(RUN.c.run == run)
        with self._database.begin() as connection:
            content = connection.execute(found).scalar()
        return dict(json.loads(content)) if content else {}
