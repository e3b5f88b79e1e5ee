"""Defaults of columns, in a form that each database can be told."""

from __future__ import annotations

from msgspec import Struct


class DefaultValue(Struct, frozen=True):
    """A constant, a number as its text, or the moment at which a row is inserted: CURRENT_TIMESTAMP or CURRENT_DATE."""

    value: str | bool | None = None
    is_number: bool = False
    moment: str | None = None


def default_value(text: str, dialect: str | None) -> DefaultValue | None:
    """What a default means that a database shows as this text; None if it is more than a constant or a moment."""
    import sqlglot
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    try:
        found = sqlglot.parse_one(text, read=dialect)
    except (SqlglotError, RecursionError):
        return None
    while isinstance(found, exp.Cast | exp.Paren):
        found = found.this
    if isinstance(found, exp.CurrentTimestamp):
        return DefaultValue(moment="CURRENT_TIMESTAMP")
    if isinstance(found, exp.CurrentDate):
        return DefaultValue(moment="CURRENT_DATE")
    if isinstance(found, exp.Boolean):
        return DefaultValue(bool(found.this))
    negative = isinstance(found, exp.Neg)
    if negative:
        found = found.this
    if not isinstance(found, exp.Literal) or (negative and found.is_string):
        return None
    return DefaultValue(f"{'-' if negative else ''}{found.this}", is_number=not found.is_string)
