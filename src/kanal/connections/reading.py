"""What is to be read of a database, and how reading is broken off."""

from __future__ import annotations

import contextlib
import datetime as dt
import threading
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from kanal.connections.description import TableInfo
from kanal.core.arrays import mask_of
from kanal.core.errors import KanalError
from kanal.core.frame import SourceBatch

if TYPE_CHECKING:
    from kanal.core.expressions.pushdown import PushedCondition


class Window(Struct, frozen=True):
    """A range of a column's values: from `low` on, and less than `high`, where these are given.

    `with_null`: rows without a value belong to it too. SQLite may give more rows than these, but never fewer.
    """

    column: str
    low: Any = None
    high: Any = None
    with_null: bool = False


#: A batch ends when it comes to this many bytes.
BATCH_BYTES = 64 * 1024 * 1024
#: Where in a source a batch ends, as JSON knows it; empty before the first.
Position = tuple[int | str, ...]


class Reading(Struct, frozen=True):
    """What to read: a table or a query, which columns, in which order, how many rows, how many a batch, which
    ends too if it comes to `batch_bytes`.

    `conditions` are comparisons that the source's rows must meet, all of them. With `seeks`, each batch comes with the
    position of its end, which only the source understands; rows behind the position `after` are read, or with `up_to`
    only the others. Of the columns in `exact`, each value is wanted as its database holds it.
    """

    table: TableInfo
    query: str | None
    columns: tuple[str, ...]
    batch_rows: int
    order_by: tuple[str, ...] = ()
    limit: int | None = None
    conditions: tuple[PushedCondition, ...] = ()
    windows: tuple[Window, ...] = ()
    seeks: bool = False
    after: Position = ()
    up_to: bool = False
    batch_bytes: int = BATCH_BYTES
    exact: frozenset[str] = frozenset()


class Breaker:
    """Breaks off, from another thread, what is under way in a database."""

    #: Seconds that a server gets to take the request, which goes over a connection of its own.
    PATIENCE = 1.5

    def __init__(self) -> None:
        self._ways: dict[int, Callable[[], object]] = {}
        self._lock = threading.Lock()

    @contextlib.contextmanager
    def knows(self, way: Callable[[], object]) -> Iterator[None]:
        """While this lasts, something is under way that is broken off in this way; afterwards it is left alone."""
        key = id(way)
        with self._lock:
            self._ways[key] = way
        try:
            yield
        finally:
            with self._lock:  # not while it is being broken off: its connection may be another's at once
                del self._ways[key]

    def __call__(self) -> None:
        """Break off all of it; what a dead network does not let be broken off is left after `PATIENCE`."""
        with self._lock:
            for way in self._ways.values():
                breaking = threading.Thread(target=_quietly, args=(way,), name="kanal-break", daemon=True)
                breaking.start()
                breaking.join(self.PATIENCE)


def _quietly(way: Callable[[], object]) -> None:
    with contextlib.suppress(Exception):  # it may have ended by itself
        way()


def with_positions(batches: Iterator[SourceBatch], reading: Reading) -> Iterator[SourceBatch]:
    """The batches of a reading in the order of a key, each with its last key as its position.

    Raises KanalError if the rows' order is not one by key.
    """
    before = reading.after
    for batch in batches:
        before = batch.position = _last_key(batch, reading.order_by, before)
        yield batch


def _last_key(batch: SourceBatch, order: tuple[str, ...], before: Position) -> Position:
    columns = [batch.columns[name] for name in order]
    shown = ", ".join(order)
    if any(values.null_count for values in columns) or any(name in batch.strays for name in order):
        raise KanalError(
            f"the source is read in the order of {shown}, and a row has no value there, or one of another type",
            'name other columns in order_by, or set commit = "step"',
        )
    same = np.ones(batch.rows - 1, dtype=np.bool_)
    for values in columns:
        same &= mask_of(pc.equal(values[1:], values[:-1]))
    first, last = (tuple(_plain(values[row]) for values in columns) for row in (0, -1))
    if same.any() or first == before:
        raise KanalError(
            f"the source is read in the order of {shown}, and two rows have the same values there",
            'name columns in order_by that tell all rows apart, or set commit = "step"',
        )
    return last


def _plain(value: pa.Scalar) -> int | str:
    """A value of a key as it is kept and compared."""
    found = value.as_py()
    if isinstance(found, dt.datetime):
        found = found.astimezone(dt.UTC).replace(tzinfo=None) if found.tzinfo else found
        return found.isoformat(sep=" ")
    return found if isinstance(found, int) else str(found)
