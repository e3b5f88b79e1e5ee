"""One transaction on a target of any SQLAlchemy dialect."""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.description import Constraint, ForeignKey, TableInfo
from kanal.connections.errors import DatabaseError, RowsRefused
from kanal.connections.loading import DoubledRow, Merging, PortionRows, RefusedRow
from kanal.connections.sql.constraints import constraints_of
from kanal.connections.sql.stage import SqlStage, row_column

if TYPE_CHECKING:
    from kanal.connections.sql.database import SqlDatabase
    from kanal.connections.sql.portion import Portion

#: Execution options of SQL in which a % is a %.
AS_IT_IS = {"no_parameters": True}


class SqlLoad:
    """One transaction on a target; batches go in through it. Leaving it without `commit` undoes everything."""

    def __init__(self, database: SqlDatabase) -> None:
        self.database = database
        self._tables: dict[tuple[str | None, str], sa.Table] = {}
        self._stage_names: dict[str, int] = {}
        self._may_stage: bool | None = None
        self._deferred_keys: set[str | None] = set()
        self.begin()

    @property
    def goes_on_after_errors(self) -> bool:
        """False where an error is the end of the transaction, and nothing in it can be undone by itself."""
        return self.database.has_savepoints

    @property
    def target(self) -> SqlDatabase:
        """Where the rows go."""
        return self.database

    def for_run(self, number: int, step: str, moment: dt.datetime) -> None:
        """Be told which step of which run loads, which its tables need not know."""

    def can_empty(self, table: TableInfo) -> bool:
        """False where rows of other tables refer to this one's, and no reference may be open for a while."""
        if self.database.defers_references:
            return True
        for other in self.database.catalogue.referring(table):
            there = self.table_of(other)
            for key in other.foreign_keys:
                if not key.refers_to(table) or key.name in self._deferred_keys:
                    continue
                refers = [there.c[name].is_not(None) for name in key.columns]
                if self.scalar(sa.select(sa.literal(1)).select_from(there).where(*refers).limit(1)):
                    return False
        return True

    def check_at_once(self, keys: Sequence[ForeignKey]) -> None:
        """Have foreign keys checked as rows come, of those that would be checked at the commit alone."""

    def defer(self, keys: Sequence[ForeignKey]) -> None:
        """Have foreign keys checked at the commit alone, of those that can be."""

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
        """How many rows a table has."""
        return int(self.scalar(sa.select(sa.func.count()).select_from(self.table_of(table))))

    def referrers(self, table: TableInfo) -> list[tuple[str | None, str, ForeignKey]]:
        """What refers to a table's rows: the schema and name of each table, itself among them, and its foreign key."""
        others = [*self.database.catalogue.referring(table), table]
        return [
            (other.schema, other.name, key) for other in others for key in other.foreign_keys if key.refers_to(table)
        ]

    def empty(self, table: TableInfo) -> int:
        """Remove all rows of a table, within the transaction; how many there were."""
        return self.part(table) + self.empty_table(self.table_of(table))

    def part(self, table: TableInfo, *chosen: Any) -> int:
        """Before rows of a table are removed, where each row is checked by itself, see to it that none of them refers
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

    def encode(self, table: TableInfo, rows: pa.RecordBatch) -> Any:
        """A storable batch in the form in which `insert` takes it. Called beside other uses of the load."""
        return self.encode_into(self.table_of(table), rows)

    def insert(self, table: TableInfo, encoded: Any) -> Sequence[RefusedRow]:
        """Insert an encoded batch; raises RowsRefused, with nothing of it inserted, where the target refuses a row."""
        self.insert_into(self.table_of(table), encoded)
        return ()

    def send(self, table: TableInfo, encoded: Any) -> int | None:
        """Send an encoded batch, of which is heard by `confirm`; how many bytes it is, None where it was not sent since
        those before are to be confirmed first."""
        return self.send_into(self.table_of(table), encoded)

    def send_into(self, table: sa.Table, encoded: Any) -> int | None:
        """The same."""
        raise NotImplementedError

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
        from kanal.connections.sql.portion import Portion

        return Portion(self, merging, columns, name, there)

    def doubled(self, portions: Sequence[Portion], columns: Sequence[str]) -> list[DoubledRow]:
        """The rows of portions whose values in some columns an earlier row has too."""
        from kanal.connections.sql.portion import doubled_rows

        return list(doubled_rows(self, portions, columns))

    def portion_table(
        self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str, new: bool
    ) -> sa.Table:
        """A portion's table beside a table, with what tells its rows' content and a number for each; made if new."""
        raise NotImplementedError

    def session(self) -> str | None:
        """What tells the server's session of this transaction from all others; None where that is not known."""
        return None

    def table_of(self, table: TableInfo) -> sa.Table:
        """SQLAlchemy's Table for a table, the same one each time, so that conditions of it may be put together."""
        place = table.schema, table.name
        if place not in self._tables:
            self._tables[place] = self.database.sa_table(table)
        return self._tables[place]

    def any_differs(self, table: TableInfo, names: Sequence[str], one: Any, other: Any) -> sa.ColumnElement[bool]:
        """The condition that two rows of a table's form are not displayed alike in one of some columns."""
        found = (self.database.differs(column, one.c[column.name], other.c[column.name])
                 for column in table.chosen(names))  # fmt: skip
        return sa.or_(sa.false(), *found)

    def begin(self) -> None:
        """Connect and begin the transaction."""
        self.connection = self.database.connect()
        self._transaction = self.connection.begin()

    def execute(self, statement: Any, counted: bool = True) -> int:
        """Run a statement made with SQLAlchemy; the number of rows it changed, if they are to be counted."""
        with self.database.errors():
            if counted:
                return self._counted(statement)
            self.connection.execute(statement)
            return 0

    def _counted(self, statement: Any) -> int:
        rows: int = self.connection.execute(statement, execution_options={"preserve_rowcount": True}).rowcount
        if rows < 0:
            raise DatabaseError(
                f"connection {self.database.name}: the driver {self.database.url.drivername} does not say how many "
                "rows a statement changed, so the books cannot be kept",
                "use another driver for this database",
            )
        return rows

    def settle(self, table: TableInfo, columns: Sequence[str]) -> list[str]:
        """Before the commit: have what numbers rows go on after the greatest values that were written; notes on what
        could not be done."""
        del table, columns  # most databases do so by themselves
        return []

    def insert_select(self, table: sa.Table, columns: Sequence[str], rows: sa.Select[Any]) -> Any:
        """The statement that inserts what a query gives."""
        return table.insert().from_select(list(columns), rows, include_defaults=False)

    def run_sql(self, sql: str) -> int:
        """Run the statements of a text of the job's; the number of rows that they changed."""
        with self.database.errors():
            return sum(_run_text(self.connection, statement) for statement in self.database.statements(sql))

    def value(self, sql: str) -> Any:
        """The one value that a query finds that is given as text."""
        with self.database.errors():
            return self.connection.exec_driver_sql(sql, execution_options=AS_IT_IS).scalar()

    def empty_table(self, table: sa.Table) -> int:
        """Remove all rows of a table; how many there were."""
        return self.execute(table.delete())

    def scalar(self, query: Any) -> Any:
        """The one value that a query finds, as this transaction sees it; None where there is none."""
        with self.database.errors():
            return self.connection.execute(query).scalar()

    def rows(self, query: Any) -> list[Any]:
        """The rows that a query finds, as this transaction sees them."""
        with self.database.errors():
            return list(self.connection.execute(query))

    def can_run(self, query: Any) -> bool:
        """True where a query fails for none of its rows."""
        try:
            with self.connection.begin_nested():
                self.connection.execute(sa.select(sa.func.count()).select_from(query.subquery()))
        except exc.SQLAlchemyError:
            return False
        return True

    def has_triggers(self, table: TableInfo) -> bool:
        """False where it is certain that no trigger changes rows before they are checked."""
        del table
        return True

    def constraints(self, table: TableInfo) -> list[Constraint]:
        """What the database holds rows of a table to, apart from types and NOT NULL."""
        with self.database.errors():
            return constraints_of(sa.inspect(self.connection), table)

    def sifts_first(self, table: TableInfo) -> bool:
        """True where bad rows have to be found before they are written: only the commit would notice them, or the whole
        transaction would end with the first."""
        return not self.goes_on_after_errors and bool(self.constraints(table))

    def may_stage(self) -> bool:
        """True where the user may make temporary tables."""
        if self._may_stage is None:
            self._may_stage = self.ask_may_stage()
        return self._may_stage

    def ask_may_stage(self) -> bool:
        """The same, asked of the database."""
        return True

    def encode_into(self, table: sa.Table, rows: pa.RecordBatch) -> Any:
        """A storable batch in the form in which `insert_into` takes it."""
        del table
        return rows

    def insert_into(self, table: sa.Table, encoded: Any) -> None:
        """Insert a encoded batch; raises RowsRefused, with nothing of it inserted, where the target refuses a row."""
        with self.all_or_nothing():
            self.connection.execute(table.insert(), encoded.to_pylist())

    def attempt(self, *statements: Any) -> list[int]:
        """Run statements together; raises RowsRefused, with none of them done, where the target refuses a row."""
        with self.all_or_nothing():
            return [self._counted(statement) for statement in statements]
        raise AssertionError

    @contextlib.contextmanager
    def all_or_nothing(self) -> Iterator[None]:
        """While it lasts, all is done or nothing; raises RowsRefused where the target refuses a row."""
        try:
            with self.connection.begin_nested() if self.goes_on_after_errors else contextlib.nullcontext():
                yield
        except exc.SQLAlchemyError as error:
            if self.database.refuses(error):
                words = self.database.words_of(error)
                if not self.goes_on_after_errors:
                    raise DatabaseError(
                        f"connection {self.database.name} ({self.database.shown_url}): {words}",
                        "here an error is the end of the whole transaction, and this one could not be told before: "
                        "correct the row, or leave it out by where",
                    ) from None
                raise RowsRefused(words, constraint=self.database.broken_constraint(error)) from None
            raise self.database.diagnosed(error) from None

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
        """While it lasts, few rows are looked for among many."""
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

    def cancel(self) -> None:
        """Break off, from another thread, a statement that is under way, where the driver can."""
        self.database.break_off(self.connection.connection.driver_connection)

    def verify(self) -> None:
        """Raise KanalError where a commit would fail for what the rows refer to."""

    def commit(self) -> None:
        """Make everything visible at once."""
        with self.database.errors():
            self._transaction.commit()

    def close(self) -> None:
        """Undo what was not committed and give the connection back."""
        with contextlib.suppress(exc.SQLAlchemyError):
            self._transaction.close()
        self.connection.close()


def _run_text(connection: sa.Connection, sql: str) -> int:
    """Run SQL of the job's own, in which a % is one; the number of rows that it changed."""
    return max(0, connection.exec_driver_sql(sql, execution_options=AS_IT_IS).rowcount)
