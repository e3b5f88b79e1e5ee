"""Rows that look up others of the same load: they wait until those are written."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Sequence
from enum import Enum

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kanal.core.arrays import Mask, valid_mask
from kanal.core.frame import Frame, SourceBatch
from kanal.core.hashing import Hashes, RowHash
from kanal.core.lookups import LookupTable
from kanal.core.transformation import LookupPlan, convert_columns, look_up
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.set_aside import SetAside

Lookups = Sequence[tuple[LookupPlan, LookupTable]]


class Waits(Enum):
    """The reason why rows wait: others are not written yet, or the looked-up row is missing; or they wait no more."""

    FOR_OTHERS = "for others"
    FOR_THE_MISSING = "for the missing"
    NO_MORE = "no more"


class OwnLookups:
    """A step's look-ups in its own target, and the rows that wait for others.

    While rows are read, a row waits if it finds nothing, or finds a row that this load may change. Each round then
    releases the rows that look up no waiting row. If all rows wait for each other in a circle, the rows that find
    something are released, and finally all.
    """

    def __init__(self, plan: PipelinePlan, names: frozenset[str], moment: dt.datetime) -> None:
        self._plan = plan
        self.names = names
        self._moment = moment
        self.waiting = SetAside[SourceBatch]()
        self._hash = RowHash()
        self._waits = Waits.FOR_OTHERS
        self._keys: dict[str, Hashes] | None = None

    def next_round(self, lookups: Lookups, gone_on: int) -> Iterator[SourceBatch]:
        """The waiting rows, after a round that released `gone_on` rows; `holds_back` finds the rows that still wait."""
        modes = list(Waits)
        self._waits = Waits.FOR_OTHERS if gone_on else modes[modes.index(self._waits) + 1]
        rows, self.waiting = self.waiting, SetAside[SourceBatch]()
        try:
            self._keys = self._keys_of(rows, lookups) if self._waits is Waits.FOR_OTHERS else {}
            yield from rows
        finally:
            rows.close()

    def holds_back(self, batch: SourceBatch, lookups: Lookups) -> Mask:
        """Which rows of a batch have to wait."""
        held = np.zeros(batch.rows, dtype=np.bool_)
        frame = Frame(batch, self._plan.source_types, self._moment)
        for plan, table in lookups if self._waits is not Waits.NO_MORE else ():
            if plan.name in self.names:
                probes = [frame.array(probe.node.evaluate(frame)) for probe in plan.probes]
                given = np.logical_and.reduce([valid_mask(values) for values in probes])
                held |= given & self._open(plan, table, probes)
            look_up(frame, plan, table)
        return held

    def _open(self, plan: LookupPlan, table: LookupTable, probes: list[pa.Array]) -> NDArray[np.bool_]:
        if self._keys is not None and plan.name in self._keys:
            return np.isin(self._hash(table.formed(probes[: len(plan.keys)]))[0], self._keys[plan.name])
        missing: NDArray[np.bool_] = ~table.find(probes)[1]
        if self._keys is None and self._plan.writing.rule.by_key:
            return np.ones(len(missing), dtype=np.bool_)
        return missing

    def _keys_of(self, rows: SetAside[SourceBatch], lookups: Lookups) -> dict[str, Hashes]:
        """The keys of the waiting rows, by look-up, for look-ups whose key columns the mapping fills."""
        wanted = {plan.name: plan.keys for plan, _ in lookups if plan.name in self.names}
        columns = {column.name: column for column in self._plan.columns}
        found: dict[str, list[Hashes]] = {
            name: [] for name, keys in wanted.items() if all(key in columns for key in keys)
        }
        for batch in rows if found else ():
            frame = Frame(batch, self._plan.source_types, self._moment)
            for plan, table in lookups:
                look_up(frame, plan, table)
            names = sorted({key for name in found for key in wanted[name]})
            made, _ = convert_columns(frame, [columns[name] for name in names])
            for plan, table in lookups:
                if plan.name in found:
                    values = [made.column(key) for key in plan.keys]
                    if any(value.type != table.columns[key].type for value, key in zip(values, plan.keys, strict=True)):
                        del found[plan.name]  # by such keys rows are not told apart alike
                        continue
                    hashes, valid = self._hash(table.formed(values))
                    found[plan.name].append(hashes[valid])
        return {name: np.concatenate(parts) for name, parts in found.items() if parts}

    def close(self) -> None:
        """Remove the waiting rows."""
        self.waiting.close()
