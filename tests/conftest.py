"""What the tests share: the command line as a process, and SQLite files made from a few lines of SQL."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
from collections.abc import Callable
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
