"""The formats of files: each says which columns a file has, and reads it in parts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Protocol

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.connections.arrow import as_stored, sql_type
from kanal.connections.description import ColumnInfo
from kanal.connections.files.delimited import DelimitedReader
from kanal.connections.files.opening import FoundFile
from kanal.core.errors import KanalError, shortened
from kanal.core.frame import BadLine, Strays
from kanal.core.nearest import did_you_mean
from kanal.core.types import TEXT
from kanal.definition import Format


@dataclass
class Part:
    """Some rows of a file: its columns, those wanted in their stored form, the line or place of each row, bad lines."""

    names: Sequence[str]
    rows: int
    columns: dict[str, pa.Array]
    lines: NDArray[np.int64]
    bad: list[BadLine] = field(default_factory=list)
    strays: dict[str, Strays] = field(default_factory=dict)


class FileFormat(Protocol):
    """How a kind of file is read."""

    #: The endings of its files.
    endings: ClassVar[tuple[str, ...]]

    def __init__(self, form: Format, ending: str) -> None:
        """The format as a job says it, for files with an ending."""

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        """The columns of a file; raises KanalError."""

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        """The rows of a file, so many at once; raises KanalError."""

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Raise KanalError where the columns of a file say that it is in another format."""


class DelimitedText:
    """CSV and its kin: all values are text, which the mapping converts."""

    endings: ClassVar[tuple[str, ...]] = (".csv", ".tsv", ".tab", ".txt")

    def __init__(self, form: Format, ending: str) -> None:
        self._form = form
        self._delimiter = form.delimiter or ("\t" if ending in (".tsv", ".tab") else ",")

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        with file.opened() as stream:
            names = DelimitedReader(stream, self._form, self._delimiter, file.name).names
        return tuple(ColumnInfo(name, "text", TEXT, TEXT) for name in names)

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        other = next((sign for sign in (";", "\t", "|", ",") if sign in columns[0].name), None)
        if len(columns) == 1 and other is not None and self._form.delimiter is None:
            shown = "\\t" if other == "\t" else other
            raise KanalError(f'{file.name} has one column only, "{shortened(columns[0].name)}"',
                             f'if its values are divided by {shown}, set delimiter = "{shown}" in a [format.NAME] '
                             "that the source names")  # fmt: skip

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        del wanted
        with file.opened() as stream:
            reader = DelimitedReader(stream, self._form, self._delimiter, file.name)
            for found in reader:
                bad = found.bad
                for start in range(0, max(1, len(found.lines)), rows):
                    columns = {n: c.slice(start, rows) for n, c in zip(reader.names, found.columns, strict=True)}
                    lines = found.lines[start : start + rows]
                    yield Part(reader.names, len(lines), columns, lines, bad)
                    bad = []


class _Columnar:
    """Files that hold Arrow's types, of which the columns that are wanted alone are read."""

    def __init__(self, form: Format, ending: str) -> None:
        del form, ending

    def schema(self, file: FoundFile) -> pa.Schema:
        """The columns and types of a file."""
        raise NotImplementedError

    def record_batches(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[pa.RecordBatch]:
        """Its rows."""
        raise NotImplementedError

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        schema = self._read(file, lambda: self.schema(file))
        doubled = next((name for name in schema.names if schema.names.count(name) > 1), None)
        if doubled is not None:
            raise KanalError(f'{file.name} has two columns named "{doubled}"', "rename one of them")
        return tuple(
            ColumnInfo(one.name, str(one.type), found := sql_type(one.type), found, one.nullable, loose=True)
            for one in schema
        )

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Nothing: such files say what they are."""

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        schema = self._read(file, lambda: self.schema(file))
        chosen = [name for name in schema.names if name in wanted]
        batches = self._read(file, lambda: self.record_batches(file, chosen, rows))
        place = 1
        while (batch := self._read(file, lambda: next(batches, None))) is not None:
            for start in range(0, batch.num_rows, rows):
                piece = batch.slice(start, rows)
                columns: dict[str, pa.Array] = {}
                strays: dict[str, Strays] = {}
                for name in chosen:
                    columns[name], found = as_stored(piece.column(name))
                    strays |= {name: found} if found else {}
                lines = np.arange(place, place + piece.num_rows, dtype=np.int64)
                place += piece.num_rows
                yield Part(schema.names, piece.num_rows, columns, lines, [], strays)
        file.check_unchanged()

    def _read(self, file: FoundFile, act: Any) -> Any:
        """What an act gives; raises KanalError for a file that is damaged."""
        try:
            return act()
        except (pa.ArrowException, OSError) as error:
            why = " ".join(str(error).split())[:200]
            raise KanalError(
                f"{file.name} cannot be read: {why}", "have it sent again, or correct its ending"
            ) from None


class ParquetFile(_Columnar):
    """Parquet."""

    endings: ClassVar[tuple[str, ...]] = (".parquet", ".pq")

    def schema(self, file: FoundFile) -> pa.Schema:
        import pyarrow.parquet as pq

        return pq.read_schema(file.path)

    def record_batches(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[pa.RecordBatch]:
        import pyarrow.parquet as pq

        with pq.ParquetFile(file.path) as opened:
            yield from opened.iter_batches(rows, columns=list(wanted))


class ArrowFile(_Columnar):
    """Arrow's own file, and its stream."""

    endings: ClassVar[tuple[str, ...]] = (".arrow", ".feather", ".arrows")

    def schema(self, file: FoundFile) -> pa.Schema:
        with pa.memory_map(str(file.path)) as source:
            return self._opened(file, source).schema

    def record_batches(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[pa.RecordBatch]:
        with pa.memory_map(str(file.path)) as source:
            opened = self._opened(file, source)
            batches = (opened.get_batch(place) for place in range(opened.num_record_batches)) if hasattr(
                opened, "num_record_batches") else iter(opened)  # fmt: skip
            for batch in batches:
                yield batch.select(list(wanted))

    def _opened(self, file: FoundFile, source: Any) -> Any:
        if file.ending == ".arrows":
            return pa.ipc.open_stream(source)
        return pa.ipc.open_file(source)


#: By the name that a job gives.
KINDS: dict[str, type[FileFormat]] = {"csv": DelimitedText, "parquet": ParquetFile, "arrow": ArrowFile}


def kinds_by_ending() -> dict[str, type[FileFormat]]:
    """The format that each ending says."""
    return {ending: kind for kind in KINDS.values() for ending in kind.endings}


def format_of(file: FoundFile, form: Format | None) -> FileFormat:
    """The format of a file, as the job says or else its ending; raises KanalError where neither tells."""
    form = form or Format()
    kind = KINDS[form.kind] if form.kind is not None else kinds_by_ending().get(file.ending)
    if kind is None:
        known = kinds_by_ending()
        raise KanalError(f"{file.name}: its ending does not say its format",
                         did_you_mean(file.ending, known) or "name it in a [format.NAME] with kind")  # fmt: skip
    return kind(form, file.ending)
