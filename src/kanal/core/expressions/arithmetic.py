"""Arithmetic on numbers as ISO SQL has it: exact decimals, whole division of integers, overflow as a fault."""

from __future__ import annotations

import decimal as python_decimal
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import Mask, mask_of, null_where_not, valid_mask
from kanal.core.conversions.rounding import EXACT
from kanal.core.errors import ExpressionError
from kanal.core.expressions.nodes import Node, convert, widen
from kanal.core.faults import Fault
from kanal.core.frame import Frame
from kanal.core.reasons import Reason
from kanal.core.types import DOUBLE, MAX_PRECISION, Family, SqlType, decimal

#: Decimals that the quotient of two decimals has at least.
DIVISION_SCALE = 16
_ZERO = "division by zero: guard it, for instance with NULLIF(divisor, 0)"
_KERNELS: dict[str, Callable[..., Any]] = {
    "+": pc.add_checked,
    "-": pc.subtract_checked,
    "*": pc.multiply_checked,
}
_EXACTLY: dict[str, Callable[[Decimal, Decimal], Decimal]] = {
    "+": EXACT.add,
    "-": EXACT.subtract,
    "*": EXACT.multiply,
    "%": EXACT.remainder,
}


def arithmetic(operator: str, left: Node, right: Node) -> Node:
    """`left operator right` for numbers; operator is one of + - * / %.

    Integers give integers of the wider type (division truncates toward zero), decimals give decimals with as many
    digits as the exact result needs, a floating operand makes the result double precision.
    Raises ExpressionError for operands that are not numbers.
    """
    if left.literal is not None and right.type.is_number:
        left = convert(left, right.type)
    if right.literal is not None and left.type.is_number:
        right = convert(right, left.type)
    for node in (left, right):
        if not node.type.is_number and node.type.family is not Family.NULL:
            raise ExpressionError(
                f"{operator} stands between {left.type} and {right.type}",
                "convert the text with CAST(… AS decimal(p,s)) or the like"
                if node.type.family is Family.TEXT
                else "it takes numbers; a CAST may help",
            )
    if Family.NULL in (left.type.family, right.type.family):
        other = right.type if left.type.family is Family.NULL else left.type
        if other.family is Family.NULL:
            raise ExpressionError(f"NULL {operator} NULL has no type", "write CAST(NULL AS integer) or the like")
        left, right = convert(left, other), convert(right, other)
    families = {left.type.family, right.type.family}
    if Family.DOUBLE in families:
        return _double(operator, widen(left, DOUBLE), widen(right, DOUBLE))
    if families == {Family.INTEGER}:
        result = max(left.type, right.type, key=lambda sql_type: sql_type.integer_range[1])
        return _integer(operator, convert(left, result), convert(right, result), result)
    return _decimal(operator, _as_decimal(left), _as_decimal(right))


def _as_decimal(node: Node) -> Node:
    if node.type.family is Family.DECIMAL:
        return node
    if node.constant and node.value() is not None:
        return convert(node, decimal(max(1, len(str(abs(node.value())))), 0))
    return convert(node, decimal(node.type.whole_digits, 0))


def _operands(frame: Frame, left: Node, right: Node) -> tuple[pa.Array, pa.Array]:
    return frame.array(left.evaluate(frame)), frame.array(right.evaluate(frame))


def _without_zero(frame: Frame, left: pa.Array, right: pa.Array) -> pa.Array:
    """The divisors with NULL for zero, for which the dividend's row gets a fault."""
    zero = mask_of(pc.equal(pc.sign(right), 0))
    if not zero.any():
        return right
    frame.refuse(zero & valid_mask(left), Reason.OUT_OF_RANGE, _ZERO, left)
    return null_where_not(right, ~zero)


def _integer(operator: str, left: Node, right: Node, result: SqlType) -> Node:
    least, greatest = result.integer_range

    def overflow(frame: Frame, a: pa.Array, b: pa.Array) -> pa.Array:
        """The exact result by way of decimals, with a fault if it is out of range."""
        wide = pa.decimal256(19, 0)
        exact = _unchecked(operator)(a.cast(pa.int64()).cast(wide), b.cast(pa.int64()).cast(wide))
        bounds = [pa.scalar(Decimal(bound), pa.decimal128(38, 0)) for bound in (least, greatest)]
        exact = exact.cast(pa.decimal256(40, 0))
        fits = mask_of(pc.and_(pc.greater_equal(exact, bounds[0]), pc.less_equal(exact, bounds[1])))
        frame.refuse(~fits & valid_mask(exact), Reason.OUT_OF_RANGE, f"the result is outside {result}", exact)
        return null_where_not(exact, fits).cast(pa.decimal128(38, 0)).cast(result.arrow)

    def add_or_multiply(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        try:
            return _KERNELS[operator](a, b)
        except pa.ArrowInvalid:
            return overflow(frame, a, b)

    def divide(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        b = _without_zero(frame, a, b)
        stuck = mask_of(pc.and_(pc.equal(b, -1), pc.equal(a, least)))
        frame.refuse(stuck, Reason.OUT_OF_RANGE, f"the result is outside {result}", a)
        return pc.divide(null_where_not(a, ~stuck), b)

    def remainder(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        b = _without_zero(frame, a, b)
        # By -1 nothing remains; dividing the least value by it would overflow.
        safe = pc.if_else(pc.equal(b, -1), pa.scalar(1, result.arrow), b)
        return pc.subtract(a, pc.multiply(pc.divide(a, safe), safe))

    return Node(result, {"/": divide, "%": remainder}.get(operator, add_or_multiply))


def _unchecked(operator: str) -> Callable[..., Any]:
    kernels: dict[str, Callable[..., Any]] = {"+": pc.add, "-": pc.subtract, "*": pc.multiply}
    return kernels[operator]


def decimal_result(operator: str, left: SqlType, right: SqlType) -> SqlType:
    """The type of a decimal operation: as many digits as the exact result can have, at most 76."""
    left_scale, right_scale = left.scale or 0, right.scale or 0
    if operator in "+-":
        scale = max(left_scale, right_scale)
        whole = max(left.whole_digits, right.whole_digits) + 1
    elif operator == "*":
        scale = left_scale + right_scale
        whole = left.whole_digits + right.whole_digits
    elif operator == "/":
        scale = max(left_scale, right_scale, DIVISION_SCALE)
        whole = left.whole_digits + right_scale + 1
    else:
        scale = max(left_scale, right_scale)
        whole = min(left.whole_digits, right.whole_digits) or 1
    return decimal(min(MAX_PRECISION, max(1, whole + scale)), min(scale, MAX_PRECISION))


def _arrow_decimal(precision: int, scale: int) -> pa.DataType:
    return pa.decimal128(precision, scale) if precision <= 38 else pa.decimal256(precision, scale)


def _decimal(operator: str, left: Node, right: Node) -> Node:
    result = decimal_result(operator, left.type, right.type)
    left_scale, right_scale = left.type.scale or 0, right.type.scale or 0
    precisions = (left.type.precision or 1, right.type.precision or 1)
    quick = operator != "%" and (
        (
            operator in "+-"
            and max(left.type.whole_digits, right.type.whole_digits) + (result.scale or 0) < MAX_PRECISION
        )
        or (operator == "*" and sum(precisions) < MAX_PRECISION)
        or (
            operator == "/"
            and left.type.whole_digits + (result.scale or 0) + 1 + right_scale + max(6, precisions[1] + 1)
            <= MAX_PRECISION
        )
    )

    def add_or_multiply(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        if operator == "*":
            needed = sum(precisions) + 1
        else:
            needed = max(left.type.whole_digits, right.type.whole_digits) + (result.scale or 0) + 1
        if needed > 38:
            a = a.cast(pa.decimal256(precisions[0], left_scale))
            b = b.cast(pa.decimal256(precisions[1], right_scale))
        return _unchecked(operator)(a, b).cast(result.arrow)

    def divide(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        b = _without_zero(frame, a, b).cast(pa.decimal256(precisions[1], right_scale))
        # One digit more than is kept, truncated, then rounded half away from zero: that one digit decides.
        scale = (result.scale or 0) + 1
        dividend_scale = scale + right_scale
        dividend = a.cast(pa.decimal256(min(MAX_PRECISION, left.type.whole_digits + dividend_scale), dividend_scale))
        quotient = _divide_whole(dividend, b, scale)
        rounded = pc.round(quotient, ndigits=scale - 1, round_mode="half_towards_infinity")
        return rounded.cast(result.arrow)

    def exactly(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        if operator in "/%":
            b = _without_zero(frame, a, b)
        return _one_by_one(frame, operator, a, b, result)

    if not quick:
        return Node(result, exactly)
    return Node(result, divide if operator == "/" else add_or_multiply)


def _divide_whole(dividend: pa.Array, divisor: pa.Array, scale: int) -> pa.Array:
    """Dividend over divisor truncated to `scale` decimals, by division of the unscaled whole numbers."""
    whole_dividend = _unscaled(dividend)
    whole_divisor = _unscaled(divisor)
    quotient = pc.divide(whole_dividend, whole_divisor)
    truncated = pc.round(quotient, ndigits=0, round_mode="towards_zero").cast(pa.decimal256(MAX_PRECISION, 0))
    return _rescaled(truncated, scale)


def _unscaled(values: pa.Array) -> pa.Array:
    """The same digits as whole numbers: the buffers are those of the decimals, read with scale 0."""
    arrow = values.type
    return pa.Array.from_buffers(pa.decimal256(arrow.precision, 0), len(values), values.buffers(), offset=values.offset)


def _rescaled(values: pa.Array, scale: int) -> pa.Array:
    arrow = pa.decimal256(MAX_PRECISION, scale)
    return pa.Array.from_buffers(arrow, len(values), values.buffers(), offset=values.offset)


def _one_by_one(frame: Frame, operator: str, left: pa.Array, right: pa.Array, result: SqlType) -> pa.Array:
    """The operation in Python, for results of more digits than Arrow computes with."""
    values: list[Decimal | None] = []
    faults: list[Fault] = []
    step = Decimal(1).scaleb(-(result.scale or 0))
    for row, (a, b) in enumerate(zip(left.to_pylist(), right.to_pylist(), strict=True)):
        if a is None or b is None:
            values.append(None)
            continue
        exact = EXACT.divide(a, b) if operator == "/" else _EXACTLY[operator](a, b)
        kept = exact.quantize(step, rounding=python_decimal.ROUND_HALF_UP, context=EXACT)
        if kept.adjusted() >= result.whole_digits and kept:
            faults.append(Fault(row, Reason.OUT_OF_RANGE, str(exact), f"the result has more digits than {result}"))
            values.append(None)
        else:
            values.append(kept)
    frame.report(faults)
    return pa.array(values, result.arrow)


def _double(operator: str, left: Node, right: Node) -> Node:
    def evaluate(frame: Frame) -> pa.Array:
        a, b = _operands(frame, left, right)
        if operator in "/%":
            b = _without_zero(frame, a, b)
        if operator == "%":
            with np.errstate(invalid="ignore"):
                rest = np.fmod(a.fill_null(0).to_numpy(), b.fill_null(1).to_numpy())
            return null_where_not(pa.array(rest), valid_mask(a) & valid_mask(b))
        kernel = pc.divide if operator == "/" else _unchecked(operator)
        nonzero = ~mask_of(pc.equal(a, 0.0)) & ~mask_of(pc.equal(b, 0.0)) if operator in "*/" else False
        return within_double(frame, kernel(a, b), a, b, nonzero=nonzero)

    return Node(DOUBLE, evaluate)


def within_double(frame: Frame, values: pa.Array, *operands: pa.Array, nonzero: Mask | bool = False) -> pa.Array:
    """The values, with a fault where finite operands gave an infinite one, or 0 if that is not the exact result."""
    lost: Mask = mask_of(pc.is_inf(values)) | (mask_of(pc.equal(values, 0.0)) & nonzero)
    if lost.any():
        for operand in operands:
            lost &= mask_of(pc.is_finite(operand))
        frame.refuse(lost, Reason.OUT_OF_RANGE, "the result is outside double precision", operands[0])
        return null_where_not(values, ~lost)
    return values


def negative(node: Node) -> Node:
    """The number with the other sign."""
    if node.type.family is Family.INTEGER:
        if node.constant and node.value() is not None:
            turned = pa.scalar(-node.value(), node.type.arrow)
            return Node(node.type, lambda _: turned, constant=True)
        zero = Node(node.type, lambda _: pa.scalar(0, node.type.arrow), constant=True)
        return arithmetic("-", zero, node)
    if node.type.family in (Family.DECIMAL, Family.DOUBLE):
        if node.constant:
            scalar = pc.negate(node.evaluate(None))  # type: ignore[arg-type]
            return Node(node.type, lambda _: scalar, constant=True)
        return Node(node.type, lambda frame: pc.negate(node.evaluate(frame)))
    raise ExpressionError(f"- stands before {node.type}", "it takes a number")
