"""Keeps in a target database, in the transaction of the rows themselves, how far a run's steps have been committed.

Whoever goes on with a run that died can so tell what was committed from what was not.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from kanal.core.errors import KanalError
from kanal.core.tally import Tally
from kanal.databases.base import Database
from kanal.databases.load import Load

_LONGEST = 4000
TABLE = sa.Table(
    "kanal_progress",
    sa.MetaData(),
    sa.Column("token", sa.String(36), primary_key=True),
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("progress", sa.String(_LONGEST)),
)


@dataclass(frozen=True)
class Progress:
    """What of a step is committed: its counts, its batches, the source's key of the last row, and if that was all.

    `greatest` is the greatest change value, as text, of a step that loads what is new.
    """

    tally: Tally
    batches: int = 0
    last: Sequence[Any] = ()
    done: bool = False
    greatest: str | None = None


def is_ready(database: Database) -> bool:
    """True where the table is there."""
    return TABLE.name in database.table_names()


def make_ready(database: Database) -> None:
    """Make the table where it is missing; raises KanalError where that is not allowed."""
    make_table(database, TABLE)


def make_table(database: Database, table: sa.Table) -> None:
    """Make a table of Kanal's own where it is missing; raises KanalError where that is not allowed."""
    if table.name not in database.table_names():
        definition = sa.schema.CreateTable(table).compile(dialect=database.engine.dialect)
        try:
            database.run_command(str(definition))
        except KanalError:
            database.forget_names()
            if table.name not in database.table_names():  # else somebody made it meanwhile
                raise
        database.forget_names()
        database.table_names()  # now, and not while a load is under way


def record(load: Load, done: Progress, token: str, step: str) -> None:
    """Record, within a load's transaction, how far a step is committed with it."""
    content = {"tally": vars(done.tally), "batches": done.batches, "last": list(done.last), "done": done.done}
    content["greatest"] = done.greatest
    text = json.dumps(content)
    if len(text) > _LONGEST:
        raise KanalError(
            f"the key of the last row of a batch is too long to be kept ({len(text):,} characters with the counts)",
            'order the source by a shorter key, or set commit = "step"',
        )
    load.execute(TABLE.delete().where(TABLE.c.token == token, TABLE.c.step == step[:200]))
    load.execute(TABLE.insert().values(token=token, step=step[:200], progress=text))


def recorded(database: Database, token: str, step: str) -> Progress | None:
    """How far a step was committed; None where nothing of it was."""
    if not is_ready(database):
        return None
    with database.load() as load:
        query = sa.select(TABLE.c.progress).where(TABLE.c.token == token, TABLE.c.step == step[:200])
        found = load.scalar(query)
    if found is None:
        return None
    content = json.loads(found)
    return Progress(**content | {"tally": Tally(**content["tally"])})


def forget(database: Database, token: str) -> None:
    """Remove what was kept for a run that has come to its end."""
    try:
        with database.load() as load:
            load.execute(TABLE.delete().where(TABLE.c.token == token))
            load.commit()
    except KanalError:
        pass  # it harms nobody, and the run has succeeded
