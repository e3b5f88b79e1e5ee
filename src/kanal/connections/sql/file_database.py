"""A SQL database that is one file."""

from __future__ import annotations

from collections.abc import Hashable

from kanal.connections.description import TableInfo
from kanal.connections.sql.database import SqlDatabase
from kanal.connections.sql.opening import FileOpening


class FileDatabase(FileOpening, SqlDatabase):
    """A database in a file, with its rows."""

    def place_of(self, table: TableInfo) -> Hashable:
        return self.identity, table.schema or "main", table.name.casefold()
