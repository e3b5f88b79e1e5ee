"""A temporary table in which rows wait to be merged, each thing to be done by one statement for all of them."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import nullcontext
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from numpy.typing import NDArray

from kanal.connections.description import Constraint, ForeignKey
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import Conflict, Merging, RefusedRow, Written
from kanal.connections.sql.constraints import Sieve, exists
from kanal.connections.sql.history import Versions, close_unmatched
from kanal.connections.sql.joined_update import joined_update
from kanal.connections.sql.verdict import Verdict, is_worth_it
from kanal.core.carried_rows import CarriedRows
from kanal.core.errors import KanalError

if TYPE_CHECKING:
    from kanal.connections.sql.load import SqlLoad


_REFERRED = "rows of other tables refer to the row that is to go"
#: Rows that are taken out by one statement.
_AT_ONCE = 5_000


def row_column(columns: Sequence[str]) -> str:
    """A name that none of the columns has, for the last column of a stage, which numbers its rows."""
    name = "kanal_row"
    while name in {column.casefold() for column in columns}:
        name += "_"
    return name


class SqlStage:
    """Rows of the target's form, numbered as they come in a last column."""

    def __init__(self, load: SqlLoad, merging: Merging, columns: tuple[str, ...], name: str) -> None:
        self.rows = 0
        self.load = load
        self.merging = merging
        self._columns = list(columns)
        self.target = load.table_of(merging.table)
        # By its key it is joined with the table, or else with itself, where its rows refer to each other.
        key = merging.key or next((one.referred for one in merging.own_references), ())
        self.table = self.table_named(key if set(key) <= set(columns) else (), name)
        #: The column that numbers its rows.
        self.number = list(self.table.c)[-1]
        self._sieve: Sieve | None = None
        self._withdraws = False
        self._others: tuple[sa.Table, sa.Table] | None = None
        self._spared: list[Any] = []
        self._verdict: Verdict | None = None
        self._moments: tuple[Any, Any] | None = None
        #: A stage with the load's one moment, if a history closes missing rows at it.
        self.moment: SqlStage | None = None

    def table_named(self, key: tuple[str, ...], name: str) -> sa.Table:
        """Make the table."""
        return self.load.create_stage(self.merging.table, self._columns, key, name)

    @property
    def encoded(self) -> list[str]:
        """The columns that rows have when they come, but their numbers."""
        return self._columns

    def number_next(self, count: int) -> NDArray[np.int64]:
        """The numbers of the next rows."""
        first, self.rows = self.rows, self.rows + count
        return np.arange(first, self.rows)

    def encode(
        self,
        rows: pa.RecordBatch,
        numbers: NDArray[np.int64] | None = None,
        withdrawn: NDArray[np.bool_] | None = None,
    ) -> Any:
        """Rows with their numbers, by default the next ones, ready to be put in; None if there are none. Withdrawn
        ones are numbered from -1 downwards, in the place of 0 and upwards."""
        if not rows.num_rows:
            return None
        if numbers is None:
            numbers = self.number_next(rows.num_rows)
        if self.merging.history is not None and self.merging.history.from_ in self._columns:
            self._see_moments(rows.column(self.merging.history.from_))
        if withdrawn is not None and withdrawn.any():
            self._withdraws = True
            numbers = np.where(withdrawn, -1 - numbers, numbers)
        if isinstance(rows, CarriedRows) and list(self.encoded) == rows.schema.names:
            return self.load.encode_into(self.table, rows.append_column(self.number.name, pa.array(numbers)))
        arrays = [*(rows.column(name) for name in self.encoded), pa.array(numbers)]
        numbered = pa.RecordBatch.from_arrays(arrays, names=[*self.encoded, self.number.name])
        return self.load.encode_into(self.table, numbered)

    @property
    def of_one_moment(self) -> bool:
        """True where all changes that have come are of one moment."""
        return self._moments is not None and self._moments[0] == self._moments[1]

    def _see_moments(self, values: pa.Array) -> None:
        found = pc.min_max(values).as_py()
        bounds = [bound for bound in (found["min"], found["max"], *(self._moments or ())) if bound is not None]
        self._moments = (min(bounds), max(bounds)) if bounds else None

    def add(self, encoded: Any) -> None:
        """Put rows in."""
        self._unjudge()
        if encoded is not None:
            self.load.insert_into(self.table, encoded)

    def send(self, encoded: Any) -> int | None:
        """The same, of which is heard by the load's `confirm`; how many bytes they are, None where they were not sent
        since those before are to be confirmed first."""
        self._unjudge()
        return self.load.send_into(self.table, encoded) if encoded is not None else 0

    def clear(self) -> None:
        """Take all rows out."""
        self._unjudge()
        self.load.clear_stage(self.table)

    def take_keys_of(self, other: SqlStage) -> None:
        """Take in the keys of another stage's rows."""
        names = [*self._columns, self.number.name]
        rows = sa.select(*(other.table.c[name] for name in self._columns), other.number + self.rows)
        self.load.execute(self.table.insert().from_select(names, rows))
        self.rows += other.rows

    @property
    def _refers(self) -> bool:
        """True where rows refer to others of the table, or to rows that come later."""
        return bool(self.merging.own_references or self.merging.open_references)

    def ready(self) -> None:
        """Called once the rows are in, before they are merged."""
        by_more = self._refers or self.merging.history is not None
        self.load.settle_stage(self.table, None if by_more else [*self.merging.key, self.number.name])
        self.load.foresee_growth(self.target)

    def ready_for_parts(self) -> None:
        """Called before parts of the rows are merged, many times."""
        self.load.index_rows(self.table)

    def sift(self, first: int) -> list[RefusedRow]:
        """Take out the rows, from a number on, that break a constraint of the table, as far as that can be told of all
        at once."""
        if self._sieve is None:
            self.load.settle_stage(self.table)  # whatever columns the constraints are of
            self._sieve = Sieve(self)
        return self._sieve(first)

    def take_out(self, numbers: Sequence[int]) -> None:
        """Take out rows by their numbers."""
        for start in range(0, len(numbers), _AT_ONCE):
            self.load.execute(self.table.delete().where(self.number.in_(numbers[start : start + _AT_ONCE])))

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

    def close_unmatched(self, kept: SqlStage | None, moment: SqlStage) -> int:
        """Of a history, end the current versions whose keys neither this stage nor the other has, at the one moment of
        a stage; how many."""
        return close_unmatched(self, self._gone(kept), moment.table)

    def _merge_plain(self, chosen: list[Any], whole: bool) -> tuple[int, int]:
        """Update and insert; how many rows each."""
        changed, new = [*self.differs(), *chosen], [*self._is_new(), *chosen]
        statements, verdict = [self._update(changed), self._insert(new)], self._verdict if whole else None
        if verdict is not None:
            statements = [self._update(verdict.of_changed()) if verdict.changed else None,
                          self._insert(verdict.of_new()) if verdict.new else None]  # fmt: skip
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
        new = [*self._is_new(), *chosen]
        updating, inserting = self._update([*self.differs(), *chosen], late + later), self._insert(new, empty + later)
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
                (more,) = self.load.attempt(self._insert([*new, *self._parents_there(by_level)], later))
                inserted += more
                if not more:
                    break
            if inserting is not None:
                rest = self._insert([*new, ~self._is_there(own)], empty + later) if doubled else inserting
                inserted += self.load.attempt(rest)[0]
            self.load.attempt(*filling)
        return updated, inserted

    def written(self) -> list[Any]:
        """The conditions under which a row is written at all."""
        merging = self.merging
        if not merging.key or merging.history is not None:
            return []
        kinds: list[Any] = [sa.false()]
        update = self._update(self.differs())
        if update is not None:
            changed = sa.select(sa.literal(1)).select_from(self.target).where(update.whereclause)
            kinds.append(sa.exists(changed.correlate(self.table)))
        if merging.insert:
            kinds.append(~self._has_key_of(self.target, self.table))
        return [sa.or_(*kinds)]

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
        due = self._newer(or_same=True)
        gone = [self._has_key_of(self.table, self.target, self.number < 0, *due)]
        written = Written(deleted=self._delete(gone)[0])
        left = sa.select(self.number).where(self.number < 0, self._has_key_of(self.target, self.table, *due))
        written.refused = [RefusedRow(-1 - int(number), _REFERRED) for (number,) in self.load.rows(left)]
        count = sa.select(sa.func.count()).select_from(self.table).where(self.number < 0)
        there = int(self.load.scalar(count.where(self._has_key_of(self.target, self.table)))) if due else 0
        written.unchanged = max(there - len(written.refused), 0)
        written.withdrawn = int(self.load.scalar(count)) - len(written.refused) - written.unchanged
        self.load.execute(self.table.delete().where(self.number < 0))
        return written

    def _newer(self, stage: Any = None, or_same: bool = False) -> list[Any]:
        """The condition that a staged row is newer than the table's, or of the same time, if that matters."""
        if self.merging.newer_by is None:
            return []
        coming = (self.table if stage is None else stage).c[self.merging.newer_by]
        there = self.target.c[self.merging.newer_by]
        return [sa.or_(there.is_(None), coming >= there if or_same else coming > there)]

    def delete_unmatched(self, kept: SqlStage | None) -> tuple[int, bool]:
        """Delete the table's rows whose keys neither this stage nor the other has, but for those to which others refer;
        how many, and whether these are all."""
        few_kept = kept is None or 10 * kept.rows < self.rows
        if few_kept and is_worth_it(self):
            self._judge(with_missing=True)
        return self._delete(self._gone(kept))

    def _judge(self, with_missing: bool) -> None:
        self._unjudge()
        self._verdict = Verdict(self, with_missing)

    def _unjudge(self) -> None:
        """Forget what is to be done about the rows: others have come."""
        if self._verdict is not None:
            self._verdict.drop()
            self._verdict = None

    def unmatched(self, kept: SqlStage | None) -> list[tuple[Any, ...]]:
        """The keys of the table's rows that are left of those."""
        keys = [self.target.c[name] for name in self.merging.key]
        return [tuple(row) for row in self.load.rows(sa.select(*keys).where(*self._gone(kept)))]

    def _gone(self, kept: SqlStage | None) -> list[Any]:
        if self._verdict is not None and self._verdict.knows_missing:
            missing = [self._verdict.has_missing(self.target)]
        else:
            missing = [~self._has_key_of(self.table, self.target)]
        missing += [~self._has_key_of(kept.table, self.target)] if kept is not None else []
        return [*missing, *self._spared]

    def spare_newer(self, bound: SqlStage) -> None:
        """Delete no row of the table that is newer than the one value of a stage."""
        by = self.merging.newer_by
        assert by is not None
        self._spared = [self.target.c[by] <= sa.select(bound.table.c[by]).scalar_subquery()]

    def conflicts(self, ours: SqlStage, theirs: SqlStage) -> list[Conflict]:
        """The rows that differ from the table's of their key, where the staged one is newer than the one value of a
        stage, and the table's newer than that of the other."""
        by, target, stage = self.merging.newer_by, self.target, self.table
        assert by is not None
        names = [name for name in self.merging.columns if name not in (*self.merging.key, by)]
        pairs = [(name, self.load.any_differs(self.merging.table, [name], target, stage)) for name in names]
        if not pairs:
            return []
        query = sa.select(
            self.number,
            sa.case((stage.c[by] > target.c[by], 1), else_=0),
            *(sa.case((changed, 1), else_=0) for _, changed in pairs),
            *(target.c[name] for name in names),
        ).where(
            *self.same_key(target, stage),
            stage.c[by] > sa.select(ours.table.c[by]).scalar_subquery(),
            target.c[by] > sa.select(theirs.table.c[by]).scalar_subquery(),
            self.number >= 0,
            sa.or_(*(changed for _, changed in pairs)),
        )
        found = []
        for number, newer, *rest in self.load.rows(query.order_by(self.number)):
            flags, values = rest[: len(names)], rest[len(names) :]
            theirs_now = {name: value for name, flag, value in zip(names, flags, values, strict=True) if flag}
            found.append(Conflict(int(number), bool(newer), theirs_now))
        return found

    def _delete(self, chosen: list[Any]) -> tuple[int, bool]:
        """Delete rows of the table; where not all can go, those to which none refers, and then those that are free.

        How many, and whether these are all.
        """
        if self.load.goes_on_after_errors:
            try:
                with self.load.all_or_nothing():
                    first = self.load.part(self.merging.table, *chosen)
                    (deleted,) = self.load.attempt(self.target.delete().where(*chosen))
                return first + deleted, True
            except RowsRefused:
                pass
        free = [~self._referred_by(*referrer) for referrer in self.load.referrers(self.merging.table)]
        deleted = 0
        while more := self.load.attempt(self.target.delete().where(*chosen, *free))[0]:
            deleted += more
        if self.load.goes_on_after_errors:
            return deleted, False
        left = sa.select(sa.literal(1)).select_from(self.target).where(*chosen).limit(1)
        return deleted, self.load.scalar(left) is None

    def _referred_by(self, schema: str | None, name: str, key: ForeignKey) -> Any:
        """The condition that a row of another table, or another row of this one, refers to a row."""
        names = dict.fromkeys([*key.columns, *key.referred] if name == self.target.name else key.columns)
        other = sa.table(name, *map(sa.column, names), schema=schema).alias("kanal_child")
        pairs = list(zip(key.columns, key.referred, strict=True))
        refers = [other.c[column] == self.target.c[referred] for column, referred in pairs]
        if name == self.target.name and schema == self.target.schema and not self.load.database.checks_each_row:
            refers.append(~sa.and_(*(other.c[referred] == self.target.c[referred] for _, referred in pairs)))
        return sa.exists(sa.select(sa.literal(1)).select_from(other).where(*refers).correlate(self.target))

    def drop(self) -> None:
        """Remove it."""
        self._unjudge()
        for stage in (self.table, *(self._others or ())):
            self.load.drop_stage(stage)

    def same_key(self, one: Any, other: Any) -> list[Any]:
        """The conditions that two rows have one key, by the collations of the target's columns."""
        if other is self.target:  # some databases compare by the collation of the left column
            one, other = other, one
        return [one.c[name] == other.c[name] for name in self.merging.key]

    def differs(self, stage: Any = None) -> list[Any]:
        """The conditions that the table's row differs from a staged one of its key, and is to give way to it."""
        stage = self.table if stage is None else stage
        return [
            self.load.any_differs(self.merging.table, self.merging.updated, self.target, stage),
            *self._newer(stage),
        ]

    def _has_key_of(self, stage: sa.Table, table: sa.Table, *more: Any) -> Any:
        """The condition that one table has a row with the key of another's row."""
        rows = sa.select(sa.literal(1)).select_from(stage).where(*self.same_key(table, stage), *more)
        return sa.exists(rows.correlate(table))

    def _is_new(self) -> list[Any]:
        """The conditions that the table has no row of a staged one's key."""
        return [~self._has_key_of(self.target, self.table)] if self.merging.key else []

    def _update(self, chosen: list[Any], late: tuple[str, ...] = ()) -> Any:
        """What updates rows by those chosen; late columns get their values afterwards."""
        merging, target, stage = self.merging, self.target, self.table
        if not merging.update or not merging.updated or not merging.key:
            return None
        values = {name: (target if name in late else stage).c[name] for name in merging.updated}
        return joined_update(self.load.database.dialect, target, stage, values, self.same_key(target, stage), chosen)

    def _insert(self, chosen: list[Any], empty: tuple[str, ...] = ()) -> Any:
        """What inserts the rows chosen, with nothing in some of their columns."""
        if not self.merging.insert:
            return None
        columns = list(self.merging.columns)
        values = [sa.null().label(name) if name in empty else self.table.c[name] for name in columns]
        rows = sa.select(*values).where(*chosen)
        return self.load.insert_select(self.target, columns, rows)
