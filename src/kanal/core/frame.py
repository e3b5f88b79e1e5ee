"""A batch while it is worked on: its columns on demand, and the faults found in it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from kanal.core.arrays import Datum, Mask
from kanal.core.errors import BooksError
from kanal.core.faults import Fault, texts_of, value_text
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType

if TYPE_CHECKING:
    from kanal.core.conversions import Conversion

#: A column's name, with the look-up's name before it if it comes from one.
ColumnKey = tuple[str | None, str]


#: Values of other types by their row.
Strays = dict[int, str | bytes]


class BadLine(Struct, frozen=True):
    """A line of a file that is no row: the file, the number of the line, the line itself, and what is wrong with it.

    With `whole`, it represents all lines of the file.
    """

    file: str
    line: int
    text: str
    wrong: str
    whole: bool = False


@dataclass
class SourceBatch:
    """Rows as a reader delivers them.

    `columns` holds each column either in the Arrow type of its SQL type or as text that represents such a value.
    `strays` holds, per column and row, values that the column's type cannot hold at all (if a database lets a row
    have them), as text, or as bytes if they are none; the array has NULL there.
    """

    rows: int
    columns: Mapping[str, pa.Array]
    strays: Mapping[str, Strays] = field(default_factory=dict)
    #: Lines between these rows that are not rows.
    bad_lines: tuple[BadLine, ...] = ()
    #: Seconds that reading it took.
    seconds: float = 0.0
    #: Where in the source it ends, if the reader was asked for positions.
    position: tuple[int | str, ...] = ()
    #: The file that it comes from.
    file: str = ""

    def take(self, rows: np.ndarray[tuple[int], np.dtype[np.intp]]) -> SourceBatch:
        """The batch with only these rows (ascending positions)."""
        mask = np.zeros(self.rows, dtype=np.bool_)
        mask[rows] = True
        keep = pa.array(mask)
        place = {old: new for new, old in enumerate(rows.tolist())} if self.strays else {}
        strays: dict[str, Strays] = {
            name: {place[row]: text for row, text in found.items() if row in place}
            for name, found in self.strays.items()
        }
        return SourceBatch(len(rows), {name: values.filter(keep) for name, values in self.columns.items()}, strays)

    def goes_on(self, name: str, nullable: bool, any_value: bool = False) -> bool:
        """True if a column is still as its source sent it, each value one of its type, or NULL if it may be.

        With `any_value`, the values need not be of Kanal's type.
        """
        del name, nullable, any_value
        return False

    def forget(self) -> None:
        """Give up what was made of it on the way, and can be made again: it is on its way to the target."""

    def texts_of(self, name: str) -> list[str | None]:
        """The values of a column as text, as rejects keep them."""
        texts = _texts(self.columns[name])
        for row, stray in self.strays.get(name, {}).items():
            texts[row] = value_text(stray)
        return texts

    def row_texts(self, rows: list[int]) -> list[dict[str, str | None]]:
        """Whole source rows as text, as a reject keeps them."""
        picks = pa.array(rows, pa.int64())
        texts = [_texts(values.take(picks)) for values in self.columns.values()]
        result = [dict(zip(self.columns, whole, strict=True)) for whole in zip(*texts, strict=True)]
        for name, found in self.strays.items():
            for place, row in enumerate(rows):
                if row in found:
                    result[place][name] = value_text(found[row])
        return result


def _texts(values: pa.Array) -> list[str | None]:
    """Values as a reject shows them."""
    if pa.types.is_integer(values.type) or (pa.types.is_decimal(values.type) and values.type.scale <= 6):
        values = values.cast(pa.string())
    return values.to_pylist() if pa.types.is_string(values.type) else texts_of(values)


def with_strays(values: pa.Array, strays: Strays, conversion: Conversion) -> tuple[pa.Array, list[Fault]]:
    """The values with the strays converted from text put in, and faults for those that are no text or do not fit."""
    texts = {row: stray for row, stray in sorted(strays.items()) if isinstance(stray, str)}
    rows = list(texts)
    fitted, misfits = conversion(pa.array(list(texts.values()), pa.string()))
    faults = [Fault(rows[fault.row], fault.reason, fault.value, fault.message) for fault in misfits]
    message = "the bytes are not text in UTF-8: correct them, or decode them in the source's query"
    faults += [
        Fault(row, Reason.BAD_TEXT, value_text(stray), message)
        for row, stray in strays.items()
        if isinstance(stray, bytes)
    ]
    mask = np.zeros(len(values), dtype=np.bool_)
    mask[rows] = True
    return pc.replace_with_mask(values, pa.array(mask), fitted), sorted(faults, key=lambda fault: fault.row)


class Frame:
    """What an expression is evaluated over: a batch, columns joined to it, the run's moment, and a list of faults."""

    def __init__(self, batch: SourceBatch, types: Mapping[str, SqlType], moment: dt.datetime | None = None) -> None:
        self.batch = batch
        self.rows = batch.rows
        self.types = types
        self.moment = moment or dt.datetime.now(dt.UTC)
        self._faults: list[Fault] = []
        self._selected: Mask | None = None
        self._decoded: dict[ColumnKey, tuple[pa.Array, list[Fault]]] = {}
        self._delivered: dict[str, tuple[pa.Array, Strays]] = {}
        self._joined: dict[ColumnKey, Callable[[], tuple[pa.Array, list[Fault]]]] = {}

    def join(self, key: ColumnKey, values: Callable[[], tuple[pa.Array, list[Fault]]]) -> None:
        """Add a column, with the faults of its values, that is computed when it is first used."""
        self._joined[key] = values

    def column(self, key: ColumnKey) -> pa.Array:
        """A column in the Arrow type of its SQL type; stored values of another type become faults."""
        if key not in self._decoded:
            self._decoded[key] = self._joined[key]() if key in self._joined else self._decode(key[1])
        values, faults = self._decoded[key]
        self.report(faults)
        return values

    def delivered(self, name: str) -> tuple[pa.Array, Strays]:
        """A column of the batch in its SQL type, and by row the values that are none of it, as text or bytes."""
        if name not in self._delivered:
            from kanal.core.conversions import converter  # which looking at a run log does not need

            stored, wanted = self.batch.columns[name], self.types[name]
            strays = self.batch.strays.get(name, {})
            if stored.type != wanted.arrow or wanted.family in (Family.UUID, Family.JSON):
                texts = stored
                stored, misfits = converter(TEXT, wanted)(texts)
                if misfits:
                    strays = {**strays, **{fault.row: texts[fault.row].as_py() for fault in misfits}}
            self._delivered[name] = stored, strays
        return self._delivered[name]

    def _decode(self, name: str) -> tuple[pa.Array, list[Fault]]:
        from kanal.core.conversions import converter

        values, strays = self.delivered(name)
        return with_strays(values, strays, converter(TEXT, self.types[name])) if strays else (values, [])

    def array(self, datum: Datum) -> pa.Array:
        """A datum as an array of the frame's length; raises BooksError for one of another, which would shift rows."""
        if isinstance(datum, pa.Scalar):
            return pa.repeat(datum, self.rows)
        if len(datum) != self.rows:
            raise BooksError(
                f"an expression gave {len(datum):,} values for {self.rows:,} rows",
                "please report this with the job file",
            )
        return datum

    @contextmanager
    def within(self, selected: Mask) -> Iterator[None]:
        """While this lasts, only faults in the selected rows count, as in the branch of a CASE."""
        before = self._selected
        self._selected = selected if before is None else before & selected
        try:
            yield
        finally:
            self._selected = before

    def report(self, faults: list[Fault]) -> None:
        """Add faults, those outside the selected rows apart."""
        if faults:
            chosen = self._selected
            self._faults.extend(faults if chosen is None else [fault for fault in faults if chosen[fault.row]])

    def refuse(self, bad: Mask, reason: Reason, message: str, values: Datum | None = None) -> None:
        """Add the same fault for every row of a mask; `values` are the offending ones."""
        if self._selected is not None:
            bad = bad & self._selected
        rows = np.flatnonzero(bad)
        if not len(rows):
            return
        shown: list[str | None] = [None] * len(rows)
        if values is not None:
            shown = texts_of(self.array(values).take(pa.array(rows)))
        self._faults.extend(Fault(row, reason, value, message) for row, value in zip(rows.tolist(), shown, strict=True))

    def collect(self) -> list[Fault]:
        """The faults found since this was last called."""
        found, self._faults = self._faults, []
        return found
