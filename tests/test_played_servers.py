"""Servers that cannot run here, played by a driver for tests: all that Kanal says to them, and that it comes right."""

from __future__ import annotations

import random
import sys
from pathlib import Path
from typing import Any

import pytest
import sqlglot

pytest.importorskip("duckdb")

from conftest import Place
from kanal.connections.sql.odbc import Odbc
from played_server import READS, Server
from test_more_databases import in_milliseconds
from test_runs import counts
from test_servers import TYPES, Places, job, row_of_types, succeeded

KINDS = ["oracle", "tsql", "db2", "unknown"]


@pytest.fixture(params=KINDS)
def server(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Server:
    made = Server(request.param)
    monkeypatch.setitem(sys.modules, "pyodbc", made.module)
    monkeypatch.setattr(Odbc, "can_read_columns", False)  # which is the driver manager's own way
    return made


def place(server: Server, tmp_path: Path) -> Place:
    made = Place("sqlite", f"sqlite:///{tmp_path / 'none.db'}")
    made.url = "odbc:///?Driver=Played"
    return made


def test_each_write_rule_and_all_that_is_said(server: Server, places: Places, tmp_path: Path) -> None:
    old, new = places("sqlite"), place(server, tmp_path)
    old.sql(
        "CREATE TABLE v (mark varchar(9) PRIMARY KEY, name varchar(20), tons decimal(9,2), seen timestamp, n integer)"
    )
    rows = [(f"M{n}", f"Linde {n}", f"{n}.25", "2025-01-02 03:04:05", n) for n in range(250)]
    with old.engine.begin() as connection:
        connection.exec_driver_sql("INSERT INTO v VALUES (?, ?, ?, ?, ?)", rows)
    body = """
        [defaults]
        create = "missing"
        batch_rows = 100
        [pipeline.v]
        source = "old:v"
        target = "new:v"
        write = "{write}"
        key = "mark"
        {more}
    """
    for write, more in (("append", ""), ("truncate", ""), ("merge", 'missing = "delete"')):
        run = succeeded(job(tmp_path, body.format(write=write, more=more), old=old, new=new).run())
        expected = {"read": 250, "inserted": 250} if write != "merge" else {"read": 250, "unchanged": 250}
        assert counts(run["v"]) == expected | ({"deleted": 250} if write == "truncate" else {})
    old.sql("UPDATE v SET name = 'Ploeg' WHERE n < 10", "DELETE FROM v WHERE n >= 240",
            "INSERT INTO v VALUES ('X', 'new', 1, NULL, 1)")  # fmt: skip
    merging = job(tmp_path, body.format(write="merge", more='missing = "delete"'), old=old, new=new)
    run = succeeded(merging.run())
    assert counts(run["v"]) == {"read": 241, "inserted": 1, "updated": 10, "unchanged": 230, "deleted": 10}
    (compared,) = merging.compare()
    assert (compared.missing, compared.extra, compared.differing, compared.error) == (0, 0, 0, None)
    sample = server.base.execute(
        "SELECT name, n, CAST(tons AS VARCHAR) FROM v WHERE n IN (9, 239) ORDER BY n"
    ).fetchall()
    assert [(name, int(n), float(tons)) for name, n, tons in sample] == [("Ploeg", 9, 9.25), ("Linde 239", 239, 239.25)]
    for sql in server.asked:  # all of it is the server's own SQL
        if READS[server.kind] and not sql.startswith(("ALTER SESSION", "CREATE PRIVATE", "SET ")):
            sqlglot.parse_one(sql, read=READS[server.kind])
    said = " ".join(" ".join(sql.split()) for sql in server.asked)
    for part in SAID[server.kind]:
        assert part in said, part


SAID = {
    "oracle": [
        '"tons" NUMBER(9,2)', '"mark" VARCHAR2(9 CHAR) NOT NULL', "TIMESTAMP(6)", "ALTER SESSION SET NLS_TIMESTAMP_FORMAT",
        'CREATE PRIVATE TEMPORARY TABLE "ORA$PTT_kanal_stage" ON COMMIT DROP DEFINITION AS SELECT',
        'MERGE INTO "v" USING "ORA$PTT_kanal_stage" ON ("v"."mark" = "ORA$PTT_kanal_stage"."mark") WHEN MATCHED THEN UPDATE SET',
        "to_char(\"v\".\"tons\", 'TM9')",
    ],
    "tsql": [
        '"mark" NVARCHAR(9) NOT NULL', '"seen" DATETIME2(6)', "SELECT * INTO [#kanal_stage] FROM (SELECT",
        'UPDATE "v" SET', 'FROM "v", "#kanal_stage"', "convert(varchar(40), \"v\".\"seen\", 121)", "SET DATEFORMAT ymd",
    ],
    "db2": [
        '"mark" VARCHAR(36) NOT NULL', 'DECLARE GLOBAL TEMPORARY TABLE SESSION."kanal_stage" AS (SELECT',
        "DEFINITION ONLY ON COMMIT PRESERVE ROWS NOT LOGGED", 'MERGE INTO "v" USING "SESSION"."kanal_stage"',
        "WHEN MATCHED AND",
    ],
    "unknown": ['CREATE TEMPORARY TABLE kanal_stage AS SELECT', 'MERGE INTO "v" USING "kanal_stage"'],
}  # fmt: skip


def test_what_it_would_bend_is_rejected(server: Server, places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), place(server, tmp_path)
    old.sql(f"CREATE TABLE t ({TYPES['postgresql']})")
    chance = random.Random(3)
    rows: list[Any] = [tuple(map(in_milliseconds, row_of_types(number, chance))) for number in range(120)]
    with old.engine.begin() as connection:
        connection.exec_driver_sql(f"INSERT INTO t VALUES ({', '.join(['%s'] * 16)})", rows)
    body = (
        '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nsame = "*"\ncreate = "missing"\nwrite = "merge"\nkey = "id"'
    )
    made = job(tmp_path, body, old=old, new=new)
    run = succeeded(made.run())
    rejected = {(reject["column"], reject["reason"]) for reject in run["t"].rejects().to_pylist()}
    assert rejected <= {"oracle": {("s", "bad_text"), ("v", "bad_text")}}.get(server.kind, set())
    assert counts(run["t"])["inserted"] >= 100
    (compared,) = made.compare()
    assert (compared.missing, compared.extra, compared.differing, compared.error) == (0, 0, 0, None)


@pytest.mark.parametrize("write", ["append", "merge"])
def test_a_column_that_numbers_rows_takes_given_values(
    monkeypatch: pytest.MonkeyPatch, places: Places, tmp_path: Path, write: str
) -> None:
    """By every way that rows go in: Transact-SQL must be told so before each INSERT, and only for one table at a time."""
    server = Server("tsql")
    monkeypatch.setitem(sys.modules, "pyodbc", server.module)
    server.base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v VARCHAR)")
    server.declared["t"], server.keys["t"] = [("id", "int identity", False), ("v", "nvarchar(9)", True)], ["id"]
    old, new = places("sqlite"), place(server, tmp_path)
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, v text)", "INSERT INTO t VALUES (7, 'a'), (9, 'b')")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "id"\ngenerated = "keep"'
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert counts(run["t"]) == {"read": 2, "inserted": 2}
    inserts = [place for place, sql in enumerate(server.asked) if sql.startswith('INSERT INTO "t"')]
    assert inserts
    for place_of in inserts:
        assert server.asked[place_of - 1] == 'SET IDENTITY_INSERT "t" ON'
        assert server.asked[place_of + 1] == 'SET IDENTITY_INSERT "t" OFF'
