"""Workbooks: a sheet, or a range of one, is a table. Needs python-calamine and fastexcel (pip install kanal[excel]).

python-calamine gives each cell's value; it gives an error cell as an empty one, so that fastexcel is asked where such
are, unless the sheet's XML says that there is none.
"""

from __future__ import annotations

import datetime as dt
import io
import re
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from decimal import Decimal
from itertools import islice
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from kanal.connections.description import ColumnInfo
from kanal.connections.files.formats import Part, header_names, needed, text_columns
from kanal.connections.files.packing import telling
from kanal.connections.files.stores import FoundFile
from kanal.connections.files.trial import fits, is_doubtful
from kanal.core.errors import KanalError, counted, listed
from kanal.core.frame import BadLine
from kanal.core.nearest import did_you_mean
from kanal.definition import Format

#: Above it, a workbook, whose numbers are all floating-point, does not have each whole number.
EXACT = 2**53
#: Bytes that a workbook, which is read as a whole, may unpack to, if the job does not state it.
_MOST = 4_000_000_000
#: So many rows are looked at for the header.
_LOOKED_AT = 500


class _Sheet(Struct):
    """The cells of a range by rows, its first row's and column's place in the sheet, and the error cells by place."""

    rows: list[list[Any]]
    top: int
    left: int
    errors: dict[tuple[int, int], str]

    def wider(self, width: int) -> bool:
        """True if its rows have more cells than so many."""
        return bool(self.rows) and len(self.rows[0]) > width


class _Opened(Struct):
    """A sheet as python-calamine has it, its name, and the whole workbook."""

    sheet: Any
    name: str
    content: bytes


#: The number of a row in its sheet, from 0, and its cells.
_Row = tuple[int, list[Any]]
_kept: tuple[Any, _Opened] | None = None


def _forget() -> None:
    """Give back the memory of the workbook that is kept."""
    global _kept  # noqa: PLW0603
    _kept = None


class Workbook:
    """A sheet of a workbook. Every cell is text, as the cell has it: numbers with all digits, dates in ISO form."""

    def __init__(self, form: Format, ending: str) -> None:
        self._form = form
        self._ending = ending

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        names, _, _ = self._begun(file, self._sheet(file, _LOOKED_AT))
        return text_columns(names)

    def first_rows(self, file: FoundFile, count: int) -> list[list[Any]]:
        """The first rows of the sheet, as they are."""
        return self._sheet(file, count).rows[:count]

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Nothing: a sheet has cells."""

    def _begun(self, file: FoundFile, sheet: _Sheet) -> tuple[list[str], list[list[Any]], int]:
        """The names of the columns, the rows below them, and how many came before these."""
        form, rows = self._form, sheet.rows
        begin = form.skip_lines
        if not form.header:
            return list(form.columns), rows[begin:], begin
        while begin < len(rows) and not any(cell != "" for cell in rows[begin]):
            begin += 1
        if begin >= len(rows):
            raise KanalError(f"{file.name} has no header: the sheet is empty there",
                             "correct sheet, range or skip_lines")  # fmt: skip
        header = [text_of(cell) for cell in rows[begin]]
        while header and header[-1] is None:
            header.pop()
        below = [row for row in rows[begin + 1 : begin + 21] if any(cell != "" for cell in row)]
        wider = sum(any(cell != "" for cell in row[len(header) :]) for row in below)
        if wider * 2 > len(below):
            place, width = sheet.top + begin + 1, counted(len(header), "column")
            raise KanalError(f"{file.name}: its header, row {place}, has {width}, and most rows below it have more",
                             "say where the header is by skip_lines or range")  # fmt: skip
        return header_names(file.name, header), rows[begin + 1 :], begin + 1

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        sheet = self._sheet(file)
        names, content, before = self._begun(file, sheet)
        width = len(names)
        chosen = [(place, name) for place, name in enumerate(names) if name in wanted]
        numbered = enumerate(content, sheet.top + before)
        errors = {row for row, _ in sheet.errors}
        while some := list(islice(numbered, rows)):
            some = [(number, row) for number, row in some if any(cell != "" for cell in row) or number in errors]
            wide = [any(cell != "" for cell in row[width:]) for _, row in some] if sheet.wider(width) else []
            bad: list[BadLine] = []
            if errors or any(wide) or any(_has_inexact(row[place] for _, row in some) for place, _ in chosen):
                some, bad = self._without_bad(file, sheet, some, chosen, width)
            columns = {name: texts_of([row[place] for _, row in some]) for place, name in chosen}
            lines = np.array([number + 1 for number, _ in some], dtype=np.int64)
            yield Part(names, len(some), columns, lines, bad)
        file.check_unchanged()
        _forget()

    def _without_bad(
        self, file: FoundFile, sheet: _Sheet, rows: list[_Row], chosen: Sequence[tuple[int, str]], width: int
    ) -> tuple[list[_Row], list[BadLine]]:
        """The rows that are such, and the others."""
        good: list[_Row] = []
        bad: list[BadLine] = []
        for number, row in rows:
            wrong = f"it has values beyond the {width} columns of the header"
            if not any(cell != "" for cell in row[width:]):
                wrong = self._wrong_cell(sheet, number, row, chosen)
            if wrong:
                bad.append(BadLine(file.name, number + 1, ", ".join(text_of(cell) or "" for cell in row), wrong))
            else:
                good.append((number, row))
        return good, bad

    def _wrong_cell(self, sheet: _Sheet, number: int, row: list[Any], chosen: Sequence[tuple[int, str]]) -> str:
        """What is wrong with one of a row's cells that are wanted, if anything is."""
        for place, name in chosen:
            error = sheet.errors.get((number, sheet.left + place))
            if error is not None:
                return f"its cell {name} has the error {error}"
            cell = row[place]
            if type(cell) is float and abs(cell) > EXACT and cell.is_integer():
                return (f"its cell {name} has {Decimal(cell):f}, and a workbook holds whole numbers up to {EXACT:,} "
                        "exactly: have it sent as text")  # fmt: skip
        return ""

    def _sheet(self, file: FoundFile, most: int | None = None) -> _Sheet:
        """The cells of the sheet and range that the job names, or this many rows of it without its errors."""
        left, top, right, bottom = self._form.cells
        right, bottom = None if right is None else right + 1, None if bottom is None else bottom + 1
        opened = self._opened(file)
        asked = {} if most is None else {"nrows": top + self._form.skip_lines + most}
        cells = opened.sheet.to_python(skip_empty_area=False, **asked)
        rows = [row[left:right] for row in cells[top:bottom]] if self._form.range is not None else cells
        missing = right - left - len(rows[0]) if right is not None and rows else 0
        rows = [row + [""] * missing for row in rows] if missing > 0 else rows
        errors = self._errors(file, opened) if most is None else {}
        return _Sheet(rows, top, left, errors)

    def _opened(self, file: FoundFile) -> _Opened:
        """The sheet that the job names, which is kept from when it is looked at to when it is read."""
        global _kept  # noqa: PLW0603 - one workbook, and no more, is kept
        key = (file.store.identity, file, self._form.sheet)
        kept = _kept
        if kept is not None and kept[0] == key:
            return kept[1]
        calamine = needed("python_calamine", "excel", f"{file.name} is a workbook")
        with telling(file), file.open() as stream:
            content = stream.read()
        self._check_size(file, content)
        try:
            book = calamine.CalamineWorkbook.from_filelike(io.BytesIO(content))
            name = self._name_of(file, book.sheet_names)
            self._check_cells(file, content, name)
            made = _Opened(book.get_sheet_by_name(name), name, content)
        except (calamine.CalamineError, zipfile.BadZipFile, zlib.error, EOFError, ValueError, OSError) as error:
            said = " ".join(str(error).split())[:200]
            raise KanalError(f"{file.name} cannot be read as a workbook: {said}", "have it sent again") from None
        _kept = key, made
        return made

    def _check_size(self, file: FoundFile, content: bytes) -> None:
        """Raise KanalError for what would fill the memory."""
        most = self._form.unpacked_bytes or _MOST
        size = len(content)
        if content.startswith(b"PK"):
            with telling(file), zipfile.ZipFile(io.BytesIO(content)) as archive:
                size = sum(info.file_size for info in archive.infolist())
        if size > most:
            raise KanalError(f"{file.name} has {file.size:,} bytes and unpacks to {size:,}, more than {most:,}",
                             "save it as CSV; or allow more by unpacked_bytes, if there is the memory")  # fmt: skip

    def _check_cells(self, file: FoundFile, content: bytes, sheet: str) -> None:
        """Raise KanalError if the rectangle around a sheet's cells would fill the memory."""
        most = self._form.unpacked_bytes or _MOST
        if is_doubtful(content) and not fits(content, sheet, most):
            raise KanalError(f"{file.name}: the sheet {sheet} takes more than {most:,} bytes of memory",
                             "see whether a cell far right or far below is filled; or save it as CSV")  # fmt: skip

    def _name_of(self, file: FoundFile, names: list[str]) -> str:
        sheet = self._form.sheet
        if sheet is None:
            sheet = 1
        if isinstance(sheet, int) and 1 <= sheet <= len(names):
            return names[sheet - 1]
        if sheet in names:
            return str(sheet)
        raise KanalError(f"{file.name} has no sheet {sheet}; it has {listed(names) if names else 'none'}",
                         did_you_mean(str(sheet), names) or "name one of them by sheet")  # fmt: skip

    def _errors(self, file: FoundFile, opened: _Opened) -> dict[tuple[int, int], str]:
        """The error cells, such as #DIV/0!, by row and column from 0."""
        if self._ending in (".xlsx", ".xlsm"):
            with telling(file), zipfile.ZipFile(io.BytesIO(opened.content)) as archive:
                parts = [name for name in archive.namelist() if name.startswith("xl/worksheets/")]
                found = (archive.read(name) for name in parts)
                if not any(b't="e"' in part or b"t='e'" in part for part in found):
                    return {}
        fastexcel = needed("fastexcel", "excel", f"{file.name} is a workbook")
        loaded = fastexcel.read_excel(opened.content).load_sheet(
            opened.name, header_row=None, dtypes="string", skip_rows=0
        )
        _, found = loaded.to_arrow_with_errors()
        errors = found.errors if found is not None else []
        return {tuple(one.position): _error_text(one.detail) for one in errors}


#: What a workbook shows for each error.
_SHOWN = {"Div0": "#DIV/0!", "NA": "#N/A", "Name": "#NAME?", "Null": "#NULL!", "Num": "#NUM!", "Ref": "#REF!",
          "Value": "#VALUE!", "GettingData": "#DATA!"}  # fmt: skip


def _error_text(detail: str) -> str:
    found = re.search(r"Error\((\w+)\)", detail)
    return _SHOWN.get(found[1], found[1]) if found else detail


def text_of(cell: Any) -> str | None:
    """A cell as text; None for an empty one."""
    if cell == "" or cell is None:
        return None
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) <= EXACT else f"{Decimal(repr(cell)):f}"
    if isinstance(cell, dt.datetime):
        return cell.isoformat(" ")
    if isinstance(cell, dt.timedelta):
        seconds = cell.days * 86_400 + cell.seconds
        rest = f".{cell.microseconds:06d}".rstrip("0") if cell.microseconds else ""
        return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{rest}"
    return cell.isoformat() if isinstance(cell, dt.date | dt.time) else str(cell)


def _has_inexact(cells: Iterator[Any]) -> bool:
    """True if a cell may be a whole number that a workbook does not hold exactly."""
    numbers = [cell for cell in cells if type(cell) is float]
    return bool(numbers) and not -EXACT <= min(numbers) <= max(numbers) <= EXACT


def texts_of(cells: list[Any]) -> pa.Array:
    """The cells of a column as text."""
    kinds = set(map(type, cells))
    if kinds == {str}:
        return pa.array([cell or None for cell in cells], pa.string())
    if kinds == {float} or (kinds == {float, str} and all(type(cell) is float or cell == "" for cell in cells)):
        numbers = pa.array([None if cell == "" else cell for cell in cells], pa.float64())
        # At its shortest, a whole number without a point, and 0 without a sign.
        texts = pc.add(numbers, 0.0).cast(pa.string())
        if not pc.any(pc.match_substring(texts, "e"), min_count=0).as_py():
            return texts
    return pa.array([text_of(cell) for cell in cells], pa.string())
