"""Functions on numbers: exact on integers and decimals, in double precision if they must be."""

from __future__ import annotations

from decimal import Decimal

import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import mask_of, null_where_not, valid_mask
from kanal.core.expressions.arithmetic import within_double
from kanal.core.expressions.registry import function
from kanal.core.frame import Frame
from kanal.core.reasons import Reason
from kanal.core.types import SqlType, decimal

_GROUP = "Numbers"


@function("abs(whole) -> same", ("abs(-3)", "3"), _GROUP)
@function("abs(decimal) -> same", ("abs(-1.50)", "1.50"), _GROUP)
@function("abs(double) -> double", ("abs(CAST(-1.5 AS double precision))", "1.5"), _GROUP)
def absolute(frame: Frame, number: pa.Array) -> pa.Array:
    """The number without its sign."""
    if pa.types.is_integer(number.type):
        stuck = mask_of(pc.equal(number, -(2 ** (number.type.bit_width - 1))))
        frame.refuse(stuck, Reason.OUT_OF_RANGE, "the result is outside the type of the number", number)
        number = null_where_not(number, ~stuck)
    return pc.abs(number)


@function("sign(decimal) -> integer", ("sign(-1.50)", "-1"), _GROUP)
@function("sign(double) -> double", ("sign(CAST(2.5 AS double precision))", "1"), _GROUP)
def sign(_: Frame, number: pa.Array) -> pa.Array:
    """-1, 0 or 1; 0 also for NaN."""
    signs = pc.sign(number)
    return pc.if_else(pc.is_nan(signs), 0.0, signs) if pa.types.is_floating(signs.type) else signs


def _whole(types: list[SqlType]) -> SqlType:
    return decimal(min(76, types[0].whole_digits + 1), 0)


def _roomy(number: pa.Array) -> pa.Array:
    arrow = number.type
    room = pa.decimal128 if arrow.precision < 38 else pa.decimal256
    return number.cast(room(min(76, arrow.precision + 1), arrow.scale))


@function("floor(decimal) -> decimal", ("floor(-1.5)", "-2"), _GROUP, returns=_whole)
def floor(_: Frame, number: pa.Array) -> pa.Array:
    """The greatest whole number not above it."""
    return pc.round(_roomy(number), ndigits=0, round_mode="down")


@function("floor(double) -> double", ("floor(CAST(1.5 AS double precision))", "1"), _GROUP)
def floor_double(_: Frame, number: pa.Array) -> pa.Array:
    """The greatest whole number not above it."""
    return pc.floor(number)


@function("ceiling(decimal) -> decimal", ("ceiling(1.2)", "2"), _GROUP, returns=_whole)
@function("ceil(decimal) -> decimal", ("ceil(-1.5)", "-1"), _GROUP, returns=_whole)
def ceiling(_: Frame, number: pa.Array) -> pa.Array:
    """The least whole number not below it."""
    return pc.round(_roomy(number), ndigits=0, round_mode="up")


@function("ceiling(double) -> double", ("ceiling(CAST(1.5 AS double precision))", "2"), _GROUP)
@function("ceil(double) -> double", ("ceil(CAST(1.5 AS double precision))", "2"), _GROUP)
def ceiling_double(_: Frame, number: pa.Array) -> pa.Array:
    """The least whole number not below it."""
    return pc.ceil(number)


def _round_digits(frame: Frame, number: pa.Array, digits: pa.Array, mode: str) -> pa.Array:
    """Decimals rounded to as many places as the second argument says, row by row where it differs."""
    roomy = _roomy(number)
    scale = roomy.type.scale
    result = pa.nulls(len(number), roomy.type)
    for count in digits.unique().to_pylist():
        if count is None:
            continue
        rows = mask_of(pc.equal(digits, count))
        chosen = null_where_not(roomy, rows)
        if -count > number.type.precision - scale:
            chosen = pc.if_else(chosen.is_valid(), pa.scalar(Decimal(0), roomy.type), chosen)  # it rounds to nothing
        elif count < scale:
            chosen = pc.round(chosen, ndigits=int(count), round_mode=mode)
        result = pc.coalesce(result, chosen)
    return result


def _one_more_digit(types: list[SqlType]) -> SqlType:
    return decimal(min(76, (types[0].precision or 1) + 1), types[0].scale or 0)


@function("round(decimal, integer) -> decimal", ("round(1.005, 2)", "1.010"), _GROUP, returns=_one_more_digit)
def round_digits(frame: Frame, number: pa.Array, digits: pa.Array) -> pa.Array:
    """The number rounded to this number of decimals, halves away from zero."""
    return _round_digits(frame, number, digits, "half_towards_infinity")


@function("round(decimal) -> decimal", ("round(2.5)", "3"), _GROUP, returns=_whole)
def round_whole(_: Frame, number: pa.Array) -> pa.Array:
    """The nearest whole number, halves away from zero."""
    return pc.round(_roomy(number), ndigits=0, round_mode="half_towards_infinity")


@function("round(double) -> double", ("round(CAST(2.5 AS double precision))", "2"), _GROUP)
def round_double(_: Frame, number: pa.Array) -> pa.Array:
    """The nearest whole number, halves to the even one."""
    return pc.round(number, ndigits=0, round_mode="half_to_even")


@function("trunc(decimal, integer) -> decimal", ("trunc(1.299, 2)", "1.290"), _GROUP, returns=_one_more_digit)
def trunc_digits(frame: Frame, number: pa.Array, digits: pa.Array) -> pa.Array:
    """The number cut to this number of decimals."""
    return _round_digits(frame, number, digits, "towards_zero")


@function("trunc(decimal) -> decimal", ("trunc(-1.9)", "-1"), _GROUP, returns=_whole)
def trunc_whole(_: Frame, number: pa.Array) -> pa.Array:
    """The number without its decimals."""
    return pc.round(_roomy(number), ndigits=0, round_mode="towards_zero")


@function("trunc(double) -> double", ("trunc(CAST(-1.9 AS double precision))", "-1"), _GROUP)
def trunc_double(_: Frame, number: pa.Array) -> pa.Array:
    """The number without its decimals."""
    return pc.trunc(number)


def _guarded(frame: Frame, number: pa.Array, good: pa.Array, message: str) -> pa.Array:
    bad = ~mask_of(good) & valid_mask(number) & ~mask_of(pc.is_nan(number))
    frame.refuse(bad, Reason.OUT_OF_RANGE, message, number)
    return null_where_not(number, ~bad)


@function("sqrt(double) -> double", ("sqrt(2.25)", "1.5"), _GROUP)
def sqrt(frame: Frame, number: pa.Array) -> pa.Array:
    """The square root; a negative number is rejected."""
    return pc.sqrt(_guarded(frame, number, pc.greater_equal(number, 0.0), "the square root of a negative number"))


@function("ln(double) -> double", ("ln(1)", "0"), _GROUP)
def ln(frame: Frame, number: pa.Array) -> pa.Array:
    """The natural logarithm; zero and negative numbers are rejected."""
    return pc.ln(_guarded(frame, number, pc.greater(number, 0.0), "the logarithm of zero or a negative number"))


@function("exp(double) -> double", ("exp(0)", "1"), _GROUP)
def exp(frame: Frame, number: pa.Array) -> pa.Array:
    """e to the power of the number."""
    return within_double(frame, pc.exp(number), number, nonzero=True)


@function("power(double, double) -> double", ("power(2, 10)", "1024"), _GROUP)
def power(frame: Frame, base: pa.Array, exponent: pa.Array) -> pa.Array:
    """The base to the power of the exponent; rejected if the result is not a real number."""
    whole = mask_of(pc.equal(pc.trunc(exponent), exponent))
    root = mask_of(pc.less(base, 0.0)) & ~whole & mask_of(pc.is_finite(exponent))
    zero = mask_of(pc.equal(base, 0.0)) & mask_of(pc.less(exponent, 0.0))
    frame.refuse(root | zero, Reason.OUT_OF_RANGE, "the power is not a real number", base)
    base = null_where_not(base, ~(root | zero))
    nonzero = ~mask_of(pc.equal(base, 0.0))
    return within_double(frame, pc.power(base, exponent), base, exponent, nonzero=nonzero)
