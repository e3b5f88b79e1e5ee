"""SQLAlchemy's way to DuckDB: statements as PostgreSQL has them, run by DuckDB's own driver.

DuckDB's SQL follows PostgreSQL's (its manual, "PostgreSQL Compatibility"). Its driver differs from others in three
things: a cursor is a connection of its own, nothing begins a transaction by itself, and the number of changed rows is
a row of the result.
"""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy.dialects import registry
from sqlalchemy.dialects.postgresql.base import PGDialect, PGIdentifierPreparer

_CHANGES = re.compile(r"\s*(?:INSERT|UPDATE|DELETE|MERGE|WITH|COPY)\b", re.IGNORECASE)


class DuckDBCursor:
    """A cursor on the connection itself."""

    arraysize = 1

    def __init__(self, driver: Any) -> None:
        self._driver = driver
        self._first: list[Any] = []
        self.rowcount = -1
        self.description: Any = None

    def execute(self, statement: str, parameters: Any = None) -> None:
        """Run one statement."""
        self.rowcount, self.description, self._first = -1, None, []
        self._driver.execute(statement, list(parameters or []))
        self.description = self._driver.description
        counts = self.description and len(self.description) == 1 and self.description[0][0] == "Count"
        if counts and _CHANGES.match(statement):
            row = self._driver.fetchone()
            self.rowcount, self.description = int(row[0]) if row else 0, None

    def executemany(self, statement: str, parameters: Any) -> None:
        """Run one statement for each of some rows."""
        changed = 0
        for values in parameters:
            self.execute(statement, values)
            changed += max(self.rowcount, 0)
        self.rowcount = changed

    def fetchone(self) -> Any:
        """The next row."""
        return self._driver.fetchone()

    def fetchmany(self, size: int | None = None) -> Any:
        """The next rows."""
        return self._driver.fetchmany(size or self.arraysize)

    def fetchall(self) -> Any:
        """All rows that are left."""
        return self._driver.fetchall()

    def close(self) -> None:
        """Nothing is held."""


class DuckDBConnection:
    """A connection of the driver with the public interface that SQLAlchemy asks for (PEP 249)."""

    def __init__(self, driver: Any) -> None:
        self.driver = driver

    def cursor(self) -> DuckDBCursor:
        """A cursor on this connection."""
        return DuckDBCursor(self.driver)

    def commit(self) -> None:
        """Commit what has begun."""
        self._end("COMMIT")

    def rollback(self) -> None:
        """Undo what has begun."""
        self._end("ROLLBACK")

    def _end(self, statement: str) -> None:
        import duckdb

        try:
            self.driver.execute(statement)
        except duckdb.TransactionException as error:
            if "no transaction is active" not in str(error):
                raise

    def close(self) -> None:
        """Give it up."""
        self.driver.close()


class _Quoted(PGIdentifierPreparer):
    """Every name in quotes: DuckDB has other reserved words than PostgreSQL, and none of its names depends on case."""

    def _requires_quotes(self, value: str) -> bool:
        del value
        return True


class DuckDBDialect(PGDialect):
    """DuckDB's dialect, which is asked for statements alone; the catalogue is Kanal's own."""

    name = "duckdb"
    driver = "duckdb"
    supports_statement_cache = True
    default_paramstyle = "qmark"
    preparer = _Quoted
    supports_sane_rowcount = True
    supports_server_side_cursors = False
    preexecute_autoincrement_sequences = False
    insert_returning = False

    @classmethod
    def import_dbapi(cls) -> Any:
        """The driver."""
        import duckdb

        return duckdb

    def initialize(self, connection: Any) -> None:
        """Nothing is asked that only PostgreSQL would know."""
        version = connection.exec_driver_sql("SELECT version()").scalar()
        self.server_version_info = tuple(int(part) for part in re.findall(r"\d+", version)[:3])
        self.default_schema_name = "main"

    def do_begin(self, dbapi_connection: Any) -> None:
        """Begin a transaction, which nothing else does."""
        dbapi_connection.driver.execute("BEGIN")

    def get_isolation_level(self, dbapi_connection: Any) -> Any:
        """The one that it has."""
        del dbapi_connection
        return "SERIALIZABLE"

    def is_disconnect(self, e: Any, connection: Any, cursor: Any) -> bool:
        """Nothing that has to do with a network."""
        del e, connection, cursor
        return False


registry.register("duckdb", __name__, "DuckDBDialect")
