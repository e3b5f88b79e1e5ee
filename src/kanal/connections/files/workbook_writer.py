"""Writes rows as workbooks."""

from __future__ import annotations

import datetime as dt
import io
import math
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import IO, Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from kanal.connections.files.formats import needed
from kanal.connections.files.workbook import EXACT
from kanal.connections.files.writer import Misfits, _faults
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType
from kanal.definition import Format

#: The most rows of a sheet, its header among them, and characters of a cell.
SHEET_ROWS, CELL_LENGTH = 1_048_576, 32_767
_MOST_DIGITS = 15


class Limit(Struct, frozen=True):
    """A kind of values that a format cannot hold unchanged: its name, its Arrow types, a function that finds them in a
    column, and the reason and message of a reject."""

    values: str
    applies: Callable[[pa.DataType], bool]
    beyond: Callable[[pa.Array], pa.Array]
    reason: Reason
    message: str


def _beyond_whole(values: pa.Array) -> pa.Array:
    return pc.or_(pc.greater(values, EXACT), pc.less(values, -EXACT))


def _beyond_digits(values: pa.Array) -> pa.Array:
    if values.type.precision <= _MOST_DIGITS:
        return pa.array(np.zeros(len(values), dtype=np.bool_))
    found = values.to_pylist()
    return pa.array([one is not None and len(one.normalize().as_tuple().digits) > _MOST_DIGITS for one in found])


def _beyond_floating(values: pa.Array) -> pa.Array:
    """Numbers that are others once they are written with 16 digits."""
    found = values.cast(pa.float64()).to_pylist()
    return pa.array([one is not None and math.isfinite(one) and float(f"{one:.16G}") != one for one in found])


def _has_date(kind: pa.DataType) -> bool:
    return bool(pa.types.is_date(kind) or (pa.types.is_timestamp(kind) and kind.tz is None))


def _has_time(kind: pa.DataType) -> bool:
    return bool(pa.types.is_time(kind) or (pa.types.is_timestamp(kind) and kind.tz is None))


def _beyond_days(values: pa.Array) -> pa.Array:
    # Workbooks count 1900 as a leap year, so programs disagree about its first days.
    return pc.less(values.cast(pa.date32()), pa.scalar(dt.date(1900, 3, 1)))


def _finer(values: pa.Array) -> pa.Array:
    return pc.not_equal(pc.microsecond(values), 0)


class WorkbookWriter:
    """A workbook of one sheet: numbers, dates, times and true or false as such, all else as text, never a formula."""

    texts: ClassVar[bool] = False
    most_rows: ClassVar[int | None] = SHEET_ROWS - 1
    #: All that a cell cannot hold unchanged.
    limits: ClassVar[tuple[Limit, ...]] = (
        Limit("whole numbers above 9,007,199,254,740,992", pa.types.is_integer, _beyond_whole, Reason.OUT_OF_RANGE,
              f"a workbook holds {_MOST_DIGITS} digits exactly: convert it to text"),
        Limit("decimals of more than 15 digits", pa.types.is_decimal, _beyond_digits, Reason.OUT_OF_RANGE,
              f"a workbook holds {_MOST_DIGITS} digits exactly: convert it to text"),
        Limit("infinity and NaN", pa.types.is_floating, lambda values: pc.invert(pc.is_finite(values)),
              Reason.OUT_OF_RANGE, "a workbook has no such number: leave it out"),
        Limit("floating-point numbers that take more than 16 digits, such as 0.1 + 0.2", pa.types.is_floating,
              _beyond_floating, Reason.WOULD_ROUND, "a workbook keeps 16 digits of it: round it, or make it text"),
        Limit("empty text", pa.types.is_string, lambda values: pc.equal(values, ""), Reason.BAD_TEXT,
              "a workbook has no empty text: make it NULL by NULLIF(…, '')"),
        Limit(f"text of more than {CELL_LENGTH:,} characters", pa.types.is_string,
              lambda values: pc.greater(pc.utf8_length(values), CELL_LENGTH), Reason.TOO_LONG,
              f"a cell holds {CELL_LENGTH:,} characters"),
        Limit("dates before 1900-03-01", _has_date, _beyond_days, Reason.OUT_OF_RANGE,
              "a workbook holds days from 1900-03-01 on: convert it to text"),
        Limit("times finer than a thousandth of a second", _has_time, _finer,
              Reason.OUT_OF_RANGE, "a workbook holds times to a thousandth of a second: convert it to text"),
    )  # fmt: skip

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        xlsxwriter = needed("xlsxwriter", "excel", "a workbook is to be written")
        self._stream = stream
        self._content = io.BytesIO()
        self._book = xlsxwriter.Workbook(self._content, {"constant_memory": True, "default_date_format": "yyyy-mm-dd"})
        self._sheet = self._book.add_worksheet(str(form.sheet) if isinstance(form.sheet, str) else None)
        self._forms = {
            Family.DATE: self._book.add_format({"num_format": "yyyy-mm-dd"}),
            Family.TIME: self._book.add_format({"num_format": "hh:mm:ss"}),
            Family.TIMESTAMP: self._book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}),
        }
        self._types = types
        self._row = 1 if form.header else 0
        if form.header:
            for place, name in enumerate(names):
                self._sheet.write_string(0, place, name)

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        if ending != ".xlsx":
            raise KanalError(f"a workbook is written as .xlsx, not {ending}", "name it so")
        for name in ("skip_lines", "range"):
            if name in form.model_fields_set:
                raise KanalError(f"{name} is for workbooks that are read", "leave it out of the format of a target")
        return form

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        del form
        misfits: Misfits = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            for limit in cls.limits:
                if limit.applies(values.type):
                    misfits += _faults(name, values, limit.beyond(values), limit.reason, limit.message)
        return rows, misfits

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> Any:
        del form
        columns = []
        for values, kind in zip(rows.columns, types, strict=True):
            as_is = kind.family in (Family.INTEGER, Family.DECIMAL, Family.DOUBLE, Family.BOOLEAN, *_DAYS)
            texts = values if as_is or pa.types.is_string(values.type) else converter(kind, TEXT)(values)[0]
            columns.append(texts.to_pylist())
        return columns

    def add(self, encoded: Any) -> None:
        for row in zip(*encoded, strict=True):
            for place, value in enumerate(row):
                self._write(self._row, place, value)
            self._row += 1

    def _write(self, row: int, place: int, value: Any) -> None:
        sheet = self._sheet
        if value is None:
            return
        if isinstance(value, bool):
            sheet.write_boolean(row, place, value)
        elif isinstance(value, int | float | Decimal):
            sheet.write_number(row, place, value)
        elif isinstance(value, str):
            sheet.write_string(row, place, value)
        else:
            kind = Family.TIMESTAMP if isinstance(value, dt.datetime) else (
                Family.DATE if isinstance(value, dt.date) else Family.TIME)  # fmt: skip
            sheet.write_datetime(row, place, value, self._forms[kind])

    def finish(self) -> None:
        self._book.close()
        self._stream.write(self._content.getbuffer())


_DAYS = (Family.DATE, Family.TIME, Family.TIMESTAMP)
