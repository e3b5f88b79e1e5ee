"""Writes rows as Arrow and Parquet files."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import IO, Any, ClassVar

import pyarrow as pa

from kanal.connections.files.writer import Misfits
from kanal.core.types import SqlType
from kanal.definition import Format


class _ArrowWriter:
    """What Parquet and Arrow share: rows are kept as they are."""

    texts: ClassVar[bool] = False
    most_rows: ClassVar[int | None] = None

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        del ending
        return form

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        del form
        return rows, []

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> Any:
        del types, form
        return rows


def _schema(names: Sequence[str], types: Sequence[SqlType]) -> pa.Schema:
    return pa.schema([pa.field(name, kind.arrow) for name, kind in zip(names, types, strict=True)])


class ParquetWriter(_ArrowWriter):
    """Parquet, in groups of about a million rows."""

    _GROUP = 500_000

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        import pyarrow.parquet as pq

        del form
        self._schema = _schema(names, types)
        self._writer = pq.ParquetWriter(pa.PythonFile(stream, "w"), self._schema)
        self._waiting: list[pa.RecordBatch] = []

    def add(self, encoded: Any) -> None:
        self._waiting.append(encoded.cast(self._schema))
        if sum(batch.num_rows for batch in self._waiting) >= self._GROUP:
            self._write()

    def _write(self) -> None:
        if self._waiting:
            self._writer.write_table(pa.Table.from_batches(self._waiting), row_group_size=self._GROUP)
            self._waiting = []

    def finish(self) -> None:
        self._write()
        self._writer.close()


class ArrowWriter(_ArrowWriter):
    """Arrow's own file."""

    _make: ClassVar[Callable[..., Any]] = pa.ipc.new_file

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        del form
        self._schema = _schema(names, types)
        self._writer = type(self)._make(pa.PythonFile(stream, "w"), self._schema)

    def add(self, encoded: Any) -> None:
        self._writer.write_batch(encoded.cast(self._schema))

    def finish(self) -> None:
        self._writer.close()


class ArrowStreamWriter(ArrowWriter):
    """Arrow's stream."""

    _make: ClassVar[Callable[..., Any]] = pa.ipc.new_stream
