"""Cuts and joins the batches of a driver into those that a pipeline asks for, and looks after their texts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import pyarrow as pa

from kanal.core.frame import Strays


def rebatched(batches: Iterable[pa.RecordBatch], rows: int, size: int) -> Iterator[pa.RecordBatch]:
    """The same rows in batches of so many each, the last one fewer; fewer too if they come to this many bytes."""
    waiting: list[pa.RecordBatch] = []
    count = held = 0
    for batch in _pieces(batches, size):
        start = 0
        if count and held + batch.nbytes > size:
            yield _joined(waiting)
            waiting, count, held = [], 0, 0
        while count + batch.num_rows - start >= rows:
            part = batch.slice(start, rows - count)
            start += rows - count
            yield _joined([*waiting, part])
            waiting, count, held = [], 0, 0
        if start < batch.num_rows:
            waiting.append(batch.slice(start))
            count += batch.num_rows - start
            held += waiting[-1].nbytes
    if count:
        yield _joined(waiting)


def _pieces(batches: Iterable[pa.RecordBatch], size: int) -> Iterator[pa.RecordBatch]:
    """The batches, cut if they come to more bytes than this; never within a row."""
    for batch in batches:
        most = max(1, size * batch.num_rows // max(batch.nbytes, 1))
        if most >= batch.num_rows:
            yield batch
        else:
            yield from (batch.slice(start, most) for start in range(0, batch.num_rows, most))


def fetched(cursor: Any, rows: int, size: int, at_once: int) -> list[Any]:
    """The next rows of a cursor: so many, or as many as come to a size in bytes of texts and binaries.

    The driver is asked for so many at once, by which the size may be passed.
    """
    found: list[Any] = []
    held = 0
    while len(found) < rows and held < size and (more := cursor.fetchmany(min(at_once, rows - len(found)))):
        found += more
        held += sum(len(value) for row in more for value in row if isinstance(value, str | bytes))
    return found


def _joined(batches: list[pa.RecordBatch]) -> pa.RecordBatch:
    if len(batches) == 1:
        return batches[0]
    return pa.Table.from_batches(batches).combine_chunks().to_batches()[0]


def valid_text(name: str, values: pa.Array, strays: dict[str, Strays]) -> pa.Array:
    """Text that is UTF-8 throughout; the bytes of values that are not become strays."""
    try:
        values.validate(full=True)
    except pa.ArrowInvalid:
        raw = values.cast(pa.binary()).to_pylist()
        texts: list[str | None] = []
        for row, content in enumerate(raw):
            try:
                texts.append(None if content is None else content.decode())
            except UnicodeDecodeError:
                texts.append(None)
                strays.setdefault(name, {})[row] = content
        return pa.array(texts, pa.string())
    return values
