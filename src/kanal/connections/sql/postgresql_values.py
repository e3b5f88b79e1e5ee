"""Values on their way into PostgreSQL: what a column could not hold, and the forms that COPY takes."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql as dialect

from kanal.connections.misfits import too_fine
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.text_rows import cast_to_text
from kanal.core.arrays import mask_of, text_bytes, valid_mask
from kanal.core.faults import Fault
from kanal.core.frame import Strays
from kanal.core.native import is_native, native_texts, taken_as
from kanal.core.reasons import Reason
from kanal.core.types import WIDE_DECIMAL


def misfits(values: pa.Array, declared: Any) -> list[Fault]:
    """Faults for values that a column could not hold."""
    if pa.types.is_string(values.type):
        found = _with_zero_character(values)
        if isinstance(declared, NamedType) and declared.text.lower() == "money":
            found += _not_as_money(values)
        elif isinstance(declared, dialect.JSONB):
            found += _with_doubled_names(values)
        return found
    if pa.types.is_temporal(values.type):
        return _too_fine(values, getattr(declared, "precision", None))
    return []


def _not_as_money(values: pa.Array) -> list[Fault]:
    """Faults for texts of which money would round a digit away."""
    rows = np.flatnonzero(mask_of(pc.match_substring_regex(values, r"[.,][0-9]{2}[0-9]*[1-9][^0-9]*$"))).tolist()
    message = "money keeps 2 decimals: round it, for instance with round(amount, 2), or declare the column numeric"
    return [Fault(row, Reason.WOULD_ROUND, values[row].as_py(), message) for row in rows]


def _with_doubled_names(values: pa.Array) -> list[Fault]:
    """Faults for JSON in which an object has a name twice, of which jsonb would keep the last alone."""
    faults = []

    def members(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        if len(dict(pairs)) < len(pairs):
            raise _Doubled
        return dict(pairs)

    for row, text in enumerate(values.to_pylist()):
        try:
            if text is not None:
                json.loads(text, object_pairs_hook=members, parse_int=str, parse_float=str)
        except _Doubled:
            message = "an object in it has a name twice, and jsonb would keep the last of them: declare the column json"
            faults.append(Fault(row, Reason.BAD_TEXT, text, message))
    return faults


class _Doubled(Exception):
    """An object of JSON has a name twice."""


def own_form(values: pa.Array, strays: Strays) -> pa.Array:
    """A column's values as the text that the server shows for them."""
    return native_texts(plain_text(values), strays)


def stored_form(values: pa.Array, declared: Any) -> pa.Array:
    """An array in the form in which COPY takes it for a column, in binary; one that stays in the server's own form is
    to go as text."""
    if is_native(values) and isinstance(declared, sa.Uuid | sa.JSON):
        values = taken_as(values)
    if isinstance(declared, sa.Uuid) and pa.types.is_string(values.type):
        return _uuid_bytes(values)
    if isinstance(declared, dialect.JSONB):
        return pc.binary_join_element_wise(pa.scalar(b"\x01"), values.cast(pa.binary()), pa.scalar(b""))
    return values


def plain_text(values: pa.Array) -> pa.Array:
    """Values as the text that a type's own reader in the server takes."""
    if is_native(values):
        return taken_as(values)
    if pa.types.is_binary(values.type):
        return pc.binary_join_element_wise(pa.scalar("\\x"), cast_to_text(values), pa.scalar(""))
    if pa.types.is_timestamp(values.type) and values.type.tz:
        return pc.binary_join_element_wise(cast_to_text(values), pa.scalar("+00"), pa.scalar(""))
    if pa.types.is_decimal(values.type) and values.type.precision == WIDE_DECIMAL.precision:
        # A numeric of any precision keeps the zeros that it is given.
        trimmed = pc.replace_substring_regex(cast_to_text(values), r"(\.[0-9]*?)0+$", r"\1")
        return pc.replace_substring_regex(trimmed, r"\.$", "")
    return cast_to_text(values)


def _with_zero_character(values: pa.Array) -> list[Fault]:
    content, starts = text_bytes(values)
    if not len(values) or not (content[starts[0] : starts[-1]] == 0).any():
        return []
    rows = np.flatnonzero(mask_of(pc.match_substring(values, "\0"))).tolist()
    message = "PostgreSQL's texts cannot hold the character of code 0: take it out, for instance with regexp_replace"
    return [Fault(row, Reason.BAD_TEXT, values[row].as_py(), message) for row in rows]


def _too_fine(values: pa.Array, precision: int | None) -> list[Fault]:
    """Faults for times with more decimals of a second than the column keeps."""
    if precision is None or precision >= 6 or pa.types.is_date(values.type):
        return []
    return too_fine(values, precision, "widen it, or use date_trunc")


def _uuid_bytes(values: pa.Array) -> pa.Array:
    """UUIDs in their usual text of 36 characters as their 16 bytes."""
    valid = valid_mask(values)
    content, starts = text_bytes(values.filter(pa.array(valid)))
    texts = content[starts[0] : starts[-1]].reshape(-1, 36)[:, _UUID_DIGITS]
    nibbles = np.where(texts >= ord("a"), texts - np.uint8(ord("a") - 10), texts - np.uint8(ord("0")))
    packed = (nibbles[:, 0::2] << 4) | nibbles[:, 1::2]
    found = np.zeros((len(values), 16), dtype=np.uint8)
    found[valid] = packed
    ends = np.arange(0, 16 * len(values) + 1, 16, dtype=np.int32)
    missing = None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(pa.binary(), len(values), [missing, pa.py_buffer(ends), pa.py_buffer(found)])


_UUID_DIGITS = [place for place in range(36) if place not in (8, 13, 18, 23)]
