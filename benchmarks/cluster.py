"""How a cluster scales: ranges of one table by more and more workers, many small steps, and what a task costs.

    python benchmarks/cluster.py --postgresql postgresql://postgres@127.0.0.1/postgres

Two cores would soon be the bound. So the source stands behind a gate that passes so many bytes a second on each
connection, as a network does; what is measured is what Kanal, dask.distributed, the run log and the target add.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import sqlalchemy as sa

import kanal
from kanal.runner.elsewhere.cluster import Cluster

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from hosts import Gate


@contextlib.contextmanager
def cluster_of(workers: int) -> Iterator[Cluster]:
    """A scheduler and so many workers of one thread."""
    with tempfile.TemporaryDirectory() as folder, contextlib.ExitStack() as stack:
        file = Path(folder) / "scheduler.json"

        def start(*command: str) -> None:
            process = subprocess.Popen(
                [sys.executable, "-m", "dask", *command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            stack.callback(process.wait, 20)
            stack.callback(process.kill)

        start("scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", str(file))
        while not file.exists():
            time.sleep(0.1)
        address = json.loads(file.read_text())["address"]
        for _ in range(workers):
            start("worker", address, "--nthreads", "1", "--no-nanny", "--no-dashboard")
        while True:
            with contextlib.suppress(kanal.KanalError):
                crew = Cluster(address)
                if crew.slots == workers:
                    break
                crew.close()
            time.sleep(0.3)
        try:
            yield crew
        finally:
            crew.close()


class Databases:
    """A source, a target and a run log of their own, dropped at the end."""

    NAMES = ("kanal_bench_old", "kanal_bench_new", "kanal_bench_log")

    def __init__(self, url: str) -> None:
        self.url = sa.make_url(url)
        self.admin = sa.create_engine(self.url.set(drivername="postgresql+psycopg"), isolation_level="AUTOCOMMIT")

    def __enter__(self) -> Databases:
        for name in self.NAMES:
            self.run(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
            self.run(f"CREATE DATABASE {name}")
        return self

    def __exit__(self, *_: object) -> None:
        for name in self.NAMES:
            self.run(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")

    def run(self, sql: str, database: str | None = None) -> None:
        engine = self.admin
        if database is not None:
            url = self.url.set(drivername="postgresql+psycopg", database=database)
            engine = sa.create_engine(url, isolation_level="AUTOCOMMIT", poolclass=sa.NullPool)
        with engine.connect() as connection:
            connection.exec_driver_sql(sql)

    def place(self, name: str, port: int | None = None) -> str:
        return self.url.set(database=name, port=port or self.url.port).render_as_string(hide_password=False)

    def job(self, pipelines: dict[str, kanal.Pipeline], port: int | None = None, **more: Any) -> kanal.Job:
        old, new, log = self.NAMES
        connection = {
            "old": kanal.Connection(url=self.place(old, port)),
            "new": kanal.Connection(url=self.place(new)),
        }
        run_log = kanal.RunLog(url=self.place(log))
        return kanal.Job(job="bench", connection=connection, run_log=run_log, pipeline=pipelines, **more)


def timed(job: kanal.Job, **how: Any) -> float:
    began = time.perf_counter()
    run = job.run(**how)
    seconds = time.perf_counter() - began
    assert str(run.status) == "succeeded", [step.error for step in run if step.error][:3]
    return seconds


def scaling(databases: Databases, counts: list[int], rows: int, rate: float) -> list[tuple[int, float]]:
    """Seconds of one table, in as many ranges as there are workers."""
    databases.run(
        f"CREATE TABLE passage AS SELECT i AS id, 'barge ' || i AS barge, mod(i * 7, 1000000)::numeric(12,2) AS tons, "
        f"timestamp '2026-01-01' + i * interval '1 minute' AS locked FROM generate_series(1, {rows}) AS i",
        "kanal_bench_old",
    )
    databases.run("ALTER TABLE passage ADD PRIMARY KEY (id)", "kanal_bench_old")
    databases.run("CREATE TABLE passage (id integer PRIMARY KEY, barge text, tons numeric(12,2), locked timestamp)",
                  "kanal_bench_new")  # fmt: skip
    gate = Gate("127.0.0.1", databases.url.port or 5432, rate)
    found = []
    for count in counts:
        places: dict[str, Any] = {"source": "old:passage", "target": "new:passage", "write": "truncate", "split": count}
        step = kanal.Pipeline(**places, batch_rows=5_000)
        with cluster_of(count) as crew:
            timed(databases.job({"warm": kanal.Pipeline(**places, where="id < 0")}), executor=crew)
            time.sleep(8)  # until the workers have closed their connections of that run
            found.append((count, timed(databases.job({"passage": step}, gate.own_port), executor=crew)))
        print(f"{count:3} workers  {found[-1][1]:7.1f} s", flush=True)
    return found


def small_steps(databases: Databases, steps: int) -> dict[str, float]:
    """Seconds a step of 100 rows, here and by one worker, one at a time."""
    for name in ("kanal_bench_old", "kanal_bench_new"):
        for place in range(steps):
            databases.run(f"CREATE TABLE small{place} (id integer PRIMARY KEY, v text)", name)
    for place in range(steps):
        databases.run(f"INSERT INTO small{place} SELECT i, 'v' FROM generate_series(1, 100) AS i", "kanal_bench_old")
    job = databases.job({
        f"s{place}": kanal.Pipeline(source=f"old:small{place}", target=f"new:small{place}", write="truncate")
        for place in range(steps)
    })  # fmt: skip
    with cluster_of(1) as crew:
        timed(job, executor=crew)
        pairs = [(timed(job, workers=1), timed(job, workers=1, executor=crew)) for _ in range(5)]
    here, there = (statistics.median(pair[side] for pair in pairs) / steps for side in (0, 1))
    return {"here": here, "worker": there, "overhead": there - here}


def many_steps(databases: Databases, steps: int, workers: int) -> float:
    """Seconds of so many steps that each run a command."""
    commands = {f"c{place}": kanal.Command(connection="new", sql="SELECT 1") for place in range(steps)}
    with cluster_of(workers) as crew:
        return timed(databases.job({}, command=commands), executor=crew)


def batch_cost(databases: Databases) -> float:
    """Seconds that a batch more costs a run of two workers."""
    places: dict[str, Any] = {"source": "old:passage", "target": "new:passage", "write": "truncate", "split": 2}
    few, many = (kanal.Pipeline(**places, where="id <= 100000", batch_rows=rows) for rows in (100_000, 100))
    with cluster_of(2) as crew:
        timed(databases.job({"few": few}), executor=crew)
        steps = {"few": few}, {"many": many}
        pairs = [[timed(databases.job(step), executor=crew) for step in steps] for _ in range(3)]
    return statistics.median(with_many - with_few for with_few, with_many in pairs) / 1_000


def calculated(task: float, log: float, batch: float, ratio: float) -> None:
    """What bounds 1,000 tables and 10 TB on 64 workers, by what was measured here."""
    tables, size, workers, reading, part = 1_000, 10e12, 64, 100e6, 2e9
    tasks = size / part + 2 * tables
    moving = size / reading / workers
    print(f"""
1,000 tables, 10 TB, 64 workers. Assumed: {reading / 1e6:.0f} MB/s a worker for reading, computing and writing together,
ranges of {part / 1e9:.0f} GB, so {tasks:,.0f} tasks.
  telling of batches, once a second for each worker, takes at most {workers * batch:.0%} of the run's process
  moving the bytes            {moving / 3600:6.1f} h  (by {workers} workers)
  what tasks cost the workers {tasks * task / workers / 60:6.1f} min
  what they cost the run      {tasks * log / 60:6.1f} min  (one process, scheduler and run log: the many steps)
  efficiency measured with the most workers {ratio:.2f}
  a target that takes 1 GB/s altogether bounds it at {size / 1e9 / 3600:.1f} h, and publishing reads and writes each row
  once more there: {2 * size / 1e9 / 3600:.1f} h.""")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "--postgresql", default=os.environ.get("KANAL_TEST_POSTGRESQL", ""), help="an empty server's URL"
    )
    parser.add_argument("--workers", type=int, nargs="*", default=[2, 4, 8, 16])
    parser.add_argument("--rows", type=int, default=400_000)
    parser.add_argument("--rate", type=float, default=64_000, help="bytes a second on each connection to the source")
    parser.add_argument("--steps", type=int, default=200)
    parser.add_argument("--many", type=int, default=10_000)
    arguments = parser.parse_args()
    with Databases(arguments.postgresql) as databases:
        found = scaling(databases, arguments.workers, arguments.rows, arguments.rate)
        first, base = found[0]
        for count, seconds in found:
            print(f"{count:3} workers: {seconds:7.1f} s, {base * first / (seconds * count):.2f} of linear")
        costs = small_steps(databases, arguments.steps)
        print(", ".join(f"{name} {1000 * value:.1f} ms a step" for name, value in costs.items()))
        took = many_steps(databases, arguments.many, 2)
        print(f"{arguments.many:,} steps of a command: {took:.0f} s, {1000 * took / arguments.many:.1f} ms each")
        last, seconds = found[-1]
        batch = batch_cost(databases)
        print(f"a batch costs the run {1000 * batch:.1f} ms")
        calculated(costs["overhead"], took / arguments.many, batch, base * first / (seconds * last))


if __name__ == "__main__":
    main()
