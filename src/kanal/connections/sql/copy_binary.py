"""Writes rows as PostgreSQL's COPY takes them in binary form.

The form is described in the manual of PostgreSQL under COPY, "Binary Format". What is new in each row is laid out with
NumPy, field by field; then Arrow gathers the pieces of all rows at once, as it takes values of an array. Fields that a
COPY has sent, and that go on unchanged, are such pieces too: they are never looked at.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kanal.connections.pieces import Bytes, Places
from kanal.connections.sql.copy_rows import COUNT, DAYS_TO_2000, LENGTH, MICROSECONDS_TO_2000, CopiedRows
from kanal.core.arrays import text_bytes, to_unscaled, valid_mask

HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"

#: Digits that a decimal may have, to be laid out here.
MAX_DIGITS = 18
#: More bytes than this need longer offsets.
_SHORT = 2**31 - 1


def takes(values: pa.DataType) -> bool:
    """True for an Arrow type whose values can be laid out."""
    if pa.types.is_decimal(values):
        return bool(values.precision <= MAX_DIGITS)
    return bool(
        pa.types.is_signed_integer(values)
        or pa.types.is_floating(values)
        or pa.types.is_boolean(values)
        or _varies(values)
        or pa.types.is_temporal(values)
    )


def _varies(values: pa.DataType) -> bool:
    return bool(pa.types.is_string(values) or pa.types.is_binary(values))


def place_in_row(values: pa.Array) -> int:
    """Where a column is best put in a row, the least first, so that as many as can be are laid out together."""
    return 2 if _varies(values.type) else 1 if values.null_count else 0


def binary_rows(
    columns: Sequence[pa.Array], copied: CopiedRows | None = None, carried: Sequence[int] = ()
) -> memoryview:
    """The rows, which go between header and trailer: first those fields of copied rows that are named, in ascending
    order, then these columns."""
    fields = len(columns) + len(carried)
    pieces = _Pieces(copied.rows if copied is not None else len(columns[0]))
    if copied is not None and carried:
        pieces.add_copied(copied, carried, fields)
    pieces.add_fixed()
    _lay_out(pieces, columns, b"" if carried else fields.to_bytes(2, "big"))
    return pieces.gathered()


class _Pieces:
    """Pieces of every row, in order, as they lie in buffers one behind the other."""

    def __init__(self, rows: int) -> None:
        self.rows = rows
        self._buffers: list[Bytes] = []
        self._size = 0
        #: The buffer that begins with the first of these, if others may be put behind it there.
        self._room: Bytes | None = None
        #: Where each piece begins, which is where the one before it ends.
        self._edges: list[Places] = []
        self._count = 0
        #: For each row, which piece comes next.
        self._chosen: list[NDArray[np.int64]] = []

    def add_fixed(self) -> None:
        """Add what is the same for all rows."""
        #: The piece that is a NULL, and the one that is nothing.
        self.null = self.add_buffer(np.frombuffer(_NULL, np.uint8), _FIXED_EDGES)
        self.nothing = self.null + 1

    def add_buffer(self, content: Bytes, edges: Places) -> int:
        """Add pieces of a buffer, by where each begins, and where the last one ends; the number of the first."""
        first = self._count
        self._edges.append(edges)
        self._buffers.append(content)
        self._size += len(content)
        self._count += len(edges)
        return first

    def choose(self, numbers: NDArray[np.int64]) -> None:
        """Have a piece come next in each row."""
        self._chosen.append(numbers)

    def add_block(self, block: Bytes) -> NDArray[np.int64]:
        """Add a piece of the same length for each row; their numbers."""
        first = self.add_buffer(block.reshape(-1), np.arange(self.rows + 1) * block.shape[1])
        return np.arange(first, first + self.rows)

    def add_copied(self, copied: CopiedRows, carried: Sequence[int], fields: int) -> None:
        """Have the number of fields come next in each row, and then fields of copied rows, those that stand side by
        side as one piece."""
        # The rows that were copied begin with their number of fields, which may be the same.
        same = carried[0] == 0 and fields == len(copied.stored)
        runs: list[tuple[int, int]] = []
        for field in carried:
            if runs and runs[-1][1] == field:
                runs[-1] = runs[-1][0], field + 1
            else:
                runs.append((field, field + 1))
        cuts = [edge for run in runs for edge in run]
        edges = np.empty((self.rows, len(cuts)), dtype=np.int64)
        for place, cut in enumerate(cuts):
            edges[:, place] = copied.begins(cut) - (COUNT if same and not place else 0)
        first = self.add_buffer(copied.content[: copied.free], edges.reshape(-1))
        self._room = copied.content
        if not same:
            count = self.add_buffer(np.frombuffer(fields.to_bytes(COUNT, "big"), np.uint8), np.array([0, COUNT]))
            self.choose(np.full(self.rows, count))
        for place in range(0, len(cuts), 2):
            self.choose(np.arange(self.rows) * len(cuts) + (first + place))

    def gathered(self) -> memoryview:
        """All of it."""
        if not self.rows:
            return memoryview(b"")
        form_of_numbers = np.int32 if self._count < _SHORT else np.int64
        order = np.empty((self.rows, len(self._chosen)), dtype=form_of_numbers)
        for place, chosen in enumerate(self._chosen):
            order[:, place] = chosen
        # No piece is longer than all buffers; those that are taken for many rows are a NULL's or a number of fields.
        wide = self._size + order.size * len(_NULL) > _SHORT
        kind, form = (pa.large_binary(), np.int64) if wide else (pa.binary(), np.int32)
        edges = np.empty(self._count, dtype=form)
        in_place = self._room is not None and self._size <= len(self._room)
        whole = self._room if self._room is not None and in_place else np.empty(self._size, dtype=np.uint8)
        place = size = 0
        for some, content in zip(self._edges, self._buffers, strict=True):
            np.add(some, size, out=edges[place : place + len(some)], casting="unsafe")
            if size or not in_place:
                whole[size : size + len(content)] = content
            place, size = place + len(some), size + len(content)
        every = pa.Array.from_buffers(kind, self._count - 1, [None, pa.py_buffer(edges), pa.py_buffer(whole)])
        taken = pc.take(every, pa.array(order.reshape(-1)), boundscheck=False)
        ends = np.frombuffer(taken.buffers()[1], form)
        return memoryview(taken.buffers()[2])[: int(ends[order.size])]


_NULL = b"\xff\xff\xff\xff"
_FIXED_EDGES = np.array([0, len(_NULL), len(_NULL)])


def _lay_out(pieces: _Pieces, columns: Sequence[pa.Array], count: bytes) -> None:
    """Have the number of fields come next in each row, if it is not there yet, and then the columns."""
    together: list[tuple[Any, Any]] = [(np.dtype("V2"), np.void(count))] if count else []
    for values in columns:
        if _varies(values.type):
            content, edges = text_bytes(values)
            valid = valid_mask(values)
            sizes = np.diff(edges)
            if values.null_count:
                sizes = np.where(valid, sizes, -1)
            together.append((LENGTH, sizes))
            pieces.choose(pieces.add_block(_block(together, pieces.rows)))
            together = []
            first = pieces.add_buffer(content[: int(edges[-1])], edges)
            numbers = np.arange(first, first + pieces.rows)
            pieces.choose(np.where(valid, numbers, pieces.nothing) if values.null_count else numbers)
            continue
        payload = _payload(values)
        size = payload.dtype.itemsize * (payload.shape[1] if payload.ndim > 1 else 1)
        form = np.dtype((payload.dtype, payload.shape[1:]))
        field = [(LENGTH, size), (form, payload)]
        if not values.null_count:
            together += field
            continue
        if together:
            pieces.choose(pieces.add_block(_block(together, pieces.rows)))
            together = []
        numbers = pieces.add_block(_block(field, pieces.rows))
        pieces.choose(np.where(valid_mask(values), numbers, pieces.null))
    if together:
        pieces.choose(pieces.add_block(_block(together, pieces.rows)))


def _block(parts: Sequence[tuple[Any, Any]], rows: int) -> Bytes:
    """Parts of fixed length side by side, each of its form and with its values or the one for all rows."""
    block = np.empty(rows, dtype=[(str(place), form) for place, (form, _) in enumerate(parts)])
    for place, (_, values) in enumerate(parts):
        block[str(place)] = values
    found: Bytes = block.view(np.uint8).reshape(rows, block.dtype.itemsize)
    return found


def _payload(values: pa.Array) -> NDArray[Any]:
    """The values of a type of fixed length as the server takes them; anything for NULL."""
    kind = values.type
    if pa.types.is_decimal(kind):
        return _decimal_payload(values)
    if pa.types.is_boolean(kind):
        return _numbers(values.cast(pa.uint8()), "u1")
    if pa.types.is_date(kind):
        return _numbers(values.cast(pa.int32()), ">i4", DAYS_TO_2000)
    if pa.types.is_timestamp(kind):
        return _numbers(values.cast(pa.int64()), ">i8", MICROSECONDS_TO_2000)
    if pa.types.is_time(kind):
        return _numbers(values.cast(pa.int64()), ">i8")
    letter = "f" if pa.types.is_floating(kind) else "i"
    return _numbers(values, f">{letter}{kind.bit_width // 8}")


def _numbers(values: pa.Array, form: str, epoch: int = 0) -> NDArray[Any]:
    numbers = values.fill_null(0).to_numpy(zero_copy_only=False)
    found: NDArray[Any] = (numbers - epoch if epoch else numbers).astype(form)
    return found


def _decimal_payload(values: pa.Array) -> NDArray[Any]:
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
    return out
