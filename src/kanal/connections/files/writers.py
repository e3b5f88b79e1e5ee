"""Writes files: each format has a writer, and says which values it cannot hold unchanged."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
from collections.abc import Callable
from typing import IO, Any, cast

import pyarrow as pa

from kanal.connections.files.arrow_writers import ArrowStreamWriter, ArrowWriter, ParquetWriter
from kanal.connections.files.formats import kind_of
from kanal.connections.files.packing import endings_of
from kanal.connections.files.text_writers import CsvWriter, JsonLinesWriter, JsonWriter
from kanal.connections.files.workbook_writer import WorkbookWriter
from kanal.connections.files.writer import Writer
from kanal.core.errors import KanalError
from kanal.definition import Format
from kanal.definition.formats import encodings_of

#: By ending, how a file is packed.
_PACKING: dict[str, Callable[[IO[bytes]], Any]] = {
    ".gz": lambda stream: gzip.GzipFile(fileobj=stream, mode="wb", mtime=0, compresslevel=6),
    ".bz2": lambda stream: bz2.BZ2File(stream, "wb"),
    ".xz": lambda stream: lzma.LZMAFile(stream, "wb"),  # noqa: SIM115
    ".zst": lambda stream: pa.CompressedOutputStream(pa.PythonFile(_StaysOpen(stream), "w"), "zstd"),
}


class _StaysOpen(io.RawIOBase):
    """A stream to be written that stays open when this is closed."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream

    def writable(self) -> bool:
        return True

    def write(self, content: Any) -> int:
        return self._stream.write(content)


#: By the kind of the format.
_WRITERS: dict[str, type[Writer]] = {
    "csv": CsvWriter,
    "json": JsonWriter,
    "jsonl": JsonLinesWriter,
    "parquet": ParquetWriter,
    "arrow": ArrowWriter,
    "excel": WorkbookWriter,
}


def writer_of(name: str, form: Format | None) -> tuple[type[Writer], Format]:
    """Who writes files of a name, and the format with all that its ending says; raises KanalError if nobody does."""
    if form is not None and len(encodings_of(form.encoding)) > 1:
        raise KanalError("a file is written in one encoding", "name one in the format of the target")
    packing, ending = endings_of(name)
    kind = kind_of(ending, name, form)
    found = _WRITERS.get(kind)
    if found is None:
        raise KanalError(f"files of kind {kind} are not written", f"write one of {', '.join(_WRITERS)}")
    if packing and (packing not in _PACKING or kind not in ("csv", "json", "jsonl")):
        raise KanalError(f"{kind} files are not written as {packing}", f"leave {packing} out of the name")
    made = ArrowStreamWriter if ending == ".arrows" else found
    return made, made.checked(form or Format(), ending)


def packed(stream: IO[bytes], name: str) -> IO[bytes]:
    """A stream that packs what is written to it as the ending of a name says; closing it leaves the other open."""
    packing, _ = endings_of(name)
    return cast("IO[bytes]", _PACKING[packing](stream) if packing else stream)
