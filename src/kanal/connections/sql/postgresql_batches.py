"""What PostgreSQL sends, in batches, whose columns are created when they are first asked for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.connections.pieces import Bytes, Places
from kanal.connections.sql.copy_rows import COUNT, CopiedRows, spare_bytes
from kanal.connections.sql.postgresql_rows import Block
from kanal.core.frame import SourceBatch, Strays
from kanal.core.types import SqlType


class CopiedBatch(SourceBatch):
    """Rows of a COPY as a reader delivers them; `places` says which field each column is."""

    def __init__(self, copied: CopiedRows, places: Mapping[str, int]) -> None:
        self._made = made = _Made(copied, places)
        super().__init__(copied.rows, _Columns(made), _StraysOf(made))
        self.copied = copied
        self.places = places

    def take(self, rows: NDArray[np.intp]) -> SourceBatch:
        return CopiedBatch(self.copied.take(rows), self.places)

    def row_texts(self, rows: list[int]) -> list[dict[str, str | None]]:
        few = CopiedBatch(self.copied.take(np.array(rows, dtype=np.intp)), self.places)
        return SourceBatch(few.rows, few.columns, few.strays).row_texts(list(range(len(rows))))

    def goes_on(self, name: str, nullable: bool, any_value: bool = False) -> bool:
        field = self.places[name]
        return (any_value or self.copied.goes_on(field)) and (nullable or not self.copied.has_nulls(field))

    def forget(self) -> None:
        self._made.forget()

    def __reduce__(self) -> tuple[Any, ...]:
        state = {name: value for name, value in vars(self).items() if name not in _NOT_KEPT}
        return CopiedBatch, (self.copied, self.places), state


#: What is made again of the rest.
_NOT_KEPT = frozenset({"columns", "strays", "copied", "places", "_made"})


class _Made:
    """Columns, made once."""

    def __init__(self, copied: CopiedRows, places: Mapping[str, int]) -> None:
        self.copied = copied
        self.places = places
        self._found: dict[str, tuple[pa.Array, Strays]] = {}

    def __getitem__(self, name: str) -> tuple[pa.Array, Strays]:
        if name not in self._found:
            self._found[name] = self.copied.column(self.places[name])
        return self._found[name]

    def forget(self) -> None:
        """Give them up."""
        self._found.clear()
        self.copied.forget()


class _Columns(Mapping[str, pa.Array]):
    """Each column in the Arrow type of its SQL type."""

    def __init__(self, made: _Made) -> None:
        self._made = made

    def __getitem__(self, name: str) -> pa.Array:
        return self._made[name][0]

    def __iter__(self) -> Iterator[str]:
        return iter(self._made.places)

    def __len__(self) -> int:
        return len(self._made.places)


class _StraysOf(Mapping[str, Strays]):
    """The strays of those columns that have some."""

    def __init__(self, made: _Made) -> None:
        self._made = made

    def __getitem__(self, name: str) -> Strays:
        if name in self._made.places and (found := self._made[name][1]):
            return found
        raise KeyError(name)

    def __iter__(self) -> Iterator[str]:
        return (name for name in self._made.places if self._made[name][1])

    def __len__(self) -> int:
        return sum(1 for _ in self)


def copied_batches(
    blocks: Iterable[Block], places: Mapping[str, int], stored: Sequence[SqlType], rows: int, size: int
) -> Iterator[SourceBatch]:
    """The rows of blocks in batches of so many each, the last one fewer; fewer too if they come to this many bytes."""
    waiting: list[tuple[Bytes, Places]] = []
    count = held = 0

    def joined() -> SourceBatch:
        nonlocal waiting, count, held
        free = held + spare_bytes(stored)
        # With room for what is laid out next to the rows; what of it is not used takes no memory.
        content = np.empty(2 * free, dtype=np.uint8)
        content[held:free] = 0
        starts, end = [], 0
        for part, places_in_it in waiting:
            content[end : end + len(part)] = part
            starts.append(places_in_it + end)
            end += len(part)
        waiting, count, held = [], 0, 0
        return CopiedBatch(CopiedRows(content, np.concatenate(starts), stored, free), places)

    for content, starts, end in blocks:
        edges = np.append(starts, end)
        first = 0
        while first < len(starts):
            room = int(np.searchsorted(edges, edges[first] + max(size - held, 0), side="right")) - 1 - first
            more = min(rows - count, len(starts) - first, max(room, 0 if count else 1))
            if more:
                begin, stop = int(edges[first]), int(edges[first + more])
                begin -= COUNT
                waiting.append((content[begin:stop], starts[first : first + more] - begin))
                first, count, held = first + more, count + more, held + stop - begin
            if count == rows or first < len(starts):
                yield joined()
    if count:
        yield joined()
