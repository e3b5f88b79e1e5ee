"""A looked-up table in memory: finds, for each row's key, the row of the table that has it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kanal.core.arrays import Mask, mask_of
from kanal.core.errors import LookupError
from kanal.core.hashing import Hashes, RowHash


class LookupTable:
    """Columns of a table, found by key columns. Built once, then probed by any number of batches.

    Raises LookupError where a key stands in the table twice. Keys with a NULL match nothing.
    """

    def __init__(self, name: str, columns: Mapping[str, pa.Array], keys: Sequence[str]) -> None:
        self.name = name
        self.columns = dict(columns)
        self.keys = list(keys)
        key_columns = [self.columns[key] for key in keys]
        # A collision of two different keys, which chance all but excludes, is mended by another hash function.
        for seed in range(1, 20):
            self._hash = RowHash(seed)
            if self._build(key_columns):
                return
        raise LookupError(f"look-up {name}: its keys cannot be told apart by hashing", "report this with the table")

    def _build(self, key_columns: list[pa.Array]) -> bool:
        hashes, valid = self._hash(key_columns)
        rows = np.flatnonzero(valid)
        order = rows[np.argsort(hashes[rows], kind="stable")]
        self._rows: NDArray[np.intp] = order
        self._hashes: Hashes = hashes[order]
        same = np.flatnonzero(self._hashes[1:] == self._hashes[:-1])
        if not len(same):
            return True
        equal = np.ones(len(same), dtype=np.bool_)
        for values in key_columns:
            pairs = values.take(pa.array(order[same])), values.take(pa.array(order[same + 1]))
            equal &= mask_of(pc.equal(*pairs))
        if equal.any():
            row = int(order[same[np.flatnonzero(equal)[0]]])
            key = ", ".join(
                f"{name} = {values[row].as_py()}" for name, values in zip(self.keys, key_columns, strict=True)
            )
            raise LookupError(
                f"look-up {self.name}: the key {key} stands in the table more than once",
                "look it up by a column that is unique, or add the columns that make it so to on",
            )
        return False

    def find(self, probes: Sequence[pa.Array]) -> tuple[NDArray[np.intp], Mask]:
        """For each row of the probes, the row of the table with that key, and whether there is one."""
        hashes, valid = self._hash(probes)
        if not len(self._rows):
            return np.zeros(len(hashes), dtype=np.intp), np.zeros(len(hashes), dtype=np.bool_)
        place = np.minimum(np.searchsorted(self._hashes, hashes), len(self._hashes) - 1)
        found = valid & (self._hashes[place] == hashes)
        rows = self._rows[place]
        for name, values in zip(self.keys, probes, strict=True):
            found &= mask_of(pc.equal(self.columns[name].take(pa.array(rows)), values))
        return rows, found

    def take(self, column: str, rows: NDArray[np.intp], found: Mask) -> pa.Array:
        """A column of the rows found, NULL where none was."""
        values = self.columns[column]
        if not len(values):
            return pa.nulls(len(rows), values.type)
        return values.take(pa.array(rows, mask=~found))
