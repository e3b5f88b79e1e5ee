"""What the state of target tables costs: refused rows, histories, mirrors. Each way is a process; ways take turns.

    python benchmarks/target_tables.py [--rows 1000000] [--runs 3] [--case refused|history|mirror ...]

Refused rows are loaded beside the same rows when all are good; a history beside `psql` piped to `psql` and the best
SQL that we know; a mirror (`missing = "delete"`) beside the merge without. The servers are named by the variables
KANAL_TEST_POSTGRESQL and KANAL_TEST_MARIADB, as for the tests; a database `kanal_benchmark` is made there, and dropped.
"""

from __future__ import annotations

import argparse
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import sqlalchemy as sa

from server_loads import MARIADB, NAME, POSTGRESQL

RUN = [sys.executable, "-m", "kanal", "run", "job.toml", "--json"]
GATES = [
    "CREATE TABLE reach (no integer PRIMARY KEY)",
    "CREATE TABLE gate (no integer PRIMARY KEY, reach integer, code varchar(20) UNIQUE, width decimal(9,2), "
    "name varchar(40), CONSTRAINT wide CHECK (width > 0), "
    "CONSTRAINT gate_reach FOREIGN KEY (reach) REFERENCES reach (no))",
    "INSERT INTO reach VALUES (1), (2), (3)",
]


def engine(kind: str, folder: Path, database: str | None = NAME) -> sa.Engine:
    if kind == "sqlite":
        return sa.create_engine(f"sqlite:///{folder}/new.db", poolclass=sa.NullPool)
    server, driver = {"postgresql": (POSTGRESQL, "postgresql+psycopg"), "mariadb": (MARIADB, "mariadb+pymysql")}[kind]
    url = sa.make_url(server).set(drivername=driver)
    url = url.set(database=database) if database else url
    return sa.create_engine(url, poolclass=sa.NullPool, isolation_level="AUTOCOMMIT")


@contextmanager
def fresh(kind: str, folder: Path) -> Iterator[sa.Engine]:
    """An empty database."""
    if kind == "sqlite":
        (folder / "new.db").unlink(missing_ok=True)
        yield engine(kind, folder)
        return
    for statement in (f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}"):
        with engine(kind, folder, None).connect() as admin:
            admin.exec_driver_sql(statement)
    made = engine(kind, folder)
    try:
        yield made
    finally:
        made.dispose()
        with engine(kind, folder, None).connect() as admin:
            admin.exec_driver_sql(f"DROP DATABASE {NAME}")


def url_of(kind: str, folder: Path) -> str:
    if kind == "sqlite":
        return f"sqlite:///{folder}/new.db"
    server = POSTGRESQL if kind == "postgresql" else MARIADB
    return sa.make_url(server).set(drivername=kind, database=NAME).render_as_string(hide_password=False)


def execute(made: sa.Engine, *statements: str) -> None:
    with made.begin() as connection:
        for statement in statements:
            connection.execution_options(no_parameters=True).exec_driver_sql(statement)


def timed(command: Callable[[], None]) -> float:
    started = time.perf_counter()
    command()
    return time.perf_counter() - started


def kanal(folder: Path, body: str, old: str, new: str) -> float:
    job = f'job = "benchmark"\n[connection.old]\nurl = "{old}"\n[connection.new]\nurl = "{new}"\n{body}'
    (folder / "job.toml").write_text(job)
    return timed(lambda: subprocess.run(RUN, cwd=folder, check=True, stdout=subprocess.DEVNULL))  # type: ignore[arg-type]


def say(name: str, ways: dict[str, list[float]], over: str, under: str) -> None:
    ratios = sorted(one / other for one, other in zip(ways[over], ways[under], strict=True))
    medians = ", ".join(f"{way} {statistics.median(seconds):.2f} s" for way, seconds in ways.items())
    print(f"{name}: {medians}; {over} / {under} {statistics.median(ratios):.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f})",
          flush=True)  # fmt: skip


def refused(folder: Path, rows: int, runs: int) -> None:
    """2 % of the rows break a foreign key, a unique or a check constraint."""
    for name in ("good", "bad"):
        with sqlite3.connect(folder / f"{name}.db") as made:
            made.execute(
                "CREATE TABLE gate (no integer PRIMARY KEY, reach integer, code text, width decimal(9,2), name text)"
            )
            values = []
            for n in range(rows):
                reach, code, width = 1 + n % 3, f"c{n}", 5
                if name == "bad" and n % 50 == 7:
                    reach, code, width = [(99, code, width), (reach, f"c{n - 1}", width), (reach, code, -1)][
                        n // 50 % 3
                    ]
                values.append((n, reach, code, width, f"gate {n % 100}"))
            made.executemany("INSERT INTO gate VALUES (?, ?, ?, ?, ?)", values)
    for kind in ("postgresql", "mariadb", "sqlite"):
        for write in ("append", "merge"):
            ways: dict[str, list[float]] = {"bad": [], "good": []}
            for _ in range(runs):
                for name, found in ways.items():
                    with fresh(kind, folder) as made:
                        execute(made, *GATES)
                        body = (
                            f'[pipeline.g]\nsource = "old:gate"\ntarget = "new:gate"\nwrite = "{write}"\nkey = "no"\n'
                        )
                        found.append(kanal(folder, body, f"sqlite:///{folder}/{name}.db", url_of(kind, folder)))
            say(f"refused, {kind}, {write}, {rows:,} rows", ways, "bad", "good")


SOURCE = """CREATE TABLE source AS SELECT i AS id, 'skipper ' || i AS name, (i % 1000)::int AS town,
    (i * 1.5)::numeric(12,2) AS dues, timestamp '2025-06-01' AS at FROM generate_series(1, {rows}) AS i"""
HISTORY = """CREATE TABLE h (id bigint, name text, town int, dues numeric(12,2), begins timestamp, ends timestamp,
    now boolean, PRIMARY KEY (id, begins))"""
OLD = """INSERT INTO h SELECT id, name, CASE WHEN id % 10 = 0 THEN -1 ELSE town END, dues, timestamp '2025-01-01', NULL,
    true FROM source"""
BY_HAND = [
    "CREATE TEMP TABLE s (id bigint, name text, town int, dues numeric(12,2), at timestamp)",
    "\\copy s FROM pstdin",
    "ANALYZE s",
    """CREATE TEMP TABLE changed AS SELECT s.* FROM s LEFT JOIN h ON h.id = s.id AND h.ends IS NULL WHERE h.id IS NULL
       OR (h.name, h.town, h.dues) IS DISTINCT FROM (s.name, s.town, s.dues)""",
    "ANALYZE changed",
    "UPDATE h SET ends = c.at, now = false FROM changed AS c WHERE c.id = h.id AND h.ends IS NULL",
    "INSERT INTO h SELECT id, name, town, dues, at, NULL, true FROM changed",
]


def history(folder: Path, rows: int, runs: int) -> None:
    """A history of so many rows, of which a tenth has changed."""
    url = sa.make_url(POSTGRESQL).set(drivername="postgresql", database=NAME).render_as_string(hide_password=False)
    body = """[pipeline.h]\nsource = "old:source"\ntarget = "new:h"\nwrite = "history"\nkey = "id"\nskip = "at"
history = { from = "begins", until = "ends", current = "now", at = "at" }\n"""
    hand = " ".join(f"-c '{statement}'" if "'" not in statement else f'-c "{statement}"' for statement in BY_HAND)

    def by_hand() -> None:
        out = f"psql -q '{url}' -c 'COPY source TO STDOUT'"
        subprocess.run(f"{out} | psql -q -1 '{url}' {hand}", shell=True, check=True)

    ways: dict[str, list[float]] = {"kanal": [], "by hand": []}
    with fresh("postgresql", folder) as made:
        execute(made, SOURCE.format(rows=rows), "ALTER TABLE source ADD PRIMARY KEY (id)", "ANALYZE source")
        for _ in range(runs):
            for name, found in ways.items():
                execute(made, "DROP TABLE IF EXISTS h", HISTORY, OLD, "ANALYZE h", "CHECKPOINT")
                found.append(kanal(folder, body, url, url) if name == "kanal" else timed(by_hand))
                with made.connect() as connection:
                    count = connection.exec_driver_sql("SELECT count(*), count(ends) FROM h").one()
                assert tuple(count) == (rows + rows // 10, rows // 10), (name, count)
    say(f"history, {rows:,} rows, a tenth changed", ways, "kanal", "by hand")


def mirror(folder: Path, rows: int, runs: int) -> None:
    """A merge that deletes what is missing, a hundredth of the rows, beside one that does not."""
    url = sa.make_url(POSTGRESQL).set(drivername="postgresql", database=NAME).render_as_string(hide_password=False)
    ways: dict[str, list[float]] = {"mirror": [], "merge": []}
    with fresh("postgresql", folder) as made:
        execute(made, SOURCE.format(rows=rows), "ALTER TABLE source ADD PRIMARY KEY (id)")
        execute(made, "CREATE TABLE base AS SELECT * FROM source", "DELETE FROM source WHERE id % 100 = 0")
        for _ in range(runs):
            for name, found in ways.items():
                execute(made, "DROP TABLE IF EXISTS t", "CREATE TABLE t (LIKE base)")
                execute(made, "ALTER TABLE t ADD PRIMARY KEY (id)", "INSERT INTO t SELECT * FROM base")
                execute(made, "ANALYZE t", "CHECKPOINT")
                more = 'missing = "delete"\n' if name == "mirror" else ""
                body = f'[pipeline.t]\nsource = "old:source"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"\n{more}'
                found.append(kanal(folder, body, url, url))
    say(f"mirror, {rows:,} rows, a hundredth deleted", ways, "mirror", "merge")


CASES = {"refused": refused, "history": history, "mirror": mirror}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--case", action="append", choices=list(CASES))
    options = parser.parse_args()
    for name in options.case or CASES:
        with tempfile.TemporaryDirectory() as folder:
            rows = min(options.rows, 200_000) if name == "refused" else options.rows
            CASES[name](Path(folder), rows, options.runs)


if __name__ == "__main__":
    main()
