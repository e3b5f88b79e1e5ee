"""Reads numbers out of the bytes of many texts at once, with NumPy: much quicker than a regular expression a text."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.core.arrays import Mask, text_bytes, valid_mask

#: Digits that a 64-bit integer always holds.
MAX_DIGITS = 18
_LONGEST = 24
POWERS: NDArray[np.int64] = np.array([10**n for n in range(MAX_DIGITS + 1)], dtype=np.int64)


def _only_digits(content: NDArray[np.uint8]) -> bool:
    return not ((content - np.uint8(48)) > 9).any()


def scan_numbers(  # noqa: PLR0915
    values: pa.Array, precision: int, scale: int, point: str, group: str | None
) -> tuple[NDArray[np.int64], Mask]:
    """The numbers of texts as whole numbers of the scale's last digit, and which texts surely are such numbers.

    Sure is a text of a minus or none, digits, and no more decimals than the scale, that fits the precision (18 digits
    at most); with group marks, all between groups of three. Everything else, right or wrong, is not sure.
    """
    content, starts = text_bytes(values)
    ends: NDArray[Any] = starts[1:]
    lengths = np.diff(starts)
    size = len(lengths)
    sure = valid_mask(values) & (lengths > 0) & (lengths <= _LONGEST)
    ends = ends.astype(np.int32) if len(content) < 2**31 else ends
    longest = min(int(lengths.max(initial=0)), _LONGEST)
    plain, number = 0, np.zeros(size, dtype=np.int64)
    if longest <= MAX_DIGITS and sure.all() and _only_digits(content[int(starts[0]) : int(starts[-1])]):
        plain, number = longest, values.cast(pa.int64()).to_numpy()
    # From the right, as long as there are only digits: one power of ten serves all.
    while plain < min(longest, MAX_DIGITS):
        digit = content[np.maximum(ends - (1 + plain), 0)] - np.uint8(48)
        here = lengths > plain
        if ((digit > 9) & here).any():
            break
        number += np.where(here, digit, 0) * POWERS[plain]
        plain += 1
    digits = np.minimum(lengths, plain).astype(np.int8)
    if plain == longest:
        sure &= number < POWERS[min(precision - scale, MAX_DIGITS)]
        return np.where(sure, number * POWERS[scale], 0), sure
    power = POWERS[digits]
    run = digits.copy()  # digits since the last mark, from the right
    decimals = np.full(size, -1, dtype=np.int8)
    grouped = np.zeros(size, dtype=np.bool_)
    negative = np.zeros(size, dtype=np.bool_)
    for place in range(plain, longest):
        here = lengths > place
        character = content[np.maximum(ends - (1 + place), 0)]
        digit = character - np.uint8(48)
        is_digit = here & (digit <= 9)
        number += np.where(is_digit, digit, 0) * power
        power = np.where(is_digit & (digits < MAX_DIGITS), power * 10, power)
        digits += is_digit
        run += is_digit
        other = here & ~is_digit
        if not other.any():
            continue
        is_point = other & (character == ord(point))
        is_minus = other & (character == ord("-")) & (lengths == place + 1)
        is_group = other & (character == ord(group)) if group is not None else None
        sure &= ~other | is_point | is_minus | (False if is_group is None else is_group)
        sure &= ~(is_point & ((decimals >= 0) | grouped | (run == 0)))
        decimals = np.where(is_point, run, decimals)
        negative |= is_minus
        marks = is_point
        if is_group is not None:
            sure &= ~(is_group & (run != 3))
            grouped |= is_group
            marks = is_point | is_group
        run = np.where(marks, 0, run).astype(np.int8)
    decimals = np.maximum(decimals, 0)
    sure &= (run > 0) & (digits <= MAX_DIGITS) & (decimals <= scale) & ~(grouped & (run > 3))
    missing = np.where(sure, scale - decimals, 0)
    sure &= number < POWERS[np.minimum(precision - missing, MAX_DIGITS)]
    number = np.where(sure, number * POWERS[missing], 0)
    return np.where(negative, -number, number), sure
