"""What PostgreSQL sends, as batches of Kanal's types."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from kanal.connections.sql.postgresql_types import NOT_A_NUMBER
from kanal.core.arrays import from_unscaled, valid_mask
from kanal.core.frame import SourceBatch, Strays
from kanal.core.types import Family, SqlType

_DAY = 86_400_000_000

_DAYS_TO_2000, _MICROSECONDS_TO_2000 = 10_957, 946_684_800_000_000

_FIRST, _LAST = -719_162, 2_932_896  # the days of 0001-01-01 and 9999-12-31, counted from 1970


def source_batch(rows: pa.RecordBatch, names: list[str], stored: list[SqlType]) -> SourceBatch:
    """Rows as they came, with the types in which the reader delivers them; values that these cannot hold are strays."""
    columns: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for place, name in enumerate(names):
        values, family = rows.column(place), stored[place].family
        if family in (Family.DATE, Family.TIME, Family.TIMESTAMP, Family.TIMESTAMPTZ):
            values = _temporal(name, values, stored[place], strays)
        elif family is Family.DECIMAL:
            values = _decimals(name, values, stored[place], strays)
        columns[name] = values
    return SourceBatch(rows.num_rows, columns, strays)


def _decimals(name: str, values: pa.Array, sql_type: SqlType, strays: dict[str, Strays]) -> pa.Array:
    """Decimals from whole numbers of their last digit; NaN becomes a stray."""
    numbers = values.fill_null(0).to_numpy(zero_copy_only=False)
    valid = valid_mask(values)
    least = numbers.min(initial=0)
    if least == NOT_A_NUMBER:
        strays[name] = dict.fromkeys(np.flatnonzero(numbers == NOT_A_NUMBER).tolist(), "NaN")
        valid &= numbers != NOT_A_NUMBER
        numbers = np.where(valid, numbers, 0)
    return from_unscaled(numbers, sql_type, valid)


def _temporal(name: str, values: pa.Array, sql_type: SqlType, strays: dict[str, Strays]) -> pa.Array:
    """Dates or timestamps of the years 1 to 9999, or times of a day, from the server's numbers; others are strays."""
    endless: dict[int, str] = {}
    family, numbers = sql_type.family, values.fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)
    if family is Family.TIME:
        low, high = 0, _DAY
    else:
        unit, epoch = (1, _DAYS_TO_2000) if family is Family.DATE else (_DAY, _MICROSECONDS_TO_2000)
        low, high = _FIRST * unit - epoch, (_LAST + 1) * unit - epoch
        bits = 31 if family is Family.DATE else 63
        endless = {2**bits - 1: "infinity", -(2**bits): "-infinity"}
    valid = valid_mask(values)
    beyond = valid & ((numbers < low) | (numbers >= high))
    if beyond.any():
        for row in np.flatnonzero(beyond).tolist():
            number = int(numbers[row])
            text = "24:00:00" if family is Family.TIME else "before the year 1" if number < 0 else "after the year 9999"
            strays.setdefault(name, {})[row] = endless.get(number, text)
        valid &= ~beyond
        numbers = np.where(beyond, 0, numbers)
    if family is not Family.TIME:
        numbers = numbers + epoch
    whole = pa.array(numbers, mask=None if valid.all() else ~valid)
    return (whole.cast(pa.int32()) if family is Family.DATE else whole).cast(sql_type.arrow)
