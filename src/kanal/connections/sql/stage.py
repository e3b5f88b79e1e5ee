"""A temporary table in which rows wait to be merged, each thing to be done by one statement for all of them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.loading import Merging, Written
from kanal.core.errors import KanalError

if TYPE_CHECKING:
    from kanal.connections.sql.load import SqlLoad


class SqlStage:
    """Rows of the target's form, numbered as they come in a last column."""

    def __init__(self, load: SqlLoad, merging: Merging, columns: tuple[str, ...], name: str) -> None:
        self.rows = 0
        self._load = load
        self._merging = merging
        self._columns = list(columns)
        self._target = load.database.sa_table(merging.table)
        self.table = load.create_stage(merging.table, self._columns, merging.key, name)
        self._number = list(self.table.c)[-1]

    def encode(self, rows: pa.RecordBatch) -> Any:
        """Rows with their numbers, ready to be put in; None where there are none."""
        if not rows.num_rows:
            return None
        numbers = pa.array(np.arange(self.rows, self.rows + rows.num_rows))
        self.rows += rows.num_rows
        arrays = [*(rows.column(name) for name in self._columns), numbers]
        numbered = pa.RecordBatch.from_arrays(arrays, names=[*self._columns, self._number.name])
        return self._load.encode_into(self.table, numbered)

    def add(self, encoded: Any) -> None:
        """Put rows in."""
        if encoded is not None:
            self._load.insert_into(self.table, encoded)

    def clear(self) -> None:
        """Take all rows out."""
        self._load.execute(self.table.delete())

    def remove_keys_of(self, other: SqlStage) -> None:
        """Take out the rows whose keys another stage has."""
        self._load.execute(self.table.delete().where(self._has_key_of(other.table, self.table)))

    def ready(self) -> None:
        """Called once the rows are in, before they are merged."""
        self._load.settle_stage(self.table)

    def ready_for_parts(self) -> None:
        """Called before parts of the rows are merged, many times."""
        self._load.index_rows(self.table)

    def merge(self, part: range, whole: bool, counted: bool) -> Written:
        """Merge the rows with these numbers, all or none; raises RowsRefused."""
        chosen: list[Any] = [] if whole else [self._number >= part.start, self._number < part.stop]
        statements = [self._update(chosen), self._insert(chosen)]
        counts = iter(self._load.attempt(*(statement for statement in statements if statement is not None)))
        updated, inserted = (0 if statement is None else next(counts) for statement in statements)
        rows = len(part)
        if counted:
            rows = self._load.scalar(sa.select(sa.func.count()).select_from(self.table).where(*chosen))
        if updated + inserted > rows:
            raise KanalError(
                f"{rows:,} rows were merged into {self._merging.table.name} and {updated:,} rows of it updated: "
                f"rows of the target share the key {', '.join(self._merging.key)}",
                "name a key that is unique in the target",
            )
        return Written(inserted=inserted, updated=updated, unchanged=rows - updated - inserted)

    def delete_unmatched(self, kept: SqlStage | None) -> int:
        """Delete the target's rows whose keys neither this stage nor the other has; how many."""
        statement = self._target.delete().where(~self._has_key_of(self.table, self._target))
        if kept is not None:
            statement = statement.where(~self._has_key_of(kept.table, self._target))
        (deleted,) = self._load.attempt(statement)
        return deleted

    def drop(self) -> None:
        """Remove it."""
        self._load.drop_stage(self.table)

    def _same_key(self, one: sa.Table, other: sa.Table) -> list[Any]:
        return [one.c[name] == other.c[name] for name in self._merging.key]

    def _has_key_of(self, stage: sa.Table, table: sa.Table) -> Any:
        """The condition that one table has a row with the key of another's row."""
        rows = sa.select(sa.literal(1)).select_from(stage).where(*self._same_key(table, stage))
        return sa.exists(rows.correlate(table))

    def _update(self, chosen: list[Any]) -> Any:
        merging, target, stage = self._merging, self._target, self.table
        others = [name for name in merging.columns if name not in merging.key]
        if not merging.update or not others:
            return None
        differs = self._load.database.differs
        changed = sa.or_(*(differs(target.c[name], stage.c[name]) for name in others))
        values = {name: stage.c[name] for name in others}
        statement = target.update().values(values).where(*self._same_key(target, stage), changed, *chosen)
        if merging.newer_by is not None:
            there, coming = target.c[merging.newer_by], stage.c[merging.newer_by]
            statement = statement.where(sa.or_(there.is_(None), coming > there))
        return statement

    def _insert(self, chosen: list[Any]) -> Any:
        if not self._merging.insert:
            return None
        columns = list(self._merging.columns)
        rows = sa.select(*(self.table.c[name] for name in columns))
        rows = rows.where(~self._has_key_of(self._target, self.table), *chosen)
        return self._target.insert().from_select(columns, rows, include_defaults=False)
