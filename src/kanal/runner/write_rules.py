"""The write rules: append, truncate, merge and history, each a class that states its facts."""

from __future__ import annotations

from typing import Any, cast

import pyarrow as pa
from msgspec.structs import replace

from kanal.connections.errors import RowsRefused
from kanal.connections.loading import (
    Load,
    PortionLoad,
    PortionRows,
    RebuildLoad,
    Written,
)
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError
from kanal.definition import Settings
from kanal.runner.staged_rows import EncodedRows, Mask, StagedRows
from kanal.runner.write_rule import Merge, WriteRule, Writing, can_stage


class Append(WriteRule):
    """Every row is inserted."""

    name = "append"
    inserts_all = True
    needs = frozenset({Writes.APPEND})
    repeatable = False


class Truncate(WriteRule):
    """The target is emptied in the transaction of the load, then every row is inserted."""

    name = "truncate"
    inserts_all = True
    needs = frozenset({Writes.APPEND, Writes.EMPTY})
    rights = ("insert", "delete")
    empties = True

    @classmethod
    def adding(cls) -> type[WriteRule]:
        return Append

    def __init__(self, load: Load, writing: Writing) -> None:
        super().__init__(load, writing)
        #: The dropped indexes, to be created again after the load.
        self._dropped: Any = None

    def begin(self) -> Written:
        if self.writing.settings.rebuild_indexes and not self.writing.by_batch:
            self._dropped = cast(RebuildLoad, self.load).drop_indexes(self.writing.table)
        return Written(deleted=self.load.empty(self.writing.table))

    def complete(self) -> None:
        if self._dropped is not None:
            try:
                cast(RebuildLoad, self.load).make_indexes(self._dropped)
            except RowsRefused as error:
                said = f"the indexes of {self.writing.table.name} cannot be made again: {error.what}"
                raise IndexesRefused(said, "leave rebuild_indexes out, so that such rows are rejected") from None


class IndexesRefused(KanalError):
    """Rows were loaded that do not go together with the indexes that the table had."""


class GatheredInsert(Merge):
    """Rows whose table refers to itself are inserted all at once, so that their order does not matter."""

    name = "gathered"
    needs = Append.needs
    rights = Append.rights
    needs_key = False
    by_key = False
    repeatable = False

    def __init__(self, load: Load, writing: Writing) -> None:
        super().__init__(load, replace(writing, delete_missing=False))
        self.empties = writing.rule.empties

    def begin(self) -> Written:
        deleted = self.load.empty(self.writing.table) if self.empties else 0
        self._rows = StagedRows(self.load, self.writing.inserting, self._name)
        return Written(deleted=deleted)


class History(Merge):
    """Every version of a row is kept: a change ends the version that is valid at its moment, and begins another."""

    name = "history"
    keeps_versions = True

    def finish(self) -> Written:
        if self.moment is not None and self.stage.moment is None:
            self.stage.moment = self._value("_moment", self.moment)
        return super().finish()

    def _delete_missing(self) -> int:
        """End the current versions whose rows the source no longer has; how many."""
        self._check_keys()
        if self._source_is_empty():
            return 0
        ended: int = self.stage.close_unmatched(self._kept, self.stage.moment)
        return ended

    def close(self) -> None:
        if self.stage.moment is not None:
            self.stage.moment.drop()
        super().close()


class Portioned(Merge):
    """The rows of one range of a source wait in a portion, which another load publishes with all others."""

    name = "portion"
    gathers = False

    def __init__(self, load: Load, writing: Writing, place: str, keeps_keys: bool) -> None:
        super().__init__(load, writing)
        self._load = cast("PortionLoad", load)
        self._place = place
        self._keeps_keys = keeps_keys
        self._not_in = 0

    def begin(self) -> Written:
        merging = self.writing.merging if self.writing.rule.by_key else self.writing.inserting
        if self._keeps_keys:
            self._kept = self._load.portion(self.writing.merging, self.writing.key, f"{self._place}_k")
        portion = self._load.portion(merging, merging.columns, self._place)
        self._rows = StagedRows(self.load, merging, self._place, portion)
        return Written()

    def keep(self, rows: pa.RecordBatch) -> None:
        if self._keeps_keys:
            self._keep_keys(rows)

    def encode_some(self, encoded: EncodedRows, chosen: Mask) -> EncodedRows:
        self._not_in += int((~chosen).sum())
        return super().encode_some(encoded, chosen)

    def write(self, encoded: EncodedRows) -> Written:
        written = super().write(encoded)
        self._not_in += len(written.refused)
        return written

    @property
    def there(self) -> PortionRows:
        """The rows that wait."""
        return PortionRows(self.stage.rows, self.stage.rows - self._not_in)

    @property
    def kept(self) -> PortionRows | None:
        """The waiting keys of rejected rows, or None if none are kept."""
        return None if self._kept is None else PortionRows(self._kept.rows, self._kept.rows)

    @property
    def keyless(self) -> int:
        """How many rejected rows have no usable key."""
        return self._keyless

    def finish(self) -> Written:
        return Written()

    def delete_rest(self) -> tuple[int, list[dict[str, str | None]]]:
        return 0, []

    def close(self) -> None:
        """Nothing goes: it is committed."""


WRITE_RULES: dict[str, type[WriteRule]] = {rule.name: rule for rule in (Append, Truncate, Merge, History)}


def rule_of(settings: Settings) -> type[WriteRule]:
    """The write rule of a pipeline."""
    return WRITE_RULES[settings.write]


def rule_for(load: Load, writing: Writing) -> WriteRule:
    """The write rule of a pipeline, for one load.

    A table to be emptied, to whose rows others refer, is brought to the same contents row by row, if the target
    allows no reference to be open for a while.
    """
    load.check_at_once([key for key in writing.table.foreign_keys if key not in writing.open_references])
    if writing.rule.empties and writing.key and not load.can_empty(writing.table):
        return Merge(load, replace(writing, delete_missing=True, empties_all=True))
    if writing.last_wins and not writing.rule.gathers:
        if not can_stage(load):
            raise KanalError(
                f'duplicates = "last" needs temporary tables, which {load.target.name} does not allow here',
                'allow them, or set duplicates = "first"',
            )
        return GatheredInsert(load, writing)
    refers = writing.merging.own_references or writing.open_references
    if refers and not writing.rule.gathers and can_stage(load):
        return GatheredInsert(load, writing)
    return writing.rule(load, writing)
