"""Databases: one module for each, behind one interface."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import TYPE_CHECKING

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.databases.description import ColumnInfo, ForeignKey, TableInfo

if TYPE_CHECKING:
    import sqlalchemy as sa

    from kanal.databases.base import Database
    from kanal.definition import Connection, RunLog, Secret

__all__ = ["ColumnInfo", "ForeignKey", "TableInfo", "expand", "open_database", "with_password_in_place"]

_VARIABLE = re.compile(r"\$\{([A-Za-z_][A-Za-z0-9_]*)(?::-([^}]*))?\}")


def expand(text: str, what: str) -> str:
    """The text with environment variables put in; raises KanalError for one that is not set."""

    def value(match: re.Match[str]) -> str:
        found = os.environ.get(match[1], match[2])
        if found is None:
            raise KanalError(
                f"{what}: the environment variable {match[1]} is not set",
                f"set it, or give a default as ${{{match[1]}:-…}}",
            )
        return found

    return _VARIABLE.sub(value, text)


def _password(secret: Secret, what: str, folder: Path, user: str | None) -> str:
    if secret.env is not None:
        return expand(f"${{{secret.env}}}", what)
    if secret.keyring is not None:
        return _from_keyring(secret.keyring, secret.user or user or "", what)
    path = folder / str(secret.file)
    try:
        return path.read_text(encoding="utf-8").rstrip("\r\n")
    except OSError as error:
        raise KanalError(
            f"{what}: the password file {path} cannot be read: {error.strerror}", "correct its path"
        ) from None


def _from_keyring(service: str, user: str, what: str) -> str:
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        raise KanalError(f"{what}: the package keyring is not installed", "install kanal[keyring]") from None
    try:
        found = keyring.get_password(service, user)
    except KeyringError as error:
        raise KanalError(
            f"{what}: the system's keyring cannot be asked: {error}", "unlock it, or keep the password elsewhere"
        ) from None
    if found is None:
        raise KanalError(
            f'{what}: the keyring has no password of the service "{service}" for the user "{user}"',
            f"store it, for instance by: keyring set {service} {user}",
        )
    return found


def open_database(name: str, connection: Connection | RunLog, folder: Path) -> Database:
    """The database of a connection; relative files start from the folder. Does not connect yet.

    Raises KanalError for a URL that is none or of an unknown kind, and where a password cannot be had.
    """
    import sqlalchemy as sa

    what = f"connection {name}"
    text = expand(connection.url, what)
    try:
        url = sa.make_url(text)
    except sa.exc.ArgumentError:
        raise KanalError(f"{what}: its url is not a URL", "write one such as sqlite:///lockhouse.db") from None
    url = with_password_in_place(url)
    if connection.password is not None:
        url = url.set(password=_password(connection.password, what, folder, url.username))
    database = _database(name, url, what, folder)
    database.connect_timeout = getattr(connection, "connect_timeout", None)
    database.lock_timeout = getattr(connection, "lock_timeout", None)
    return database


def with_password_in_place(url: sa.URL) -> sa.URL:
    """A URL whose password stands before the host, where some drivers take it among the settings too."""
    for key in ("password", "passwd"):
        given = url.query.get(key)
        if isinstance(given, str):
            url = url.difference_update_query([key])
            url = url.set(password=given) if url.password is None else url
    return url


def _database(name: str, url: sa.URL, what: str, folder: Path) -> Database:
    import sqlalchemy as sa

    kind, _, driver = url.drivername.partition("+")
    if kind == "sqlite":
        from kanal.databases.sqlite import SQLite

        if url.database and url.database != ":memory:":
            url = url.set(database=str(folder / url.database))
        return SQLite(name, url)
    if kind in ("postgres", "postgresql") and driver in ("", "psycopg", "psycopg2"):
        from kanal.databases.postgresql import PostgreSQL

        return PostgreSQL(name, url)
    if kind in ("mysql", "mariadb") and driver in ("", "pymysql"):
        from kanal.databases.mariadb import MariaDB

        return MariaDB(name, url)
    try:
        url.get_dialect()
    except sa.exc.NoSuchModuleError:
        raise KanalError(
            f'{what}: there is no kind of database "{kind}"',
            did_you_mean(kind, ["sqlite", "postgresql", "mysql", "mariadb"]),
        ) from None
    except ImportError:
        pass  # said with its remedy when the connection is used
    from kanal.databases.base import Database

    return Database(name, url)
