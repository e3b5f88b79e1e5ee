"""Rows as PostgreSQL's COPY sends them in binary form, whose fields are looked at only if they are asked for.

The form is described in the manual of PostgreSQL under COPY, "Binary Format"; that of numeric in its source, numeric.c,
numeric_send.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from itertools import accumulate
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.connections.misfits import DAY, bounds_of_years, moment_texts
from kanal.connections.pieces import Bytes, Places, array_of_pieces, every_place
from kanal.core.arrays import Mask, from_unscaled
from kanal.core.errors import KanalError
from kanal.core.frame import Strays
from kanal.core.types import BINARY, Family, SqlType

#: Of types of fixed length, the form of their bytes.
_FORMS = {
    Family.DOUBLE: ">f8", Family.BOOLEAN: "u1", Family.DATE: ">i4", Family.TIME: ">i8", Family.TIMESTAMP: ">i8",
    Family.TIMESTAMPTZ: ">i8",
}  # fmt: skip
_BY_NAME = {"smallint": ">i2", "integer": ">i4", "bigint": ">i8", "real": ">f4"}
#: What stands before each field.
LENGTH = np.dtype(">i4")
#: Bytes in which each row says, before its first field, how many fields it has.
COUNT = 2
#: What a field of a numeric begins with: how many digits of base 10,000, what the first of them counts, the sign, and
#: how many decimals.
_NUMERIC = np.dtype([("digits", ">i2"), ("weight", ">i2"), ("sign", ">u2"), ("scale", ">i2")])
_NEGATIVE, _NO_NUMBER = 0x4000, 0xC000
_ENDLESS = {0xD000: "Infinity", 0xF000: "-Infinity"}

#: What the server counts dates and moments from, as Arrow counts it.
DAYS_TO_2000, MICROSECONDS_TO_2000 = 10_957, 946_684_800_000_000


def _wrong_form(sql_type: SqlType) -> KanalError:
    what = f"a column described as {sql_type} came in another form"
    return KanalError(what, "convert it in the source's query, for instance by CAST")


def form_of(sql_type: SqlType) -> str | None:
    """The form of a type's bytes, as NumPy names it; None if their number differs from row to row."""
    return _BY_NAME.get(sql_type.name) or _FORMS.get(sql_type.family)


def spare_bytes(stored: Sequence[SqlType]) -> int:
    """How many bytes must follow the last row, so that its fields can be looked at like those of others."""
    return 32 + sum(12 for sql_type in stored if form_of(sql_type) is not None)


def most_rows(size: int, stored: Sequence[SqlType]) -> int:
    """How many rows a batch may have, so that what is known of their fields takes no more than a size: for each field
    where it begins, its length, and a piece of what is written."""
    return max(1, size // (3 * np.dtype(np.int64).itemsize * max(1, len(stored))))


class CopiedRows:
    """Rows of a COPY: a buffer, and where the first field of each row begins in it, behind the number of its fields.

    From `free` on, the buffer may be used for what is laid out next to the rows.
    """

    def __init__(self, content: Bytes, starts: Places, stored: Sequence[SqlType], free: int | None = None) -> None:
        self.content = content
        self.starts = starts
        self.stored = stored
        self.free = len(content) if free is None else free
        self.rows = len(starts)
        self._known: list[Places] = []
        self._sizes: dict[int, Places] = {}

    def forget(self) -> None:
        """Give up what is known of the fields."""
        self._known, self._sizes = [], {}
        self.__dict__.pop("_leading", None)

    @cached_property
    def _leading(self) -> tuple[list[int], NDArray[Any] | None]:
        """Of the fields of fixed length that come first in each row: where each begins and where the last one ends, in
        all rows, and their values side by side. None of them if a row has a NULL there."""
        forms = []
        for sql_type in self.stored:
            letters = form_of(sql_type)
            if letters is None:
                break
            forms.append(np.dtype(letters))
        parts = [
            (f"{kind}{place}", one) for place, form in enumerate(forms) for kind, one in (("n", LENGTH), ("v", form))
        ]
        if not parts or not self.rows:
            return [0], None
        block = every_place(self.content, np.dtype(parts).itemsize)[self.starts].view(np.dtype(parts))
        if not all((block[f"n{place}"] == form.itemsize).all() for place, form in enumerate(forms)):
            return [0], None
        return [0, *accumulate(LENGTH.itemsize + form.itemsize for form in forms)], block

    @property
    def _fixed(self) -> int:
        """How many fields these are."""
        return len(self._leading[0]) - 1

    def begins(self, field: int) -> Places:
        """Where a field's length is in each row; for the number of fields, where each row ends."""
        if field <= self._fixed:
            return self.starts + self._leading[0][field]
        self._known = self._known or [self.begins(self._fixed)]
        while len(self._known) <= field - self._fixed:
            last = self._fixed + len(self._known) - 1
            self._known.append(self._known[-1] + 4 + np.maximum(self.sizes(last), 0))
        return self._known[field - self._fixed]

    def sizes(self, field: int) -> Places:
        """The length of a field in each row, -1 for NULL."""
        if field < self._fixed:
            begin, end = self._leading[0][field : field + 2]
            return np.full(self.rows, end - begin - LENGTH.itemsize, dtype=np.int64)
        if field not in self._sizes:
            self._sizes[field] = every_place(self.content, 4)[self.begins(field)].view(LENGTH).astype(np.int64)
        return self._sizes[field]

    def has_nulls(self, field: int) -> bool:
        """True if a row has a NULL there."""
        return field >= self._fixed and bool((self.sizes(field) < 0).any())

    def take(self, rows: NDArray[np.intp]) -> CopiedRows:
        """Some of the rows."""
        return CopiedRows(self.content, self.starts[rows], self.stored, self.free)

    def alone(self) -> CopiedRows:
        """The same rows in a buffer of their own, which holds nothing else than what lies between them."""
        if not self.rows:
            return CopiedRows(np.zeros(0, np.uint8), self.starts, self.stored)
        hindmost = self.take(np.array([self.starts.argmax()]))
        first, last = int(self.starts.min()) - COUNT, int(hindmost.begins(len(self.stored))[0])
        content = np.zeros(last - first + spare_bytes(self.stored), dtype=np.uint8)
        content[: last - first] = self.content[first:last]
        return CopiedRows(content, self.starts - first, self.stored)

    def __reduce__(self) -> tuple[Any, ...]:
        alone = self.alone()
        return CopiedRows, (alone.content, alone.starts, alone.stored)

    def goes_on(self, field: int) -> bool:
        """True if a field holds no value in any row that Kanal's type cannot hold."""
        sql_type = self.stored[field]
        if sql_type.family is Family.DECIMAL:
            begin, sizes = self.begins(field), self.sizes(field)
            return not ((self._at(begin, _NUMERIC)["sign"] >= _NO_NUMBER) & (sizes >= 0)).any()
        if sql_type.family not in _BOUNDS:
            return True
        numbers, valid = self._numbers(field)
        low, high = _bounds(sql_type.family)
        return not (valid & ((numbers < low) | (numbers >= high))).any()

    def _at(self, begin: Places, form: np.dtype[Any]) -> NDArray[Any]:
        """What stands behind the lengths at these places."""
        return every_place(self.content, form.itemsize)[begin + 4].view(form)

    def _numbers(self, field: int) -> tuple[NDArray[Any], Mask]:
        """The numbers of a field of fixed length, and which are not NULL."""
        form = np.dtype(form_of(self.stored[field]))
        block = self._leading[1]
        if block is not None and field < self._fixed:
            return block[f"v{field}"].astype(form.newbyteorder("=")), np.ones(self.rows, dtype=np.bool_)
        sizes = self.sizes(field)
        valid = sizes >= 0
        if not (sizes[valid] == form.itemsize).all():
            raise _wrong_form(self.stored[field])
        return self._at(self.begins(field), form).astype(form.newbyteorder("=")), valid

    def column(self, field: int) -> tuple[pa.Array, Strays]:
        """A field of all rows in the Arrow type of its SQL type, and by row the values that this cannot hold."""
        sql_type = self.stored[field]
        if sql_type.family is Family.DECIMAL:
            return self._decimals(field)
        if form_of(sql_type) is None:
            sizes = self.sizes(field)
            kind = pa.binary() if sql_type == BINARY else pa.string()
            return array_of_pieces(self.content, self.begins(field) + 4, np.maximum(sizes, 0), sizes >= 0, kind), {}
        numbers, valid = self._numbers(field)
        if sql_type.family in _BOUNDS:
            return _temporal(numbers, valid, sql_type)
        if sql_type.family is Family.BOOLEAN:
            numbers = numbers.astype(np.bool_)
        return pa.array(numbers, mask=None if valid.all() else ~valid), {}

    def _decimals(self, field: int) -> tuple[pa.Array, Strays]:
        """Numerics, as whole numbers of the last decimal of their type; what is no number is a stray."""
        sql_type = self.stored[field]
        begin, valid = self.begins(field), self.sizes(field) >= 0
        head = self._at(begin, _NUMERIC)
        strays: Strays = {}
        wrong = valid & (head["sign"] >= _NO_NUMBER)
        if wrong.any():
            strays = {row: _ENDLESS.get(int(head["sign"][row]), "NaN") for row in np.flatnonzero(wrong).tolist()}
            valid = valid & ~wrong
        count = np.where(valid, head["digits"].astype(np.int64), 0)
        power = 4 * head["weight"].astype(np.int64) + (sql_type.scale or 0)
        total = np.zeros(self.rows, dtype=np.int64)
        most = int(count.max(initial=0))
        if most > _MOST_DIGITS:
            raise _wrong_form(sql_type)
        for place in range(most):
            digits = self._at(begin + _NUMERIC.itemsize + 2 * place, np.dtype(">i2")).astype(np.int64)
            digits = np.where(place < count, digits, 0)
            up = _POWERS[np.clip(power, 0, len(_POWERS) - 1)]
            down = _POWERS[np.clip(-power, 0, len(_POWERS) - 1)]
            total += digits * up // down
            power = power - 4
        return from_unscaled(np.where(head["sign"] == _NEGATIVE, -total, total), sql_type, valid), strays


#: Digits of base 10,000 of which a decimal of at most 18 digits can consist.
_MOST_DIGITS = 6
_POWERS = 10 ** np.arange(19, dtype=np.int64)
_BOUNDS = frozenset({Family.DATE, Family.TIME, Family.TIMESTAMP, Family.TIMESTAMPTZ})


def _bounds(family: Family) -> tuple[int, int]:
    """The first number of a type of dates or times that Kanal's type holds, and the first that it no longer does."""
    if family is Family.TIME:
        return 0, DAY
    return bounds_of_years(*((1, DAYS_TO_2000) if family is Family.DATE else (DAY, MICROSECONDS_TO_2000)))


def _temporal(numbers: NDArray[Any], valid: Mask, sql_type: SqlType) -> tuple[pa.Array, Strays]:
    """Dates or timestamps of the years 1 to 9999, or times of a day, from the server's numbers; others are strays."""
    family, strays = sql_type.family, dict[int, str | bytes]()
    numbers = numbers.astype(np.int64)
    low, high = _bounds(family)
    beyond = valid & ((numbers < low) | (numbers >= high))
    if beyond.any():
        strays = {row: _stray(int(numbers[row]), family) for row in np.flatnonzero(beyond).tolist()}
        valid = valid & ~beyond
        numbers = np.where(beyond, 0, numbers)
    if family is not Family.TIME:
        numbers = numbers + (DAYS_TO_2000 if family is Family.DATE else MICROSECONDS_TO_2000)
    whole = pa.array(numbers, mask=None if valid.all() else ~valid)
    return (whole.cast(pa.int32()) if family is Family.DATE else whole).cast(sql_type.arrow), strays


def _stray(number: int, family: Family) -> str:
    """The text of a date, time or moment that Kanal's type cannot hold, as the server reads it."""
    if family is Family.TIME:
        return "24:00:00"
    bits = 31 if family is Family.DATE else 63
    if number in (2**bits - 1, -(2**bits)):
        return "infinity" if number > 0 else "-infinity"
    day, epoch = (1, DAYS_TO_2000) if family is Family.DATE else (DAY, MICROSECONDS_TO_2000)
    date, clock, before = moment_texts(number, day, epoch)
    zone = "+00" if family is Family.TIMESTAMPTZ else ""
    return f"{date} {clock}".rstrip() + zone + (" BC" if before else "")
