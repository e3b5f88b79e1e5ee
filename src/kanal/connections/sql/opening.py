"""What it takes to reach a SQL database, and to say in Kanal's words what goes wrong; nothing of its tables and rows.

The run log needs no more.
"""

from __future__ import annotations

import contextlib
import logging
import time
import warnings
import weakref
from collections.abc import Callable, Hashable, Iterator
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar, Self
from urllib.parse import quote, quote_plus

import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.diagnosis import remedy_for
from kanal.connections.errors import DatabaseError, os_error_passes, state_passes
from kanal.connections.identity import file_identity, host_identity
from kanal.connections.kept import long_ago
from kanal.connections.urls import secrets_of, shown_url

# What the pool of connections says of one that was cut off is said by the step, in a sentence.
logging.getLogger("sqlalchemy.pool").setLevel(logging.CRITICAL + 1)
# Types that SQLAlchemy does not know are read and written as text; of columns that it misses the catalogue knows.
for _words in ("Did not recognize type", "Unknown schema content", "Unknown column definition"):
    warnings.filterwarnings("ignore", message=_words, category=exc.SAWarning)


class SqlOpening:
    """A SQL database that can be connected to. Made without connecting; each use connects."""

    name: str
    url: sa.URL

    #: What to install if the driver is missing.
    extra: ClassVar[str] = "the driver's package"
    #: Whether connections are kept for the next use. Here none is, so that nothing temporary outlives it.
    pooling: ClassVar[dict[str, Any]] = {"poolclass": sa.NullPool}
    #: True if a kept connection may be cut off meanwhile, as one to a server may.
    looks_after: ClassVar[bool] = False
    #: Where its servers listen, by default.
    port: ClassVar[int | None] = None
    #: Seconds that connecting, or waiting for a lock, may take; None for the driver's own way.
    connect_timeout: float | None = None
    lock_timeout: float | None = None
    #: The drivers of SQLAlchemy that a URL may name to mean this kind.
    drivers: ClassVar[frozenset[str]] = frozenset()

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        """A connection of a URL, which does not connect yet."""
        del folder
        return cls(name, url)

    def __init__(self, name: str, url: sa.URL) -> None:
        self.name = name
        self.url = url
        self._given = url

    #: Called with each connection that the driver has made.
    on_connect: ClassVar[Callable[[Any, Any], None] | None] = None

    @property
    def user(self) -> str | None:
        """The user whose rights count."""
        return self.url.username

    @cached_property
    def engine(self) -> sa.Engine:
        """SQLAlchemy's engine; raises DatabaseError if the driver is missing."""
        try:
            engine = sa.create_engine(self.url, connect_args=self.connect_arguments(), **self.pooling)
            if self.on_connect is not None:
                sa.event.listen(engine, "connect", self.on_connect)
            if self.looks_after:
                _look_after(engine)
        except ImportError as error:
            raise DatabaseError(
                f"connection {self.name}: the driver {error.name or self.url.drivername} is not installed",
                f"install {self.extra}",
            ) from None
        except exc.NoSuchModuleError:
            raise DatabaseError(
                f"connection {self.name}: SQLAlchemy's dialect {self.url.drivername} is not installed",
                f"install {self.extra}",
            ) from None
        except (exc.SQLAlchemyError, TypeError, ValueError) as error:
            raise self.failed(f"its URL cannot be used: {self.words_of(error)}") from None
        weakref.finalize(self, engine.dispose)  # by the end of the process at the latest
        return engine

    def connect_arguments(self) -> dict[str, Any]:
        """What the driver is told besides the URL."""
        return {}

    def connect(self) -> sa.Connection:
        """A connection for statements outside of loads; raises DatabaseError."""
        try:
            return self.engine.connect()
        except exc.SQLAlchemyError as error:
            raise self.failed(self.words_of(error), self.connecting_passes(error)) from None
        except OSError as error:  # a file that the URL names, such as a certificate
            raise DatabaseError(f"a file that the URL names cannot be read: {self.words_of(error)}",
                                "correct its path in the URL, such as that of ssl_ca") from None  # fmt: skip
        except (TypeError, ValueError) as error:  # a setting of the URL that the driver does not know
            raise self.failed(f"the driver does not take the URL's settings: {self.words_of(error)}") from None

    @property
    def place(self) -> sa.URL:
        """Where it is, as messages tell it."""
        return self.url

    @property
    def shown_url(self) -> str:
        """The URL without what may be secret in it."""
        return shown_url(self._given)

    @cached_property
    def identity(self) -> Hashable:
        """What two connections have in common that lead to one database of one server, however each is written.

        Raises DatabaseError if the server must be asked, and cannot be reached.
        """
        return self.url.get_backend_name(), host_identity(self.url.host), self.url.port or self.port, self.url.database

    def words_of(self, error: BaseException) -> str:
        """What the database itself said, on one line."""
        original = getattr(error, "orig", None) or error
        return " ".join(self.without_password(str(original)).split())

    def diagnosed(self, error: exc.SQLAlchemyError) -> DatabaseError:
        """A SQLAlchemy error as one of Kanal's."""
        return self.failed(self.words_of(error), self.passes(error))

    def passes(self, error: BaseException) -> bool:
        """True for an error, SQLAlchemy's or the driver's, of a trouble that may have passed when it is tried again."""
        if isinstance(error, exc.TimeoutError) or getattr(error, "connection_invalidated", False):
            return True
        original = getattr(error, "orig", None) or error
        state = getattr(original, "sqlstate", None) or getattr(original, "pgcode", None)
        if state is None and original.args and isinstance(original.args[0], dict):
            state = original.args[0].get("C")
        if state:
            return state_passes(str(state))
        causes = (original, original.__cause__, original.__context__)
        return any(isinstance(cause, OSError) and os_error_passes(cause) for cause in causes)

    def connecting_passes(self, error: exc.SQLAlchemyError) -> bool:
        """The same for an error of a connection that could not be made."""
        return self.passes(error)

    def failed(self, words: str, passing: bool = False) -> DatabaseError:
        """An error in the database's words."""
        text = " ".join(self.without_password(words).split())
        remedy = (
            remedy_for(text, self.place, self.port) or "the message is the database's own: look it up in its manual"
        )
        return DatabaseError(f"connection {self.name} ({self.shown_url}): {text}", remedy, passing)

    def without_password(self, text: str) -> str:
        """A text with *** in place of the connection's password and of other settings that may be secret."""
        for secret in secrets_of(self.url):
            if len(secret) >= 3:
                for form in (secret, *(quote(secret, safe=safe) for safe in ("", " +", "/")), quote_plus(secret)):
                    text = text.replace(form, "***")
        return text

    @contextlib.contextmanager
    def errors(self) -> Iterator[None]:
        """While this lasts, SQLAlchemy's errors become Kanal's."""
        try:
            yield
        except exc.SQLAlchemyError as error:
            raise self.diagnosed(error) from None

    @property
    def missing_file(self) -> str | None:
        """The file that it is, if it does not exist yet and will be created."""
        return None

    def may_be_made(self) -> None:
        """Allow the file to be created, together with its first table."""

    @property
    def lock(self) -> Any:
        """The file that is locked as a whole, so that many may read it or one may write it; None if rows are locked."""
        return None

    def dispose(self) -> None:
        """Close all connections."""
        if "engine" in self.__dict__:
            self.engine.dispose()


def _look_after(engine: sa.Engine) -> None:
    """Have connections that were not used for a while tried before they are used, and made again if they are gone."""

    def given_back(_: Any, record: Any) -> None:
        record.info["kanal_given_back"] = time.monotonic()

    def taken(connection: Any, record: Any, _: Any) -> None:
        if time.monotonic() - record.info.get("kanal_given_back", float("inf")) >= long_ago():
            try:
                engine.dialect.do_ping(connection)
            except engine.dialect.loaded_dbapi.Error:
                raise exc.DisconnectionError from None

    sa.event.listen(engine, "checkin", given_back)
    sa.event.listen(engine, "checkout", taken)


class FileOpening(SqlOpening):
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
