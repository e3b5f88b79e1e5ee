"""Reads how a job names a table: CONNECTION:TABLE or CONNECTION:SCHEMA.TABLE, parts in double quotes where needed."""

from __future__ import annotations

import re

_PART = r'(?:"((?:[^"]|"")+)"|([^".]+))'
_TABLE = re.compile(rf"\s*(?:{_PART}\.)?{_PART}\s*")


def split_table(text: str) -> tuple[str | None, str]:
    """Schema (or None) and table of a text such as `lock`, `harbour.lock` or `"Passage Book"`; raises ValueError."""
    match = _TABLE.fullmatch(text)
    if match is None:
        raise ValueError(
            f'"{text}" does not name a table: write TABLE or SCHEMA.TABLE, in double quotes where it has dots'
        )
    quoted_schema, schema, quoted_table, table = match.groups()
    schema = quoted_schema.replace('""', '"') if quoted_schema else schema
    return schema.strip() if schema else None, quoted_table.replace('""', '"') if quoted_table else table.strip()


def split_place(text: str) -> tuple[str, str | None, str]:
    """Connection, schema (or None) and table of a text such as `register:lock`; raises ValueError."""
    connection, colon, rest = text.partition(":")
    if not colon or not connection.strip() or not rest.strip():
        raise ValueError(f'"{text}" does not name a table: write CONNECTION:TABLE or CONNECTION:SCHEMA.TABLE')
    return (connection.strip(), *split_table(rest))


def quote_part(name: str) -> str:
    """A schema's or table's name as it is written in a job."""
    return (
        name if re.fullmatch(r'[^".:\s][^".:]*', name) and name == name.strip() else '"' + name.replace('"', '""') + '"'
    )
