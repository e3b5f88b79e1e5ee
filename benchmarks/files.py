"""Loads files into PostgreSQL and out of it: Kanal beside the engine alone, a reading library alone, and by hand.

    python benchmarks/files.py [--rows 1000000] [--runs 3] [--only csv,parquet,into_parquet,gzip,excel,memory]

Ten columns: two numbers, a decimal, a double, a boolean, a timestamp, a date and three texts, one of them in quotes in
a tenth of the rows with `--quoted`. The server is named by KANAL_TEST_POSTGRESQL, as for the tests. Each line is one
case: medians of whole processes, and the ratios of pairs that ran one after the other; of Kanal also those of its step
alone, without the start-up of the process.
"""

from __future__ import annotations

import argparse
import csv
import gzip
import json
import shutil
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
#: Rows of the workbook.
CELLS = 100_000
Way = Callable[[Path], object]


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


def psql(*commands: str) -> None:
    subprocess.run(["psql", "-q", URL, *(part for command in commands for part in ("-c", command))], check=True)


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


def write_job(folder: Path, source: str, target: str) -> None:
    rule = "truncate" if "files:" in target else "append"
    (folder / "job.toml").write_text(
        f'job = "b"\n[connection.files]\nurl = "file:."\n[connection.db]\nurl = "{URL}"\n[pipeline.cards]\n'
        f'source = "{source}"\ntarget = "{target}"\nwrite = "{rule}"\n'
    )


def kanal(source: str, target: str) -> Way:
    """A run of one pipeline, as a process; gives the seconds of its step alone."""

    def way(folder: Path) -> float:
        write_job(folder, source, target)
        command = [sys.executable, "-m", "kanal", "run", "job.toml", "--json"]
        said = subprocess.run(command, cwd=folder, check=True, capture_output=True).stdout
        return float(json.loads(said)["steps"][0]["seconds"])

    return way


def piped(folder: Path) -> None:
    """COPY of the same rows to COPY, in one pipe."""
    del folder
    sql = ["COPY csv_source TO STDOUT (FORMAT binary)", "COPY csv_target FROM STDIN (FORMAT binary)"]
    out = subprocess.Popen(["psql", "-q", URL, "-c", sql[0]], stdout=subprocess.PIPE)
    subprocess.run(["psql", "-q", URL, "-c", sql[1]], stdin=out.stdout, check=True)
    assert out.wait() == 0


def process(code: str) -> Way:
    return lambda folder: subprocess.run([sys.executable, "-c", code], cwd=folder, check=True)


def compared(
    name: str, folder: Path, ways: dict[str, Way], options: argparse.Namespace, rows: int, once: str = ""
) -> None:
    """Time ways in turn, and print their medians and the ratios of the first to each other one."""
    times: dict[str, list[float]] = {way: [] for way in ways}
    steps: list[float] = []
    with psycopg.connect(URL, autocommit=True) as admin:
        for run in range(options.runs):
            for way, act in ways.items():
                if run and way == once:
                    continue
                admin.execute("DROP TABLE IF EXISTS csv_target")
                admin.execute(f"CREATE TABLE csv_target ({TABLE})")
                started = time.perf_counter()
                step = act(folder)
                times[way].append(time.perf_counter() - started)
                if isinstance(step, float) and way == next(iter(ways)):
                    steps.append(step)
                found = admin.execute("SELECT count(*) FROM csv_target").fetchone()
                assert found is not None and found[0] in (rows, 0), found
    medians = ", ".join(f"{way} {statistics.median(seconds):.2f} s" for way, seconds in times.items())
    print(f"{name}, {rows:,} rows: {medians}", flush=True)
    first, *others = ways
    for way in others:
        for label, seconds in ((first, times[first]), (f"{first}, the step alone", steps)):
            ratios = sorted(one / other for one, other in zip(seconds, times[way], strict=False))
            if ratios:
                said = f"{statistics.median(ratios):.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f})"
                print(f"  {label} / {way}: {said}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--quoted", action="store_true")
    parser.add_argument("--only", default="csv,parquet,into_parquet,gzip,excel,memory")
    options = parser.parse_args()
    rows, only = options.rows, options.only.split(",")
    with tempfile.TemporaryDirectory() as made, psycopg.connect(URL, autocommit=True) as admin:
        folder = Path(made)
        write(folder / "cards.csv", rows, options.quoted)
        admin.execute("DROP TABLE IF EXISTS csv_source")
        admin.execute(f"CREATE TABLE csv_source ({TABLE})")
        copied = f"\\copy csv_source FROM '{folder}/cards.csv' (FORMAT csv, HEADER)"
        psql(copied)
        copy = lambda folder: psql(copied.replace("csv_source", "csv_target"))  # noqa: E731
        if "csv" in only:
            ways: dict[str, Way] = {
                "kanal": kanal("files:cards.csv", "db:csv_target"),
                "copy": copy,
                "by hand": by_hand,
            }
            compared("CSV into PostgreSQL", folder, ways, options, rows, "by hand")
        if "gzip" in only:
            with (folder / "cards.csv").open("rb") as plain, gzip.open(folder / "cards.csv.gz", "wb", 6) as packed:
                shutil.copyfileobj(plain, packed)
            inflate = process("import gzip\nwith gzip.open('cards.csv.gz') as f:\n  while f.read(1 << 22): pass")
            ways = {"kanal": kanal("files:cards.csv.gz", "db:csv_target"), "inflating alone": inflate,
                    "plain": kanal("files:cards.csv", "db:csv_target")}  # fmt: skip
            compared("CSV, packed by gzip, into PostgreSQL", folder, ways, options, rows)
        kanal("db:csv_source", "files:cards.parquet")(folder)
        if "parquet" in only:
            ways = {"kanal": kanal("files:cards.parquet", "db:csv_target"), "copy piped to copy": piped}
            compared("Parquet into PostgreSQL", folder, ways, options, rows)
        if "into_parquet" in only:
            to_file = lambda folder: psql(f"\\copy csv_source TO '{folder}/out.bin' (FORMAT binary)")  # noqa: E731
            ways = {"kanal": kanal("db:csv_source", "files:out.parquet"), "copy to a file": to_file}
            compared("PostgreSQL into Parquet", folder, ways, options, rows)
        if "excel" in only:
            admin.execute(f"DELETE FROM csv_source WHERE id >= {CELLS}")
            kanal("db:csv_source", "files:cards.xlsx")(folder)
            reading = process("from python_calamine import CalamineWorkbook as W\n"
                              "W.from_path('cards.xlsx').get_sheet_by_index(0).to_python()")  # fmt: skip
            ways = {"kanal": kanal("files:cards.xlsx", "db:csv_target"), "reading alone": reading}
            compared("Excel into PostgreSQL", folder, ways, options, min(rows, CELLS))
        if "memory" in only:
            memory(folder, admin)
        admin.execute("DROP TABLE IF EXISTS csv_target, csv_source")


def memory(folder: Path, admin: psycopg.Connection) -> None:
    """The greatest memory of a load of the CSV file, and of one that is twenty times as long."""
    content = (folder / "cards.csv").read_bytes()
    head, _, body = content.partition(b"\n")
    for times in (1, 20):
        with (folder / "long.csv").open("wb") as file:
            file.write(head + b"\n")
            for _ in range(times):
                file.write(body)
        admin.execute("DROP TABLE IF EXISTS csv_target")
        admin.execute(f"CREATE TABLE csv_target ({TABLE.replace(' PRIMARY KEY', '')})")
        code = ("import resource, subprocess, sys; subprocess.run([sys.executable, '-m', 'kanal', 'run', 'job.toml', "
                "'--json'], check=True, stdout=subprocess.DEVNULL); "
                "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024)")  # fmt: skip
        write_job(folder, "files:long.csv", "db:csv_target")
        found = subprocess.run([sys.executable, "-c", code], cwd=folder, check=True, capture_output=True, text=True)
        size = (folder / "long.csv").stat().st_size / 1e9
        print(f"a CSV of {size:.2f} GB: {found.stdout.strip()} MB of memory", flush=True)


if __name__ == "__main__":
    main()
