"""Keeps every version of a row: staged changes become versions, each step for all rows at once.

A version is valid from a moment on, until the next one begins or its row is gone (half-open intervals). The rows of a
stage are changes: what a row was from a moment on.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from kanal.connections.loading import Written
from kanal.connections.sql.joined_update import joined_update
from kanal.connections.sql.staged import StagedTable


class Versions:
    """The changes of a stage, those with some numbers, and the versions of the target."""

    def __init__(self, stage: StagedTable, changes: sa.Table, ends: sa.Table, part: range | None) -> None:
        history = stage.merging.history
        assert history is not None
        self._load = stage.load
        self._target = stage.target
        self._table = stage.merging.table
        self._coming = stage.table
        #: The changes that say something new, of which most steps are about.
        self._stage = changes
        self._number = list(changes.c)[-1]
        #: Where each change finds until when the version is valid that it divides.
        self._ends = ends
        self._part = part
        self._of_one_moment = stage.of_one_moment
        #: A stage with the load's one moment, if rows that are gone are closed at it.
        self._moment = None if stage.moment is None else stage.moment.table
        self._key = stage.merging.key
        self._from, self._until, self._current = history.from_, history.until, history.current
        self._columns = list(stage.merging.columns)
        kept_apart = {*self._key, self._from}
        self._overwritten = [name for name in self._columns if name in history.overwrite]
        self._tracked = [name for name in self._columns if name not in {*kept_apart, *self._overwritten}]

    def merge(self, rows: int) -> Written:
        """Make versions of the changes that come, which are so many."""
        load = self._load
        load.attempt(self._stage.delete())
        if not load.attempt(self._what_is_new())[0]:
            return Written(unchanged=rows)
        self._reopen()
        load.settle_stage(self._stage)
        touched = self._count_overwritten() if self._overwritten else 0
        corrected = 0
        at_the_end = self._all_at_the_end()
        if not at_the_end:
            load.attempt(*self._kept_ends())
            corrected = load.attempt(self._correct())[0] if self._tracked else 0
        if self._overwritten:
            load.attempt(self._overwrite(), self._take_over_latest(), self._take_over_newer())
        if not at_the_end:
            load.attempt(self._drop_corrected())
        if not at_the_end or self._overwritten:
            load.attempt(self._drop_same_as_before())
        left = int(load.scalar(sa.select(sa.func.count()).select_from(self._stage)))
        (closed,) = load.attempt(self._end_current() if at_the_end else self._close())
        (inserted,) = load.attempt(self._insert_current() if at_the_end else self._insert())
        assert inserted == left, "each change that is left becomes a version"
        updated = min(corrected + touched, rows - inserted)
        return Written(inserted=inserted, updated=updated, unchanged=rows - inserted - updated, closed=closed)

    # --- parts of statements ---------------------------------------------------------------------------------------

    def _same(self, one: Any, other: Any, *more: str) -> list[Any]:
        return [one.c[name] == other.c[name] for name in (*self._key, *more)]

    def _update(self, one: Any, other: Any, values: dict[str, Any], same: Sequence[str], *conditions: Any) -> Any:
        """What gives rows of one table values of another's rows of the same key."""
        dialect = self._load.database.dialect
        return joined_update(dialect, one, other, values, self._same(one, other, *same), conditions)

    def _differs(self, names: Sequence[str], one: Any, other: Any) -> Any:
        return self._load.any_differs(self._table, names, one, other)

    def _divides(self, version: Any) -> list[Any]:
        """The conditions that a change falls into a version's time, after its beginning."""
        begins, ends, at = version.c[self._from], version.c[self._until], self._stage.c[self._from]
        return [*self._same(version, self._stage), begins < at, sa.or_(ends.is_(None), ends > at)]

    def _of_changed(self, version: Any) -> Any:
        """The condition that a version is one of a key that changes."""
        changes = self._stage.alias("kanal_changes")
        return _exists(changes, [*self._same(changes, version)], version)

    def _values(self, until: Any) -> dict[str, Any]:
        """What a version has that ends at a moment, or goes on."""
        values = {self._until: until}
        if self._current is not None:
            flag = sa.case((until.is_(None), sa.true()), else_=sa.false())
            values[self._current] = _flag(self._target.c[str(self._current)], flag)
        return values

    # --- statements ------------------------------------------------------------------------------------------------

    def _all_at_the_end(self) -> bool:
        """True if each key has one change, which comes after all of its versions."""
        if not self._of_one_moment:
            return False
        version, at = self._target.alias("kanal_version"), self._stage.c[self._from]
        moment = sa.select(at).limit(1).scalar_subquery()
        any_later = sa.or_(version.c[self._from] >= moment, version.c[self._until] > moment)
        one = sa.select(sa.literal(1)).limit(1)
        if self._load.scalar(one.select_from(version).where(any_later)) is None:  # of any key, which is quickly seen
            return True
        later = sa.or_(version.c[self._from] >= at, version.c[self._until] > at)
        found = self._stage.join(version, sa.and_(*self._same(version, self._stage), later))
        return self._load.scalar(one.select_from(found)) is None

    def _reopen(self) -> None:
        """Have a change begin at the load's moment if the key's rows were gone after it: they are back since then."""
        moment = self._moment
        if moment is None:
            return
        version, later = self._target.alias("kanal_version"), self._stage.alias("kanal_later")
        at = self._stage.c[self._from]
        is_open = [*self._same(version, self._stage), version.c[self._until].is_(None)]
        gone = [*self._same(version, self._stage), version.c[self._until] > at]
        after = [*self._same(later, self._stage), later.c[self._from] > at]
        chosen = (
            _exists(version, gone, self._stage),
            ~_exists(version, is_open, self._stage),
            ~_exists(later, after, self._stage),
        )
        now = sa.select(moment.c[self._from]).scalar_subquery()
        if self._load.attempt(self._stage.update().values({self._from: now}).where(*chosen))[0]:
            self._of_one_moment = False

    def _end_current(self) -> Any:
        """End the current versions of the keys that change."""
        values: dict[str, Any] = {self._until: self._stage.c[self._from]}
        if self._current is not None:
            values[self._current] = _flag(self._target.c[str(self._current)], sa.false())
        return self._update(self._target, self._stage, values, [], self._target.c[self._until].is_(None))

    def _insert_current(self) -> Any:
        """Insert the changes as the current versions."""
        values: dict[str, Any] = {self._until: sa.null()}
        if self._current is not None:
            values[self._current] = _flag(self._target.c[str(self._current)], sa.true())
        rows = sa.select(*(self._stage.c[name] for name in self._columns), *(v.label(n) for n, v in values.items()))
        return self._load.insert_select(self._target, [*self._columns, *values], rows)

    def _kept_ends(self) -> list[Any]:
        """Put by until when the versions are valid that changes divide, before these are closed."""
        version = self._target.alias("kanal_version")
        names = [*self._key, self._until, list(self._ends.c)[-1].name]
        ends = sa.select(
            *(self._stage.c[name] for name in self._key), version.c[self._until], self._number
        ).select_from(self._stage.join(version, sa.and_(*self._divides(version))))
        ends = ends.where(version.c[self._until].is_not(None))
        return [self._ends.delete(), self._ends.insert().from_select(names, ends)]

    def _correct(self) -> Any:
        """Give a version the values of a change that begins with it."""
        values = {name: self._stage.c[name] for name in self._tracked}
        differs = self._differs(self._tracked, self._target, self._stage)
        return self._update(self._target, self._stage, values, [self._from], differs)

    def _latest(self) -> Any:
        """The condition that a change is the last of its key."""
        later = self._stage.alias("kanal_later")
        after = [*self._same(later, self._stage), later.c[self._from] > self._stage.c[self._from]]
        return ~_exists(later, [*after], self._stage)

    def _not_outdated(self) -> Any:
        version = self._target.alias("kanal_newer")
        newer = [*self._same(version, self._stage), version.c[self._from] > self._stage.c[self._from]]
        return ~_exists(version, newer, self._stage)

    def _overwrite(self) -> Any:
        """Give all versions of a key the columns of its last change that are not kept as they were."""
        values = {name: self._stage.c[name] for name in self._overwritten}
        differs = self._differs(self._overwritten, self._target, self._stage)
        conditions = differs, self._latest(), self._not_outdated()
        return self._update(self._target, self._stage, values, [], *conditions)

    def _take_over_latest(self) -> Any:
        """Give all changes of a key the overwritten columns of its last."""
        last, later = self._stage.alias("kanal_last"), self._stage.alias("kanal_later")
        after = [*self._same(later, last), later.c[self._from] > last.c[self._from]]
        return self._take_over(last, ~_exists(later, after, last))

    def _take_over_newer(self) -> Any:
        """Give all changes of a key the overwritten columns of its last version, if that is newer."""
        version, newer = self._target.alias("kanal_version"), self._target.alias("kanal_newer")
        later = self._stage.alias("kanal_later")
        begins = version.c[self._from]
        after = [*self._same(newer, version), newer.c[self._from] > begins]
        changed = [*self._same(later, version), later.c[self._from] >= begins]
        return self._take_over(version, ~_exists(newer, after, version), ~_exists(later, changed, version))

    def _take_over(self, other: Any, *conditions: Any) -> Any:
        values = {name: other.c[name] for name in self._overwritten}
        differs = self._differs(self._overwritten, self._stage, other)
        return self._update(self._stage, other, values, [], differs, *conditions)

    def _count_overwritten(self) -> int:
        """How many changes differ from the current version in nothing but columns that are overwritten."""
        version = self._target.alias("kanal_version")
        unchanged = [~self._differs(self._tracked, version, self._stage)] if self._tracked else []
        differs = self._differs(self._overwritten, version, self._stage)
        found = [*self._same(version, self._stage), version.c[self._until].is_(None), differs, *unchanged]
        query = (
            sa.select(sa.func.count())
            .select_from(self._stage)
            .where(_exists(version, found, self._stage), self._latest(), self._not_outdated())
        )
        return int(self._load.scalar(query))

    def _drop_corrected(self) -> Any:
        version = self._target.alias("kanal_version")
        there = _exists(version, self._same(version, self._stage, self._from), self._stage)
        return self._stage.delete().where(there)

    def _what_is_new(self) -> Any:
        """Set the coming rows aside, except the only change of a key if it equals the current version."""
        coming, version = self._coming, self._target.alias("kanal_version")
        number = list(coming.c)[-1]
        chosen = [] if self._part is None else [number >= self._part.start, number < self._part.stop]
        same = [
            *self._same(version, coming),
            version.c[self._until].is_(None),
            version.c[self._from] <= coming.c[self._from],
            ~self._differs([*self._tracked, *self._overwritten], version, coming),
        ]
        known = _exists(version, same, coming)
        if not self._of_one_moment:  # else each key has one change
            others = coming.alias("kanal_others")
            more = [*self._same(others, coming), list(others.c)[-1] != number]
            known = sa.and_(known, ~_exists(others, more, coming))
        rows = sa.select(*coming.c).where(~known, *chosen)
        return self._stage.insert().from_select([column.name for column in self._stage.c], rows)

    def _events(self) -> Any:
        """What happened to the keys that change, in order: versions that begin, and changes."""
        version = self._target.alias("kanal_version")
        names = [*self._key, self._from, *self._tracked]
        old = sa.select(
            *(version.c[name] for name in names), version.c[self._until].label("kanal_until"),
            sa.literal_column("-1").label("kanal_number"),
        ).where(self._of_changed(version))  # fmt: skip
        new = sa.select(
            *(self._stage.c[name] for name in names), sa.null(),
            self._number,
        )  # fmt: skip
        return sa.union_all(old, new).subquery("kanal_events")

    def _drop_same_as_before(self) -> Any:
        """Take out changes that say what the version or change before them says."""
        events = self._events()
        order = {"partition_by": [events.c[name] for name in self._key], "order_by": events.c[self._from]}
        before = [sa.func.lag(events.c[name]).over(**order).label(f"kanal_before_{place}")
                  for place, name in enumerate(self._tracked)]  # fmt: skip
        numbered = sa.select(
            events.c.kanal_number, events.c[self._from], *(events.c[name] for name in self._tracked), *before,
            sa.func.lag(events.c.kanal_number).over(**order).label("kanal_there"),
            sa.func.lag(events.c.kanal_until).over(**order).label("kanal_ended"),
        ).subquery("kanal_steps")  # fmt: skip
        same = [~self._load.database.differs(column, numbered.c[column.name], numbered.c[f"kanal_before_{place}"])
                for place, column in enumerate(self._table.chosen(self._tracked))]  # fmt: skip
        goes_on = sa.or_(numbered.c.kanal_ended.is_(None), numbered.c.kanal_ended > numbered.c[self._from])
        rows = sa.select(numbered.c.kanal_number).where(
            numbered.c.kanal_number >= 0, numbered.c.kanal_there.is_not(None), goes_on, *same
        )
        inner = rows.subquery("kanal_same")
        return self._stage.delete().where(self._number.in_(sa.select(inner.c.kanal_number)))

    def _close(self) -> Any:
        """End the versions that changes divide, if the first of these begins."""
        version = self._target.alias("kanal_version")
        first = sa.func.min(self._stage.c[self._from]).label("kanal_first")
        begins = version.c[self._from].label("kanal_begin")
        cuts = (
            sa.select(*(version.c[name] for name in self._key), begins, first)
            .select_from(self._stage.join(version, sa.and_(*self._divides(version))))
            .group_by(*(version.c[name] for name in self._key), version.c[self._from])
            .subquery("kanal_cuts")
        )
        values = {self._until: cuts.c.kanal_first}
        if self._current is not None:
            values[self._current] = _flag(self._target.c[str(self._current)], sa.false())
        divided = self._target.c[self._from] == cuts.c.kanal_begin
        return self._update(self._target, cuts, values, [], divided)

    def _insert(self) -> Any:
        """Insert the changes as versions, each until the next begins, or until that ends which it divides."""
        events = self._events()
        order = {"partition_by": [events.c[name] for name in self._key], "order_by": events.c[self._from]}
        following = sa.select(
            events.c.kanal_number, sa.func.lead(events.c[self._from]).over(**order).label("kanal_next")
        ).subquery("kanal_following")
        ends = self._ends
        end, following_start = ends.c[self._until], following.c.kanal_next
        until = sa.case(
            (sa.and_(end.is_not(None), sa.or_(following_start.is_(None), end <= following_start)), end),
            else_=following_start,
        )
        values = self._values(until)
        names = [*self._columns, *values]
        rows = sa.select(
            *(self._stage.c[name] for name in self._columns), *(v.label(name) for name, v in values.items())
        ).select_from(
            self._stage.join(following, following.c.kanal_number == self._number).outerjoin(
                ends, list(ends.c)[-1] == self._number
            )
        )
        return self._load.insert_select(self._target, names, rows)


def _exists(table: Any, conditions: list[Any], *outer: Any) -> Any:
    return sa.exists(sa.select(sa.literal(1)).select_from(table).where(*conditions).correlate(*outer))


def _flag(column: Any, condition: Any) -> Any:
    """A truth as the column of the current version holds it."""
    if isinstance(column.type, sa.Integer | sa.Numeric) and not isinstance(column.type, sa.Boolean):
        return sa.case((condition, sa.literal_column("1")), else_=sa.literal_column("0"))
    return condition


def close_unmatched(stage: StagedTable, unmatched: list[Any], moment: sa.Table) -> int:
    """End the current versions of keys that are gone, at the one moment of a stage; how many."""
    history = stage.merging.history
    assert history is not None
    target = stage.target
    now = sa.select(moment.c[history.from_]).scalar_subquery()
    values: dict[str, Any] = {history.until: now}
    if history.current is not None:
        column = target.c[history.current]
        whole = isinstance(column.type, sa.Integer | sa.Numeric) and not isinstance(column.type, sa.Boolean)
        values[history.current] = sa.literal_column("0") if whole else sa.false()
    statement = target.update().values(values)
    statement = statement.where(target.c[history.until].is_(None), target.c[history.from_] < now, *unmatched)
    return stage.load.attempt(statement)[0]
