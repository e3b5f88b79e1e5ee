"""Connections that only some workers of a cluster reach: whatever is asked of one, such a worker finds out."""

from __future__ import annotations

import functools
import re
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kanal.connections import open_connection
from kanal.connections.base import Connection
from kanal.connections.errors import DatabaseError
from kanal.connections.roles import Reads
from kanal.connections.secrets import VARIABLE
from kanal.core.errors import KanalError, masked
from kanal.definition import Connection as ConnectionSettings
from kanal.definition import JobDefinition
from kanal.runner.elsewhere.cluster import Cluster
from kanal.runner.elsewhere.crew import Assignment, Crew
from kanal.runner.elsewhere.message_bytes import encode
from kanal.runner.elsewhere.tasks import CallTask
from kanal.runner.messages import Failure
from kanal.runner.planning.job_planner import Known

#: What a kind of connection says of itself without being asked at the other end.
_HERE = frozenset(
    {
        "name",
        "shown_url",
        "missing_file",
        "may_be_made",
        "lock",
        "connect_timeout",
        "lock_timeout",
        "shares_lock_with",
        "carries",
        "own_form",
    }
)
_PARTS = ("catalogue", "journal", "ddl")
#: What stays as it is, once asked.
_LASTING = ("identity", "place_of")


def known_of(job: JobDefinition, crew: Crew | None) -> Known:
    """How a job's connections are opened if a crew runs it; raises KanalError for secrets that would travel."""
    if not isinstance(crew, Cluster):
        return Known()
    cluster = crew
    if job.given_secrets:
        what = f"the value of the secret parameter {job.given_secrets[0]} would be sent to the workers"
        raise KanalError(what, "keep it on the machines of the workers, and leave out --set")

    def opened(name: str, settings: ConnectionSettings, folder: Path) -> Connection:
        refuse_passwords(name, settings)
        if settings.reached_from is None:
            return open_connection(name, settings, folder)
        if not cluster.with_tags([settings.reached_from]):
            raise KanalError(
                f"connection {name} is reached from {settings.reached_from}, and no worker of the cluster carries that "
                "tag",
                f'start one there: dask worker {cluster.address} --resources "{settings.reached_from}=1"',
            )
        return Distant(cluster, name, settings, folder)  # type: ignore[return-value]

    return Known(opened)


def refuse_passwords(name: str, settings: ConnectionSettings) -> None:
    """Raise KanalError for a password that is written in a URL: it would be sent to workers."""
    plain = VARIABLE.sub("***", settings.url)
    if masked(plain) != plain:
        raise KanalError(
            f"connection {name} has its password in its url, which would be sent to the workers",
            'keep it where they are, such as password = { env = "…" }',
        )


class Distant:
    """A connection that is asked by way of a worker that reaches it. What is opened by it is opened there alone."""

    def __init__(self, cluster: Cluster, name: str, settings: ConnectionSettings, folder: Path) -> None:
        self._cluster, self._settings, self._folder = cluster, settings, folder
        # Of what is secret or said by variables, workers know; here its kind alone matters.
        plain = settings.model_copy(
            update={"password": None, "sign_in": None, "url": VARIABLE.sub(_default, settings.url)}
        )
        self._like: Any = open_connection(name, plain, folder)
        # A state can be shown to others only by whoever holds a connection.
        self.reads = self._like.reads - {Reads.SHARED}
        self._asked: dict[Any, Any] = {}
        self._room = str(uuid.uuid4())
        self.name = name

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_"):
            raise AttributeError(name)
        if name in _PARTS:
            return _Part(self, name)
        if name in _HERE:
            return getattr(self._like, name)
        return self._found(self._like, (name,))

    def _found(self, like: Any, path: tuple[str, ...]) -> Any:
        """An attribute of the connection or of a part of it: of its class, or asked for at the other end."""
        of_class = getattr(type(like), path[-1], None)
        if isinstance(of_class, property | functools.cached_property):
            return self._ask(path)
        if callable(of_class):
            return functools.partial(self._ask, path)
        return getattr(like, path[-1])

    def _ask(self, path: tuple[str, ...], *arguments: Any, **named: Any) -> Any:
        key = None
        if path[-1] in _LASTING:
            key = path, encode((arguments, named))
            if key in self._asked:
                return self._asked[key]
        tag = self._settings.reached_from or ""
        task = CallTask(self.name, self._settings, self._folder, path, arguments, named, room=self._room)
        found = _given(Assignment(self._cluster, task, tags=[tag]))
        if key is not None:
            self._asked[key] = found
        return found

    def moves_to(self, target: Any) -> bool:
        """False: whether it is the target's own database is known at the other end."""
        del target
        return False

    def dispose(self) -> None:
        """Nothing is open here."""


class _Part:
    """What belongs to a distant connection, such as its catalogue."""

    def __init__(self, whole: Distant, name: str) -> None:
        self._whole, self._name = whole, name

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_"):
            raise AttributeError(name)
        like = getattr(self._whole._like, self._name)
        return self._whole._found(like, (self._name, name))


def _default(found: re.Match[str]) -> str:
    """What a variable of a URL represents where it is not set; its name if that is not said."""
    return found[2] or found[1]


def asked_of(cluster: Cluster, worker: str, job: JobDefinition, name: str, act: Callable[[Connection], Any]) -> Any:
    """What a function gives of a connection if a worker of that address opens it; raises KanalError."""
    settings = job.connection[name]
    refuse_passwords(name, settings)
    task = CallTask(name, settings, job.folder, act=act, room=str(uuid.uuid4()))
    return _given(Assignment(cluster.at(worker), task))


def _given(assignment: Assignment) -> Any:
    """What a question gives; raises KanalError."""
    found = assignment.run()
    if isinstance(found, Failure):
        raise DatabaseError(found.what, found.remedy, found.passing)
    return found
