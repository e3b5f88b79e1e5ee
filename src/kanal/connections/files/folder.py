"""A folder whose files are read as tables: those of a pattern are one table, in the order of their names."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

import numpy as np
import pyarrow as pa

from kanal.connections.description import About, ColumnInfo, TableInfo
from kanal.connections.files.formats import FileFormat, Part, format_of, kinds_by_ending
from kanal.connections.files.opening import FoundFile, files_of
from kanal.connections.identity import file_identity
from kanal.connections.plain import PlainCatalogue, PlainConnection
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads
from kanal.core.columns import SourceColumn
from kanal.core.errors import KanalError, counted, listed
from kanal.core.frame import SourceBatch
from kanal.core.types import BIGINT, TEXT, TIMESTAMPTZ

if TYPE_CHECKING:
    import sqlalchemy as sa

#: What is known of each row beside its values, with its type.
OF_ROWS = {"file.name": TEXT, "file.line": BIGINT, "file.modified": TIMESTAMPTZ}


@dataclass(frozen=True)
class FileTable(TableInfo):
    """The table that the files of a pattern make."""

    files: tuple[FoundFile, ...] = ()
    form: FileFormat | None = None

    def source_columns(self) -> dict[str, SourceColumn]:
        """The columns, and what is known of each row: the file, the line, and when the file was modified."""
        return {**super().source_columns(), **{name: SourceColumn(kind, kind) for name, kind in OF_ROWS.items()}}

    def column(self, name: str) -> ColumnInfo | None:
        """The column of a name, or what is known of each row by that name."""
        kind = OF_ROWS.get(name)
        return super().column(name) if kind is None else ColumnInfo(name, str(kind), kind, kind)


class FolderCatalogue(PlainCatalogue):
    """The files of a folder."""

    def __init__(self, connection: str, folder: Path) -> None:
        super().__init__(connection)
        self._folder = folder
        self._known: dict[tuple[str, Any], FileTable] = {}

    def about(self) -> About:
        """What is at the other end; raises KanalError where there is no such folder."""
        self._check_folder()
        return About("folder with", counted(len(files_of(self._folder, "**/*")), "file"), "pyarrow")

    def _check_folder(self) -> None:
        if not self._folder.is_dir():
            what = "is no folder" if self._folder.exists() else "is not there"
            raise KanalError(f"connection {self.connection}: {self._folder} {what}", "correct its url")

    def table_names(self, schema: str | None = None) -> list[str]:
        """The names of the files whose format is known by their ending."""
        del schema
        self._check_folder()
        return [found.name for found in files_of(self._folder, "**/*") if found.ending in kinds_by_ending()]

    def has_table(self, schema: str | None, table: str) -> bool:
        """True where a file fits a pattern."""
        return bool(files_of(self._folder, _pattern(schema, table)))

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """The table that the files of a pattern make, in the format that their ending says; raises KanalError."""
        return self._described(_pattern(schema, table), None)

    def describe_files(self, pattern: str, form: Any) -> TableInfo:
        """The same in a format of the job's, if one is given; raises KanalError where that cannot be right."""
        known = self._known.get((pattern, form))
        if known is None:
            known = self._known[pattern, form] = self._described(pattern, form)
            if known.form is not None:
                known.form.doubt(known.files[0], known.columns)
        return known

    def _described(self, pattern: str, form: Any) -> FileTable:
        self._check_folder()
        if Path(pattern).is_absolute() or ".." in Path(pattern).parts:
            raise KanalError(f'"{pattern}" leads out of the folder', "name files within it")
        try:
            found = files_of(self._folder, pattern)
        except (ValueError, NotImplementedError) as error:
            raise KanalError(f'"{pattern}" is no pattern of file names: {error}', "write one such as *.csv") from None
        if not found:
            there = [one.name for one in files_of(self._folder, "**/*")]
            shown = ", ".join(there[:12]) + (f" and {len(there) - 12} more" if len(there) > 12 else "")
            raise KanalError(f'no file of connection {self.connection} fits "{pattern}"',
                             f"it has: {shown}" if there else "the folder is empty")  # fmt: skip
        made = format_of(found[0], form)
        columns = made.columns_of(found[0])
        return FileTable(None, pattern, columns, files=tuple(found), form=made)


def _pattern(schema: str | None, table: str) -> str:
    """A file's name, which was taken for a schema and a table where it has a dot."""
    return f"{schema}.{table}" if schema else table


class Folder(PlainConnection):
    """A folder of files, as a source."""

    reads = frozenset({Reads.ROWS, Reads.FILES})

    def __init__(self, name: str, folder: Path) -> None:
        super().__init__(name)
        self.folder = folder
        self._catalogue = FolderCatalogue(name, folder)

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        """A connection to the folder of a URL; a relative one starts from the job's folder."""
        return cls(name, (folder / (url.database or ".")).absolute())

    @property
    def catalogue(self) -> FolderCatalogue:
        return self._catalogue

    @property
    def identity(self) -> Hashable:
        return "file", file_identity(self.folder)

    @property
    def shown_url(self) -> str:
        return f"file://{self.folder.as_posix()}"

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        table, left = reading.table, reading.limit
        if not isinstance(table, FileTable):
            raise KanalError(f"connection {self.name} has no table {table.name}", "name files")
        assert table.form is not None
        for file in table.files:
            for part in table.form.parts(file, reading.columns, reading.batch_rows):
                _check_columns(file, part, table)
                batch = _batch(file, part, reading.columns)
                if left is not None and batch.rows >= left:
                    yield replace(batch.take(np.arange(left)), bad_lines=batch.bad_lines)
                    return
                left = None if left is None else left - batch.rows
                if batch.rows or batch.bad_lines:
                    yield batch


def _check_columns(file: FoundFile, part: Part, table: FileTable) -> None:
    """Raise KanalError where a file has other columns than the first of its pattern."""
    names = set(table.names)
    missing, more = [name for name in table.names if name not in part.names], [n for n in part.names if n not in names]
    if missing or more:
        said = [f"lacks {listed(missing)}"] if missing else []
        said += [f"has {listed(more)}"] if more else []
        raise KanalError(f"{file.name} {' and '.join(said)}, other than {table.files[0].name}",
                         "give files of one kind a pattern of their own, or correct the file")  # fmt: skip


def _batch(file: FoundFile, part: Part, wanted: Sequence[str]) -> SourceBatch:
    columns: dict[str, pa.Array] = {}
    for name in wanted:
        if name == "file.name":
            columns[name] = pa.array([file.name] * part.rows, pa.string())
        elif name == "file.line":
            columns[name] = pa.array(part.lines, pa.int64())
        elif name == "file.modified":
            columns[name] = pa.array([file.modified] * part.rows, pa.timestamp("us", "UTC"))
        else:
            columns[name] = part.columns[name]
    strays = {name: found for name, found in part.strays.items() if name in columns}
    return SourceBatch(part.rows, columns, strays, bad_lines=tuple(part.bad))
