"""Whether Kanal has become slower: processor time of fixed small cases, as ratios to a fixed piece of work.

    python benchmarks/guard.py [--runs 5] [--keep]

Each case and the piece of work take turns, each as a process of its own; the ratio of the medians is printed beside
the one that is kept in guard.json. On a machine that is shared with others they have wandered by a third, which is why
this informs and fails nothing. With --keep, the ratios of this run are kept. Cases on PostgreSQL are left out where
KANAL_TEST_POSTGRESQL, or the server on this machine, cannot be reached.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

KEPT = Path(__file__).with_name("guard.json")
POSTGRESQL = os.environ.get("KANAL_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres")
NAME = "kanal_guard"
#: Python's own loops, NumPy and SQLite, in about the shares of a load.
REFERENCE = """
import sqlite3
import numpy as np
table = {}
for number in range(900_000):
    table[str(number % 5000)] = table.get(str(number % 5000), 0) + number
values = np.arange(4_000_000)
for _ in range(6):
    values = np.sort(values ^ 0x5555)[::-1].copy()
connection = sqlite3.connect(":memory:")
connection.execute("CREATE TABLE t (a, b, c)")
connection.executemany("INSERT INTO t VALUES (?, ?, ?)", ((n, str(n), n / 7) for n in range(200_000)))
"""
COLUMNS = "id bigint PRIMARY KEY, amount numeric(12,2), at timestamp, name text, note text"
HEAD = 'job = "guard"\n[connection.old]\nurl = "{old}"\n[connection.new]\nurl = "{new}"\n'
MAPPED = '[pipeline.t.columns]\nname = "upper(trim(name))"\nnote = "coalesce(note, \'-\')"\n'
BIG = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nsame = "*"\n{more}' + MAPPED
STEPS = 40


def sqlite_files(folder: Path) -> None:
    """A table of 100,000 rows and 40 of 100, and their targets."""
    small = [f"s{number}" for number in range(STEPS)]
    for name in ("old.db", "new.db"):
        connection = sqlite3.connect(folder / name)
        for table in ("t", *small):
            connection.execute(f"CREATE TABLE {table} ({COLUMNS})")
            if name == "old.db":
                rows = 100_000 if table == "t" else 100
                connection.executemany(
                    f"INSERT INTO {table} VALUES (?, ?, ?, ?, ?)",
                    ((n, n / 4, f"2026-01-{n % 28 + 1:02} 12:00:00", f" vessel {n} ", None) for n in range(rows)),
                )
        connection.commit()
        connection.close()


def postgresql_tables() -> str | None:
    """The URL of a database with a table of 200,000 rows and an empty one; None where there is no server."""
    try:
        import psycopg

        with psycopg.connect(POSTGRESQL, autocommit=True, connect_timeout=3) as admin:
            admin.execute(f"DROP DATABASE IF EXISTS {NAME}")
            admin.execute(f"CREATE DATABASE {NAME}")
    except Exception as error:
        print(f"without PostgreSQL: {error}")
        return None
    url = f"{POSTGRESQL.rpartition('/')[0]}/{NAME}"
    with psycopg.connect(url, autocommit=True) as connection:
        for table in ("t", "u"):
            connection.execute(f"CREATE TABLE {table} ({COLUMNS})")
        connection.execute("""INSERT INTO t SELECT i, i / 4.0, timestamp '2026-01-01' + i * interval '1 second',
            ' vessel ' || i || ' ', NULL FROM generate_series(1, 200000) AS i""")
    return url


def drop_database() -> None:
    with contextlib.suppress(Exception):
        import psycopg

        with psycopg.connect(POSTGRESQL, autocommit=True, connect_timeout=3) as admin:
            admin.execute(f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)")


def cases(folder: Path) -> dict[str, list[str]]:
    """The commands."""
    run = [sys.executable, "-m", "kanal", "run"]
    head = HEAD.format(old="sqlite:///old.db", new="sqlite:///new.db")
    steps = "".join(
        f'[pipeline.s{n}]\nsource = "old:s{n}"\ntarget = "new:s{n}"\nwrite = "truncate"\n' for n in range(STEPS)
    )
    texts = {
        "one": head + steps[: steps.index("[pipeline.s1]")],
        "steps": head + steps,
        "big": head + BIG.format(write="truncate", more=""),
        "merge": head + BIG.format(write="merge", more='key = "id"\n'),
    }
    url = postgresql_tables()
    if url is not None:
        server = HEAD.format(old=url, new=url)
        texts["server"] = server + BIG.format(write="truncate", more="").replace("new:t", "new:u")
        texts["copy"] = server + BIG.format(write="truncate", more="").replace("new:t", "new:u").replace(MAPPED, "")
    for name, text in texts.items():
        (folder / f"{name}.toml").write_text(text)
    found = {
        "kanal --version": [sys.executable, "-m", "kanal", "--version"],
        "a run of one step of 100 rows": [*run, "one.toml"],
        f"a run of {STEPS} steps of 100 rows": [*run, "steps.toml"],
        "SQLite to SQLite, truncate, 100,000 rows": [*run, "big.toml"],
        "SQLite to SQLite, merge, 100,000 rows": [*run, "merge.toml"],
    }
    if url is not None:
        found["PostgreSQL to PostgreSQL, truncate, 200,000 rows"] = [*run, "server.toml"]
        found["the same rows, moved by the engine"] = [*run, "copy.toml"]
    return found


def processor_time(command: list[str], folder: Path) -> float:
    (folder / "kanal-runs.db").unlink(missing_ok=True)
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, env=environment)
    _, status, usage = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"{command} failed")
    return usage.ru_utime + usage.ru_stime


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--keep", action="store_true", help="keep the ratios of this run")
    options = parser.parse_args()
    kept: dict[str, float] = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        sqlite_files(folder)
        commands = {"": [sys.executable, "-c", REFERENCE], **cases(folder)}
        found: dict[str, list[float]] = {case: [] for case in commands}
        for turn in range(options.runs + 1):
            for case, command in commands.items():
                seconds = processor_time(command, folder)
                if turn:  # the first turn compiles, and fills caches
                    found[case].append(seconds)
    drop_database()
    reference = statistics.median(found.pop(""))
    ratios = {case: round(statistics.median(times) / reference, 3) for case, times in found.items()}
    print(f"the fixed piece of work: {reference:.2f} s of processor time; medians of {options.runs}\n")
    for case, ratio in ratios.items():
        before = kept.get(case)
        change = "" if before is None else f"   {ratio / before - 1:+.0%}{'   slower' if ratio > 1.3 * before else ''}"
        print(f"{case:52} {ratio:6.3f}   kept {before or '-'}{change}")
    if options.keep:
        KEPT.write_text(json.dumps(ratios, indent=1) + "\n")


if __name__ == "__main__":
    main()
