"""Comparison and three-valued logic; branches are evaluated so that a fault counts only in rows that take them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import Datum, mask_of, null_where_not, valid_mask
from kanal.core.conversions import converter
from kanal.core.errors import ExpressionError
from kanal.core.expressions.nodes import Node, common_of, constant, constant_misfit, convert, null_of, unify, widen
from kanal.core.frame import Frame
from kanal.core.types import BOOLEAN, Family, SqlType

_COMPARISONS: dict[str, Callable[..., Any]] = {
    "=": pc.equal,
    "<>": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}
_INCOMPARABLE = frozenset({Family.JSON, Family.INTERVAL})


def comparison(operator: str, left: Node, right: Node) -> Node:
    """`left operator right`, NULL where either side is; texts compare by code point, NaN is above all and itself."""
    (left, right), common = unify([left, right], f"{operator}")
    if common.family in _INCOMPARABLE:
        raise ExpressionError(f"{operator} cannot compare {common} values", "CAST both sides to text")
    known = [side.value() for side in (left, right) if side.constant]
    if None in known:  # so the other side is not computed
        return null_of(BOOLEAN)
    kernel = _COMPARISONS[operator]
    if len(known) == 2 and common.family is not Family.DOUBLE:
        return constant(kernel(*(pa.scalar(value, common.arrow) for value in known)).as_py(), BOOLEAN)

    def evaluate(frame: Frame) -> Datum:
        a, b = left.evaluate(frame), right.evaluate(frame)
        if common.family is Family.DOUBLE:
            a, b = _ordered(frame.array(a), frame.array(b))
        return kernel(a, b)

    return Node(BOOLEAN, evaluate)


def _ordered(*arrays: pa.Array) -> list[pa.Array]:
    """Floating values in an order that has a place for NaN: as PostgreSQL, greater than all and equal to itself.

    The bits of a floating value, read as a whole number, keep its order once those of negative ones are turned.
    """
    if not any(pc.any(pc.is_nan(values)).as_py() for values in arrays):
        return list(arrays)
    keys = []
    for values in arrays:
        numbers = values.cast(pa.float64()).fill_null(0.0).to_numpy(zero_copy_only=False) + 0.0
        bits = np.where(np.isnan(numbers), np.nan, numbers).view(np.int64)
        turned = np.where(bits < 0, np.int64(-(2**63)) - bits, bits)
        keys.append(null_where_not(pa.array(turned), valid_mask(values)))
    return keys


def distinct(left: Node, right: Node, is_distinct: bool) -> Node:
    """`left IS [NOT] DISTINCT FROM right`: never NULL, two NULLs are not distinct."""
    equal = comparison("=", left, right)

    def evaluate(frame: Frame) -> Datum:
        same = mask_of(frame.array(equal.evaluate(frame)))
        neither = ~valid_mask(frame.array(left.evaluate(frame))) & ~valid_mask(frame.array(right.evaluate(frame)))
        alike = same | neither
        return pa.array(~alike if is_distinct else alike)

    return Node(BOOLEAN, evaluate)


def truth(node: Node, what: str) -> Node:
    """The node, if it is a boolean; raises ExpressionError else."""
    if node.type.family is Family.NULL or node.literal is not None:
        return convert(node, BOOLEAN)
    if node.type.family is not Family.BOOLEAN:
        raise ExpressionError(f"{what} takes a condition, and this is {node.type}", "write a comparison")
    return node


def all_of(conditions: Sequence[Node]) -> Node:
    """AND: the faults of a condition count only where those before it leave the answer open."""
    nodes = _constants_first(truth(condition, "AND") for condition in conditions)

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(nodes[0].evaluate(frame))
        for node in nodes[1:]:
            with frame.within(mask_of(pc.fill_null(values, True))):
                values = pc.and_kleene(values, frame.array(node.evaluate(frame)))
        return values

    return Node(BOOLEAN, evaluate)


def any_of(conditions: Sequence[Node]) -> Node:
    """OR: the faults of a condition count only where those before it leave the answer open."""
    nodes = _constants_first(truth(condition, "OR") for condition in conditions)

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(nodes[0].evaluate(frame))
        for node in nodes[1:]:
            with frame.within(~mask_of(values)):
                values = pc.or_kleene(values, frame.array(node.evaluate(frame)))
        return values

    return Node(BOOLEAN, evaluate)


def _constants_first(nodes: Iterable[Node]) -> list[Node]:
    """Operands in the order in which they are computed: a constant may leave nothing to be done by the others."""
    return sorted(nodes, key=lambda node: not node.constant)


def negation(node: Node) -> Node:
    """NOT."""
    inner = truth(node, "NOT")
    return Node(BOOLEAN, lambda frame: pc.invert(inner.evaluate(frame)))


def is_null(node: Node, negated: bool) -> Node:
    """IS [NOT] NULL."""
    kernel = pc.is_valid if negated else pc.is_null
    return Node(BOOLEAN, lambda frame: kernel(frame.array(node.evaluate(frame))))


def is_truth(node: Node, wanted: bool, negated: bool) -> Node:
    """IS [NOT] TRUE, IS [NOT] FALSE."""
    inner = truth(node, "IS")

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(inner.evaluate(frame))
        found = mask_of(values if wanted else pc.invert(values))
        return pa.array(~found if negated else found)

    return Node(BOOLEAN, evaluate)


def member(node: Node, candidates: Sequence[Node]) -> Node:
    """IN: true where equal to one, NULL where to none but one is NULL, or the value is."""
    common = common_of([node, *candidates], "IN")
    if common.family in _INCOMPARABLE:
        raise ExpressionError(f"IN cannot compare {common} values", "CAST both sides to text")
    node = widen(node, common)
    if node.constant and node.value() is None:
        return null_of(BOOLEAN)
    if sum(candidate.constant for candidate in candidates) > 1:
        candidates = _constants_first(candidates)
    if all(candidate.constant for candidate in candidates) and common.family is not Family.DOUBLE:
        known, has_null = _constants(candidates, common)

        def evaluate(frame: Frame) -> Datum:
            column = frame.array(node.evaluate(frame))
            found = mask_of(pc.is_in(column, known)) & valid_mask(column)
            decided = valid_mask(column) & (found | (not has_null))
            return null_where_not(pa.array(found), decided)

        return Node(BOOLEAN, evaluate)
    return any_of([comparison("=", node, widen(candidate, common)) for candidate in candidates])


def _constants(candidates: Sequence[Node], common: SqlType) -> tuple[pa.Array, bool]:
    """The values of constants in a type, those of one type converted at once, and whether one of them is NULL."""
    by_type: dict[SqlType, list[Any]] = {}
    for candidate in candidates:
        by_type.setdefault(candidate.type, []).append(candidate.value())
    known, has_null = [pa.nulls(0, common.arrow)], False
    for sql_type, values in by_type.items():
        has_null = has_null or None in values
        given = [value for value in values if value is not None]
        if sql_type.family is not Family.NULL and given:
            array, faults = (pa.array(given, common.arrow), []) if _alike(sql_type, common) else converter(
                sql_type, common)(pa.array(given, sql_type.arrow))  # fmt: skip
            if faults:
                raise constant_misfit(faults[0])
            known.append(array)
    return pa.concat_arrays(known), has_null


def _alike(one: SqlType, other: SqlType) -> bool:
    return one == other or one.family is other.family is Family.TEXT


def case(branches: Sequence[tuple[Node, Node]], otherwise: Node | None) -> Node:
    """CASE WHEN: each row takes the first branch whose condition is true; faults elsewhere do not count."""
    conditions = [truth(condition, "WHEN") for condition, _ in branches]
    last = otherwise or null_of(SqlType("null"))
    results, common = unify([*(result for _, result in branches), last], "CASE")

    def evaluate(frame: Frame) -> Datum:
        open_rows = np.ones(frame.rows, dtype=np.bool_)
        chosen: list[tuple[pa.Array, pa.Array]] = []
        for condition, result in zip(conditions, results[:-1], strict=True):
            if not open_rows.any():
                break
            with frame.within(open_rows):
                taken = mask_of(frame.array(condition.evaluate(frame))) & open_rows
            if taken.any():
                with frame.within(taken):
                    chosen.append((pa.array(taken), frame.array(result.evaluate(frame))))
            open_rows = open_rows & ~taken
        values: Datum = pa.nulls(frame.rows, common.arrow)
        if open_rows.any():
            with frame.within(open_rows):
                values = frame.array(results[-1].evaluate(frame))
        for taken_rows, branch in reversed(chosen):
            values = pc.if_else(taken_rows, branch, values)
        return values

    return Node(common, evaluate)


def coalesce(nodes: Sequence[Node]) -> Node:
    """The first that is not NULL; those after it do not count in its rows."""
    unified, common = unify(list(nodes), "COALESCE")

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(unified[0].evaluate(frame))
        for node in unified[1:]:
            missing = ~valid_mask(values)
            if not missing.any():
                break
            with frame.within(missing):
                values = pc.coalesce(values, node.evaluate(frame))
        return values

    return Node(common, evaluate)


def nullif(left: Node, right: Node) -> Node:
    """NULL if the two are equal, else the first."""
    equal = comparison("=", left, right)

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(left.evaluate(frame))
        return null_where_not(values, ~mask_of(frame.array(equal.evaluate(frame))))

    if left.literal is not None or left.type.family is Family.NULL:
        (left, _), _ = unify([left, right], "NULLIF")
    return Node(left.type, evaluate)


def extreme(nodes: Sequence[Node], greatest: bool) -> Node:
    """GREATEST or LEAST of those that are not NULL; NULL if all are."""
    unified, common = unify(list(nodes), "GREATEST" if greatest else "LEAST")
    if common.family in _INCOMPARABLE or common.family is Family.BOOLEAN:
        raise ExpressionError(f"GREATEST and LEAST do not take {common}", "write a CASE")
    operator = ">" if greatest else "<"

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(unified[0].evaluate(frame))
        for node in unified[1:]:
            other = frame.array(node.evaluate(frame))
            a, b = _ordered(values, other) if common.family is Family.DOUBLE else (values, other)
            wins = mask_of(_COMPARISONS[operator](b, a)) | ~valid_mask(values)
            values = pc.if_else(pa.array(wins & valid_mask(other)), other, values)
        return values

    return Node(common, evaluate)
