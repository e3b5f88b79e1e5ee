"""A looked-up history in memory: finds, for each row's key and moment, the version that was valid then."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.core.arrays import Mask, mask_of, valid_mask
from kanal.core.errors import LookupTableError
from kanal.core.faults import Fault
from kanal.core.hashing import RowHash
from kanal.core.lookups import KeyForm, LookupTable


class VersionedLookupTable(LookupTable):
    """Versions of rows, found by key columns and a moment: `begins <= moment < ends`; NULL ends no version.

    `find` takes the moment after the keys. Raises LookupTableError if two versions of a key begin at one moment.
    """

    def __init__(
        self,
        name: str,
        columns: Mapping[str, pa.Array],
        keys: Sequence[str],
        period: tuple[str, str],
        faults: Mapping[str, Sequence[Fault]] | None = None,
        form: KeyForm | None = None,
    ) -> None:
        self._begins, self._ends = period
        super().__init__(name, columns, keys, faults, form)

    def _build_all(self) -> None:
        self._hash = RowHash(1)
        hashes, valid = self._hash(self._formed)
        begins = self.columns[self._begins]
        rows = np.flatnonzero(valid & valid_mask(begins))
        moments = _numbers(begins)
        order = rows[np.lexsort((moments[rows], hashes[rows]))]
        self._hashes, self._moments = hashes[order], moments[order]
        self._put_in(order)
        same = (self._hashes[1:] == self._hashes[:-1]) & (self._moments[1:] == self._moments[:-1])
        if same.any():
            row = int(np.flatnonzero(same)[0])
            named = ", ".join(f"{key} = {self.columns[key][row].as_py()}" for key in self.keys)
            moment = self.columns[self._begins][row].as_py()
            raise LookupTableError(
                f"look-up {self.name}: two versions of the key {named} begin at {moment}",
                "correct the table, or add the columns that tell the rows apart to on",
            )

    def find(self, probes: Sequence[pa.Array]) -> tuple[NDArray[np.intp], Mask]:
        """For each row of the probes, the version that is valid at its moment, and whether there is one."""
        moments, keys = probes[-1], self.formed(probes[:-1])
        hashes, valid = self._hash(keys)
        valid &= valid_mask(moments)
        if not len(self._hashes):
            return np.zeros(len(hashes), dtype=np.intp), np.zeros(len(hashes), dtype=np.bool_)
        at = _numbers(moments)
        first = np.searchsorted(self._hashes, hashes, side="left")
        low, high = first.copy(), np.searchsorted(self._hashes, hashes, side="right")
        while (still := low < high).any():  # the last version of the key that begins before, by halves
            middle = (low + high) // 2
            before = self._moments[np.minimum(middle, len(self._moments) - 1)] <= at
            low = np.where(still & before, middle + 1, low)
            high = np.where(still & ~before, middle, high)
        found = valid & (low > first)
        rows = np.clip(low - 1, 0, len(self._hashes) - 1).astype(np.intp)
        found &= self.equal(rows, keys)
        ends = self.columns[self._ends].take(pa.array(rows))
        return rows, found & (mask_of(ends.is_null()) | (_numbers(ends) > at))


def _numbers(moments: pa.Array) -> NDArray[np.int64]:
    """Dates or times as numbers in their order; 0 for NULL."""
    whole = moments.cast(pa.int32()) if pa.types.is_date32(moments.type) else moments
    numbers: NDArray[np.int64] = whole.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)
    return numbers
