"""Tries connections: what is at the other end, what the user may do there, or why it cannot be reached."""

from __future__ import annotations

import time
from dataclasses import dataclass

from kanal.connections.base import Connection
from kanal.connections.description import About, Right
from kanal.core.errors import KanalError


@dataclass(frozen=True)
class Answer:
    """How a connection answered: `milliseconds` is one small question and its answer; `error` why it did not."""

    connection: str
    url: str
    about: About | None = None
    milliseconds: float | None = None
    rights: tuple[Right, ...] = ()
    error: str | None = None
    remedy: str | None = None

    @property
    def works(self) -> bool:
        """True where it can be used."""
        return self.error is None


def ping(database: Connection) -> Answer:
    """Try a connection; never raises."""
    try:
        about = database.catalogue.about()
        started = time.perf_counter()
        database.catalogue.about()
        milliseconds = (time.perf_counter() - started) * 1000
        return Answer(database.name, database.shown_url, about, milliseconds, tuple(database.catalogue.rights()))
    except KanalError as error:
        what = error.what.removeprefix(f"connection {database.name} ({database.shown_url}): ")
        what = what.removeprefix(f"connection {database.name}: ")
        remedy = error.remedy
        if "create the database, or name another" in remedy:
            there = database.catalogue.other_databases()
            remedy += f"; the server has: {', '.join(sorted(there)[:20])}" if there else ""
        return Answer(database.name, database.shown_url, error=what, remedy=remedy)
