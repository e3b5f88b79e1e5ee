"""What a database says of its tables, in Kanal's own types."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from kanal.core.columns import SourceColumn, TargetColumn
from kanal.core.types import TEXT, SqlType


@dataclass(frozen=True)
class ColumnInfo:
    """A column: `type` is None where the database does not say; `declared` is the database's own text.

    `stored` is the type in which a reader delivers the values. `filled` is true where the database gives a value to
    a row that has none: by a default, an identity or a generated column. `generated` columns cannot be written.
    `loose` says that values may come that are none of `stored`. `dialect_type` is SQLAlchemy's type of the column.
    """

    name: str
    declared: str
    type: SqlType | None
    stored: SqlType
    nullable: bool = True
    filled: bool = False
    generated: bool = False
    loose: bool = False
    dialect_type: Any = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class About:
    """A server: its kind and version, the driver, and what it does with texts and times, where that is known."""

    server: str
    version: str
    driver: str
    character_set: str | None = None
    time_zone: str | None = None


@dataclass(frozen=True)
class Right:
    """Something that the user may do or not, and what to ask for where not."""

    name: str
    granted: bool
    ask_for: str = ""


@dataclass(frozen=True)
class RowCount:
    """How many rows a table has, counted or estimated, and when it was last changed (UTC), where that is known."""

    rows: int
    exact: bool
    changed: str | None = None


@dataclass(frozen=True)
class ForeignKey:
    """Columns whose values must stand in columns of another table."""

    columns: tuple[str, ...]
    schema: str | None
    table: str
    referred: tuple[str, ...]


@dataclass(frozen=True)
class TableInfo:
    """A table or view. Names are as the database has them."""

    schema: str | None
    name: str
    columns: tuple[ColumnInfo, ...]
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    is_view: bool = False
    indexes: tuple[tuple[str, ...], ...] = ()
    #: The table whose rows this one holds a part of, where it is a partition.
    part_of: str | None = None

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
        """The columns as expressions see them: of the type in which they come, or that their text stands for."""
        return {
            column.name: SourceColumn(
                (column.type or TEXT) if column.stored == TEXT else column.stored, column.stored, column.loose
            )
            for column in self.columns
        }

    def target_column(self, column: ColumnInfo) -> TargetColumn:
        """A column as rows are converted for it."""
        return TargetColumn(column.name, column.type, column.nullable)
