"""A table of files: what the files of a pattern have in common."""

from __future__ import annotations

from typing import Any

import pyarrow as pa

from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.files.stores import FoundFile
from kanal.connections.files.writer import Writer
from kanal.core.columns import SourceColumn
from kanal.core.types import BIGINT, TEXT, TIMESTAMPTZ

#: The file, line and time of each row, as columns with their types.
OF_ROWS = {"file.name": TEXT, "file.line": BIGINT, "file.modified": TIMESTAMPTZ}


class FileTable(TableInfo, frozen=True):
    """The table that the files of a pattern make. `form` is the format that the job gives, `differ` what is done with a
    file whose columns are others."""

    form: Any = None
    differ: str = "fail"
    #: True if files that cannot be read are left out.
    lenient: bool = False
    #: True while one looks at the files: the rows before a damage are read, and the damage is a bad line.
    explored: bool = False
    #: The file whose columns these are.
    first: str = ""
    #: Guesses about their format, in sentences.
    guessed: tuple[str, ...] = ()
    #: The files to be read, where these are not all that there are when the reading begins.
    files: tuple[FoundFile, ...] | None = None
    #: For files to be written: the writer, the columns that divide them, and the number of rows of each.
    writer: type[Writer] | None = None
    partition_by: tuple[str, ...] = ()
    file_rows: int | None = None

    def source_columns(self) -> dict[str, SourceColumn]:
        """The columns, and the file, the line and the time of modification of each row."""
        return {**super().source_columns(), **{name: SourceColumn(kind, kind) for name, kind in OF_ROWS.items()}}

    def given_back(self, name: str, values: pa.Array) -> pa.Array:
        """Values of a column as the files give them back."""
        if self.writer is None or not self.form.escape_formulas:
            return values
        rows, _ = self.writer.stored(pa.RecordBatch.from_arrays([values], names=[name]), self.form)
        return rows.column(0)

    def column(self, name: str) -> ColumnInfo | None:
        """The column of a name, also if it holds the file, line or time of a row."""
        kind = OF_ROWS.get(name)
        return super().column(name) if kind is None else ColumnInfo(name, str(kind), kind, kind)
