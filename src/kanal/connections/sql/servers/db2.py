"""IBM's Db2, 11.1 and newer. Not run against a server by us: the statements are held against its manuals."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy.engine.default import DefaultDialect
from sqlalchemy.sql.compiler import SQLCompiler

from kanal.connections.description import ColumnInfo
from kanal.connections.misfits import too_fine
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.servers.base import Server
from kanal.core.faults import Fault
from kanal.core.types import BINARY, TEXT, TIMESTAMP, Family, SqlType, varchar

#: Bytes of a VARCHAR, and of one in a key (the SQL reference, "SQL and XML limits").
_LONGEST, _LONGEST_KEY = 32_672, 1_000
_DIGITS = 31


class _Db2Compiler(SQLCompiler):
    """Rows are limited as ISO SQL:2008 has it."""

    def limit_clause(self, select: Any, **kw: Any) -> str:
        text = ""
        if select._offset_clause is not None:
            text += f" OFFSET {self.process(select._offset_clause, **kw)} ROWS"
        if select._limit_clause is not None:
            text += f" FETCH FIRST {self.process(select._limit_clause, **kw)} ROWS ONLY"
        return text


class Db2Dialect(DefaultDialect):
    """What of its SQL differs from the standard's."""

    name = "db2"
    statement_compiler = _Db2Compiler
    supports_statement_cache = True
    max_identifier_length = 128


class Db2Server(Server):
    """A Db2 server."""

    dialect = Db2Dialect
    sql_name = None
    extra = "kanal[db2]"
    port = 50_000
    rows_at_once = 100
    has_identity = True

    def type_of(self, declared: str) -> SqlType | None:
        word = declared.split("(", maxsplit=1)[0].strip()
        if "for bit data" in declared or word in ("binary", "varbinary", "blob"):
            return BINARY
        if word in ("graphic", "vargraphic"):
            length = declared.partition("(")[2].partition(")")[0]
            return varchar(int(length)) if length.isdigit() else TEXT
        return {"clob": TEXT, "dbclob": TEXT, "long varchar": TEXT, "timestamp": TIMESTAMP}.get(word)

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        family, word = info.type.family if info.type is not None else None, info.declared.lower().split("(")[0]
        if family is Family.TIMESTAMP:
            form: sa.ColumnElement[Any] = sa.literal_column("'YYYY-MM-DD HH24:MI:SS.FF6'")
            return sa.func.varchar_format(column, form).label(info.name)
        if family is Family.DATE:
            return sa.func.char(column, sa.literal_column("ISO")).label(info.name)
        if family is Family.TIME:
            return sa.func.char(column, sa.literal_column("JIS")).label(info.name)
        if word in ("char", "character", "graphic"):
            return sa.func.rtrim(column).label(info.name)
        return column

    def octets(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.func.length(column, sa.literal_column("OCTETS"))

    def misfits(self, values: pa.Array, info: ColumnInfo) -> list[Fault]:
        if pa.types.is_time(values.type):
            return too_fine(values, 0, "declare it VARCHAR(15), or use date_trunc")
        return super().misfits(values, info)

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        made = {
            "time": sa.VARCHAR(15), "timestamp": NamedType("TIMESTAMP(6)"), "binary": NamedType("BLOB(2G)"),
            "timestamp with time zone": sa.VARCHAR(40), "uuid": sa.CHAR(36), "interval": sa.VARCHAR(80),
            "json": NamedType("CLOB(1G)"), "boolean": sa.BOOLEAN(),
        }  # fmt: skip
        if sql_type.family is Family.DECIMAL:
            digits = sql_type.precision or 0
            return sa.DECIMAL(digits, sql_type.scale) if digits <= _DIGITS else sa.VARCHAR(80)
        if sql_type.family is Family.TEXT:
            most = (_LONGEST_KEY if in_key else _LONGEST) // 4  # bytes of the widest characters
            fits = in_key or (sql_type.length or most + 1) <= most
            return sa.VARCHAR(4 * min(sql_type.length or most, most)) if fits else NamedType("CLOB(1G)")
        return made.get(sql_type.name)

    def stage(self, name: str, rows: str, key: Sequence[str] = ()) -> tuple[str, str]:
        del key
        made = f'DECLARE GLOBAL TEMPORARY TABLE SESSION."{name}" AS ({rows}) DEFINITION ONLY'
        return f"SESSION.{name}", f"{made} ON COMMIT PRESERVE ROWS NOT LOGGED"

    def drop_stage(self, name: str) -> str | None:
        return f'DROP TABLE SESSION."{name.rpartition(".")[2]}"'
