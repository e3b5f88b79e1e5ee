"""Databases that are reached by a general way, and HTTP APIs: Kanal beside the driver, the engine or the service alone.

    python benchmarks/other_databases.py [--rows 1000000] [--runs 3] [--only odbc,duckdb,firebird,api]

The tables of ten columns are those of files.py. `odbc` reads them by each ODBC driver, as Kanal's steps do, and by the
same driver's rows (pyodbc, fetchmany of 10,000). `duckdb` loads a Parquet file into DuckDB by each write rule, beside
DuckDB's own statements, and a table from PostgreSQL and back, beside CSV that each engine writes and reads. `firebird`
loads a tenth of the rows. `api` reads 100,000 rows of the harbour master's register, beside asking for the pages alone.
Each line is one case: medians, and the ratios of pairs that ran one after the other. Servers are those of the tests.
"""

from __future__ import annotations

import argparse
import json
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import duckdb
import pyarrow.csv as pc
import pyarrow.parquet as pq
import sqlalchemy as sa

import kanal
from files import NAMES, TABLE, URL, psql, write
from kanal.connections.kinds import open_connection
from kanal.connections.reading import Reading
from kanal.definition import Connection
from kanal.demo.harbour import TOKEN, harbour
from server_loads import MARIADB

PG = sa.make_url(URL)
BY_ODBC = {
    "PostgreSQL": f"odbc://{PG.username}@/?Driver=PostgreSQL Unicode&Server={PG.host}&Port={PG.port or 5432}"
                  f"&Database={PG.database}",
    "MariaDB": "odbc://root@/?Driver=MariaDB Unicode&Server=127.0.0.1&Database=kanal_bench",
    "SQLite": "odbc:///?Driver=SQLite3&Database={folder}/cards.db",
}  # fmt: skip
KANAL_TYPES = ("id bigint PRIMARY KEY, lock bigint, toll decimal(12,2), draught double precision, voided boolean, "
               "passed timestamp, day date, mark varchar(20), skipper varchar(40), remark varchar(40)")  # fmt: skip


def paired(name: str, runs: int, ours: Callable[[], Any], theirs: Callable[[], Any], says: str) -> None:
    """Run the two ways one after the other, several times, and print medians and ratios."""
    times: list[tuple[float, float]] = []
    for number in range(runs):
        pair = []
        for way in (ours, theirs) if number % 2 == 0 else (theirs, ours):
            started = time.perf_counter()
            way()
            pair.append(time.perf_counter() - started)
        times.append((pair[0], pair[1]) if number % 2 == 0 else (pair[1], pair[0]))
    mine, other = (statistics.median(column) for column in zip(*times, strict=True))
    ratios = sorted(ours / theirs for ours, theirs in times)
    print(f"{name:42} Kanal {mine:6.2f} s, {says} {other:6.2f} s: {statistics.median(ratios):.2f} "
          f"({ratios[0]:.2f} to {ratios[-1]:.2f})", flush=True)  # fmt: skip


def read_all(url: str) -> int:
    """Read the table as Kanal's steps do; how many rows."""
    source: Any = open_connection("old", Connection(url=url), Path.cwd())
    table = source.catalogue.describe(None, "cards")
    rows = 0
    with source.read(Reading(table, None, tuple(NAMES), 50_000)) as batches:
        for batch in batches:
            rows += batch.rows
    source.dispose()
    return rows


def fetch_all(url: str) -> int:
    """Read the table by the driver's rows."""
    import pyodbc

    database: Any = open_connection("old", Connection(url=url), Path.cwd())
    connection = pyodbc.connect(database.text)
    cursor = connection.cursor()
    mark = "`" if "MariaDB" in url else '"'
    cursor.execute(f"SELECT {', '.join(f'{mark}{name}{mark}' for name in NAMES)} FROM cards")
    rows = 0
    while found := cursor.fetchmany(10_000):
        rows += len(found)
    connection.close()
    return rows


def odbc(folder: Path, rows: int, runs: int) -> None:
    psql("DROP TABLE IF EXISTS cards", f"CREATE TABLE cards ({TABLE.replace(' text', ' varchar(40)')})",
         f"\\copy cards FROM '{folder}/cards.csv' CSV HEADER")  # fmt: skip
    admin = sa.create_engine(sa.make_url(MARIADB).set(drivername="mariadb+pymysql"))
    types = KANAL_TYPES.replace("timestamp", "datetime(6)").replace("lock ", "`lock` ")
    with admin.begin() as connection:
        connection.exec_driver_sql("CREATE DATABASE IF NOT EXISTS kanal_bench")
        connection.exec_driver_sql("DROP TABLE IF EXISTS kanal_bench.cards")
        connection.exec_driver_sql(f"CREATE TABLE kanal_bench.cards ({types})")
    with sqlite3.connect(folder / "cards.db") as file:
        file.execute(f"CREATE TABLE IF NOT EXISTS cards ({KANAL_TYPES})")
    maria = sa.make_url(MARIADB).set(drivername="mariadb", database="kanal_bench")
    into = {"maria": maria.render_as_string(hide_password=False), "lite": f"sqlite:///{folder}/cards.db"}
    for name, url in into.items():
        load(folder, f"csv-{name}", f"file:{folder}", "cards.csv", url, "cards")
    for name, text in BY_ODBC.items():
        url = text.format(folder=folder)
        paired(f"reading by ODBC, {name}", runs, lambda url=url: read_all(url), lambda url=url: fetch_all(url),
               "the driver's rows")  # fmt: skip
    with admin.begin() as connection:
        connection.exec_driver_sql("DROP DATABASE kanal_bench")


def load(
    folder: Path, name: str, old: str, source: str, new: str, target: str, more: str = 'write = "truncate"'
) -> None:
    """One load, as a process."""
    path = folder / f"{name}.toml"
    path.write_text(
        f'job = "{name}"\n[connection.old]\nurl = "{old}"\n[connection.new]\nurl = "{new}"\n'
        "[defaults]\nbatch_rows = 100_000\n"
        f'[pipeline.t]\nsource = "old:{source}"\ntarget = "new:{target}"\n{more}\n'
    )
    done = subprocess.run(
        [sys.executable, "-m", "kanal", "run", path.name, "--json"],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise SystemExit(done.stdout + done.stderr)


def in_duckdb(folder: Path, *statements: str) -> None:
    """DuckDB's own statements, as a process."""
    text = "; ".join(statements)
    code = f"import duckdb; c = duckdb.connect({str(folder / 'hand.duckdb')!r}); c.execute({text!r}); c.close()"
    subprocess.run([sys.executable, "-c", code], check=True)


def with_duckdb(folder: Path, rows: int, runs: int) -> None:
    pq.write_table(pc.read_csv(folder / "cards.csv"), folder / "cards.parquet")
    changed = duckdb.sql(f"SELECT * REPLACE (CASE WHEN id % 10 = 0 THEN skipper || ' jr' ELSE skipper END AS skipper) "
                         f"FROM '{folder}/cards.parquet'")  # fmt: skip
    changed.write_parquet(str(folder / "changed.parquet"))
    plain = KANAL_TYPES.replace("bigint PRIMARY KEY", "bigint")

    def fresh(key: bool, filled: bool = False) -> None:
        for name in ("kanal.duckdb", "hand.duckdb"):
            (folder / name).unlink(missing_ok=True)
            with duckdb.connect(str(folder / name)) as connection:
                connection.execute(f"CREATE TABLE cards ({KANAL_TYPES if key else plain})")
                kept = plain.replace("id bigint", "id bigint NOT NULL")
                connection.execute(f"CREATE TABLE kept ({kept}, since timestamp, until timestamp)")
                if filled:
                    connection.execute(f"INSERT INTO cards SELECT * FROM '{folder}/cards.parquet'")

    url, insert = f"duckdb:///{folder}/kanal.duckdb", f"INSERT INTO cards SELECT * FROM '{folder}/cards.parquet'"
    merge = (f"INSERT INTO cards SELECT * FROM '{folder}/changed.parquet' ON CONFLICT (id) DO UPDATE SET "
             + ", ".join(f"{name} = excluded.{name}" for name in NAMES[1:]))  # fmt: skip
    cases = [
        ("Parquet to DuckDB, append", "cards.parquet", "cards", 'write = "append"', False, False, (insert,)),
        ("Parquet to DuckDB, append, with a key", "cards.parquet", "cards", 'write = "append"', True, False, (insert,)),
        ("Parquet to DuckDB, truncate", "cards.parquet", "cards", 'write = "truncate"', False, True,
         ("BEGIN", "DELETE FROM cards", insert, "COMMIT")),
        ("Parquet to DuckDB, merge, a tenth changed", "changed.parquet", "cards", 'write = "merge"\nkey = "id"',
         True, True, (merge,)),
        ("Parquet to DuckDB, history", "cards.parquet", "kept",
         'write = "history"\nkey = "id"\nhistory = { from = "since", until = "until" }', False, False,
         (f"INSERT INTO kept SELECT *, current_timestamp, NULL FROM '{folder}/cards.parquet'",)),
    ]  # fmt: skip
    for name, source, target, more, key, filled, statements in cases:
        times = []
        for _ in range(runs):
            fresh(key, filled)
            started = time.perf_counter()
            load(folder, "into-duckdb", f"file:{folder}", source, url, target, more)
            middle = time.perf_counter()
            in_duckdb(folder, *statements)
            ours, theirs = middle - started, time.perf_counter() - middle
            times.append((ours, step_seconds(folder), theirs))
        mine, step, other = (statistics.median(column) for column in zip(*times, strict=True))
        print(f"{name:42} Kanal {mine:6.2f} s, the step {step:.2f} s, DuckDB {other:6.2f} s: {mine / other:.2f}, "
              f"the step {step / other:.2f}", flush=True)  # fmt: skip
    fresh(False)
    psql("DROP TABLE IF EXISTS cards", "DROP TABLE IF EXISTS back", f"CREATE TABLE cards ({TABLE})",
         f"CREATE TABLE back ({TABLE})", f"\\copy cards FROM '{folder}/cards.csv' CSV HEADER")  # fmt: skip

    def out_by_hand() -> None:
        psql(f"\\copy cards TO '{folder}/out.csv' CSV HEADER")
        in_duckdb(folder, "DELETE FROM cards", f"INSERT INTO cards SELECT * FROM read_csv('{folder}/out.csv')")

    def back_by_hand() -> None:
        in_duckdb(folder, f"COPY cards TO '{folder}/back.csv' (HEADER)")
        psql("TRUNCATE back", f"\\copy back FROM '{folder}/back.csv' CSV HEADER")

    paired(
        "PostgreSQL to DuckDB", runs, lambda: load(folder, "pg-duckdb", URL, "cards", url, "cards"), out_by_hand, "CSV"
    )
    paired(
        "DuckDB to PostgreSQL", runs, lambda: load(folder, "duckdb-pg", url, "cards", URL, "back"), back_by_hand, "CSV"
    )
    psql("DROP TABLE cards", "DROP TABLE back")


def step_seconds(folder: Path) -> float:
    """The seconds of the newest run's step."""
    with sqlite3.connect(folder / "kanal-runs.db") as log:
        (row,) = log.execute("SELECT seconds FROM kanal_step ORDER BY run DESC LIMIT 1")
    return float(row[0])


def firebird(folder: Path, rows: int, runs: int) -> None:
    given = os.environ.get("KANAL_TEST_FIREBIRD")
    if not given:
        print("firebird: KANAL_TEST_FIREBIRD names no server")
        return
    from firebird.driver import connect, create_database

    url = sa.make_url(given)
    file = f"{url.database}/kanal_bench.fdb"
    place, access = f"{url.host}/{url.port or 3050}:{file}", {"user": url.username, "password": url.password}
    create_database(place, **access, charset="UTF8", overwrite=True).close()
    few = rows // 10
    write(folder / "few.csv", few, False)
    types = KANAL_TYPES.replace("decimal", "numeric").replace("day date", '"day" date').replace("passed", "passed")
    with connect(place, **access, charset="UTF8") as connection:
        connection.cursor().execute(
            f"CREATE TABLE cards ({types.replace('bigint PRIMARY KEY', 'bigint NOT NULL PRIMARY KEY')})"
        )
        connection.commit()
        target = url.set(database=file).render_as_string(hide_password=False)

        def by_hand() -> None:
            rows = [(int(a), int(b), c, float(d), e == "true", f, g, *rest)
                    for a, b, c, d, e, f, g, *rest in (line.split(",") for line in
                                                       (folder / "few.csv").read_text().splitlines()[1:])]  # fmt: skip
            cursor = connection.cursor()
            cursor.execute("DELETE FROM cards")
            cursor.executemany(f"INSERT INTO cards VALUES ({', '.join('?' * 10)})", rows)
            connection.commit()

        name = f"CSV to Firebird, {few:,} rows"
        paired(
            name, runs, lambda: load(folder, "fb", f"file:{folder}", "few.csv", target, "CARDS"), by_hand, "executemany"
        )
    connect(place, **access).drop_database()


def api(folder: Path, rows: int, runs: int) -> None:
    import httpx

    del rows
    os.environ["HARBOUR_TOKEN"] = TOKEN
    with harbour(100_000) as server:
        text = f"""job = "api"
[connection.harbour]
url = "{server.url}"
password = {{ env = "HARBOUR_TOKEN" }}
sign_in = "bearer"
[connection.harbour.resource.vessel]
path = "vessels"
rows = "/items"
next = {{ page = "page", size = 1000 }}
fields = {{ mark = "text", name = "text", tonnage = "decimal(9,2)", changed_at = "timestamp with time zone" }}
[connection.new]
url = "sqlite:///{folder}/api.db"
[pipeline.t]
source = "harbour:vessel"
target = "new:t"
write = "truncate"
create = "missing"
"""
        (folder / "api.toml").write_text(text)

        def pages() -> None:
            with httpx.Client(headers={"Authorization": f"Bearer {TOKEN}"}) as client:
                for page in range(1, 101):
                    json.loads(client.get(f"{server.url}/vessels", params={"page": page, "limit": 1000}).content)

        paired(
            "API of 100,000 rows to SQLite",
            runs,
            lambda: kanal.Job.read(folder / "api.toml").run(),
            pages,
            "pages alone",
        )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--only", default="odbc,duckdb,firebird,api")
    chosen = parser.parse_args()
    ways = {"odbc": odbc, "duckdb": with_duckdb, "firebird": firebird, "api": api}
    with tempfile.TemporaryDirectory() as folder:
        write(Path(folder) / "cards.csv", chosen.rows, False)
        for name in chosen.only.split(","):
            ways[name](Path(folder), chosen.rows, chosen.runs)


if __name__ == "__main__":
    main()
