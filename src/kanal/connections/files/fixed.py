"""Files of fixed width: each line is a record, each column some characters of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa

from kanal.connections.description import ColumnInfo
from kanal.connections.files.formats import Part, text_columns
from kanal.connections.files.packing import unpacked
from kanal.connections.files.stores import FoundFile
from kanal.connections.files.text import in_utf8, lines_of, shown, undecoded
from kanal.core.errors import KanalError
from kanal.core.frame import BadLine
from kanal.definition import Format


class FixedWidth:
    """Lines whose columns begin and end at the same characters; spaces around a value are none of it."""

    def __init__(self, form: Format, ending: str) -> None:
        del ending
        self._form = form
        self._places = {name: part for name, part in form.places.items() if isinstance(part, tuple)}
        self._width = max((last for _, last in self._places.values()), default=0)

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        del file
        return text_columns(list(self._places))

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Nothing: the job says where each column is."""

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        names = list(self._places)
        chosen = {name: self._places[name] for name in names if name in wanted}
        comment = self._form.comment
        values: list[str] = []
        lines: list[int] = []
        bad: list[BadLine] = []
        blank: list[tuple[int, bytes]] = []

        def part() -> Part:
            columns = {
                name: pa.array([line[first - 1 : last].strip(" ") or None for line in values], pa.string())
                for name, (first, last) in chosen.items()
            }
            return Part(names, len(values), columns, np.array(lines, dtype=np.int64), list(bad))

        with unpacked(file, self._form.unpacked_bytes) as stream:
            content = lines_of(in_utf8(stream, self._form.encoding, file.name), file.name)
            for number, raw in enumerate(content, 1):
                text = raw.decode("utf-8", "surrogateescape").rstrip("\r\n")
                if number <= self._form.skip_lines or (comment and text.startswith(comment)):
                    continue
                if not text.strip(" \x1a"):
                    blank.append((number, raw))
                    continue
                bad += [BadLine(file.name, place, shown(line), "the line is blank") for place, line in blank]
                blank.clear()  # at the end of the file they are nothing
                wrong = self._wrong(file, number, text, whole=raw.endswith(b"\n"))
                if wrong:
                    bad.append(BadLine(file.name, number, shown(raw), wrong))
                else:
                    values.append(text)
                    lines.append(number)
                if len(values) >= rows or len(bad) >= rows:
                    yield part()
                    values, lines, bad = [], [], []
            yield part()

    def _wrong(self, file: FoundFile, number: int, text: str, whole: bool) -> str:
        """What is wrong with a line, if anything is."""
        if undecoded(text):
            return f"it is not text in {self._form.encoding or 'UTF-8'}"
        if len(text) < self._width and not self._form.pad_lines:
            if not whole:
                raise KanalError(f"{file.name} ends in the middle of a record, on line {number}", "have it sent again")
            return (f"it has {len(text)} characters, and the columns take {self._width}; if spaces at the end are cut "
                    "off, set pad_lines = true")  # fmt: skip
        return ""
