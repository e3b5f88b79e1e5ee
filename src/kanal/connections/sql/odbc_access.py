"""How statements are run by an ODBC driver."""

from __future__ import annotations

import contextlib
import platform
import re
from collections.abc import Hashable, Iterator
from functools import cached_property, partial
from importlib import import_module
from pathlib import Path
from typing import Any, Self

import sqlalchemy as sa
from msgspec import Struct
from sqlalchemy import exc

from kanal.connections.errors import DatabaseError, state_passes
from kanal.connections.identity import host_identity
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.odbc_dialect import dialect_of, engine_by, told_by
from kanal.connections.sql.servers import Server, server_named

#: Settings by which some drivers name a file.
_FILE_KEYS = ("database", "dbq")
#: Where servers listen, by a word in the names of their drivers.
_PORTS = {
    "postgres": 5432, "maria": 3306, "mysql": 3306, "sql server": 1433, "freetds": 1433, "oracle": 1521, "db2": 50000,
    "firebird": 3050,
}  # fmt: skip
#: SQLSTATEs of a driver that does not support transactions.
_NO_TRANSACTIONS = ("HYC00", "IM001", "HY092")
#: Bytes up to which a value is sent in one piece.
_WHOLE = 1 << 30
#: Seconds that connecting may take.
_PATIENCE = 15


class Told(Struct, frozen=True):
    """What a driver says of itself and its server (ODBC's reference, SQLGetInfo)."""

    server: str
    version: str
    driver: str
    quote: str
    database: str | None
    schema: str | None
    has_schemas: bool
    has_catalogues: bool
    read_only: bool
    has_transactions: bool


def _braced(name: str, value: str) -> str:
    """A value of a connection string, in braces if it needs them (ODBC's reference, SQLDriverConnect)."""
    if name.lower() == "driver" or re.search(r"[\[\]{}(),;?*=!@]|^ | $", value):
        return "{" + value.replace("}", "}}") + "}"
    return value


def state_of(error: BaseException) -> str | None:
    """The SQLSTATE of an error of a driver."""
    first = str(error.args[0]) if error.args else ""
    return first if re.fullmatch(r"[0-9A-Z]{5}", first) else None


def _installed() -> str:
    """Which drivers and data sources there are."""
    import pyodbc

    drivers, sources = _drivers(), sorted(pyodbc.dataSources())
    here = f"installed drivers: {', '.join(drivers)}" if drivers else "no driver is installed"
    return here + (f"; data sources: {', '.join(sources)}" if sources else "; there are no data sources")


def remedy_of(words: str, url: sa.URL) -> str | None:
    """What to do about a driver that cannot be had, or a file that it does not find; None if that is not known."""
    text = words.lower()
    named = {name.lower(): str(value) for name, value in url.query.items()}
    driver = named.get("driver", "")
    if "data source name not found" in text:
        what = f"there is no driver {driver}" if driver else f"there is no data source {named.get('dsn')}"
        return f"{what}; {_installed()}"
    if "can't open lib" in text or "file not found" in text:
        if driver and "/" not in driver and driver not in _drivers():
            return f"there is no driver {driver}; {_installed()}"
        return (
            "the driver's library is missing, lacks a library that it needs (ldd tells which), or is of another "
            f"architecture than this Python, {platform.machine()}; {_installed()}"
        )
    if "wrong elf class" in text or "architecture" in text:
        return f"install the driver for {platform.machine()}, which is this Python's architecture"
    for key in () if {"server", "servername", "dsn"} & set(named) else _FILE_KEYS:
        if "/" in named.get(key, "") and not Path(named[key]).is_file():
            return f"there is no file {named[key]}: correct {key} in the URL"
    return None


def _drivers() -> list[str]:
    import pyodbc

    return sorted(pyodbc.drivers())


class OdbcAccess(SqlAccess):
    """How statements are run by an ODBC driver."""

    extra = "kanal[odbc]"
    #: True if rows are read in columns.
    can_read_columns = True

    def _string(self, **more: str) -> str:
        """The connection string; settings of the URL count before others."""
        given = {name: value if isinstance(value, str) else value[-1] for name, value in self.url.query.items()}
        there = {name.lower() for name in given}
        settings = given | {name: value for name, value in more.items() if name.lower() not in there}
        if self.url.username:
            settings["UID"] = self.url.username
        if self.url.password:
            settings["PWD"] = str(self.url.password)
        return ";".join(f"{name}={_braced(name, value)}" for name, value in settings.items())

    @cached_property
    def text(self) -> str:
        """The whole connection string, with what the server's driver needs."""
        return self._string(**self.server.settings)

    def _open(self, text: str) -> Any:
        import pyodbc

        limit = round(self.connect_timeout or _PATIENCE)
        try:
            made = pyodbc.connect(text, autocommit=False, timeout=limit)
        except pyodbc.Error as error:
            if state_of(error) not in _NO_TRANSACTIONS:
                raise
            made = pyodbc.connect(text, autocommit=True, timeout=limit)  # of a driver that only reads
        # In pieces, as long values would be sent otherwise, the driver of MariaDB loses some of their characters.
        made.maxwrite = _WHOLE
        return made

    def _connected(self) -> Any:
        made = self._open(self.text)
        try:
            kept = made.autocommit
            if self.server.session:
                made.autocommit = True
                for statement in self.server.session:
                    made.execute(statement)
                made.autocommit = kept
        except BaseException:
            made.close()
            raise
        return made

    @contextlib.contextmanager
    def driver_errors(self) -> Iterator[None]:
        """While this lasts, the driver's own errors become Kanal's."""
        import pyodbc

        try:
            yield
        except pyodbc.Error as error:
            raise self.failed(self.words_of(error), self.passes(error)) from None

    @cached_property
    def told(self) -> Told:
        """What the driver says of itself; raises DatabaseError if it cannot be had."""
        try:
            import_module("pyodbc")
        except ImportError as error:
            raise DatabaseError(
                f"connection {self.name}: ODBC is not installed: {error}",
                f"install {self.extra}, and the driver manager (on Debian unixodbc)",
            ) from None
        if not {name.lower() for name in self.url.query} & {"dsn", "driver", "filedsn"}:
            raise DatabaseError(
                f"connection {self.name} ({self.shown_url}): its URL names neither a driver nor a data source",
                f"write odbc:///?dsn=NAME, or odbc://user@/?Driver=NAME and what the driver asks for; {_installed()}",
            )
        if "sqlite" in self._named.get("driver", "").lower() and not Path(self._named.get("database", "")).is_file():
            raise self.failed("the file cannot be opened")  # else the driver would make an empty one
        with self.driver_errors():
            connection = self._open(self._string())

            info = partial(told_by, connection)
            try:
                server = str(info("SQL_DBMS_NAME", "")).strip(" \0") or "an unknown database"
                driver = str(info("SQL_DRIVER_NAME", "")).strip(" \0") or self._named.get("driver", "the driver")
                usage = info("SQL_SCHEMA_USAGE", 0)
                return Told(
                    server,
                    ".".join(str(int(part)) for part in re.findall(r"\d+", str(info("SQL_DBMS_VER", "")))),
                    " ".join(filter(None, [driver, str(info("SQL_DRIVER_VER", "")), "of ODBC"])),
                    str(info("SQL_IDENTIFIER_QUOTE_CHAR", '"') or " "),
                    info("SQL_DATABASE_NAME", None) or None,
                    "public" if server.casefold().startswith("postgres") else None,
                    bool(usage),
                    bool(info("SQL_CATALOG_NAME", False)),
                    bool(info("SQL_DATA_SOURCE_READ_ONLY", False)),
                    info("SQL_TXN_CAPABLE", 0) != 0,
                )
            finally:
                connection.close()

    @cached_property
    def server(self) -> Server:
        """The kind of server that it is."""
        return server_named(self.told.server)

    @cached_property
    def engine(self) -> sa.Engine:
        return engine_by(dialect_of(self.server.dialect, self.told.quote), self._connected)

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        files = {key: folder / str(value) for key, value in url.query.items() if key.lower() in _FILE_KEYS}
        near = {key: str(path) for key, path in files.items() if path.is_file()}
        made = cls(name, url.update_query_dict(near))
        made._given = url
        return made

    @cached_property
    def place(self) -> sa.URL:
        named = self._named
        port = named.get("port", "")
        return self.url.set(
            host=named.get("server") or named.get("servername"),
            port=int(port) if port.isascii() and port.isdecimal() else None,
            database=named.get("database"),
        )

    @cached_property
    def port(self) -> int | None:  # type: ignore[override]
        """Where such a server listens, as far as its driver's name tells."""
        return next((port for word, port in _PORTS.items() if word in self._named.get("driver", "").lower()), None)

    @property
    def _named(self) -> dict[str, str]:
        return {name.lower(): str(value) for name, value in self.url.query.items()}

    @cached_property
    def identity(self) -> Hashable:
        settings = {name.lower(): value for name, value in self.url.query.items()}
        place = settings.get("server") or settings.get("servername")
        host = host_identity(str(place)) if place else None
        rest = tuple(sorted((name, str(value)) for name, value in settings.items() if name not in ("server", "driver")))
        return "odbc", host, rest

    def words_of(self, error: BaseException) -> str:
        original = getattr(error, "orig", None) or error
        words = str(original.args[-1]) if original.args else str(original)
        # The driver manager writes each layer in brackets before the words, and the function after them.
        words = re.sub(r"^(?:\[[^\]]*\]\s*)+", "", words)
        words = re.sub(r"\s*\(-?\d+\)\s*\(SQL\w+\)$", "", words)
        return " ".join(self.without_password(words).split())

    def passes(self, error: BaseException) -> bool:
        original = getattr(error, "orig", None) or error
        state = state_of(original)
        # A driver calls a server that does not answer 08001 or HY000, whatever the reason.
        lost = ("connection refused", "could not connect", "can't connect", "lost connection", "gone away", "timeout")
        return bool(state and state_passes(state)) or any(word in str(original).lower() for word in lost)

    def refuses(self, error: exc.SQLAlchemyError) -> bool:
        state = state_of(getattr(error, "orig", None) or error) or ""
        return isinstance(error, exc.DBAPIError) and not error.connection_invalidated and not self.passes(error) and (
            state[:2] not in ("08", "40", "42", "IM"))  # fmt: skip

    def failed(self, words: str, passing: bool = False) -> DatabaseError:
        found = super().failed(words, passing)
        remedy = remedy_of(words, self.url)
        return DatabaseError(found.what, remedy, passing) if remedy else found
