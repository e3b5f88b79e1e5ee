"""Writes files: each format has a writer, and says which values it cannot hold unchanged."""

from __future__ import annotations

import bz2
import codecs
import datetime as dt
import gzip
import io
import json
import lzma
import math
import re
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import IO, Any, ClassVar, Protocol, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from kanal.connections.files.formats import kind_of, needed
from kanal.connections.files.packing import endings_of
from kanal.connections.files.workbook import EXACT
from kanal.connections.pieces import joined_lines
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.faults import Fault, texts_of
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType
from kanal.definition import Format
from kanal.definition.formats import encodings_of

#: The most rows of a sheet, its header among them, and characters of a cell.
SHEET_ROWS, CELL_LENGTH = 1_048_576, 32_767
_MOST_DIGITS = 15
#: Line ends, which JSON has only between values. Texts may contain other separators, such as U+2028.
_LINE_ENDS = re.compile(r"[\r\n]+")
_FORMULA = r"^[=+\-@\t\r]"
_NUMBER = r"^[+\-]?[0-9]+([.,][0-9]+)*([eE][+\-]?[0-9]+)?$"
#: By ending, how a file is packed.
_PACKING: dict[str, Callable[[IO[bytes]], Any]] = {
    ".gz": lambda stream: gzip.GzipFile(fileobj=stream, mode="wb", mtime=0, compresslevel=6),
    ".bz2": lambda stream: bz2.BZ2File(stream, "wb"),
    ".xz": lambda stream: lzma.LZMAFile(stream, "wb"),  # noqa: SIM115
    ".zst": lambda stream: pa.CompressedOutputStream(pa.PythonFile(_StaysOpen(stream), "w"), "zstd"),
}


class _StaysOpen(io.RawIOBase):
    """A stream to be written that stays open when this is closed."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream

    def writable(self) -> bool:
        return True

    def write(self, content: Any) -> int:
        return self._stream.write(content)


Misfits = list[tuple[str, Fault]]


class Writer(Protocol):
    """Writes one file. `texts`: its columns are text."""

    texts: ClassVar[bool]
    #: The most rows of a file.
    most_rows: ClassVar[int | None]

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        """A new file in a stream."""

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        """The format with what the ending says; raises KanalError for what cannot be written."""

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        """Rows as a file holds them, and the faults of values that it could not hold unchanged."""

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> Any:
        """Rows in the form in which `add` takes them."""

    def add(self, encoded: Any) -> None:
        """Write rows."""

    def finish(self) -> None:
        """Write what ends the file."""


class _TextWriter:
    """What all writers of text share: what is written is encoded as the job says."""

    most_rows: ClassVar[int | None] = None

    def __init__(self, stream: IO[bytes], form: Format) -> None:
        self._out = stream
        plain = codecs.lookup(form.encoding or "utf-8").name == "utf-8"
        # It writes a byte order mark first, in encodings that have one.
        self._encoder = None if plain else codecs.getincrementalencoder(str(form.encoding))()

    def add(self, encoded: Any) -> None:
        self._out.write(encoded if self._encoder is None else self._encoder.encode(bytes(encoded).decode()))

    def finish(self) -> None:
        """Nothing: the lines are all there is."""


class CsvWriter(_TextWriter):
    """Delimited text: NULL is nothing, an empty text is "", and quotes stand only where they are needed."""

    texts: ClassVar[bool] = True

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        super().__init__(stream, form)
        if form.header:
            row = pa.RecordBatch.from_arrays([pa.array([name]) for name in names], names=list(names))
            self.add(self.encoded(row, types, form))

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        for name in ("skip_lines", "comment", "escape"):
            if name in form.model_fields_set:
                raise KanalError(f"{name} is for files that are read", "leave it out of the format of a target")
        delimiter = form.delimiter or ("\t" if ending in (".tsv", ".tab") else ",")
        return form.model_copy(update={"delimiter": delimiter})

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        misfits: Misfits = []
        columns = []
        special = f"[{form.delimiter}\r\n]" if form.delimiter not in ("^", "]", "\\") else f"[\\{form.delimiter}\r\n]"
        for name, given in zip(rows.schema.names, rows.columns, strict=True):
            values = given
            if form.escape_formulas:
                risky = pc.and_(
                    pc.match_substring_regex(values, _FORMULA), pc.invert(pc.match_substring_regex(values, _NUMBER))
                )
                values = pc.if_else(risky, pc.binary_join_element_wise("'", values, ""), values)
            if not form.quote:
                bad = pc.fill_null(pc.or_(pc.match_substring_regex(values, special), pc.equal(values, "")), False)
                message = "without quotes, a file cannot hold it: set quote, or another delimiter"
                misfits += _faults(name, values, bad, Reason.BAD_TEXT, message)
            misfits += _unencodable(name, values, form.encoding)
            columns.append(values)
        return pa.RecordBatch.from_arrays(columns, names=rows.schema.names), misfits

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> memoryview:
        delimiter, quote = form.delimiter or ",", form.quote
        fields = [
            _in_quotes(values, delimiter, quote) if quote else pc.fill_null(values, "") for values in rows.columns
        ]
        return joined_lines(fields, delimiter)


def _in_quotes(values: pa.Array, delimiter: str, quote: str) -> pa.Array:
    """Texts as fields, those in quotes that need them."""
    bare = pc.fill_null(values, "")
    needs = pc.or_(pc.match_substring(bare, quote), pc.match_substring(bare, delimiter))
    needs = pc.or_(needs, pc.or_(pc.match_substring(bare, "\n"), pc.match_substring(bare, "\r")))
    needs = pc.or_(needs, pc.and_(pc.equal(bare, ""), pc.is_valid(values)))
    if not pc.any(needs, min_count=0).as_py():
        return bare
    doubled = pc.replace_substring(bare, quote, quote * 2)
    return pc.if_else(needs, pc.binary_join_element_wise(quote, doubled, quote, ""), bare)


def _unencodable(name: str, values: pa.Array, encoding: str | None) -> Misfits:
    if codecs.lookup(encoding or "utf-8").name.startswith("utf"):
        return []
    assert encoding is not None
    texts = values.to_pylist()
    if _fits("".join(filter(None, texts)), encoding):
        return []
    bad = [text is not None and not _fits(text, encoding) for text in texts]
    message = f"{encoding} has not all of its characters: set another encoding"
    return _faults(name, values, pa.array(bad, pa.bool_()), Reason.BAD_TEXT, message)


def _fits(text: str, encoding: str) -> bool:
    try:
        text.encode(encoding)
    except UnicodeEncodeError:
        return False
    return True


def _faults(name: str, values: pa.Array, bad: pa.Array, reason: Reason, message: str) -> Misfits:
    rows = np.flatnonzero(np.asarray(pc.fill_null(bad, False)))
    if not len(rows):
        return []
    shown = texts_of(values.take(pa.array(rows)))
    return [(name, Fault(int(row), reason, value, message)) for row, value in zip(rows, shown, strict=True)]


class JsonLinesWriter(_TextWriter):
    """An object a line: numbers with all digits, NULL as null, times in ISO form."""

    texts: ClassVar[bool] = False

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        super().__init__(stream, form)
        del names, types

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        del ending
        if form.columns or form.rows:
            raise KanalError("columns and rows are for JSON that is read", "leave them out of the format of a target")
        return form

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        misfits: Misfits = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            if pa.types.is_floating(values.type):
                bad = pc.invert(pc.is_finite(values))
                misfits += _faults(name, values, bad, Reason.OUT_OF_RANGE, "JSON has no such number: leave it out")
            elif pa.types.is_string(values.type):
                misfits += _unencodable(name, values, form.encoding)
        return rows, misfits

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> bytes:
        del form
        return "".join(f"{line}\n" for line in _objects(rows, types)).encode()


def json_values(values: pa.Array, kind: SqlType) -> list[str]:
    """Each value of a column as JSON: numbers with all digits, NULL as null, times in ISO form."""
    texts = values if pa.types.is_string(values.type) else converter(kind, TEXT)(values)[0]
    found = texts.to_pylist()
    if kind.family in (Family.INTEGER, Family.DECIMAL, Family.DOUBLE, Family.BOOLEAN):
        return [text if text is not None else "null" for text in found]
    if kind.family is Family.JSON:
        return ["null" if text is None else _LINE_ENDS.sub(" ", text) for text in found]
    return [json.dumps(text, ensure_ascii=False) for text in found]


def _objects(rows: pa.RecordBatch, types: Sequence[SqlType]) -> list[str]:
    """Rows as JSON objects."""
    parts = []
    for name, values, kind in zip(rows.schema.names, rows.columns, types, strict=True):
        head = json.dumps(name, ensure_ascii=False) + ": "
        parts.append([head + text for text in json_values(values, kind)])
    return ["{" + ", ".join(row) + "}" for row in zip(*parts, strict=True)]


class JsonWriter(JsonLinesWriter):
    """A list of objects."""

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        super().__init__(stream, names, types, form)
        self._begun = False

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> bytes:
        del form
        return ",\n".join(_objects(rows, types)).encode()

    def add(self, encoded: Any) -> None:
        if encoded:
            super().add((b",\n" if self._begun else b"[\n") + encoded)
            self._begun = True

    def finish(self) -> None:
        super().add(b"\n]\n" if self._begun else b"[]\n")


class _ArrowWriter:
    """What Parquet and Arrow share: rows are kept as they are."""

    texts: ClassVar[bool] = False
    most_rows: ClassVar[int | None] = None

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        del ending
        return form

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        del form
        return rows, []

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> Any:
        del types, form
        return rows


def _schema(names: Sequence[str], types: Sequence[SqlType]) -> pa.Schema:
    return pa.schema([pa.field(name, kind.arrow) for name, kind in zip(names, types, strict=True)])


class ParquetWriter(_ArrowWriter):
    """Parquet, in groups of about a million rows."""

    _GROUP = 500_000

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        import pyarrow.parquet as pq

        del form
        self._schema = _schema(names, types)
        self._writer = pq.ParquetWriter(pa.PythonFile(stream, "w"), self._schema)
        self._waiting: list[pa.RecordBatch] = []

    def add(self, encoded: Any) -> None:
        self._waiting.append(encoded.cast(self._schema))
        if sum(batch.num_rows for batch in self._waiting) >= self._GROUP:
            self._write()

    def _write(self) -> None:
        if self._waiting:
            self._writer.write_table(pa.Table.from_batches(self._waiting), row_group_size=self._GROUP)
            self._waiting = []

    def finish(self) -> None:
        self._write()
        self._writer.close()


class ArrowWriter(_ArrowWriter):
    """Arrow's own file."""

    _make: ClassVar[Callable[..., Any]] = pa.ipc.new_file

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        del form
        self._schema = _schema(names, types)
        self._writer = type(self)._make(pa.PythonFile(stream, "w"), self._schema)

    def add(self, encoded: Any) -> None:
        self._writer.write_batch(encoded.cast(self._schema))

    def finish(self) -> None:
        self._writer.close()


class ArrowStreamWriter(ArrowWriter):
    """Arrow's stream."""

    _make: ClassVar[Callable[..., Any]] = pa.ipc.new_stream


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
#: By the kind of the format.
_WRITERS: dict[str, type[Writer]] = {
    "csv": CsvWriter,
    "json": JsonWriter,
    "jsonl": JsonLinesWriter,
    "parquet": ParquetWriter,
    "arrow": ArrowWriter,
    "excel": WorkbookWriter,
}


def writer_of(name: str, form: Format | None) -> tuple[type[Writer], Format]:
    """Who writes files of a name, and the format with all that its ending says; raises KanalError where nobody does."""
    if form is not None and len(encodings_of(form.encoding)) > 1:
        raise KanalError("a file is written in one encoding", "name one in the format of the target")
    packing, ending = endings_of(name)
    kind = kind_of(ending, name, form)
    found = _WRITERS.get(kind)
    if found is None:
        raise KanalError(f"files of kind {kind} are not written", f"write one of {', '.join(_WRITERS)}")
    if packing and (packing not in _PACKING or kind not in ("csv", "json", "jsonl")):
        raise KanalError(f"{kind} files are not written as {packing}", f"leave {packing} out of the name")
    made = ArrowStreamWriter if ending == ".arrows" else found
    return made, made.checked(form or Format(), ending)


def packed(stream: IO[bytes], name: str) -> IO[bytes]:
    """A stream that packs what is written to it as the ending of a name says; closing it leaves the other open."""
    packing, _ = endings_of(name)
    return cast("IO[bytes]", _PACKING[packing](stream) if packing else stream)
