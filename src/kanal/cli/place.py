"""Finds the database that a command is to look at."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kanal.cli.jobs import read_job
from kanal.connections import open_connection
from kanal.connections.base import Connection as OpenConnection
from kanal.connections.urls import url_remedy
from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import Connection


def is_url(place: str) -> bool:
    """True for the URL of a connection, and not the name of one."""
    return "://" in place or place.startswith(("file:", "jdbc:"))


@contextmanager
def open_place(place: str, job: Path | None, name: str = "place") -> Iterator[OpenConnection]:
    """The database of a URL, or of the connection of that name in a job; raises KanalError if there is none."""
    if job is not None:
        definition = read_job(job)
        if place not in definition.connection:
            names = list(definition.connection)
            remedy = did_you_mean(place, names) or f"it has: {', '.join(names)}"
            raise KanalError(f'{job} has no connection "{place}"', remedy)
        database = open_connection(place, definition.connection[place], definition.folder)
    elif is_url(place):
        database = open_connection(name, Connection(url=place), Path.cwd())
    else:
        raise KanalError(
            f'"{place[:60]}" is not a URL' if "@" not in place else "what is given is not a URL",
            url_remedy(place, "write one such as sqlite:///lockhouse.db, or name a connection with --job FILE"),
        )
    try:
        yield database
    finally:
        database.dispose()
