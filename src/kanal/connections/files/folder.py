"""A connection to a place that keeps files: the files of a pattern are one table, in the order of their names."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Hashable, Iterator, Sequence
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any, Self

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.base import Connection
from kanal.connections.description import About, TableInfo
from kanal.connections.files.formats import FileFormat, Part, format_of, kinds_by_ending, text_columns
from kanal.connections.files.journal import FileJournal
from kanal.connections.files.loading import FileLoad
from kanal.connections.files.naming import filled, has_place, scope, whole_pattern
from kanal.connections.files.packing import ending_of
from kanal.connections.files.sniffing import sniffed
from kanal.connections.files.stores import FoundFile, LocalStore, Store, check_pattern, everything_in, fits
from kanal.connections.files.table import FileTable
from kanal.connections.files.writers import writer_of
from kanal.connections.journal import LoadedFile
from kanal.connections.plain import PlainCatalogue, PlainConnection, PlainTables
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads, Writes
from kanal.core.errors import KanalError, counted, listed
from kanal.core.faults import Fault
from kanal.core.frame import BadLine, SourceBatch
from kanal.core.nearest import did_you_mean

if TYPE_CHECKING:
    import sqlalchemy as sa


class FolderCatalogue(PlainCatalogue):
    """The files of a store."""

    def __init__(self, connection: str, store: Store) -> None:
        super().__init__(connection)
        self.store = store
        self._known: dict[tuple[str, str, str], FileTable] = {}

    def about(self) -> About:
        """The server and its version; raises KanalError if it cannot be reached."""
        self._check()
        return About(f"{self.store.kind} with", counted(len(everything_in(self.store)), "file"), "pyarrow")

    def _check(self) -> None:
        try:
            self.store.check()
        except KanalError as error:
            raise KanalError(f"connection {self.connection}: {error.what}", error.remedy) from None

    def table_names(self, schema: str | None = None) -> list[str]:
        """The names of the files whose format is known by their ending."""
        del schema
        self._check()
        return [found.name for found in everything_in(self.store) if _may_be_read(found)]

    def has_table(self, schema: str | None, table: str) -> bool:
        """True if a file fits a pattern, or may be one of those that a load writes."""
        return bool(self.store.find(scope(_pattern(schema, table), braces=False)))

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """The table that the files of a pattern form, in the format that the first readable one seems to have.

        Raises KanalError if no file exists or can be read.
        """
        pattern = _pattern(schema, table)
        errors = []
        for file in self._files(pattern):
            try:
                guess = sniffed(file)
                described, _ = self._described(file, pattern, guess.form, "fail")
                return replace(described, guessed=guess.said, explored=True)
            except KanalError as error:
                errors.append(error)
        raise errors[0]

    def describe_files(self, pattern: str, form: Any, differ: str = "fail", lenient: bool = False) -> TableInfo:
        """The same in a format of the job's, if one is given; raises KanalError if that cannot be right.

        With `lenient`, the first file that can be read counts.
        """
        key = (pattern, form.model_dump_json() if form is not None else "", f"{differ} {lenient}")
        known = self._known.get(key)
        if known is None:
            found = self._files(pattern)
            readable = (one for one in found if not (lenient and damage_of(one, form)))
            first = next(readable, found[0])
            known, made = self._described(first, pattern, form, differ)
            known = replace(known, lenient=lenient)
            made.doubt(first, known.columns)
            self._known[key] = known
        return known

    def _files(self, pattern: str) -> list[FoundFile]:
        """The files of a pattern; raises KanalError if no file fits it."""
        check_pattern(pattern)
        self._check()
        found = self.store.find(pattern)
        if not found:
            there = [one.name for one in everything_in(self.store)]
            shown = ", ".join(there[:12]) + (f" and {len(there) - 12} more" if len(there) > 12 else "")
            raise KanalError(f'no file of connection {self.connection} fits "{pattern}"',
                             f"it has: {shown}" if there else "it has no files")  # fmt: skip
        return found

    def _described(self, first: FoundFile, pattern: str, form: Any, differ: str) -> tuple[FileTable, FileFormat]:
        made = format_of(first, form)
        return FileTable(None, pattern, made.columns_of(first), form=form, differ=differ, first=first.name), made


def _may_be_read(file: FoundFile) -> bool:
    """True if the ending of a file, or of the file in an archive, belongs to a format; also for damaged archives."""
    try:
        return ending_of(file) in kinds_by_ending()
    except KanalError:
        return True


def _pattern(schema: str | None, table: str) -> str:
    """A file's name, which was taken for a schema and a table where it has a dot."""
    return f"{schema}.{table}" if schema else table


class FileTables(PlainTables):
    """The columns of files: of any type, as the mapping makes them."""

    def create(self, table: TableInfo) -> None:
        """Nothing: files are created when they are written."""


class Folder(PlainConnection):
    """A place that keeps files, as source and target."""

    reads = frozenset({Reads.ROWS, Reads.FILES, Reads.MOVE})
    writes = frozenset({Writes.APPEND, Writes.EMPTY, Writes.REMEMBER, Writes.SHARE, Writes.FILES})

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

    def has_parts(self, table: TableInfo) -> bool:
        """True: files of one pattern may be those of others too."""
        del table
        return True

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        """True if a file may fit the patterns of both."""
        if self.identity != other.identity:
            return False
        one, two = pattern_of(table), pattern_of(there)
        # A name of the one in which each wild card represents some text.
        return one == two or fits(one, two.replace("*", "x")) or fits(two, one.replace("*", "x"))

    # --- as a target -----------------------------------------------------------------------------------------------

    @property
    def journal(self) -> FileJournal:
        return FileJournal(self.store)

    @property
    def ddl(self) -> FileTables:
        """How the columns of files are created."""
        return FileTables(self.name)

    def can_undo(self, sql: str) -> bool:
        """False: it takes no SQL."""
        del sql
        return False

    def files_to_write(
        self, pattern: str, form: Any, table: TableInfo, partition_by: Sequence[str], file_rows: int | None, adds: bool
    ) -> FileTable:
        """The table that a mapping makes, as files of a pattern; raises KanalError if it cannot be written so."""
        check_pattern(pattern)
        for name in partition_by:
            if table.column(name) is None:
                raise KanalError(f'partition_by: there is no column "{name}"', did_you_mean(name, table.names))
        names = tuple(column.name for name in partition_by if (column := table.column(name)) is not None)
        whole = whole_pattern(pattern, names, file_rows is not None)
        if adds and not has_place(whole, "run"):
            raise KanalError(f"{pattern} would be written again by the next run",
                             'write {run} in its name, or set write = "truncate"')  # fmt: skip
        writer, checked = writer_of(filled(whole, {}, "x"), form)
        if not checked.header and list(checked.columns) != table.names:
            raise KanalError(f"the columns of the format are not those of the mapping, {listed(table.names)}",
                             "name these in their order, or set header = true")  # fmt: skip
        if file_rows is not None and writer.most_rows is not None and file_rows > writer.most_rows:
            raise KanalError(f"file_rows is more than the {writer.most_rows:,} that such a file holds", "write less")
        columns = text_columns(table.names) if writer.texts else table.columns
        return FileTable(
            None, whole, columns, form=checked, first=whole, writer=writer, partition_by=names, file_rows=file_rows
        )

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        """The rows as a file holds them, and the faults of values that it could not hold unchanged."""
        assert isinstance(table, FileTable) and table.writer is not None
        return table.writer.stored(rows, table.form)

    @contextlib.contextmanager
    def load(self) -> Iterator[FileLoad]:
        """A transaction: files become visible together when it is committed."""
        self.journal.catch_up()
        load = FileLoad(self, self.store)
        try:
            yield load
        finally:
            load.close()

    # --- as a source -----------------------------------------------------------------------------------------------

    def files_of(self, table: TableInfo) -> list[FoundFile]:
        """The files of a table as they are now, in their order."""
        return self.store.find(pattern_of(table))

    def with_files(self, table: TableInfo, files: Sequence[FoundFile]) -> TableInfo:
        """A table with some of its files."""
        assert isinstance(table, FileTable)
        return replace(table, files=tuple(files))

    def files_like(self, table: TableInfo, pattern: str) -> TableInfo:
        """The table of files of a pattern that are not there yet, and will be written as another table says."""
        return FileTable(None, pattern, table.columns, form=getattr(table, "form", None), first=table.name)

    def after_load(self, file: LoadedFile) -> str | None:
        """Move or delete a loaded file as its entry requires, if this is still to be done; a note if the file stays, or
        was moved because it cannot be read.

        Another file of the same name stays, and no file is overwritten. Raises KanalError.
        """
        found = self.store.look_up(file.name)
        if found is None or file.pending is None:
            return None
        if not found.same_as(file):
            return f"{file.name} has changed since it was loaded, so it stays for the next run"
        act, _, to = file.pending.partition(" ")
        if act in ("move", "aside"):
            for name in _names_like(to, file.run):
                there = self.store.look_up(name)
                if there is None:
                    self.store.move(file.name, name)
                    return f"{file.name} cannot be read, and is now {name}" if act == "aside" else None
                if there.same_as(file):  # a copy of an earlier try
                    break
        self.store.remove(file.name)
        return None

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        table, left = reading.table, reading.limit
        if not isinstance(table, FileTable):
            raise KanalError(f"connection {self.name} has no table {table.name}", "name files")
        types = {name: column.stored.arrow for name, column in table.source_columns().items()}
        for file in self.store.find(pattern_of(table)) if table.files is None else table.files:
            for part in _parts(file, table, reading):
                batch = _batch(file, part, reading.columns, types)
                if left is not None and batch.rows >= left:
                    first = batch.take(np.arange(left))
                    first.bad_lines, first.file = batch.bad_lines, file.name
                    yield first
                    return
                left = None if left is None else left - batch.rows
                if batch.rows or batch.bad_lines:
                    yield batch


def _names_like(name: str, run: int) -> Iterator[str]:
    """A file's name, and others for the case that it is taken: with the number of a run, and then with one more."""
    yield name
    path = PurePosixPath(name)
    ending = "".join(path.suffixes)
    bare = f"{path.name[: len(path.name) - len(ending)]}-{run:06d}"
    yield path.with_name(f"{bare}{ending}").as_posix()
    for number in itertools.count(2):
        yield path.with_name(f"{bare}-{number}{ending}").as_posix()


def pattern_of(table: TableInfo) -> str:
    """The pattern that the files of a table fit."""
    return scope(table.name) if isinstance(table, FileTable) and table.writer is not None else table.name


def _parts(file: FoundFile, table: FileTable, reading: Reading) -> Iterator[Part]:
    """A file's rows; raises KanalError if its columns are others, or gives one bad line for all of it."""
    damage = damage_of(file, table.form) if table.lenient else ""
    if damage:
        yield _unreadable(file, f"{damage}; none of its rows is loaded")
    elif table.explored:
        try:
            yield from _parts(file, replace(table, explored=False), reading)
        except KanalError as error:
            yield _unreadable(file, error.what)
    else:
        yield from _parts_as_described(file, table, reading)


def _unreadable(file: FoundFile, why: str) -> Part:
    """No rows, and a bad line that represents the whole file."""
    return Part([], 0, {}, np.zeros(0, dtype=np.int64), [BadLine(file.name, 1, "", why, whole=True)])


def _parts_as_described(file: FoundFile, table: FileTable, reading: Reading) -> Iterator[Part]:
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


def damage_of(file: FoundFile, form: Any) -> str:
    """Why a file cannot be read to its end; "" if it can."""
    try:
        for _ in format_of(file, form).parts(file, (), 50_000):
            pass
    except KanalError as error:
        return error.what
    except OSError as error:
        return f"{file.name} cannot be read: {error.strerror or error}"
    return ""


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
            # Of another type than in the first file: the text represents the value.
            columns[name] = values if values.type == types[name] else values.cast(pa.string())
    strays = {name: found for name, found in part.strays.items() if name in columns}
    return SourceBatch(part.rows, columns, strays, bad_lines=tuple(part.bad), file=file.name)
