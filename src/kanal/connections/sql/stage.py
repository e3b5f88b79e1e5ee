"""A temporary table in which rows wait to be merged, each thing to be done by one statement for all of them."""

from __future__ import annotations

from contextlib import nullcontext
from typing import Any

import sqlalchemy as sa

from kanal.connections.description import Constraint, ForeignKey
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import Conflict, Merging, RefusedRow, Written
from kanal.connections.sql.conflicts import conflicts_of
from kanal.connections.sql.constraints import Sieve, exists
from kanal.connections.sql.deleting import delete_rows
from kanal.connections.sql.history import Versions, close_unmatched
from kanal.connections.sql.joined_update import joined_update
from kanal.connections.sql.staged import StagedTable
from kanal.connections.sql.staging import StagingTransaction
from kanal.connections.sql.verdict import Verdict, is_worth_it
from kanal.core.errors import KanalError

_REFERRED = "rows of other tables refer to the row that is to go"


class SqlStage(StagedTable):
    """Rows that wait to be merged into the target."""

    def __init__(self, load: StagingTransaction, merging: Merging, columns: tuple[str, ...], name: str) -> None:
        super().__init__(load, merging, columns, name)
        self._sieve: Sieve | None = None
        self._others: tuple[sa.Table, sa.Table] | None = None
        self._spared: list[Any] = []
        self._verdict: Verdict | None = None

    @property
    def _refers(self) -> bool:
        """True if rows refer to others of the table, or to rows that come later."""
        return bool(self.merging.own_references or self.merging.open_references)

    def ready(self) -> None:
        """Called after all rows have come, before they are merged."""
        by_more = self._refers or self.merging.history is not None
        self.load.settle_stage(self.table, None if by_more else [*self.merging.key, self.number.name])
        self.load.foresee_growth(self.target)

    def ready_for_parts(self) -> None:
        """Called before parts of the rows are merged, many times."""
        self.load.index_rows(self.table)

    def sift(self, first: int) -> list[RefusedRow]:
        """Take out the rows, from a number on, that break a constraint of the table, as far as it is known of all
        at once."""
        if self._sieve is None:
            self.load.settle_stage(self.table)  # whatever columns the constraints are of
            self._sieve = Sieve(self)
        return self._sieve(first)

    def open_ends(self) -> list[tuple[RefusedRow, tuple[Any, ...]]]:
        """The written rows that refer, by a reference that is filled in later, to a row that is not there: each with
        the values of its filling key."""
        found: list[tuple[RefusedRow, tuple[Any, ...]]] = []
        for key in self.merging.open_references:
            constraint = Constraint(key.name, key.columns, foreign_key=key)
            values = [self.table.c[name] for name in self.merging.filling_key]
            parent = sa.table(key.table, *map(sa.column, key.referred), schema=key.schema).alias("kanal_parent")
            missing = ~exists(parent, zip(key.referred, key.columns, strict=True), self.table)
            given = [self.table.c[name].is_not(None) for name in key.columns]
            for number, *row in self.load.rows(sa.select(self.number, *values).where(*given, missing)):
                refused = RefusedRow(int(number), constraint.broken, constraint.label, key.columns, key)
                found.append((refused, tuple(row)))
        return found

    def close_references(self) -> None:
        """Fill in the references that were left open; raises RowsRefused."""
        later = tuple(dict.fromkeys(name for key in self.merging.filled_later for name in key.columns))
        if later:
            self.load.attempt(self._fill(later, self.merging.filling_key, []))

    def merge(self, part: range, whole: bool, counted: bool) -> Written:
        """Merge the rows with these numbers, all or none; raises RowsRefused."""
        chosen: list[Any] = [] if whole else [self.number >= part.start, self.number < part.stop]
        if whole and self._withdraws:
            chosen = [self.number >= 0]
        rows = len(part)
        if counted:
            rows = self.load.scalar(sa.select(sa.func.count()).select_from(self.table).where(*chosen))
        if self.merging.history is not None:
            others = self._for_versions()  # before the savepoint, with which they would go
            with self.load.all_or_nothing():
                return Versions(self, *others, None if whole else part).merge(rows)
        if whole and not self._refers and self._verdict is None and is_worth_it(self):
            self._judge(with_missing=False)
        updated, inserted = self._merge_referring(chosen) if self._refers else self._merge_plain(chosen, whole)
        if updated + inserted > rows:
            raise KanalError(
                f"{rows:,} rows were merged into {self.merging.table.name} and {updated:,} rows of it updated: "
                f"rows of the target share the key {', '.join(self.merging.key)}",
                "name a key that is unique in the target",
            )
        return Written(inserted=inserted, updated=updated, unchanged=rows - updated - inserted)

    def _for_versions(self) -> tuple[sa.Table, sa.Table]:
        """Where changes are put by that say something new, and the ends of versions that they divide."""
        history, table = self.merging.history, self.merging.table
        assert history is not None
        if self._others is None:
            ends = [*self.merging.key, history.until]
            self._others = (
                self.load.create_stage(table, self._columns, self.merging.key, f"{self.table.name}_new"),
                self.load.create_stage(table, ends, (), f"{self.table.name}_ends"),
            )
        return self._others

    def close_unmatched(self, kept: StagedTable | None, moment: StagedTable) -> int:
        """Of a history, end the current versions whose keys neither this stage nor the other has, at the one moment of
        a stage; how many."""
        return close_unmatched(self, self._gone(kept), moment.table)

    def _merge_plain(self, chosen: list[Any], whole: bool) -> tuple[int, int]:
        """Update and insert; how many rows each."""
        changed, new = [*self.differs(), *chosen], [*self.is_new(), *chosen]
        statements, verdict = [self.update_of(changed), self.insert_of(new)], self._verdict if whole else None
        if verdict is not None:
            statements = [self.update_of(verdict.of_changed()) if verdict.changed else None,
                          self.insert_of(verdict.of_new()) if verdict.new else None]  # fmt: skip
        with self.load.one_by_one() if verdict is not None and verdict.of_few else nullcontext():
            counts = iter(self.load.attempt(*(statement for statement in statements if statement is not None)))
        updated, inserted = (0 if statement is None else next(counts) for statement in statements)
        return updated, inserted

    def _merge_referring(self, chosen: list[Any]) -> tuple[int, int]:
        """The same where rows refer to others of the table, or to rows that come later: they do so once these are
        there."""
        own = self.merging.own_references
        late = tuple(dict.fromkeys(name for key in own for name in key.columns))
        later = tuple(dict.fromkeys(name for key in self.merging.filled_later for name in key.columns))
        nullable = all(column.nullable for column in self.merging.table.chosen(late))
        empty = late if nullable and self.load.database.checks_each_row else ()
        by_level = own if not nullable and self.load.database.checks_each_row else ()
        new = [*self.is_new(), *chosen]
        updating, inserting = (
            self.update_of([*self.differs(), *chosen], late + later),
            self.insert_of(new, empty + later),
        )
        doubled = by_level and not self.merging.key
        same = self.merging.key or (own[0].referred if own else ())
        filling = [self._fill(late, same, chosen)] if late and (empty or updating is not None) else []
        with self.load.all_or_nothing():
            self.load.attempt(*self._take_out_settled(chosen))
            updated = self.load.attempt(updating)[0] if updating is not None else 0
            inserted = 0
            if doubled:
                first = self.load.rows(sa.select(self.number).where(self._is_there(own), *chosen).limit(1))
                if first:
                    raise RowsRefused("another row has the same key")
            while by_level and inserting is not None:
                (more,) = self.load.attempt(self.insert_of([*new, *self._parents_there(by_level)], later))
                inserted += more
                if not more:
                    break
            if inserting is not None:
                rest = self.insert_of([*new, ~self._is_there(own)], empty + later) if doubled else inserting
                inserted += self.load.attempt(rest)[0]
            self.load.attempt(*filling)
        return updated, inserted

    def _take_out_settled(self, chosen: list[Any]) -> list[Any]:
        """What takes out the rows of which the table's are kept, so that nothing of them is filled in."""
        merging, there = self.merging, self.target
        if not merging.key or (merging.update and merging.newer_by is None):
            return []
        kept: list[Any] = []
        if merging.update and merging.newer_by is not None:
            was, comes = there.c[merging.newer_by], self.table.c[merging.newer_by]
            kept = [was.is_not(None), comes <= was]
        rows = sa.select(sa.literal(1)).select_from(there).where(*self.same_key(self.table, there), *kept)
        return [self.table.delete().where(sa.exists(rows.correlate(self.table)), *chosen)]

    def _fill(self, late: tuple[str, ...], key: tuple[str, ...], chosen: list[Any]) -> Any:
        """What gives late columns their values, in the rows of these keys."""
        target, stage = self.target, self.table
        same = [target.c[name] == stage.c[name] for name in key]
        changed = self.load.any_differs(self.merging.table, late, target, stage)
        values = {name: stage.c[name] for name in late}
        return joined_update(self.load.database.dialect, target, stage, values, same, [changed, *chosen])

    def _parents_there(self, own: tuple[ForeignKey, ...]) -> list[Any]:
        """The conditions that rows refer to rows that are there, or to themselves, and are not there yet."""
        stage, conditions = self.table, list[Any]()
        for key in own:
            parent = self.target.alias("kanal_parent")
            pairs = list(zip(key.referred, key.columns, strict=True))
            same = sa.select(sa.literal(1)).select_from(parent).where(*(parent.c[a] == stage.c[b] for a, b in pairs))
            itself = sa.and_(*(stage.c[a] == stage.c[b] for a, b in pairs))
            empty = [stage.c[name].is_(None) for name in key.columns]
            conditions.append(sa.or_(sa.exists(same.correlate(stage)), itself, *empty))
        if not self.merging.key:
            conditions.append(~self._is_there(own))
        return conditions

    def _is_there(self, own: tuple[ForeignKey, ...]) -> Any:
        there = self.target.alias("kanal_there")
        same = [there.c[name] == self.table.c[name] for name in own[0].referred]
        return sa.exists(sa.select(sa.literal(1)).select_from(there).where(*same).correlate(self.table))

    def withdraw(self) -> Written:
        """Delete the table's rows of withdrawn keys; rows to which others refer are refused.

        A row of the table that is newer stays, and counts as unchanged.
        """
        if not self._withdraws:
            return Written()
        due = self.newer(or_same=True)
        gone = [self.has_key_of(self.table, self.target, self.number < 0, *due)]
        written = Written(deleted=delete_rows(self, gone)[0])
        left = sa.select(self.number).where(self.number < 0, self.has_key_of(self.target, self.table, *due))
        written.refused = [RefusedRow(-1 - int(number), _REFERRED) for (number,) in self.load.rows(left)]
        count = sa.select(sa.func.count()).select_from(self.table).where(self.number < 0)
        there = int(self.load.scalar(count.where(self.has_key_of(self.target, self.table)))) if due else 0
        written.unchanged = max(there - len(written.refused), 0)
        written.withdrawn = int(self.load.scalar(count)) - len(written.refused) - written.unchanged
        self.load.execute(self.table.delete().where(self.number < 0))
        return written

    def delete_unmatched(self, kept: StagedTable | None) -> tuple[int, bool]:
        """Delete the table's rows whose keys neither this stage nor the other has, but for those to which others refer;
        how many, and whether these are all."""
        few_kept = kept is None or 10 * kept.rows < self.rows
        if few_kept and is_worth_it(self):
            self._judge(with_missing=True)
        return delete_rows(self, self._gone(kept))

    def _judge(self, with_missing: bool) -> None:
        self.forget_verdict()
        self._verdict = Verdict(self, with_missing)

    def forget_verdict(self) -> None:
        if self._verdict is not None:
            self._verdict.drop()
            self._verdict = None

    def unmatched(self, kept: StagedTable | None) -> list[tuple[Any, ...]]:
        """The keys of those rows of the table that could not be deleted."""
        keys = [self.target.c[name] for name in self.merging.key]
        return [tuple(row) for row in self.load.rows(sa.select(*keys).where(*self._gone(kept)))]

    def _gone(self, kept: StagedTable | None) -> list[Any]:
        if self._verdict is not None and self._verdict.knows_missing:
            missing = [self._verdict.has_missing(self.target)]
        else:
            missing = [~self.has_key_of(self.table, self.target)]
        missing += [~self.has_key_of(kept.table, self.target)] if kept is not None else []
        return [*missing, *self._spared]

    def spare_newer(self, bound: StagedTable) -> None:
        """Delete no row of the table that is newer than the one value of a stage."""
        by = self.merging.newer_by
        assert by is not None
        self._spared = [self.target.c[by] <= sa.select(bound.table.c[by]).scalar_subquery()]

    def drop(self) -> None:
        """Drop it."""
        self.forget_verdict()
        for stage in (self.table, *(self._others or ())):
            self.load.drop_stage(stage)

    def conflicts(self, ours: StagedTable, theirs: StagedTable) -> list[Conflict]:
        """The rows that were changed on both sides, in an exchange."""
        return conflicts_of(self, ours, theirs)
