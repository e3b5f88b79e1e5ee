"""Hashes rows of key columns into 64 bits, at the speed of NumPy, for look-ups and for finding doubled keys."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.core.arrays import Mask, text_bytes, to_unscaled, valid_mask
from kanal.core.native import taken_as

Hashes = NDArray[np.uint64]


class RowHash:
    """A random hash function on rows: two different keys collide with a chance of about one in 2 to the 63rd.

    Text is hashed as the sum of its bytes, each times a random number of its place (multilinear hashing).
    """

    def __init__(self, seed: int = 1) -> None:
        self._random = np.random.default_rng(seed)
        self._weights: Hashes = self._draw(64)
        self._mixers: Hashes = self._draw(64) | np.uint64(1)

    def _draw(self, count: int) -> Hashes:
        return self._random.integers(0, 2**63, size=count, dtype=np.uint64) * np.uint64(2) + np.uint64(1)

    def __call__(self, columns: Sequence[pa.Array]) -> tuple[Hashes, Mask]:
        """The hash of each row, and which rows have no NULL in the columns."""
        valid = np.ones(len(columns[0]), dtype=np.bool_)
        total: Hashes = np.zeros(len(columns[0]), dtype=np.uint64)
        for place, values in enumerate(columns):
            valid &= valid_mask(values)
            total = _mixed(total + self._column(values) * self._mixers[place % 64] + np.uint64(place))
        return total, valid

    def of_keys(self, columns: Sequence[pa.Array]) -> tuple[Hashes, Mask]:
        """As by a call, but whole numbers, dates and times of one column represent themselves: what comes in order
        stays in order, and no two are the same."""
        if len(columns) > 1 or not _is_whole(columns[0].type):
            return self(columns)
        return self._column(columns[0]), valid_mask(columns[0])

    def rows(self, columns: Sequence[pa.Array]) -> Hashes:
        """The hash of each row as it stands: NULL is a value like others, and -0.0 is not 0.0."""
        total: Hashes = np.zeros(len(columns[0]), dtype=np.uint64)
        for place, values in enumerate(columns):
            hashes = self._column(values, exactly=True)
            if values.null_count:
                hashes = np.where(valid_mask(values), hashes, self._mixers[63] + np.uint64(place))
            total = _mixed(total + hashes * self._mixers[place % 63] + np.uint64(place))
        return total

    def _column(self, values: pa.Array, exactly: bool = False) -> Hashes:
        values = taken_as(values)
        arrow = values.type
        if pa.types.is_struct(arrow):
            value, stray = values.flatten()
            return np.where(valid_mask(stray), self._text(stray), self._column(value, exactly))
        if pa.types.is_string(arrow) or pa.types.is_binary(arrow) or pa.types.is_large_string(arrow):
            return self._text(values)
        if pa.types.is_boolean(arrow):
            values = values.cast(pa.int8())
        elif pa.types.is_floating(arrow):
            numbers = values.cast(pa.float64()).fill_null(0.0).to_numpy(zero_copy_only=False)
            numbers = numbers if exactly else numbers + 0.0  # -0.0 and 0.0 are the same key
            return np.where(np.isnan(numbers), np.nan, numbers).view(np.uint64)
        elif pa.types.is_decimal(arrow):
            if arrow.precision > 18:
                return self._text(values.cast(pa.string()))
            unscaled: Hashes = to_unscaled(values).astype(np.int64).view(np.uint64)
            return unscaled
        elif pa.types.is_date32(arrow):
            values = values.cast(pa.int32())
        numbers = values.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
        hashes: Hashes = numbers.astype(np.int64).view(np.uint64)
        return hashes

    def _text(self, values: pa.Array) -> Hashes:
        content, starts = text_bytes(values)
        if not len(values):
            return np.zeros(0, dtype=np.uint64)
        first, last = int(starts[0]), int(starts[-1])
        lengths = np.diff(starts)
        longest = int(lengths.max(initial=0))
        while longest >= len(self._weights):
            self._weights = np.concatenate([self._weights, self._draw(len(self._weights))])
        places = np.arange(first, last) - np.repeat(starts[:-1], lengths)
        terms = (content[first:last].astype(np.uint64) + np.uint64(1)) * self._weights[places]
        sums = np.concatenate([np.zeros(1, dtype=np.uint64), np.cumsum(terms, dtype=np.uint64)])
        hashes: Hashes = sums[starts[1:] - first] - sums[starts[:-1] - first] + lengths.astype(np.uint64)
        return hashes


def _is_whole(kind: pa.DataType) -> bool:
    """True for types whose values are whole numbers of 64 bits."""
    if pa.types.is_decimal(kind):
        return bool(kind.precision <= 18)
    return bool(pa.types.is_integer(kind) or pa.types.is_temporal(kind) or pa.types.is_boolean(kind))


def _mixed(values: Hashes) -> Hashes:
    """Every bit of the result depends on every bit of the value (the finalizer of SplitMix64)."""
    values = (values ^ (values >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    values = (values ^ (values >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return values ^ (values >> np.uint64(31))
