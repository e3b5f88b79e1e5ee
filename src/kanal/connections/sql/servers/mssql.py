"""Microsoft's SQL servers, 2016 and newer. Not run against a server by us: the statements follow its manuals."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy.dialects.mssql.base import MSDialect

from kanal.connections.description import ColumnInfo
from kanal.connections.misfits import faults_where
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.servers.base import Server
from kanal.core.faults import Fault
from kanal.core.reasons import Reason
from kanal.core.types import BOOLEAN, DOUBLE, SMALLINT, TEXT, TIMESTAMP, TIMESTAMPTZ, UUID, Family, SqlType, decimal

#: Characters of an NVARCHAR with a length, and of one in a key (900 bytes; Transact-SQL's reference, "CREATE INDEX").
_LONGEST, _LONGEST_KEY = 4_000, 400
_DIGITS = 38

_MADE = {
    "double precision": "FLOAT(53)", "real": "REAL", "boolean": "BIT", "time": "TIME(6)", "timestamp": "DATETIME2(6)",
    "timestamp with time zone": "DATETIMEOFFSET(6)", "uuid": "UNIQUEIDENTIFIER", "json": "NVARCHAR(MAX)",
    "interval": "NVARCHAR(80)",
}  # fmt: skip
#: The form in which a moment is shown, by the number of CONVERT's style: 121 is ISO's with a blank, 127 that in UTC.
_STYLES = {Family.TIMESTAMP: 121, Family.DATE: 23, Family.TIME: 114, Family.TIMESTAMPTZ: 127}


class SqlServer(Server):
    """A server that speaks Transact-SQL."""

    dialect = MSDialect
    sql_name = "tsql"
    driver = "pymssql"
    extra = "kanal[mssql]"
    session = ("SET DATEFORMAT ymd", "SET ANSI_PADDING ON", "SET ANSI_WARNINGS ON")
    port = 1433
    rows_at_once = 100
    has_identity = True
    # Some errors end a transaction and some do not (the reference, "XACT_STATE"), so none is relied on.
    has_savepoints = False

    def type_of(self, declared: str) -> SqlType | None:
        word = declared.split("(", maxsplit=1)[0].strip()
        return {
            "bit": BOOLEAN, "tinyint": SMALLINT, "money": decimal(19, 4), "smallmoney": decimal(10, 4),
            "datetime": TIMESTAMP, "smalldatetime": TIMESTAMP, "datetime2": TIMESTAMP, "float": DOUBLE,
            "datetimeoffset": TIMESTAMPTZ, "uniqueidentifier": UUID, "ntext": TEXT, "sysname": TEXT,
        }.get(word)  # fmt: skip

    def decimals_of(self, declared: str) -> int:
        return {"datetime": 3, "smalldatetime": 0}.get(declared) or super().decimals_of(declared)

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        family, word = info.type.family if info.type is not None else None, info.declared.lower().split("(")[0]
        style = None if family is None else _STYLES.get(family)
        if word in ("money", "smallmoney"):
            style = 2  # all of its digits
        if style is not None:
            shown = sa.func.convert(sa.literal_column("varchar(40)"), column, sa.literal_column(str(style)))
            return shown.label(info.name)
        if family is Family.BOOLEAN:
            return sa.cast(column, sa.Integer).label(info.name)
        if family is Family.UUID:
            return sa.cast(column, sa.VARCHAR(36)).label(info.name)
        if word in ("char", "nchar"):
            return sa.func.rtrim(column).label(info.name)
        return column

    def octets(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.func.datalength(column)

    def misfits(self, values: pa.Array, info: ColumnInfo) -> list[Fault]:
        word = info.declared.lower().split("(")[0]
        if pa.types.is_string(values.type) and word in ("varchar", "char", "text"):
            texts = values.to_pylist()
            strange = np.array([text is not None and not text.isascii() for text in texts], dtype=np.bool_)
            message = (
                f"a {word.upper()} holds one code page and would turn other letters into ?: declare it N{word.upper()}"
            )
            return faults_where(values, strange, Reason.BAD_TEXT, message)
        if pa.types.is_timestamp(values.type) and word == "datetime":
            # It keeps three hundredths of a second (the reference, "datetime").
            rest = values.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False) % 10_000
            message = "a DATETIME keeps .000, .003 and .007 seconds: declare it DATETIME2(6), or use date_trunc"
            return faults_where(values, ~np.isin(rest, (0, 3_000, 7_000)), Reason.WOULD_ROUND, message)
        return super().misfits(values, info)

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        is_text = column.type is not None and column.type.family is Family.TEXT
        return [sa.cast(value, NamedType("VARBINARY(MAX)"))] if is_text else [value]

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) > _DIGITS:
            return NamedType("NVARCHAR(80)")
        if sql_type.family is Family.TEXT:
            most = _LONGEST_KEY if in_key else _LONGEST
            fits = in_key or (sql_type.length or most + 1) <= most
            return NamedType(f"NVARCHAR({min(sql_type.length or most, most) if fits else 'MAX'})")
        if sql_type.family is Family.BINARY:
            return NamedType(f"VARBINARY({_LONGEST_KEY if in_key else 'MAX'})")
        name = _MADE.get(sql_type.name)
        return None if name is None else NamedType(name)

    def stage(self, name: str, rows: str, key: Sequence[str] = ()) -> tuple[str, str]:
        del key
        # Of two queries together, a column does not go on numbering rows as it would of one.
        return f"#{name}", f"SELECT * INTO [#{name}] FROM ({rows} UNION ALL {rows}) AS q"

    def drop_stage(self, name: str) -> str | None:
        return f"DROP TABLE [{name}]"

    def around_insert(self, place: str, numbered: bool) -> tuple[list[str], list[str]]:
        if not numbered:
            return [], []
        return [f"SET IDENTITY_INSERT {place} ON"], [f"SET IDENTITY_INSERT {place} OFF"]

    def altered(self, statement: str) -> str:
        return re.sub(r" TYPE (\S.*)$", r" \1", statement)

    def added(self, statement: str) -> str:
        return statement.replace(" ADD COLUMN ", " ADD ", 1)
