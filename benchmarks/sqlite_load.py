"""SQLite to SQLite: Kanal beside a loop written by hand and beside the engine alone, each as a whole process.

All three map alike: trim and upper on a text, a coalesce, and a text to smallint. Run it with

    python benchmarks/sqlite_load.py [--rows 1000000] [--runs 3]

It prints the median of the runs of each way, and the ratios to Kanal.
"""

from __future__ import annotations

import argparse
import os
import platform
import random
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

COLUMNS = "id, ref, amount, weight, flag, at, day, name, note, code"
TABLE = """CREATE TABLE reading (
    id BIGINT PRIMARY KEY, ref BIGINT, amount DECIMAL(12,2), weight DOUBLE PRECISION, flag BOOLEAN, at TIMESTAMP,
    day DATE, name TEXT, note TEXT, code {code})"""
JOB = """job = "benchmark"
[connection.source]
url = "sqlite:///source.db"
[connection.target]
url = "sqlite:///target.db"
[pipeline.reading]
source = "source:reading"
target = "target:reading"
write = "truncate"
same = "*"
[pipeline.reading.columns]
name = "upper(trim(name))"
note = "coalesce(note, 'none')"
"""
BY_HAND = """
import sqlite3
source, target = sqlite3.connect("source.db"), sqlite3.connect("target.db")
target.execute("DELETE FROM reading")
cursor = source.execute("SELECT {columns} FROM reading")
while rows := cursor.fetchmany(1000):
    target.executemany("INSERT INTO reading VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", [
        (i, ref, amount, weight, flag, at, day, name.strip().upper(), "none" if note is None else note, int(code))
        for i, ref, amount, weight, flag, at, day, name, note, code in rows])
target.commit()
"""
#: What Kanal does besides: every value is checked to be one of its column's type.
BY_HAND_CHECKED = """
import datetime, decimal, sqlite3
source, target = sqlite3.connect("source.db"), sqlite3.connect("target.db")
target.execute("DELETE FROM reading")
cursor = source.execute("SELECT {columns} FROM reading")
bad = []
while rows := cursor.fetchmany(1000):
    good = []
    for row in rows:
        i, ref, amount, weight, flag, at, day, name, note, code = row
        try:
            if not (isinstance(i, int) and isinstance(ref, int) and flag in (0, 1)):
                raise ValueError
            weight = float(weight)
            if decimal.Decimal(str(amount)).as_tuple().exponent < -2:
                raise ValueError
            datetime.datetime.fromisoformat(at)
            datetime.date.fromisoformat(day)
            code = int(code)
            if not -32768 <= code <= 32767:
                raise ValueError
        except (TypeError, ValueError, ArithmeticError):
            bad.append(row)
            continue
        good.append((i, ref, amount, weight, flag, at, day, name.strip().upper(), "none" if note is None else note,
                     code))
    target.executemany("INSERT INTO reading VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", good)
target.commit()
"""
ENGINE = """
import sqlite3
target = sqlite3.connect("target.db")
target.execute("ATTACH 'source.db' AS s")
target.execute("DELETE FROM reading")
target.execute(\"\"\"INSERT INTO reading SELECT id, ref, amount, weight, flag, at, day, upper(trim(name)),
    coalesce(note, 'none'), CAST(code AS INTEGER) FROM s.reading\"\"\")
target.commit()
"""


def make_source(path: Path, rows: int) -> None:
    chance = random.Random(7)
    connection = sqlite3.connect(path)
    connection.execute(TABLE.format(code="TEXT"))
    connection.executemany(
        "INSERT INTO reading VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            (
                i,
                chance.randrange(10**12),
                round(chance.random() * 1e6, 2),
                chance.random(),
                i & 1,
                f"2025-{i % 12 + 1:02d}-{i % 28 + 1:02d} 12:{i % 60:02d}:{i % 59:02d}",
                f"2025-{i % 12 + 1:02d}-{i % 28 + 1:02d}",
                f"  Vessel {i} ",
                None if i % 7 == 0 else f"remark no. {i}",
                str(i % 30_000),
            )
            for i in range(rows)
        ),
    )
    connection.commit()
    connection.close()


def seconds(command: list[str], folder: Path) -> float:
    (folder / "target.db").unlink(missing_ok=True)
    (folder / "kanal-runs.db").unlink(missing_ok=True)
    connection = sqlite3.connect(folder / "target.db")
    connection.execute(TABLE.format(code="SMALLINT"))
    connection.commit()
    connection.close()
    # Compiled Python files are kept, as in any installation.
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    started = time.perf_counter()
    subprocess.run(command, cwd=folder, check=True, stdout=subprocess.DEVNULL, env=environment)
    return time.perf_counter() - started


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    options = parser.parse_args()
    python = sys.executable
    ways = {
        "kanal": [python, "-m", "kanal", "run", "job.toml"],
        "by hand": [python, "-c", BY_HAND.format(columns=COLUMNS)],
        "by hand, values checked": [python, "-c", BY_HAND_CHECKED.format(columns=COLUMNS)],
        "engine alone": [python, "-c", ENGINE],
    }
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "job.toml").write_text(JOB)
        make_source(folder / "source.db", options.rows)
        times: dict[str, list[float]] = {way: [] for way in ways}
        for _ in range(options.runs):
            for way, command in ways.items():
                times[way].append(seconds(command, folder))
    print(
        f"{options.rows:,} rows, 10 columns, median of {options.runs} runs, {platform.machine()}, "
        f"Python {platform.python_version()}"
    )
    ours = statistics.median(times["kanal"])
    for way, found in times.items():
        median = statistics.median(found)
        print(f"{way:24} {median:7.2f} s   {median / ours:5.2f} × the time of kanal")


if __name__ == "__main__":
    main()
