"""What is to be done about all rows of a large stage, found by one join with the table: where most rows are as they
were, that is cheaper than to look for those that differ, those that are new and those that are missing one by one."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from kanal.connections.sql.staged import StagedTable

#: A smaller stage is merged at once.
_LARGE = 20_000
#: So many rows are looked at first; if more than this share of them differ, all are merged at once.
_SAMPLE, _SHARE = 2_000, 0.2
#: If no more than this share are to be updated or inserted, they are gone to one by one.
_FEW = 0.2


class Verdict:
    """By the place of a staged row, and the key of the table's row: new rows have no key, missing ones no place."""

    def __init__(self, stage: StagedTable, with_missing: bool) -> None:
        self._stage = stage
        self.knows_missing = with_missing
        self.table, place = stage.load.create_verdict(stage.table, stage.merging.table, stage.merging.key)
        *keys, self._place = self.table.c
        self._key = keys[0]
        self._same = self._place == place
        target, coming = stage.target, stage.table
        rows = coming.join(target, sa.and_(*stage.same_key(coming, target)), isouter=True, full=with_missing)
        found = sa.select(*(target.c[name] for name in stage.merging.key), place).select_from(rows)
        wanted = [sa.and_(stage.number >= 0, _to_do(stage))]
        wanted += [stage.number.is_(None)] if with_missing else []
        names = [column.name for column in self.table.c]
        stage.load.execute(self.table.insert().from_select(names, found.where(sa.or_(*wanted))))
        stage.load.settle_stage(self.table)
        is_new = self._key.is_(None)
        kinds = sa.select(is_new, sa.func.count()).where(self._place.is_not(None)).group_by(is_new)
        found_kinds = {bool(new): count for new, count in stage.load.rows(kinds)}
        #: How many rows are to be updated, and inserted.
        self.changed, self.new = int(found_kinds.get(False, 0)), int(found_kinds.get(True, 0))

    def of_changed(self) -> list[Any]:
        """The conditions that a staged row is to update a row of the table."""
        return [self._same, self._key.is_not(None)]

    def of_new(self) -> list[Any]:
        """The conditions that a staged row is to be inserted."""
        return [self._same, self._key.is_(None)]

    @property
    def of_few(self) -> bool:
        """True if so few rows are to be updated and inserted that they are best gone to one by one."""
        return self.changed + self.new <= self._stage.rows * _FEW

    def has_missing(self, table: sa.Table) -> Any:
        """The condition that a row of the table is missing in the stage."""
        same = [self.table.c[name] == table.c[name] for name in self._stage.merging.key]
        missing = sa.select(sa.literal(1)).select_from(self.table).where(*same, self._place.is_(None))
        return sa.exists(missing.correlate(table))

    def drop(self) -> None:
        """Take it away."""
        self._stage.load.drop_stage(self.table)


def _to_do(stage: StagedTable) -> Any:
    """The condition that something is to be done about a staged row, next to the table's row of its key if there is."""
    merging, key = stage.merging, stage.target.c[stage.merging.key[0]]
    kinds: list[Any] = [key.is_(None)] if merging.insert else []
    if merging.update:
        kinds.append(sa.and_(key.is_not(None), *stage.differs()))
    return sa.or_(sa.false(), *kinds)


def is_worth_it(stage: StagedTable) -> bool:
    """True if the stage is large and few of its first rows differ from the table's."""
    key = stage.merging.table.chosen(stage.merging.key)
    if not stage.load.database.joins_whole or stage.rows < _LARGE or not key or any(one.nullable for one in key):
        return False
    if not set(stage.merging.columns) <= {column.name for column in stage.table.c}:  # of keys alone
        return False
    if stage.load.has_triggers(stage.merging.table):  # which may change rows in between
        return False
    some = sa.select(*stage.table.c).limit(_SAMPLE).subquery(stage.table.name)
    rows = some.join(stage.target, sa.and_(*stage.same_key(some, stage.target)), isouter=True)
    there = stage.target.c[stage.merging.key[0]]
    differs = sa.or_(there.is_(None), *stage.differs(some))
    count = sa.select(sa.func.count()).select_from(rows).where(differs)
    return int(stage.load.scalar(count)) <= _SAMPLE * _SHARE
