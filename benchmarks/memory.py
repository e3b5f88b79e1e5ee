"""Peak memory of whole runs with large values, wide rows and large look-ups.

    python benchmarks/memory.py [--megabytes 20]

Makes databases `kanal_memory` on PostgreSQL and MariaDB, and drops them. The servers are named by the environment
variables KANAL_TEST_POSTGRESQL and KANAL_TEST_MARIADB, as for the tests.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import sqlalchemy as sa

NAME = "kanal_memory"
POSTGRESQL = sa.make_url(os.environ.get("KANAL_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres"))
MARIADB = sa.make_url(os.environ.get("KANAL_TEST_MARIADB", "mariadb://root@127.0.0.1:3306/"))
ROWS, WIDE, LOOKED_UP = 100, 60_000, 5_000_000
MEASURED = """import resource, subprocess, sys
done = subprocess.run([sys.executable, "-m", "kanal", "run", "job.toml", "--json"], capture_output=True, text=True)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024)
print(done.stdout or done.stderr)"""


def sql(url: sa.URL, *statements: str) -> None:
    """Run statements, each as it is."""
    engine = sa.create_engine(url, poolclass=sa.NullPool, isolation_level="AUTOCOMMIT")
    with engine.connect() as connection:
        for statement in statements:
            connection.exec_driver_sql(statement)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megabytes", type=int, default=20)
    size = parser.parse_args().megabytes
    pg_admin, my_admin = POSTGRESQL.set(drivername="postgresql+psycopg"), MARIADB.set(drivername="mariadb+pymysql")
    pg, my = pg_admin.set(database=NAME), my_admin.set(database=NAME)
    sql(pg_admin, f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}")
    sql(my_admin, f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}")
    columns = ", ".join(f"c{number} integer" for number in range(1_000))
    values = ", ".join(f"i + {number}" for number in range(1_000))
    sql(
        pg,
        "CREATE TABLE big (id integer PRIMARY KEY, note text)",
        "CREATE TABLE big2 (id integer PRIMARY KEY, note text)",
        f"INSERT INTO big SELECT i, repeat(md5(i::text), {size} * 32768) FROM generate_series(1, {ROWS}) AS i",
        f"CREATE TABLE wide (id integer PRIMARY KEY, {columns})",
        f"CREATE TABLE wide2 (id integer PRIMARY KEY, {columns})",
        f"INSERT INTO wide SELECT i, {values} FROM generate_series(1, {WIDE}) AS i",
        "CREATE TABLE look (code bigint PRIMARY KEY, v bigint, name text)",
        f"INSERT INTO look SELECT i, i * 2, 'name ' || i FROM generate_series(1, {LOOKED_UP}) AS i",
        "CREATE TABLE p (id integer PRIMARY KEY, code bigint)",
        "CREATE TABLE p2 (id integer PRIMARY KEY, v bigint, name text)",
        "INSERT INTO p SELECT i, i * 4 FROM generate_series(1, 1000000) AS i",
    )
    sql(my, "CREATE TABLE big (id integer PRIMARY KEY, note longtext)")
    with tempfile.TemporaryDirectory() as folder:
        sql(sa.make_url(f"sqlite:///{folder}/s.db"), "CREATE TABLE big (id integer PRIMARY KEY, note text)")
        shown = [url.set(drivername=kind).render_as_string(hide_password=False)
                 for url, kind in ((pg, "postgresql"), (my, "mariadb"))]  # fmt: skip
        head = f'job = "memory"\n[connection]\npg.url = "{shown[0]}"\nmy.url = "{shown[1]}"\ns.url = "sqlite:///s.db"\n'

        def measure(name: str, source: str, target: str, write: str = "truncate", more: str = "") -> None:
            body = f'[pipeline.t]\nsource = "{source}"\ntarget = "{target}"\nwrite = "{write}"\nkey = "id"\n{more}'
            (Path(folder) / "job.toml").write_text(head + body)
            began = time.perf_counter()
            out = subprocess.run(
                [sys.executable, "-c", MEASURED], cwd=folder, capture_output=True, text=True, check=True
            )
            peak, _, document = out.stdout.partition("\n")
            (step,) = json.loads(document)["steps"]
            assert step["status"] == "succeeded", step["error"]
            print(
                f"{name:44} {peak:>6} MB  {time.perf_counter() - began:6.1f} s  {step['batches']} batches", flush=True
            )

        measure("one row", "pg:p", "s:big", "append", 'limit = 1\ncolumns = { id = "id" }\n')
        measure(f"PostgreSQL to PostgreSQL, rows of {size} MB", "pg:big", "pg:big2")
        measure("the same, merge", "pg:big", "pg:big2", "merge")
        measure("PostgreSQL to SQLite, the same rows", "pg:big", "s:big")
        measure("SQLite to PostgreSQL, the same rows", "s:big", "pg:big2")
        measure(f"PostgreSQL, 1,000 columns, {WIDE:,} rows", "pg:wide", "pg:wide2")
        measure(f"look-up in {LOOKED_UP:,} rows", "pg:p", "pg:p2", more='lookup.l = { table = "pg:look", on = { code = '
                '"code" } }\ncolumns = { id = "id", v = "l.v", name = "l.name" }\n')  # fmt: skip
        # More than its packets hold, MariaDB does not take.
        sql(pg, "UPDATE big SET note = left(note, 10000000)")
        measure("PostgreSQL to MariaDB, rows of 10 MB", "pg:big", "my:big")
        measure("MariaDB to PostgreSQL, the same rows", "my:big", "pg:big2")
    sql(pg_admin, f"DROP DATABASE {NAME} WITH (FORCE)")
    sql(my_admin, f"DROP DATABASE {NAME}")


if __name__ == "__main__":
    main()
