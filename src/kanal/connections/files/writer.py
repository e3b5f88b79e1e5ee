"""What a writer of files is."""

from __future__ import annotations

from collections.abc import Sequence
from typing import IO, Any, ClassVar, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.faults import Fault, texts_of
from kanal.core.reasons import Reason
from kanal.core.types import SqlType
from kanal.definition import Format

Misfits = list[tuple[str, Fault]]


class Writer(Protocol):
    """Writes one file. `texts`: its columns are text."""

    texts: ClassVar[bool]
    #: The most rows of a file.
    most_rows: ClassVar[int | None]

    def __init__(self, stream: IO[bytes], names: Sequence[str], types: Sequence[SqlType], form: Format) -> None:
        """A new file in a stream."""

    @classmethod
    def checked(cls, form: Format, ending: str) -> Format:
        """The format, completed by the ending of the file; raises KanalError if such a file cannot be written."""

    @classmethod
    def stored(cls, rows: pa.RecordBatch, form: Format) -> tuple[pa.RecordBatch, Misfits]:
        """Rows as a file holds them, and the faults of values that it could not hold unchanged."""

    @classmethod
    def encoded(cls, rows: pa.RecordBatch, types: Sequence[SqlType], form: Format) -> Any:
        """Rows in the form in which `add` takes them."""

    def add(self, encoded: Any) -> None:
        """Write rows."""

    def finish(self) -> None:
        """Write what ends the file."""


def _faults(name: str, values: pa.Array, bad: pa.Array, reason: Reason, message: str) -> Misfits:
    rows = np.flatnonzero(np.asarray(pc.fill_null(bad, False)))
    if not len(rows):
        return []
    shown = texts_of(values.take(pa.array(rows)))
    return [(name, Fault(int(row), reason, value, message)) for row, value in zip(rows, shown, strict=True)]
