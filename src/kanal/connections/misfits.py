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


def moment_texts(number: int, day: int, epoch: int = 0) -> tuple[str, str, bool]:
    """A date or moment of any year, by its number as `bounds_of_years` counts: the text of its date, that of its time,
    empty for a date, and whether it is before the year 1."""
    days, rest = divmod(number + epoch, day)
    year, month, date = _civil(days)
    clock = ""
    if day > 1:
        seconds, fraction = divmod(rest * (DAY // day), 1_000_000)
        clock = f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"
        clock += f".{fraction:06d}".rstrip("0") if fraction else ""
    return f"{year if year > 0 else 1 - year:04d}-{month:02d}-{date:02d}", clock, year < 1


def _civil(days: int) -> tuple[int, int, int]:
    """The year, month and day of a day counted from 1970, by the Gregorian calendar in all years."""
    era, of_era = divmod(days + 719_468, 146_097)  # of 400 years from the first of March of year 0
    year = (of_era - of_era // 1_460 + of_era // 36_524 - of_era // 146_096) // 365
    of_year = of_era - (365 * year + year // 4 - year // 100)
    month = (5 * of_year + 2) // 153
    date = of_year - (153 * month + 2) // 5 + 1
    month = month + 3 if month < 10 else month - 9
    return era * 400 + year + (month <= 2), month, date


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
