"""How PostgreSQL's types come and go."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import postgresql as dialect

from kanal.connections.description import ColumnInfo
from kanal.connections.sql.copy_binary import MAX_DIGITS
from kanal.core.types import REAL, Family, SqlType

#: Types whose values the driver takes from Arrow as they are.
_DIRECT = (
    sa.SmallInteger, sa.Integer, sa.Float, sa.Boolean, sa.Date, sa.DateTime, sa.LargeBinary, sa.Uuid, sa.JSON,
    sa.String,
)  # fmt: skip

#: PostgreSQL's name of a type: Kanal's, if a query's columns are described.
BY_NAME = {
    "int2": "smallint", "int4": "integer", "int8": "bigint", "numeric": "decimal", "float4": "real", "text": "text",
    "float8": "double precision", "bool": "boolean", "varchar": "text", "bpchar": "text", "name": "text",
    "date": "date", "time": "time", "timestamp": "timestamp", "timestamptz": "timestamp with time zone",
    "bytea": "binary", "uuid": "uuid", "json": "json", "jsonb": "json",
}  # fmt: skip

#: Families whose equality compares all of a value.
_EXACT = {
    Family.INTEGER, Family.BOOLEAN, Family.DATE, Family.TIME, Family.TIMESTAMP, Family.TIMESTAMPTZ, Family.UUID,
    Family.BINARY,
}  # fmt: skip
_TEXTS = ("text", "character varying", "varchar")


def exact_form(column: ColumnInfo, value: Any) -> Any:
    """A column's value in a form that is equal only if the value is displayed alike.

    Equality ignores the sign of zero, the scale of a numeric without one, the units of an interval, and the
    differences that a nondeterministic collation or citext ignores; json and xml cannot be compared at all.
    """
    family = None if column.type is None else column.type.family
    declared = column.declared.lower()
    if family in _EXACT or (family is Family.DECIMAL and "(" in declared):
        return value
    if family is Family.DOUBLE:
        send = sa.func.float4send if column.type == REAL else sa.func.float8send
        return send(value)
    text = value if declared.startswith(_TEXTS) else sa.cast(value, sa.Text)
    return sa.collate(text, "C")


def is_direct(declared: Any) -> bool:
    """True for a column whose values the driver takes from Arrow as they are; others go by way of text."""
    if isinstance(declared, sa.Enum | dialect.DOMAIN):
        return False
    if isinstance(declared, sa.Time):
        return not declared.timezone
    if isinstance(declared, sa.Numeric) and not isinstance(declared, sa.Float):
        return declared.precision is not None
    return isinstance(declared, _DIRECT)


def comes_whole(sql_type: SqlType) -> bool:
    """True for decimals of at most 18 digits, which are read as the server has them."""
    return sql_type.family is Family.DECIMAL and (sql_type.precision or 0) <= MAX_DIGITS


def is_wide(sql_type: SqlType | None) -> bool:
    """True for decimals of more digits, which are read as text."""
    return sql_type is not None and sql_type.family is Family.DECIMAL and not comes_whole(sql_type)
