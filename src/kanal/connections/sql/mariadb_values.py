"""Values on their way into MariaDB or MySQL: what a column could not hold."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects import mysql as dialect

from kanal.connections.description import ColumnInfo
from kanal.connections.misfits import faults_where, negative_zeros, not_finite, too_fine, too_many_bytes
from kanal.core.arrays import text_bytes, valid_mask
from kanal.core.faults import Fault
from kanal.core.reasons import Reason
from kanal.core.types import Family

#: Bytes that a text type holds.
_TEXT_BYTES = {"TINYTEXT": 255, "TEXT": 65_535, "MEDIUMTEXT": 16_777_215}


_BINARY_BYTES = {"TINYBLOB": 255, "BLOB": 65_535, "MEDIUMBLOB": 16_777_215}


_FIRST_TIMESTAMP, _LAST_TIMESTAMP = 1_000_000, 2_147_483_647_999_999

#: Families whose equality compares all of a value.
_EXACT = {
    Family.INTEGER, Family.BOOLEAN, Family.DECIMAL, Family.DATE, Family.TIME, Family.TIMESTAMP, Family.TIMESTAMPTZ,
    Family.BINARY,
}  # fmt: skip


def exact_form(column: ColumnInfo, value: Any) -> Any:
    """A column's value in a form that is equal only if the value is displayed alike.

    Equality ignores the sign of zero and the differences that a text's collation ignores.
    """
    family = None if column.type is None else column.type.family
    if family in _EXACT:
        return value
    if family is Family.DOUBLE:  # of a FLOAT itself, the server would show 6 digits
        value = sa.cast(value, dialect.DOUBLE())
    return sa.cast(value, dialect.BINARY())


def years(values: pa.Array) -> pa.Array:
    """Years in four digits, without which the server takes 0 for 2000 and 70 for 1970."""
    return pc.utf8_lpad(values.cast(pa.string()), 4, "0")


def misfits(values: pa.Array, declared: Any) -> list[Fault]:
    """Faults for values that a column could not hold as they are."""
    name = type(declared).__name__.upper()
    kind = values.type
    if name == "YEAR" and pa.types.is_integer(kind):
        numbers = values.fill_null(0).to_numpy(zero_copy_only=False)
        bad = (numbers != 0) & ((numbers < 1901) | (numbers > 2155))
        message = "a YEAR holds 1901 to 2155, and 0000: declare it SMALLINT"
        return faults_where(values, bad, Reason.OUT_OF_RANGE, message)
    if pa.types.is_string(kind) and name in _TEXT_BYTES:
        most = _TEXT_BYTES[name]
        message = f"the column is {name} and holds {most:,} bytes: declare it LONGTEXT, or shorten it"
        return too_many_bytes(values, most, message)
    if pa.types.is_binary(kind):
        limit = _BINARY_BYTES.get(name) or (declared.length if name in ("BINARY", "VARBINARY") else None)
        return _wrong_bytes(values, limit, declared, exact=name == "BINARY") if limit else []
    if pa.types.is_floating(kind):
        found = not_finite(values, "MariaDB has no infinity and no NaN: map it with CASE")
        return found + negative_zeros(values, "MariaDB")
    if pa.types.is_timestamp(kind) and isinstance(declared, sa.TIMESTAMP):
        numbers = values.cast(pa.int64()).fill_null(_FIRST_TIMESTAMP).to_numpy(zero_copy_only=False)
        bad = (numbers < _FIRST_TIMESTAMP) | (numbers > _LAST_TIMESTAMP)
        message = "a TIMESTAMP holds 1970-01-01 00:00:01 to 2038-01-19 03:14:07 in UTC: declare the column DATETIME(6)"
        return faults_where(values, bad, Reason.OUT_OF_RANGE, message) + _too_fine(values, declared)
    if pa.types.is_timestamp(kind) or pa.types.is_time(kind):
        return _too_fine(values, declared)
    return []


def _too_fine(values: pa.Array, declared: Any) -> list[Fault]:
    digits = getattr(declared, "fsp", None) or 0
    if digits >= 6 or not isinstance(declared, dialect.DATETIME | dialect.TIMESTAMP | dialect.TIME):
        return []
    return too_fine(values, digits, "declare it with (6), or use date_trunc")


def _wrong_bytes(values: pa.Array, limit: int, declared: Any, exact: bool) -> list[Fault]:
    sizes = np.where(valid_mask(values), np.diff(text_bytes(values)[1]), limit)
    message = f"the column holds {limit:,} bytes: declare it LONGBLOB, or shorten it"
    found = too_many_bytes(values, limit, message)
    if exact:
        message = f"the column is BINARY({limit}) and would fill it up with zeros: declare it VARBINARY"
        found += faults_where(values, sizes < limit, Reason.BAD_TEXT, message)
    return found
