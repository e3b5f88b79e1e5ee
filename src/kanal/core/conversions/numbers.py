"""Conversions into numbers, from text and from other numbers: nothing is rounded unless the options say so."""

from __future__ import annotations

import math
import re
from contextlib import suppress
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import Mask, from_unscaled, mask_of, to_unscaled, valid_mask
from kanal.core.conversions.base import Conversion, Direct, Options, conversion, decided, only
from kanal.core.conversions.digits import MAX_DIGITS, scan_numbers
from kanal.core.conversions.rounding import EXACT, ROUNDING
from kanal.core.errors import ConversionError, shortened
from kanal.core.faults import Refusal
from kanal.core.reasons import Reason
from kanal.core.types import DOUBLE, INTEGER, TEXT, Family, SqlType, decimal

_NUMBER = re.compile(r"([+-]?)([0-9]*)(?:\.([0-9]*))?(?:[eE]([+-]?[0-9]{1,6}))?", re.ASCII)
_SPECIAL = {"nan", "inf", "infinity", "+inf", "+infinity", "-inf", "-infinity"}
_SPACES = " \t\n\r\f\v"


def parse_number(text: str, decimal_mark: str = ".", grouping_mark: str | None = None) -> Decimal:
    """The exact number written in a text in ASCII digits, blanks around it allowed; raises Refusal.

    A grouping mark may stand only between groups of three digits.
    """
    body = text.strip(_SPACES)
    if grouping_mark is not None and grouping_mark in body:
        whole, mark, fraction = body.partition(decimal_mark)
        digits = whole.lstrip("+-")
        groups = digits.split(grouping_mark)
        well_formed = 1 <= len(groups[0]) <= 3 and all(len(group) == 3 for group in groups[1:])
        if not well_formed or grouping_mark in fraction:
            raise Refusal(
                Reason.NOT_A_NUMBER,
                f'"{text}" is not a number in groups of three digits with "{grouping_mark}" between them',
            )
        body = whole.replace(grouping_mark, "") + mark + fraction
    if decimal_mark != ".":
        if "." in body:
            raise Refusal(Reason.NOT_A_NUMBER, f'"{text}" has a "." and the decimal mark is "{decimal_mark}"')
        body = body.replace(decimal_mark, ".")
    match = _NUMBER.fullmatch(body)
    if match is None or not (match[2] or match[3]):
        raise Refusal(Reason.NOT_A_NUMBER, _not_a_number(text, decimal_mark, grouping_mark))
    return Decimal(body)


def _not_a_number(text: str, decimal_mark: str, grouping_mark: str | None) -> str:
    if not text.strip(_SPACES):
        return 'an empty text is not a number: set null_values = [""] to load it as NULL'
    shown = shortened(text, 40)
    comma = re.fullmatch(r"\s*[+-]?[0-9.]+,[0-9]+\s*", text, re.ASCII)
    if comma and decimal_mark == ".":
        return f'"{shown}" is not a number: if the comma is its decimal mark, set decimal_mark = ","'
    if grouping_mark is None and re.fullmatch(r"\s*[+-]?[0-9]{1,3}([., '][0-9]{3})+.*", text, re.ASCII):
        return f'"{shown}" is not a number: if its digits are grouped, set grouping_mark'
    return f'"{shown}" is not a number: correct the source, or set if_bad = "null"'


def _plain(number: Decimal) -> str:
    """A number for a message; a long one as a power of ten."""
    return format(number, "f") if -30 < number.adjusted() < 40 else str(number)


def fit_decimal(number: Decimal, target: SqlType, rounding: str | None) -> Decimal:
    """The number with the scale of the target; raises Refusal if digits would be lost or do not fit."""
    scale = target.scale or 0
    if number.adjusted() > 100:  # far more digits than any type has
        raise Refusal(Reason.OUT_OF_RANGE, f"{_plain(number)} is greater than {target} can hold")
    step = Decimal(1).scaleb(-scale)
    if number and number.adjusted() < -300:
        kept = Decimal(0) if rounding in (None, "half_up", "half_even", "toward_zero") else None
        if kept is None:
            kept = number.quantize(step, rounding=ROUNDING[str(rounding)][1], context=EXACT)
    else:
        mode = ROUNDING[rounding][1] if rounding else "ROUND_DOWN"
        kept = number.quantize(step, rounding=mode, context=EXACT)
    if rounding is None and kept != number:
        raise Refusal(
            Reason.WOULD_ROUND,
            f"{_plain(number)} has more than {scale} decimals, {target} keeps {scale}: "
            'set rounding (for instance "half_up"), or a type with a larger scale',
        )
    if abs(kept) >= Decimal(10) ** target.whole_digits:
        raise Refusal(
            Reason.OUT_OF_RANGE,
            f"{_plain(number)} does not fit {target}, which has {target.whole_digits} digits before the decimal mark",
        )
    return kept if kept else kept.copy_abs()


def fit_integer(number: Decimal, target: SqlType, rounding: str | None) -> int:
    """The number as a whole one within the target's range; raises Refusal."""
    least, greatest = target.integer_range
    if number.is_finite() and number.adjusted() > 40:
        raise Refusal(Reason.OUT_OF_RANGE, f"{_plain(number)} is outside {target}, {least:,} to {greatest:,}")
    if number.is_finite() and number and number.adjusted() < -300:
        number = Decimal(1).scaleb(-300).copy_sign(number)
    kept = number.to_integral_value(ROUNDING[rounding][1] if rounding else "ROUND_DOWN", EXACT)
    if rounding is None and kept != number:
        raise Refusal(
            Reason.WOULD_ROUND,
            f'{_plain(number)} is not a whole number: set rounding (for instance "floor"), or a decimal type',
        )
    if not least <= kept <= greatest:
        raise Refusal(
            Reason.OUT_OF_RANGE,
            f"{_plain(number)} is outside {target}, {least:,} to {greatest:,}: choose a wider type",
        )
    return int(kept)


def fit_double(number: Decimal, target: SqlType, rounding: str | None) -> float:
    """The nearest floating value; raises Refusal if it is another number at the digits written."""
    value = float(number)
    if target.name == "real":
        with np.errstate(over="ignore"):
            value = float(np.float32(value))
    if math.isinf(value) or (value == 0 and number != 0):
        raise Refusal(Reason.OUT_OF_RANGE, f"{_plain(number)} is outside what {target} can hold")
    if rounding is None and Decimal(shortest(value, target)) != number and Decimal(value) != number:
        raise Refusal(
            Reason.WOULD_ROUND,
            f"{_plain(number)} would become {shortest(value, target)} in {target}: "
            'use decimal, or set rounding = "half_even" to take the nearest',
        )
    return value


def shortest(value: float, target: SqlType = DOUBLE) -> str:
    """The shortest decimal text that reads back as the same floating value."""
    return str(np.float32(value)) if target.name == "real" else repr(value)


def _check_marks(options: Options) -> tuple[str, str | None]:
    point = options.decimal_mark or "."
    group = options.grouping_mark
    for name, mark in (("decimal_mark", point), ("grouping_mark", group)):
        if mark is not None and (len(mark) != 1 or mark in "0123456789+-eE"):
            raise ConversionError(f'{name} is "{mark}"', "it must be one character, and no digit or sign")
    if point == group:
        raise ConversionError(f'decimal_mark and grouping_mark are both "{point}"', "set the two to different marks")
    return point, group


class _FromText(Conversion):
    """Text to a number: the quick way knows the texts that surely are numbers by a regular expression."""

    options = frozenset({"decimal_mark", "grouping_mark", "rounding"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.point, self.group = _check_marks(options)

    def retry(self, values: pa.Array) -> pa.Array:
        return pc.ascii_trim_whitespace(values)

    def number(self, text: str) -> Decimal:
        return parse_number(text, self.point, self.group)

    def pattern(self, whole: int, fraction: str) -> str:
        """A pattern of numbers with at most `whole` digits before the point and what may follow it."""
        digits = f"[0-9]{{1,{whole}}}"
        if self.group is not None and whole > 3:
            mark = re.escape(self.group)
            digits = f"(?:{digits}|[0-9]{{1,3}}(?:{mark}[0-9]{{3}}){{1,{max(1, whole // 3 - 1)}}})"
            if whole < 6:
                digits = f"[0-9]{{1,{whole}}}"
        return f"^-?{digits}(?:{re.escape(self.point)}{fraction})?$" if fraction else f"^-?{digits}$"

    def plain(self, values: pa.Array, sure: Mask) -> pa.Array:
        """The sure texts with Arrow's own marks."""
        values = only(values, sure)
        if self.group is not None:
            values = pc.replace_substring(values, self.group, "")
        if self.point != ".":
            values = pc.replace_substring(values, self.point, ".")
        return values

    def matching(self, values: pa.Array, pattern: str) -> Mask:
        return mask_of(pc.match_substring_regex(values, pattern))


@conversion(Family.TEXT, Family.INTEGER, " 12 ", "12")
class TextToInteger(_FromText):
    """Text to smallint, integer or bigint."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        numbers, sure = scan_numbers(values, MAX_DIGITS, 0, self.point, self.group)
        return _narrow(pa.array(numbers, mask=~sure), self.target, sure, values)

    def exact(self, value: str) -> int:
        return fit_integer(self.number(value), self.target, self.given.rounding)


def _narrow(wide: pa.Array, target: SqlType, sure: Mask, original: pa.Array) -> tuple[pa.Array, Mask]:
    """A bigint array as the target's type, unsure if it is out of range."""
    if target.arrow != pa.int64():
        least, greatest = target.integer_range
        fits = mask_of(pc.and_(pc.greater_equal(wide, least), pc.less_equal(wide, greatest)))
        sure = sure & fits
        wide = only(wide, fits).cast(target.arrow)
    return wide, decided(original, sure)


@conversion(Family.TEXT, Family.DECIMAL, "1.234,5", "1234.50", decimal_mark=",", grouping_mark=".")
class TextToDecimal(_FromText):
    """Text to decimal(p,s)."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        scale, whole = self.target.scale or 0, max(self.target.whole_digits, 1)
        if self.target.whole_digits == 0:
            return pa.nulls(len(values), self.target.arrow), decided(values, np.zeros(len(values), np.bool_))
        if self.given.rounding is None and (self.target.precision or 0) <= MAX_DIGITS:
            numbers, sure = scan_numbers(values, self.target.precision or 0, scale, self.point, self.group)
            return from_unscaled(numbers, self.target, sure), decided(values, sure)
        if self.given.rounding and whole + 13 <= 38:
            sure = self.matching(values, self.pattern(whole, f"[0-9]{{1,{max(12, scale)}}}"))
            wide = decimal(min(38, whole + 1 + max(12, scale)), max(12, scale)).arrow
            rounded = _round(self.plain(values, sure).cast(wide), scale, self.given.rounding)
            return _within(rounded, self.target, sure, values)
        sure = self.matching(values, self.pattern(whole, f"[0-9]{{0,{scale}}}0{{0,20}}"))
        sure &= ~self.matching(values, f"{re.escape(self.point)}$")
        return self.plain(values, sure).cast(self.target.arrow), decided(values, sure)

    def exact(self, value: str) -> Decimal:
        return fit_decimal(self.number(value), self.target, self.given.rounding)


def _round(values: pa.Array, scale: int, rounding: str | None) -> pa.Array:
    mode = ROUNDING[rounding][0] if rounding else "towards_zero"
    return pc.round(values, ndigits=scale, round_mode=mode)


def _within(numbers: pa.Array, target: SqlType, sure: Mask, original: pa.Array) -> tuple[pa.Array, Mask]:
    """Rounded decimals as the target's type, unsure if they have too many whole digits."""
    if numbers.type.precision <= MAX_DIGITS and numbers.type.scale == (target.scale or 0):
        digits = to_unscaled(numbers)
        sure = sure & (np.abs(digits) < 10 ** (target.precision or 1))
        return from_unscaled(np.where(sure, digits, 0), target, sure & valid_mask(numbers)), decided(original, sure)
    bound = 10**target.whole_digits
    if numbers.type.precision - numbers.type.scale > target.whole_digits:
        limit = pa.scalar(Decimal(bound), pa.decimal256(76, 0) if bound >= 10**37 else pa.decimal128(38, 0))
        fits = mask_of(pc.less(pc.abs(numbers), limit.cast(_comparable(numbers.type))))
        sure = sure & fits
        numbers = only(numbers, fits)
    return numbers.cast(target.arrow), decided(original, sure)


def _comparable(arrow: pa.DataType) -> pa.DataType:
    return pa.decimal256(76, arrow.scale)


@conversion(Family.TEXT, Family.DOUBLE, "0.1", "0.1")
class TextToDouble(_FromText):
    """Text to real or double precision: numbers of up to 15 digits (6 for real) are surely right, and longer ones that
    are written as the value is at its shortest."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        sure = np.zeros(len(values), dtype=np.bool_)
        numbers = None
        if self.group is None and self.point == ".":
            with suppress(pa.ArrowInvalid):  # for texts that are none
                numbers = values.cast(self.target.arrow)
                sure = mask_of(pc.equal(numbers.cast(pa.string()), values))
        left = np.flatnonzero(~decided(values, sure))
        if len(left):
            rest = values.take(pa.array(left))
            sure[left] = self._surely(rest)
            if numbers is None or not decided(values, sure).all():
                numbers = self.plain(values, sure).cast(self.target.arrow)
        return numbers, decided(values, sure)

    def _surely(self, values: pa.Array) -> Mask:
        """Which texts are numbers of few digits, or are written as the value is at its shortest."""
        digits = 15 if self.target.name == "double precision" else 6
        sure = self.matching(values, self.pattern(digits, f"[0-9]{{1,{digits}}}"))
        sure &= mask_of(pc.less_equal(pc.binary_length(values), digits + 1))
        if self.group is None and not sure.all():
            long = self.matching(values, self.pattern(20, "[0-9]{1,25}")) & ~sure
            texts = self.plain(values, long)
            sure |= long & mask_of(pc.equal(texts.cast(self.target.arrow).cast(pa.string()), texts))
        return sure

    def exact(self, value: str) -> float:
        if value.strip(_SPACES).lower() in _SPECIAL:
            return float(value)
        return fit_double(self.number(value), self.target, self.given.rounding)


class _NumberToNumber(Conversion):
    options = frozenset({"rounding"})

    def exact(self, value: Any) -> Any:
        if isinstance(value, float) and not math.isfinite(value):
            raise Refusal(Reason.OUT_OF_RANGE, f"{value} is not a number that {self.target} can hold")
        number = Decimal(shortest(value, self.source)) if isinstance(value, float) else Decimal(value)
        if self.target.family is Family.INTEGER:
            return fit_integer(number, self.target, self.given.rounding)
        if self.target.family is Family.DECIMAL:
            return fit_decimal(number, self.target, self.given.rounding)
        return fit_double(number, self.target, self.given.rounding)


@conversion(Family.INTEGER, Family.INTEGER, "7", "7")
class IntegerToInteger(_NumberToNumber):
    """Between widths of integers."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        everywhere = np.ones(len(values), dtype=np.bool_)
        if values.type.bit_width <= self.target.arrow.bit_width:
            return values.cast(self.target.arrow), everywhere
        return _narrow(values.cast(pa.int64()), self.target, everywhere, values)


@conversion(Family.INTEGER, Family.DECIMAL, "7", "7.00")
class IntegerToDecimal(_NumberToNumber):
    """Integers to decimal(p,s)."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        sure = np.ones(len(values), dtype=np.bool_)
        if self.source.whole_digits > self.target.whole_digits:
            limit = 10**self.target.whole_digits
            sure = mask_of(pc.and_(pc.greater(values, -limit), pc.less(values, limit)))
            sure = decided(values, sure)
            values = only(values, sure)
        steps = decimal(self.source.whole_digits, 0).arrow
        return values.cast(steps).cast(_scaled(self.target, self.source)).cast(self.target.arrow), sure


def _scaled(target: SqlType, source: SqlType) -> pa.DataType:
    """A decimal wide enough for the source's whole digits and the target's scale."""
    return decimal(min(76, source.whole_digits + (target.scale or 0)), target.scale or 0).arrow


@conversion(Family.DECIMAL, Family.DECIMAL, "1.50", "1.50")
class DecimalToDecimal(_NumberToNumber):
    """Between precisions and scales."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        everywhere = np.ones(len(values), dtype=np.bool_)
        scale = self.target.scale or 0
        if scale >= (self.source.scale or 0):
            if self.target.whole_digits >= self.source.whole_digits:
                return values.cast(self.target.arrow), everywhere
            return _within(values, self.target, everywhere, values)
        wide = values.cast(pa.decimal256(76, values.type.scale)) if self.source.precision == 38 else values
        rounded = _round(_roomy(wide), scale, self.given.rounding)
        sure = everywhere if self.given.rounding else decided(values, mask_of(pc.equal(rounded, wide)))
        return _within(only(rounded, sure), self.target, sure, values)


def _roomy(values: pa.Array) -> pa.Array:
    """Decimals with one more whole digit, so that rounding up cannot overflow."""
    arrow = values.type
    room = pa.decimal128 if arrow.precision < 38 else pa.decimal256
    return values.cast(room(min(76, arrow.precision + 1), arrow.scale))


@conversion(Family.DECIMAL, Family.INTEGER, "2.50", "3", rounding="half_up")
class DecimalToInteger(_NumberToNumber):
    """Decimals to integers; a fraction is refused unless rounding is set."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        rounded = _round(_roomy(values), 0, self.given.rounding)
        sure = np.ones(len(values), dtype=np.bool_)
        if self.given.rounding is None:
            sure = mask_of(pc.equal(rounded, values))
        least, greatest = self.target.integer_range
        bounds = [
            pa.scalar(Decimal(bound), pa.decimal128(38, 0)).cast(pa.decimal256(76, rounded.type.scale))
            for bound in (least, greatest)
        ]
        fits = mask_of(pc.and_(pc.greater_equal(rounded, bounds[0]), pc.less_equal(rounded, bounds[1])))
        sure = sure & fits
        return only(rounded, sure).cast(self.target.arrow), decided(values, sure)


@conversion(Family.INTEGER, Family.DOUBLE, "7", "7")
class IntegerToDouble(_NumberToNumber):
    """Integers to floating: up to 2 to the 53rd (24th for real) every one has its own value."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        bound = 2**53 if self.target.name == "double precision" else 2**24
        if values.type.bit_width <= 32 and bound == 2**53:
            return values.cast(self.target.arrow), np.ones(len(values), dtype=np.bool_)
        wide = values.cast(pa.int64())
        sure = mask_of(pc.and_(pc.greater_equal(wide, -bound), pc.less_equal(wide, bound)))
        return only(wide, sure).cast(self.target.arrow), decided(values, sure)


@conversion(Family.DECIMAL, Family.DOUBLE, "0.10", "0.1")
class DecimalToDouble(_NumberToNumber):
    """Decimals to floating: up to 15 digits (6 for real) are surely kept."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        digits = 15 if self.target.name == "double precision" else 6
        sure = np.ones(len(values), dtype=np.bool_)
        if (self.source.precision or 0) > digits:
            limit = pa.scalar(Decimal(1).scaleb(digits - values.type.scale)).cast(_comparable(values.type))
            sure = mask_of(pc.less(pc.abs(values), limit))
        # Through text: Arrow's own cast of a decimal to floating is not the nearest value for every scale.
        return only(values, sure).cast(pa.string()).cast(self.target.arrow), decided(values, sure)


@conversion(Family.DOUBLE, Family.DOUBLE, "0.5", "0.5")
class DoubleToDouble(_NumberToNumber):
    """Between real and double precision."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        if self.source.name == "real" and self.target.name == "double precision":
            # By its decimal text, as it is read and written everywhere else: 0.1 stays 0.1.
            return values.cast(pa.string()).cast(pa.float64()), np.ones(len(values), dtype=np.bool_)
        if self.source.name == self.target.name:
            return values, np.ones(len(values), dtype=np.bool_)
        narrow = values.cast(pa.float32(), safe=False)
        same = mask_of(pc.equal(narrow.cast(pa.string()), values.cast(pa.string())))
        return only(narrow, same), decided(values, same)

    def exact(self, value: float) -> float:
        return value if not math.isfinite(value) else super().exact(value)


@conversion(Family.DOUBLE, Family.INTEGER, "2.9", "2", rounding="floor")
class DoubleToInteger(_NumberToNumber):
    """Floating values to integers; a fraction is refused unless rounding is set."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        wide = values.cast(pa.float64())
        rounded = _round(wide, 0, self.given.rounding)
        # Up to 2 to the 53rd, a half is a half in binary as in decimal, so rounding either is the same.
        sure = mask_of(pc.less_equal(pc.abs(rounded), 2.0**53))
        if self.given.rounding is None:
            sure &= mask_of(pc.equal(rounded, wide))
        return _narrow(only(rounded, sure).cast(pa.int64()), self.target, sure, values)


@conversion(Family.DOUBLE, Family.DECIMAL, "0.1", "0.10")
class DoubleToDecimal(_NumberToNumber):
    """Floating values to decimals, by their shortest decimal text."""

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.through = TextToDecimal(TEXT, target, Options(rounding=options.rounding))

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        return self.through.quick(values.cast(pa.string()))


@conversion(Family.BOOLEAN, Family.INTEGER, "true", "1")
def boolean_to_integer(source: SqlType, target: SqlType, options: Options) -> Conversion:
    """True is 1, false is 0."""
    return Direct(source, target, options)


@conversion(Family.BOOLEAN, Family.DECIMAL, "true", "1.00")
class BooleanToDecimal(Conversion):
    """True is 1, false is 0."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        return IntegerToDecimal(INTEGER, self.target, Options()).quick(values.cast(pa.int32()))

    def exact(self, value: bool) -> Decimal:
        return fit_decimal(Decimal(int(value)), self.target, None)
