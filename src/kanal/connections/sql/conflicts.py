"""Finds the rows of a stage that were changed on both sides of an exchange."""

from __future__ import annotations

import sqlalchemy as sa

from kanal.connections.loading import Conflict
from kanal.connections.sql.staged import StagedTable


def conflicts_of(stage: StagedTable, ours: StagedTable, theirs: StagedTable) -> list[Conflict]:
    """The rows that differ from the target's of their key, if the staged row is newer than the value in `ours`, and the
    target's row newer than the value in `theirs`."""
    merging, target, staged = stage.merging, stage.target, stage.table
    by = merging.newer_by
    assert by is not None
    names = [name for name in merging.columns if name not in (*merging.key, by)]
    pairs = [(name, stage.load.any_differs(merging.table, [name], target, staged)) for name in names]
    if not pairs:
        return []
    query = sa.select(
        stage.number,
        sa.case((staged.c[by] > target.c[by], 1), else_=0),
        *(sa.case((changed, 1), else_=0) for _, changed in pairs),
        *(target.c[name] for name in names),
    ).where(
        *stage.same_key(target, staged),
        staged.c[by] > sa.select(ours.table.c[by]).scalar_subquery(),
        target.c[by] > sa.select(theirs.table.c[by]).scalar_subquery(),
        stage.number >= 0,
        sa.or_(*(changed for _, changed in pairs)),
    )
    found = []
    for number, newer, *rest in stage.load.rows(query.order_by(stage.number)):
        flags, values = rest[: len(names)], rest[len(names) :]
        theirs_now = {name: value for name, flag, value in zip(names, flags, values, strict=True) if flag}
        found.append(Conflict(int(number), bool(newer), theirs_now))
    return found
