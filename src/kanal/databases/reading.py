"""What is to be read of a database, and how reading is broken off."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from kanal.core.expressions.pushdown import Comparison
from kanal.databases.description import TableInfo


@dataclass(frozen=True)
class Window:
    """A range of a column's values: from `low` on, and less than `high`, where these are given.

    `with_null`: rows without a value belong to it too. SQLite may give more rows than these, but never fewer.
    """

    column: str
    low: Any = None
    high: Any = None
    with_null: bool = False


@dataclass(frozen=True)
class Reading:
    """What to read: a table or a query, which columns, in which order, how many rows, how many a batch.

    `conditions` are comparisons that the source's rows must meet, all of them. `last` holds values of the columns of
    `order_by`: only rows that come after these are read; with `up_to_last`, only the others.
    """

    table: TableInfo
    query: str | None
    columns: tuple[str, ...]
    batch_rows: int
    order_by: tuple[str, ...] = ()
    limit: int | None = None
    conditions: tuple[Comparison, ...] = ()
    windows: tuple[Window, ...] = ()
    last: tuple[int | str, ...] = ()
    up_to_last: bool = False


class Breaker:
    """Breaks off, from another thread, what is under way in a database."""

    def __init__(self) -> None:
        self._ways: list[Callable[[], object]] = []

    def add(self, way: Callable[[], object]) -> None:
        """Be told how something that begins is broken off."""
        self._ways.append(way)

    def __call__(self) -> None:
        """Break off all of it."""
        for way in self._ways:
            with contextlib.suppress(Exception):  # it may have ended by itself
                way()
