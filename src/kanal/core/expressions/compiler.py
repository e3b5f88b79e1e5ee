"""Turns the text of an SQL expression into a typed tree that evaluates over frames."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import Any

from sqlglot import exp

from kanal.core.conversions import Options
from kanal.core.conversions.rounding import EXACT
from kanal.core.errors import ExpressionError, KanalError, UnresolvedLookupError, shortened
from kanal.core.expressions import arithmetic, logic, registry, temporal
from kanal.core.expressions.nodes import Node, constant, convert, null_of, text_constant
from kanal.core.expressions.other_dialects import hint_for
from kanal.core.expressions.scope import Expression, Scope, column_node, parameter_constant
from kanal.core.expressions.syntax import parse, position_of
from kanal.core.frame import ColumnKey, Frame, SourceBatch
from kanal.core.nearest import did_you_mean
from kanal.core.types import (
    BIGINT,
    BINARY,
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    NULL,
    TEXT,
    TIMESTAMP,
    Family,
    SqlType,
    decimal,
    parse_type,
)


def compiled(text: str, scope: Scope) -> Expression:
    """What `compile_expression` gives, by way of the parser."""
    compiler = _Compiler(text, scope)
    try:
        node = compiler.compile(parse(text))
    except RecursionError:
        raise ExpressionError("the expression is nested too deeply", "write it with fewer parentheses", text) from None
    return Expression(text, node, frozenset(compiler.uses))


#: A chain of hundreds of operators is ordinary, and each of them is a call within a call.
sys.setrecursionlimit(max(sys.getrecursionlimit(), 20_000))


Handler = Callable[["_Compiler", Any], Node]
_HANDLERS: dict[type[exp.Expression], Handler] = {}


def _handles(*kinds: type[exp.Expression]) -> Callable[[Handler], Handler]:
    def register(handler: Handler) -> Handler:
        for kind in kinds:
            _HANDLERS[kind] = handler
        return handler

    return register


class _Compiler:
    def __init__(self, text: str, scope: Scope) -> None:
        self.text = text
        self.scope = scope
        self.uses: set[ColumnKey] = set()
        #: How many parts were met whose value may be another one in each row.
        self.varying = 0

    def compile(self, tree: exp.Expression) -> Node:
        handler = _HANDLERS.get(type(tree))
        if handler is None:
            raise ExpressionError(
                f'"{_shown(tree)}" is not a scalar expression that Kanal knows',
                hint_for(_shown(tree), self.text) or "see the list in docs/expressions.md",
                self.text,
                position_of(tree, self.text),
            )
        before = self.varying
        try:
            node = handler(self, tree)
            return node if node.constant or self.varying > before else _folded(node)
        except OverflowError:
            what = f'"{_shown(tree)}" is outside what its type can hold'
            raise ExpressionError(what, "write a smaller value", self.text, position_of(tree, self.text)) from None
        except KanalError as error:
            if isinstance(error, ExpressionError) and error.text:
                raise
            raise ExpressionError(error.what, error.remedy, self.text, position_of(tree, self.text)) from None

    def all(self, trees: Sequence[exp.Expression]) -> list[Node]:
        return [self.compile(tree) for tree in trees]


def _folded(node: Node) -> Node:
    """A node in which nothing varies, as a constant; as it was if it has no value, which rows may not reach."""
    frame = Frame(SourceBatch(1, {}), {})
    value = frame.array(node.evaluate(frame))[0]
    return node if frame.collect() else Node(node.type, lambda _: value, constant=True)


def _shown(tree: exp.Expression) -> str:
    """A part of an expression for a message."""
    return shortened(tree.sql("postgres"), 80)


def find_name(name: str, quoted: bool, names: Mapping[str, Any]) -> str | None:
    """The name among those there are: exactly as written, else, if it was not quoted, regardless of case."""
    if name in names:
        return name
    if quoted:
        return None
    same = [candidate for candidate in names if candidate.casefold() == name.casefold()]
    if len(same) > 1:
        raise ExpressionError(f'"{name}" could be {" or ".join(same)}', "write the one meant in double quotes")
    return same[0] if same else None


@_handles(exp.Column)
def _column(compiler: _Compiler, tree: exp.Column) -> Node:
    scope = compiler.scope
    if not isinstance(tree.this, exp.Identifier) or len(tree.parts) > 2:
        raise ExpressionError(f'"{tree.sql("postgres")}" is not a column', "write COLUMN or LOOKUP.COLUMN")
    qualifier = tree.args.get("table")
    columns, place, owner = scope.columns, scope.place, None
    if qualifier is not None:
        owner = find_name(qualifier.name, qualifier.quoted, scope.lookups)
        if owner is None and f"{qualifier.name}.{tree.this.name}" in scope.columns:  # what is known of a row
            return _used(compiler, (None, f"{qualifier.name}.{tree.this.name}"), columns)
        if owner is None and qualifier.name in scope.unresolved:
            raise UnresolvedLookupError(f'Look-up "{qualifier.name}" has a problem', text=qualifier.name)
        if owner is None:
            hint = did_you_mean(qualifier.name, scope.lookups) or "the pipeline has none; add it under lookup"
            raise ExpressionError(f'There is no look-up "{qualifier.name}"', hint)
        columns, place = scope.lookups[owner], f"look-up {owner}"
    name = find_name(tree.this.name, tree.this.quoted, columns)
    if name is None:
        hint = did_you_mean(tree.this.name, columns)
        if tree.this.quoted:
            hint = f"{hint}; a text is written in single quotes".removeprefix("; ")
        raise ExpressionError(f'There is no column "{tree.this.name}" in {place}', hint)
    return _used(compiler, (owner, name), columns)


def _used(compiler: _Compiler, key: ColumnKey, columns: Mapping[str, SqlType]) -> Node:
    """A column of the row or of a look-up, noted as used."""
    compiler.uses.add(key)
    compiler.varying += 1
    return column_node(key, columns)


@_handles(exp.Literal)
def _literal(_: _Compiler, tree: exp.Literal) -> Node:
    if tree.is_string:
        return text_constant(tree.name)
    return number_constant(tree.name)


def number_constant(text: str) -> Node:
    """A number as written: integer, bigint or decimal by its digits; with an exponent, an exact decimal too."""
    number = Decimal(text)
    if text.isdigit():
        for sql_type in (INTEGER, BIGINT):
            if number <= sql_type.integer_range[1]:
                return constant(int(text), sql_type)
    _, digits, exponent = number.as_tuple()
    scale = max(0, -int(exponent))
    whole = max(1, len(digits) + int(exponent))
    if whole + scale > 76:
        return constant(float(text), DOUBLE)
    return constant(
        number.quantize(Decimal(1).scaleb(-scale), context=EXACT),
        decimal(whole + scale, scale),
    )


@_handles(exp.Null)
def _null(_: _Compiler, __: exp.Null) -> Node:
    return null_of(NULL)


@_handles(exp.Boolean)
def _boolean(_: _Compiler, tree: exp.Boolean) -> Node:
    return constant(bool(tree.this), BOOLEAN)


@_handles(exp.HexString)
def _hexadecimal(_: _Compiler, tree: exp.HexString) -> Node:
    try:
        return constant(bytes.fromhex(tree.name), BINARY)
    except ValueError:
        raise ExpressionError(
            f"x'{tree.name[:40]}' is not bytes", "write two hexadecimal digits for each byte"
        ) from None


@_handles(exp.Paren)
def _parentheses(compiler: _Compiler, tree: exp.Paren) -> Node:
    return compiler.compile(tree.this)


@_handles(exp.Placeholder)
def _parameter(compiler: _Compiler, tree: exp.Placeholder) -> Node:
    name = tree.name
    parameters = compiler.scope.parameters
    if name not in parameters:
        hint = did_you_mean(name, parameters) or "add it to [parameters]"
        raise ExpressionError(f'There is no parameter "{name}"', hint)
    return parameter_constant(parameters[name])


_OPERATORS: dict[Any, str] = {
    exp.Add: "+",
    exp.Sub: "-",
    exp.Mul: "*",
    exp.Div: "/",
    exp.Mod: "%",
}


@_handles(*_OPERATORS)
def _arithmetic(compiler: _Compiler, tree: exp.Binary) -> Node:
    operator = _OPERATORS[type(tree)]
    left, right = compiler.all([tree.this, tree.expression])
    if temporal.is_temporal(left, right):
        return temporal.arithmetic(operator, left, right)
    return arithmetic.arithmetic(operator, left, right)


@_handles(exp.Neg)
def _negative(compiler: _Compiler, tree: exp.Neg) -> Node:
    return arithmetic.negative(compiler.compile(tree.this))


_COMPARISONS: dict[Any, str] = {
    exp.EQ: "=",
    exp.NEQ: "<>",
    exp.LT: "<",
    exp.LTE: "<=",
    exp.GT: ">",
    exp.GTE: ">=",
}


@_handles(*_COMPARISONS)
def _comparison(compiler: _Compiler, tree: exp.Binary) -> Node:
    return logic.comparison(_COMPARISONS[type(tree)], *compiler.all([tree.this, tree.expression]))


@_handles(exp.And)
def _and(compiler: _Compiler, tree: exp.And) -> Node:
    return logic.all_of(compiler.all(_chain(tree, exp.And)))


@_handles(exp.Or)
def _or(compiler: _Compiler, tree: exp.Or) -> Node:
    return logic.any_of(compiler.all(_chain(tree, exp.Or)))


def _chain(tree: exp.Expression, kind: type[exp.Expression]) -> list[exp.Expression]:
    """The parts of a chain of one operator, which the parser nests to the left."""
    parts: list[exp.Expression] = []
    while isinstance(tree, kind):
        parts.append(tree.args["expression"])
        tree = tree.this
    return [tree, *reversed(parts)]


@_handles(exp.Not)
def _not(compiler: _Compiler, tree: exp.Not) -> Node:
    return logic.negation(compiler.compile(tree.this))


@_handles(exp.Between)
def _between(compiler: _Compiler, tree: exp.Between) -> Node:
    value, low, high = compiler.all([tree.this, tree.args["low"], tree.args["high"]])
    between = logic.all_of([logic.comparison(">=", value, low), logic.comparison("<=", value, high)])
    if not tree.args.get("symmetric"):
        return between
    turned = logic.all_of([logic.comparison(">=", value, high), logic.comparison("<=", value, low)])
    return logic.any_of([between, turned])


@_handles(exp.In)
def _in(compiler: _Compiler, tree: exp.In) -> Node:
    if tree.args.get("query") is not None:
        raise ExpressionError("a subquery cannot stand in an expression", "use a look-up, or a query as the source")
    candidates = [
        _literal(compiler, t) if isinstance(t, exp.Literal) else compiler.compile(t) for t in tree.expressions
    ]
    return logic.member(compiler.compile(tree.this), candidates)


@_handles(exp.Is)
def _is(compiler: _Compiler, tree: exp.Is) -> Node:
    node, negated = compiler.compile(tree.this), bool(tree.args.get("negate"))
    if isinstance(tree.expression, exp.Null):
        return logic.is_null(node, negated)
    if isinstance(tree.expression, exp.Boolean):
        return logic.is_truth(node, bool(tree.expression.this), negated)
    raise ExpressionError(f'"{tree.sql("postgres")}" is not known', "IS takes NULL, TRUE, FALSE or UNKNOWN")


@_handles(exp.NullSafeNEQ)
def _distinct(compiler: _Compiler, tree: exp.NullSafeNEQ) -> Node:
    return logic.distinct(compiler.compile(tree.this), compiler.compile(tree.expression), is_distinct=True)


@_handles(exp.NullSafeEQ)
def _not_distinct(compiler: _Compiler, tree: exp.NullSafeEQ) -> Node:
    return logic.distinct(compiler.compile(tree.this), compiler.compile(tree.expression), is_distinct=False)


@_handles(exp.Case)
def _case(compiler: _Compiler, tree: exp.Case) -> Node:
    subject = compiler.compile(tree.this) if tree.this is not None else None
    branches = []
    for branch in tree.args["ifs"]:
        condition = compiler.compile(branch.this)
        if subject is not None:
            condition = logic.comparison("=", subject, condition)
        branches.append((condition, compiler.compile(branch.args["true"])))
    default = tree.args.get("default")
    return logic.case(branches, compiler.compile(default) if default is not None else None)


@_handles(exp.Cast)
def _cast(compiler: _Compiler, tree: exp.Cast) -> Node:
    node = compiler.compile(tree.this)
    name = tree.args["to"].sql("postgres").lower()
    names = {"int": "integer", "double precision": "double precision", "bytea": "binary"}
    return cast(node, parse_type(names.get(name, name)))


@_handles(exp.StrToDate, exp.StrToTime)
def _by_format(compiler: _Compiler, tree: exp.StrToDate | exp.StrToTime) -> Node:
    """to_date and to_timestamp with a format, and CAST(… AS … FORMAT …): the parser gives it in directives."""
    form = tree.args.get("format")
    if not isinstance(form, exp.Literal) or not form.is_string:
        raise ExpressionError("a format is missing, as a text", "write one such as to_date(x, 'DD.MM.YYYY')")
    target = DATE if isinstance(tree, exp.StrToDate) else TIMESTAMP
    return temporal.by_format(compiler.compile(tree.this), form.this, target)


#: What CAST does beyond the strict conversions: SQL lets it round, cut text to a length and drop a time of day.
_CAST_OPTIONS: dict[tuple[Family, Family], Options] = {
    (Family.TEXT, Family.DECIMAL): Options(rounding="half_up"),
    (Family.TEXT, Family.DOUBLE): Options(rounding="half_even"),
    (Family.DECIMAL, Family.DECIMAL): Options(rounding="half_up"),
    (Family.DECIMAL, Family.INTEGER): Options(rounding="half_up"),
    (Family.DECIMAL, Family.DOUBLE): Options(rounding="half_even"),
    (Family.INTEGER, Family.DOUBLE): Options(rounding="half_even"),
    (Family.DOUBLE, Family.INTEGER): Options(rounding="half_even"),
    (Family.DOUBLE, Family.DECIMAL): Options(rounding="half_up"),
    (Family.DOUBLE, Family.DOUBLE): Options(rounding="half_even"),
    (Family.TIMESTAMP, Family.DATE): Options(rounding="floor"),
}


def cast(node: Node, target: SqlType) -> Node:
    """CAST(node AS target), which rounds and cuts as ISO SQL's does."""
    if node.type.is_number and target.family is Family.BOOLEAN:
        return logic.comparison("<>", node, constant(0, INTEGER))
    if node.type.family is Family.TIMESTAMP and target.family is Family.TIME:
        return temporal.time_of_day(node)
    options = _CAST_OPTIONS.get((node.type.family, target.family), Options())
    if node.type == DOUBLE and target == DOUBLE:
        return node
    if target.family is Family.TEXT and target.length is not None:
        options = Options(too_long="cut")
    if target.family is Family.TEXT and target.length is None:
        target = TEXT
    return convert(node, target, options)


@_handles(exp.DPipe)
def _concatenate(compiler: _Compiler, tree: exp.DPipe) -> Node:
    left, right = compiler.all([tree.this, tree.expression])
    if left.type == BINARY and right.type == BINARY:
        return registry.call("binary_concat", [left, right])
    return registry.call("concatenate", [convert(node, TEXT) for node in (left, right)])


@_handles(exp.Concat)
def _adjacent_texts(compiler: _Compiler, tree: exp.Concat) -> Node:
    return text_constant("".join(part.name for part in tree.expressions))


@_handles(exp.Escape)
def _escape(compiler: _Compiler, tree: exp.Escape) -> Node:
    inner = tree.this
    return _pattern_match(compiler, inner, compiler.compile(tree.expression))


@_handles(exp.Like, exp.ILike, exp.SimilarTo)
def _like(compiler: _Compiler, tree: exp.Binary) -> Node:
    return _pattern_match(compiler, tree, text_constant("\\"))


def _pattern_match(compiler: _Compiler, tree: Any, escape: Node) -> Node:
    names: dict[Any, str] = {exp.Like: "like", exp.ILike: "ilike", exp.SimilarTo: "similar_to"}
    if type(tree) not in names:
        raise ExpressionError("ESCAPE must follow LIKE or SIMILAR TO")
    value, pattern = compiler.all([tree.this, tree.expression])
    matched = registry.call(names[type(tree)], [value, pattern, escape])
    return logic.negation(matched) if tree.args.get("negate") else matched


@_handles(exp.Anonymous)
def _function(compiler: _Compiler, tree: exp.Anonymous) -> Node:
    name = str(tree.this).lower()
    special = _SPECIAL.get(name)
    arguments = compiler.all(tree.expressions)
    if special is not None:
        least, build = special
        if len(arguments) < least:
            raise ExpressionError(f"{name} takes at least {least} arguments", "add what is missing")
        return build(arguments)
    compiler.varying += name in compiler.scope.functions
    return registry.call(name, arguments, compiler.scope.functions)


def _exactly_two(arguments: list[Node]) -> Node:
    if len(arguments) != 2:
        raise ExpressionError("nullif takes two arguments", "write NULLIF(value, value)")
    return logic.nullif(*arguments)


#: Functions whose arguments are not simply values: (least number of arguments, what builds them).
_SPECIAL: dict[str, tuple[int, Callable[[list[Node]], Node]]] = {
    "coalesce": (1, logic.coalesce),
    "nullif": (2, _exactly_two),
    "greatest": (1, lambda arguments: logic.extreme(arguments, greatest=True)),
    "least": (1, lambda arguments: logic.extreme(arguments, greatest=False)),
    "mod": (2, lambda arguments: arithmetic.arithmetic("%", arguments[0], arguments[1])),
    "date_trunc": (2, temporal.date_trunc),
}


@_handles(exp.Trim)
def _trim(compiler: _Compiler, tree: exp.Trim) -> Node:
    names = {"LEADING": "ltrim", "TRAILING": "rtrim", "BOTH": "btrim"}
    characters = tree.args.get("expression")
    arguments = [compiler.compile(tree.this)]
    if characters is not None:
        arguments.append(compiler.compile(characters))
    return registry.call(names[tree.args.get("position") or "BOTH"], arguments)


@_handles(exp.Substring)
def _substring(compiler: _Compiler, tree: exp.Substring) -> Node:
    parts = [tree.this, tree.args.get("start"), tree.args.get("length")]
    if parts[1] is None:
        parts[1] = exp.Literal.number(1)
    return registry.call("substring", compiler.all([part for part in parts if part is not None]))


@_handles(exp.StrPosition)
def _position(compiler: _Compiler, tree: exp.StrPosition) -> Node:
    return registry.call("strpos", compiler.all([tree.this, tree.args["substr"]]))


@_handles(exp.Overlay)
def _overlay(compiler: _Compiler, tree: exp.Overlay) -> Node:
    parts = [tree.this, tree.expression, tree.args["from_"], tree.args.get("for_")]
    return registry.call("overlay", compiler.all([part for part in parts if part is not None]))


@_handles(exp.Extract)
def _extract(compiler: _Compiler, tree: exp.Extract) -> Node:
    return temporal.extract(tree.this.name.lower(), compiler.compile(tree.expression))


@_handles(exp.Interval)
def _interval(_: _Compiler, tree: exp.Interval) -> Node:
    unit = tree.args.get("unit")
    return temporal.interval_literal(tree.this.name, unit.sql("postgres") if unit is not None else "")


@_handles(exp.AtTimeZone)
def _at_time_zone(compiler: _Compiler, tree: exp.AtTimeZone) -> Node:
    return temporal.at_time_zone(compiler.compile(tree.this), compiler.compile(tree.args["zone"]))


@_handles(exp.CurrentDate)
def _current_date(compiler: _Compiler, _: exp.CurrentDate) -> Node:
    compiler.varying += 1
    return temporal.current_date()


@_handles(exp.CurrentTimestamp)
def _current_timestamp(compiler: _Compiler, _: exp.CurrentTimestamp) -> Node:
    compiler.varying += 1
    return temporal.current_timestamp()
