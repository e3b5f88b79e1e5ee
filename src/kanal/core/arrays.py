"""Small helpers between Arrow arrays and NumPy masks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kanal.core.types import SqlType

#: A column of a batch, or one value that represents a column of equal ones.
Datum = pa.Array | pa.Scalar
Mask = NDArray[np.bool_]


def mask_of(condition: pa.Array) -> Mask:
    """A boolean array as a NumPy mask; NULL counts as false."""
    if condition.null_count:
        condition = pc.fill_null(condition, False)
    return np.asarray(condition.to_numpy(zero_copy_only=False), dtype=np.bool_)


def valid_mask(values: pa.Array) -> Mask:
    """True if a value is not NULL."""
    if not values.null_count:
        return np.ones(len(values), dtype=np.bool_)
    return mask_of(values.is_valid())


def null_where_not(values: pa.Array, keep: Mask) -> pa.Array:
    """The values, with NULL wherever `keep` is false."""
    if keep.all():
        return values
    return pc.if_else(pa.array(keep), values, pa.scalar(None, values.type))


def patch(values: pa.Array, rows: Sequence[int] | NDArray[np.intp], replacements: Sequence[Any]) -> pa.Array:
    """The values with those at `rows` (ascending) replaced; the replacements are Python values."""
    if not len(rows):
        return values
    mask = np.zeros(len(values), dtype=np.bool_)
    mask[np.asarray(rows, dtype=np.intp)] = True
    return pc.replace_with_mask(values, pa.array(mask), pa.array(replacements, values.type))


def single(values: pa.Array | pa.ChunkedArray) -> pa.Array:
    """One contiguous array of what may be chunks."""
    if isinstance(values, pa.ChunkedArray):
        return values.combine_chunks() if values.num_chunks != 1 else values.chunk(0)
    return values


def text_bytes(values: pa.Array) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """The bytes of a text or binary array, and where each value starts in them (one more offset than values).

    NULLs have a length that means nothing; mask them.
    """
    wide = pa.types.is_large_string(values.type) or pa.types.is_large_binary(values.type)
    _, offsets, data = values.buffers()
    dtype = np.int64 if wide else np.int32
    starts: NDArray[Any] = np.zeros(1, dtype=dtype)
    if len(values):
        starts = np.frombuffer(offsets, dtype=dtype)[values.offset : values.offset + len(values) + 1]
    content = np.frombuffer(data, dtype=np.uint8) if data is not None else np.zeros(0, dtype=np.uint8)
    return content, starts.astype(np.int64)


def is_ascii(values: pa.Array) -> bool:
    """True for texts of ASCII alone, for which Arrow's quicker kernels do."""
    content, starts = text_bytes(values)
    return not len(values) or int(content[starts[0] : starts[-1]].max(initial=0)) < 128


def from_unscaled(numbers: NDArray[np.int64], sql_type: SqlType, valid: Mask) -> pa.Array:
    """Decimals of a type from their digits as whole numbers: 1234 is 12.34 at scale 2. NULL where not valid.

    The numbers must fit the type.
    """
    # A decimal of Arrow is a whole number of 128 bits: here the number and its sign, carried on.
    halves = np.empty((len(numbers), 2), dtype=np.int64)
    halves[:, 0] = numbers
    halves[:, 1] = numbers >> 63
    missing = None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    precision, scale = sql_type.precision or 1, sql_type.scale or 0
    narrow = pa.decimal128(min(precision, 38), scale)
    return pa.Array.from_buffers(narrow, len(numbers), [missing, pa.py_buffer(halves)]).cast(sql_type.arrow)


def to_unscaled(values: pa.Array) -> NDArray[np.int64]:
    """The digits of decimals of at most 18 digits as whole numbers, 0 for NULL: the low half of Arrow's 128 bits."""
    wide = values.cast(pa.decimal128(38, values.type.scale))  # which may begin at another offset
    halves = np.frombuffer(wide.buffers()[1], dtype=np.int64)
    numbers: NDArray[np.int64] = halves[2 * wide.offset : 2 * (wide.offset + len(wide)) : 2]
    return np.where(valid_mask(values), numbers, 0)
