"""Finds rows whose key came before in the same load, across batches."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from kanal.core.arrays import Mask
from kanal.core.hashing import Hashes, RowHash

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
        again = self.known(hashes, valid)
        order, ordered = _ordered(hashes, np.flatnonzero(valid))
        again[order[1:]] |= ordered[1:] == ordered[:-1]
        self.remember(hashes, valid & ~again)
        return again

    def known(self, hashes: Hashes, valid: Mask) -> Mask:
        """True for each row whose key is remembered."""
        again = np.zeros(len(hashes), dtype=np.bool_)
        order, ordered = _ordered(hashes, np.flatnonzero(valid))
        for run in self._runs:
            if not len(ordered) or ordered[-1] < run[0] or run[-1] < ordered[0]:
                continue
            # In order, so that the search goes through the memory in order too.
            place = np.searchsorted(run, ordered)
            again[order] |= run[np.minimum(place, len(run) - 1)] == ordered
        return again

    def remember(self, hashes: Hashes, chosen: Mask) -> None:
        """Remember the keys of some rows, of which none is remembered and none is another's."""
        new = np.sort(hashes[chosen], kind="stable")
        if not len(new):
            return
        self._runs.append(new)
        while len(self._runs) > 1 and len(self._runs[-2]) < 2 * len(self._runs[-1]):
            last = self._runs.pop()
            self._runs[-1] = np.sort(np.concatenate([self._runs[-1], last]), kind="stable")

    def forget(self, hashes: Hashes) -> None:
        """Forget keys, whose rows were not loaded after all."""
        self._runs = [kept for run in self._runs if len(kept := run[~np.isin(run, hashes)])]


def _ordered(
    hashes: Hashes, rows: np.ndarray[tuple[int], np.dtype[np.intp]]
) -> tuple[np.ndarray[tuple[int], np.dtype[np.intp]], Hashes]:
    """Rows in the order of their hashes, equal ones as they came, and these hashes."""
    order = rows[np.argsort(hashes[rows], kind="stable")]
    return order, hashes[order]


def last_of_each(hashes: Hashes, valid: Mask) -> Mask:
    """True for the last row of each key within one batch; rows with a NULL in the key all count as last."""
    order, ordered = _ordered(hashes, np.flatnonzero(valid))
    last = np.ones(len(hashes), dtype=np.bool_)
    last[order[:-1]] = ordered[1:] != ordered[:-1]
    return last


def first_of_each(hashes: Hashes, valid: Mask) -> Mask:
    """True for the first row of each key within one batch; rows with a NULL in the key all count as first."""
    order, ordered = _ordered(hashes, np.flatnonzero(valid))
    first = np.ones(len(hashes), dtype=np.bool_)
    first[order[1:]] = ordered[1:] != ordered[:-1]
    return first
