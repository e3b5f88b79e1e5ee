"""Finds the parts of a condition that every database answers alike, so that it can be asked of the source."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from decimal import Decimal
from typing import Any

from sqlglot import exp

from kanal.core.errors import ExpressionError
from kanal.core.expressions.syntax import parse

#: A column, one of = <> < <= > >= IS NULL, IS NOT NULL, and a number if there is one.
PushedCondition = tuple[str, str, int | Decimal | None]

_OPERATORS: dict[Any, tuple[str, str]] = {
    exp.EQ: ("=", "="),
    exp.NEQ: ("<>", "<>"),
    exp.LT: ("<", ">"),
    exp.LTE: ("<=", ">="),
    exp.GT: (">", "<"),
    exp.GTE: (">=", "<="),
}


def comparisons(
    condition: str, numbers: Collection[str], names: Collection[str], parameters: Mapping[str, Any]
) -> list[PushedCondition]:
    """Comparisons that hold for every row for which the condition is true.

    `numbers` are columns of whole or decimal numbers, which are compared with numbers; `names`, columns of which it is
    asked whether they are NULL. Texts are left alone: each database compares them in its own way.
    """
    try:
        tree = parse(condition)
    except ExpressionError:
        return []
    return [found for term in _terms(tree) for found in _comparisons(term, numbers, names, parameters)]


def _terms(tree: Any) -> Iterator[Any]:
    bare = tree.unnest()
    if isinstance(bare, exp.And):
        yield from _terms(bare.this)
        yield from _terms(bare.expression)
    else:
        yield bare


def _comparisons(
    tree: Any, numbers: Collection[str], names: Collection[str], parameters: Mapping[str, Any]
) -> Iterator[PushedCondition]:
    negated = isinstance(tree, exp.Not)
    inner = tree.this.unnest() if negated else tree
    if isinstance(inner, exp.Is) and isinstance(inner.expression, exp.Null):
        column = _column(inner.this, names)
        if column is not None:
            # Some versions of the parser say NOT around it, others within.
            positive = negated == bool(inner.args.get("negate"))
            yield column, "IS NULL" if positive else "IS NOT NULL", None
    elif negated:
        return
    elif isinstance(inner, exp.Between):
        column = _column(inner.this, numbers)
        low, high = (_number(inner.args[part], parameters) for part in ("low", "high"))
        if column is not None and low is not None and high is not None and not inner.args.get("symmetric"):
            yield column, ">=", low
            yield column, "<=", high
    elif type(inner) in _OPERATORS:
        for one, other, sign in ((inner.this, inner.expression, 0), (inner.expression, inner.this, 1)):
            column, number = _column(one, numbers), _number(other, parameters)
            if column is not None and number is not None:
                yield column, _OPERATORS[type(inner)][sign], number


def _column(tree: Any, names: Collection[str]) -> str | None:
    """The name of a column as the source has it."""
    tree = tree.unnest()
    if not isinstance(tree, exp.Column) or tree.table or not isinstance(tree.this, exp.Identifier):
        return None
    if tree.name in names:
        return tree.name
    same = [name for name in names if not tree.this.quoted and name.casefold() == tree.name.casefold()]
    return same[0] if len(same) == 1 else None


def _number(tree: Any, parameters: Mapping[str, Any]) -> int | Decimal | None:
    tree = tree.unnest()
    if isinstance(tree, exp.Neg):
        number = _number(tree.this, parameters)
        return None if number is None else -number
    if isinstance(tree, exp.Placeholder):
        value = parameters.get(str(tree.this))
        return value if isinstance(value, int) and not isinstance(value, bool) else None
    if isinstance(tree, exp.Literal) and not tree.is_string:
        text = str(tree.this)
        if text.isdigit() and len(text) <= 18:
            return int(text)
        whole, _, fraction = text.partition(".")
        return Decimal(text) if (whole + fraction).isdigit() and len(text) <= 18 else None
    return None
