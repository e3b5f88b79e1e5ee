"""Keeps marks in a target database: up to which change value each pipeline of a job has loaded.

A mark moves in the transaction of the rows that it stands for.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import sqlalchemy as sa

from kanal.databases.base import Database
from kanal.databases.load import Load
from kanal.databases.progress import make_table

TABLE = sa.Table(
    "kanal_mark",
    sa.MetaData(),
    sa.Column("job", sa.String(200), primary_key=True),
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("mark", sa.String(200), nullable=False),
    sa.Column("moved", sa.String(30), nullable=False),
)


@dataclass(frozen=True)
class Mark:
    """A mark as text, and the moment (UTC) of the run that set it."""

    mark: str
    moved: str


def make_ready(database: Database) -> None:
    """Make the table where it is missing; raises KanalError where that is not allowed."""
    make_table(database, TABLE)


def _of(job: str, step: str) -> sa.ColumnElement[bool]:
    return sa.and_(TABLE.c.job == job[:200], TABLE.c.step == step[:200])


def mark_of(database: Database, job: str, step: str) -> Mark | None:
    """The mark of a pipeline; None where it has none yet."""
    if TABLE.name not in database.table_names():
        return None
    with database.load() as load:
        found = [load.scalar(sa.select(column).where(_of(job, step))) for column in (TABLE.c.mark, TABLE.c.moved)]
    return None if found[0] is None else Mark(found[0], found[1])


def move(load: Load, job: str, step: str, mark: str | None, moment: dt.datetime) -> None:
    """Set a mark within a load's transaction, or with None take it away."""
    load.execute(TABLE.delete().where(_of(job, step)))
    if mark is not None:
        moved = f"{moment.astimezone(dt.UTC):%Y-%m-%d %H:%M:%S}"
        load.execute(TABLE.insert().values(job=job[:200], step=step[:200], mark=mark, moved=moved))
