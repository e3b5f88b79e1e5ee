"""The SELECT of a reading, for any SQLAlchemy dialect."""

from __future__ import annotations

import operator
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from kanal.connections.description import TableInfo
from kanal.connections.reading import Reading, Window
from kanal.connections.sql.access import SqlAccess
from kanal.core.types import (
    Family,
)


class Selects:
    """The SELECT statements of a database."""

    def __init__(self, database: SqlAccess) -> None:
        self.database = database

    def selection(self, reading: Reading) -> sa.Select[Any]:
        """The SELECT of a reading."""
        source: Any
        if reading.query is not None:
            body = sa.text(reading.query.rstrip().rstrip(";").replace(":", "\\:") + "\n").columns(
                *(sa.column(name) for name in reading.table.names)
            )
            source = body.subquery("q")
        else:
            source = sa.table(
                reading.table.name,
                *(sa.column(name) for name in reading.table.names),
                schema=reading.table.schema,
            )
        statement = sa.select(*(self.delivered(reading.table, source.c[name]) for name in reading.columns))
        for name, comparison, value in reading.conditions:
            statement = statement.where(_COMPARISONS[comparison](source.c[name], value))
        for window in reading.windows:
            statement = statement.where(self._within(source.c[window.column], window))
        order = [self._ordered(reading, source.c[name]) for name in reading.order_by]
        if reading.after:
            beyond = _beyond(order, reading.after)
            statement = statement.where(sa.not_(beyond) if reading.up_to else beyond)
        if order:
            statement = statement.order_by(*order)
        return statement if reading.limit is None else statement.limit(reading.limit)

    def _ordered(self, reading: Reading, column: sa.ColumnElement[Any]) -> Any:
        """A column as rows are put in its order."""
        info = reading.table.column(str(column.key))
        if not reading.seeks or info is None or info.type is None or info.type.family is not Family.TEXT:
            return column
        found = self.bytewise(column)
        return column if found is None else found

    def bytewise(self, column: Any) -> Any:
        """A column of texts in the order of their bytes in UTF-8, in which no two texts are equal; None if the
        database has no such order."""
        del column
        return None

    def _within(self, column: sa.ColumnElement[Any], window: Window) -> sa.ColumnElement[bool]:
        parts = [column >= self.comparable(window.low)] if window.low is not None else []
        parts += [column < self.comparable(window.high)] if window.high is not None else []
        inside = sa.and_(sa.true(), *parts)
        return sa.or_(inside, column.is_(None)) if window.with_null else inside

    def comparable(self, value: Any) -> Any:
        """A value as it is compared with a column's."""
        return value

    def ordinary(self, column: sa.ColumnElement[Any]) -> list[sa.ColumnElement[bool]]:
        """What leaves out dates and timestamps outside the years 1 to 9999, if there can be any."""
        del column
        return []

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """A column as it is selected, if the driver would not deliver it as it should be."""
        del table
        return column


def _beyond(columns: Sequence[Any], last: Sequence[int | str]) -> sa.ColumnElement[bool]:
    """The condition that columns, taken together, come after these values in their order."""
    ways = []
    for place, (column, value) in enumerate(zip(columns, last, strict=True)):
        same = [before == known for before, known in zip(columns[:place], last, strict=False)]
        ways.append(sa.and_(*same, column > value))
    return sa.or_(*ways)


_COMPARISONS: dict[str, Any] = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "IS NULL": lambda column, _: column.is_(None),
    "IS NOT NULL": lambda column, _: column.is_not(None),
}
