"""How statements are run on MariaDB and MySQL."""

from __future__ import annotations

import math
from collections.abc import Hashable
from functools import cached_property
from typing import Any, ClassVar, cast

import sqlalchemy as sa
from sqlalchemy import exc
from sqlalchemy.dialects import mysql as dialect

from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import os_error_passes
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.mariadb_errors import PASSING, REFUSALS, constraint_in, error_number
from kanal.connections.sql.mariadb_values import exact_form
from kanal.connections.sql.pymysql_private import notice_silence

_THIS_MACHINE = (None, "localhost", "127.0.0.1", "::1")
_SESSION = (
    "SET time_zone = '+00:00', sql_mode = CONCAT(@@sql_mode, "
    "',STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO')"
)


class MariaDBAccess(SqlAccess):
    """How statements are run on MariaDB and MySQL."""

    extra = "kanal[mariadb]"
    port = 3306
    drivers = frozenset({"pymysql"})
    on_connect = staticmethod(notice_silence)
    pooling: ClassVar[dict[str, Any]] = {}
    looks_after = True
    checks_each_row = True
    sql_name = "mysql"
    sql_dialect = dialect.dialect(paramstyle="named")

    def __init__(self, name: str, url: sa.URL) -> None:
        kind = url.drivername.partition("+")[0]
        super().__init__(name, url.set(drivername=f"{kind}+pymysql"))
        self._given = url

    @cached_property
    def identity(self) -> Hashable:
        (row,) = self.rows_of("SELECT @@hostname, @@port, @@datadir, DATABASE()")
        return "mariadb", *row

    def place_of(self, table: TableInfo) -> Hashable:
        *server, database = cast("tuple[Any, ...]", self.identity)
        return *server, table.schema or database, table.name

    def connect_arguments(self) -> dict[str, Any]:
        seconds = math.ceil(self.connect_timeout or 15)
        settings = {"local_infile": True, "charset": "utf8mb4", "connect_timeout": seconds, "init_command": _SESSION}
        if self.lock_timeout is not None:
            wait = math.ceil(self.lock_timeout)
            settings["init_command"] = f"{_SESSION}, innodb_lock_wait_timeout = {wait}, lock_wait_timeout = {wait}"
        if self.url.host in _THIS_MACHINE and not any(name.startswith("ssl") for name in self.url.query):
            # Making ready for TLS takes the driver longer than all the rest, and here nobody listens.
            settings["ssl_disabled"] = True
        return settings

    def refuses(self, error: exc.SQLAlchemyError) -> bool:
        return isinstance(error, exc.IntegrityError | exc.DataError) or error_number(error) in REFUSALS

    def passes(self, error: BaseException) -> bool:
        original = getattr(error, "orig", None) or error
        cause = getattr(original, "original_exception", None) or original
        if isinstance(cause, OSError):
            return os_error_passes(cause)
        return isinstance(cause, EOFError) or error_number(original) in PASSING or super().passes(error)

    def words_of(self, error: BaseException) -> str:
        original = getattr(error, "orig", None) or error
        if len(original.args) == 2 and isinstance(original.args[0], int):
            return " ".join(self.without_password(str(original.args[1])).split()) or "lost connection to the server"
        return super().words_of(error)

    def broken_constraint(self, error: BaseException) -> str | None:
        return constraint_in(self.words_of(error))

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        return [exact_form(column, value)]

    def break_off(self, driver: Any) -> None:
        with self.connect() as other:
            other.exec_driver_sql(f"KILL QUERY {int(driver.thread_id())}")
