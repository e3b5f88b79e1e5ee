"""What a kind of server is to the general ways of reading and writing; any other file of this folder states how one
kind differs."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, ClassVar

import pyarrow as pa
import sqlalchemy as sa
from msgspec import Struct
from sqlalchemy.engine.default import DefaultDialect

from kanal.connections.description import ColumnInfo
from kanal.connections.misfits import not_finite, too_fine
from kanal.core.faults import Fault
from kanal.core.types import Family, SqlType

#: The rows that a question finds.
Ask = Callable[..., Sequence[Any]]


class Detail(Struct, frozen=True):
    """A column as the server itself describes it."""

    declared: str
    default: str | None = None
    generated: bool = False
    numbered: bool = False
    always: bool = False


class Server:
    """A server of which nothing is known but what its driver and ISO SQL say."""

    #: SQLAlchemy's dialect for its statements, and the name of sqlglot's.
    dialect: ClassVar[type[Any]] = DefaultDialect
    sql_name: ClassVar[str | None] = None
    #: SQLAlchemy's driver for it, if its URL names none, and what brings that.
    driver: ClassVar[str | None] = None
    extra: ClassVar[str] = "the driver's package"
    #: What a session is told at its beginning.
    session: ClassVar[tuple[str, ...]] = ()
    #: Settings of its ODBC driver, unless others are given.
    settings: ClassVar[dict[str, str]] = {}
    #: True if a reference is checked as each row comes, and not at the end of the statement as ISO SQL has it.
    checks_each_row: ClassVar[bool] = False
    #: True if the narrow texts of its ODBC driver are UTF-8, whatever the locale.
    speaks_utf8: ClassVar[bool] = False
    #: True if its driver keeps to the room that a text was given, as the server measures it.
    keeps_room: ClassVar[bool] = True
    #: What comes as it is; all else comes as text.
    as_they_are: ClassVar[tuple[Family, ...]] = (Family.INTEGER, Family.DOUBLE, Family.TEXT, Family.BINARY)
    #: Rows of one INSERT.
    rows_at_once: ClassVar[int] = 1
    #: True if it is known that what failed is undone to a savepoint, and nothing else.
    has_savepoints: ClassVar[bool] = False
    #: Decimals of a second that a column of moments keeps if nothing else was declared.
    decimals: ClassVar[int] = 6
    #: What is written behind a moment in UTC, for columns that have time zones.
    zone: ClassVar[str] = "+00:00"
    #: Where it listens.
    port: ClassVar[int | None] = None

    # --- what there is ---------------------------------------------------------------------------------------------

    def details(self, ask: Ask, schema: str | None, table: str) -> dict[str, Detail]:
        """What there is to know of a table's columns that the driver does not tell, or not whole."""
        del ask, schema, table
        return {}

    def type_of(self, declared: str) -> SqlType | None:
        """Kanal's type for a declared one, if it means something else here than elsewhere."""
        del declared
        return None

    def decimals_of(self, declared: str) -> int:
        """The decimals of a second that a column keeps, by its declared type."""
        found = re.search(r"time\w*\s*\((\d)\)", declared)
        return min(int(found[1]), 6) if found else self.decimals

    # --- reading ---------------------------------------------------------------------------------------------------

    def delivered(self, column: sa.ColumnElement[Any], info: ColumnInfo) -> sa.ColumnElement[Any]:
        """A column as it is selected, so that the driver cannot change its values."""
        del info
        return column

    def octets(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """How many bytes a text has."""
        return sa.func.octet_length(column)

    # --- writing ---------------------------------------------------------------------------------------------------

    def misfits(self, values: pa.Array, info: ColumnInfo) -> list[Fault]:
        """Faults for values that a column could not hold as they are, and that the server might bend."""
        if pa.types.is_timestamp(values.type) or pa.types.is_time(values.type):
            return too_fine(values, info.decimals, "widen it, or use date_trunc") if info.decimals < 6 else []
        if pa.types.is_floating(values.type):
            return self._not_finite(values)
        return []

    def _not_finite(self, values: pa.Array) -> list[Fault]:
        return not_finite(values, "a driver has no way to send infinity or NaN: map it with CASE")

    def bound(self, values: pa.Array, info: ColumnInfo | None) -> list[Any]:
        """The values of a column as its driver takes them: numbers as they are, what it might bend as text."""
        del info
        kind = values.type
        if pa.types.is_boolean(kind):
            return [None if value is None else int(value) for value in values.to_pylist()]
        if pa.types.is_temporal(kind):
            texts = self.moments(values).to_pylist()
            zoned = pa.types.is_timestamp(kind) and kind.tz is not None and self.zone
            return [None if text is None else text + self.zone for text in texts] if zoned else list(texts)
        if pa.types.is_decimal(kind):
            return list(values.cast(pa.string()).to_pylist())
        return list(values.to_pylist())

    def moments(self, values: pa.Array) -> pa.Array:
        """Dates and times as texts."""
        if pa.types.is_timestamp(values.type) and values.type.tz is not None:
            values = values.cast(pa.timestamp("us"))
        return values.cast(pa.string())

    def around_insert(self, place: str, numbered: bool) -> tuple[list[str], list[str]]:
        """What comes before and after an INSERT into a table, which may give values to a column that numbers rows."""
        del place, numbered
        return [], []

    # --- comparing -------------------------------------------------------------------------------------------------

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        """Forms of a column's value that are equal only if the value is displayed alike (`SqlDatabase.exact`)."""
        is_text = column.type is not None and column.type.family is Family.TEXT
        return [value, self.octets(value)] if is_text else [value]  # blanks at the end may not count

    # --- making tables ---------------------------------------------------------------------------------------------

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        """The type that holds every value of one of Kanal's; None for that of ISO SQL."""
        del in_key
        made = {Family.UUID: sa.VARCHAR(36), Family.INTERVAL: sa.Text(), Family.JSON: sa.Text(),
                Family.TIMESTAMPTZ: sa.VARCHAR(40)}  # fmt: skip
        return made.get(sql_type.family)

    def stage(self, name: str, rows: str, key: Sequence[str] = ()) -> tuple[str, str]:
        """The name of a temporary table, and the statement that creates it with the columns of a query.

        A server whose CREATE INDEX would commit declares an index of the key with the table.
        """
        del key
        return name, f"CREATE TEMPORARY TABLE {name} AS {rows}"

    def index_stage(self, name: str, key: Sequence[str]) -> str | None:
        """The statement that indexes a temporary table by its key, which must not commit; None if none can."""
        return f"CREATE INDEX {name.rpartition('.')[2]}_key ON {name} ({', '.join(key)})"

    def drop_stage(self, name: str) -> str | None:
        """What removes it; None if it goes by itself."""
        return f"DROP TABLE {name}"

    #: True if columns number rows as ISO SQL has it.
    has_identity: ClassVar[bool] = False

    def altered(self, statement: str) -> str:
        """What gives a column another type, from how ISO SQL has it."""
        return statement.replace(" TYPE ", " SET DATA TYPE ", 1)

    def added(self, statement: str) -> str:
        """What adds a column, from how ISO SQL has it."""
        return statement
