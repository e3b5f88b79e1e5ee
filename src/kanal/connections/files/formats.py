"""The formats of files: each says which columns a file has, and reads it in parts."""

from __future__ import annotations

import codecs
from collections.abc import Iterator, Mapping, Sequence
from importlib import import_module
from typing import IO, Any, Protocol

import pyarrow as pa
from msgspec import Struct, field
from numpy.typing import NDArray

from kanal.connections.description import ColumnInfo
from kanal.connections.files.packing import ending_of, unpacked
from kanal.connections.files.stores import FoundFile
from kanal.core.errors import KanalError
from kanal.core.frame import BadLine, Strays
from kanal.core.nearest import did_you_mean
from kanal.core.types import TEXT
from kanal.definition import Format
from kanal.definition.formats import encodings_of


class Part(Struct):
    """Some rows of a file: its columns, those wanted in their stored form, the line or place of each row, bad lines."""

    names: Sequence[str]
    rows: int
    columns: dict[str, pa.Array]
    lines: NDArray[Any]
    bad: list[BadLine] = field(default_factory=list)
    strays: dict[str, Strays] = field(default_factory=dict)


class FileFormat(Protocol):
    """How a kind of file is read."""

    def __init__(self, form: Format, ending: str) -> None:
        """The format as a job says it, for files with an ending."""

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        """The columns of a file; raises KanalError."""

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        """The rows of a file, so many at once; raises KanalError."""

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Raise KanalError where the columns of a file say that it is in another format."""


#: By the name that a job gives, if it is defined, and the endings that say it.
_KINDS: dict[str, tuple[str, tuple[str, ...]]] = {
    "csv": ("delimited:DelimitedText", (".csv", ".tsv", ".tab", ".txt")),
    "fixed": ("fixed:FixedWidth", ()),
    "json": ("json_text:JsonText", (".json",)),
    "jsonl": ("json_text:JsonLines", (".jsonl", ".ndjson")),
    "parquet": ("columnar:ParquetFile", (".parquet", ".pq")),
    "arrow": ("columnar:ArrowFile", (".arrow", ".feather", ".arrows")),
    "excel": ("workbook:Workbook", (".xlsx", ".xlsm", ".xlsb", ".xls", ".ods")),
}


def kinds_by_ending() -> Mapping[str, str]:
    """The kind of format that each ending says."""
    return {ending: kind for kind, (_, endings) in _KINDS.items() for ending in endings}


def kind_of(ending: str, name: str, form: Format | None) -> str:
    """The kind of a file's format, as the job states or else its ending; raises KanalError if neither tells."""
    known = kinds_by_ending()
    kind = form.kind if form is not None and form.kind is not None else known.get(ending)
    if kind is None:
        raise KanalError(f"{name}: its ending does not say its format",
                         did_you_mean(ending, known) or "name it in a [format.NAME] with kind")  # fmt: skip
    return kind


def format_of(file: FoundFile, form: Format | None) -> FileFormat:
    """The format of a file, as the job states or else its ending; raises KanalError if neither tells."""
    ending = ending_of(file)
    module, _, name = _KINDS[kind_of(ending, file.name, form)][0].partition(":")
    form = form or Format()
    if len(encodings_of(form.encoding)) > 1:
        form = form.model_copy(
            update={"encoding": _encoding_of(file, encodings_of(form.encoding), form.unpacked_bytes)}
        )
    made: FileFormat = getattr(import_module(f"kanal.connections.files.{module}"), name)(form, ending)
    return made


def _encoding_of(file: FoundFile, names: Sequence[str], most: int | None) -> str:
    """The first of several encodings in which all of a file can be read; the last one if it can be read in none."""
    for name in names[:-1]:
        with unpacked(file, most) as stream:
            if _is_text(stream, name):
                return name
    return names[-1]


def _is_text(stream: IO[bytes], encoding: str) -> bool:
    """True if all of a stream is text in an encoding."""
    decoder = codecs.getincrementaldecoder(encoding)()
    try:
        while block := stream.read(1 << 20):
            decoder.decode(block)
        decoder.decode(b"", final=True)
    except UnicodeError:
        return False
    return True


def text_columns(names: Sequence[str]) -> tuple[ColumnInfo, ...]:
    """Columns of text."""
    return tuple(ColumnInfo(name, "text", TEXT, TEXT) for name in names)


def header_names(file: str, found: Sequence[str | None]) -> list[str]:
    """The names of a header; raises KanalError if one is missing or there twice."""
    names = [(name or "").strip() for name in found]
    for place, one in enumerate(names):
        if not one:
            raise KanalError(f"{file}: column {place + 1} has no name in the header", "name it in the file")
        if names.count(one) > 1:
            raise KanalError(f'{file}: two columns are named "{one}"', "rename one of them in the file")
    return names


def needed(module: str, extra: str, why: str) -> Any:
    """A module of an extra; raises KanalError with what to install if it is missing."""
    try:
        return import_module(module)
    except ImportError:
        raise KanalError(f"{why}, and {module} is not installed", f"run: pip install kanal[{extra}]") from None
