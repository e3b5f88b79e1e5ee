"""How the cost of a load grows with its work: rows, tables, columns, rejects, rows of a look-up.

    python benchmarks/growth.py [--only rows|tables|columns|rejects|lookup] [--most 10000000]

PostgreSQL to PostgreSQL, `truncate`, each a run of its own process; what a run of one row takes is subtracted from the
times. The exponent says by which power of the work the time has grown since the line before: 1 is in proportion. It
makes a database `kanal_growth` (KANAL_TEST_POSTGRESQL, as for the tests) and drops it.
"""

from __future__ import annotations

import argparse
import math
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import sqlalchemy as sa

import server_loads
from server_loads import POSTGRESQL, measured, pg

NAME = "kanal_growth"
URL = sa.make_url(POSTGRESQL).set(drivername="postgresql", database=NAME).render_as_string(hide_password=False)
HEAD = f'job = "growth"\n[connection.pg]\nurl = "{URL}"\n'
PIPELINE = '[pipeline.{name}]\nsource = "pg:{source}"\ntarget = "pg:{target}"\nwrite = "truncate"\n{more}'
COLUMNS = "id bigint PRIMARY KEY, ref bigint, amount numeric(12,2), at timestamp, name text, code {code}"
ROWS = """INSERT INTO {table} SELECT i, i * 7, (i % 1000000) / 100.0, timestamp '2025-01-01' + i * interval '1 second',
    '  Vessel ' || i, {code} FROM generate_series(1, {rows}) AS i"""
MAPPED = 'same = "*"\n[pipeline.{name}.columns]\nname = "upper(trim(name))"\n{more}'
#: A case: what it is called, how much of it, and the text of its job.
Case = tuple[str, int, str]


def tables(code: str, target_code: str, rows: int) -> None:
    pg(f"DROP TABLE IF EXISTS s, t; CREATE TABLE s ({COLUMNS.format(code='text')})",
       f"CREATE TABLE t ({COLUMNS.format(code=target_code)})", ROWS.format(table="s", code=code, rows=rows),
       "VACUUM ANALYZE s")  # fmt: skip


def by_rows(most: int) -> Iterator[Case]:
    rows = 10_000
    while rows <= most:
        tables("(i % 30000)::text", "smallint", rows)
        yield (
            "rows",
            rows,
            HEAD + PIPELINE.format(name="t", source="s", target="t", more=MAPPED.format(name="t", more="")),
        )
        rows *= 10


def by_tables(most: int) -> Iterator[Case]:
    for number in range(min(2_000, most)):
        pg(f"CREATE TABLE a{number} AS SELECT i AS id, i::text AS v FROM generate_series(1, 100) AS i",
           f"CREATE TABLE b{number} (id integer PRIMARY KEY, v text)")  # fmt: skip
    for count in (1, 20, 200, 2_000):
        steps = (PIPELINE.format(name=f"p{n}", source=f"a{n}", target=f"b{n}", more="") for n in range(count))
        yield "tables of 100 rows", count, HEAD + "".join(steps)
    pg("DO $$ BEGIN FOR n IN 0..1999 LOOP EXECUTE format('DROP TABLE a%s, b%s', n, n); "
       "IF n % 100 = 0 THEN COMMIT; END IF; END LOOP; END $$")  # fmt: skip


def by_columns(most: int) -> Iterator[Case]:
    for count in (10, 100, 1_000):
        names = [f"c{number}" for number in range(count)]
        kinds = ["integer", "text", "numeric(9,2)"]
        declared = ", ".join(f"{name} {kinds[place % 3]}" for place, name in enumerate(names))
        values = ", ".join(["i", "'v' || i", "i / 4.0"][place % 3] for place in range(count))
        pg("DROP TABLE IF EXISTS s, t", f"CREATE TABLE s ({declared})", f"CREATE TABLE t ({declared})",
           f"INSERT INTO s SELECT {values} FROM generate_series(1, {min(20_000, most)}) AS i")  # fmt: skip
        mapped = "[pipeline.t.columns]\n" + "".join(f'{name} = "upper({name})"\n' for name in names[1::3])
        more = 'same = "*"\n' + mapped
        yield "columns of 20,000 rows", count, HEAD + PIPELINE.format(name="t", source="s", target="t", more=more)


def by_rejects(most: int) -> Iterator[Case]:
    rows = min(200_000, most)
    for share in (0, 1, 10, 50):
        tables(f"CASE WHEN i % 100 < {share} THEN 'none' ELSE (i % 30000)::text END", "smallint", rows)
        yield (
            "% of 200,000 rows rejected",
            share,
            HEAD + PIPELINE.format(name="t", source="s", target="t", more=MAPPED.format(name="t", more="")),
        )


def by_lookup(most: int) -> Iterator[Case]:
    tables("(i % 1000)::text", "smallint", min(200_000, most))
    for rows in (1_000, 30_000, 300_000, 3_000_000):
        pg("DROP TABLE IF EXISTS known", "CREATE TABLE known (ref bigint PRIMARY KEY, label text)",
           f"INSERT INTO known SELECT i * 7, 'label ' || i FROM generate_series(1, {rows}) AS i")  # fmt: skip
        more = 'same = "*"\n[pipeline.t.columns]\nname = "coalesce(known.label, name)"\n[pipeline.t.lookup.known]\n'
        more += 'table = "pg:known"\non = { ref = "ref" }\nmissing = "null"\n'
        text = PIPELINE.format(name="t", source="s", target="t", more=more)
        yield "rows of a look-up, for 200,000 rows", rows, HEAD + text


CASES: dict[str, Callable[[int], Iterator[Case]]] = {
    "rows": by_rows, "tables": by_tables, "columns": by_columns, "rejects": by_rejects, "lookup": by_lookup,
}  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", action="append", choices=list(CASES))
    parser.add_argument("--most", type=int, default=10_000_000)
    options = parser.parse_args()
    server_loads.PG_URL = URL
    pg(f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}", database=None)
    try:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            tables("'1'", "smallint", 1)
            job = HEAD + PIPELINE.format(name="t", source="s", target="t", more="")
            (folder / "job.toml").write_text(job)
            command = [sys.executable, "-m", "kanal", "run", "job.toml"]
            least = min(measured(command, folder)[0] for _ in range(3))
            print(f"one row: {least:.2f} s, subtracted from the times\n\n| work | time | memory | exponent |")
            print("|---|---|---|---|")
            for name in options.only or CASES:
                before: tuple[int, float] | None = None
                for what, amount, text in CASES[name](options.most):
                    (folder / "job.toml").write_text(text)
                    tries = [measured(command, folder) for _ in range(3 if amount < 1_000_000 else 1)]
                    seconds, memory = max(0.001, min(one[0] for one in tries) - least), max(one[1] for one in tries)
                    power = ""
                    if before is not None and before[0]:
                        power = f"{math.log(seconds / before[1]) / math.log(amount / before[0]):.2f}"
                    print(f"| {amount:,} {what} | {seconds:.2f} s | {memory} MB | {power} |", flush=True)
                    before = amount, seconds
    finally:
        pg(f"DROP DATABASE {NAME} WITH (FORCE)", database=None)


if __name__ == "__main__":
    main()
