"""A SQL database that is one file."""

from __future__ import annotations

from collections.abc import Hashable
from functools import cached_property
from pathlib import Path
from typing import ClassVar, Self

import sqlalchemy as sa

from kanal.connections.description import TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.identity import file_identity
from kanal.connections.sql.database import SqlDatabase


class FileDatabase(SqlDatabase):
    """A database in a file, which is made with the first table where a job writes to it."""

    #: What is called so in messages, as in "a SQLite database", and how names of such files end.
    kind: ClassVar[str]
    ending: ClassVar[str] = "db"
    #: Bytes by which a file is known to be one, and where they stand.
    mark: ClassVar[bytes]
    mark_at: ClassVar[int] = 0

    #: What tells its file from all others, once it is there.
    _number: Hashable = None
    _may_be_made = False
    _checked = False

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        if url.database and url.database != ":memory:":
            url = url.set(database=str(folder / url.database))
        return cls(name, url)

    @cached_property
    def path(self) -> Path:
        """The database's file; raises DatabaseError for one in memory, which two connections cannot share."""
        name = self.url.database
        if not name or name == ":memory:":
            raise DatabaseError(
                f"connection {self.name}: a database in memory is empty for each who connects",
                f"name a file, such as {self.kind.lower()}:///register.{self.ending}",
            )
        return Path(name)

    @property
    def identity(self) -> Hashable:
        scheme = self.kind.lower()
        if self._number is None:
            found = file_identity(self.path)
            if isinstance(found, str):  # not there yet
                return scheme, found
            self._number = found
        return scheme, self._number

    def place_of(self, table: TableInfo) -> Hashable:
        return self.identity, table.schema or "main", table.name.casefold()

    def may_be_made(self) -> None:
        self._may_be_made = True

    @property
    def missing_file(self) -> str | None:
        missing = self._may_be_made and not self.path.exists() and self.path.parent.is_dir()
        return self.url.database if missing else None

    def check_file(self) -> None:
        """Raise DatabaseError unless the file is there and is a database."""
        if self._checked and self.path.exists():
            return
        if not self.path.exists():
            near = []
            if self.path.parent.is_dir():
                near = sorted(path.name for path in self.path.parent.glob(f"*.{self.ending}"))
            where = f"its folder has: {', '.join(near[:8])}" if near else "correct the URL"
            remedy = f"{where}; the file of a target is made with its tables, by kanal create or kanal run --create"
            raise DatabaseError(f"connection {self.name}: there is no file {self.path}", remedy)
        if self.path.is_dir():
            raise DatabaseError(f"connection {self.name}: {self.path} is a folder", "name the database file in it")
        try:
            with self.path.open("rb") as file:
                head = file.read(32)
        except OSError as error:
            raise DatabaseError(
                f"connection {self.name}: {self.path} cannot be read: {error.strerror}",
                "ask for the right to read it",
            ) from None
        if head and not head[self.mark_at :].startswith(self.mark):
            raise DatabaseError(f"connection {self.name}: {self.path} is not a {self.kind} database", "correct the URL")
        self._checked = True
