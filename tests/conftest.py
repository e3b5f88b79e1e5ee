"""What the tests share: the command line as a process, and SQLite files made from a few lines of SQL."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

Cli = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def cli(tmp_path: Path) -> Cli:
    """Run the command line as a process in the test's own folder."""

    def run(*arguments: str, timeout: float = 120) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "kanal", *arguments],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            timeout=timeout,
            check=False,
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


@pytest.fixture(scope="session")
def postgresql() -> Iterator[Any]:
    """A connection to a PostgreSQL database of the tests' own, which compares text by code point; dropped afterwards."""
    psycopg = pytest.importorskip("psycopg")
    url = os.environ.get("KANAL_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres")
    name = f"kanal_test_{uuid.uuid4().hex[:12]}"
    try:
        admin = psycopg.connect(url, autocommit=True, connect_timeout=5)
    except psycopg.OperationalError as error:
        server_or_skip("PostgreSQL", error)
        return
    admin.execute(f"CREATE DATABASE {name} TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C.UTF-8'")
    try:
        with psycopg.connect(url, dbname=name, autocommit=True) as connection:
            yield connection
    finally:
        admin.execute(f"DROP DATABASE {name} WITH (FORCE)")
        admin.close()
