"""What it costs to draft a job of 200 tables, beyond reflecting them, and to compare two tables of 1,000,000 rows.

    python benchmarks/exploring.py [--rows 1000000] [--runs 3] [--tables 200]

It makes a database `kanal_exploring` on PostgreSQL (KANAL_TEST_POSTGRESQL, as for the tests) and drops it. Both
tables are read by psql COPY, one after the other, to nowhere.
"""

from __future__ import annotations

import argparse
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
import sqlalchemy as sa

import kanal
from kanal.connections import open_database
from kanal.connections.reading import Reading
from kanal.explore.compare import compare
from kanal.explore.draft import Wish, draft_job
from kanal.runner import plan_job
from server_loads import PG_ROWS, PG_TABLE, POSTGRESQL

NAME = "kanal_exploring"
URL = sa.make_url(POSTGRESQL).set(drivername="postgresql", database=NAME).render_as_string(hide_password=False)
JOB = f"""job = "compare"
[connection.pg]
url = "{URL}"
[pipeline.t]
source = "pg:source"
target = "pg:target"
write = "truncate"
"""


def pg(*statements: str, url: str = URL) -> None:
    with psycopg.connect(url, autocommit=True) as connection:
        for statement in statements:
            connection.execute(statement)  # type: ignore[call-overload]


def seconds(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def read_both() -> None:
    for table in ("source", "target"):
        copy = f"COPY {table} TO STDOUT (FORMAT binary)"
        subprocess.run(["psql", "-qX", URL, "-c", copy], check=True, stdout=subprocess.DEVNULL)


def read_both_by_kanal() -> None:
    database = open_database("pg", kanal.Connection(url=URL), Path.cwd())
    for name in ("source", "target"):
        table = database.catalogue.describe(None, name)
        with database.read(Reading(table, None, tuple(table.names), 50_000)) as batches:
            for _ in batches:
                pass
    database.dispose()


def compare_both(folder: Path, quick: bool, job: str = "job.toml") -> None:
    plan = plan_job(kanal.Job.read(folder / job))
    (found,) = compare(plan, quick=quick)
    assert not found.differs(), found


def comparing(rows: int, runs: int) -> None:
    pg(PG_TABLE.format(name="source", code="TEXT"), PG_ROWS.format(first=0, last=rows - 1))
    pg(PG_TABLE.format(name="target", code="TEXT"), "INSERT INTO target SELECT * FROM source", "VACUUM ANALYZE")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "job.toml").write_text(JOB)
        (folder / "mapped.toml").write_text(JOB + 'same = "*"\n[pipeline.t.columns]\nname = "btrim(name, \'-\')"\n')
        ways: dict[str, Callable[[], None]] = {
            "reading both by psql COPY": read_both,
            "reading both, as Kanal reads": read_both_by_kanal,
            "kanal compare, by the engine": lambda: compare_both(folder, False),
            "kanal compare, a column mapped": lambda: compare_both(folder, False, "mapped.toml"),
            "kanal compare --quick": lambda: compare_both(folder, True),
        }
        times: dict[str, list[float]] = {way: [] for way in ways}
        for _ in range(runs):
            for way, work in ways.items():
                times[way].append(seconds(work))
    print(f"\n{rows:,} rows of 10 columns on both sides, {runs} runs")
    for way, found in times.items():
        ratios = [mine / base for mine, base in zip(found, times["reading both by psql COPY"], strict=True)]
        print(f"  {way:32} {statistics.median(found):6.2f} s   {statistics.median(ratios):5.2f} × reading both")


def drafting(tables: int, runs: int) -> None:
    pg(
        *(
            f"CREATE TABLE ledger_{number} AS SELECT i AS id, (i * 7)::bigint AS ref, 'vessel ' || i AS name, "
            "to_char(date '2025-01-01' + i % 300, 'DD.MM.YYYY') AS day, "
            "replace((i / 100.0)::numeric(9,2)::text, '.', ',') AS toll, 'Held at the lower gate' AS remark "
            "FROM generate_series(1, 2000) AS i; "
            f"ALTER TABLE ledger_{number} ADD PRIMARY KEY (id)"
            for number in range(tables)
        )
    )

    def reflect() -> None:
        database = open_database("pg", kanal.Connection(url=URL), Path.cwd())
        names = [name for name in database.catalogue.table_names() if name.startswith("ledger_")]
        database.catalogue.expect(None, names)
        for name in names:
            database.catalogue.describe(None, name)
        database.dispose()

    def draft() -> None:
        source, target = (open_database("pg", kanal.Connection(url=URL), Path.cwd()) for _ in range(2))
        wish = Wish(like=("ledger_*",), prefix="new_")
        text = draft_job("draft", source, target, {"pg": f'url = "{URL}"'}, wish)
        assert text.count("[pipeline.") == 2 * tables
        source.dispose()
        target.dispose()

    took = [(seconds(reflect), seconds(draft)) for _ in range(runs)]
    beyond = statistics.median(whole - alone for alone, whole in took)
    alone = statistics.median(first for first, _ in took)
    print(f"\n{tables} tables: reflecting them takes {alone:.2f} s, the draft {beyond:.2f} s beyond that")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--tables", type=int, default=200)
    options = parser.parse_args()
    pg(f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}", url=POSTGRESQL)
    try:
        drafting(options.tables, options.runs)
        comparing(options.rows, options.runs)
    finally:
        pg(f"DROP DATABASE {NAME} WITH (FORCE)", url=POSTGRESQL)


if __name__ == "__main__":
    main()
