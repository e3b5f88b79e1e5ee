"""Writes rows as text: CSV, JSON and JSON lines."""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Sequence
from typing import IO, Any, ClassVar

import pyarrow as pa
import pyarrow.compute as pc

from kanal.connections.files.writer import Misfits, _faults
from kanal.connections.pieces import joined_lines
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType
from kanal.definition import Format

#: Line ends, which JSON has only between values. Texts may contain other separators, such as U+2028.
_LINE_ENDS = re.compile(r"[\r\n]+")
_FORMULA = r"^[=+\-@\t\r]"
_NUMBER = r"^[+\-]?[0-9]+([.,][0-9]+)*([eE][+\-]?[0-9]+)?$"


class _TextWriter:
    """What all writers of text share: what is written is encoded as the job states."""

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
    """Delimited text: NULL is nothing, an empty text is "", and quotes stand only if they are needed."""

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
