"""Looks up rows of other tables."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Sequence
from functools import partial

from kanal.connections import TableInfo
from kanal.connections.base import Column, Source
from kanal.connections.loading import Load
from kanal.core.frame import Frame, SourceBatch
from kanal.core.lookups import LookupTable
from kanal.core.transformation import LookupPlan, look_up
from kanal.core.versioned_lookups import VersionedLookupTable
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.stages.batch import Batch

#: Reads columns of a table, as a load sees them if one is given.
ReadColumns = Callable[[Source, TableInfo, Sequence[str], Load | None], dict[str, Column]]


class LookUp:
    """Keeps the looked-up columns in memory. `emptied` names look-ups in a table that the load empties."""

    name = "look up"

    def __init__(
        self, plan: PipelinePlan, moment: dt.datetime, read: ReadColumns, emptied: Collection[str] = ()
    ) -> None:
        self._plan, self._moment, self._read = plan, moment, read
        self.tables: list[tuple[LookupPlan, LookupTable]] = [
            (lookup, self._table(lookup, database, table, None, lookup.name in emptied))
            for lookup, database, table in plan.lookups
        ]

    def take(self, batch: Batch) -> Batch:
        batch.frame = Frame(batch.source, self._plan.source_types, self._moment)
        for lookup, table in self.tables:
            batch.faults += look_up(batch.frame, lookup, table)
        return batch

    def frame_of(self, source: SourceBatch) -> Frame:
        """Rows with what they look up, to compute expressions over them."""
        frame = Frame(source, self._plan.source_types, self._moment)
        for lookup, table in self.tables:
            look_up(frame, lookup, table)
        return frame

    def read_again(self, names: Collection[str], load: Load) -> None:
        """Read some of the looked-up tables again, as a load sees them."""
        self.tables = [
            (lookup, self._table(lookup, database, table, load) if lookup.name in names else known)
            for (lookup, database, table), (_, known) in zip(self._plan.lookups, self.tables, strict=True)
        ]

    def _table(
        self, lookup: LookupPlan, database: Source, table: TableInfo, load: Load | None, emptied: bool = False
    ) -> LookupTable:
        wanted = _columns_of(self._plan, lookup)
        columns = self._read(database, table, wanted, load)
        if emptied:
            columns = {name: (values[:0], []) for name, (values, _) in columns.items()}
        faults = {name: found for name, (_, found) in columns.items()}
        values = {name: values for name, (values, _) in columns.items()}
        form = partial(database.key_form, table)
        if lookup.period is not None:
            return VersionedLookupTable(lookup.name, values, lookup.keys, lookup.period, faults, form)
        return LookupTable(lookup.name, values, lookup.keys, faults, form)


def _columns_of(plan: PipelinePlan, lookup: LookupPlan) -> list[str]:
    """The columns of a look-up that the pipeline uses, its keys first."""
    expressions = [column.expression for column in plan.columns]
    expressions += [probe for other, _, _ in plan.lookups for probe in other.probes]
    used = {column for expression in expressions for owner, column in expression.uses if owner == lookup.name}
    return list(dict.fromkeys([*lookup.keys, *(lookup.period or ()), *sorted(used)]))
