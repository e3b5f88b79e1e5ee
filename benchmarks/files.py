"""Loads a CSV file into PostgreSQL: Kanal beside `psql \\copy` of the same file and beside Python's csv module.

    python benchmarks/files.py [--rows 1000000] [--runs 3]

Ten columns: two numbers, a decimal, a double, a boolean, a timestamp, a date and three texts, one of them in
quotes in a tenth of the rows with `--quoted`. The server is named by KANAL_TEST_POSTGRESQL, as for the tests.
"""

from __future__ import annotations

import argparse
import csv
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
import sqlalchemy as sa

from server_loads import POSTGRESQL

URL = sa.make_url(POSTGRESQL).set(drivername="postgresql").render_as_string(hide_password=False)
TABLE = ("id bigint PRIMARY KEY, lock bigint, toll numeric(12,2), draught double precision, voided boolean, "
         "passed timestamp, day date, mark text, skipper text, remark text")  # fmt: skip
NAMES = [part.split()[0] for part in TABLE.split(", ") if part[0].isalpha()]


def write(path: Path, rows: int, quoted: bool) -> None:
    with path.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(NAMES)
        for n in range(rows):
            remark = 'said "no, no"' if quoted and n % 10 == 0 else f"remark {n % 100}"
            day = f"{1 + n % 28:02d}"
            texts = [f"SW{n % 5000:04d}", f"skipper {n % 3000}", remark]
            moments = [f"2025-01-{day} 10:{n % 60:02d}:00", f"2025-02-{day}"]
            numbers = [n, n % 50, f"{n % 9999}.{n % 100:02d}", n / 7, "true" if n % 2 else "false"]
            out.writerow([*numbers, *moments, *texts])


def by_copy(folder: Path) -> None:
    subprocess.run(
        ["psql", "-q", URL, "-c", f"\\copy csv_target FROM '{folder}/cards.csv' (FORMAT csv, HEADER)"], check=True
    )


def by_hand(folder: Path) -> None:
    with (
        psycopg.connect(URL) as connection,
        (folder / "cards.csv").open(newline="") as file,
        connection.cursor() as cursor,
    ):
        reader = csv.reader(file)
        next(reader)
        places = ", ".join(["%s"] * len(NAMES))
        while batch := [row for _, row in zip(range(1000), reader, strict=False)]:
            cursor.executemany(f"INSERT INTO csv_target VALUES ({places})", batch)


def by_kanal(folder: Path) -> None:
    subprocess.run([sys.executable, "-m", "kanal", "run", "job.toml", "--json"], cwd=folder, check=True,
                   stdout=subprocess.DEVNULL)  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--quoted", action="store_true")
    options = parser.parse_args()
    ways: dict[str, Callable[[Path], None]] = {"kanal": by_kanal, "copy": by_copy, "by hand": by_hand}
    times: dict[str, list[float]] = {name: [] for name in ways}
    with tempfile.TemporaryDirectory() as made, psycopg.connect(URL, autocommit=True) as admin:
        folder = Path(made)
        write(folder / "cards.csv", options.rows, options.quoted)
        (folder / "job.toml").write_text(
            f'job = "b"\n[connection.inbox]\nurl = "file:."\n[connection.new]\nurl = "{URL}"\n[pipeline.cards]\n'
            'source = "inbox:cards.csv"\ntarget = "new:csv_target"\n'
        )
        for run in range(options.runs):
            for name, way in ways.items():
                if name == "by hand" and run:
                    continue
                admin.execute("DROP TABLE IF EXISTS csv_target")
                admin.execute(f"CREATE TABLE csv_target ({TABLE})")
                started = time.perf_counter()
                way(folder)
                times[name].append(time.perf_counter() - started)
                found = admin.execute("SELECT count(*), sum(toll) FROM csv_target").fetchone()
                assert found is not None and found[0] == options.rows, found
        admin.execute("DROP TABLE csv_target")
    medians = ", ".join(f"{name} {statistics.median(seconds):.2f} s" for name, seconds in times.items())
    ratios = sorted(one / other for one, other in zip(times["kanal"], times["copy"], strict=True))
    by_hand_ratio = times["by hand"][0] / statistics.median(times["kanal"])
    print(f"{options.rows:,} rows of CSV into PostgreSQL: {medians}; kanal / copy {statistics.median(ratios):.2f} "
          f"({ratios[0]:.2f} to {ratios[-1]:.2f}), by hand / kanal {by_hand_ratio:.1f}")  # fmt: skip


if __name__ == "__main__":
    main()
