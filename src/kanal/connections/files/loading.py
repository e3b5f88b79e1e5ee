"""A load into files: they are written where nobody sees them, and become visible together when it is committed."""

from __future__ import annotations

import contextlib
import uuid
from collections.abc import Iterator, Sequence
from typing import IO, Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from kanal.connections.base import Target
from kanal.connections.description import TableInfo
from kanal.connections.files.formats import format_of
from kanal.connections.files.journal import FileJournal
from kanal.connections.files.naming import RunMark, as_part, filled, has_place, scope, values_of
from kanal.connections.files.stores import FoundFile, Receipt, Store
from kanal.connections.files.table import FileTable
from kanal.connections.files.writer import Writer
from kanal.connections.files.writers import packed
from kanal.connections.loading import RefusedRow
from kanal.connections.plain import PlainLoad
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.types import TEXT

#: Files of one load that are written at the same time.
_MOST_OPEN = 500


class _Open(Struct):
    """A file that is being written."""

    name: str
    stream: IO[bytes]
    sink: IO[bytes]
    writer: Writer


class _Written(Struct):
    """What of a table is written so far."""

    table: FileTable
    emptied: bool = False
    open: dict[str, _Open] = field(default_factory=dict)
    #: By partition, how many rows were encoded.
    counts: dict[tuple[str, ...], int] = field(default_factory=dict)
    names: set[str] = field(default_factory=set)

    @property
    def writer(self) -> type[Writer]:
        """Who writes its files."""
        assert self.table.writer is not None
        return self.table.writer


class FileLoad(PlainLoad):
    """One load into a place of files."""

    def __init__(self, target: Target, store: Store) -> None:
        super().__init__(target)
        self._store = store
        self._journal = FileJournal(store)
        self._mark = RunMark()
        self._tables: dict[str, _Written] = {}
        self._ready: list[Receipt] = []
        self._streams: list[IO[bytes]] = []
        self._committed = False
        #: What is to be remembered with the commit, by name; None is forgotten.
        self.notes: dict[str, str | None] = {}

    def for_run(self, number: int, step: str, moment: Any) -> None:
        self._mark = RunMark(number, step, moment)

    def _of(self, table: TableInfo) -> _Written:
        return self._tables.setdefault(table.name, _Written(table))  # type: ignore[arg-type]

    def empty(self, table: TableInfo) -> int:
        state = self._of(table)
        state.emptied = True
        return sum(_rows_of(file, state.table) for file in self._store.find(scope(table.name)))

    def encode(self, table: TableInfo, rows: pa.RecordBatch) -> list[tuple[str, Any]]:
        """The rows by the files that they go to, each part as the file's writer takes it."""
        state = self._of(table)
        info = state.table
        columns = [info.column(name) for name in rows.schema.names]
        types = [column.type or TEXT for column in columns if column is not None]
        made = []
        for key, part in _partitions(info, rows):
            start = 0
            while start < part.num_rows:
                done = state.counts.get(key, 0)
                number, taken = 1, part.num_rows - start
                if info.file_rows is not None:
                    number, used = divmod(done, info.file_rows)
                    number, taken = number + 1, min(taken, info.file_rows - used)
                elif state.writer.most_rows is not None and done + taken > state.writer.most_rows:
                    raise KanalError(f"{table.name} would have more than {state.writer.most_rows:,} rows",
                                     "divide it by file_rows, or write CSV")  # fmt: skip
                state.counts[key] = done + taken
                piece = part.slice(start, taken)
                made.append((self._name(info, key, number), state.writer.encoded(piece, types, info.form)))
                start += taken
        return made

    def _name(self, info: FileTable, key: tuple[str, ...], number: int) -> str:
        values = values_of(self._mark) | dict(zip(info.partition_by, map(as_part, key), strict=True))
        return filled(info.name, values | {"part": f"{number:04d}"})

    def insert(self, table: TableInfo, encoded: list[tuple[str, Any]]) -> Sequence[RefusedRow]:
        state = self._of(table)
        for name, content in encoded:
            if name not in state.open:
                if name in state.names:
                    raise KanalError(f"{name} would be written twice", "write {part} in its name")
                if len(state.open) >= _MOST_OPEN:
                    raise KanalError(
                        f"{table.name} divides the rows into more than {_MOST_OPEN} files at once",
                        "name columns of fewer values in partition_by, or order the source by them",
                    )
                self._close_former(state, name)
                self._begin(state, name)
            state.open[name].writer.add(content)
        return ()

    def _close_former(self, state: _Written, name: str) -> None:
        """End the files that are full, if a file takes this many rows."""
        if state.table.file_rows is not None and not state.table.partition_by:
            for other in [other for other in state.open if other != name]:
                self._end(state, other)

    def _begin(self, state: _Written, name: str) -> None:
        info = state.table
        if not state.emptied and self._store.look_up(name) is not None:
            if not has_place(info.name, "run"):
                raise KanalError(f"{name} is written as a whole, and no rows can be added to it",
                                 "run the job again, or write {run} in the name")  # fmt: skip
            raise KanalError(f"{name} is there already, of a run of another run log", "move it, or name another file")
        stream = self._store.begin()
        self._streams.append(stream)
        sink = packed(stream, name)
        names = [column.name for column in info.columns]
        types = [column.type or TEXT for column in info.columns]
        state.open[name] = _Open(name, stream, sink, state.writer(sink, names, types, info.form))
        state.names.add(name)

    def _end(self, state: _Written, name: str) -> None:
        done = state.open.pop(name)
        done.writer.finish()
        if done.sink is not done.stream:
            done.sink.close()
        self._ready.append(self._store.prepare(done.stream, name))

    def commit(self) -> None:
        gone: list[str] = []
        for state in self._tables.values():
            info = state.table
            if not state.names and state.emptied and not info.partition_by:
                self._begin(state, self._name(info, (), 1))
            for name in list(state.open):
                self._end(state, name)
            if state.emptied:
                there = [file.name for file in self._store.find(scope(info.name))]
                gone += [name for name in there if name not in state.names]
        self._committed = True
        content = {"publish": self._ready, "remove": gone, "notes": self.notes}
        self._journal.commit(f"{uuid.uuid4().hex}.json", content)

    def close(self) -> None:
        for stream in self._streams:
            with contextlib.suppress(OSError, ValueError):
                stream.close()
        if not self._committed:
            for receipt in self._ready:
                self._store.discard(receipt)
            self._store.tidy()


def _partitions(info: FileTable, rows: pa.RecordBatch) -> Iterator[tuple[tuple[str, ...], pa.RecordBatch]]:
    """The rows by the values of the columns that divide them, in the order in which these come."""
    if not info.partition_by:
        yield (), rows
        return
    texts: list[Sequence[str | None]] = []
    for name in info.partition_by:
        column = info.column(name)
        kind = column.type if column is not None and column.type is not None else TEXT
        values = rows.column(name)
        texts.append((values if kind == TEXT else converter(kind, TEXT)(values)[0]).to_pylist())
    keys = list(zip(*texts, strict=True))
    places: dict[tuple[Any, ...], list[int]] = {}
    for place, key in enumerate(keys):
        places.setdefault(key, []).append(place)
    for key, found in places.items():
        yield key, rows.take(pa.array(np.array(found)))


def _rows_of(file: FoundFile, table: FileTable) -> int:
    """How many rows a file has."""
    return sum(part.rows for part in format_of(file, table.form).parts(file, (), 100_000))
