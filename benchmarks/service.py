"""The service under many eyes, and the run log after many runs.

    python benchmarks/service.py [--jobs 200] [--runs 5000] [--viewers 50] [--seconds 30] [--many 100000]

Fills a run log on SQLite with runs of many jobs, of four steps each, serves the jobs, and has viewers ask for pages,
one after the other, a second apart, as people do. Then it fills a run log with `--many` runs, and times `kanal runs`,
beside a `kanal --version` that looks at nothing, and each page by a single viewer. Prints medians, and the time within
which 99 of 100 came, in seconds.
"""

from __future__ import annotations

import argparse
import datetime as dt
import http.client
import random
import signal
import socket
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

JOB = """job = "job-{number:03d}"
[connection.old]
url = "sqlite:///old.db"
[connection.new]
url = "sqlite:///new.db"
[pipeline.t]
source = "old:t"
target = "new:t{number}"
write = "truncate"
create = "missing"
[schedule]
cron = "{minute} 2 * * *"
"""
STEPS = ("locks", "vessels", "passages", "cargo")


def fill(folder: Path, jobs: int, runs: int) -> None:
    """Write job files and a run log with that many runs of theirs."""
    with sqlite3.connect(folder / "old.db") as old:
        old.execute("CREATE TABLE IF NOT EXISTS t (id INTEGER PRIMARY KEY)")
    for number in range(jobs):
        (folder / f"job{number}.toml").write_text(JOB.format(number=number, minute=number % 60))
    if not (folder / "kanal-runs.db").exists():
        subprocess.run(
            [sys.executable, "-m", "kanal", "run", "job0.toml"], cwd=folder, stdout=subprocess.DEVNULL, check=True
        )
    chance = random.Random(1)
    log = sqlite3.connect(folder / "kanal-runs.db")
    (first,) = log.execute("SELECT max(run) FROM kanal_run").fetchone()
    start = dt.datetime.now(dt.UTC).replace(tzinfo=None) - dt.timedelta(minutes=runs)
    rows, steps = [], []
    for place in range(runs):
        run, job = first + 1 + place, f"job-{place % jobs:03d}"
        begun = start + dt.timedelta(minutes=place)
        status = "failed" if chance.random() < 0.03 else "succeeded"
        rows.append(
            (
                run,
                job,
                None,
                status,
                str(begun),
                str(begun + dt.timedelta(seconds=40)),
                "house",
                1,
                "t",
                "{}",
                "schedule",
            )
        )
        for position, step in enumerate(STEPS, 1):
            rejected = chance.choice([0, 0, 0, 5])
            steps.append((run, step, position, "pipeline", status, 10.0, 1, 1000, rejected, 1000 - rejected))
    log.executemany(
        "INSERT INTO kanal_run (run, job, file, status, started, finished, host, process, token, options, started_by) "
        "VALUES (?,?,?,?,?,?,?,?,?,?,?)", rows)  # fmt: skip
    log.executemany(
        "INSERT INTO kanal_step (run, step, position, kind, status, seconds, batches, read, rejected, inserted) "
        "VALUES (?,?,?,?,?,?,?,?,?,?)", steps)  # fmt: skip
    log.commit()
    log.close()


def ask(port: int, path: str) -> float:
    """The seconds until a page has come."""
    began = time.perf_counter()
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    connection.request("GET", path)
    answer = connection.getresponse()
    size = len(answer.read())
    connection.close()
    assert answer.status == 200 and size > 1000, (path, answer.status)
    return time.perf_counter() - began


def say(name: str, times: list[float]) -> None:
    ordered = sorted(times)
    slow = ordered[int(0.99 * (len(ordered) - 1))]
    print(
        f"{name:44} {len(times):7,} times  median {statistics.median(times):6.3f} s  99 of 100 within {slow:6.3f} s",
        flush=True,
    )


def serve(folder: Path, jobs: int) -> tuple[subprocess.Popen[str], int, float]:
    """A service of the jobs, its port, and the seconds until it answers."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    began = time.perf_counter()
    names = [f"job{number}.toml" for number in range(jobs)]
    process = subprocess.Popen(
        [sys.executable, "-m", "kanal", "serve", *names, "--port", str(port)], cwd=folder,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    while True:
        try:
            ask(port, "/")
            return process, port, time.perf_counter() - began
        except OSError:
            time.sleep(0.1)


def view(port: int, jobs: int, runs: int, viewers: int, seconds: float) -> dict[str, list[float]]:
    """The seconds of each page, of so many viewers for so long."""
    times: dict[str, list[float]] = {"all jobs": [], "one job": [], "one run": []}
    until = time.monotonic() + seconds

    def look(seed: int) -> None:
        chance = random.Random(seed)
        while time.monotonic() < until:
            run = chance.randrange(2, runs)
            job = (run - 2) % jobs
            for name, path in (
                ("all jobs", "/"), ("one job", f"/jobs/job-{job:03d}"), ("one run", f"/jobs/job-{job:03d}/runs/{run}"),
            ):  # fmt: skip
                times[name].append(ask(port, path))
                time.sleep(chance.uniform(0.5, 1.5))  # a person reads

    threads = [threading.Thread(target=look, args=(seed,)) for seed in range(viewers)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return times


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    for name, usual in (("jobs", 200), ("runs", 5000), ("viewers", 50), ("seconds", 30), ("many", 100_000)):
        parser.add_argument(f"--{name}", type=int, default=usual)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        fill(folder, chosen.jobs, chosen.runs)
        process, port, ready = serve(folder, chosen.jobs)
        try:
            print(f"{chosen.jobs} jobs, {chosen.runs:,} runs: the service answers after {ready:.1f} s", flush=True)
            for page, times in view(port, chosen.jobs, chosen.runs, chosen.viewers, chosen.seconds).items():
                say(f"{page}, {chosen.viewers} viewers", times)
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait(60)
        fill(folder, chosen.jobs, chosen.many - chosen.runs)
        print(
            f"{chosen.many:,} runs, a run log of {(folder / 'kanal-runs.db').stat().st_size / 1e6:,.0f} MB", flush=True
        )
        for said, arguments in (
            ("kanal --version", ["--version"]),
            ("kanal runs", ["runs"]),
            ("kanal runs 5000", ["runs", "5000"]),
        ):
            times = []
            for _ in range(7):
                began = time.perf_counter()
                subprocess.run(
                    [str(Path(sys.executable).with_name("kanal")), *arguments],
                    cwd=folder,
                    stdout=subprocess.DEVNULL,
                    check=True,
                )
                times.append(time.perf_counter() - began)
            say(said, times)
        process, port, _ = serve(folder, chosen.jobs)
        try:
            for page, times in view(port, chosen.jobs, chosen.many, 1, 20).items():
                say(f"{page}, 1 viewer", times)
            say("/metrics", [ask(port, "/metrics") for _ in range(3) if not time.sleep(1.1)])
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait(60)


if __name__ == "__main__":
    main()
