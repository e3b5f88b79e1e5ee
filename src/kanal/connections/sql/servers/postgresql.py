"""PostgreSQL by a general way: what its server says as text, which no driver changes."""

from __future__ import annotations

from typing import Any, ClassVar

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql.base import PGDialect

from kanal.connections.description import ColumnInfo
from kanal.connections.sql.postgresql_types import exact_form
from kanal.connections.sql.postgresql_values import misfits
from kanal.connections.sql.servers.base import Ask, Detail, Server
from kanal.core.faults import Fault
from kanal.core.types import SqlType


class PostgreSQLServer(Server):
    """A PostgreSQL server."""

    dialect = PGDialect
    sql_name = "postgres"
    session = ("SET TIME ZONE 'UTC'", "SET extra_float_digits = 3", "SET DateStyle = 'ISO, YMD'")
    # Rows come as they are asked for; else the driver holds all of them.
    settings: ClassVar[dict[str, str]] = {
        "UseDeclareFetch": "1",
        "Fetch": "10000",
        "BoolsAsChar": "1",
        "ByteaAsLongVarBinary": "1",
        # An error is undone to a savepoint of ours, and the driver undoes nothing by itself.
        "Protocol": "7.4-0",
    }
    speaks_utf8 = True
    has_savepoints = True
    rows_at_once = 100
    port = 5432
    has_identity = True

    def details(self, ask: Ask, schema: str | None, table: str) -> dict[str, Detail]:
        rows = ask(
            "SELECT a.attname, format_type(a.atttypid, a.atttypmod), pg_get_expr(d.adbin, d.adrelid), "
            "a.attgenerated, a.attidentity FROM pg_attribute a "
            "LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum "
            "JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE n.nspname = COALESCE(:schema, current_schema()) AND c.relname = :name "
            "AND a.attnum > 0 AND NOT a.attisdropped",
            schema=schema, name=table,
        )  # fmt: skip
        return {
            name: Detail(
                declared, default, generated.strip() != "",
                identity.strip() != "" or str(default or "").startswith("nextval("), identity.strip() == "a",
            )
            for name, declared, default, generated, identity in rows
        }  # fmt: skip

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        padded = info.declared.startswith("character(") or info.declared in ("character", "bpchar")
        if info.type is not None and info.type.family in self.as_they_are and not padded:
            return column
        return sa.cast(column, sa.Text).label(info.name)

    def misfits(self, values: pa.Array, info: ColumnInfo) -> list[Fault]:
        return misfits(values, info.dialect_type) + super().misfits(values, info)

    def bound(self, values: pa.Array, info: ColumnInfo | None) -> list[Any]:
        if pa.types.is_floating(values.type) or pa.types.is_boolean(values.type):
            # As a number, a driver may write 15 digits of it.
            return [None if value is None else str(value).lower() for value in values.to_pylist()]
        return super().bound(values, info)

    def _not_finite(self, values: pa.Array) -> list[Fault]:
        return []  # it takes them as texts

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        return [exact_form(column, value)]

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        return None

    def altered(self, statement: str) -> str:
        return statement
