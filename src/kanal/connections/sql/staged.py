"""Rows of a table's form that wait in a table of their own, numbered as they come."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from numpy.typing import NDArray

from kanal.connections.loading import Merging
from kanal.connections.sql.joined_update import joined_update
from kanal.connections.sql.staging import StagingTransaction
from kanal.core.carried_rows import CarriedRows

#: Rows that are taken out by one statement.
_AT_ONCE = 5_000


class StagedTable:
    """The rows, with the conditions by which they are compared with those of the target. `number` is the last column,
    which numbers them."""

    def __init__(self, load: StagingTransaction, merging: Merging, columns: tuple[str, ...], name: str) -> None:
        self.rows = 0
        self.load = load
        self.merging = merging
        self._columns = list(columns)
        self.target = load.table_of(merging.table)
        # By its key it is joined with the table, or else with itself, if its rows refer to each other.
        key = merging.key or next((one.referred for one in merging.own_references), ())
        self.table = self.table_named(key if set(key) <= set(columns) else (), name)
        self._writer = load.writer_of(self.table)
        self.number = list(self.table.c)[-1]
        self._withdraws = False
        self._moments: tuple[Any, Any] | None = None
        #: A stage with the load's one moment, if a history closes missing rows at it.
        self.moment: StagedTable | None = None

    def forget_verdict(self) -> None:
        """Called whenever the rows change."""

    def table_named(self, key: tuple[str, ...], name: str) -> sa.Table:
        """Make the table."""
        return self.load.create_stage(self.merging.table, self._columns, key, name)

    @property
    def encoded(self) -> list[str]:
        """The columns that rows have when they come, but their numbers."""
        return self._columns

    def number_next(self, count: int) -> NDArray[np.int64]:
        """The numbers of the next rows."""
        first, self.rows = self.rows, self.rows + count
        return np.arange(first, self.rows)

    def encode(
        self,
        rows: pa.RecordBatch,
        numbers: NDArray[np.int64] | None = None,
        withdrawn: NDArray[np.bool_] | None = None,
    ) -> Any:
        """Rows with their numbers, by default the next ones, ready to be put in; None if there are none. Withdrawn
        ones are numbered from -1 downwards, in the place of 0 and upwards."""
        if not rows.num_rows:
            return None
        if numbers is None:
            numbers = self.number_next(rows.num_rows)
        if self.merging.history is not None and self.merging.history.from_ in self._columns:
            self._see_moments(rows.column(self.merging.history.from_))
        if withdrawn is not None and withdrawn.any():
            self._withdraws = True
            numbers = np.where(withdrawn, -1 - numbers, numbers)
        if isinstance(rows, CarriedRows) and list(self.encoded) == rows.schema.names:
            return self._writer.encode(rows.append_column(self.number.name, pa.array(numbers)))
        arrays = [*(rows.column(name) for name in self.encoded), pa.array(numbers)]
        numbered = pa.RecordBatch.from_arrays(arrays, names=[*self.encoded, self.number.name])
        return self._writer.encode(numbered)

    @property
    def of_one_moment(self) -> bool:
        """True if all changes that have come are of one moment."""
        return self._moments is not None and self._moments[0] == self._moments[1]

    def _see_moments(self, values: pa.Array) -> None:
        found = pc.min_max(values).as_py()
        bounds = [bound for bound in (found["min"], found["max"], *(self._moments or ())) if bound is not None]
        self._moments = (min(bounds), max(bounds)) if bounds else None

    def add(self, encoded: Any) -> None:
        """Put rows in."""
        self.forget_verdict()
        if encoded is not None:
            self._writer.insert(encoded)

    def send(self, encoded: Any) -> int | None:
        """The same, which is confirmed by the load's `confirm`; their size in bytes, None if they were not sent
        since those before are to be confirmed first."""
        self.forget_verdict()
        return self._writer.send(encoded) if encoded is not None else 0

    def clear(self) -> None:
        """Take all rows out."""
        self.forget_verdict()
        self.load.clear_stage(self.table)

    def take_keys_of(self, other: StagedTable) -> None:
        """Add the keys of the rows of another stage."""
        names = [*self._columns, self.number.name]
        rows = sa.select(*(other.table.c[name] for name in self._columns), other.number + self.rows)
        self.load.execute(self.table.insert().from_select(names, rows))
        self.rows += other.rows

    def take_out(self, numbers: Sequence[int]) -> None:
        """Remove rows by their numbers."""
        for start in range(0, len(numbers), _AT_ONCE):
            self.load.execute(self.table.delete().where(self.number.in_(numbers[start : start + _AT_ONCE])))

    def written(self) -> list[Any]:
        """The conditions under which a row is written at all."""
        merging = self.merging
        if not merging.key or merging.history is not None:
            return []
        kinds: list[Any] = [sa.false()]
        update = self.update_of(self.differs())
        if update is not None:
            changed = sa.select(sa.literal(1)).select_from(self.target).where(update.whereclause)
            kinds.append(sa.exists(changed.correlate(self.table)))
        if merging.insert:
            kinds.append(~self.has_key_of(self.target, self.table))
        return [sa.or_(*kinds)]

    def same_key(self, one: Any, other: Any) -> list[Any]:
        """The conditions that two rows have one key, by the collations of the target's columns."""
        if other is self.target:  # some databases compare by the collation of the left column
            one, other = other, one
        return [one.c[name] == other.c[name] for name in self.merging.key]

    def differs(self, stage: Any = None) -> list[Any]:
        """The conditions that the table's row differs from a staged one of its key, and is to give way to it."""
        stage = self.table if stage is None else stage
        return [
            self.load.any_differs(self.merging.table, self.merging.updated, self.target, stage),
            *self.newer(stage),
        ]

    def newer(self, stage: Any = None, or_same: bool = False) -> list[Any]:
        """The condition that a staged row is newer than the table's, or of the same time, if that matters."""
        if self.merging.newer_by is None:
            return []
        coming = (self.table if stage is None else stage).c[self.merging.newer_by]
        there = self.target.c[self.merging.newer_by]
        return [sa.or_(there.is_(None), coming >= there if or_same else coming > there)]

    def has_key_of(self, stage: sa.Table, table: sa.Table, *more: Any) -> Any:
        """The condition that one table has a row with the key of another's row."""
        rows = sa.select(sa.literal(1)).select_from(stage).where(*self.same_key(table, stage), *more)
        return sa.exists(rows.correlate(table))

    def is_new(self) -> list[Any]:
        """The conditions that the table has no row of a staged one's key."""
        return [~self.has_key_of(self.target, self.table)] if self.merging.key else []

    def update_of(self, chosen: list[Any], late: tuple[str, ...] = ()) -> Any:
        """What updates rows by those chosen; late columns get their values afterwards."""
        merging, target, stage = self.merging, self.target, self.table
        if not merging.update or not merging.updated or not merging.key:
            return None
        values = {name: (target if name in late else stage).c[name] for name in merging.updated}
        return joined_update(self.load.database.dialect, target, stage, values, self.same_key(target, stage), chosen)

    def insert_of(self, chosen: list[Any], empty: tuple[str, ...] = ()) -> Any:
        """What inserts the rows chosen, with nothing in some of their columns."""
        if not self.merging.insert:
            return None
        columns = list(self.merging.columns)
        values = [sa.null().label(name) if name in empty else self.table.c[name] for name in columns]
        rows = sa.select(*values).where(*chosen)
        return self.load.insert_select(self.target, columns, rows)
