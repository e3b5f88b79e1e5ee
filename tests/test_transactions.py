"""A load is one transaction: what fails leaves the target unchanged, and no statement within it commits."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa

from conftest import MARIADB, Place
from test_servers import job

Places = Callable[[str], Place]

WRITES = {
    "append": 'write = "append"',
    "truncate": 'write = "truncate"',
    "merge": 'write = "merge"',
    "merge and delete": 'write = "merge"\nmissing = "delete"\nmax_deletes = "100%"',
    "history": 'write = "history"\nhistory = { from = "since", until = "ended" }\nskip = ["n"]',
}
#: MariaDB's manual, "SQL statements That Cause an Implicit Commit"; those of temporary tables do not, but CREATE INDEX.
COMMITS = re.compile(
    r"(?!CREATE (OR REPLACE )?TEMPORARY TABLE|DROP TEMPORARY)"
    r"(ALTER|CREATE|DROP|TRUNCATE|RENAME|ANALYZE|LOCK|GRANT|FLUSH|OPTIMIZE|BEGIN|START TRANSACTION)\b",
    re.IGNORECASE,
)


@pytest.mark.parametrize("write", WRITES)
@pytest.mark.parametrize(
    "kind", ["sqlite", "postgresql", "mariadb", "firebird", "duckdb", "odbc-postgresql", "odbc-mariadb", "odbc-sqlite"]
)
def test_a_load_that_fails_leaves_the_target_unchanged(places: Places, tmp_path: Path, kind: str, write: str) -> None:
    old, new = places("sqlite"), places(kind)
    moment = {"mariadb": "datetime(6)"}.get(new.kind, "timestamp")
    versions = f", since {moment} NOT NULL, ended {moment}" if write == "history" else ", n integer"
    begun = ", '2020-01-01 00:00:00', NULL" if write == "history" else ", 7"
    key = "k, since" if write == "history" else "k"
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v varchar(20), n text)",
            "INSERT INTO s VALUES (1, 'one', 1), (2, 'two', 2), (5, 'x', 'a'), (6, NULL, 'b')")  # fmt: skip
    new.sql(f"CREATE TABLE t (k integer NOT NULL, v varchar(20) NOT NULL{versions}, PRIMARY KEY ({key}))")
    new.sql(*(f"INSERT INTO t VALUES ({k}, 'old'{begun})" for k in ((11, 12) if write == "append" else (1, 9))))
    before = new.rows("SELECT * FROM t ORDER BY k")
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nkey = "k"\nreject = "all"\n{WRITES[write]}'
    run = job(tmp_path, body, old=old, new=new).run()
    assert "rows do not fit" in str(run["t"].error)
    assert new.rows("SELECT * FROM t ORDER BY k") == before


@pytest.fixture
def statements() -> Iterator[Callable[[str], dict[int, list[str]]]]:
    """The statements that MariaDB has executed for a database, by session."""
    engine = Place("mariadb", MARIADB).engine
    with engine.connect() as connection:
        try:
            connection.exec_driver_sql("SET GLOBAL log_output = 'TABLE'")
            connection.exec_driver_sql("SET GLOBAL general_log = 'ON'")
        except sa.exc.SQLAlchemyError as error:
            pytest.skip(f"the server keeps no log of statements: {error}")

        def found(database: str) -> dict[int, list[str]]:
            rows = connection.execute(
                sa.text("SELECT thread_id, CONVERT(argument USING utf8mb4) FROM mysql.general_log ORDER BY event_time")
            ).all()
            threads = {thread for thread, said in rows if database in said}
            logged: dict[int, list[str]] = {thread: [] for thread in threads}
            for thread, said in rows:
                if thread in threads:
                    logged[thread].append(said.strip())
            return logged

        yield found
        connection.exec_driver_sql("SET GLOBAL general_log = 'OFF'")


def test_no_statement_of_a_load_commits_by_itself(
    places: Places, tmp_path: Path, statements: Callable[[str], dict[int, list[str]]]
) -> None:
    for kind, write in itertools.product(["mariadb", "odbc-mariadb"], WRITES):
        old, new = places("sqlite"), places(kind)
        versions = ", since datetime(6) NOT NULL, ended datetime(6)" if write == "history" else ", n integer"
        old.sql("CREATE TABLE s (k integer PRIMARY KEY, v text, n integer)",
                "INSERT INTO s VALUES (1, 'a', 1), (2, 'b', 2)")  # fmt: skip
        key = "k, since" if write == "history" else "k"
        new.sql(f"CREATE TABLE t (k integer, v text{versions}, PRIMARY KEY ({key}))")
        body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nkey = "k"\n{WRITES[write]}'
        assert job(tmp_path, body, old=old, new=new).run()["t"].error is None
        url, wrote = sa.make_url(new.url), 0
        for logged in statements(str(url.database or url.query["Database"])).values():
            within = False
            for said in logged:
                if re.match(r"(COMMIT|ROLLBACK)\b(?! TO)", said, re.IGNORECASE):
                    within = False
                assert not (within and COMMITS.match(said)), (kind, write, said)
                if re.match(r"(INSERT|UPDATE|DELETE|LOAD)\b", said, re.IGNORECASE):
                    within, wrote = True, wrote + 1
        assert wrote, (kind, write)
