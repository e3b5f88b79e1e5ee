"""Tries connections: what is at the other end, what the user may do there, or why it cannot be reached."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import astuple

from kanal.connections.base import Connection
from kanal.connections.description import About, Right
from kanal.connections.errors import DatabaseError
from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import JobDefinition


class Answer(Struct, frozen=True):
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
        """True if it can be used."""
        return self.error is None


class FromWorker(Struct, frozen=True):
    """How a connection answered a worker, by the worker's name and host."""

    connection: str
    worker: str
    host: str
    answer: Answer


def ping_from_workers(cluster: Any, job: JobDefinition, names: Sequence[str]) -> list[FromWorker]:
    """Try connections of a job from each worker of a cluster, or from those that carry the tag which reaches them.

    Raises KanalError for a connection that the job does not have, or whose password would travel.
    """
    from kanal.runner.elsewhere.distant import asked_of

    found = []
    for name in names:
        if name not in job.connection:
            remedy = did_you_mean(name, job.connection)
            raise KanalError(f'the job has no connection "{name}"', remedy)
        tag = job.connection[name].reached_from
        workers = cluster.workers()
        for address in cluster.with_tags([tag] if tag is not None else []):
            worker = workers[address]
            try:
                answer = Answer(*asked_of(cluster, address, job, name, _answered))
            except DatabaseError as error:
                answer = Answer(name, "", error=error.what, remedy=error.remedy)
            found.append(FromWorker(name, str(worker.get("name", address)), str(worker.get("host", "")), answer))
    return found


def _answered(database: Connection) -> tuple[Any, ...]:
    return astuple(ping(database))


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
