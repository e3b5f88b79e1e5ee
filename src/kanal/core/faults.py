"""A value that does not fit, as the core reports it: which row of the batch, why, and what to do about it."""

from __future__ import annotations

import decimal
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from kanal.core.reasons import Reason

_REAL = pa.float32()


class Fault(Struct, frozen=True):
    """One bad value. `row` counts from 0 within the batch; `value` is the value as text, or None for NULL.

    `constraint` is the target's that the row breaks, if it is one of those, `parent` the row to which it refers.
    """

    row: int
    reason: Reason
    value: str | None
    message: str
    constraint: str | None = None
    parent: str | None = None


class Refusal(Exception):
    """Raised by an exact conversion for a value that does not fit; the caller makes a Fault of it."""

    def __init__(self, reason: Reason, message: str) -> None:
        self.reason = reason
        self.message = message
        super().__init__(message)


def value_text(value: Any, arrow: pa.DataType | None = None) -> str | None:
    """A value as a reject shows it: None for NULL, bytes in hexadecimal, all else as its text.

    Of a real, which Arrow gives as a Python float, its own digits are shown where its type is given.
    """
    if value is None or isinstance(value, str):
        return value
    if arrow is not None and arrow == _REAL:
        return str(np.float32(value))
    if isinstance(value, bytes):
        return "x'" + value.hex() + "'"
    if isinstance(value, decimal.Decimal):
        return format(value, "f")
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


def texts_of(values: pa.Array) -> list[str | None]:
    """The values of an array as rejects show them."""
    arrow = _REAL if values.type == _REAL else None  # asked once, not for each value
    return [value_text(value, arrow) for value in values.to_pylist()]
