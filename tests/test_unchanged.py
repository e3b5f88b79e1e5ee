"""A column that is mapped to one of the same type, in a database of the same kind, keeps every value that it can hold."""

from __future__ import annotations

import sqlite3
import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import forking
from conftest import Cli, Files, Place, document
from test_resume import DIES_IN_BATCH
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
#: By kind: the columns, and rows with extreme values from the manuals of the databases.
TABLES: dict[str, tuple[str, tuple[str, ...]]] = {
    "postgresql": (
        """n numeric, m numeric(12,3), day date, at timestamp, z timestamptz, fine timestamp(3), clock time, d double precision, r real,
        j json, b jsonb, u uuid, i interval, a timestamp[], s text""",
        (
            "'NaN', 'NaN', 'infinity', 'infinity', 'infinity', '-infinity', '24:00', 'NaN', '-0', '{\"a\":1,\"a\":2}', '{\"b\": 1.10}', "
            "'7b0e4a52-0000-0000-0000-000000000001', '-178000000 years', '{infinity,NULL}', 'x'",
            f"'{'9' * 60}.{'7' * 40}', -1.5, '-infinity', '-infinity', '-infinity', 'infinity', '00:00', 'Infinity', 'NaN', '[1e400]', '1e400', "
            "NULL, '1 mon -3 days 00:00:00.000001', '{}', ''",
            "'Infinity', 999999999.999, '4713-01-01 BC', '4713-01-01 00:00:00.000001 BC', '4713-01-01 BC', '0044-03-15 10:00:00.123 BC', "
            "'23:59:59.999999', '-Infinity', 3.4e38, NULL, 'null', NULL, NULL, NULL, NULL",
            "0.00, 0, '5874897-12-31', '294276-12-31 23:59:59.999999', '294276-12-31 23:59:59.999999', '10000-01-01', '12:00', 5e-324, 1e-45, "
            "' {} ', '{}', 'ffffffff-ffff-ffff-ffff-ffffffffffff', '0', '{2026-01-01}', E'\\\\N\\t\\\\'",
        ),
    ),
    "mariadb": (
        """day date, at datetime(6), z timestamp(3) NULL, clock time(6), y year, n decimal(65,30), d double, f float, flag tinyint(1),
        j json, e enum('','a'), bits bit(64), u bigint unsigned, s longtext""",
        (
            "'0000-00-00', '0000-00-00', '0000-00-00', '-838:59:59.999999', 0, -99999999999999999999999999999999999.999999999999999999999999999999, "
            "1.7976931348623157e308, 3.4e38, 127, '{\"a\": 1, \"a\": 2}', 'a', b'1111111111111111111111111111111111111111111111111111111111111111', "
            "18446744073709551615, 'x'",
            "'2020-02-00', '2020-02-00 10:00:00.5', '1970-01-01 00:00:01', '838:59:59.999999', 2155, 0, 5e-324, 1e-38, -128, '[]', '', b'0', 0, ''",
            "'2021-02-31', '2021-02-31 23:59:59.999999', '2038-01-19 03:14:07.999', '-800:10:10', 1901, 1, -1.5, 0.1, 2, 'null', NULL, NULL, NULL, NULL",
            "'9999-12-31', '9999-12-31 23:59:59.999999', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, '\\\\N\t'",
        ),
    ),
    "duckdb": (
        """day DATE, moment TIMESTAMP, z TIMESTAMPTZ, s TIMESTAMP_S, n TIMESTAMP_NS, clock TIME, h HUGEINT, u UHUGEINT, d DOUBLE, f FLOAT, x DECIMAL(38,10),
        i INTERVAL, j JSON, b BIT, l DATE[], g BLOB""",
        (
            "'infinity', 'infinity', '-infinity', '1999-01-01', '2000-01-01 00:00:00.123456789', '00:00', "
            "-170141183460469231731687303715884105728, 340282366920938463463374607431768211455, 'nan', '-0', 1, INTERVAL '-3 months 2 days', "
            "'{\"a\":1, \"a\":2}', '101', ['infinity', NULL], '\\x00\\xFF'",
            "'5877642-06-25 (BC)', '290309-12-22 (BC)', '290309-12-22 (BC) 00:00:00+00', '290000-01-01', NULL, '23:59:59.999999', 0, 0, 'infinity', "
            "'-infinity', -9999999999999999999999999999.9999999999, NULL, '[1e400]', NULL, [], ''",
            "'5881580-07-10', '294247-01-10 04:00:54.775806', '0044-03-15 (BC) 10:00:00.5+00', NULL, NULL, NULL, NULL, NULL, 5e-324, NULL, NULL, NULL, "
            "NULL, NULL, NULL, NULL",
            "'-infinity', '0001-01-01 (BC)', '10000-01-01 00:00:00+00', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL",
        ),
    ),
    "sqlite": (
        "i INTEGER, s TEXT, r REAL, n NUMERIC, m DECIMAL(9,2), w DECIMAL(30,4), day DATE, at TIMESTAMP, flag BOOLEAN, b BLOB, j JSON, u UUID",
        (
            "'seven', x'ff00', 'x', 'y', 0.1 + 0.2, 1.0 / 3, 5, 2460310.1234567891, 7, 1, '{\"a\":1, \"a\":2}', 'x'",
            "1.5, 'a' || char(0) || 'b', 1e308 * 10, 9007199254740993, 'abc', '1', '2024-1-5', 'infinity', 'yes', 1.0, 5, x''",
            "x'00', CAST(x'ff' AS TEXT), -1e-300, x'01', 1234567890123456789, x'', '0000-00-00', -1, NULL, 'text', x'7b7d', NULL",
            "9223372036854775807, '', 0.1 + 0.2, 0.1 + 0.2, NULL, 1e300, '24:00', '', 1.5, x'00ff', NULL, '7B0E4A52-0000-0000-0000-000000000001'",
        ),
    ),
}  # fmt: skip
BODY = """[pipeline.t]
source = "old:t"
target = "new:t"
write = "{write}"
commit = "{commit}"
batch_rows = 3
{more}
"""


def filled(places: Places, kind: str) -> tuple[Place, Place]:
    """A table with extreme values, five times each, and an empty one of the same columns elsewhere."""
    old, new = places(kind), places(kind)
    columns, rows = TABLES[kind]
    for place in (old, new):
        place.sql(f"CREATE TABLE t (id integer PRIMARY KEY, {columns})")
    first = ["SET sql_mode = 'ALLOW_INVALID_DATES'"] if kind == "mariadb" else []
    old.sql(
        *first, *(f"INSERT INTO t VALUES ({number}, {rows[number % len(rows)]})" for number in range(5 * len(rows)))
    )
    return old, new


def shown(place: Place, query: str = "SELECT * FROM t ORDER BY id") -> list[Any]:
    """The rows as the database itself shows them."""
    if place.kind == "postgresql":
        return place.rows("SELECT CAST(t AS text) FROM t ORDER BY id")
    columns, _ = TABLES[place.kind]
    names = ["id", *(part.split()[0] for part in columns.replace("\n", " ").split(", ") if part.split()[0].isalpha())]
    form = {"mariadb": "HEX(CAST({0} AS CHAR))", "duckdb": "CAST({0} AS VARCHAR)"}
    form["sqlite"] = "typeof({0}) || CASE typeof({0}) WHEN 'real' THEN quote({0}) ELSE hex(CAST({0} AS BLOB)) END"
    return place.rows(f"SELECT {', '.join(form[place.kind].format(name) for name in names)} FROM t ORDER BY id")


@pytest.mark.parametrize("commit", ["step", "batch", "job"])
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
@pytest.mark.parametrize("kind", TABLES)
def test_every_value_arrives(places: Places, tmp_path: Path, kind: str, write: str, commit: str) -> None:
    old, new = filled(places, kind)
    copy = job(tmp_path, BODY.format(write=write, commit=commit, more='key = "id"'), old=old, new=new)
    run = succeeded(copy.run())
    assert run["t"].tally.rejected == 0, run["t"].rejects()
    assert shown(new) == shown(old)
    (compared,) = copy.compare()
    assert (compared.missing, compared.extra, compared.differing, compared.same) == (0, 0, 0, run["t"].tally.read)
    if write != "append":
        again = counts(succeeded(copy.run())["t"])
        assert write == "truncate" or again["unchanged"] == again["read"]
        assert shown(new) == shown(old)


CHANGES = {
    "postgresql": ("at = '0044-03-15 BC' WHERE at = 'infinity'", 5), "mariadb": ("day = '2021-02-30' WHERE day = '2021-02-31'", 5),
    "duckdb": ("day = '0044-03-15 (BC)' WHERE day = 'infinity'", 5), "sqlite": ("i = 'eight' WHERE i = 'seven'", 5),
}  # fmt: skip


@pytest.mark.parametrize("kind", TABLES)
def test_a_difference_of_such_values_is_found(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = filled(places, kind)
    copy = job(tmp_path, BODY.format(write="truncate", commit="step", more='key = "id"'), old=old, new=new)
    succeeded(copy.run())
    change, rows = CHANGES[kind]
    new.sql(*(["SET sql_mode = 'ALLOW_INVALID_DATES'"] if kind == "mariadb" else []), f"UPDATE t SET {change}")
    (compared,) = copy.compare()
    assert (compared.missing, compared.extra, compared.differing) == (0, 0, rows)
    assert all(len(example.values) == 1 for example in compared.examples)


@pytest.mark.parametrize("kind", TABLES)
def test_a_run_that_dies_between_batches_goes_on(places: Places, files: Files, cli: Cli, kind: str) -> None:
    old, new = filled(places, kind)
    more = 'order_by = "id"'
    job(files.folder, BODY.format(write="append", commit="batch", more=more), old=old, new=new)
    outcome = forking.run([sys.executable, "-c", DIES_IN_BATCH, "after"], cwd=files.folder, timeout=120)
    assert outcome.returncode == 9, outcome
    assert 0 < len(shown(new)) < len(shown(old))
    assert document(cli("resume", "--json"))["steps"][0]["rejected"] == 0
    assert shown(new) == shown(old)


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.parametrize("write", ["truncate", "merge"])
def test_ranges_bring_the_same_rows(places: Places, tmp_path: Path, kind: str, write: str) -> None:
    old, new = filled(places, kind)
    copy = job(tmp_path, BODY.format(write=write, commit="step", more='key = "id"\nsplit = 3'), old=old, new=new)
    with ProcessPoolExecutor(2) as pool:
        for executor in (None, pool):
            run = succeeded(copy.run(executor=executor))
            assert (run["t"].tally.read, run["t"].tally.rejected) == (20, 0)
            assert shown(new) == shown(old)


#: By kind, columns whose values a table refuses at first.
REFUSED = {"postgresql": "at < 'infinity'", "mariadb": "y <> 0", "sqlite": "i <> 'seven'"}


@pytest.mark.parametrize("kind", REFUSED)
def test_rows_that_were_refused_are_loaded_again_unchanged(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = filled(places, kind)
    new.sql("DROP TABLE t", f"CREATE TABLE t (id integer PRIMARY KEY, {TABLES[kind][0]}, CHECK ({REFUSED[kind]}))")
    copy = job(tmp_path, BODY.format(write="append", commit="step", more=""), old=old, new=new)
    run = succeeded(copy.run())
    assert (run["t"].tally.rejected, run["t"].tally.inserted) == (5, 15)
    assert set(run["t"].rejects()["reason"].to_pylist()) == {"refused_by_target"}
    new.sql("CREATE TABLE n AS SELECT * FROM t", "DROP TABLE t", f"CREATE TABLE t (id integer PRIMARY KEY, {TABLES[kind][0]})",
            *(["SET sql_mode = 'ALLOW_INVALID_DATES'"] if kind == "mariadb" else []), "INSERT INTO t SELECT * FROM n")  # fmt: skip
    succeeded(copy.replay(1))
    assert shown(new) == shown(old)


def test_a_default_fills_what_is_missing_and_leaves_the_rest(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    for place in (old, new):
        place.sql("CREATE TABLE t (id integer PRIMARY KEY, at timestamp, n numeric)")
    old.sql("INSERT INTO t VALUES (1, 'infinity', NULL), (2, NULL, 'NaN'), (3, '2026-01-01', 1.50)")
    columns = (
        "columns = { id = 'id', at = { from = 'at', default = 2026-02-03T04:05:06 }, n = { from = 'n', default = 7 } }"
    )
    succeeded(job(tmp_path, BODY.format(write="append", commit="step", more=columns), old=old, new=new).run())
    assert new.rows("SELECT id, at::text, n::text FROM t ORDER BY id") == [
        (1, "infinity", "7"), (2, "2026-02-03 04:05:06", "NaN"), (3, "2026-01-01 00:00:00", "1.50")
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("more", "left"),
    [
        ("where = \"at > '2000-01-01'\"", [3]),
        ("checks = ['late']\n[check.late]\nexpect = \"at > '2000-01-01'\"", [3]),
        ("columns = { id = 'id', at = { from = 'at', type = 'timestamp' } }", [3]),
        ("key = 'at'\nduplicates = 'reject'", [3]),
        ("", [1, 2, 3]),
    ],
)
def test_what_looks_at_a_value_has_to_understand_it(places: Places, tmp_path: Path, more: str, left: list[int]) -> None:
    old, new = places("postgresql"), places("postgresql")
    for place in (old, new):
        place.sql("CREATE TABLE t (id integer PRIMARY KEY, at timestamp NOT NULL)")
    old.sql("INSERT INTO t VALUES (1, 'infinity'), (2, '0044-03-15 BC'), (3, '2026-01-01')")
    run = succeeded(job(tmp_path, BODY.format(write="append", commit="step", more=more), old=old, new=new).run())
    assert [row[0] for row in new.rows("SELECT id FROM t ORDER BY id")] == left
    assert set(run["t"].rejects()["value"].to_pylist()) <= {"infinity", "0044-03-15 00:00:00 BC"}


VALUES = st.one_of(
    st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False), st.text(st.characters(codec="utf-8"), max_size=9),
    st.binary(max_size=9),
)  # fmt: skip
DECLARED = [
    "INTEGER",
    "TEXT",
    "VARCHAR(9)",
    "REAL",
    "NUMERIC(9,2)",
    "DECIMAL(30,4)",
    "DATE",
    "BOOLEAN",
    "BLOB",
    "TIMESTAMP",
]


@given(st.data(), st.lists(st.sampled_from(DECLARED), min_size=1, max_size=4))
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_value_of_sqlite_arrives_in_its_storage_class(
    places: Places, tmp_path: Path, data: st.DataObject, declared: list[str]
) -> None:
    old, new = places("sqlite"), places("sqlite")
    columns = ", ".join(f"c{place} {kind}" for place, kind in enumerate(declared))
    rows = data.draw(st.lists(st.tuples(*[VALUES] * len(declared)), min_size=1, max_size=12))
    for place in (old, new):
        place.sql("DROP TABLE IF EXISTS t", f"CREATE TABLE t (id INTEGER PRIMARY KEY, {columns})")
    with sqlite3.connect(old.url.removeprefix("sqlite:///")) as connection:
        marks = ", ".join("?" * len(declared))
        connection.executemany(f"INSERT INTO t VALUES (NULL, {marks})", rows)
    connection.close()
    copy = job(tmp_path, BODY.format(write="truncate", commit="step", more=""), old=old, new=new)
    run = succeeded(copy.run())
    assert run["t"].tally.rejected == 0, run["t"].rejects()
    asked = ", ".join(f"typeof(c{place}), quote(c{place})" for place in range(len(declared)))
    assert new.rows(f"SELECT id, {asked} FROM t ORDER BY id") == old.rows(f"SELECT id, {asked} FROM t ORDER BY id")
