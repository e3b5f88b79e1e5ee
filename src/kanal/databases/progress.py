"""Keeps in a target database, in the transaction of the rows themselves, which steps of a run it has committed.

Whoever goes on with a run that died can so tell a step that was committed from one that was not.
"""

from __future__ import annotations

import json
from collections.abc import Mapping

import sqlalchemy as sa

from kanal.core.errors import KanalError
from kanal.core.tally import Tally
from kanal.databases.base import Database, Load

TABLE = sa.Table(
    "kanal_progress",
    sa.MetaData(),
    sa.Column("token", sa.String(36), primary_key=True),
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("tally", sa.String(2000)),
)


def is_ready(database: Database) -> bool:
    """True where the table is there."""
    return TABLE.name in database.table_names()


def make_ready(database: Database) -> None:
    """Make the table where it is missing; raises KanalError where that is not allowed."""
    if not is_ready(database):
        database.run_command(
            f"CREATE TABLE {TABLE.name} (token varchar(36) NOT NULL, step varchar(200) NOT NULL, tally varchar(2000), "
            "PRIMARY KEY (token, step))"
        )
        database.forget_names()
        database.table_names()  # now, and not while a load is under way


def record(load: Load, token: str, steps: Mapping[str, Tally]) -> None:
    """Record, within a load's transaction, that steps are committed with it, and their counts."""
    for step, tally in steps.items():
        load.execute(TABLE.insert().values(token=token, step=step[:200], tally=json.dumps(vars(tally))))


def recorded(database: Database, token: str, step: str) -> Tally | None:
    """The counts of a step that was committed; None for one that was not."""
    if not is_ready(database):
        return None
    with database.load() as load:
        query = sa.select(TABLE.c.tally).where(TABLE.c.token == token, TABLE.c.step == step[:200])
        found = load.scalar(query)
    return None if found is None else Tally(**json.loads(found))


def forget(database: Database, token: str) -> None:
    """Remove what was kept for a run that has come to its end."""
    try:
        with database.load() as load:
            load.execute(TABLE.delete().where(TABLE.c.token == token))
            load.commit()
    except KanalError:
        pass  # it harms nobody, and the run has succeeded
