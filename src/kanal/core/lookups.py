"""A looked-up table in memory: finds, for each row's key, the row of the table that has it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace
from numpy.typing import NDArray

from kanal.core.arrays import Mask, mask_of, valid_mask
from kanal.core.errors import LookupTableError
from kanal.core.faults import Fault
from kanal.core.hashing import Hashes, RowHash

#: Converts values of a key column, given its name, to the form in which they are compared.
KeyForm = Callable[[str, pa.Array], pa.Array]


def equal_values(one: pa.Array, other: pa.Array) -> Mask:
    """Which values are equal; NaN is equal to NaN."""
    found: Mask = mask_of(pc.equal(one, other))
    if pa.types.is_floating(one.type):
        found |= mask_of(pc.and_(pc.is_nan(one), pc.is_nan(other)))
    return found


class LookupTable:
    """Columns of a table, found by key columns. Built once, then probed by any number of batches.

    `form` converts values of a key column so that they are equal if they are equal by the looked-up column's collation.
    Raises LookupTableError if two rows of the table have one key. Keys with a NULL match nothing; NaN is equal to NaN,
    as in PostgreSQL.
    """

    def __init__(
        self,
        name: str,
        columns: Mapping[str, pa.Array],
        keys: Sequence[str],
        faults: Mapping[str, Sequence[Fault]] | None = None,
        form: KeyForm | None = None,
    ) -> None:
        self.name = name
        self._form = form
        #: By column, the values that are not of its type, by their row in the table as it was read.
        self._faults = {
            column: {fault.row: fault for fault in found} for column, found in (faults or {}).items() if found
        }
        #: Where the rows in use stood in the table as it was read.
        self._order: NDArray[np.intp] | None = None
        self.columns = dict(columns)
        self.keys = list(keys)
        self._dense: tuple[int, NDArray[np.int32]] | None = None
        self._formed = self.formed([self.columns[key] for key in self.keys])
        self._build_all()

    def formed(self, values: Sequence[pa.Array]) -> list[pa.Array]:
        """Values of the key columns in the form in which they are compared."""
        if self._form is None:
            return list(values)
        return [self._form(key, column) for key, column in zip(self.keys, values, strict=True)]

    def equal(self, rows: NDArray[np.intp], probes: Sequence[pa.Array]) -> Mask:
        """Which probes, in their form, have the keys of these rows."""
        found = np.ones(len(rows), dtype=np.bool_)
        for keys, values in zip(self._formed, probes, strict=True):
            found &= equal_values(keys.take(pa.array(rows)), values)
        return found

    def _build_all(self) -> None:
        """Make its index; raises LookupTableError."""
        keys, name = self.keys, self.name
        key_columns = self._formed
        if len(keys) == 1 and pa.types.is_integer(key_columns[0].type) and self._build_dense(key_columns[0]):
            return
        # A collision of two different keys, which chance all but excludes, is resolved by another hash function.
        for seed in range(1, 20):
            self._hash = RowHash(seed)
            if self._build(key_columns):
                return
        raise LookupTableError(
            f"look-up {name}: its keys cannot be told apart by hashing", "report this with the table"
        )

    def _build_dense(self, keys: pa.Array) -> bool:
        """Whole numbers that lie close, as most surrogate keys do, are places in a list of rows; else false."""
        valid = valid_mask(keys)
        rows = np.flatnonzero(valid)
        if not len(rows):
            return False
        numbers = keys.fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)[rows]
        least, greatest = int(numbers.min()), int(numbers.max())
        if greatest - least >= 4 * len(rows) + 1000:
            return False
        places = np.full(greatest - least + 2, -1, dtype=np.int32)
        places[numbers - least] = rows
        if len(rows) > np.count_nonzero(places >= 0):
            return False  # a doubled key, which is found and named the other way
        self._dense = least, places
        return True

    def _build(self, key_columns: list[pa.Array]) -> bool:
        hashes, valid = self._hash(key_columns)
        rows = np.flatnonzero(valid)
        order = rows[np.argsort(hashes[rows], kind="stable")]
        self._hashes: Hashes = hashes[order]
        # Hashes spread evenly, so their first bits lead to within a few places of where a hash stands.
        bits = min(max(1, len(order).bit_length() + 1), 26)
        self._shift = np.uint64(64 - bits)
        edges = np.arange(2**bits, dtype=np.uint64) << self._shift
        self._starts = np.append(np.searchsorted(self._hashes, edges), len(order)).astype(np.int32)
        same = np.flatnonzero(self._hashes[1:] == self._hashes[:-1])
        if not len(same):
            # In the order of the hashes, where a hash stands is where its row is.
            self._put_in(order)
            return True
        equal = np.ones(len(same), dtype=np.bool_)
        for values in key_columns:
            equal &= equal_values(values.take(pa.array(order[same])), values.take(pa.array(order[same + 1])))
        if equal.any():
            row = int(order[same[np.flatnonzero(equal)[0]]])
            key = ", ".join(f"{name} = {self.columns[name][row].as_py()}" for name in self.keys)
            raise LookupTableError(
                f"look-up {self.name}: the key {key} stands in the table more than once",
                "look it up by a column that is unique, or add the columns that make it so to on",
            )
        return False

    def _put_in(self, order: NDArray[np.intp]) -> None:
        """Reorder the rows; rows that the order omits are dropped."""
        chosen = pa.array(order)
        self.columns = {name: values.take(chosen) for name, values in self.columns.items()}
        self._formed = [values.take(chosen) for values in self._formed]
        self._order = order

    def find(self, probes: Sequence[pa.Array]) -> tuple[NDArray[np.intp], Mask]:
        """For each row of the probes, the row of the table with that key, and whether there is one."""
        if self._dense is not None:
            least, places = self._dense
            numbers = probes[0].fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)
            # The last place is no row's. Numbers are compared before they are subtracted, which could overflow.
            inside = valid_mask(probes[0]) & (numbers >= least) & (numbers <= least + len(places) - 2)
            rows = places[np.where(inside, numbers - least, len(places) - 1)].astype(np.intp)
            return rows, inside & (rows >= 0)
        probes = self.formed(probes)
        hashes, valid = self._hash(probes)
        found = np.zeros(len(hashes), dtype=np.bool_)
        if not len(self._hashes):
            return np.zeros(len(hashes), dtype=np.intp), found
        bucket = (hashes >> self._shift).astype(np.int64)
        place, end = self._starts[bucket], self._starts[bucket + 1]
        open_rows = np.flatnonzero(valid & (place < end))
        while len(open_rows):
            hit = self._hashes[place[open_rows]] == hashes[open_rows]
            found[open_rows[hit]] = True
            open_rows = open_rows[~hit]
            place[open_rows] += 1
            open_rows = open_rows[place[open_rows] < end[open_rows]]
        rows = np.minimum(place, len(self._hashes) - 1).astype(np.intp)
        return rows, found & self.equal(rows, probes)

    def take(self, column: str, rows: NDArray[np.intp], found: Mask) -> tuple[pa.Array, list[Fault]]:
        """A column of the rows found, NULL if none was, and the faults of values that are not of its type."""
        values = self.columns[column]
        if not len(values):
            return pa.nulls(len(rows), values.type), []
        faults: list[Fault] = []
        bad = self._faults.get(column)
        if bad:
            places = rows if self._order is None else self._order[rows]
            hit = np.flatnonzero(found & np.isin(places, list(bad)))
            for row in hit.tolist():
                fault = bad[int(places[row])]
                faults.append(replace(fault, row=row, message=f"look-up {self.name}, {column}: {fault.message}"))
        return values.take(pa.array(rows, mask=~found)), faults
