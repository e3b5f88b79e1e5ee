"""kanal draft: writes a job file from the tables of a source."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote_plus

import sqlalchemy as sa

from kanal.cli.jobs import read_job
from kanal.cli.place import is_url, open_place
from kanal.connections import with_password_in_place
from kanal.connections.api import HttpApi
from kanal.connections.base import Connection as OpenConnection
from kanal.connections.urls import check_parts, folder_url, url_remedy
from kanal.core.errors import HARMLESS, KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import JobError
from kanal.definition.writing import connection_text
from kanal.explore.draft import Wish, add_to_draft, draft_job
from kanal.explore.new_columns import take_over
from kanal.runner.run import first_seen
from kanal.runner.run_options import planned
from kanal.runner.write_rules import WRITE_RULES


def draft(source: str, target: str, wish: Wish, name: str | None, into: Path | None, job: Path | None) -> int:
    """Print a job file, or write it, or add to it what is new; the exit status."""
    if wish.write not in WRITE_RULES:
        raise KanalError(f'"{wish.write}" is not a write rule', did_you_mean(wish.write, WRITE_RULES))
    names = [_connection_name(place) for place in (source, target)]
    if names[0] == names[1] and source != target:
        names = [f"{names[0]}_source", f"{names[1]}_target"]
    with _opened(source, names[0], job) as here, _opened(target, names[1], job) as there:
        there.may_be_made()
        connections = {
            connection: _api_text(place, job, opened) or _connection_text(connection, place, job)
            for connection, place, opened in zip(names, (source, target), (here, there), strict=True)
        }
        if into is not None and into.is_dir():
            raise KanalError(f"{into} is a folder", "name a file in it")
        if into is not None and into.exists():
            _take_over(into, here, wish)
            added = add_to_draft(into, here, there, connections, wish)
            said = f"added to {into}: {', '.join(added)}" if added else f"{into} has all of these tables already"
            print(f"kanal: {said}", file=sys.stderr)
            return 0
        text = draft_job(name or f"{names[0]}-to-{names[1]}", here, there, connections, wish)
    if into is None:
        print(text, end="")
        return 0
    try:
        into.write_text(text, encoding="utf-8")
    except OSError as error:
        raise KanalError(f"{into} cannot be written: {error.strerror}", "name another file") from None
    print(f"kanal: {into} is written; see what is wrong with it by: kanal check {into}", file=sys.stderr)
    return 0


def _take_over(into: Path, source: OpenConnection, wish: Wish) -> None:
    """Take columns over into a job's file that tables got since its first run, and say which."""
    try:
        job = read_job(into)
        with planned(job, {"create": True}) as plan:
            new = take_over(into, plan, source, first_seen(job), wish)
    except JobError:
        print(f"kanal: new columns were not looked for, since {into} is not right; see: kanal check {into}",
              file=sys.stderr)  # fmt: skip
        return
    for one in new:
        if one.taken:
            print(f"kanal: pipeline {one.step} takes new columns: {', '.join(one.taken)}", file=sys.stderr)
        if one.lacking:
            print(f"kanal: the target of {one.step} has no column {', '.join(one.lacking)}; add what is missing by: "
                  f"kanal create --alter {into}", file=sys.stderr)  # fmt: skip


@contextmanager
def _opened(place: str, name: str, job: Path | None) -> Iterator[OpenConnection]:
    with open_place(place, None if is_url(place) else job, name) as database:
        yield database


def _connection_name(place: str) -> str:
    """A connection's name: that of the job, or made of the URL."""
    if not is_url(place):
        return place
    try:
        url = folder_url(place) or sa.make_url(place)
    except sa.exc.ArgumentError:
        raise KanalError("what is given is not a URL", url_remedy(place)) from None
    except ValueError:
        raise KanalError("the port in the URL is not a number", "write one such as 5432") from None
    base = Path(url.database or url.host or "place").stem
    return re.sub(r"[^A-Za-z0-9_-]+", "_", base).strip("_") or "place"


def _connection_text(name: str, place: str, job: Path | None) -> str:
    """The lines of a connection; a password is never among them."""
    password = ""
    if not is_url(place):
        assert job is not None
        connection = read_job(job).connection[place]
        place = connection.url
        given = (connection.password.given() if connection.password else {}).items()
        inner = ", ".join(f'{key} = "{value}"' for key, value in given if value is not None)
        password = f"password = {{ {inner} }}" if inner else ""
    try:
        url = folder_url(place) or with_password_in_place(sa.make_url(place))
    except (sa.exc.ArgumentError, ValueError):  # with ${NAME} if the form of a URL has a number
        place = re.sub(r"(://[^:/@]*):(?!\$\{)[^@]*@", r"\1@", place)
        return "\n".join(filter(None, [f'url = "{place}"', password]))
    check_parts(url, f"connection {name}")
    secret = [key for key in url.query if key.lower() not in HARMLESS]
    for key in secret:
        # Such a setting may be a secret, and stays out of the file.
        url = url.update_query_dict({key: f"${{{_variable(name, key)}}}"})
    if secret or url.password is not None:
        place = _without_password(url, secret, name)
    if url.password is not None:
        named = re.fullmatch(r"\$\{(\w+)(?::-[^}]*)?\}", str(url.password))
        variable = named[1] if named else _variable(name, "password")
        password = password or f'password = {{ env = "{variable}" }}  # a password does not belong in the file'
    return "\n".join(filter(None, [f'url = "{place}"', password]))


def _api_text(place: str, job: Path | None, opened: OpenConnection) -> str | None:
    """The lines of an HTTP API, with the fields that its resources seem to have; None for another connection."""
    if not isinstance(opened, HttpApi) or job is None:
        return None
    opened.propose_fields()
    given = read_job(job).connection[place]
    return connection_text(place, given.model_copy(update={"resource": opened.resources}))


def _variable(name: str, key: str) -> str:
    """The environment variable for a setting of a connection."""
    return re.sub(r"\W", "_", f"{name}_{key}").upper()


def _without_password(url: sa.URL, secret: list[str], name: str) -> str:
    """A URL's text without its password, with variables for other settings that may be secret."""
    text = url._replace(password=None).render_as_string()
    for key in secret:
        variable = f"${{{_variable(name, key)}}}"
        text = text.replace(quote_plus(variable), variable)
    return text
