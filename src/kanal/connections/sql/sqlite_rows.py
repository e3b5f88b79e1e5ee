"""How rows come from SQLite through its Arrow driver, and how they are stored in it.

Any row of SQLite may hold a value of any type in any column (https://sqlite.org/datatype3.html), so every column is
read in one type and the values of other types next to it, as text.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import json
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from typing import Any, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa

from kanal.connections.batches import valid_text
from kanal.connections.description import ColumnInfo
from kanal.connections.misfits import negative_zeros
from kanal.connections.reading import Reading, Window
from kanal.core.arrays import from_unscaled, mask_of, patch, to_unscaled, valid_mask
from kanal.core.conversions import converter
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.native import ExactText, is_native, native
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType, parse_type

#: By family, if a value of a column {c} is one of its type, that value, and one to show the driver its type;
#: all other values are strays. Whole numbers beyond 2 to the 53rd have no floating value of their own.
_NUMERIC = "(typeof({c}) = 'real' OR (typeof({c}) = 'integer' AND {c} BETWEEN -9007199254740992 AND 9007199254740992))"
_NATIVE = {
    Family.INTEGER: ("typeof({c}) = 'integer'", "{c}", "0"),
    Family.DOUBLE: (_NUMERIC, "CAST({c} AS REAL)", "0.0"),
    Family.DECIMAL: (_NUMERIC, "CAST({c} AS REAL)", "0.0"),
    Family.BINARY: ("typeof({c}) = 'blob'", "{c}", "x''"),
}
#: If a value of a column {c} that is read as text is one.
_TEXTS = ("typeof({c}) = 'text'", "{c}", "''")
#: The text of a value of a column {c}, its storage class, and its own value as text, of which nothing is lost.
_EXACT_TEXT = (
    "json_array(CAST({c} AS TEXT), typeof({c}), CASE typeof({c}) WHEN 'blob' THEN hex({c}) "
    "WHEN 'real' THEN printf('%!.17g', {c}) ELSE CAST({c} AS TEXT) END)"
)


def exact_forms(value: Any) -> list[Any]:
    """A column's value in forms that are all equal only if the value is displayed alike: any row may hold any type,
    and 1 is equal to 1.0."""
    return [sa.collate(value, "BINARY"), sa.func.typeof(value)]


#: As which Arrow type the driver gives them; all others as text.
_KINDS = {Family.INTEGER: pa.int64(), Family.DOUBLE: pa.float64(), Family.DECIMAL: pa.float64()}
#: Significant digits of a decimal that a floating value, and so SQLite, always keeps.
EXACT_DIGITS = 15


def driver_errors() -> tuple[type[BaseException], ...]:
    """What the Arrow driver raises; it is imported only where rows are moved, since that takes a while."""
    import adbc_driver_manager

    return (adbc_driver_manager.Error,)


def affinity(declared: str) -> str:
    """The column affinity that SQLite derives from a declared type (datatype3.html, 3.1)."""
    upper = declared.upper()
    if "INT" in upper:
        return "integer"
    if any(word in upper for word in ("CHAR", "CLOB", "TEXT")):
        return "text"
    if not upper or "BLOB" in upper:
        return "blob"
    if any(word in upper for word in ("REAL", "FLOA", "DOUB")):
        return "real"
    return "numeric"


def quote(name: str) -> str:
    """A name as SQLite takes it in any case."""
    return '"' + name.replace('"', '""') + '"'


def text_literal(text: str) -> str:
    """A text as a literal of SQL."""
    return "'" + text.replace("'", "''") + "'"


class RowReader:
    """Reads rows of a table or query through a cursor of the Arrow driver.

    `number` is the name by which the table numbers its rows, if it does; `failure` makes an error of a driver's.
    """

    def __init__(
        self, cursor: Any, reading: Reading, number: str | None, failure: Callable[[BaseException], Exception]
    ) -> None:
        self._cursor = cursor
        self._reading = reading
        self._number = number
        self._failure = failure
        self._stored = {column.name: column.stored for column in reading.table.columns}
        self._exact = reading.exact
        self._names = list(reading.columns) or [reading.table.names[0]]

    def batches(self) -> Iterator[SourceBatch]:
        """The rows: by a plain SELECT as long as all values are of their columns' storage classes, which is twice as
        quick, and from the first that is not on, in the same transaction, by one that tells them apart.

        A table is walked in the order of its rows' numbers, but SQLite promises an order only if one is asked for,
        and asking costs a seventh of the reading; so the order is proven, since what is continued rests on it."""
        plain = self._plain_select()
        last, count = None, 0
        if plain is not None:
            kinds = [_KINDS.get(self._stored[name].family, pa.string()) for name in self._names] + [pa.int64()]
            try:
                for rows in self._fetched(plain):
                    if rows.schema.types != kinds:
                        raise _Mixed
                    if rows.num_rows:
                        numbers = rows.column(len(self._names)).to_numpy()
                        if (last is not None and numbers[0] <= last) or (np.diff(numbers) <= 0).any():
                            raise RuntimeError("SQLite gave rows out of the order of their numbers")
                        yield self._source_batch(rows)
                        last, count = int(numbers[-1]), count + rows.num_rows
                return
            except _Mixed:
                pass
        for rows in self._fetched(self._typed_select(last, count)):
            if rows.num_rows:
                batch = self._source_batch(rows)
                self._put_strays(batch, rows.column(len(self._names)))
                yield batch

    def _fetched(self, statement: str) -> Iterator[pa.RecordBatch]:
        """What a SELECT gives, without its first row, which told the driver the columns' types."""
        self._cursor.execute(statement)
        reader = self._cursor.fetch_record_batch()
        first = True
        while True:
            try:
                rows = reader.read_next_batch()
            except StopIteration:
                return
            except (pa.ArrowException, OSError, *driver_errors()) as error:
                if "Type mismatch in column" in str(error):
                    raise _Mixed from None
                raise self._failure(error) from None
            yield rows.slice(1) if first else rows
            first = False

    def _plain_select(self) -> str | None:
        """A SELECT of a table's rows as it is walked, their numbers last; None if it takes more.

        Of numbers that a floating value may not keep, it makes texts, which the driver then stumbles on.
        """
        reading, number = self._reading, self._number
        if number is None or reading.order_by or reading.windows or reading.query is not None:
            return None
        parts, samples, texts = [], [], []
        for name in self._names:
            column, family = quote(name), self._stored[name].family
            declared = reading.table.column(name)
            if family is Family.BINARY or declared is None:
                return None
            if family is Family.INTEGER or (family in _NATIVE and affinity(declared.declared) == "real"):
                parts.append(column)
            elif family in _NATIVE:
                kept = f"{column} BETWEEN -9007199254740992 AND 9007199254740992"
                parts.append(f"CASE WHEN {kept} THEN CAST({column} AS REAL) WHEN {column} IS NOT NULL THEN 'x' END")
            else:
                parts.append(f"CAST({column} AS TEXT)")
                texts += [f"typeof({column}) IN ('text', 'null')"] if name in self._exact else []
            samples.append(_NATIVE[family][2] if family in _NATIVE else "''")
        if texts:  # the driver stumbles on a row's number that is a text
            number = f"CASE WHEN {' AND '.join(texts)} THEN {number} ELSE 'x' END"
        rows = f"SELECT {', '.join(parts)}, {number} FROM {quote(reading.table.name)} NOT INDEXED"
        # The row of the types counts for the limit.
        limit = "" if reading.limit is None else f" LIMIT {reading.limit + 1}"
        return f"SELECT {', '.join(samples)}, 0 UNION ALL {rows}{limit}"

    def _typed_select(self, last: int | None, count: int) -> str:
        """A SELECT that gives each column in one storage class, and a last column with the values of others.

        It continues after this many rows, by the number of the last one. The driver takes a column's type from the
        first rows, so a row of known types is put before them.
        """
        reading = self._reading
        source = f"({reading.query.rstrip().rstrip(';')})" if reading.query is not None else quote(reading.table.name)
        parts, strays, samples = [], [], []
        for place, name in enumerate(self._names):
            column = quote(name)
            native = _NATIVE.get(self._stored[name].family)
            if native is None:
                parts.append(f"CAST({column} AS TEXT)")
                samples.append("''")
                if name not in self._exact:
                    continue
                native = _TEXTS
            else:
                value = native[1].format(c=column)
                parts.append(f"CASE WHEN {native[0].format(c=column)} THEN {value} END")
                samples.append(native[2])
            text = _EXACT_TEXT.format(c=column) if name in self._exact else f"CAST({column} AS TEXT)"
            condition = f"({column} IS NOT NULL AND NOT {native[0].format(c=column)})"
            strays.append((condition, f"'{place}'", text))
        if strays:
            found = " OR ".join(condition for condition, _, _ in strays)
            pairs = ", ".join(f"{place}, CASE WHEN {condition} THEN {text} END" for condition, place, text in strays)
            parts.append(f"CASE WHEN {found} THEN json_object({pairs}) END")
        else:
            parts.append("CAST(NULL AS TEXT)")
        samples.append("''")
        by_bytes = " COLLATE BINARY" if reading.seeks else ""
        keys = [f"{quote(name)}{by_bytes}" for name in reading.order_by]
        order = f" ORDER BY {', '.join(keys)}" if keys else ""
        # Without a LIMIT, SQLite may drop the order of an inner SELECT.
        limit = f" LIMIT {-1 if reading.limit is None else reading.limit - count}"
        limit = limit if order or reading.limit is not None else ""
        conditions = [_window_condition(window) for window in reading.windows]
        if last is not None:
            conditions.append(f"{self._number} > {last}")
        if reading.after:
            after = _beyond(keys, reading.after)
            conditions.append(f"NOT ({after})" if reading.up_to else after)
        where = f" WHERE {' AND '.join(f'({condition})' for condition in conditions)}" if conditions else ""
        inner = f"SELECT {', '.join(parts)} FROM {source} AS q{where}{order}{limit}"
        return f"SELECT {', '.join(samples)} UNION ALL SELECT * FROM ({inner})"

    def _source_batch(self, rows: pa.RecordBatch) -> SourceBatch:
        columns = {name: rows.column(place) for place, name in enumerate(self._names)}
        strays: dict[str, Strays] = {}
        for name, values in columns.items():
            if pa.types.is_string(values.type):
                columns[name] = valid_text(name, values, strays)
            elif self._stored[name].family is Family.DECIMAL:
                columns[name] = _decimals(name, values, self._stored[name], strays, name in self._exact)
        return SourceBatch(rows.num_rows, columns, strays)

    def _put_strays(self, batch: SourceBatch, found: pa.Array) -> None:
        """Add the values that are none of their columns' types, from JSON by the place of the column."""
        if found.null_count < len(found):
            strays = cast("dict[str, Strays]", batch.strays)
            for row in np.flatnonzero(mask_of(found.is_valid())).tolist():
                whole = found[row].as_buffer().to_pybytes().decode("utf-8", "surrogateescape")
                for place, found_there in json.loads(whole).items():
                    if isinstance(found_there, str):
                        strays.setdefault(self._names[int(place)], {})[row] = _text_or_bytes(found_there)
                    elif found_there is not None:
                        strays.setdefault(self._names[int(place)], {})[row] = _exact_value(*found_there)


#: Dates and times with a zone may differ by so much from what their text begins with.
_ZONES = dt.timedelta(days=2)


def _window_condition(window: Window) -> str:
    """A condition that holds for all rows of a window, and as few others as the values' many forms allow."""
    column, parts = quote(window.column), []
    for value, sign, spare in ((window.low, ">=", -_ZONES), (window.high, "<", _ZONES)):
        if value is None:
            continue
        if isinstance(value, dt.date):
            day = dt.date(value.year, value.month, value.day)
            with contextlib.suppress(OverflowError):
                parts.append(f"{column} {sign} '{day + spare}' OR {column} < '0' OR typeof({column}) <> 'text'")
        else:
            parts.append(f"{column} {sign} {value} OR typeof({column}) NOT IN ('integer', 'real')")
    return " AND ".join(f"({part})" for part in parts) or "1"


def _text_or_bytes(text: str) -> str | bytes:
    """A text, or the bytes that it was made of, if they are none."""
    given = text.encode("utf-8", "surrogateescape")
    with contextlib.suppress(UnicodeDecodeError):
        return given.decode("utf-8")
    return given


def _exact_value(text: str, storage_class: str, exact: str) -> str | bytes:
    """A value of any storage class, by its text, its class, and how `_EXACT_TEXT` writes it."""
    if storage_class == "text":
        return _text_or_bytes(exact)
    shown = _text_or_bytes(text)
    return ExactText.of_object({"text": shown if isinstance(shown, str) else f"x'{exact}'", storage_class: exact})


#: The slots of a value in SQLite's own form, one for each storage class; all but one of them are NULL.
SLOTS = {"integer": pa.int64(), "real": pa.float64(), "text": pa.string(), "blob": pa.binary()}


def own_form(values: pa.Array, strays: Strays) -> pa.Array:
    """A column's values as SQLite stores them: texts, or with values of several storage classes, the slots of each."""
    stored = stored_form(values, "blob" if pa.types.is_string(values.type) else "numeric", None)[0]
    if not strays and pa.types.is_string(stored.type):
        return native(stored)
    rows = np.array(sorted(strays), dtype=np.intp)
    exact = [_classified(strays[row]) for row in rows.tolist()]
    own = {pa.int64(): "integer", pa.float64(): "real", pa.binary(): "blob"}.get(stored.type, "text")
    slots = []
    for slot, arrow in SLOTS.items():
        column = stored if slot == own else pa.nulls(len(values), arrow)
        some = [one if kind == slot else None for kind, one in exact]
        # A text of SQLite need not be UTF-8.
        found = patch(column.cast(pa.binary()) if slot == "text" else column, rows, some)
        slots.append(found.view(arrow) if slot == "text" else found)
    missing = np.logical_and.reduce([~valid_mask(column) for column in slots])
    return native(pa.StructArray.from_arrays(slots, list(SLOTS), mask=pa.array(missing)))


def _classified(stray: str | bytes) -> tuple[str, int | float | bytes]:
    """The storage class of a stray and its value; texts as their bytes."""
    if isinstance(stray, ExactText):
        return stray.storage_class, stray.value
    return "text", stray if isinstance(stray, bytes) else stray.encode()


class _Mixed(Exception):
    """A column has values of several storage classes."""


def _beyond(columns: Sequence[str], last: Sequence[int | str]) -> str:
    """The condition that columns, taken together, come after these values in their order."""
    values = [str(value) if isinstance(value, int) else text_literal(value) for value in last]
    ways = []
    for place, column in enumerate(columns):
        same = [f"{columns[before]} = {values[before]}" for before in range(place)]
        ways.append(" AND ".join([*same, f"{column} > {values[place]}"]))
    return " OR ".join(f"({way})" for way in ways)


def _decimals(name: str, values: pa.Array, target: SqlType, strays: dict[str, Strays], exact: bool = False) -> pa.Array:
    """Floating values as the decimals of 15 digits that SQLite shows for them; those that do not fit become strays,
    with `exact` also those that are not the floating value nearest to that decimal."""
    numbers = values.fill_null(0.0).to_numpy(zero_copy_only=False)
    scale, precision = target.scale or 0, target.precision or 1
    with np.errstate(all="ignore"):
        scaled = np.rint(numbers * 10.0**scale)
        # n / 10^s is rounded once, so it is the floating value nearest to that decimal.
        near = np.abs(scaled / 10.0**scale - numbers) <= np.abs(numbers) * 5e-16
        near = near if not exact else scaled / 10.0**scale == numbers
        good = near & (np.abs(scaled) < 10.0**precision)
    for row in np.flatnonzero(~good).tolist():
        text = format(Decimal(f"{numbers[row]:.15g}"), "f")
        strays.setdefault(name, {})[row] = ExactText(text, float(numbers[row])) if exact else text
    keep = good & mask_of(values.is_valid())
    return from_unscaled(np.where(keep, scaled, 0.0).astype(np.int64), target, keep)


#: A text that SQLite would store as a number in a column of numeric affinity.
_NUMERIC_TEXT = r"^\s*[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?\s*$"


def stored_form(values: pa.Array, kind: str, info: ColumnInfo | None) -> tuple[pa.Array, list[Fault]]:
    """An array as SQLite stores it, and faults for values that it would change."""
    if is_native(values):
        return values, []
    arrow = values.type
    if pa.types.is_boolean(arrow) or pa.types.is_integer(arrow):
        return values.cast(pa.int64()), []
    if pa.types.is_floating(arrow):
        values, faults = _without_nan(values.cast(pa.float64()))
        return values, faults if kind == "blob" else faults + negative_zeros(values, "SQLite")
    if pa.types.is_decimal(arrow):
        if kind not in ("text", "blob") and arrow.precision <= EXACT_DIGITS:
            # SQLite would make the same floating value, or integer, of the text, only slower.
            unscaled = to_unscaled(values)
            return pa.array(unscaled / 10.0**arrow.scale, mask=~mask_of(values.is_valid())), []
        texts = converter(SqlType("decimal", precision=arrow.precision, scale=arrow.scale), TEXT)(values)[0]
        if kind in ("text", "blob"):
            return texts, []
        limit = pa.scalar(Decimal(1).scaleb(EXACT_DIGITS - arrow.scale)).cast(pa.decimal256(76, arrow.scale))
        message = "SQLite keeps 15 digits of a number: declare the column TEXT to keep them all"
        return _refused(texts, ~mask_of(pc.less(pc.abs(values), limit)), Reason.OUT_OF_RANGE, message)
    if pa.types.is_temporal(arrow):
        names = {"date32[day]": "date", "time64[us]": "time", "timestamp[us]": "timestamp"}
        sql_type = parse_type(names.get(str(arrow), "timestamp with time zone"))
        return converter(sql_type, TEXT)(values)[0], []
    if pa.types.is_string(arrow) and kind in ("integer", "real", "numeric"):
        message = (
            f"SQLite would store this text as a number in a column declared {info.declared if info else ''}: "
            "declare it TEXT"
        )
        return _refused(values, mask_of(pc.match_substring_regex(values, _NUMERIC_TEXT)), Reason.BAD_TEXT, message)
    return values, []


def _without_nan(values: pa.Array) -> tuple[pa.Array, list[Fault]]:
    nan = mask_of(pc.is_nan(values))
    return _refused(values, nan, Reason.OUT_OF_RANGE, "SQLite would store NaN as NULL: map it with CASE or NULLIF")


def _refused(
    values: pa.Array, bad: np.ndarray[Any, np.dtype[np.bool_]], reason: Reason, message: str
) -> tuple[pa.Array, list[Fault]]:
    rows = np.flatnonzero(bad & mask_of(values.is_valid())).tolist()
    return values, [Fault(row, reason, str(values[row].as_py()), message) for row in rows]
