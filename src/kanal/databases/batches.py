"""Cuts and joins the batches of a driver into those that a pipeline asks for, and looks after their texts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import pyarrow as pa

from kanal.core.frame import Strays


def rebatched(batches: Iterable[pa.RecordBatch], rows: int) -> Iterator[pa.RecordBatch]:
    """The same rows in batches of so many each, the last one fewer."""
    waiting: list[pa.RecordBatch] = []
    count = 0
    for batch in batches:
        start = 0
        while count + batch.num_rows - start >= rows:
            part = batch.slice(start, rows - count)
            start += rows - count
            yield _joined([*waiting, part])
            waiting, count = [], 0
        if start < batch.num_rows:
            waiting.append(batch.slice(start))
            count += batch.num_rows - start
    if count:
        yield _joined(waiting)


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
