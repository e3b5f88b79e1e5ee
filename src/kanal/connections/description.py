"""Descriptions of tables, in Kanal's own types."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, ClassVar

import pyarrow as pa
from msgspec import Struct

from kanal.core.columns import SourceColumn
from kanal.core.records import PartlyCompared
from kanal.core.types import TEXT, SqlType


class ColumnInfo(PartlyCompared, Struct, frozen=True, eq=False):
    """A column: `type` is None if the database does not say; `declared` is the database's own text.

    `stored` is the type in which a reader delivers the values. `filled` is true if the database gives a value to
    a row that has none: by a default, an identity or a generated column. `generated` columns cannot be written.
    `default` is the text of a default, `values` those of an enumeration.
    `numbered` ones take their values from a sequence or the like, `always` those that must be overridden to be written.
    `loose` says that values may come that are none of `stored`. `decimals` are those of a second that are kept.
    `dialect_type` is SQLAlchemy's type of the column.
    """

    aside: ClassVar[frozenset[str]] = frozenset({"dialect_type"})

    name: str
    declared: str
    type: SqlType | None
    stored: SqlType
    nullable: bool = True
    filled: bool = False
    generated: bool = False
    numbered: bool = False
    always: bool = False
    loose: bool = False
    decimals: int = 6
    default: str | None = None
    values: tuple[str, ...] = ()
    comment: str | None = None
    dialect_type: Any = None


class About(Struct, frozen=True):
    """A server: its kind and version, the driver, and what it does with texts and times, if that is known."""

    server: str
    version: str
    driver: str
    character_set: str | None = None
    time_zone: str | None = None


class Right(Struct, frozen=True):
    """Something that the user may do or not, and what to ask for where not."""

    name: str
    granted: bool
    ask_for: str = ""


class RowCount(Struct, frozen=True):
    """How many rows a table has, counted or estimated, and when it was last changed (UTC), if that is known."""

    rows: int
    exact: bool
    changed: str | None = None


class ForeignKey(PartlyCompared, Struct, frozen=True, eq=False):
    """Columns whose values must are in columns of another table.

    A `deferrable` one may be checked at the commit instead of after each statement.
    """

    aside: ClassVar[frozenset[str]] = frozenset({"name", "deferrable"})

    columns: tuple[str, ...]
    schema: str | None
    table: str
    referred: tuple[str, ...]
    name: str | None = None
    deferrable: bool = False

    def refers_to(self, table: TableInfo) -> bool:
        """True if its values must are in this table."""
        return self.table.casefold() == table.name.casefold() and (self.schema or table.schema) == (
            table.schema or self.schema
        )


class Constraint(Struct, frozen=True):
    """A rule that a database holds rows of a table to: a foreign key, a key of which each value stands once, or else a
    condition, in the database's own SQL."""

    name: str | None
    columns: tuple[str, ...]
    foreign_key: ForeignKey | None = None
    condition: str | None = None

    @property
    def label(self) -> str:
        """Its name, or a description."""
        if self.name:
            return self.name
        if self.condition is not None:
            return self.condition
        return f"{'foreign key' if self.foreign_key is not None else 'unique'} ({', '.join(self.columns)})"

    @property
    def broken(self) -> str:
        """What is wrong with a row that breaks it, in a sentence without the row's values."""
        listed = ", ".join(self.columns)
        named = f" (constraint {self.name})" if self.name else ""
        if self.foreign_key is not None:
            return f"{self.foreign_key.table} has no row to which {listed} could refer{named}"
        if self.condition is not None:
            return f"the condition {self.condition} does not hold{named}"
        return f"another row has the same {listed}{named}"


class SpecialIndex(Struct, frozen=True):
    """An index as its database defines it: whether it is unique, and the SQL after the table's name."""

    unique: bool
    sql: str


class TableInfo(Struct, frozen=True):
    """A table or view. Names are as the database has them."""

    schema: str | None
    name: str
    columns: tuple[ColumnInfo, ...]
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    is_view: bool = False
    indexes: tuple[tuple[str, ...], ...] = ()
    #: The table whose rows this one holds a part of, if it is a partition.
    part_of: str | None = None
    comment: str | None = None
    #: Further indexes of a table to be created, in the SQL of its database.
    special_indexes: tuple[SpecialIndex, ...] = ()

    def given_back(self, name: str, values: pa.Array) -> pa.Array:
        """Values of a column as the table gives them back, if the job has it change them."""
        del name
        return values

    @property
    def own_references(self) -> tuple[ForeignKey, ...]:
        """The foreign keys by which its rows refer to others of its own."""
        return tuple(key for key in self.foreign_keys if key.refers_to(self))

    def column(self, name: str) -> ColumnInfo | None:
        """The column of a name, exactly or else regardless of case."""
        exact = [column for column in self.columns if column.name == name]
        same = exact or [column for column in self.columns if column.name.casefold() == name.casefold()]
        return same[0] if len(same) == 1 else None

    def chosen(self, names: Iterable[str]) -> list[ColumnInfo]:
        """The columns of these names, in their order."""
        return [column for name in names if (column := self.column(name)) is not None]

    @property
    def names(self) -> list[str]:
        """The names of the columns, in order."""
        return [column.name for column in self.columns]

    def source_columns(self) -> Mapping[str, SourceColumn]:
        """The columns as expressions see them: of the type in which they come, or that their text represents."""
        return {
            column.name: SourceColumn(
                (column.type or TEXT) if column.stored == TEXT else column.stored, column.stored, column.loose
            )
            for column in self.columns
        }
