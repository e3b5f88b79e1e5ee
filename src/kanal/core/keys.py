"""Finds rows whose key came before in the same load, across batches."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.core.arrays import Mask
from kanal.core.hashing import Hashes, RowHash

Places = NDArray[np.intp]

_SEED = 20


class SeenKeys:
    """The keys of a load so far, as 64-bit hashes: 8 bytes a key, in sorted runs that are merged as they grow.

    A key with a NULL in it is never the same as another.
    """

    def __init__(self) -> None:
        self._hash = RowHash(_SEED)
        self._runs: list[Hashes] = []

    def hashes(self, columns: Sequence[pa.Array]) -> tuple[Hashes, Mask]:
        """The hashes of keys, and which keys have no NULL."""
        return self._hash.of_keys(columns)

    def repeated(self, columns: Sequence[pa.Array]) -> Mask:
        """True for each row whose key stood in an earlier row, of this batch or one before; remembers the batch."""
        hashes, valid = self.hashes(columns)
        again = self.late(hashes, valid)
        self.remember(hashes, valid & ~again)
        return again

    def late(self, hashes: Hashes, valid: Mask) -> Mask:
        """True for each row whose key is remembered, or stood in an earlier row of the batch."""
        order, ordered = _ordered(hashes, np.flatnonzero(valid))
        again = self._known(len(hashes), order, ordered)
        again[order[1:]] |= ordered[1:] == ordered[:-1]
        return again

    def known(self, hashes: Hashes, valid: Mask) -> Mask:
        """True for each row whose key is remembered."""
        return self._known(len(hashes), *_ordered(hashes, np.flatnonzero(valid)))

    def _known(self, count: int, order: Places, ordered: Hashes) -> Mask:
        again = np.zeros(count, dtype=np.bool_)
        for run in self._runs:
            if not len(ordered) or ordered[-1] < run[0] or run[-1] < ordered[0]:
                continue
            # In order, so that the search goes through the memory in order too.
            place = np.searchsorted(run, ordered)
            again[order] |= run[np.minimum(place, len(run) - 1)] == ordered
        return again

    def remember(self, hashes: Hashes, chosen: Mask) -> None:
        """Remember the keys of some rows, of which none is remembered and none is another's."""
        new = np.sort(hashes[chosen])
        if not len(new):
            return
        self._runs.append(new)
        while len(self._runs) > 1 and len(self._runs[-2]) < 2 * len(self._runs[-1]):
            last = self._runs.pop()
            self._runs[-1] = np.sort(np.concatenate([self._runs[-1], last]), kind="stable")  # which merges the two

    def forget(self, hashes: Hashes) -> None:
        """Forget keys, whose rows were not loaded after all."""
        self._runs = [kept for run in self._runs if len(kept := run[~np.isin(run, hashes)])]


def _ordered(hashes: Hashes, rows: Places) -> tuple[Places, Hashes]:
    """Rows in the order of their hashes, equal ones as they came, and these hashes."""
    chosen = hashes[rows]
    if not (chosen[1:] <= chosen[:-1]).any():
        return rows, chosen
    order = np.argsort(chosen)
    ordered = chosen[order]
    if (ordered[1:] == ordered[:-1]).any():  # then alone it matters that the order be stable, which takes longer
        order = np.argsort(chosen, kind="stable")
        ordered = chosen[order]
    return rows[order], ordered


def last_of_each(hashes: Hashes, valid: Mask) -> Mask:
    """True for the last row of each key within one batch; rows with a NULL in the key all count as last."""
    order, ordered = _ordered(hashes, np.flatnonzero(valid))
    last = np.ones(len(hashes), dtype=np.bool_)
    last[order[:-1]] = ordered[1:] != ordered[:-1]
    return last
