"""SQLite's rows come by a plain SELECT while every value is of its column's type, and are the same as when each is looked at."""

from __future__ import annotations

import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kanal.connections import open_database
from kanal.connections.reading import Reading
from kanal.connections.sql.database import SqlDatabase
from kanal.definition import Connection

COLUMNS = {"i": "integer", "d": "double precision", "n": "decimal(9,2)", "x": "text", "day": "date", "b": "boolean"}
VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.sampled_from([0, 1, 2**53, 2**53 + 1, -(2**53) - 1, 1.5, 1e300, float("inf"), 0.1, -0.0]),
    st.sampled_from(["", "x", "12", "1,5", "2025-01-01", " 7 ", "1e3", "9007199254740993", "0x10", "é"]),
    st.sampled_from([b"", b"\0\xff", b"12"]),
)


def came(database: SqlDatabase, reading: Reading) -> tuple[dict[str, list[Any]], dict[tuple[str, int], Any]]:
    """All that is read: the columns' values, and the strays by column and row."""
    columns: dict[str, list[Any]] = {name: [] for name in reading.columns}
    strays = {}
    with database.read(reading) as batches:
        for batch in batches:
            before = len(columns[reading.columns[0]])
            strays |= {(n, before + row): text for n, found in batch.strays.items() for row, text in found.items()}
            for name, values in batch.columns.items():
                columns[name] += [repr(value) for value in values.to_pylist()]
    return columns, strays


@given(
    rows=st.lists(st.tuples(*(VALUES for _ in COLUMNS)), max_size=12),
    clean=st.integers(0, 12),
    batch_rows=st.integers(1, 6),
    limit=st.none() | st.integers(0, 14),
    key=st.sampled_from(
        [
            "",
            ", rowid text",
            ", UNIQUE (x, i, d, n, day, b)",
            ", PRIMARY KEY (x, i)",
            ", PRIMARY KEY (x, i)) WITHOUT ROWID --",
        ]
    ),
)
@settings(max_examples=150, deadline=None)
def test_both_ways_of_reading_give_the_same(
    rows: list[tuple[Any, ...]], clean: int, batch_rows: int, limit: int | None, key: str
) -> None:
    usual = [(n, n / 2, n / 4, f"t{n}", f"2025-01-{n + 1:02d}", n % 2) for n in range(clean)]
    with tempfile.TemporaryDirectory() as folder:
        with closing(sqlite3.connect(Path(folder) / "old.db")) as connection:
            declared = ", ".join(f"{name} {kind}" for name, kind in COLUMNS.items())
            connection.execute(f"CREATE TABLE t ({declared}{key}\n" + (")" if "--" not in key else ""))
            connection.executemany(
                f"INSERT OR IGNORE INTO t ({', '.join(COLUMNS)}) VALUES (?, ?, ?, ?, ?, ?)", [*usual, *rows]
            )
            connection.commit()
        database = open_database("old", Connection(url="sqlite:///old.db"), Path(folder))
        table = database.catalogue.describe(None, "t")
        plain = Reading(table, None, tuple(COLUMNS), batch_rows, limit=limit)
        typed = Reading(table, "SELECT * FROM t", tuple(COLUMNS), batch_rows, limit=limit)
        assert came(database, plain) == came(database, typed)


@pytest.mark.parametrize("odd", [b"x", 1.5, "seven"])
def test_a_stray_far_down_is_found_in_the_state_of_the_beginning(tmp_path: Path, odd: Any) -> None:
    with closing(sqlite3.connect(tmp_path / "old.db")) as other:
        other.execute("PRAGMA journal_mode = WAL")
        other.execute("CREATE TABLE t (i integer)")
        other.executemany("INSERT INTO t VALUES (?)", [(odd if n == 15 else n,) for n in range(20)])
        other.commit()
        database = open_database("old", Connection(url="sqlite:///old.db"), tmp_path)
        reading = Reading(database.catalogue.describe(None, "t"), None, ("i",), 5)
        with database.read(reading) as batches:
            found = next(batches).columns["i"].to_pylist()
            other.execute("UPDATE t SET i = -1")
            other.execute("DELETE FROM t WHERE rowid > 18")
            other.commit()
            later = list(batches)
        found += [value for batch in later for value in batch.columns["i"].to_pylist()]
        assert found == [None if n == 15 else n for n in range(20)]
        assert [text for batch in later for text in batch.strays.get("i", {}).values()] == [
            odd.decode() if isinstance(odd, bytes) else str(odd)
        ]
