"""SQLite by a general way: any row may hold any type in any column, so each value comes as text."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects.sqlite.base import SQLiteDialect

from kanal.connections.description import ColumnInfo
from kanal.connections.sql.servers.base import Ask, Detail, Server
from kanal.connections.sql.sqlite_rows import exact_forms
from kanal.core.types import DOUBLE, Family, SqlType

#: The type by which a key of one column numbers the rows by itself.
_ROW_NUMBER = ("INTEGER", "integer")


class SQLiteServer(Server):
    """A SQLite file."""

    dialect = SQLiteDialect
    sql_name = "sqlite"
    session = ("PRAGMA foreign_keys = ON",)
    checks_each_row = True
    as_they_are = (Family.TEXT, Family.BINARY)
    keeps_room = False
    speaks_utf8 = True
    has_savepoints = True

    def details(self, ask: Ask, schema: str | None, table: str) -> dict[str, Detail]:
        name = table.replace("'", "''")
        rows = ask(f"SELECT name, type, dflt_value, hidden, pk FROM pragma_table_xinfo('{name}')".replace(":", "\\:"))
        alone = sum(bool(row[4]) for row in rows) == 1
        return {
            row[0]: Detail(
                row[1], row[2], int(row[3]) in (2, 3), alone and bool(row[4]) and row[1].upper() == "INTEGER"
            )
            for row in rows
        }

    def moments(self, values: pa.Array) -> pa.Array:
        # A moment is a text here, and equal to another with the same characters.
        return pc.replace_substring_regex(super().moments(values), r"\.0+$", "")

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        if info.type is not None and info.type.family is Family.BINARY:
            return column
        # The fewest digits that tell a number from all others, which a cast cuts to 15.
        is_real = sa.func.typeof(column) == sa.literal_column("'real'")
        ways = [sa.func.printf(sa.literal_column(f"'%!.{digits}g'"), column) for digits in (15, 16)]
        enough = [(sa.and_(is_real, sa.cast(text, sa.REAL) == column), text) for text in ways]
        whole = is_real, sa.func.printf(sa.literal_column("'%!.17g'"), column)
        return sa.case(*enough, whole, else_=sa.cast(column, sa.Text)).label(info.name)

    def type_of(self, declared: str) -> SqlType | None:
        return DOUBLE if declared in ("real", "float") else None

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        del column
        return exact_forms(value)

    def octets(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.func.length(sa.cast(column, sa.BLOB))

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        from kanal.connections.sql.sqlite import type_to_make

        return type_to_make(sql_type)
