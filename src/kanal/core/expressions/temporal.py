"""Dates, times and intervals in expressions: arithmetic, parts, truncation and time zones."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kanal.core.arrays import Datum, Mask, from_unscaled, valid_mask
from kanal.core.conversions import Options
from kanal.core.conversions.formats import compiled
from kanal.core.conversions.temporal import check_zone
from kanal.core.errors import ConversionError, ExpressionError
from kanal.core.expressions.nodes import Node, constant, convert
from kanal.core.frame import Frame
from kanal.core.nearest import did_you_mean
from kanal.core.reasons import Reason
from kanal.core.types import (
    DATE,
    INTEGER,
    INTERVAL,
    TIME,
    TIMESTAMP,
    TIMESTAMPTZ,
    Family,
    SqlType,
    decimal,
)

_MOMENTS = frozenset({Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ})
_TEMPORAL = _MOMENTS | {Family.TIME, Family.INTERVAL}
_DAY = 86_400_000_000
#: The years 1 to 9999, in microseconds and days since 1970.
_LEAST_DAY, _GREATEST_DAY = -719162, 2932896
_OUTSIDE = "the result lies outside the years 1 to 9999"

_UNITS: dict[str, tuple[int, int, int]] = {  # unit: months, days, microseconds
    "year": (12, 0, 0),
    "month": (1, 0, 0),
    "week": (0, 7, 0),
    "day": (0, 1, 0),
    "hour": (0, 0, 3_600_000_000),
    "minute": (0, 0, 60_000_000),
    "second": (0, 0, 1_000_000),
}
_PART = re.compile(r"([+-]?[0-9]+)\s*([a-z]+)", re.ASCII)
_CLOCK = re.compile(r"([+-]?)([0-9]+):([0-9]{2})(?::([0-9]{2})(?:\.([0-9]{1,6}))?)?", re.ASCII)


def is_temporal(*nodes: Node) -> bool:
    """True if one of the nodes is a date, a time or an interval."""
    return any(node.type.family in _TEMPORAL for node in nodes)


def interval_literal(text: str, unit: str) -> Node:
    """INTERVAL '1' DAY, or INTERVAL '1 year 2 days 04:05:06'."""
    body = f"{text} {unit}".strip().lower()
    months = days = microseconds = 0
    rest = body
    clock = _CLOCK.search(rest)
    if clock:
        sign = -1 if clock[1] == "-" else 1
        seconds = int(clock[2]) * 3600 + int(clock[3]) * 60 + int(clock[4] or 0)
        microseconds += sign * (seconds * 1_000_000 + int((clock[5] or "").ljust(6, "0")))
        rest = rest[: clock.start()] + rest[clock.end() :]
    for count, name in _PART.findall(rest):
        singular = name.removesuffix("s")
        if singular not in _UNITS:
            raise ExpressionError(f'"{name}" is not a unit of an interval', did_you_mean(singular, _UNITS))
        scale = _UNITS[singular]
        months += int(count) * scale[0]
        days += int(count) * scale[1]
        microseconds += int(count) * scale[2]
    if _PART.sub("", rest).strip() or not body:
        raise ExpressionError(f'"{text}" is not an interval', "write one such as INTERVAL '1 year 2 days 04:05:06'")
    if max(abs(months), abs(days)) >= 2**31 or abs(microseconds) >= 2**63:
        raise ExpressionError(f'"{text[:40]}" is too long an interval', "write a shorter one")
    return constant({"months": months, "days": days, "microseconds": microseconds}, INTERVAL)


def _literal_to(node: Node, sql_type: SqlType) -> Node:
    return convert(node, sql_type) if node.literal is not None or node.type.family is Family.NULL else node


def arithmetic(operator: str, left: Node, right: Node) -> Node:
    """Sums and differences of dates, times, intervals and whole days; an interval times a whole number."""
    kinds = (left.type.family, right.type.family)
    if kinds[0] in _MOMENTS and right.literal is not None:
        right = convert(right, left.type if operator == "-" else INTERVAL)
    left = _literal_to(left, right.type) if left.literal is not None else left
    kinds = (left.type.family, right.type.family)
    if operator in "+-":
        if kinds == (Family.DATE, Family.INTEGER):
            return _date_plus_days(left, right, 1 if operator == "+" else -1)
        if kinds == (Family.INTEGER, Family.DATE) and operator == "+":
            return _date_plus_days(right, left, 1)
        if kinds == (Family.DATE, Family.DATE) and operator == "-":
            return _difference_in_days(left, right)
        if kinds[0] in _MOMENTS and kinds[1] is Family.INTERVAL:
            return _plus_interval(left, right, 1 if operator == "+" else -1)
        if kinds[0] is Family.INTERVAL and kinds[1] in _MOMENTS and operator == "+":
            return _plus_interval(right, left, 1)
        if kinds == (Family.INTERVAL, Family.INTERVAL):
            return _interval_sum(left, right, 1 if operator == "+" else -1)
        if kinds[0] in _MOMENTS and kinds[1] in _MOMENTS and operator == "-":
            return _difference(left, right)
    if operator == "*" and set(kinds) == {Family.INTERVAL, Family.INTEGER}:
        return _times(*((left, right) if kinds[0] is Family.INTERVAL else (right, left)))
    raise ExpressionError(
        f"{operator} stands between {left.type} and {right.type}",
        "a date takes whole days or an interval, a timestamp an interval, such as INTERVAL '1 day'",
    )


def _numbers(values: pa.Array, arrow: pa.DataType) -> NDArray[np.int64]:
    """Whole numbers with 0 for NULL."""
    whole = values.cast(arrow).cast(pa.int64())
    numbers: NDArray[np.int64] = whole.fill_null(0).to_numpy(zero_copy_only=False)
    return numbers


def _days(frame: Frame, days: NDArray[np.int64], valid: Mask, shown: pa.Array) -> pa.Array:
    inside = (days >= _LEAST_DAY) & (days <= _GREATEST_DAY)
    frame.refuse(valid & ~inside, Reason.OUT_OF_RANGE, _OUTSIDE, shown)
    keep = valid & inside
    return pa.array(np.where(keep, days, 0).astype(np.int32), mask=~keep).cast(pa.date32())


def _moments(frame: Frame, microseconds: NDArray[np.int64], valid: Mask, shown: pa.Array, to: SqlType) -> pa.Array:
    inside = (microseconds >= _LEAST_DAY * _DAY) & (microseconds < (_GREATEST_DAY + 1) * _DAY)
    frame.refuse(valid & ~inside, Reason.OUT_OF_RANGE, _OUTSIDE, shown)
    keep = valid & inside
    return pa.array(np.where(keep, microseconds, 0), mask=~keep).cast(to.arrow)


def _date_plus_days(date: Node, count: Node, sign: int) -> Node:
    def evaluate(frame: Frame) -> Datum:
        a, b = frame.array(date.evaluate(frame)), frame.array(count.evaluate(frame))
        offset = np.clip(_numbers(b, pa.int64()), -(10**9), 10**9)
        return _days(frame, _numbers(a, pa.int32()) + sign * offset, valid_mask(a) & valid_mask(b), a)

    return Node(DATE, evaluate)


def _difference_in_days(left: Node, right: Node) -> Node:
    def evaluate(frame: Frame) -> Datum:
        a, b = frame.array(left.evaluate(frame)), frame.array(right.evaluate(frame))
        return pc.subtract(a.cast(pa.int32()), b.cast(pa.int32()))

    return Node(INTEGER, evaluate)


def _interval_parts(values: pa.Array) -> list[NDArray[np.int64]]:
    valid = valid_mask(values)
    parts = []
    for name in ("months", "days", "microseconds"):
        numbers = pc.struct_field(values, name).cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
        parts.append(np.where(valid, numbers, 0))
    return parts


def _interval(parts: list[NDArray[np.int64]], valid: Mask) -> pa.Array:
    months, days, microseconds = parts
    fields = [pa.array(months.astype(np.int32)), pa.array(days.astype(np.int32)), pa.array(microseconds)]
    names = ["months", "days", "microseconds"]
    return pa.StructArray.from_arrays(fields, names, mask=pa.array(~valid)).cast(INTERVAL.arrow)


def add_months(microseconds: NDArray[np.int64], months: NDArray[np.int64]) -> NDArray[np.int64]:
    """Moments so many months later, on the last day of the month if it has no such day."""
    moments = microseconds.view("datetime64[us]")
    day = moments.astype("datetime64[D]")
    month = day.astype("datetime64[M]")
    day_of_month = (day - month.astype("datetime64[D]")).astype(np.int64)
    target = month + months
    last = ((target + 1).astype("datetime64[D]") - target.astype("datetime64[D]")).astype(np.int64) - 1
    moved = target.astype("datetime64[D]").astype(np.int64) + np.minimum(day_of_month, last)
    result: NDArray[np.int64] = moved * _DAY + (microseconds - day.astype(np.int64) * _DAY)
    return result


def _plus_interval(moment: Node, interval: Node, sign: int) -> Node:
    result = TIMESTAMP if moment.type.family is Family.DATE else moment.type

    def evaluate(frame: Frame) -> Datum:
        a, b = frame.array(moment.evaluate(frame)), frame.array(interval.evaluate(frame))
        months, days, microseconds = _interval_parts(b)
        start = _numbers(a.cast(result.arrow), pa.int64())
        reach = np.abs(months) < 200_000
        moved = add_months(start, sign * np.where(reach, months, 200_000))
        moved = moved + sign * (np.clip(days, -(10**7), 10**7) * _DAY + np.clip(microseconds, -(10**17), 10**17))
        return _moments(frame, moved, valid_mask(a) & valid_mask(b), a, result)

    return Node(result, evaluate)


def _interval_sum(left: Node, right: Node, sign: int) -> Node:
    def evaluate(frame: Frame) -> Datum:
        a, b = frame.array(left.evaluate(frame)), frame.array(right.evaluate(frame))
        summed = [x + sign * y for x, y in zip(_interval_parts(a), _interval_parts(b), strict=True)]
        return _interval(summed, valid_mask(a) & valid_mask(b))

    return Node(INTERVAL, evaluate)


def _times(interval: Node, count: Node) -> Node:
    def evaluate(frame: Frame) -> Datum:
        a, b = frame.array(interval.evaluate(frame)), frame.array(count.evaluate(frame))
        factor = _numbers(b, pa.int64())
        valid = valid_mask(a) & valid_mask(b)
        within = np.abs(factor) < 10**6
        frame.refuse(valid & ~within, Reason.OUT_OF_RANGE, "an interval is multiplied by at most a million", b)
        factor = np.where(within, factor, 0)
        return _interval([part * factor for part in _interval_parts(a)], valid & within)

    return Node(INTERVAL, evaluate)


def _difference(left: Node, right: Node) -> Node:
    """Timestamps apart: whole days of 24 hours and the rest, as PostgreSQL has it."""
    zoned = {Family.TIMESTAMPTZ} & {left.type.family, right.type.family}
    if zoned and left.type.family is not right.type.family:
        raise ExpressionError(f"- stands between {left.type} and {right.type}", "convert one with AT TIME ZONE")
    common = TIMESTAMPTZ if zoned else TIMESTAMP

    def evaluate(frame: Frame) -> Datum:
        a, b = (frame.array(node.evaluate(frame)).cast(common.arrow) for node in (left, right))
        apart = _numbers(a, pa.int64()) - _numbers(b, pa.int64())
        days = np.sign(apart) * (np.abs(apart) // _DAY)
        return _interval([np.zeros_like(days), days, apart - days * _DAY], valid_mask(a) & valid_mask(b))

    return Node(INTERVAL, evaluate)


def time_of_day(node: Node) -> Node:
    """The time of day of a timestamp."""
    return Node(TIME, lambda frame: frame.array(node.evaluate(frame)).cast(pa.time64("us")))


_WHOLE = decimal(10, 0)
_FIELDS: dict[str, Any] = {
    "year": pc.year,
    "quarter": pc.quarter,
    "month": pc.month,
    "day": pc.day,
    "week": pc.iso_week,
    "isoyear": pc.iso_year,
    "doy": pc.day_of_year,
    "dow": lambda values: pc.day_of_week(values, count_from_zero=True, week_start=7),
    "isodow": lambda values: pc.day_of_week(values, count_from_zero=False, week_start=1),
    "hour": pc.hour,
    "minute": pc.minute,
}
_DATE_FIELDS = frozenset({"year", "quarter", "month", "day", "week", "isoyear", "doy", "dow", "isodow"})


def extract(field: str, node: Node) -> Node:
    """EXTRACT(field FROM value): a decimal, as in ISO SQL; of a timestamp with time zone, in UTC."""
    family = node.type.family
    if family is Family.NULL:
        return convert(node, _WHOLE)
    if family not in _TEMPORAL:
        raise ExpressionError(f"EXTRACT takes a date or time, and this is {node.type}", "CAST it first")
    known = {*_FIELDS, "second", "epoch"}
    if family is Family.INTERVAL:
        known = {"year", "month", "day", "hour", "minute", "second", "epoch"}
    elif family is Family.TIME:
        known = known - _DATE_FIELDS
    if field not in known:
        raise ExpressionError(f'EXTRACT knows no field "{field}" of {node.type}', did_you_mean(field, known))
    if family is Family.INTERVAL:
        return _extract_interval(field, node)
    if field in _FIELDS:
        if family is Family.DATE and field not in _DATE_FIELDS:
            return Node(_WHOLE, lambda frame: _whole(pc.multiply(_stamp(frame, node).cast(pa.int64()), 0)))
        return Node(_WHOLE, lambda frame: _whole(_FIELDS[field](frame.array(node.evaluate(frame)))))
    places, unit = (6, 60_000_000) if field == "second" else (6, None)
    result = decimal(8 if field == "second" else 18, places)

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(node.evaluate(frame))
        if family is Family.DATE:
            values = values.cast(pa.timestamp("us"))
        numbers = _numbers(values, pa.int64())
        if unit is not None:
            numbers = numbers % unit
        return _millionths(numbers, valid_mask(values), result)

    return Node(result, evaluate)


def _stamp(frame: Frame, node: Node) -> pa.Array:
    return frame.array(node.evaluate(frame)).cast(pa.timestamp("us"))


def _whole(values: pa.Array) -> pa.Array:
    return values.cast(pa.int32()).cast(_WHOLE.arrow)


def _millionths(numbers: NDArray[np.int64], valid: Mask, result: SqlType) -> pa.Array:
    return from_unscaled(numbers, decimal(19, 6), valid).cast(result.arrow)


def _extract_interval(field: str, node: Node) -> Node:
    result = decimal(18, 6) if field in ("second", "epoch") else _WHOLE

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(node.evaluate(frame))
        months, days, microseconds = _interval_parts(values)
        valid = valid_mask(values)

        def quotient(numbers: NDArray[np.int64], by: int) -> NDArray[np.int64]:
            whole: NDArray[np.int64] = np.sign(numbers) * (np.abs(numbers) // by)
            return whole

        if field == "epoch":
            years, rest = quotient(months, 12), np.fmod(months, 12)
            # As PostgreSQL: a year has 365.25 days, a month 30.
            whole_days = years * 1461 * (_DAY // 4) + (rest * 30 + days) * _DAY
            return _millionths(whole_days + microseconds, valid, result)
        if field == "second":
            return _millionths(np.fmod(microseconds, 60_000_000), valid, result)
        numbers = {
            "year": quotient(months, 12),
            "month": np.fmod(months, 12),
            "day": days,
            "hour": quotient(microseconds, 3_600_000_000),
            "minute": np.fmod(quotient(microseconds, 60_000_000), 60),
        }[field]
        return pa.array(numbers, mask=~valid).cast(pa.decimal128(19, 0)).cast(result.arrow)

    return Node(result, evaluate)


_TRUNCATIONS = ("second", "minute", "hour", "day", "week", "month", "quarter", "year")


def by_format(node: Node, form: str, target: SqlType) -> Node:
    """A text as a date or a timestamp without zone, by a format in directives."""
    if node.type.family not in (Family.TEXT, Family.NULL):
        raise ExpressionError(f"a format says how a text is read, and this is {node.type}", "leave the format out")
    try:
        letters = [text for kind, text in compiled(form).tokens if kind == "literal" and text.isalpha() and text != "T"]
    except ConversionError as error:
        raise ExpressionError(error.what, "it knows YYYY YY MM DD HH24 HH12 MI SS, and what stands between") from None
    if letters:
        raise ExpressionError(
            f'the format has "{"".join(letters)}", which says nothing',
            "it knows YYYY YY MM DD HH24 HH12 MI SS, and what stands between; other formats go with the key format",
        )
    return convert(node, target, Options(format=form))


def date_trunc(arguments: list[Node]) -> Node:
    """date_trunc('month', value): the start of the unit that a moment lies in."""
    unit = (arguments[0].literal or "").lower()
    if unit not in _TRUNCATIONS:
        raise ExpressionError("date_trunc takes the name of a unit first", f"it knows {', '.join(_TRUNCATIONS)}")
    node = _literal_to(arguments[1], TIMESTAMP)
    if node.type.family not in _MOMENTS or len(arguments) > 2:
        raise ExpressionError(f"date_trunc does not take {node.type}", "it takes a unit and a date or timestamp")
    result = TIMESTAMP if node.type.family is Family.DATE else node.type

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(node.evaluate(frame)).cast(result.arrow)
        if unit in ("second", "minute", "hour"):
            size = _UNITS[unit][2]
            numbers = _numbers(values, pa.int64())
            return pa.array(numbers - numbers % size, mask=~valid_mask(values)).cast(result.arrow)
        days = _numbers(values, pa.int64()) // _DAY
        day = days.astype("datetime64[D]")
        if unit == "week":
            start = days - (days + 3) % 7  # 1970-01-01 was a Thursday
        elif unit == "quarter":
            month = day.astype("datetime64[M]").astype(np.int64)
            start = (month - month % 3).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
        else:
            code = {"day": "D", "month": "M", "year": "Y"}[unit]
            start = day.astype(f"datetime64[{code}]").astype("datetime64[D]").astype(np.int64)
        return _moments(frame, start * _DAY, valid_mask(values), values, result)

    return Node(result, evaluate)


def at_time_zone(node: Node, zone: Node) -> Node:
    """A local timestamp AT TIME ZONE is a moment, a moment AT TIME ZONE a local timestamp.

    A local time that the zone skips or has twice is a fault.
    """
    if not zone.constant or not isinstance(zone.value(), str):
        raise ExpressionError("AT TIME ZONE takes the zone's name as a text", "write one such as 'Europe/Amsterdam'")
    name = check_zone(zone.value())
    node = _literal_to(node, TIMESTAMP)
    if node.type.family is Family.TIMESTAMPTZ:
        return convert(node, TIMESTAMP, Options(time_zone=name))
    if node.type.family in (Family.TIMESTAMP, Family.DATE):
        return convert(node, TIMESTAMPTZ, Options(time_zone=name))
    raise ExpressionError(f"AT TIME ZONE does not take {node.type}", "it takes a timestamp")


def current_timestamp() -> Node:
    """The moment at which the run started."""
    return Node(TIMESTAMPTZ, lambda frame: pa.scalar(frame.moment.astimezone(dt.UTC), TIMESTAMPTZ.arrow))


def current_date() -> Node:
    """The day, in UTC, on which the run started."""
    return Node(DATE, lambda frame: pa.scalar(frame.moment.astimezone(dt.UTC).date(), DATE.arrow))
