"""Writes Arrow batches as PostgreSQL's COPY takes them in binary form.

The form is described in the manual of PostgreSQL under COPY, "Binary Format". Rows of differing lengths are laid out
with NumPy: the place of each field in the buffer is computed for all rows at once, and fields of one length are then
copied all at once.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.connections.pieces import Bytes, Places, copy_pieces, every_place
from kanal.core.arrays import Mask, text_bytes, to_unscaled, valid_mask

HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"

_DAYS_TO_2000 = 10_957
_MICROSECONDS_TO_2000 = 946_684_800_000_000
#: Digits that a decimal may have, to be laid out here.
MAX_DIGITS = 18


def takes(values: pa.DataType) -> bool:
    """True for an Arrow type whose values can be laid out."""
    if pa.types.is_decimal(values):
        return bool(values.precision <= MAX_DIGITS)
    return bool(
        pa.types.is_signed_integer(values)
        or pa.types.is_floating(values)
        or pa.types.is_boolean(values)
        or pa.types.is_string(values)
        or pa.types.is_binary(values)
        or pa.types.is_temporal(values)
    )


def binary_rows(columns: Sequence[pa.Array]) -> memoryview:
    """The rows of these columns, with header and trailer."""
    rows = len(columns[0])
    fields = _fields(columns)
    lengths = [field.lengths() for field in fields]
    whole = np.zeros(rows, dtype=np.int64)
    for length in lengths:
        whole += length
    ends = np.cumsum(whole) + len(HEADER)
    size = int(ends[-1]) if rows else len(HEADER)
    out = np.empty(size + len(TRAILER), dtype=np.uint8)
    out[: len(HEADER)] = np.frombuffer(HEADER, dtype=np.uint8)
    places = ends - whole
    for field, length in zip(fields, lengths, strict=True):
        field.write(out, places)
        places += length
    out[size:] = np.frombuffer(TRAILER, dtype=np.uint8)
    return memoryview(out.data)


def _fields(columns: Sequence[pa.Array]) -> list[_Field]:
    """The fields of a row, those of fixed length without NULLs that stand side by side as one."""
    fields: list[_Field] = []
    together = [_bare(len(columns[0]), len(columns).to_bytes(2, "big"))]
    for values in columns:
        if pa.types.is_string(values.type) or pa.types.is_binary(values.type):
            alone: _Field = _Variable(values)
        else:
            payload = _payload(values)
            parts = [_bare(len(values), payload.shape[1].to_bytes(4, "big")), payload]
            if not values.null_count:
                together += parts
                continue
            alone = _Fixed(np.concatenate(parts, axis=1), valid_mask(values))
        if together:
            fields.append(_Fixed(np.concatenate(together, axis=1)))
        fields.append(alone)
        together = []
    if together:
        fields.append(_Fixed(np.concatenate(together, axis=1)))
    return fields


def _bare(rows: int, content: bytes) -> Bytes:
    """The same bytes for each row."""
    return np.broadcast_to(np.frombuffer(content, dtype=np.uint8), (rows, len(content)))


class _Field:
    """A field of every row, or several that stand side by side."""

    def lengths(self) -> NDArray[np.int64] | int:
        """The bytes that it takes in each row."""
        raise NotImplementedError

    def write(self, out: Bytes, places: Places) -> None:
        """Put it into the buffer at these places, one for each row."""
        raise NotImplementedError


class _Fixed(_Field):
    """Fields of a fixed length, their lengths before them: a row of bytes for each row. NULLs only in one alone."""

    def __init__(self, block: Bytes, valid: Mask | None = None) -> None:
        self.block = block
        self.valid = valid

    def lengths(self) -> NDArray[np.int64] | int:
        width = self.block.shape[1]
        return width if self.valid is None else np.where(self.valid, width, 4)

    def write(self, out: Bytes, places: Places) -> None:
        if self.valid is None:
            _scatter(out, places, self.block)
            return
        _scatter(out, places[self.valid], self.block[self.valid])
        _scatter(out, places[~self.valid], np.full((int((~self.valid).sum()), 4), 255, dtype=np.uint8))


class _Variable(_Field):
    """Texts or bytes, their lengths before them."""

    def __init__(self, values: pa.Array) -> None:
        self.content, starts = text_bytes(values)
        self.valid = valid_mask(values)
        self.starts = starts[:-1]
        self.sizes = np.where(self.valid, np.diff(starts), 0)

    def lengths(self) -> NDArray[np.int64]:
        return self.sizes + 4

    def write(self, out: Bytes, places: Places) -> None:
        counts = np.where(self.valid, self.sizes, -1).astype(">i4")
        _scatter(out, places, counts.view(np.uint8).reshape(-1, 4))
        copy_pieces(self.content, self.starts, self.sizes, out, places + 4)


def _scatter(out: Bytes, places: Places, block: Bytes) -> None:
    if len(places):
        size = block.shape[1]
        every_place(out, size)[places] = np.ascontiguousarray(block).view(f"V{size}").ravel()


def _payload(values: pa.Array) -> Bytes:
    """The bytes of a type of fixed length; anything for NULL."""
    kind = values.type
    if pa.types.is_decimal(kind):
        return _decimal_payload(values)
    if pa.types.is_boolean(kind):
        return _numbers(values.cast(pa.uint8()), "u1")
    if pa.types.is_date(kind):
        return _numbers(values.cast(pa.int32()), ">i4", _DAYS_TO_2000)
    if pa.types.is_timestamp(kind):
        return _numbers(values.cast(pa.int64()), ">i8", _MICROSECONDS_TO_2000)
    if pa.types.is_time(kind):
        return _numbers(values.cast(pa.int64()), ">i8")
    letter = "f" if pa.types.is_floating(kind) else "i"
    return _numbers(values, f">{letter}{kind.bit_width // 8}")


def _numbers(values: pa.Array, form: str, epoch: int = 0) -> Bytes:
    numbers = values.fill_null(0).to_numpy(zero_copy_only=False)
    if epoch:
        numbers = numbers - epoch
    laid = numbers.astype(form)
    content: Bytes = laid.view(np.uint8).reshape(len(values), laid.itemsize)
    return content


def _decimal_payload(values: pa.Array) -> Bytes:
    """Decimals in digits of base 10,000, always as many; the server drops those that are 0 at either end."""
    precision, scale = values.type.precision, values.type.scale
    unscaled = to_unscaled(values)
    amount = np.abs(unscaled)
    whole, fraction = amount // 10**scale, amount % 10**scale
    whole_groups, fraction_groups = -(-(precision - scale) // 4), -(-scale // 4)
    out = np.empty((len(values), 4 + whole_groups + fraction_groups), dtype=">i2")
    out[:, 0] = whole_groups + fraction_groups
    out[:, 1] = whole_groups - 1
    out[:, 2] = np.where(unscaled < 0, 0x4000, 0)
    out[:, 3] = scale
    for place in range(whole_groups - 1, -1, -1):
        whole, out[:, 4 + place] = np.divmod(whole, 10_000)
    left = scale % 4
    for place in range(whole_groups + fraction_groups - 1, whole_groups - 1, -1):
        if left:  # the last digits do not fill their group
            fraction, digits = np.divmod(fraction, 10**left)
            out[:, 4 + place] = digits * 10 ** (4 - left)
            left = 0
        else:
            fraction, out[:, 4 + place] = np.divmod(fraction, 10_000)
    return out.view(np.uint8).reshape(len(values), out.shape[1] * 2)
