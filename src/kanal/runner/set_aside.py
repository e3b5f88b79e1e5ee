"""Rows set aside in a temporary file, to be taken up again later in the same load."""

from __future__ import annotations

import pickle
import tempfile
from collections.abc import Iterator, Sequence
from typing import IO, Generic, Protocol, Self, TypeVar

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from kanal.core.arrays import Mask
from kanal.core.claims import Keyed
from kanal.core.frame import SourceBatch


class _Rows(Protocol):
    @property
    def rows(self) -> int:
        """How many rows there are."""


Item = TypeVar("Item", bound=_Rows)


class Beaten(Struct, frozen=True):
    """Rows whose keys other rows have, with their keys; `by` is the place of the claim that each one lost."""

    batch: SourceBatch
    keyed: Keyed
    by: NDArray[np.int8]

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self.batch.rows

    def take(self, chosen: Mask) -> Self:
        """The chosen rows."""
        if chosen.all():
            return self
        places = np.flatnonzero(chosen)
        return replace(self, batch=self.batch.take(places), keyed=self.keyed.take(places), by=self.by[places])


class SetAside(Generic[Item]):
    """Batches in a temporary file, which is created with the first of them. Their rows are numbered from 0."""

    def __init__(self) -> None:
        self._file: IO[bytes] | None = None
        self._starts: list[int] = []
        self._places: list[int] = []
        self.rows = 0

    def add(self, batch: Item) -> None:
        """Set a batch aside; its rows are numbered from the count of those before."""
        if not batch.rows:
            return
        if self._file is None:
            self._file = tempfile.TemporaryFile(prefix="kanal-")  # noqa: SIM115 - closed by `close`
        self._starts.append(self.rows)
        self._places.append(self._file.seek(0, 2))
        pickle.dump(batch, self._file, protocol=pickle.HIGHEST_PROTOCOL)
        self.rows += batch.rows

    def find(self, numbers: Sequence[int]) -> Iterator[tuple[Item, list[int]]]:
        """The batches that hold the rows with these ascending numbers, each with the places of the rows in it."""
        bounds = np.searchsorted(numbers, [*self._starts, self.rows])
        for number, start in enumerate(self._starts):
            wanted = [place - start for place in numbers[bounds[number] : bounds[number + 1]]]
            if wanted:
                yield self._read(number), wanted

    def __iter__(self) -> Iterator[Item]:
        """All batches, in their order."""
        for number in range(len(self._places)):
            yield self._read(number)

    def taken(self) -> Iterator[Item]:
        """All batches so far, in their order. Nothing is left but what is added meanwhile."""
        before = SetAside[Item]()
        before._file, before._starts, before._places, before.rows = self._file, self._starts, self._places, self.rows
        self._file, self._starts, self._places, self.rows = None, [], [], 0
        try:
            yield from before
        finally:
            before.close()

    def _read(self, number: int) -> Item:
        assert self._file is not None
        self._file.seek(self._places[number])
        found: Item = pickle.load(self._file)
        return found

    def close(self) -> None:
        """Remove the file."""
        if self._file is not None:
            self._file.close()
