"""MariaDB and MySQL by a general way."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.dialects.mysql.base import MySQLDialect

from kanal.connections.description import ColumnInfo
from kanal.connections.sql.mariadb_values import exact_form, misfits
from kanal.connections.sql.servers.base import Ask, Detail, Server
from kanal.core.faults import Fault
from kanal.core.types import BOOLEAN, REAL, SMALLINT, TIMESTAMPTZ, Family, SqlType, decimal


class MariaDBServer(Server):
    """A MariaDB or MySQL server."""

    dialect = MySQLDialect
    sql_name = "mysql"
    session = (
        "SET time_zone = '+00:00', sql_mode = CONCAT(@@sql_mode, "
        "',STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO')",
    )
    settings: ClassVar[dict[str, str]] = {"Charset": "utf8mb4", "FORWARDONLY": "1", "NO_CACHE": "1"}
    checks_each_row = True
    speaks_utf8 = True
    has_savepoints = True
    rows_at_once = 100
    decimals = 0
    zone = ""
    port = 3306

    def details(self, ask: Ask, schema: str | None, table: str) -> dict[str, Detail]:
        rows = ask(
            "SELECT column_name, column_type, column_default, extra FROM information_schema.columns "
            "WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name",
            schema=schema, name=table,
        )  # fmt: skip
        return {
            name: Detail(
                declared, None if default in (None, "NULL") else str(default),
                "GENERATED" in extra.upper(), "auto_increment" in extra.lower(),
            )
            for name, declared, default, extra in rows
        }  # fmt: skip

    def type_of(self, declared: str) -> SqlType | None:
        name = declared.split("(", maxsplit=1)[0].split(" ", maxsplit=1)[0]
        if declared in ("tinyint(1)", "bit(1)"):
            return BOOLEAN
        if name == "bit" or (declared.startswith("bigint") and "unsigned" in declared):
            return decimal(20, 0)
        return {"float": REAL, "timestamp": TIMESTAMPTZ, "year": SMALLINT}.get(name)

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        if info.declared.startswith("bit"):
            return (column + sa.literal_column("0")).label(info.name)
        if info.type == TIMESTAMPTZ:  # the session's zone is UTC, of which the driver says nothing
            return sa.func.concat(column, sa.literal_column("'+00:00'")).label(info.name)
        if info.type is not None and info.type.family in (Family.DATE, Family.TIME, Family.TIMESTAMP):
            return sa.cast(column, sa.CHAR).label(info.name)  # the driver leaves out the decimals of a time
        if info.type == REAL:  # of which the server would send 6 digits
            return (column + sa.literal_column("0e0")).label(info.name)
        return column

    def misfits(self, values: pa.Array, info: ColumnInfo) -> list[Fault]:
        kind = getattr(mysql, info.declared.split("(")[0].split(" ")[0].upper(), None)
        made = kind(fsp=info.decimals) if kind in (mysql.DATETIME, mysql.TIMESTAMP, mysql.TIME) else kind and kind()
        return misfits(values, made)

    def bound(self, values: pa.Array, info: ColumnInfo | None) -> list[Any]:
        if pa.types.is_floating(values.type):
            return [None if value is None else repr(value) for value in values.to_pylist()]
        return super().bound(values, info)

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        return [exact_form(column, value)]

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        from kanal.connections.sql.mariadb import type_to_make

        return type_to_make(sql_type, in_key)

    def stage(self, name: str, rows: str, key: Sequence[str] = ()) -> tuple[str, str]:
        # CREATE INDEX would commit, also of a temporary table (the server's manual, "SQL statements That Cause an
        # Implicit Commit").
        index = f"(KEY ({', '.join(key)})) " if key else ""
        return name, f"CREATE TEMPORARY TABLE {name} {index}ENGINE = InnoDB {rows}"

    def index_stage(self, name: str, key: Sequence[str]) -> str | None:
        return None

    def drop_stage(self, name: str) -> str:
        return f"DROP TEMPORARY TABLE {name}"

    def altered(self, statement: str) -> str:
        return statement.replace(" ALTER COLUMN ", " MODIFY COLUMN ", 1).replace(" TYPE ", " ", 1)
