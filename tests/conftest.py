"""What the tests share: the command line as a process, and SQLite files made from a few lines of SQL."""

from __future__ import annotations

import contextlib
import io
import json
import os
import sqlite3
import subprocess
import sys
import uuid
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, settings

import forking
from kanal.cli.entry import run_app

# Several tests run at once, so that an example can take long to generate without being too large.
settings.register_profile("kanal", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("kanal")

# Hundreds of processes of the command line: they need not compile it each time.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

Cli = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def cli(tmp_path: Path) -> Cli:
    """Run the command line in the test's own folder, within this process, which saves the time of its start."""

    def run(*arguments: str) -> subprocess.CompletedProcess[str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.chdir(tmp_path), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = run_app(list(arguments))
        return subprocess.CompletedProcess(arguments, status, out.getvalue(), err.getvalue())

    return run


@pytest.fixture
def process(tmp_path: Path) -> Cli:
    """Run the command line as a process in the test's own folder."""

    def run(*arguments: str, timeout: float = 120) -> subprocess.CompletedProcess[str]:
        return forking.run(
            [sys.executable, "-m", "kanal", *arguments],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            timeout=timeout,
        )

    return run


class Files:
    """A folder with databases and job files."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def database(self, name: str, sql: str, **rows: list[tuple[Any, ...]]) -> None:
        """Make a SQLite file; the rows of each table come after the SQL."""
        connection = sqlite3.connect(self.folder / name)
        connection.executescript(sql)
        for table, values in rows.items():
            if values:
                marks = ", ".join("?" * len(values[0]))
                connection.executemany(f'INSERT INTO "{table}" VALUES ({marks})', values)
        connection.commit()
        connection.close()

    def rows(self, name: str, sql: str) -> list[tuple[Any, ...]]:
        """What a query finds in a SQLite file."""
        connection = sqlite3.connect(self.folder / name)
        try:
            return connection.execute(sql).fetchall()
        finally:
            connection.close()

    def job(self, body: str, name: str = "job.toml") -> Path:
        """Write a job file with the connections `old` (old.db) and `new` (new.db)."""
        path = self.folder / name
        head = 'job = "test"\n[connection.old]\nurl = "sqlite:///old.db"\n[connection.new]\nurl = "sqlite:///new.db"\n'
        path.write_text(head + body, encoding="utf-8")
        return path


@pytest.fixture
def files(tmp_path: Path) -> Files:
    return Files(tmp_path)


def document(outcome: subprocess.CompletedProcess[str]) -> Any:
    """The JSON document that a command printed."""
    assert outcome.stdout, outcome.stderr
    return json.loads(outcome.stdout)


def server_or_skip(name: str, reason: Exception) -> None:
    """Skip a test whose server is not there, or fail it where KANAL_TEST_SERVERS says that it must be."""
    said = f"{name} cannot be reached: {reason}"
    if os.environ.get("KANAL_TEST_SERVERS") == "required":
        pytest.fail(said)
    pytest.skip(said)


POSTGRESQL = os.environ.get("KANAL_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres")
FIREBIRD = os.environ.get("KANAL_TEST_FIREBIRD", "")
MARIADB = os.environ.get("KANAL_TEST_MARIADB", "mariadb://root@127.0.0.1:3306/")


@pytest.fixture(scope="session")
def postgresql() -> Iterator[Any]:
    """A connection to a PostgreSQL database of the tests' own, which compares text by code point; dropped afterwards."""
    psycopg = pytest.importorskip("psycopg")
    with _own_database("postgresql") as url, psycopg.connect(url, autocommit=True) as connection:
        yield connection


def _one_by_one(statements: Sequence[str]) -> Iterator[list[str]]:
    """Each statement by itself, with one row in each INSERT."""
    for statement in statements:
        head, values, rows = statement.partition(" VALUES (")
        inserts = bool(values) and head.startswith("INSERT")
        yield [f"{head}{values}{row})" for row in rows[:-1].split("), (")] if inserts else [statement]


class Place:
    """A database of a test's own: its URL, and SQL run there."""

    def __init__(self, kind: str, url: str) -> None:
        self.kind = kind
        self.url = url
        driver = {"mariadb": "mariadb+pymysql", "sqlite": "sqlite", "firebird": "firebird+firebird"}.get(
            kind, "postgresql+psycopg"
        )
        if kind == "duckdb":
            import kanal.connections.sql.duckdb_dialect  # noqa: F401

            self.engine = sa.create_engine(url, creator=self._duckdb, poolclass=sa.NullPool)
            return
        address = sa.make_url(url).set(drivername=driver)
        if kind == "firebird":
            address = address.update_query_dict({"charset": "UTF8"})
        # The driver would read all of the machine's certificates for each connection.
        arguments = {"ssl_disabled": True} if kind == "mariadb" else {}
        self.engine = sa.create_engine(address, poolclass=sa.NullPool, connect_args=arguments)

    def _duckdb(self) -> Any:
        import duckdb

        from kanal.connections.sql.duckdb_dialect import DuckDBConnection

        return DuckDBConnection(duckdb.connect(sa.make_url(self.url).database))

    def sql(self, *statements: str) -> None:
        """Run statements, each as it is, in one transaction; in Firebird a table can be used once it is committed."""
        for part in _one_by_one(statements) if self.kind == "firebird" else [statements]:
            with self.engine.begin() as connection:
                for statement in part:
                    connection.execution_options(no_parameters=True).exec_driver_sql(statement)

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        """What a query finds."""
        with self.engine.connect() as connection:
            found = connection.execution_options(no_parameters=True).exec_driver_sql(query)
            return [tuple(row) for row in found]


#: Databases of PostgreSQL that were emptied after a test, for the next: to make one takes long.
_emptied: list[str] = []


def _empty(url: sa.URL, admin: sa.Connection) -> bool:
    """Empty a database of PostgreSQL; False where that fails."""
    admin.exec_driver_sql(f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{url.database}'")
    place = Place("postgresql", url.render_as_string(hide_password=False))
    try:
        made = "SELECT nspname FROM pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema'"
        for (schema,) in place.rows(made):
            place.sql(f'DROP SCHEMA "{schema}" CASCADE')
        place.sql("CREATE SCHEMA public", "GRANT USAGE ON SCHEMA public TO PUBLIC")
    except sa.exc.SQLAlchemyError:
        return False
    return True


@pytest.fixture(scope="session", autouse=True)
def _drop_emptied() -> Iterator[None]:
    yield
    if _emptied:
        admin = Place("postgresql", POSTGRESQL).engine.execution_options(isolation_level="AUTOCOMMIT")
        with admin.connect() as connection:
            for name in _emptied:
                connection.exec_driver_sql(f"DROP DATABASE {name} WITH (FORCE)")


@contextlib.contextmanager
def _own_database(kind: str) -> Iterator[str]:
    """The URL of an empty database on a server, dropped in the end; skips where there is no such server."""
    server = {"postgresql": POSTGRESQL, "mariadb": MARIADB}[kind]
    name = f"kanal_test_{uuid.uuid4().hex[:12]}"
    url = sa.make_url(server)
    admin = Place(kind, server).engine.execution_options(isolation_level="AUTOCOMMIT")
    made = {
        "postgresql": f"CREATE DATABASE {name} TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C.UTF-8'",
        "mariadb": f"CREATE DATABASE {name}",
    }
    try:
        if kind == "postgresql" and _emptied:
            name = _emptied.pop()
        else:
            with admin.connect() as connection:
                connection.exec_driver_sql(made[kind])
    except sa.exc.OperationalError as error:
        server_or_skip(kind, error)
        return
    url = url.set(database=name)
    try:
        yield url.render_as_string(hide_password=False)
    finally:
        with admin.connect() as connection:
            if kind == "mariadb":
                connection.exec_driver_sql(f"DROP DATABASE {name}")
            elif _empty(url, connection):
                _emptied.append(name)
            else:
                connection.exec_driver_sql(f"DROP DATABASE {name} WITH (FORCE)")


@contextlib.contextmanager
def _own_firebird() -> Iterator[str]:
    """The URL of an empty database of a Firebird server, dropped in the end; skips where there is no such server."""
    url = sa.make_url(FIREBIRD or "firebird://sysdba@127.0.0.1/")
    file = f"{url.database or '/var/lib/firebird/3.0/data'}/kanal_test_{uuid.uuid4().hex[:12]}.fdb"
    try:
        from firebird.driver import DatabaseError, connect, create_database

        access = {"user": url.username, "password": url.password, "charset": "UTF8"}
        place = f"{url.host}/{url.port or 3050}:{file}"
        create_database(place, **access).close()
    except (ImportError, DatabaseError) as error:
        server_or_skip("firebird", error)
        return
    try:
        yield url.set(database=file).render_as_string(hide_password=False)
    finally:
        connect(place, **access).drop_database()


def _by_odbc(place: Place) -> Place:
    """The same database, with the URL of its ODBC driver; skips where that is not installed."""
    url = sa.make_url(place.url)
    driver = {"postgresql": "PostgreSQL Unicode", "mariadb": "MariaDB Unicode", "sqlite": "SQLite3"}[place.kind]
    try:
        import pyodbc

        if driver not in pyodbc.drivers():
            server_or_skip(f"ODBC's driver {driver}", LookupError("it is not installed"))
    except ImportError as error:
        server_or_skip("ODBC", error)
    if place.kind == "sqlite":
        Path(str(url.database)).touch()
        place.url = f"odbc:///?Driver=SQLite3&Database={url.database}"
        return place
    settings = {"Driver": driver, "Server": url.host, "Port": str(url.port or {"mariadb": 3306}.get(place.kind, 5432))}
    made = sa.URL.create("odbc", url.username, url.password, query=settings | {"Database": url.database})
    place.url = made.render_as_string(hide_password=False)
    return place


@pytest.fixture
def places(tmp_path: Path) -> Iterator[Callable[[str], Place]]:
    """Gives a new database of a kind."""
    with contextlib.ExitStack() as stack:
        made: list[str] = []

        def place(kind: str) -> Place:
            made.append(kind)
            if kind == "firebird":
                return Place(kind, stack.enter_context(_own_firebird()))
            if kind.startswith("odbc-"):
                return _by_odbc(place(kind.removeprefix("odbc-")))
            if kind == "duckdb":
                pytest.importorskip("duckdb")
                return Place(kind, f"duckdb:///{tmp_path / f'place{len(made)}.duckdb'}")
            if kind == "sqlite":
                return Place(kind, f"sqlite:///{tmp_path / f'place{len(made)}.db'}")
            if kind == "other":  # PostgreSQL by a driver that Kanal has no way of its own for
                url = sa.make_url(stack.enter_context(_own_database("postgresql")))
                return Place(kind, url.set(drivername="postgresql+pg8000").render_as_string(hide_password=False))
            return Place(kind, stack.enter_context(_own_database(kind)))

        yield place
