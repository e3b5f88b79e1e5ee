"""How statements are run on SQLite."""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import sqlite as dialect

from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.sqlite_opening import SQLiteOpening
from kanal.connections.sql.sqlite_rows import (
    driver_errors,
    exact_forms,
)


class SQLiteAccess(SQLiteOpening, SqlAccess):
    """How statements are run on SQLite."""

    sql_name = "sqlite"
    sql_dialect = dialect.dialect(paramstyle="named")
    defers_references = True

    @contextlib.contextmanager
    def _python(self) -> Iterator[sqlite3.Connection]:
        """A connection of Python's own driver, for small questions."""
        self.check_file()
        try:
            connection = sqlite3.connect(self.path, timeout=self.lock_timeout or 30)
            try:
                yield connection
            finally:
                connection.close()
        except sqlite3.Error as error:
            raise self.failed(str(error), self.passes(error)) from None

    @contextlib.contextmanager
    def arrow(self) -> Iterator[Any]:
        """A connection of the Arrow driver; its errors become Kanal's."""
        import adbc_driver_sqlite.dbapi

        self.check_file()
        uri = f"file:{str(self.path.resolve()).replace('%', '%25').replace('?', '%3f').replace('#', '%23')}?mode=rw"
        try:
            connection = adbc_driver_sqlite.dbapi.connect(uri)
            try:
                with connection.cursor() as cursor:
                    cursor.execute(f"PRAGMA busy_timeout = {round(1000 * (self.lock_timeout or 30))}")
                    cursor.fetchall()
                yield connection
            finally:
                connection.close()
        except driver_errors() as error:
            raise self.driver_failure(error) from None

    def driver_words(self, error: BaseException) -> str:
        """What SQLite said, without the driver's surroundings.

        Raises KeyboardInterrupt if it was one: the driver answers Ctrl-C with an error of its own, caused by it.
        """
        if isinstance(error.__cause__, KeyboardInterrupt):
            raise KeyboardInterrupt from None
        text = self.without_password(" ".join(str(error).split()))
        text = re.sub(r"^[A-Z_]+: (?:\[SQLite\] )?", "", text)
        text = re.sub(r"\s*query was: .*$", "", text)
        return re.sub(r"^(?:[Ff]ailed to \w+(?: \w+)*: )+", "", text)

    def driver_failure(self, error: BaseException) -> DatabaseError:
        """A driver's error as one of Kanal's."""
        return self.failed(self.driver_words(error), self.passes(error))

    def found_by(self, query: sa.Executable) -> list[tuple[Any, ...]]:
        with self.arrow() as connection, connection.cursor() as cursor:
            cursor.execute(self.compiled(query))
            return [tuple(row) for row in cursor.fetchall()]

    def sa_table(self, table: TableInfo) -> sa.Table:
        return sa.Table(table.name, sa.MetaData(), *(sa.Column(name) for name in table.names))

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        del column
        return exact_forms(value)
