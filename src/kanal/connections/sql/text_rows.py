"""Writes Arrow batches as lines of text: fields parted by tabs, NULL as \\N, and a backslash before what is special.

PostgreSQL's COPY and MariaDB's LOAD DATA take this form by default.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.connections.pieces import joined_lines
from kanal.core.arrays import patch, text_bytes, valid_mask
from kanal.core.conversions import converter
from kanal.core.native import taken_as
from kanal.core.types import TEXT, SqlType

#: What is special in the form, each with what represents it; the backslash first.
_ESCAPES = (("\\", "\\\\"), ("\t", "\\t"), ("\n", "\\n"), ("\r", "\\r"))


def text_rows(columns: Sequence[pa.Array]) -> memoryview:
    """The rows of these columns, which are of text, as lines."""
    return joined_lines([pc.fill_null(_escaped(values), "\\N") for values in columns], "\t")


def _escaped(values: pa.Array) -> pa.Array:
    content, starts = text_bytes(values)
    present = content[starts[0] : starts[-1]].tobytes()
    for special, instead in _ESCAPES:
        if special.encode() in present:
            values = pc.replace_substring(values, special, instead)
    return values


def cast_to_text(values: pa.Array) -> pa.Array:
    """Values of any type as a database reads them from text; booleans as 0 and 1, bytes in hexadecimal digits."""
    values = taken_as(values)
    kind = values.type
    if pa.types.is_string(kind):
        return values
    if pa.types.is_decimal(kind):
        return converter(SqlType("decimal", precision=kind.precision, scale=kind.scale), TEXT)(values)[0]
    if pa.types.is_boolean(kind):
        return values.cast(pa.int8()).cast(pa.string())
    if pa.types.is_binary(kind):
        texts = [value.hex() for value in values.drop_null().to_pylist()]
        return patch(pa.nulls(len(values), pa.string()), np.flatnonzero(valid_mask(values)), texts)
    if pa.types.is_timestamp(kind) and kind.tz:
        return values.cast(pa.timestamp("us")).cast(pa.string())
    return values.cast(pa.string())
