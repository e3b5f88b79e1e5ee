"""Steps that run at once, tables read in parts, and what takes too long."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, Place, document
from test_servers import job, succeeded

Places = Callable[[str], Place]
SLEEP = {"postgresql": "SELECT pg_sleep({})", "mariadb": "SELECT SLEEP({})"}


class Overlap:
    """A watcher that counts how many steps run at once."""

    def __init__(self) -> None:
        self.now: set[str] = set()
        self.most = 0

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None: ...

    def batch_ends(self, step: str, tally: kanal.Tally) -> None: ...

    def step_begins(self, step: str) -> None:
        self.now.add(step)
        self.most = max(self.most, len(self.now))

    def step_ends(self, result: kanal.StepResult) -> None:
        self.now.discard(result.step)


def sleepers(folder: Path, place: Place, count: int, more: str = "") -> kanal.Job:
    sql = SLEEP[place.kind].format(0.4)
    body = "".join(f'[command.s{n}]\nconnection = "new"\nsql = "{sql}"\n' for n in range(count))
    made = job(folder, "", new=place)
    path = folder / "job.toml"
    path.write_text(made and path.read_text() + more + body)
    return kanal.Job.read(path)


@pytest.mark.parametrize(("workers", "more", "most"), [(1, "", 1), (3, "", 3), (4, "max_parallel = 2\n", 2)])
@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_as_many_steps_at_once_as_are_allowed(
    places: Places, tmp_path: Path, kind: str, workers: int, more: str, most: int
) -> None:
    watcher = Overlap()
    run = succeeded(sleepers(tmp_path, places(kind), 5, more).run(workers=workers, watcher=watcher))
    assert [step.step for step in run] == [f"s{n}" for n in range(5)]
    assert watcher.most == most


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_what_waits_waits_also_beside_others(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    names = [f"t{n}" for n in range(6)]
    for name in names:
        old.sql(f"CREATE TABLE {name} (n integer)", f"INSERT INTO {name} VALUES (1), (2), (3)")
        new.sql(f"CREATE TABLE {name} (n integer)")
    body = "workers = 4\n" + "".join(
        f'[pipeline.{name}]\nsource = "old:{name}"\ntarget = "new:{name}"\n'
        + (f'after = "{names[place - 3]}"\n' if place >= 3 else "")
        for place, name in enumerate(names)
    )
    made = job(tmp_path, body.replace("workers = 4\n", ""), old=old, new=new)
    ended: list[str] = []
    watcher = Overlap()
    watcher.step_ends = lambda result: (ended.append(result.step), watcher.now.discard(result.step))[0]  # type: ignore[method-assign, assignment, func-returns-value]
    succeeded(made.run(workers=4, watcher=watcher))
    assert all(ended.index(names[place]) > ended.index(names[place - 3]) for place in range(3, 6))
    assert watcher.most == (1 if kind == "sqlite" else watcher.most)
    assert [new.rows(f"SELECT count(*) FROM {name}") for name in names] == [[(3,)]] * 6


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.parametrize(
    ("column", "declared", "value"),
    [("id", "bigint PRIMARY KEY", "{n}"), ("v", "integer NULL", "NULLIF({n} % 100, 7)"), ("d", "timestamp", "{t}")],
)
@pytest.mark.parametrize("rows", [0, 1, 5_000])
def test_a_table_in_parts_is_the_whole_table(
    places: Places, tmp_path: Path, kind: str, column: str, declared: str, value: str, rows: int
) -> None:
    old, new = places(kind), places("postgresql")
    moment = {
        "postgresql": "timestamp '2025-01-01' + n * interval '37 minutes'",
        "mariadb": "TIMESTAMP('2025-01-01') + INTERVAL n * 37 MINUTE",
    }[kind]
    declared = declared.replace("timestamp", "datetime") if kind == "mariadb" else declared
    old.sql(f"CREATE TABLE t ({column} {declared}, w varchar(9))")
    numbers = {"postgresql": f"SELECT generate_series(1, {rows})", "mariadb": f"SELECT seq FROM seq_1_to_{rows}"}[kind]
    if rows:
        made = value.format(n="n", t=moment).replace("%", "%%" if kind == "mariadb" else "%")
        old.sql(f"INSERT INTO t SELECT {made}, 'w' FROM ({numbers}) AS q(n)".replace("%%", "%")
                if kind == "postgresql" else f"INSERT INTO t SELECT {made.replace('%%', '%')}, 'w' FROM (SELECT seq AS n FROM seq_1_to_{rows}) AS q")  # fmt: skip
    new.sql(f"CREATE TABLE t ({column} {declared.replace('datetime', 'timestamp')}, w varchar(9))")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nsplit = {{ parts = 3, column = "{column}" }}\nbatch_rows = 400'
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert run["t"].tally.inserted == rows
    content = [place.rows(f"SELECT count({column}), count(*), count(DISTINCT {column}), min({column}), max({column}) FROM t")
               for place in (old, new)]  # fmt: skip
    assert content[0] == content[1]


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_parts_see_one_state_while_others_write(places: Places, tmp_path: Path, kind: str) -> None:
    """Two rows change together, again and again; whoever sees different states sees them differ."""
    old, new = places(kind), places("postgresql")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, n integer)")
    with old.engine.begin() as connection:
        connection.exec_driver_sql("INSERT INTO t VALUES (%s, 0)", [(n,) for n in range(20_000)])
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, n integer)")
    stop = threading.Event()

    def write() -> None:
        while not stop.is_set():
            old.sql("UPDATE t SET n = n + 1 WHERE id IN (3, 19990)")

    writer = threading.Thread(target=write)
    writer.start()
    try:
        body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\nsplit = 2'
        made = job(tmp_path, body, old=old, new=new)
        for _ in range(5):
            succeeded(made.run())
            assert len(new.rows("SELECT DISTINCT n FROM t WHERE id IN (3, 19990)")) == 1
    finally:
        stop.set()
        writer.join()


@pytest.mark.parametrize(
    ("kind", "settings", "said"),
    [
        ("sqlite", "split = 2", "cannot be read in parts that all see the same state"),
        ("postgresql", "split = 2\nlimit = 3", "the parts of a split have none"),
        ("postgresql", 'split = { parts = 2, column = "v" }', "ranges of v cannot be told"),
        ("postgresql", "split = 9", "max_parallel of connection old allows 8"),
    ],
)
def test_what_cannot_be_split_is_said(places: Places, tmp_path: Path, kind: str, settings: str, said: str) -> None:
    old, new = places(kind), places("sqlite")
    for place in (old, new):
        place.sql("CREATE TABLE t (id integer PRIMARY KEY, v varchar(20))")
    made = job(tmp_path, f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n{settings}', new=new, old=old)
    path = tmp_path / "job.toml"
    path.write_text(path.read_text().replace("[pipeline.t]", "max_parallel = 8\n[pipeline.t]"))
    assert any(said in problem for problem in kanal.Job.read(path).check()), made.check()


# --- what takes too long --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.parametrize("where", ["command", "source", "first_sql"])
def test_a_step_that_takes_too_long_is_stopped(places: Places, tmp_path: Path, kind: str, where: str) -> None:
    old, new = places(kind), places(kind)
    new.sql("CREATE TABLE t (n integer)", "INSERT INTO t VALUES (1)")
    old.sql("CREATE TABLE t (n integer)", "INSERT INTO t VALUES (1)")
    sleep = SLEEP[kind].format(30)
    body = f'[command.t]\nconnection = "new"\nsql = "{sleep}"\ntimeout = 1'
    if where != "command":
        query = f"SELECT n FROM t WHERE CAST({sleep.removeprefix('SELECT ')} AS char) <> 'x'"
        source = f'{{ connection = "old", query = "{query}" }}' if where == "source" else '"old:t"'
        first = f'first_sql = "{sleep}"' if where == "first_sql" else ""
        body = f'[pipeline.t]\nsource = {source}\ntarget = "new:t"\nwrite = "truncate"\ntimeout = 1\n{first}'
    started = time.perf_counter()
    run = job(tmp_path, body, old=old, new=new).run()
    assert time.perf_counter() - started < 15
    assert "it took longer than its timeout of 1 s; it was undone" in str(run["t"].error)
    assert run["t"].note is None or "try" not in run["t"].note
    assert new.rows("SELECT n FROM t") == [(1,)]


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_lock_is_waited_for_so_long(places: Places, files: Files, process: Cli, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    for place in (old, new):
        place.sql("CREATE TABLE t (n integer PRIMARY KEY)", "INSERT INTO t VALUES (1)")
    job(files.folder, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\nretries = 1\nretry_wait = 0.1',
        old=old, new=new)  # fmt: skip
    path = files.folder / "job.toml"
    path.write_text(path.read_text().replace("[pipeline.t]", "lock_timeout = 1\n[pipeline.t]"))
    with new.engine.connect() as connection:
        if kind == "sqlite":
            connection.exec_driver_sql("BEGIN IMMEDIATE")
        connection.exec_driver_sql("UPDATE t SET n = 2")
        started = time.perf_counter()
        outcome = process("run", "job.toml")
        assert time.perf_counter() - started < 30
    assert outcome.returncode == 1
    assert "lock" in outcome.stdout.lower()
    assert "try 1 failed" in outcome.stdout


# --- what is kept of runs -------------------------------------------------------------------------------------------


def test_limits_of_the_run_log_and_what_is_usual(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (n)", t=[(n,) for n in range(100)] + [("x",)] * 50)
    files.database("new.db", "CREATE TABLE t (n integer)")
    files.job('[run_log]\nkeep_runs = 4\nkeep_rejects = 20\n'
              '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\nbatch_rows = 10')  # fmt: skip
    for _ in range(5):
        outcome = cli("run", "job.toml", "--events", "events.jsonl")
        assert outcome.returncode == 0
        assert "of its rejected rows the first 20 are kept, and all are counted" in " ".join(outcome.stdout.split())
    (step,) = document(cli("runs", "5", "--json"))["steps"]
    assert step["rejected"] == 50
    assert len(document(cli("rejects", "5", "--json"))) == 20
    assert [run["run"] for run in document(cli("runs", "--json"))] == [5, 4, 3, 2]
    assert files.rows("kanal-runs.db", "SELECT DISTINCT run FROM kanal_reject ORDER BY 1") == [(2,), (3,), (4,), (5,)]
    files.database("old.db", "DELETE FROM t WHERE n > 50 OR n = 'x'")
    assert cli("run", "job.toml").returncode == 0
    shown = cli("runs", "6").stdout
    assert "t read 51 rows, far fewer than the 150 that are usual" in " ".join(shown.split())
    found = document(cli("runs", "6", "--json"))
    assert found["far_fewer_rows"] == ["t"]
    assert found["usual"]["t"]["read"] == 150
    assert set(found["times"]["t"]) == {"reading", "computing", "writing"}
    events = [json.loads(line) for line in (files.folder / "events.jsonl").read_text().splitlines()]
    assert [event["event"] for event in events[:2]] == ["run_begins", "step_begins"]
    ends = [event for event in events if event["event"] == "step_ends"]
    assert [(event["run"], event["step"], event["rejected"]) for event in ends] == [(n, "t", 50) for n in range(1, 6)]


def test_a_run_log_of_another_form(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (n integer)", t=[(1,)])
    files.database("new.db", "CREATE TABLE t (n integer)")
    files.database("kanal-runs.db", "CREATE TABLE kanal_run (run integer primary key, job text, file text, status text, "
                   "started timestamp, finished timestamp, host text, process integer); "
                   "CREATE TABLE kanal_batch (run integer, step text, batch integer, seconds real, read integer, filtered "
                   "integer, rejected integer, superseded integer, inserted integer, updated integer, unchanged integer, "
                   "deleted integer, PRIMARY KEY (run, step, batch))",
                   kanal_run=[(1, "test", None, "succeeded", "2025-01-01 00:00:00.000000", "2025-01-01 00:00:01.000000",
                               "h", 1)])  # fmt: skip
    files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"')
    assert document(cli("run", "job.toml", "--json"))["run"] == 2
    assert [run["run"] for run in document(cli("runs", "--json"))] == [2, 1]
    files.database("kanal-runs.db", "UPDATE kanal_version SET version = 99")
    outcome = cli("run", "job.toml")
    assert (outcome.returncode, "which a newer Kanal has made" in outcome.stderr) == (2, True)
