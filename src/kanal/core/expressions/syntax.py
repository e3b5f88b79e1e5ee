"""Parses the text of an expression: ISO SQL by way of sqlglot, functions left to Kanal's own registry."""

from __future__ import annotations

import logging
from typing import Any, ClassVar

from sqlglot import exp
from sqlglot.dialects.dialect import build_formatted_time
from sqlglot.dialects.postgres import Postgres
from sqlglot.errors import ParseError, TokenError
from sqlglot.tokens import TokenType  # type: ignore[attr-defined]

from kanal.core.errors import ExpressionError
from kanal.core.expressions.other_dialects import quoting_hint

logging.getLogger("sqlglot").setLevel(logging.ERROR)


class _Expressions(Postgres):
    """SQL in which a function call stays what was written, save for formats of dates; its meaning is Kanal's."""

    class Parser(Postgres.Parser):  # type: ignore[misc, valid-type]
        FUNCTIONS: ClassVar[dict[str, Any]] = {
            "TO_DATE": build_formatted_time(exp.StrToDate, "postgres"),
            "TO_TIMESTAMP": build_formatted_time(exp.StrToTime, "postgres"),
        }
        FUNCTION_PARSERS: ClassVar[dict[str, Any]] = {
            name: parse
            for name, parse in Postgres.Parser.FUNCTION_PARSERS.items()
            if name in {"CAST", "EXTRACT", "OVERLAY", "POSITION", "SUBSTRING", "TRIM"}
        }

        def _parse_interval(self, match_interval: bool = True, **_: Any) -> exp.Expression | None:
            """INTERVAL and a text, which is left whole: the parser's own way would drop the time of '1 day 02:00'."""
            if not (match_interval and self._curr and self._curr.token_type == TokenType.INTERVAL):
                return None
            if self._next is None or self._next.token_type != TokenType.STRING:
                return None
            self._advance()
            text = exp.Literal.string(self._curr.text)
            self._advance()
            unit = None
            if self._curr is not None and self._curr.text.lower().removesuffix("s") in INTERVAL_UNITS:
                unit = exp.Var(this=self._curr.text)
                self._advance()
            return exp.Interval(this=text, unit=unit)


#: Units that an interval may be given in.
INTERVAL_UNITS = frozenset({"year", "month", "week", "day", "hour", "minute", "second"})
_DIALECT = _Expressions()


def parse(text: str) -> exp.Expression:
    """The syntax tree of one scalar expression; raises ExpressionError with the place of a mistake."""
    if not text.strip():
        raise ExpressionError("the expression is empty", "write a column's name or an SQL expression", text)
    try:
        text = _with_typed_literals(text)
        # In parentheses, a first word such as LOCK is a name and not the start of a statement.
        trees = _DIALECT.parse(f"({text}\n)")
    except ParseError as error:
        detail = error.errors[0] if error.errors else {}
        position = max(0, len(detail.get("start_context", "") or "") - 1)
        found = detail.get("highlight") or ""
        if found.strip() in ("", ")") or position >= len(text):
            raise ExpressionError("the expression ends too early", "complete it", text, len(text)) from None
        raise ExpressionError(
            f'the expression cannot be read at "{found}"',
            quoting_hint(found) or "correct it there",
            text,
            position,
        ) from None
    except RecursionError:
        raise ExpressionError("the expression is nested too deeply", "write it with fewer parentheses", text) from None
    except TokenError:
        raise ExpressionError(
            "the expression cannot be read: a quote or comment is not closed", "close it", text, None
        ) from None
    tree = trees[0] if len(trees) == 1 else None
    if not isinstance(tree, exp.Paren):
        raise ExpressionError("this is not one expression", "write a single SQL scalar expression", text)
    return tree.this  # type: ignore[no-any-return]


#: Types whose name may stand before a text, and make one of it.
_OF_LITERALS = frozenset({TokenType.DATE, TokenType.TIME, TokenType.TIMESTAMP, TokenType.TIMESTAMPTZ, TokenType.TIMETZ})


def _with_typed_literals(text: str) -> str:
    """The text with parentheses around DATE '…' where :: follows, which the parser would bind to the text alone."""
    if "::" not in text:
        return text
    tokens = _DIALECT.tokenize(text)
    for first, second, third in reversed(list(zip(tokens, tokens[1:], tokens[2:], strict=False))):
        kinds = (first.token_type in _OF_LITERALS, second.token_type == TokenType.STRING)
        if all(kinds) and third.token_type == TokenType.DCOLON:
            text = f"{text[: first.start]}({text[first.start : second.end + 1]}){text[second.end + 1 :]}"
    return text


def position_of(tree: exp.Expression, text: str) -> int | None:
    """Where in the text a name or call stands, counted from 0; None if the parser does not say."""
    for part in (tree, *tree.find_all(exp.Identifier)):
        start = part.meta.get("start")
        if isinstance(start, int) and 1 <= start <= len(text):
            return start - 1
    return None
