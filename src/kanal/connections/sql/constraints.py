"""Finds in sets, by the database's own constraints, which staged rows a table would refuse."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import sqlalchemy as sa
from msgspec.structs import replace

from kanal.connections.description import Constraint, ForeignKey
from kanal.connections.loading import RefusedRow
from kanal.connections.sql.staged import StagedTable


class Sieve:
    """Takes the rows out of a stage that break a constraint of the table that they are for.

    Only what is certain is taken out: if a trigger may change rows first, or a constraint has to do with values that
    the stage does not have, nothing is.
    """

    def __init__(self, stage: StagedTable) -> None:
        self._stage = stage
        self._load = stage.load
        self._merging = stage.merging
        table = self._merging.table
        known = [] if self._load.has_triggers(table) else self._load.constraints(table)
        # What refers to rows that come later is looked at when they are there.
        known = [one for one in known if one.foreign_key not in self._merging.open_references]
        # A change may be a version that is there.
        history = self._merging.history is not None
        self._constraints = [one for one in known if not history or one.foreign_key or one.condition]
        self._chosen: list[Any] = []

    def __call__(self, first: int) -> list[RefusedRow]:
        """The rows that were taken out, of those from a number on."""
        self._chosen = [self._stage.number >= first]
        own: list[Constraint] = []
        refused: list[RefusedRow] = []
        for constraint in self._constraints:
            if constraint.condition is not None:
                refused += self._take_out(*self._not_met(constraint))
            elif not self._has(constraint.columns):
                continue
            elif constraint.foreign_key is None:
                refused += self._take_out(constraint, self._taken(constraint.columns))
            elif constraint.foreign_key.refers_to(self._merging.table):
                own.append(constraint)
            else:
                refused += self._take_out(constraint, self._without_parent(constraint.foreign_key))
        refused += self._without_own_parents(own)
        doubled: list[RefusedRow] = []
        for constraint in self._constraints:
            if self._is_key(constraint):
                doubled += self._take_out(constraint, self._doubled(constraint.columns))
        return refused + doubled + (self._without_own_parents(own) if doubled else [])

    def _has(self, columns: tuple[str, ...]) -> bool:
        return bool(columns) and set(columns) <= set(self._merging.columns)

    def _is_key(self, constraint: Constraint) -> bool:
        return constraint.foreign_key is None and constraint.condition is None and self._has(constraint.columns)

    def _take_out(self, constraint: Constraint, query: Any) -> list[RefusedRow]:
        """Take out the rows whose numbers a query finds."""
        numbers = [] if query is None else [int(number) for (number,) in self._load.rows(query)]
        self._stage.take_out(numbers)
        key = constraint.foreign_key
        return [RefusedRow(number, constraint.broken, constraint.label, constraint.columns, key) for number in numbers]

    def _without_own_parents(self, constraints: list[Constraint]) -> list[RefusedRow]:
        """Rows that refer to rows of the same table that are not there and do not come, or that are such rows'."""
        refused: list[RefusedRow] = []
        while True:
            found: list[RefusedRow] = []
            for constraint in constraints:
                assert constraint.foreign_key is not None
                found += self._take_out(constraint, self._without_parent(constraint.foreign_key))
            refused += found
            if not found:
                return refused

    # --- what breaks a constraint ----------------------------------------------------------------------------------

    def _numbers(self, *conditions: Any) -> Any:
        return sa.select(self._stage.number).where(*self._chosen, *conditions)

    def _given(self, columns: tuple[str, ...]) -> list[Any]:
        """No reference and no key has a part that is NULL (ISO SQL, MATCH SIMPLE and UNIQUE NULLS DISTINCT)."""
        return [self._stage.table.c[name].is_not(None) for name in columns]

    def _without_parent(self, key: ForeignKey) -> Any:
        """Rows to be written that refer to a row that is not there."""
        stage, own = self._stage.table, key.refers_to(self._merging.table)
        parents: list[Any] = [
            sa.table(key.table, *map(sa.column, key.referred), schema=key.schema).alias("kanal_parent")
        ]
        if own and self._merging.insert and self._has(key.referred):
            parents.append(stage.alias("kanal_other"))
        missing = [~exists(parent, zip(key.referred, key.columns, strict=True), stage) for parent in parents]
        return self._numbers(*self._given(key.columns), *missing, *self._stage.written())

    def _taken(self, columns: tuple[str, ...]) -> Any:
        """Rows whose value another row of the table has, which keeps it."""
        stage, merging = self._stage.table, self._merging
        if columns == merging.key:
            return None
        target = self._stage.target.alias("kanal_there")
        same = [target.c[name] == stage.c[name] for name in columns]
        if merging.key:
            same.append(~sa.and_(*(target.c[name] == stage.c[name] for name in merging.key)))
            other = stage.alias("kanal_other")
            changes = [other.c[name] == target.c[name] for name in merging.key]
            changes.append(self._load.any_differs(merging.table, columns, other, target))
            same.append(~sa.exists(sa.select(sa.literal(1)).select_from(other).where(*changes).correlate(target)))
        there = sa.exists(sa.select(sa.literal(1)).select_from(target).where(*same).correlate(stage))
        return self._numbers(*self._given(columns), there, *self._stage.written())

    def _doubled(self, columns: tuple[str, ...]) -> Any:
        """Rows whose value a row before them has."""
        stage = self._stage.table
        place = sa.func.row_number().over(partition_by=[stage.c[name] for name in columns], order_by=self._stage.number)
        numbered = sa.select(self._stage.number.label("number"), place.label("place"))
        found = numbered.where(*self._chosen, *self._given(columns), *self._stage.written()).subquery("kanal_numbered")
        return sa.select(found.c.number).where(found.c.place > 1)

    def _not_met(self, constraint: Constraint) -> tuple[Constraint, Any]:
        """Rows for which a condition is false, and the same with its columns, which are given or stay NULL."""
        import sqlglot
        from sqlglot import exp
        from sqlglot.errors import SqlglotError

        database, condition = self._load.database, constraint.condition or ""
        known: dict[str, Any] = {name: self._stage.table.c[name] for name in self._merging.columns}
        for column in self._merging.table.columns:
            if column.name not in known and column.nullable and not column.filled:
                known[column.name] = sa.null()
        try:
            parsed = sqlglot.parse_one(condition, read=database.sql_name)
        except (SqlglotError, RecursionError):
            return constraint, None
        named = {column.name.casefold() for column in parsed.find_all(exp.Column)}
        if not named or not named <= {name.casefold() for name in known} or parsed.find(exp.Query) is not None:
            return constraint, None
        values = [value.label(name) for name, value in known.items() if name.casefold() in named]
        rows = sa.select(self._stage.number.label("kanal_number"), *values).where(*self._chosen, *self._stage.written())
        found = rows.subquery("kanal_rows")
        query = sa.select(found.c.kanal_number).where(sa.literal_column(f"NOT ({condition})"))
        given = tuple(name for name in self._merging.columns if name.casefold() in named)
        return replace(constraint, columns=given), query if self._load.can_run(query) else None


def exists(table: Any, pairs: Iterable[tuple[str, str]], other: Any) -> Any:
    """The condition that a table has a row whose columns have the values of another's."""
    same = [table.c[name] == other.c[there] for name, there in pairs]
    return sa.exists(sa.select(sa.literal(1)).select_from(table).where(*same).correlate(other))
