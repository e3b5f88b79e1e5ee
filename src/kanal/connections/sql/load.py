"""One transaction on a target of any SQLAlchemy dialect."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

import sqlalchemy as sa

from kanal.connections.base import Target
from kanal.connections.description import ForeignKey, TableInfo
from kanal.connections.loading import DoubledRow, Load, Merging, PortionRows
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.portion import Portion, doubled_rows
from kanal.connections.sql.stage import SqlStage
from kanal.connections.sql.staging import StagingTransaction
from kanal.connections.sql.writer import TableWriter


class SqlLoad(StagingTransaction):
    """One transaction on a target; batches go in through it. Leaving it without `commit` undoes everything."""

    def __init__(self, database: SqlAccess, catalogue: Catalogue, target: Target) -> None:
        self.target = target
        self._stage_names: dict[str, int] = {}
        self._deferred_keys: set[str | None] = set()
        super().__init__(database, catalogue)

    def writer(self, table: TableInfo) -> TableWriter:
        """A writer for a table."""
        return self.writer_of(self.table_of(table))

    def for_run(self, number: int, step: str, moment: dt.datetime) -> None:
        """Nothing: the tables do not record the run."""

    def can_empty(self, table: TableInfo) -> bool:
        """False if rows of other tables refer to this one's, and no reference may be open for a while."""
        if self.database.defers_references:
            return True
        for other in self.catalogue.referring(table):
            there = self.table_of(other)
            for key in other.foreign_keys:
                if not key.refers_to(table) or key.name in self._deferred_keys:
                    continue
                refers = [there.c[name].is_not(None) for name in key.columns]
                if self.scalar(sa.select(sa.literal(1)).select_from(there).where(*refers).limit(1)):
                    return False
        return True

    def check_at_once(self, keys: Sequence[ForeignKey]) -> None:
        """Check these foreign keys for each row, although they are declared to be checked at the commit."""

    def defer(self, keys: Sequence[ForeignKey]) -> None:
        """Check these foreign keys only at the commit, if they can be deferred."""

    def unlink(self, table: TableInfo, keys: Sequence[ForeignKey]) -> None:
        """Before a table is emptied, have its rows refer to nothing by these keys, so that others can be emptied before
        it."""
        there = self.table_of(table)
        for key in keys:
            if all(column.nullable for column in table.chosen(key.columns)):
                given = sa.and_(*(there.c[name].is_not(None) for name in key.columns))
                self.execute(there.update().values(dict.fromkeys(key.columns, sa.null())).where(given))
            else:
                self.defer([key])

    def count(self, table: TableInfo) -> int:
        """The number of rows of a table."""
        return int(self.scalar(sa.select(sa.func.count()).select_from(self.table_of(table))))

    def empty(self, table: TableInfo) -> int:
        """Remove all rows of a table, within the transaction; their number."""
        return self.part(table) + self.empty_table(self.table_of(table))

    def confirm(self) -> None:
        """Wait for what becomes of all that was sent; raises RowsRefused, with nothing of it inserted."""

    def stage(self, merging: Merging, columns: tuple[str, ...], name: str) -> SqlStage:
        """A temporary table for some of the columns of a merge."""
        used = self._stage_names.get(name, 0)
        self._stage_names[name] = used + 1
        return SqlStage(self, merging, columns, f"{name}_{used}" if used else name)

    def portion(
        self, merging: Merging, columns: tuple[str, ...], name: str, there: PortionRows | None = None
    ) -> Portion:
        """A table that stays, for some of the columns of a merge; or one that is there."""
        return Portion(self, merging, columns, name, there)

    def doubled(self, portions: Sequence[Portion], columns: Sequence[str]) -> list[DoubledRow]:
        """The rows of portions whose values in some columns an earlier row has too."""
        return list(doubled_rows(self, portions, columns))

    def settle(self, table: TableInfo, columns: Sequence[str]) -> list[str]:
        """Before the commit: have what numbers rows go on after the greatest values that were written; notes on what
        could not be done."""
        del table, columns  # most databases do so by themselves
        return []

    def sifts_first(self, table: TableInfo) -> bool:
        """True if bad rows have to be found before they are written: only the commit would notice them, or the whole
        transaction would end with the first."""
        return not self.goes_on_after_errors and bool(self.constraints(table))

    def verify(self) -> None:
        """Raise KanalError if a commit would fail because of missing referenced rows."""


def sql_load(load: Load) -> SqlLoad:
    """A load of a SQL database."""
    if not isinstance(load, SqlLoad):
        raise TypeError(f"{type(load).__name__} is not a load of a SQL database")
    return load
