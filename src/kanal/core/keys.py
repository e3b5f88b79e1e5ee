"""Finds rows whose key came before in the same load, across batches."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from kanal.core.arrays import Mask
from kanal.core.hashing import Hashes, RowHash


class SeenKeys:
    """The keys of a load so far, as 64-bit hashes: 8 bytes a key, in sorted runs that are merged as they grow."""

    def __init__(self) -> None:
        self._hash = RowHash(seed=20)
        self._runs: list[Hashes] = []

    def repeated(self, columns: Sequence[pa.Array]) -> Mask:
        """True for each row whose key stood in an earlier row, of this batch or one before; remembers the batch.

        A key with a NULL in it is never the same as another.
        """
        hashes, valid = self._hash(columns)
        rows = np.flatnonzero(valid)
        order = rows[np.argsort(hashes[rows], kind="stable")]
        ordered = hashes[order]
        again = np.zeros(len(hashes), dtype=np.bool_)
        again[order[1:]] = ordered[1:] == ordered[:-1]
        for run in self._runs:
            # In order, so that the search goes through the memory in order too.
            place = np.searchsorted(run, ordered)
            again[order] |= run[np.minimum(place, len(run) - 1)] == ordered
        self._remember(hashes[order][~again[order]])
        return again

    def _remember(self, new: Hashes) -> None:
        if not len(new):
            return
        self._runs.append(new)
        while len(self._runs) > 1 and len(self._runs[-2]) < 2 * len(self._runs[-1]):
            last = self._runs.pop()
            self._runs[-1] = np.sort(np.concatenate([self._runs[-1], last]), kind="stable")


def last_of_each(columns: Sequence[pa.Array]) -> Mask:
    """True for the last row of each key within one batch; rows with a NULL in the key all count as last."""
    hashes, valid = RowHash(seed=20)(columns)
    rows = np.flatnonzero(valid)
    order = rows[np.argsort(hashes[rows], kind="stable")]
    last = np.ones(len(hashes), dtype=np.bool_)
    last[order[:-1]] = hashes[order[1:]] != hashes[order[:-1]]
    return last
