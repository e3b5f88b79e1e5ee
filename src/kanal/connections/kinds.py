"""The kinds of connections, by the scheme of their URLs: built-in ones, those of other packages, SQLAlchemy's dialects.

Another package adds a kind by the entry point group `kanal.connections`: the name is the scheme, the object a class
with the method `opened(name, url, folder)` that gives a Source, a Target or both (`kanal.connections.base`).
"""

from __future__ import annotations

from importlib import import_module
from importlib.metadata import EntryPoint, entry_points
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, cast

from kanal.connections.logs import mask_logs
from kanal.connections.secrets import expand, secret_value
from kanal.connections.urls import FILESYSTEMS, check_parts, folder_url, url_remedy, with_password_in_place
from kanal.core.errors import KanalError
from kanal.core.hidden import hide
from kanal.core.nearest import did_you_mean

if TYPE_CHECKING:
    import sqlalchemy as sa

    from kanal.connections.base import Connection
    from kanal.connections.sql.database import SqlDatabase
    from kanal.connections.sql.opening import SqlOpening
    from kanal.definition import Connection as ConnectionSettings
    from kanal.definition.secrets import Secret

GROUP = "kanal.connections"
_SQL, _FILES = "kanal.connections.sql", "kanal.connections.files"
_BUILT_IN = {
    "file": f"{_FILES}.folder:Folder",
    "s3": f"{_FILES}.s3:S3Folder",
    "http": f"{_FILES}.http:HttpFolder",
    "https": f"{_FILES}.http:HttpFolder",
    **dict.fromkeys(FILESYSTEMS, f"{_FILES}.filesystems:FilesystemFolder"),
    "sqlite": f"{_SQL}.sqlite:SQLite",
    "postgresql": f"{_SQL}.postgresql:PostgreSQL",
    "postgres": f"{_SQL}.postgresql:PostgreSQL",
    "mariadb": f"{_SQL}.mariadb:MariaDB",
    "mysql": f"{_SQL}.mariadb:MariaDB",
    **dict.fromkeys(("oracle", "mssql", "db2", "ibm_db_sa"), f"{_SQL}.server_database:ServerDatabase"),
    "odbc": f"{_SQL}.odbc:Odbc",
    "duckdb": f"{_SQL}.duckdb:DuckDB",
    "firebird": f"{_SQL}.firebird:Firebird",
}


class Kind(Protocol):
    """What makes a connection of a URL."""

    #: The drivers of SQLAlchemy that a URL may name, as in `postgresql+psycopg`, to mean this kind.
    drivers: frozenset[str]

    def opened(self, name: str, url: sa.URL, folder: Path) -> Connection:
        """A connection, which does not connect yet; relative paths start from the folder."""


class LogSettings(Protocol):
    """What is said of a run log's database."""

    @property
    def url(self) -> str:
        """Its URL."""

    @property
    def password(self) -> Secret | None:
        """Where its password is kept."""


def open_connection(name: str, settings: ConnectionSettings | LogSettings, folder: Path) -> Connection:
    """The connection that a job names; relative files start from the folder. Does not connect yet.

    Raises KanalError for a URL that is none or of an unknown kind, and where a password cannot be had.
    """
    what = f"connection {name}"
    mask_logs()
    url = _url_of(settings, what, folder)
    if getattr(settings, "is_api", False):
        from kanal.connections.api import HttpApi

        return HttpApi(name, url, cast("ConnectionSettings", settings), folder)
    connection = _kind_of(url, what).opened(name, url, folder)
    if getattr(settings, "links", None) is not None:
        store: Any = getattr(connection, "store", None)
        if not hasattr(store, "follows_links"):
            raise KanalError(f"{what}: links is for folders of this machine, such as file:inbox", "remove it")
        store.follows_links = True
    for limit in ("connect_timeout", "lock_timeout"):
        if hasattr(connection, limit):
            setattr(connection, limit, getattr(settings, limit, None))
    return connection


def _url_of(settings: ConnectionSettings | LogSettings, what: str, folder: Path) -> sa.URL:
    """The URL of a connection, its password and variables in place; raises KanalError for one that is none."""
    import sqlalchemy as sa

    text = expand(settings.url, what)
    try:
        url = folder_url(text) or sa.make_url(text)
    except ValueError:
        raise KanalError(f"{what}: the port in its url is not a number", "write one such as 5432") from None
    except sa.exc.ArgumentError:
        raise KanalError(f"{what}: its url is not a URL", url_remedy(text)) from None
    check_parts(url, what)
    url = with_password_in_place(url)
    if settings.password is not None:
        url = url.set(password=secret_value(settings.password, what, folder, url.username))
    elif url.password is not None:
        hide(str(url.password))
    return url


def open_log(settings: LogSettings, folder: Path) -> SqlOpening:
    """The database of a run log, to be reached only: of SQLite, nothing is imported that reads or writes rows."""
    url = _url_of(settings, "connection run_log", folder)
    if url.drivername.partition("+")[0] != "sqlite":
        return open_database("run_log", settings, folder)
    from kanal.connections.sql.sqlite_opening import SQLiteOpening

    return SQLiteOpening.opened("run_log", url, folder)


def open_database(name: str, settings: ConnectionSettings | LogSettings, folder: Path) -> SqlDatabase:
    """A connection that is a SQL database; raises KanalError if it is not."""
    from kanal.connections.sql.database import SqlDatabase

    connection = open_connection(name, settings, folder)
    if not isinstance(connection, SqlDatabase):
        raise KanalError(f"connection {name}: {connection.shown_url} is not a SQL database", "name one")
    return connection


def _kind_of(url: sa.URL, what: str) -> Kind:
    """The kind of a URL; raises KanalError if there is none."""
    import sqlalchemy as sa

    scheme, _, driver = url.drivername.partition("+")
    if scheme in _BUILT_IN:
        module, _, found = _BUILT_IN[scheme].partition(":")
        kind = cast(Kind, getattr(import_module(module), found))
        if not driver or driver in kind.drivers:
            return kind
    others = {entry.name: entry for entry in entry_points(group=GROUP)}
    if url.drivername in others or scheme in others:
        return _loaded(others.get(url.drivername) or others[scheme], what)
    try:
        url.get_dialect()
    except sa.exc.NoSuchModuleError:
        remedy = did_you_mean(scheme, [*_BUILT_IN, *others])
        raise KanalError(f'{what}: there is no kind of connection "{scheme}"', remedy) from None
    except ImportError:
        pass  # said with its remedy when the connection is used
    from kanal.connections.sql.database import SqlDatabase

    return cast(Kind, SqlDatabase)


def _loaded(entry: EntryPoint, what: str) -> Kind:
    """The kind of another package; raises KanalError if it cannot be imported."""
    try:
        found: Any = entry.load()
    except Exception as error:
        package = entry.dist.name if entry.dist is not None else entry.value
        raise KanalError(
            f"{what}: {package}, which brings {entry.name}, cannot be imported: {type(error).__name__}: {error}",
            "install it again, or what it needs",
        ) from None
    return cast(Kind, found)
