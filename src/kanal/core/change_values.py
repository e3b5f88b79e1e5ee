"""Chooses the rows of a batch whose change column lies in a range, and reads and writes such values as text."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import Mask, mask_of, valid_mask
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.expressions import Expression
from kanal.core.faults import Fault
from kanal.core.frame import Frame
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType

#: Types whose values grow with each change.
GROWING = (Family.INTEGER, Family.DECIMAL, Family.DOUBLE, Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)


def rows_between(
    frame: Frame, change: Expression, low: Any, high: Any, beyond_low: bool
) -> tuple[Mask, list[Fault], Any]:
    """The rows whose change value is in a range, the faults of rows that have none, and the greatest value of all.

    From `low` on, or with `beyond_low` greater than it, and less than `high`; None is no bound.
    """
    values = frame.array(change.node.evaluate(frame))
    faults = {fault.row: fault for fault in reversed(frame.collect())}
    valid = valid_mask(values).copy()
    valid[list(faults)] = False
    if pa.types.is_floating(values.type):
        valid &= ~mask_of(pc.is_nan(values))  # which is neither before nor after another value
    inside = valid.copy()
    if low is not None:
        compare = pc.greater if beyond_low else pc.greater_equal
        inside &= mask_of(compare(values, pa.scalar(low, values.type)))
    if high is not None:
        inside &= mask_of(pc.less(values, pa.scalar(high, values.type)))
    message = f"{change.text} is NULL or NaN, so it cannot be told whether the row is new: fill it"
    unclear = [
        faults.get(row) or Fault(row, Reason.NULL_NOT_ALLOWED, None, message) for row in np.flatnonzero(~valid).tolist()
    ]
    greatest = pc.max(values.filter(pa.array(inside))).as_py() if inside.any() else None
    return inside, unclear, greatest


def change_value(value: Any, sql_type: SqlType) -> Any:
    """A value of a change column from a text, number, date or time; a time without a zone is one of UTC.

    Raises KanalError if it is not of the column's type.
    """
    text = value.isoformat(sep=" ") if isinstance(value, dt.datetime) else str(value)
    forms = [text]
    if sql_type.family in (Family.TIMESTAMP, Family.TIMESTAMPTZ) and len(text) == len("2025-01-01"):
        forms = [f"{text} 00:00:00"]
    if sql_type.family is Family.TIMESTAMPTZ:
        forms += [f"{form}+00:00" for form in forms]
    for form in forms:
        found, faults = converter(TEXT, sql_type)(pa.array([form], pa.string()))
        if not faults:
            return found[0].as_py()
    raise KanalError(f'"{text}" is not a value of type {sql_type}', "write it as the change column has it")


def change_text(value: Any) -> str:
    """A value of a change column as text, which `change_value` reads back."""
    return value.isoformat(sep=" ") if isinstance(value, dt.datetime) else str(value)
