"""Values on their way into a database that its columns could not hold as they are."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import mask_of, text_bytes, valid_mask
from kanal.core.faults import Fault
from kanal.core.reasons import Reason


def faults_where(values: pa.Array, bad: np.ndarray[Any, Any], reason: Reason, message: str) -> list[Fault]:
    """Faults for the values that are marked, but for those that are NULL."""
    rows = np.flatnonzero(bad & valid_mask(values)).tolist()
    return [Fault(row, reason, str(values[row].as_py())[:200], message) for row in rows]


def not_finite(values: pa.Array, message: str) -> list[Fault]:
    """Faults for infinity and NaN, of floating values."""
    bad = ~mask_of(pc.fill_null(pc.is_finite(values), True))
    return faults_where(values, bad, Reason.OUT_OF_RANGE, message)


def too_many_bytes(values: pa.Array, limit: int, message: str) -> list[Fault]:
    """Faults for texts or binaries of more bytes than a column holds."""
    sizes = np.where(valid_mask(values), np.diff(text_bytes(values)[1]), 0)
    return faults_where(values, sizes > limit, Reason.TOO_LONG, message)


#: The days of 0001-01-01 and 9999-12-31, counted from 1970, and how many microseconds a day has.
FIRST_DAY, LAST_DAY, DAY = -719_162, 2_932_896, 86_400_000_000


def bounds_of_years(day: int, epoch: int = 0) -> tuple[int, int]:
    """Of moments as numbers, so many a day and counted from so many after 1970: the first one of the year 1, and the
    first one after the year 9999."""
    return FIRST_DAY * day - epoch, (LAST_DAY + 1) * day - epoch


def beyond_years(number: int, low: int) -> str:
    """What is said of a moment that is not in the years 1 to 9999, of which `low` is the first one."""
    return "before the year 1" if number < low else "after the year 9999"


def too_fine(values: pa.Array, digits: int, remedy: str) -> list[Fault]:
    """Faults for moments, in microseconds, of which only so many decimals of a second are kept."""
    numbers = values.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    message = f"the column keeps {digits} decimals of a second: {remedy}"
    return faults_where(values, numbers % 10 ** (6 - digits) != 0, Reason.WOULD_ROUND, message)


def negative_zeros(values: pa.Array, database: str) -> list[Fault]:
    """Faults for floating values of -0.0, if a database keeps no sign of a zero."""
    numbers = values.fill_null(1.0).to_numpy(zero_copy_only=False)
    rows = np.flatnonzero((numbers == 0) & np.signbit(numbers)).tolist()
    message = f"{database} keeps no sign of a zero: map it with + 0.0, or with ABS where it is 0"
    return [Fault(row, Reason.WOULD_ROUND, "-0", message) for row in rows]
