"""Kanal beside what a user would write by hand and beside the engine alone, on PostgreSQL and MariaDB.

Each way is a whole process; the ways of a case take turns in one run, and each begins with the same target. All map
alike: trim and upper on a text, a coalesce, and a text to smallint. Run it with

    python benchmarks/server_loads.py [--rows 1000000] [--runs 3] [--case NAME ...]

It makes a database `kanal_benchmark` on each server and drops it. The servers are named by the environment variables
KANAL_TEST_POSTGRESQL and KANAL_TEST_MARIADB, as for the tests. With --write FILE the figures are kept as JSON.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import platform
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
import pymysql
import sqlalchemy as sa

POSTGRESQL = os.environ.get("KANAL_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres")
MARIADB = os.environ.get("KANAL_TEST_MARIADB", "mariadb://root@127.0.0.1:3306/")
NAME = "kanal_benchmark"
PG_URL = sa.make_url(POSTGRESQL).set(drivername="postgresql", database=NAME).render_as_string(hide_password=False)
MY_URL = sa.make_url(MARIADB).set(drivername="mariadb", database=NAME).render_as_string(hide_password=False)
MY = sa.make_url(MY_URL)
MY_ARGUMENTS = (
    f"host={MY.host!r}, port={MY.port or 3306}, user={MY.username!r}, password={MY.password or ''!r}, "
    f"database={NAME!r}, ssl_disabled=True"
)

PG_TABLE = """CREATE TABLE {name} (id BIGINT PRIMARY KEY, ref BIGINT, amount NUMERIC(12,2), weight DOUBLE PRECISION,
    flag BOOLEAN, at TIMESTAMP, day DATE, name TEXT, note TEXT, code {code})"""
PG_ROWS = """INSERT INTO source SELECT i, (random() * 1e12)::bigint, round((random() * 1e6)::numeric, 2), random(),
    i % 2 = 1, timestamp '2025-01-01' + i * interval '1 second 1 microsecond', date '2025-01-01' + (i % 300)::int,
    '  Vessel ' || i || ' ', CASE WHEN i % 7 = 0 THEN NULL ELSE 'remark no. ' || i END, (i % 30000)::text
    FROM generate_series({first}, {last}) AS i"""
MY_TABLE = """CREATE TABLE {name} (id BIGINT PRIMARY KEY, ref BIGINT, amount DECIMAL(12,2), weight DOUBLE,
    flag BOOLEAN, at DATETIME(6), day DATE, name VARCHAR(60), note TEXT, code {code})"""

JOB = """job = "benchmark"
[connection.pg]
url = "{pg}"
[connection.my]
url = "{my}"
[pipeline.reading]
source = "{source}"
target = "{target}"
{write}
same = "*"
[pipeline.reading.columns]
name = "upper(trim(name))"
note = "coalesce(note, 'none')"
"""
COLUMNS = "id, ref, amount, weight, flag, at, day, name, note, code"
#: The same with eight of ten columns as they are.
MAPPED_EIGHT = "id, ref, amount, weight, flag, at, day, upper(trim(name)), note, code::smallint"
MAPPED = "id, ref, amount, weight, flag, at, day, upper(trim(name)), coalesce(note, 'none'), code::smallint"
MAP_ROW = """[(i, ref, amount, weight, flag, at, day, name.strip().upper(), 'none' if note is None else note, int(code))
        for i, ref, amount, weight, flag, at, day, name, note, code in rows]"""
MARKS = ", ".join(["%s"] * 10)

#: What anybody would write who may use the engine alone, in binary form, which is the quicker one.
PIPE = """
set -e -o pipefail
psql -qX {pg} -c "COPY (SELECT {mapped} FROM source) TO STDOUT (FORMAT binary)" |
psql -qX {pg} -v ON_ERROR_STOP=1 -c BEGIN -c "TRUNCATE target" {before} -c "COPY target FROM STDIN (FORMAT binary)" \\
    {after} -c COMMIT
"""
REBUILT = {
    "before": '-c "ALTER TABLE target DROP CONSTRAINT target_pkey"',
    "after": '-c "ALTER TABLE target ADD PRIMARY KEY (id)"',
}
COPY_BY_SQL = 'psql -qX {pg} -c BEGIN -c "TRUNCATE copy" -c "INSERT INTO copy SELECT * FROM target" -c COMMIT'
PG_BY_HAND = """
import psycopg
source, target = psycopg.connect({pg}), psycopg.connect({pg})
target.execute("TRUNCATE target")
cursor = source.cursor("rows")
cursor.execute("SELECT {columns} FROM source")
while rows := cursor.fetchmany(1000):
    target.cursor().executemany("INSERT INTO target VALUES ({marks})", {map_row})
target.commit()
"""
PG_TO_MY_BY_HAND = """
import psycopg, pymysql
source, target = psycopg.connect({pg}), pymysql.connect({my_arguments})
cursor, into = source.cursor("rows"), target.cursor()
into.execute("DELETE FROM target")
cursor.execute("SELECT {columns} FROM source")
while rows := cursor.fetchmany(1000):
    into.executemany("INSERT INTO target VALUES ({marks})", {map_row})
target.commit()
"""
MY_TO_PG_BY_HAND = """
import psycopg, pymysql
from pymysql.cursors import SSCursor
source, target = pymysql.connect({my_arguments}), psycopg.connect({pg})
target.execute("TRUNCATE target")
cursor = source.cursor(SSCursor)
cursor.execute("SELECT {columns} FROM source")
while rows := cursor.fetchmany(1000):
    rows = [(*row[:4], bool(row[4]), *row[5:]) for row in rows]
    target.cursor().executemany("INSERT INTO target VALUES ({marks})", {map_row})
target.commit()
"""
MERGE_BY_SQL = """
set -e -o pipefail
psql -qX {pg} -c "COPY (SELECT {mapped} FROM source) TO STDOUT (FORMAT binary)" |
psql -qX {pg} -v ON_ERROR_STOP=1 -c BEGIN \\
    -c "CREATE TEMP TABLE stage ON COMMIT DROP AS SELECT * FROM target WITH NO DATA" \\
    -c "COPY stage FROM STDIN (FORMAT binary)" -c "ANALYZE stage; SET LOCAL work_mem = '64MB'" \\
    -c "UPDATE target AS t SET {assigned} FROM stage AS s WHERE t.id = s.id AND ({differ})" \\
    -c "INSERT INTO target SELECT s.* FROM stage AS s WHERE NOT EXISTS (SELECT FROM target AS t WHERE t.id = s.id)" \\
    -c COMMIT
"""


def filled(script: str, shell: bool = False, **more: str) -> list[str]:
    others = [name for name in COLUMNS.split(", ") if name != "id"]
    values = {
        "pg": PG_URL if shell else repr(PG_URL), "my_arguments": MY_ARGUMENTS, "columns": COLUMNS, "mapped": MAPPED,
        "marks": MARKS, "map_row": MAP_ROW, "assigned": ", ".join(f"{name} = s.{name}" for name in others),
        "differ": " OR ".join(f"t.{name} IS DISTINCT FROM s.{name}" for name in others), "before": "", "after": "",
    }  # fmt: skip
    values |= more
    text = script.format(**values)
    return ["bash", "-c", text] if shell else [sys.executable, "-c", text]


def kanal(
    source: str, target: str, write: str, file: str = "job.toml", mapped: bool = True
) -> Callable[[Path], list[str]]:
    def command(folder: Path) -> list[str]:
        text = JOB.format(pg=PG_URL, my=MY_URL, source=source, target=target, write=write)
        text = text if mapped else text.partition("same =")[0]
        (folder / file).write_text(text)
        return [sys.executable, "-m", "kanal", "run", file]

    return command


def pg(*statements: str, database: str | None = NAME) -> None:
    url = PG_URL if database else POSTGRESQL
    with psycopg.connect(url, autocommit=True) as connection:
        for statement in statements:
            connection.execute(statement)  # type: ignore[call-overload]


def my(*statements: str, database: str | None = NAME) -> None:
    connection = pymysql.connect(
        host=MY.host, port=MY.port or 3306, user=MY.username, password=MY.password or "", database=database,
        autocommit=True, ssl_disabled=True,
    )  # fmt: skip
    with connection, connection.cursor() as cursor:
        for statement in statements:
            cursor.execute(statement)


def empty_pg() -> None:
    pg("DROP TABLE IF EXISTS target", PG_TABLE.format(name="target", code="SMALLINT"), "CHECKPOINT")


def empty_my() -> None:
    my("DROP TABLE IF EXISTS target", MY_TABLE.format(name="target", code="SMALLINT"))


def changed_pg() -> None:
    empty_pg()
    tenth = "id % 10 = 3"
    pg(
        f"INSERT INTO target SELECT {MAPPED} FROM source WHERE id % 100 <> 7",
        f"UPDATE target SET weight = weight + 1, note = 'changed' WHERE {tenth}",
        "VACUUM FULL ANALYZE target",
    )


def fill_my() -> None:
    my("DROP TABLE IF EXISTS source", MY_TABLE.format(name="source", code="VARCHAR(10)"))
    with tempfile.TemporaryDirectory() as name:
        command = kanal("pg:source", "my:source", 'write = "append"', mapped=False)(Path(name))
        subprocess.run(command, cwd=name, check=True, stdout=subprocess.DEVNULL)


TRUNCATE = 'write = "truncate"'


class SlowLine:
    """Stands before PostgreSQL, and lets through so many bytes a second of each connection."""

    def __init__(self, rate: int) -> None:
        self.rate = rate
        server = sa.make_url(POSTGRESQL)
        self.behind = (server.host or "127.0.0.1", server.port or 5432)
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.url = sa.make_url(PG_URL).set(host="127.0.0.1", port=self.listener.getsockname()[1])
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            client, _ = self.listener.accept()
            server = socket.create_connection(self.behind)
            for one, other in ((client, server), (server, client)):
                threading.Thread(target=self._pass_on, args=(one, other), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            free = time.perf_counter()
            while data := one.recv(65536):
                other.sendall(data)
                free = max(free, time.perf_counter() - 0.1) + len(data) / self.rate
                time.sleep(max(0, free - time.perf_counter()))
            other.shutdown(socket.SHUT_WR)


def over_a_slow_line(write: str, file: str) -> Callable[[Path], list[str]]:
    """A load whose source is at the end of a line of 8 MB a second for each connection."""

    def command(folder: Path) -> list[str]:
        url = SlowLine(8_000_000).url.render_as_string(hide_password=False)
        made = kanal("slow:source", "pg:target", write, file)(folder)
        text = (folder / file).read_text()
        (folder / file).write_text(text + f'[connection.slow]\nurl = "{url}"\n')
        return made

    return command


def eight_unchanged(folder: Path) -> list[str]:
    command = kanal("pg:source", "pg:target", TRUNCATE)(folder)
    path = folder / "job.toml"
    path.write_text(path.read_text().replace("note = \"coalesce(note, 'none')\"\n", ""))
    return command


def copied_pg() -> None:
    """A full target, and an empty copy of it, whose columns need no mapping."""
    empty_pg()
    pg(f"INSERT INTO target SELECT {MAPPED} FROM source", "VACUUM ANALYZE target", "DROP TABLE IF EXISTS copy",
       PG_TABLE.format(name="copy", code="SMALLINT"), "CHECKPOINT")  # fmt: skip


def parts_pg() -> None:
    """The source in 8 equal tables, and as many empty targets."""
    for part in range(8):
        pg(f"CREATE TABLE IF NOT EXISTS part{part} AS SELECT * FROM source WHERE id % 8 = {part}")
        pg(f"DROP TABLE IF EXISTS target{part}", PG_TABLE.format(name=f"target{part}", code="SMALLINT"))
    pg("CHECKPOINT")


def parts(workers: int) -> Callable[[Path], list[str]]:
    """A job of 8 equal steps, so many at once."""

    def command(folder: Path) -> list[str]:
        text = JOB.format(pg=PG_URL, my=MY_URL, source="", target="", write="")
        head, pipeline = text[: text.index("[pipeline")], text[text.index("[pipeline") :]
        for part in range(8):
            named = pipeline.replace("pipeline.reading", f"pipeline.part{part}")
            named = named.replace('source = ""', f'source = "pg:part{part}"')
            head += named.replace('target = ""', f'target = "pg:target{part}"')
        path = folder / f"workers{workers}.toml"
        path.write_text(head)
        return [sys.executable, "-m", "kanal", "run", path.name, "--workers", str(workers)]

    return command


CASES: dict[str, tuple[Callable[[], None], dict[str, Callable[[Path], list[str]]]]] = {
    "PostgreSQL to PostgreSQL, truncate": (
        empty_pg,
        {
            "kanal": kanal("pg:source", "pg:target", TRUNCATE),
            "psql COPY piped to psql COPY": lambda _: filled(PIPE, shell=True),
            "by hand: fetchmany, executemany": lambda _: filled(PG_BY_HAND),
        },
    ),
    "PostgreSQL to PostgreSQL, truncate, rebuild_indexes": (
        empty_pg,
        {
            "kanal": kanal("pg:source", "pg:target", TRUNCATE + "\nrebuild_indexes = true"),
            "psql COPY piped to psql COPY": lambda _: filled(PIPE, shell=True),
            "the same, the key dropped and added again": lambda _: filled(PIPE, shell=True, **REBUILT),
        },
    ),
    "PostgreSQL to PostgreSQL, truncate, eight of ten columns unchanged": (
        empty_pg,
        {
            "kanal": eight_unchanged,
            "psql COPY piped to psql COPY": lambda _: filled(PIPE, shell=True, mapped=MAPPED_EIGHT),
        },
    ),
    "PostgreSQL, a table copied within one database": (
        copied_pg,
        {
            "kanal": kanal("pg:target", "pg:copy", TRUNCATE, mapped=False),
            "INSERT … SELECT by psql": lambda _: ["bash", "-c", COPY_BY_SQL.format(pg=PG_URL)],
        },
    ),
    "PostgreSQL to MariaDB, truncate": (
        empty_my,
        {
            "kanal": kanal("pg:source", "my:target", TRUNCATE),
            "by hand: multi-row inserts": lambda _: filled(PG_TO_MY_BY_HAND),
        },
    ),
    "MariaDB to PostgreSQL, truncate": (
        empty_pg,
        {
            "kanal": kanal("my:source", "pg:target", TRUNCATE),
            "by hand: fetchmany, executemany": lambda _: filled(MY_TO_PG_BY_HAND),
        },
    ),
    "PostgreSQL, 8 equal steps, 2 workers": (parts_pg, {"kanal": parts(2), "one worker": parts(1)}),
    "PostgreSQL, one table split in 2": (
        empty_pg,
        {
            "kanal": kanal("pg:source", "pg:target", TRUNCATE + "\nsplit = 2", "split.toml"),
            "not split": kanal("pg:source", "pg:target", TRUNCATE),
        },
    ),
    "PostgreSQL over a line of 8 MB/s a connection, split in 3": (
        empty_pg,
        {
            "kanal": over_a_slow_line(TRUNCATE + "\nsplit = 3", "split.toml"),
            "not split": over_a_slow_line(TRUNCATE, "job.toml"),
        },
    ),
    "MariaDB to PostgreSQL, one table split in 2": (
        empty_pg,
        {
            "kanal": kanal("my:source", "pg:target", TRUNCATE + "\nsplit = 2", "split.toml"),
            "not split": kanal("my:source", "pg:target", TRUNCATE),
        },
    ),
    "PostgreSQL merge, 10 % changed": (
        changed_pg,
        {
            "kanal": kanal("pg:source", "pg:target", 'write = "merge"\nkey = "id"'),
            "psql COPY into a temporary table, UPDATE, INSERT": lambda _: filled(MERGE_BY_SQL, shell=True),
        },
    ),
}


def measured(command: list[str], folder: Path) -> tuple[float, int, float]:
    """Seconds, peak memory, in MB, and seconds of processor time of a process."""
    (folder / "kanal-runs.db").unlink(missing_ok=True)
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    started = time.perf_counter()
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, env=environment)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - started
    if status:
        raise SystemExit(f"{command} failed")
    return seconds, usage.ru_maxrss // 1024, usage.ru_utime + usage.ru_stime


def run_case(name: str, runs: int, figures: dict[str, object], by_hand: bool) -> None:
    prepare, ways = CASES[name]
    ways = {way: make for way, make in ways.items() if by_hand or not way.startswith("by hand")}
    times: dict[str, list[float]] = {way: [] for way in ways}
    computing: dict[str, list[float]] = {way: [] for way in ways}
    memory = 0
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        commands = {way: make(folder) for way, make in ways.items()}
        for _ in range(runs):
            for way, command in commands.items():
                prepare()
                seconds, megabytes, busy = measured(command, folder)
                times[way].append(seconds)
                computing[way].append(busy)
                memory = max(memory, megabytes) if way == "kanal" else memory
    print(f"\n{name} (kanal's peak memory {memory} MB)")
    paired = {}
    for way, found in times.items():
        ratios = [theirs / mine for theirs, mine in zip(found, times["kanal"], strict=True)]
        ratio = paired[way] = statistics.median(ratios)
        inverse = f"kanal takes {1 / ratio:.2f} times as long ({1 / max(ratios):.2f} to {1 / min(ratios):.2f})"
        busy = statistics.median(computing[way])
        said = f"{statistics.median(found):7.2f} s, {busy:5.2f} s of processor time   {ratio:5.2f} ×"
        print(f"  {way:48} {said}: {inverse}", flush=True)
    figures[name] = paired


def memory_growth(rows: int, figures: dict[str, object]) -> None:
    """Peak memory for the rows, and for ten times as many."""
    peaks = []
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        command = kanal("pg:source", "pg:target", TRUNCATE)(folder)
        for first, last in ((0, rows - 1), (rows, 10 * rows - 1)):
            if first:
                pg(PG_ROWS.format(first=first, last=last))
            empty_pg()
            peaks.append(measured(command, folder)[1])
    pg(f"DELETE FROM source WHERE id >= {rows}", "VACUUM FULL source")
    print(
        f"\npeak memory: {peaks[0]} MB for {rows:,} rows, {peaks[1]} MB for {10 * rows:,}: {peaks[1] / peaks[0]:.2f} ×"
    )
    figures["peak memory, MB"] = peaks


def many_tables(tables: int, figures: dict[str, object]) -> None:
    """What a step costs apart from its rows: as many tables of 100 rows, against one."""
    names = [f"t{number}" for number in range(tables)]
    pg(*(f"CREATE TABLE a_{name} AS SELECT i AS id, i::text AS v FROM generate_series(1, 100) i" for name in names))
    pg(*(f"CREATE TABLE b_{name} (id int PRIMARY KEY, v text)" for name in names))
    took, busy = {}, {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        for count in (1, tables):
            pipelines = "".join(
                f'[pipeline.{name}]\nsource = "pg:a_{name}"\ntarget = "pg:b_{name}"\nwrite = "truncate"\n'
                for name in names[:count]
            )
            (folder / "job.toml").write_text(f'job = "many"\n[connection.pg]\nurl = "{PG_URL}"\n{pipelines}')
            command = [sys.executable, "-m", "kanal", "run", "job.toml"]
            tries = [measured(command, folder) for _ in range(5)]
            took[count], busy[count] = (statistics.median(one[place] for one in tries) for place in (0, 2))
    step = (took[tables] - took[1]) / (tables - 1) * 1000
    computing = (busy[tables] - busy[1]) / (tables - 1) * 1000
    print(f"\n{tables} tables of 100 rows: {took[tables]:.2f} s, one: {took[1]:.2f} s: {step:.1f} ms a step")
    print(f"processor time: one {busy[1]:.2f} s, a step {computing:.1f} ms")
    figures["milliseconds a step"] = step


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument(
        "--case", action="append", help=f"one of: {', '.join(CASES)}, memory, tables".replace("%", "%%")
    )
    parser.add_argument("--not-by-hand", action="store_true", help="leave out the slow ways")
    parser.add_argument("--write", type=Path)
    options = parser.parse_args()
    chosen = options.case or [*CASES, "memory", "tables"]
    figures: dict[str, object] = {}
    pg(f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}", database=None)
    my(f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}", database=None)
    try:
        pg(PG_TABLE.format(name="source", code="TEXT"), PG_ROWS.format(first=0, last=options.rows - 1))
        pg("VACUUM ANALYZE source")
        print(f"{options.rows:,} rows, 10 columns, {options.runs} runs, {os.cpu_count()} cores, {platform.machine()}, "
              f"Python {platform.python_version()}; ratios are medians of those of each run")  # fmt: skip
        if any("MariaDB to" in name for name in chosen):
            fill_my()
        for name in chosen:
            if name in CASES:
                run_case(name, options.runs, figures, not options.not_by_hand)
        if "memory" in chosen:
            memory_growth(options.rows, figures)
        if "tables" in chosen:
            many_tables(200, figures)
    finally:
        pg(f"DROP DATABASE {NAME} WITH (FORCE)", database=None)
        my(f"DROP DATABASE {NAME}", database=None)
    if options.write:
        options.write.write_text(json.dumps(figures, indent=1))


if __name__ == "__main__":
    main()
