"""What it takes to reach a SQLite file."""

from __future__ import annotations

import sqlite3
from functools import cached_property
from typing import Any, ClassVar

import sqlalchemy as sa

from kanal.connections.errors import DatabaseError
from kanal.connections.sql.opening import FileOpening


class SQLiteOpening(FileOpening):
    """A SQLite file that can be connected to."""

    extra = "kanal itself again, which brings SQLite's driver"
    pooling: ClassVar[dict[str, Any]] = {}
    drivers = frozenset({"pysqlite"})
    kind = "SQLite"
    # Locks of a file are the process's: whoever closes it, by whatever handle, gives up those of the Arrow driver,
    # which has a SQLite of its own (https://sqlite.org/howtocorrupt.html, 2.2). So the file is opened otherwise only
    # while no load is under way: its head is looked at once, and its tables are listed once.
    mark = b"SQLite format 3\x00"

    @cached_property
    def engine(self) -> sa.Engine:
        engine = super().engine

        @sa.event.listens_for(engine, "connect")
        def _settings(connection: Any, _: Any) -> None:
            # Who reads does not wait for who writes, and a commit waits for the disk only now and then.
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = NORMAL")

        return engine

    def passes(self, error: BaseException) -> bool:
        # The Arrow driver gives no number; but SQLite's sentences are the same everywhere (sqlite3_errstr).
        original = getattr(error, "orig", None) or error
        number = getattr(original, "sqlite_errorcode", None)
        if number is not None:
            return number & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_PROTOCOL)
        return any(said in str(original) for said in ("is locked", "locking protocol"))

    def failed(self, words: str, passing: bool = False) -> DatabaseError:
        """An error in SQLite's words."""
        message = " ".join(words.split())
        remedy = "the message is SQLite's own: correct the statement or the data"
        if "locked" in message or "busy" in message.lower():
            remedy = "another program writes to the file; try again when it has finished"
        elif "disk is full" in message:
            remedy = "make room on the disk"
        elif "readonly" in message:
            remedy = "ask for the right to write to the file and its folder"
        return DatabaseError(f"connection {self.name} ({self.path}): {message}", remedy, passing)

    @property
    def lock(self) -> Any:
        return self.identity
