"""Oracle's servers, 18c and newer. Not run against a server by us: the statements are held against its manuals."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects.oracle.base import OracleDialect

from kanal.connections.description import ColumnInfo
from kanal.connections.misfits import faults_where, too_many_bytes
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.servers.base import Server
from kanal.core.faults import Fault
from kanal.core.reasons import Reason
from kanal.core.types import (
    BINARY,
    DOUBLE,
    REAL,
    TEXT,
    TIMESTAMP,
    TIMESTAMPTZ,
    WIDE_DECIMAL,
    Family,
    SqlType,
    decimal,
    varchar,
)

#: Bytes of a VARCHAR2 (Oracle's SQL reference, "Data Types"), and characters of one to be created.
_BYTES, _CHARACTERS, _KEY_CHARACTERS = 4_000, 1_000, 255
_DIGITS = 38
_SIZED = re.compile(r"(\w+)\s*\(\s*(\d+)\s*(?:,\s*(-?\d+)\s*)?(?:\s+(?:char|byte))?\s*\)")

_MADE = {
    "smallint": "NUMBER(5)", "integer": "NUMBER(10)", "bigint": "NUMBER(19)", "double precision": "BINARY_DOUBLE",
    "real": "BINARY_FLOAT", "boolean": "NUMBER(1)", "date": "DATE", "time": "VARCHAR2(15)", "binary": "BLOB",
    "timestamp": "TIMESTAMP(6)", "timestamp with time zone": "TIMESTAMP(6) WITH TIME ZONE", "uuid": "VARCHAR2(36)",
    "interval": "VARCHAR2(80)", "json": "CLOB",
}  # fmt: skip


class OracleServer(Server):
    """An Oracle server."""

    dialect = OracleDialect
    sql_name = "oracle"
    driver = "oracledb"
    extra = "kanal[oracle]"
    # Moments go as texts, each in one form (the SQL reference, "Format Models").
    session = (
        "ALTER SESSION SET NLS_DATE_FORMAT = 'YYYY-MM-DD HH24:MI:SS'",
        "ALTER SESSION SET NLS_TIMESTAMP_FORMAT = 'YYYY-MM-DD HH24:MI:SS.FF'",
        "ALTER SESSION SET NLS_TIMESTAMP_TZ_FORMAT = 'YYYY-MM-DD HH24:MI:SS.FF TZH:TZM'",
        "ALTER SESSION SET NLS_NUMERIC_CHARACTERS = '. '",
        "ALTER SESSION SET TIME_ZONE = 'UTC'",
    )
    port = 1521
    zone = " +00:00"
    # A statement that fails is undone by itself, and nothing else is (Database Concepts, "Statement-Level Atomicity").
    has_savepoints = True
    has_identity = True

    def type_of(self, declared: str) -> SqlType | None:
        sized = _SIZED.match(declared)
        word = sized[1] if sized else declared.split("(", maxsplit=1)[0].strip()
        if word == "number":
            # Of one without a scale, any digits may come.
            digits, scale = (int(sized[2]), int(sized[3] or 0)) if sized else (0, 0)
            return decimal(digits, scale) if 0 <= scale <= digits and digits else WIDE_DECIMAL
        if word in ("varchar2", "nvarchar2", "char", "nchar"):
            return varchar(int(sized[2])) if sized else TEXT
        if "time zone" in declared:
            return TIMESTAMPTZ
        if word in ("date", "timestamp"):  # a DATE has a time of day
            return TIMESTAMP
        return {"clob": TEXT, "nclob": TEXT, "long": TEXT, "raw": BINARY, "blob": BINARY, "long raw": BINARY,
                "binary_double": DOUBLE, "binary_float": REAL}.get(word)  # fmt: skip

    def decimals_of(self, declared: str) -> int:
        return 0 if declared == "date" else super().decimals_of(declared)

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        family = info.type.family if info.type is not None else None
        if family is Family.DECIMAL:
            return sa.func.to_char(column, sa.literal_column("'TM9'")).label(info.name)
        if family is Family.TIMESTAMP:
            fraction = "" if info.decimals == 0 else ".FF6"
            return sa.func.to_char(column, sa.literal_column(f"'YYYY-MM-DD HH24:MI:SS{fraction}'")).label(info.name)
        if family is Family.TIMESTAMPTZ:
            utc = sa.func.sys_extract_utc(column)
            shown = sa.func.to_char(utc, sa.literal_column("'YYYY-MM-DD HH24:MI:SS.FF6'"))
            return shown.concat(sa.literal_column("'+00:00'")).label(info.name)
        if info.declared.lower().startswith(("char(", "nchar(")):
            return sa.func.rtrim(column).label(info.name)
        return column

    def octets(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.func.lengthb(column)

    def misfits(self, values: pa.Array, info: ColumnInfo) -> list[Fault]:
        found = super().misfits(values, info)
        if pa.types.is_string(values.type):
            empty = pc.fill_null(pc.equal(values, ""), False).to_numpy(zero_copy_only=False)
            message = "Oracle keeps no empty text, which would become NULL: map it with NULLIF(name, '')"
            found += faults_where(values, empty, Reason.BAD_TEXT, message)
            if "char" in info.declared.lower():
                found += too_many_bytes(
                    values, _BYTES, f"the column holds {_BYTES:,} bytes: declare it CLOB, or shorten it"
                )
        return found

    def _not_finite(self, values: pa.Array) -> list[Fault]:
        return []

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        # The bytes, which no collation compares (the SQL reference, "NLSSORT"); a CLOB has no such form.
        is_text = column.type is not None and column.type.family is Family.TEXT and "char" in column.declared.lower()
        return [sa.func.nlssort(value, sa.literal_column("'NLS_SORT=BINARY'"))] if is_text else [value]

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        digits = sql_type.precision or 0
        if sql_type.family is Family.DECIMAL:
            return NamedType(f"NUMBER({digits},{sql_type.scale})" if digits <= _DIGITS else "VARCHAR2(80)")
        if sql_type.family is Family.TEXT:
            most = _KEY_CHARACTERS if in_key else _CHARACTERS
            fits = in_key or (sql_type.length or most + 1) <= most
            return NamedType(f"VARCHAR2({min(sql_type.length or most, most)} CHAR)" if fits else "CLOB")
        return NamedType(_MADE[sql_type.name])

    def stage(self, name: str, rows: str, key: Sequence[str] = ()) -> tuple[str, str]:
        del key
        place = f"ORA$PTT_{name}"
        return place, f'CREATE PRIVATE TEMPORARY TABLE "{place}" ON COMMIT DROP DEFINITION AS {rows}'

    def index_stage(self, name: str, key: Sequence[str]) -> str | None:
        return None

    def drop_stage(self, name: str) -> str | None:
        return f'DROP TABLE "{name}"'

    def altered(self, statement: str) -> str:
        return re.sub(r" ALTER COLUMN (.+) TYPE (.+)$", r" MODIFY (\1 \2)", statement)

    def added(self, statement: str) -> str:
        return re.sub(r" ADD COLUMN (.+)$", r" ADD (\1)", statement)
