"""How a column of the job file becomes a rule."""

from __future__ import annotations

from kanal.core.transformation import ColumnRule
from kanal.core.types import parse_type
from kanal.definition import Column


def rule_of_column(column: Column) -> ColumnRule:
    """What fills a target column."""
    bad_value = column.if_bad["value"] if isinstance(column.if_bad, dict) else None
    return ColumnRule(
        expression=column.from_,
        type=parse_type(column.type) if column.type else None,
        options=column.options(),
        default=column.default,
        if_bad=column.if_bad if isinstance(column.if_bad, str) else "reject",  # type: ignore[arg-type]
        bad_value=bad_value,
    )


def quoted(name: str) -> str:
    """A column's name as an expression."""
    return '"' + name.replace('"', '""') + '"'
