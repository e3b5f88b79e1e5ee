"""Parquet and Arrow's own formats: files that say their types, of which the wanted columns only are read."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from kanal.connections.arrow import as_stored, sql_type
from kanal.connections.description import ColumnInfo
from kanal.connections.files.formats import Part
from kanal.connections.files.packing import ending_of, telling
from kanal.connections.files.stores import FoundFile, LocalStore
from kanal.core.errors import KanalError
from kanal.core.frame import Strays
from kanal.definition import Format

Batches = Iterator[pa.RecordBatch]


class Columnar:
    """Files that hold Arrow's types."""

    def __init__(self, form: Format, ending: str) -> None:
        del form, ending

    def schema(self, source: Any, file: FoundFile) -> pa.Schema:
        """The columns and types of a file."""
        raise NotImplementedError

    def record_batches(self, source: Any, file: FoundFile, wanted: Sequence[str], rows: int) -> Batches:
        """Its rows."""
        raise NotImplementedError

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        with _opened(file) as source:
            schema = self.schema(source, file)
            names = schema.names
        doubled = next((name for name in names if names.count(name) > 1), None)
        if doubled is not None:
            raise KanalError(f'{file.name} has two columns named "{doubled}"', "rename one of them")
        return tuple(
            ColumnInfo(one.name, str(one.type), found := sql_type(one.type), found, one.nullable, loose=True)
            for one in schema
        )

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Nothing: such files say what they are."""

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        with _opened(file) as source:
            schema = self.schema(source, file)
            chosen = [name for name in schema.names if name in wanted]
            place = 1
            for batch in self.record_batches(source, file, chosen, rows):
                for start in range(0, batch.num_rows, rows):
                    piece = batch.slice(start, rows)
                    piece.validate(full=True)  # a damaged file has texts that are none
                    columns: dict[str, pa.Array] = {}
                    strays: dict[str, Strays] = {}
                    for name in chosen:
                        columns[name], found = as_stored(piece.column(name))
                        strays |= {name: found} if found else {}
                    lines = np.arange(place, place + piece.num_rows, dtype=np.int64)
                    place += piece.num_rows
                    yield Part(schema.names, piece.num_rows, columns, lines, [], strays)
        file.check_unchanged()


@contextlib.contextmanager
def _opened(file: FoundFile) -> Iterator[Any]:
    """A file as Arrow reads it."""
    with telling(file):
        if isinstance(file.store, LocalStore):
            with pa.memory_map(str(file.store.path_of(file.name))) as source:
                yield source
        else:
            with file.open() as stream, pa.PythonFile(stream, "r") as source:
                yield source


class ParquetFile(Columnar):
    """Parquet."""

    def schema(self, source: Any, file: FoundFile) -> pa.Schema:
        import pyarrow.parquet as pq

        return pq.read_schema(source)

    def record_batches(self, source: Any, file: FoundFile, wanted: Sequence[str], rows: int) -> Batches:
        import pyarrow.parquet as pq

        with pq.ParquetFile(source) as opened:
            left = opened.metadata.num_rows
            for batch in opened.iter_batches(rows, columns=list(wanted)):
                left -= batch.num_rows
                yield batch
        if left:
            raise KanalError(f"{file.name} is damaged: it has other than the {opened.metadata.num_rows:,} rows that it "
                             "says", "have it sent again")  # fmt: skip


class ArrowFile(Columnar):
    """Arrow's own file, and its stream."""

    def schema(self, source: Any, file: FoundFile) -> pa.Schema:
        found = self._reader(source, file).schema
        source.seek(0)
        return found

    def record_batches(self, source: Any, file: FoundFile, wanted: Sequence[str], rows: int) -> Batches:
        opened = self._reader(source, file)
        batches = iter(opened) if ending_of(file) == ".arrows" else (
            opened.get_batch(place) for place in range(opened.num_record_batches))  # fmt: skip
        for batch in batches:
            yield batch.select(list(wanted))

    def _reader(self, source: Any, file: FoundFile) -> Any:
        return pa.ipc.open_stream(source) if ending_of(file) == ".arrows" else pa.ipc.open_file(source)
