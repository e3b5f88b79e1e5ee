"""Reads delimited text (CSV): every record becomes a row or a bad line, and none is guessed at.

A block in which no value is quoted and each line has as many values as there are columns is read by Arrow; all others
record by record, by Python's strict reader.
"""

from __future__ import annotations

import contextlib
import csv
import io
from collections.abc import Generator, Iterator, Sequence
from typing import IO

import numpy as np
import pyarrow as pa
import pyarrow.csv as arrow_csv
from msgspec import Struct, field
from numpy.typing import NDArray

from kanal.connections.description import ColumnInfo
from kanal.connections.files.formats import Part, header_names, text_columns
from kanal.connections.files.packing import unpacked
from kanal.connections.files.stores import FoundFile
from kanal.connections.files.text import BLOCK, LONGEST, in_utf8, shown, undecoded
from kanal.core.errors import KanalError, counted, shortened
from kanal.core.frame import BadLine
from kanal.definition import Format

#: Bytes of a block, and characters that a value may have at most.
_BLOCK, _LONGEST = BLOCK, LONGEST


class Records(Struct):
    """Some records: the values of each column as text, the line on which each record begins, and the bad lines."""

    columns: list[pa.Array]
    lines: NDArray[np.int64]
    bad: list[BadLine] = field(default_factory=list)


class _Record(Struct):
    """A record, or what is wrong with it: the lines that it takes, from the first on, and its values."""

    line: int
    raw: list[bytes]
    values: list[str | None]
    wrong: str = ""


class DelimitedReader:
    """The records of one file; `names` are its columns. Raises KanalError for a file that cannot be read as one."""

    def __init__(self, stream: IO[bytes], form: Format, delimiter: str, name: str) -> None:
        csv.field_size_limit(_LONGEST)
        self._form = form
        self._delimiter = delimiter
        self._name = name
        self._blocks = in_utf8(stream, form.encoding, name, _BLOCK)
        self._line = 1
        self._rest = b""
        self._over = False
        self.names = self._begin()

    def _begin(self) -> list[str]:
        """Skip what comes before, and read the names of the columns."""
        for _ in range(self._form.skip_lines):
            self._take_line()
        if not self._form.header:
            return list(self._form.columns)
        names: list[str | None] | None = None
        while names is None:
            with contextlib.closing(self._records_of_rest(1)) as records:
                record = next(records, None)
            if record is not None:
                names = record.values
                if record.wrong:
                    raise KanalError(f"{self._name}, line {record.line}: its header cannot be read: {record.wrong}",
                                     "correct the format, such as delimiter or quote")  # fmt: skip
            elif not self._fill():
                raise KanalError(f"{self._name} has no header: it is empty", "set header = false if it has none")
        return header_names(self._name, names)

    def __iter__(self) -> Iterator[Records]:
        while self._rest or self._fill():
            made = self._simple() or self._by_record()
            if made is not None:
                yield made
            else:
                self._fill()

    # --- bytes -----------------------------------------------------------------------------------------------------

    def _fill(self) -> bool:
        """Read another block; false if there is none. Raises KanalError if what is there makes no record."""
        if len(self._rest) > _LONGEST:
            raise KanalError(f"{self._name}: the record that begins on line {self._line} is longer than "
                             f"{_LONGEST >> 20} MB", "see whether a quote is missing")  # fmt: skip
        more = next(self._blocks, None)
        if more is None:
            self._over = True
            return False
        self._rest += more
        return True

    def _take_line(self) -> None:
        while b"\n" not in self._rest and self._fill():
            pass
        _, _, self._rest = self._rest.partition(b"\n")
        self._line += 1

    def _whole_lines(self) -> bytes:
        """The rest up to its last whole line; all of it at the end of the file."""
        if self._over:
            return self._rest
        return self._rest[: self._rest.rfind(b"\n") + 1]

    def _fail_at_the_end(self) -> None:
        if self._rest:
            raise KanalError(f"{self._name} ends in the middle of a record, which begins on line {self._line}",
                             "have it sent again; or correct the quote of the format")  # fmt: skip

    # --- blocks that Arrow reads -----------------------------------------------------------------------------------

    def _simple(self) -> Records | None:
        """A block without quotes in which each line is a row; None for any other."""
        part, form = self._whole_lines(), self._form
        special = [text.encode() for text in (form.quote, form.escape, form.comment) if text]
        if not part.endswith(b"\n") or len(self._delimiter.encode()) > 1 or any(text in part for text in special):
            return None
        if b"\r" in part:
            content = np.frombuffer(part, dtype=np.uint8)
            if (content[np.flatnonzero(content == 13) + 1] != 10).any():  # the last sign is a line break
                return None
        texts = {name: pa.string() for name in self.names}
        try:
            table = arrow_csv.read_csv(
                pa.BufferReader(part),
                arrow_csv.ReadOptions(column_names=self.names, use_threads=False, block_size=len(part) + 1),
                arrow_csv.ParseOptions(delimiter=self._delimiter, quote_char=False, ignore_empty_lines=False),
                arrow_csv.ConvertOptions(column_types=texts, null_values=[""], strings_can_be_null=True),
            )
        except pa.ArrowInvalid:  # which is looked at line by line
            return None
        if len(self.names) > 1 and all(column.null_count for column in table.columns):
            return None  # there may be a blank line
        rows = table.num_rows  # each line is one: without quotes and other breaks, no value has one
        lines = np.arange(self._line, self._line + rows, dtype=np.int64)
        self._line += rows
        self._rest = self._rest[len(part) :]
        return Records([column.combine_chunks() for column in table.columns], lines)

    # --- record by record ------------------------------------------------------------------------------------------

    def _by_record(self) -> Records | None:
        """The whole records of what is there; None if there is none."""
        rows: list[list[str | None]] = []
        lines: list[int] = []
        bad: list[BadLine] = []
        found = False
        for record in self._records_of_rest():
            found = True
            wrong = record.wrong or self._misfit(record)
            if wrong:
                bad.append(BadLine(self._name, record.line, shown(b"".join(record.raw)), wrong))
            else:
                rows.append(record.values)
                lines.append(record.line)
        if not found and self._rest and not self._over:
            return None
        columns = [pa.array(values, pa.string()) for values in zip(*rows, strict=True)] if rows else [
            pa.array([], pa.string()) for _ in self.names]  # fmt: skip
        return Records(columns, np.array(lines, dtype=np.int64), bad)

    def _misfit(self, record: _Record) -> str:
        """What is wrong with a record's values, if anything is."""
        count, wanted = len(record.values), len(self.names)
        if count != wanted:
            if count < wanted and not record.raw[-1].endswith(b"\n"):
                raise KanalError(f"{self._name} ends in the middle of a record, on line {record.line}",
                                 "have it sent again")  # fmt: skip
            return f"it has {counted(count, 'value')}, and the file {counted(wanted, 'column')}"
        if any(value is not None and undecoded(value) for value in record.values):
            return f"it is not text in {self._form.encoding or 'UTF-8'}"
        return ""

    def _records_of_rest(self, limit: int | None = None) -> Generator[_Record]:
        """The whole records of what is there, so many or all, taken out of it."""
        form = self._form
        part = self._whole_lines()
        waiting = io.BytesIO(part)
        taken: list[bytes] = []

        def lines() -> Iterator[str]:
            for line in waiting:
                taken.append(line)
                yield line.decode("utf-8", "surrogateescape")

        reader = csv.reader(lines(), delimiter=self._delimiter, quotechar=form.quote or None, escapechar=form.escape,
                            quoting=csv.QUOTE_MINIMAL if form.quote else csv.QUOTE_NONE, strict=True)  # fmt: skip
        used = 0
        try:
            while limit is None or limit > 0:
                taken.clear()
                wrong, values = "", list[str]()
                try:
                    values = next(reader)
                except StopIteration:
                    break
                except csv.Error as error:
                    if "unexpected end of data" in str(error):
                        if self._over:
                            self._rest, used = part[used:], 0
                            self._fail_at_the_end()
                        break
                    wrong = f"its quotes are wrong ({error})"
                raw, line = list(taken), self._line
                used += sum(map(len, raw))
                self._line += len(raw)
                first = raw[0]
                if form.comment and first.startswith(form.comment.encode()) and len(raw) == 1:
                    continue
                if not first.strip(b"\r\n") and len(raw) == 1 and len(getattr(self, "names", ())) != 1:
                    continue
                limit = None if limit is None else limit - 1
                yield _Record(line, raw, self._values(values, raw), wrong)
        finally:
            self._rest = part[used:] + self._rest[len(part) :]

    def _values(self, values: list[str], raw: list[bytes]) -> list[str | None]:
        """Values, with NULL for those of which nothing is written, not even quotes."""
        if not values:
            return [None]
        if "" not in values:
            return list(values)
        quote = self._form.quote.encode()
        if not quote or quote * 2 not in b"".join(raw):
            return [value or None for value in values]
        return [value if value or given else None
                for value, given in zip(values, self._quoted(b"".join(raw), len(values)), strict=True)]  # fmt: skip

    def _quoted(self, raw: bytes, count: int) -> list[bool]:
        """Which values of a record, that is known to be sound, are in quotes."""
        quote, delimiter = self._form.quote, self._delimiter
        text, found, inside, begins = raw.decode("utf-8", "surrogateescape"), [], False, True
        for sign in text:
            if begins:
                found.append(sign == quote)
                begins = False
            if sign == quote:
                inside = not inside
            elif sign == delimiter and not inside:
                begins = True
        return (found + [False] * count)[:count]


class DelimitedText:
    """CSV and its kin: all values are text, which the mapping converts."""

    def __init__(self, form: Format, ending: str) -> None:
        self._form = form
        self._delimiter = form.delimiter or ("\t" if ending in (".tsv", ".tab") else ",")

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        with unpacked(file, self._form.unpacked_bytes) as stream:
            return text_columns(DelimitedReader(stream, self._form, self._delimiter, file.name).names)

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        other = next((sign for sign in (";", "\t", "|", ",") if sign in columns[0].name), None)
        if len(columns) == 1 and other is not None and self._form.delimiter is None:
            shown = "\\t" if other == "\t" else other
            raise KanalError(f'{file.name} has one column only, "{shortened(columns[0].name)}"',
                             f'if its values are divided by {shown}, set delimiter = "{shown}" in a [format.NAME] '
                             "that the source names")  # fmt: skip
        with unpacked(file, self._form.unpacked_bytes) as stream:
            first = next(iter(DelimitedReader(stream, self._form, self._delimiter, file.name)), None)
        if first is not None and len(first.bad) > len(first.lines):
            number = len(first.bad) + len(first.lines)
            raise KanalError(f"{file.name}: {len(first.bad):,} of its first {counted(number, 'record')} do not fit its "
                             f"header, {shortened(', '.join(column.name for column in columns), 60)}; for instance, of "
                             f"line {first.bad[0].line}, {first.bad[0].wrong}",
                             "say where the header is by skip_lines, or what divides the values by delimiter, in a "
                             "[format.NAME] that the source names")  # fmt: skip

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        with unpacked(file, self._form.unpacked_bytes) as stream:
            reader = DelimitedReader(stream, self._form, self._delimiter, file.name)
            for found in reader:
                bad = found.bad
                for start in range(0, max(1, len(found.lines)), rows):
                    columns = {
                        name: column.slice(start, rows)
                        for name, column in zip(reader.names, found.columns, strict=True)
                        if name in wanted
                    }
                    lines = found.lines[start : start + rows]
                    yield Part(reader.names, len(lines), columns, lines, bad)
                    bad = []
