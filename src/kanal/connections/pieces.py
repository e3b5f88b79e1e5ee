"""Many pieces of bytes at once, as they lie in a buffer."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kanal.core.arrays import Mask, text_bytes

Bytes = NDArray[np.uint8]
Places = NDArray[np.int64]


def every_place(content: Bytes, size: int) -> NDArray[np.void]:
    """A view of the bytes as items of a size that begin at every byte."""
    return np.ndarray((max(0, len(content) - size + 1),), dtype=f"V{size}", buffer=content.data, strides=(1,))


def joined_lines(fields: Sequence[pa.Array], delimiter: str) -> memoryview:
    """The rows of these columns, which are of text without NULL, as lines of fields with a delimiter between them."""
    ends = pc.binary_join_element_wise(fields[-1], pa.scalar("\n"), pa.scalar(""))
    lines = pc.binary_join_element_wise(
        *(field.cast(pa.large_string()) for field in [*fields[:-1], ends]), pa.scalar(delimiter, pa.large_string())
    )
    content, starts = text_bytes(lines)
    return memoryview(content.data)[int(starts[0]) : int(starts[-1])]


def array_of_pieces(source: Bytes, starts: Places, sizes: Places, valid: Mask, kind: pa.DataType) -> pa.Array:
    """An Arrow array of texts or bytes that lie in a buffer, one behind the other; NULL where not valid."""
    count = len(starts)
    wide = len(source) > np.iinfo(np.int32).max
    if wide:
        kind = pa.large_string() if pa.types.is_string(kind) else pa.large_binary()
    # The pieces and what lies between them are the values of one array, of which every second is taken.
    offsets = np.empty(2 * count + 1, dtype=np.int64 if wide else np.int32)
    offsets[0:-1:2] = starts
    offsets[1::2] = starts + sizes
    offsets[-1] = offsets[-2] if count else 0
    whole = pa.Array.from_buffers(kind, 2 * count, [None, pa.py_buffer(offsets), pa.py_buffer(source)])
    chosen = np.arange(0, 2 * count, 2, dtype=np.int64)
    return whole.take(pa.array(chosen, mask=None if valid.all() else ~valid))
