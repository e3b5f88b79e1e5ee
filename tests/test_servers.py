"""The way that works for any dialect of SQLAlchemy, held to a real server: SQLite to PostgreSQL and back."""

from __future__ import annotations

from typing import Any

import kanal
from conftest import Files
from test_runs import counts

TABLE = """(no varchar(12) PRIMARY KEY, n smallint NOT NULL CHECK (n <> 13), big bigint, toll decimal(9,2),
    ratio double precision, ok boolean, day date, at timestamp, z timestamp with time zone, note text, "odd Name" text)"""
ROW = (9007199254740993, 1234567.89, 0.1, 1, "2024-02-29", "2025-01-31 10:15:30.123456", "2025-07-01 10:00:00+00:00",
       "tab\t, quote ' and \\N\nline 😀", "'); DROP TABLE there; --")  # fmt: skip


def test_sqlite_to_postgresql_and_back(postgresql: Any, files: Files) -> None:
    postgresql.execute(f"CREATE TABLE there {TABLE}")
    loose = TABLE.replace("PRIMARY KEY", "").replace("NOT NULL CHECK (n <> 13)", "")
    rows = [(f"P{n}", n, *ROW) for n in range(40)] + [
        ("P99", 40_000, *ROW),
        ("P1", 1, *ROW),
        ("N", 7, *[None] * len(ROW)),
    ]
    files.database("old.db", f"CREATE TABLE t {loose}", t=rows)
    files.database("new.db", f"CREATE TABLE t {TABLE}")
    info = postgresql.info
    url = f"postgresql+psycopg://{info.user}@{info.host}:{info.port}/{info.dbname}"
    body = f"""
        [connection.server]
        url = "{url}"
        [defaults]
        batch_rows = 16
        [pipeline.there]
        source = "old:t"
        target = "server:there"
        write = "merge"
        key = "no"
        [pipeline.back]
        source = "server:there"
        target = "new:t"
        write = "truncate"
    """
    job = kanal.Job.read(files.job(body))
    assert job.check() == []
    run = job.run()
    assert [step.error for step in run] == [None, None]
    reasons = sorted(r["reason"] for r in run["there"].rejects().to_pylist())
    assert reasons == ["duplicate_key", "out_of_range", "refused_by_target"]
    assert counts(run["there"]) == {"read": 43, "rejected": 3, "inserted": 40}
    assert counts(run["back"]) == {"read": 40, "inserted": 40}
    expected = sorted(row for row in dict.fromkeys(rows) if row[1] not in (13, 40_000))
    assert sorted(files.rows("new.db", "SELECT * FROM t")) == expected
    postgresql.execute("UPDATE there SET toll = toll + 1, note = NULL WHERE n < 5")
    again = job.run()
    assert counts(again["there"]) == {"read": 43, "rejected": 3, "updated": 5, "unchanged": 35}
    assert sorted(files.rows("new.db", "SELECT * FROM t")) == expected

    files.job(body.replace(f'url = "{url}"', f'url = "{url}_gone"'))
    problems = kanal.Job.read(files.folder / "job.toml").check()
    assert len(problems) == 1
    assert "connection server" in problems[0]
    assert "does not exist" in problems[0]
