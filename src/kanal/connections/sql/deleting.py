"""Deletes rows of a stage's target, except those to which other rows refer."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from kanal.connections.description import ForeignKey
from kanal.connections.errors import RowsRefused
from kanal.connections.sql.staged import StagedTable


def delete_rows(stage: StagedTable, chosen: list[Any]) -> tuple[int, bool]:
    """Delete rows of the table; where not all can go, those to which none refers, and then those that are free.

    How many, and whether these are all.
    """
    if stage.load.goes_on_after_errors:
        try:
            with stage.load.all_or_nothing():
                first = stage.load.part(stage.merging.table, *chosen)
                (deleted,) = stage.load.attempt(stage.target.delete().where(*chosen))
            return first + deleted, True
        except RowsRefused:
            pass
    free = [~_referred_by(stage, *referrer) for referrer in stage.load.referrers(stage.merging.table)]
    deleted = 0
    while more := stage.load.attempt(stage.target.delete().where(*chosen, *free))[0]:
        deleted += more
    if stage.load.goes_on_after_errors:
        return deleted, False
    left = sa.select(sa.literal(1)).select_from(stage.target).where(*chosen).limit(1)
    return deleted, stage.load.scalar(left) is None


def _referred_by(stage: StagedTable, schema: str | None, name: str, key: ForeignKey) -> Any:
    """The condition that a row of another table, or another row of this one, refers to a row."""
    names = dict.fromkeys([*key.columns, *key.referred] if name == stage.target.name else key.columns)
    other = sa.table(name, *map(sa.column, names), schema=schema).alias("kanal_child")
    pairs = list(zip(key.columns, key.referred, strict=True))
    refers = [other.c[column] == stage.target.c[referred] for column, referred in pairs]
    if name == stage.target.name and schema == stage.target.schema and not stage.load.database.checks_each_row:
        refers.append(~sa.and_(*(other.c[referred] == stage.target.c[referred] for _, referred in pairs)))
    return sa.exists(sa.select(sa.literal(1)).select_from(other).where(*refers).correlate(stage.target))
