"""The temporary tables of a transaction, in which rows wait."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from kanal.connections.description import ForeignKey, TableInfo
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.transaction import SqlTransaction
from kanal.connections.sql.writer import TableWriter


def row_column(columns: Sequence[str]) -> str:
    """A name that none of the columns has, for the last column of a stage, which numbers its rows."""
    name = "kanal_row"
    while name in {column.casefold() for column in columns}:
        name += "_"
    return name


class StagingTransaction(SqlTransaction):
    """A transaction that writes rows into tables, and has temporary ones."""

    def __init__(self, database: SqlAccess, catalogue: Catalogue) -> None:
        self.catalogue = catalogue
        self._may_stage: bool | None = None
        super().__init__(database)

    def writer_of(self, table: sa.Table) -> TableWriter:
        """A writer for a table."""
        return TableWriter(self, table)

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        """A temporary table of some of a table's columns, and a number for each row; indexed by the key."""
        stage = self.stage_table(table, columns, name)
        if key:
            sa.Index(f"{name}_key", *(stage.c[column] for column in key))
        with self.database.errors():
            stage.create(self.connection)
        return stage

    def stage_table(self, table: TableInfo, columns: Sequence[str], name: str) -> sa.Table:
        """SQLAlchemy's Table for a stage."""
        real = self.database.sa_table(table)
        return sa.Table(
            name,
            sa.MetaData(),
            *(sa.Column(column, real.c[column].type, nullable=True, autoincrement=False) for column in columns),
            sa.Column(row_column(columns), sa.BigInteger, nullable=False, autoincrement=False),
            prefixes=["TEMPORARY"],
            info={"temporary": True},
        )

    def index_rows(self, stage: sa.Table) -> None:
        """Called before ranges of a stage's rows are asked for by their numbers, many times."""

    def create_verdict(self, stage: sa.Table, table: TableInfo, key: Sequence[str]) -> tuple[sa.Table, Any]:
        """A temporary table of a table's keys, and of what finds a staged row quickest; and what that is of the stage's
        rows."""
        raise NotImplementedError

    def one_by_one(self) -> contextlib.AbstractContextManager[None]:
        """While this lasts, few rows are looked for among many."""
        raise NotImplementedError

    def settle_stage(self, stage: sa.Table, columns: Sequence[str] | None = None) -> None:
        """Called once the rows of a stage are in it, before they are merged by some of its columns, or by any."""

    def foresee_growth(self, table: sa.Table) -> None:
        """Called before the rows of a stage are merged into a table, which may have far more rows after that."""

    def clear_stage(self, stage: sa.Table) -> None:
        """Take all rows out of a stage."""
        self.execute(stage.delete())

    def drop_stage(self, stage: sa.Table) -> None:
        """Remove a temporary table."""
        with self.database.errors():
            stage.drop(self.connection)

    def may_stage(self) -> bool:
        """True if the user may make temporary tables."""
        if self._may_stage is None:
            self._may_stage = self.ask_may_stage()
        return self._may_stage

    def ask_may_stage(self) -> bool:
        """The same, asked of the database."""
        return True

    def referrers(self, table: TableInfo) -> list[tuple[str | None, str, ForeignKey]]:
        """What refers to a table's rows: the schema and name of each table, itself among them, and its foreign key."""
        others = [*self.catalogue.referring(table), table]
        return [
            (other.schema, other.name, key) for other in others for key in other.foreign_keys if key.refers_to(table)
        ]

    def part(self, table: TableInfo, *chosen: Any) -> int:
        """Before rows of a table are removed, if each row is checked by itself, see to it that none of them refers
        to another: by taking away the reference, or else the row; how many rows were taken away."""
        own = table.own_references
        if not own or not self.database.checks_each_row:
            return 0
        there = self.table_of(table)
        names = list(dict.fromkeys(name for key in own for name in key.columns))
        if all(column.nullable for column in table.chosen(names)):
            given = sa.or_(*(there.c[name].is_not(None) for name in names))
            self.execute(there.update().values(dict.fromkeys(names, sa.null())).where(given, *chosen))
            return 0
        alone = []
        for key in own:
            other = there.alias("kanal_other")
            pairs = list(zip(key.columns, key.referred, strict=True))
            refers = [other.c[name] == there.c[referred] for name, referred in pairs]
            alone.append(~sa.exists(sa.select(sa.literal(1)).select_from(other).where(*refers).correlate(there)))
        removed = 0
        while more := self.execute(there.delete().where(*alone, *chosen)):
            removed += more
        return removed

    def empty_table(self, table: sa.Table) -> int:
        """Remove all rows of a table; their number."""
        return self.execute(table.delete())

    def portion_table(
        self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str, new: bool
    ) -> sa.Table:
        """A portion's table next to a table, with what tells its rows' content and a number for each; made if new."""
        raise NotImplementedError
