"""Rows on their way into a target, of which some columns go on as their source sent them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
import pyarrow as pa

from kanal.core.frame import SourceBatch
from kanal.core.native import OwnForm


def as_batch(rows: Any) -> pa.RecordBatch:
    """Rows as a RecordBatch, whatever they are."""
    return rows.whole() if isinstance(rows, CarriedRows) else rows


class CarriedRows:
    """Rows that are used like an Arrow RecordBatch; columns that are carried are made of the batch where asked for.

    A target that knows the form in which the source sent them takes `batch` and `carried`; all others never see these.
    """

    def __init__(
        self,
        batch: SourceBatch,
        schema: pa.Schema,
        computed: Mapping[str, pa.Array],
        carried: Mapping[str, str],
        own_forms: Mapping[str, OwnForm],
    ) -> None:
        """`computed` and `carried` have together the columns of the schema; `carried` says of which of the batch each
        is, and `own_forms` how those of them are written that may have values which their type cannot hold."""
        self.batch = batch
        self.schema = schema
        self.computed = dict(computed)
        self.carried = dict(carried)
        self._own_forms = dict(own_forms)

    @property
    def num_rows(self) -> int:
        """How many there are."""
        return self.batch.rows

    def __iter__(self) -> Iterator[pa.Array]:
        return iter(self.columns)

    @property
    def columns(self) -> list[pa.Array]:
        """All columns."""
        return [self.column(name) for name in self.schema.names]

    def column(self, name: str | int) -> pa.Array:
        """A column, by its name or its place."""
        name = self.schema.names[name] if isinstance(name, int) else name
        if name in self.computed:
            return self.computed[name]
        values, strays = self.batch.columns[self.carried[name]], self.batch.strays.get(self.carried[name], {})
        return self._own_forms[name](values, strays) if strays else values

    def whole(self) -> pa.RecordBatch:
        """The same as a RecordBatch."""
        return pa.RecordBatch.from_arrays(self.columns, names=self.schema.names)

    def append_column(self, name: str, values: pa.Array) -> CarriedRows:
        """The same with one more column."""
        schema = self.schema.append(pa.field(name, values.type))
        return CarriedRows(self.batch, schema, {**self.computed, name: values}, self.carried, self._own_forms)

    def take(self, places: pa.Array) -> CarriedRows:
        """The rows in these places."""
        computed = {name: values.take(places) for name, values in self.computed.items()}
        return CarriedRows(self.batch.take(places.to_numpy()), self.schema, computed, self.carried, self._own_forms)

    def slice(self, start: int, length: int | None = None) -> CarriedRows:
        """So many rows from one on, or all from there on."""
        stop = self.num_rows if length is None else min(self.num_rows, start + length)
        return self.take(pa.array(np.arange(start, stop)))

    def filter(self, mask: pa.Array) -> CarriedRows:
        """The rows for which a mask is true."""
        return self.take(pa.array(mask.to_numpy(zero_copy_only=False).nonzero()[0]))
