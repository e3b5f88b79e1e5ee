"""The write rules: append, truncate and merge, each a small class with the same three methods."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from kanal.core.errors import KanalError
from kanal.databases import TableInfo
from kanal.databases.base import Load, RowsRefused
from kanal.definition import Pipeline


@dataclass
class Written:
    """What became of a batch: counts of rows, and (row, the database's words) for each that the target refused."""

    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    deleted: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)

    def add(self, other: Written) -> None:
        """Add another's counts and refusals."""
        self.inserted += other.inserted
        self.updated += other.updated
        self.unchanged += other.unchanged
        self.deleted += other.deleted
        self.refused.extend(other.refused)


def in_halves(rows: pa.RecordBatch, write: Callable[[pa.RecordBatch], Written], first: int = 0) -> Written:
    """Write rows; where the target refuses, halve them until the rows that it refuses stand alone."""
    if rows.num_rows == 0:
        return Written()
    try:
        return write(rows)
    except RowsRefused as refusal:
        if rows.num_rows == 1:
            return Written(refused=[(first, refusal.what)])
    middle = rows.num_rows // 2
    written = in_halves(rows.slice(0, middle), write, first)
    written.add(in_halves(rows.slice(middle), write, first + middle))
    return written


class Append:
    """Every row is inserted."""

    def __init__(self, load: Load, table: TableInfo, settings: Pipeline, columns: list[str]) -> None:
        self.load = load
        self.info = table
        self.settings = settings
        self.table = load.database.sa_table(table)
        self.columns = columns
        self._merge: Merge | None = None

    def begin(self) -> Written:
        """Make the target ready; rows removed by that are counted."""
        return Written()

    def write(self, rows: pa.RecordBatch) -> Written:
        """Write a batch."""
        return in_halves(rows, self._insert)

    def replace(self, rows: pa.RecordBatch) -> Written:
        """Write rows whose keys this load has written before, over those."""
        if self._merge is None:
            self._merge = Merge(self.load, self.info, self.settings, self.columns, stage="kanal_replace")
            self._merge.begin()
        return self._merge.write(rows)

    def _insert(self, rows: pa.RecordBatch) -> Written:
        self.load.insert(self.table, rows)
        return Written(inserted=rows.num_rows)


class Truncate(Append):
    """The target is emptied in the transaction of the load, then every row is inserted."""

    def begin(self) -> Written:
        return Written(deleted=self.load.empty(self.table))


class Merge(Append):
    """ISO SQL's MERGE by the key: rows the target has are updated where they differ, others are inserted."""

    def __init__(
        self, load: Load, table: TableInfo, settings: Pipeline, columns: list[str], stage: str = "kanal_stage"
    ) -> None:
        super().__init__(load, table, settings, columns)
        self.stage_name = stage

    def begin(self) -> Written:
        self.key = list(self.settings.key)
        self.stage = self.load.create_stage(self.info, self.columns, self.key, self.stage_name)
        self._clear = self.stage.delete()
        self._update = self._update_statement()
        self._insert_new = self._insert_statement()
        return Written()

    def replace(self, rows: pa.RecordBatch) -> Written:
        return self.write(rows)

    def _insert(self, rows: pa.RecordBatch) -> Written:
        self.load.insert(self.stage, rows)
        try:
            counts = self.load.attempt(*[s for s in (self._update, self._insert_new) if s is not None])
        finally:
            self.load.execute(self._clear)
        updated = counts.pop(0) if self._update is not None else 0
        inserted = counts.pop(0) if self._insert_new is not None else 0
        if updated + inserted > rows.num_rows:
            raise KanalError(
                f"{rows.num_rows:,} rows were merged into {self.info.name} and {updated:,} rows of it updated: "
                f"rows of the target share the key {', '.join(self.key)}",
                "name a key that is unique in the target",
            )
        return Written(inserted=inserted, updated=updated, unchanged=rows.num_rows - updated - inserted)

    def _same_key(self) -> list[Any]:
        return [self.table.c[name] == self.stage.c[name] for name in self.key]

    def _update_statement(self) -> Any:
        others = [name for name in self.columns if name not in self.key]
        if self.settings.matched == "keep" or not others:
            return None
        differs = sa.or_(*(self.table.c[name].is_distinct_from(self.stage.c[name]) for name in others))
        statement = (
            self.table.update().values({name: self.stage.c[name] for name in others}).where(*self._same_key(), differs)
        )
        newer = self.settings.newer_by
        if newer is not None:
            statement = statement.where(
                sa.or_(self.table.c[newer].is_(None), self.stage.c[newer] > self.table.c[newer])
            )
        return statement

    def _insert_statement(self) -> Any:
        if self.settings.not_matched == "ignore":
            return None
        there = sa.exists().where(*self._same_key())
        rows = sa.select(*(self.stage.c[name] for name in self.columns)).where(~there)
        return self.table.insert().from_select(self.columns, rows, include_defaults=False)


WRITE_RULES: dict[str, type[Append]] = {"append": Append, "truncate": Truncate, "merge": Merge}
