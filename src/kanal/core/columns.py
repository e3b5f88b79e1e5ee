"""What the core has to know of the columns that rows come from and go to."""

from __future__ import annotations

from msgspec import Struct

from kanal.core.types import SqlType


class SourceColumn(Struct, frozen=True):
    """A column that a reader delivers: its SQL type, and the type in which values are stored if they differ.

    `loose` says that a row may hold a value of any type, which then comes as a stray text.
    """

    type: SqlType
    stored: SqlType
    loose: bool = False


class TargetColumn(Struct, frozen=True):
    """A column as its table declares it; `type` is None if the table says nothing of it."""

    name: str
    type: SqlType | None
    nullable: bool = True
