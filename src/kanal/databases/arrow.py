"""Loads through a driver that takes and gives Arrow batches, for the databases that have one."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from kanal.databases.base import Database, DatabaseError, Load, RowsRefused


def driver_errors() -> tuple[type[BaseException], ...]:
    """What the Arrow drivers raise; they are imported only where rows are moved, since that takes half a second."""
    import adbc_driver_manager

    return adbc_driver_manager.Error, OSError


class ArrowDatabase(Database):
    """A database whose rows move through an Arrow driver."""

    #: SQLAlchemy's dialect, by which statements become text.
    sql_dialect: sa.Dialect

    @contextlib.contextmanager
    def arrow(self) -> Iterator[Any]:
        """A connection of the Arrow driver; its errors become Kanal's."""
        raise NotImplementedError
        yield

    def compiled(self, statement: Any) -> str:
        """A statement made with SQLAlchemy as text."""
        return str(statement.compile(dialect=self.sql_dialect, compile_kwargs={"literal_binds": True}))

    def driver_words(self, error: BaseException) -> str:
        """What the database said, without the driver's surroundings.

        Raises KeyboardInterrupt where it was one: a driver answers Ctrl-C with an error of its own, caused by it.
        """
        if isinstance(error.__cause__, KeyboardInterrupt):
            raise KeyboardInterrupt from None
        return self.without_password(" ".join(str(error).split()))

    def driver_failure(self, error: BaseException) -> DatabaseError:
        """A driver's error as one of Kanal's."""
        return self.failed(self.driver_words(error))

    def driver_refusal(self, error: BaseException) -> RowsRefused | None:
        """The error by which the target refuses a row, if it is one."""
        raise NotImplementedError


class ArrowLoad(Load):
    """A transaction through the Arrow driver."""

    database: ArrowDatabase

    def __init__(self, database: ArrowDatabase, connection: Any) -> None:
        self.arrow = connection
        self.cursor = connection.cursor()
        super().__init__(database)

    def statement(self, sql: str) -> int:
        """Run one statement; the number of rows it changed, where it changes rows. Raises the driver's errors."""
        raise NotImplementedError

    def statements(self, sql: str) -> list[str]:
        """The statements of a text."""
        return [sql]

    def fetch(self, sql: str) -> list[Any]:
        """The rows that a query finds. Raises the driver's errors."""
        self.cursor.execute(sql)
        rows: list[Any] = self.cursor.fetchall()
        return rows

    def execute(self, statement: Any) -> int:
        return self.run_sql(self.database.compiled(statement))

    def run_sql(self, sql: str) -> int:
        try:
            return sum(max(0, self.statement(statement)) for statement in self.statements(sql))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def scalar(self, query: sa.Select[Any]) -> Any:
        try:
            rows = self.fetch(self.database.compiled(query))
            return rows[0][0] if rows else None
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def insert(self, table: sa.Table, rows: pa.RecordBatch) -> None:
        self._together(lambda: self.ingest(table, rows))

    def ingest(self, table: sa.Table, rows: pa.RecordBatch) -> None:
        """Insert rows by the driver's bulk path. Raises the driver's errors."""
        temporary = bool(table.info.get("temporary"))
        schema = None if temporary else table.schema
        self.cursor.adbc_ingest(table.name, rows, mode="append", db_schema_name=schema, temporary=temporary)

    def attempt(self, *statements: Any) -> list[int]:
        counts: list[int] = []
        texts = [self.database.compiled(statement) for statement in statements]
        self._together(lambda: counts.extend(self.statement(text) for text in texts))
        return counts

    def _together(self, work: Callable[[], None]) -> None:
        """Do work of which all or nothing remains."""
        try:
            self.statement("SAVEPOINT kanal")
            work()
            self.statement("RELEASE SAVEPOINT kanal")
        except driver_errors() as error:
            refusal = self.database.driver_refusal(error)
            if refusal is None:
                raise self.database.driver_failure(error) from None
            self.run_sql("ROLLBACK TO SAVEPOINT kanal")
            self.run_sql("RELEASE SAVEPOINT kanal")
            raise refusal from None

    def cancel(self) -> None:
        with contextlib.suppress(*driver_errors()):
            self.cursor.adbc_cancel()

    def drop_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"DROP TABLE {self.database.sql_dialect.identifier_preparer.format_table(stage)}")

    def commit(self) -> None:
        try:
            self.finish()
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def finish(self) -> None:
        """Commit. Raises the driver's errors."""
        self.arrow.commit()
