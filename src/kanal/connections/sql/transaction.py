"""One transaction on a SQL database: its statements, and what becomes of them."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.description import Constraint, TableInfo
from kanal.connections.errors import DatabaseError, RowsRefused
from kanal.connections.sql.access import AS_IT_IS, SqlAccess
from kanal.connections.sql.catalogue_constraints import constraints_of


class SqlTransaction:
    """Statements that are committed together. Leaving it without `commit` undoes everything."""

    def __init__(self, database: SqlAccess) -> None:
        self.database = database
        self._tables: dict[tuple[str | None, str], sa.Table] = {}
        self.begin()

    @property
    def goes_on_after_errors(self) -> bool:
        """False if an error is the end of the transaction, and nothing in it can be undone by itself."""
        return self.database.has_savepoints

    def session(self) -> str | None:
        """What tells the server's session of this transaction from all others; None if that is not known."""
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

    def insert_select(self, table: sa.Table, columns: Sequence[str], rows: sa.Select[Any]) -> Any:
        """The statement that inserts what a query gives."""
        return table.insert().from_select(list(columns), rows, include_defaults=False)

    def run_sql(self, sql: str) -> int:
        """Run the statements of a text of the job; the number of changed rows."""
        with self.database.errors():
            return sum(_run_text(self.connection, statement) for statement in self.database.statements(sql))

    def value(self, sql: str) -> Any:
        """The one value that a query finds that is given as text."""
        with self.database.errors():
            return self.connection.exec_driver_sql(sql, execution_options=AS_IT_IS).scalar()

    def scalar(self, query: Any) -> Any:
        """The one value that a query finds, as this transaction sees it; None if there is none."""
        with self.database.errors():
            return self.connection.execute(query).scalar()

    def rows(self, query: Any) -> list[Any]:
        """The rows that a query finds, as this transaction sees them."""
        with self.database.errors():
            return list(self.connection.execute(query))

    def can_run(self, query: Any) -> bool:
        """True if a query fails for none of its rows."""
        try:
            with self.connection.begin_nested():
                self.connection.execute(sa.select(sa.func.count()).select_from(query.subquery()))
        except exc.SQLAlchemyError:
            return False
        return True

    def has_triggers(self, table: TableInfo) -> bool:
        """False if it is certain that no trigger changes rows before they are checked."""
        del table
        return True

    def constraints(self, table: TableInfo) -> list[Constraint]:
        """What the database holds rows of a table to, apart from types and NOT NULL."""
        with self.database.errors():
            return constraints_of(sa.inspect(self.connection), table)

    def attempt(self, *statements: Any) -> list[int]:
        """Run statements together; raises RowsRefused, with none of them done, if the target refuses a row."""
        with self.all_or_nothing():
            return [self._counted(statement) for statement in statements]
        raise AssertionError

    @contextlib.contextmanager
    def all_or_nothing(self) -> Iterator[None]:
        """While this lasts, all is done or nothing; raises RowsRefused if the target refuses a row."""
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

    def cancel(self) -> None:
        """Cancel a running statement from another thread, if the driver can."""
        self.database.break_off(self.connection.connection.driver_connection)

    def commit(self) -> None:
        """Make everything visible at once."""
        with self.database.errors():
            self._transaction.commit()

    def close(self) -> None:
        """Undo everything that is not committed, and return the connection."""
        with contextlib.suppress(exc.SQLAlchemyError):
            self._transaction.close()
        self.connection.close()


def _run_text(connection: sa.Connection, sql: str) -> int:
    """Run SQL of the job's own, in which a % is one; the number of rows that it changed."""
    return max(0, connection.exec_driver_sql(sql, execution_options=AS_IT_IS).rowcount)
