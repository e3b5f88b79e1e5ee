"""What an expression may name, and what it is once compiled; columns that stand only are compiled here."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import pyarrow as pa
from msgspec import Struct, field

from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions.nodes import Node, constant, text_constant
from kanal.core.frame import ColumnKey
from kanal.core.types import BIGINT, BOOLEAN, DOUBLE, INTEGER, SqlType, parse_type

if TYPE_CHECKING:
    from kanal.core.expressions.registry import Function


class Scope(Struct, frozen=True):
    """The names an expression may use: columns of the row, columns of its look-ups, parameters, the user's functions.

    `place` names the table in messages, such as `passage_book`. `unresolved` contains look-ups whose columns are
    unknown because of a problem that is reported at the look-up.
    """

    columns: Mapping[str, SqlType]
    lookups: Mapping[str, Mapping[str, SqlType]] = field(default_factory=dict)
    parameters: Mapping[str, Any] = field(default_factory=dict)
    place: str = "the source"
    functions: Mapping[str, Function | KanalError] = field(default_factory=dict)
    unresolved: frozenset[str] = frozenset()


class Expression(Struct, frozen=True):
    """A compiled expression: its text, its type, how to evaluate it, and the columns that it uses."""

    text: str
    node: Node
    uses: frozenset[ColumnKey]

    @property
    def type(self) -> SqlType:
        """The SQL type of its value."""
        return self.node.type

    @property
    def of_source(self) -> set[str]:
        """The columns of the source, and of no look-up, that it uses."""
        return {name for owner, name in self.uses if owner is None}


def column_node(key: ColumnKey, columns: Mapping[str, SqlType]) -> Node:
    """A column of the row, or of a look-up."""
    return Node(columns[key[1]], lambda frame: frame.column(key), column=key)


_NAME = re.compile(r'\s*(?:([A-Za-z_][A-Za-z0-9_]*)|"([^"]+)")\s*')
#: Words that are no column's name unless they are in quotes, by one version of the parser or another.
RESERVED = frozenset({
    "alter", "and", "any", "as", "between", "case", "connect_by_root", "create", "cross", "current_catalog",
    "current_date", "current_schema", "current_time", "current_timestamp", "current_user", "describe", "distinct",
    "drop", "else", "except", "false", "fetch", "for", "from", "glob", "grant", "having", "ilike", "in", "inner",
    "insert", "intersect", "into", "join", "lateral", "like", "localtime", "localtimestamp", "not", "notnull", "null",
    "on", "only", "or", "out", "outer", "partitioned_by", "qualify", "regexp", "returning", "revoke", "rlike",
    "rollback", "select", "session_user", "tablesample", "then", "true", "uncache", "union", "using", "values",
    "variadic", "when", "where", "with", "xor",
})  # fmt: skip


def bare_column(text: str, scope: Scope) -> Expression | None:
    """The expression of a text that is nothing but the name of a column, as it is written there; None for any other.

    Most columns of most jobs are such names, and the parser is not needed for them.
    """
    found = _NAME.fullmatch(text)
    if found is None or (found[1] or "").lower() in RESERVED or (name := found[1] or found[2]) not in scope.columns:
        return None
    key = (None, name)
    return Expression(text, column_node(key, scope.columns), frozenset({key}))


def parameter_constant(value: Any) -> Node:
    """A parameter's value, as TOML or Python has it, as a constant of the SQL type that goes with it."""
    if isinstance(value, str):
        return text_constant(value)
    if isinstance(value, bool):
        return constant(value, BOOLEAN)
    if isinstance(value, int) and -(2**63) <= value < 2**63:
        return constant(value, INTEGER if -(2**31) <= value < 2**31 else BIGINT)
    if isinstance(value, float):
        return constant(value, DOUBLE)
    scalar = pa.scalar(value)
    names = {"date32[day]": "date", "timestamp[us]": "timestamp", "time64[us]": "time"}
    name = names.get(str(scalar.type))
    if name is None:
        raise ExpressionError(
            f"a parameter cannot be {type(value).__name__}", "use text, a number, a boolean or a date"
        )
    return constant(value, parse_type(name))
