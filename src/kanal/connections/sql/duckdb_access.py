"""How statements are run on DuckDB."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import sqlalchemy as sa

from kanal.connections.description import ColumnInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.duckdb_dialect import DuckDBConnection
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.opening import FileOpening
from kanal.core.types import Family


class DuckDBAccess(FileOpening, SqlAccess):
    """How statements are run on DuckDB."""

    kind = "DuckDB"
    ending = "duckdb"
    mark = b"DUCK"
    mark_at = 8
    extra = "kanal[duckdb]"
    sql_name = "duckdb"
    has_savepoints = False
    checks_each_row = True

    @cached_property
    def engine(self) -> sa.Engine:
        try:
            import duckdb
        except ImportError:
            raise DatabaseError(
                f"connection {self.name}: the driver duckdb is not installed", f"install {self.extra}"
            ) from None
        del duckdb
        return sa.create_engine(sa.URL.create("duckdb"), creator=self._connected, poolclass=sa.NullPool)

    @cached_property
    def _file(self) -> Any:
        """The open file, whose connections are all of one process."""
        import duckdb

        if not self.missing_file:
            self.check_file()
        try:
            return duckdb.connect(str(self.path), config={name: str(value) for name, value in self.url.query.items()})
        except duckdb.Error as error:
            words = " ".join(str(error).split())
            if "lock" in words:
                remedy = "another process has it open, and DuckDB lets one process write: try again when it has ended"
                raise DatabaseError(f"connection {self.name} ({self.path}): {words}", remedy, passing=True) from None
            raise DatabaseError(f"connection {self.name} ({self.path}): {words}", "correct the URL") from None

    def _connected(self) -> DuckDBConnection:
        driver = self._file.cursor()
        driver.execute("SET TimeZone = 'UTC'")
        return DuckDBConnection(driver)

    def ask(self, driver: Any, sql: str) -> list[Any]:
        """The rows that a question of the driver's own finds."""
        import duckdb

        try:
            found: list[Any] = driver.execute(sql).fetchall()
        except duckdb.Error as error:
            raise self.failed(str(error)) from None
        return found

    def dispose(self) -> None:
        super().dispose()
        if "_file" in self.__dict__:
            self._file.close()
            del self.__dict__["_file"]

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        family = None if column.type is None else column.type.family
        if family not in (Family.TEXT, Family.INTERVAL, Family.JSON, None):
            return [value]  # also of a zero, whose sign no UPDATE would change
        # Equality ignores the units of an interval and the differences that the column's collation ignores.
        return [sa.collate(sa.cast(value, NamedType("VARCHAR")), "C")]
