"""A connection to a place that keeps files: the files of a pattern are one table, in the order of their names."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

import numpy as np
import pyarrow as pa

from kanal.connections.base import Connection
from kanal.connections.description import About, ColumnInfo, TableInfo
from kanal.connections.files.formats import FileFormat, Part, format_of, kinds_by_ending
from kanal.connections.files.packing import ending_of
from kanal.connections.files.stores import FoundFile, LocalStore, Store, check_pattern, fits
from kanal.connections.plain import PlainCatalogue, PlainConnection
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads
from kanal.core.columns import SourceColumn
from kanal.core.errors import KanalError, counted, listed
from kanal.core.frame import BadLine, SourceBatch
from kanal.core.types import BIGINT, TEXT, TIMESTAMPTZ

if TYPE_CHECKING:
    import sqlalchemy as sa

#: What is known of each row beside its values, with its type.
OF_ROWS = {"file.name": TEXT, "file.line": BIGINT, "file.modified": TIMESTAMPTZ}


@dataclass(frozen=True)
class FileTable(TableInfo):
    """The table that the files of a pattern make. `form` is the format that the job gives, `differ` what is done with a
    file whose columns are others."""

    form: Any = None
    differ: str = "fail"
    #: The file whose columns these are.
    first: str = ""
    #: The files to be read, where these are not all that there are when the reading begins.
    files: tuple[FoundFile, ...] | None = None

    def source_columns(self) -> dict[str, SourceColumn]:
        """The columns, and what is known of each row: the file, the line, and when the file was modified."""
        return {**super().source_columns(), **{name: SourceColumn(kind, kind) for name, kind in OF_ROWS.items()}}

    def column(self, name: str) -> ColumnInfo | None:
        """The column of a name, or what is known of each row by that name."""
        kind = OF_ROWS.get(name)
        return super().column(name) if kind is None else ColumnInfo(name, str(kind), kind, kind)


class FolderCatalogue(PlainCatalogue):
    """The files of a store."""

    def __init__(self, connection: str, store: Store) -> None:
        super().__init__(connection)
        self.store = store
        self._known: dict[tuple[str, str, str], FileTable] = {}

    def about(self) -> About:
        """What is at the other end; raises KanalError where it cannot be reached."""
        self._check()
        return About(f"{self.store.kind} with", counted(len(self.store.find("**/*")), "file"), "pyarrow")

    def _check(self) -> None:
        try:
            self.store.check()
        except KanalError as error:
            raise KanalError(f"connection {self.connection}: {error.what}", error.remedy) from None

    def table_names(self, schema: str | None = None) -> list[str]:
        """The names of the files whose format is known by their ending."""
        del schema
        self._check()
        return [found.name for found in self.store.find("**/*") if ending_of(found) in kinds_by_ending()]

    def has_table(self, schema: str | None, table: str) -> bool:
        """True where a file fits a pattern."""
        return bool(self.store.find(_pattern(schema, table)))

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """The table that the files of a pattern make, in the format that their ending says; raises KanalError."""
        return self._described(_pattern(schema, table), None, "fail")[0]

    def describe_files(self, pattern: str, form: Any, differ: str = "fail") -> TableInfo:
        """The same in a format of the job's, if one is given; raises KanalError where that cannot be right."""
        key = (pattern, form.model_dump_json() if form is not None else "", differ)
        known = self._known.get(key)
        if known is None:
            known, file, made = self._described(pattern, form, differ)
            made.doubt(file, known.columns)
            self._known[key] = known
        return known

    def _described(self, pattern: str, form: Any, differ: str) -> tuple[FileTable, FoundFile, FileFormat]:
        check_pattern(pattern)
        self._check()
        found = self.store.find(pattern)
        if not found:
            there = [one.name for one in self.store.find("**/*")]
            shown = ", ".join(there[:12]) + (f" and {len(there) - 12} more" if len(there) > 12 else "")
            raise KanalError(f'no file of connection {self.connection} fits "{pattern}"',
                             f"it has: {shown}" if there else "it has no files")  # fmt: skip
        made = format_of(found[0], form)
        columns = made.columns_of(found[0])
        return FileTable(None, pattern, columns, form=form, differ=differ, first=found[0].name), found[0], made


def _pattern(schema: str | None, table: str) -> str:
    """A file's name, which was taken for a schema and a table where it has a dot."""
    return f"{schema}.{table}" if schema else table


class Folder(PlainConnection):
    """A place that keeps files, as a source."""

    reads = frozenset({Reads.ROWS, Reads.FILES})

    def __init__(self, name: str, store: Store) -> None:
        super().__init__(name)
        self.store = store
        self._catalogue = FolderCatalogue(name, store)

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        """A connection to the folder of a URL; a relative one starts from the job's folder."""
        return cls(name, LocalStore((folder / (url.database or ".")).absolute()))

    @property
    def catalogue(self) -> FolderCatalogue:
        return self._catalogue

    @property
    def identity(self) -> Hashable:
        return self.store.identity

    @property
    def shown_url(self) -> str:
        return self.store.shown

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True where a file may fit the patterns of both."""
        if self.identity != other.identity:
            return False
        return table.name == there.name or fits(table.name, there.name) or fits(there.name, table.name)

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        table, left = reading.table, reading.limit
        if not isinstance(table, FileTable):
            raise KanalError(f"connection {self.name} has no table {table.name}", "name files")
        types = {name: column.stored.arrow for name, column in table.source_columns().items()}
        for file in self.store.find(table.name) if table.files is None else table.files:
            for part in _parts(file, table, reading):
                batch = _batch(file, part, reading.columns, types)
                if left is not None and batch.rows >= left:
                    yield replace(batch.take(np.arange(left)), bad_lines=batch.bad_lines)
                    return
                left = None if left is None else left - batch.rows
                if batch.rows or batch.bad_lines:
                    yield batch


def _parts(file: FoundFile, table: FileTable, reading: Reading) -> Iterator[Part]:
    """A file's rows; raises KanalError where its columns are others, or gives one bad line for all of it."""
    made = format_of(file, table.form)
    for part in made.parts(file, reading.columns, reading.batch_rows):
        wrong = _other_columns(part, table)
        if wrong and table.differ == "fail":
            raise KanalError(f"{file.name} {wrong}, other than {table.first}",
                             "correct the file, give files of one kind a pattern of their own, or set columns_differ "
                             'to "reject" or "null"')  # fmt: skip
        if wrong and table.differ == "reject":
            said = f"it {wrong}, other than {table.first}; none of its rows is loaded"
            yield replace(part, rows=0, bad=[BadLine(file.name, 1, ", ".join(part.names), said, whole=True)])
            return
        yield part


def _other_columns(part: Part, table: FileTable) -> str:
    """What of a file's columns differs from those of the first of its pattern."""
    names = set(table.names)
    missing, more = [name for name in table.names if name not in part.names], [n for n in part.names if n not in names]
    said = [f"lacks {listed(missing)}"] if missing else []
    said += [f"has {listed(more)}"] if more else []
    return " and ".join(said)


def _batch(file: FoundFile, part: Part, wanted: Sequence[str], types: dict[str, pa.DataType]) -> SourceBatch:
    columns: dict[str, pa.Array] = {}
    for name in wanted:
        if name == "file.name":
            columns[name] = pa.repeat(pa.scalar(file.name, pa.string()), part.rows)
        elif name == "file.line":
            columns[name] = pa.array(part.lines[: part.rows], pa.int64())
        elif name == "file.modified":
            columns[name] = pa.repeat(pa.scalar(file.modified, pa.timestamp("us", "UTC")), part.rows)
        elif name not in part.columns or not part.rows:
            columns[name] = pa.nulls(part.rows, types[name])
        else:
            values = part.columns[name]
            # Of another type than in the first file: the text stands for the value.
            columns[name] = values if values.type == types[name] else values.cast(pa.string())
    strays = {name: found for name, found in part.strays.items() if name in columns}
    return SourceBatch(part.rows, columns, strays, bad_lines=tuple(part.bad))
