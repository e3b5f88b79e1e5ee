"""Runs that are broken off: killed at any instant, cut off from a server, locked out; and gone on with."""

from __future__ import annotations

import contextlib
import os
import random
import resource
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

import forking
import kanal
from conftest import Cli, Files, Place, document, server_or_skip
from forking import Forked
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.sqlite import SQLiteLoad
from test_runs import counts
from test_servers import job, succeeded
from unreliable import Between

Places = Callable[[str], Place]
ROWS = 60_000
STEPS = """
    [defaults]
    batch_rows = 2000
    commit = "{commit}"
    [pipeline.first]
    source = "old:t"
    target = "new:one"
    write = "append"
    [pipeline.second]
    source = "old:t"
    target = "new:two"
    write = "{write}"
    {key}
    after = "first"
"""


def filled(places: Places, kind: str) -> tuple[Place, Place]:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, v text)")
    with old.engine.begin() as connection:
        connection.exec_driver_sql("INSERT INTO t VALUES (?, ?)", [(n, f"v{n}") for n in range(ROWS)])
    # No key in the first, which would hide rows that come twice.
    new.sql("CREATE TABLE one (id integer, v varchar(20))", "INSERT INTO one VALUES (-1, 'before')")
    new.sql("CREATE TABLE two (id integer PRIMARY KEY, v varchar(20))", "INSERT INTO two VALUES (7, 'old')")
    return old, new


def logged(files: Files, query: str) -> list[tuple[Any, ...]]:
    """What a query finds in the run log; nothing while there is none."""
    try:
        return files.rows("kanal-runs.db", query) if (files.folder / "kanal-runs.db").exists() else []
    except sqlite3.OperationalError:
        return []


def started(folder: Path, *arguments: str) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "kanal", *arguments]
    return Forked(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)


ALL = [(kind, write, commit) for kind in ("sqlite", "postgresql", "mariadb") for write in ("truncate", "merge")
       for commit in ("step", "batch", "job")]  # fmt: skip
#: Of two databases half, each way to write and to commit with one of them.
MAIN = [case for place, case in enumerate(ALL) if case[0] == "postgresql" or place % 2 == 0]
MORE = [("duckdb", "merge", "batch"), ("odbc-postgresql", "merge", "batch")]
#: The others, and of those that are reached by a general way, which take longer.
LONG = [pytest.param(*case, marks=pytest.mark.matrix) for case in (
    *(case for case in ALL if case not in MAIN),
    ("duckdb", "truncate", "job"), ("firebird", "merge", "batch"), ("odbc-mariadb", "truncate", "step"))]  # fmt: skip


@pytest.mark.parametrize(("kind", "write", "commit"), MAIN + MORE + LONG)
def test_killed_at_any_instant_and_resumed_the_target_is_as_if_undisturbed(
    places: Places, files: Files, kind: str, write: str, commit: str
) -> None:
    old, new = filled(places, kind)
    key = 'key = "id"' if write == "merge" else ""
    job(files.folder, STEPS.format(commit=commit, write=write, key=key), old=old, new=new)
    chance = random.Random(f"{kind}{write}{commit}")
    process = started(files.folder, "run", "job.toml")
    while not logged(files, "SELECT run FROM kanal_run"):
        assert process.poll() is None
        time.sleep(0.01)
    for longest in (0.3, 2, 2):  # from a moment at which it surely runs, then from the beginning of the process
        time.sleep(longest * chance.random())
        if process.poll() is not None:
            break
        process.kill()
        process.wait(60)
        if not logged(files, "SELECT run FROM kanal_run"):
            process = started(files.folder, "run", "job.toml")  # it had not begun
        else:
            process = started(files.folder, "resume")
    assert (ended := process.wait(120)) in (0, 2), process.stderr.read() if process.stderr else ""
    assert process.args[3] == "resume"
    assert new.rows("SELECT count(*), count(DISTINCT id), min(id), max(v) FROM one") == [
        (ROWS + 1, ROWS + 1, -1, "v9999")
    ]  # fmt: skip
    assert new.rows("SELECT count(*), min(id), min(v) FROM two") == [(ROWS, 0, "v0")]
    runs = files.rows("kanal-runs.db", "SELECT run, status FROM kanal_run")
    assert runs == [(1, "succeeded")]
    assert files.rows("kanal-runs.db", "SELECT step, status, read FROM kanal_step ORDER BY position") == [
        ("first", "succeeded", ROWS), ("second", "succeeded", ROWS)
    ]  # fmt: skip
    # Of a run that was killed when all was done, the next one clears it.
    assert ended == 2 or new.rows("SELECT count(*) FROM kanal_progress") == [(0,)]


DIES = """
import os, sys
import kanal
from kanal.runlog.steps import StepEntries
ends = StepEntries.end_step
def end_step(self, run, record):
    if record.step == sys.argv[1]:
        os._exit(9)
    ends(self, run, record)
StepEntries.end_step = end_step
kanal.Job.read("job.toml").run()
"""


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
@pytest.mark.parametrize("commit", ["step", "batch", "job"])
def test_a_step_committed_but_not_logged_is_not_loaded_twice(
    places: Places, files: Files, cli: Cli, kind: str, commit: str
) -> None:
    old, new = filled(places, kind)
    job(files.folder, STEPS.format(commit=commit, write="truncate", key=""), old=old, new=new)
    dies = "second" if commit == "job" else "first"
    outcome = forking.run([sys.executable, "-c", DIES, dies], cwd=files.folder, timeout=120)
    assert outcome.returncode == 9
    (run,) = document(cli("runs", "--json"))
    states = {step["step"]: step["status"] for step in run["steps"]}
    assert run["status"] == "failed"
    assert states[dies] == "failed"
    resumed = document(cli("resume", "1", "--json"))
    assert (resumed["run"], resumed["status"]) == (1, "succeeded")
    assert new.rows("SELECT count(*) FROM one") == [(ROWS + 1,)]
    assert new.rows("SELECT count(*) FROM two") == [(ROWS,)]
    again = cli("resume", "1")
    assert again.returncode == 2
    assert "succeeded, there is nothing to resume" in again.stderr


def test_two_runs_of_a_job_at_once(places: Places, files: Files, cli: Cli) -> None:
    old, new = filled(places, "sqlite")
    body = STEPS.format(commit="step", write="truncate", key="")
    job(files.folder, body + "[command.slow]\nconnection = 'new'\nafter = 'second'\nsql = '''WITH RECURSIVE n(i) AS "
        "(SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30000000) UPDATE one SET v = (SELECT max(i) FROM n) "
        "WHERE id = -1'''", old=old, new=new)  # fmt: skip
    process = started(files.folder, "run", "job.toml")
    while not logged(files, "SELECT * FROM kanal_lock"):
        assert process.poll() is None
        time.sleep(0.05)
    second = cli("run", "job.toml")
    assert second.returncode == 2
    assert "Run 1 of test is under way" in second.stderr
    assert f"by process {process.pid} on {socket.gethostname()}" in second.stderr
    assert cli("resume").returncode == 2
    while not logged(files, "SELECT 1 FROM kanal_step WHERE step = 'slow' AND status = 'running'"):
        assert process.poll() is None  # not between two steps, where none is there to end unexpectedly
        time.sleep(0.05)
    process.kill()
    process.wait()
    listed = document(cli("runs", "--json"))
    assert [run["status"] for run in listed] == ["failed"]
    assert any("ended unexpectedly" in str(step["error"]) for step in listed[0]["steps"])
    assert document(cli("run", "job.toml", "--json"))["run"] == 2


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_jobs_that_begin_at_once_share_what_is_not_there_yet(places: Places, files: Files, kind: str) -> None:
    log, new = places(kind), places("postgresql")
    files.database("old.db", "CREATE TABLE t (n integer)", t=[(1,), (2,)])
    new.sql("CREATE TABLE t (n integer)")
    names = ["a", "b", "c", "d"]
    for name in names:
        text = f'job = "{name}"\n[connection]\nold.url = "sqlite:///old.db"\nnew.url = "{new.url}"\n'
        text += f'[run_log]\nurl = "{log.url}"\n[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n'
        (files.folder / f"{name}.toml").write_text(text)
    processes = [started(files.folder, "run", f"{name}.toml") for name in [*names, "a"]]
    failures = [process.communicate(timeout=60)[1].decode() for process in processes if process.wait(60)]
    assert all("of a is under way" in failure for failure in failures), failures
    assert log.rows("SELECT count(DISTINCT job), count(DISTINCT status) FROM kanal_run") == [(4, 1)]
    assert new.rows("SELECT count(*) FROM t") == [(2 * (len(processes) - len(failures)),)]


@pytest.mark.parametrize(
    ("setting", "states"),
    [("continue", ["failed", "blocked", "succeeded"]), ("stop", ["failed", "stopped", "stopped"])],
)
def test_what_follows_a_failure(files: Files, cli: Cli, setting: str, states: list[str]) -> None:
    files.database("old.db", "CREATE TABLE t (n)", t=[("x",)])
    files.database("new.db", "CREATE TABLE a (n integer); CREATE TABLE b (n integer); CREATE TABLE c (n text)")
    pipelines = "".join(
        f'[pipeline.{name}]\nsource = "old:t"\ntarget = "new:{name}"\n{more}\n'
        for name, more in (("a", "max_rejects = 0"), ("b", 'after = "a"'), ("c", ""))
    )
    path = files.job(pipelines)
    path.write_text(f'on_failure = "{setting}"\n' + path.read_text())
    outcome = cli("run", "job.toml", "--json")
    assert outcome.returncode == 1
    assert [step["status"] for step in document(outcome)["steps"]] == states
    shown = cli("resume")
    assert "kanal resume 1 --job" in shown.stdout
    assert document(cli("runs", "--json"))[0]["run"] == 1
    path.write_text(path.read_text().replace("max_rejects = 0", "max_rejects = 9"))
    resumed = document(cli("resume", "--json"))
    assert [step["status"] for step in resumed["steps"]] == ["succeeded"] * 3
    assert files.rows("new.db", "SELECT count(*) FROM c") == [(1,)]


# --- a server that goes away ----------------------------------------------------------------------------------------


class Cutting(Between):
    """Stands before a server, and cuts connections once so many bytes have gone through one of them."""

    def __init__(self, port: int, after: int, times: int) -> None:
        self.after, self.left = after, times
        super().__init__(port)

    def connected(self, client: socket.socket, server: socket.socket) -> None:
        passed = [0]
        for one, other in ((client, server), (server, client)):
            threading.Thread(target=self._pass_on, args=(one, other, passed), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket, passed: list[int]) -> None:
        try:
            while data := one.recv(65536):
                passed[0] += len(data)
                if self.left and passed[0] > self.after:
                    self.left -= 1
                    break
                other.sendall(data)
        except OSError:
            pass
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)


@pytest.fixture
def cutting() -> Iterator[Callable[..., Cutting]]:
    made: list[Cutting] = []

    def make(*arguments: int) -> Cutting:
        made.append(Cutting(*arguments))
        return made[-1]

    yield make
    for one in made:
        one.close()


def behind(place: Place, proxy: Any) -> Place:
    url = sa.make_url(place.url).set(host="127.0.0.1", port=proxy.own_port)
    return Place(place.kind, url.render_as_string(hide_password=False))


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.parametrize("end", ["source", "target"])
@pytest.mark.parametrize(("write", "commit"), [("append", "step"), ("append", "job"), ("merge", "step")])
def test_a_connection_that_is_cut_is_tried_again(
    places: Places, tmp_path: Path, cutting: Any, kind: str, end: str, write: str, commit: str
) -> None:
    old, new = places(kind), places(kind)
    for place in (old, new):
        place.sql(*(f"CREATE TABLE {table} (id integer PRIMARY KEY, v varchar(20))" for table in ("t", "u")))
    with old.engine.begin() as connection:
        connection.exec_driver_sql("INSERT INTO t VALUES (%s, %s)", [(n, f"v{n}") for n in range(ROWS)])
    port = sa.make_url(old.url).port or {"postgresql": 5432, "mariadb": 3306}[kind]
    proxy = cutting(port, 400_000, 2)
    ends = {
        "old": behind(old, proxy) if end == "source" else old,
        "new": behind(new, proxy) if end == "target" else new,
    }
    body = f'[defaults]\nwrite = "{write}"\ncommit = "{commit}"\nretry_wait = 0.1\n'
    body += "".join(f'[pipeline.{n}]\nsource = "old:{n}"\ntarget = "new:{n}"\nkey = "id"\n' for n in ("u", "t"))
    run = succeeded(job(tmp_path, body, **ends).run(batch_rows=5_000))
    assert proxy.left == 0
    assert counts(run["t"]) == {"read": ROWS, "inserted": ROWS}
    assert "try 2 failed and was undone" in str(run["t"].note)
    assert new.rows("SELECT count(*) FROM t") == [(ROWS,)]


@pytest.mark.parametrize("commit", ["step", "batch", "job"])
def test_a_commit_without_an_answer_is_asked_for(
    places: Places, files: Files, monkeypatch: pytest.MonkeyPatch, commit: str
) -> None:
    old, new = filled(places, "sqlite")
    commits = SQLiteLoad.commit
    lost = []

    def commit_and_lose(self: SQLiteLoad) -> None:
        commits(self)
        if self._tables and len(lost) < 2:  # not those that claim a step
            lost.append(self)
            raise DatabaseError("server closed the connection", passing=True)

    monkeypatch.setattr(SQLiteLoad, "commit", commit_and_lose)
    body = STEPS.format(commit=commit, write="truncate", key="").replace("[defaults]", "[defaults]\nretry_wait = 0")
    run = succeeded(job(files.folder, body, old=old, new=new).run())
    assert len(lost) == (1 if commit == "job" else 2)
    told = "it went on after" if commit == "batch" else "its commit had succeeded, only the answer was lost"
    assert told in f"{run['first'].note}"
    assert counts(run["first"]) == {"read": ROWS, "inserted": ROWS}
    assert new.rows("SELECT count(*) FROM one") == [(ROWS + 1,)]


def test_a_job_that_cannot_be_begun_is_tried_again_and_stands_in_the_run_log(
    places: Places, files: Files, cli: Cli, cutting: Any, caplog: pytest.LogCaptureFixture
) -> None:
    old, new = filled(places, "postgresql")
    body = STEPS.format(commit="step", write="truncate", key="").replace("[defaults]", "[defaults]\nretry_wait = 0.1")
    proxy = cutting(sa.make_url(new.url).port or 5432, 0, 99)
    job(files.folder, body, old=old, new=behind(new, proxy))
    outcome = cli("run", "job.toml")
    assert outcome.returncode == 2
    assert "The job is tried again in 0 s, 3 of 3." in caplog.text
    (failed,) = document(cli("runs", "--json"))
    assert (failed["status"], failed["steps"]) == ("failed", [])
    assert "connection new: " in failed["error"]
    shown = cli("runs", "1").stdout
    assert "It failed before a step could begin" in shown
    listed = cli("runs").stdout
    assert "run 1 of test" in listed
    assert "kanal resume 1  go on with it" in listed
    proxy.left = 2
    resumed = document(cli("resume", "--json"))
    assert (resumed["run"], resumed["status"], proxy.left) == (1, "succeeded", 0)
    assert new.rows("SELECT count(*) FROM one") == [(ROWS + 1,)]


def test_what_does_not_pass_is_not_tried_again(places: Places, tmp_path: Path, cutting: Any) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer)", "INSERT INTO t SELECT generate_series(1, 50000)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    proxy = cutting(sa.make_url(old.url).port or 5432, 100_000, 99)
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nretries = 1\nretry_wait = 0.1'
    run = job(tmp_path, body, old=behind(old, proxy), new=new).run()
    assert run.status == "failed"
    assert str(run["t"].note).count("failed and was undone") == 1
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nfirst_sql = "SELEC 1"'
    run = job(tmp_path, body, old=old, new=new).run()
    assert "syntax error" in str(run["t"].error)
    assert run["t"].note is None
    assert new.rows("SELECT count(*) FROM t") == [(0,)]


def test_a_stopped_run_is_gone_on_with(places: Places, files: Files) -> None:
    old, new = filled(places, "postgresql")
    steps = STEPS.format(commit="step", write="truncate", key="").replace("2000", "60")
    job(files.folder, steps, old=old, new=new)
    process = started(files.folder, "run", "job.toml")
    while not logged(files, "SELECT * FROM kanal_batch WHERE step = 'second'"):
        assert process.poll() is None
        time.sleep(0.02)
    os.kill(process.pid, signal.SIGTERM)
    assert process.wait(60) == 130
    assert files.rows("kanal-runs.db", "SELECT step, status FROM kanal_step ORDER BY position") == [
        ("first", "succeeded"), ("second", "stopped")
    ]  # fmt: skip
    assert new.rows("SELECT count(*) FROM two") == [(1,)]
    run = succeeded(kanal.Job.read(files.folder / "job.toml").resume())
    assert (run.run, run.status) == (1, "succeeded")
    assert new.rows("SELECT count(*) FROM one") == [(ROWS + 1,)]
    assert new.rows("SELECT count(*) FROM two") == [(ROWS,)]


# --- batches that are committed one by one --------------------------------------------------------------------------

DIES_IN_BATCH = """
import os, sys
import kanal
from kanal.connections.sql.journal import SqlJournal
records, seen = SqlJournal.record, []
def record(journal, load, *arguments, **more):
    records(journal, load, *arguments, **more)
    seen.append(1)
    if len(seen) == 4:
        if sys.argv[1] == "after":
            load.commit()
        os._exit(9)
SqlJournal.record = record
kanal.Job.read("job.toml").run()
"""
BY_BATCH = """
    [defaults]
    batch_rows = 100
    commit = "batch"
    [pipeline.t]
    source = "old:t"
    target = "new:t"
    write = "{write}"
    key = "n"
    duplicates = "{duplicates}"
    where = "n <> '17'"
    [pipeline.t.columns]
    n = "n"
    v = "v"
"""


@pytest.mark.parametrize("instant", ["before", "after"])
@pytest.mark.parametrize(
    ("kind", "write", "duplicates"),
    [
        ("sqlite", "append", "reject"),
        ("sqlite", "merge", "last"),
        ("postgresql", "truncate", "first"),
        ("postgresql", "append", "reject"),
        ("mariadb", "merge", "last"),
        ("mariadb", "truncate", "first"),
    ],
)
def test_a_run_goes_on_after_its_last_committed_batch(
    places: Places, files: Files, cli: Cli, kind: str, instant: str, write: str, duplicates: str
) -> None:
    old, new = places(kind), places(kind)
    old.sql("CREATE TABLE t (a varchar(9), b integer, n varchar(9), v varchar(20), PRIMARY KEY (a, b))")
    rows = [
        (f"k{row // 10:02d}", row % 10, "x" if row % 150 == 77 else str(row % 700), f"v{row}") for row in range(990)
    ]
    with old.engine.begin() as connection:
        marks = "(?, ?, ?, ?)" if kind == "sqlite" else "(%s, %s, %s, %s)"
        connection.exec_driver_sql(f"INSERT INTO t VALUES {marks}", rows)
    twin = places(kind)
    for place in (new, twin):
        place.sql(
            "CREATE TABLE t (n integer NOT NULL, v varchar(20))", "INSERT INTO t VALUES (-1, 'before'), (650, 'old')"
        )
    (files.folder / "twin").mkdir()
    body = BY_BATCH.format(write=write, duplicates=duplicates)
    undisturbed = succeeded(job(files.folder / "twin", body.replace('"batch"', '"step"'), old=old, new=twin).run())["t"]
    job(files.folder, body, old=old, new=new)
    outcome = forking.run([sys.executable, "-c", DIES_IN_BATCH, instant], cwd=files.folder, timeout=120)
    assert outcome.returncode == 9
    committed = new.rows("SELECT count(*) FROM t")[0][0]
    assert 200 < committed < 420
    resumed = document(cli("resume", "--json"))["steps"][0]
    assert {name: resumed[name] for name in counts(undisturbed)} == counts(undisturbed)
    both = [place.rows("SELECT n, v FROM t ORDER BY n, v") for place in (new, twin)]
    assert both[0] == both[1]
    assert len(document(cli("rejects", "1", "--json"))) == undisturbed.tally.rejected > 0
    assert [row[0] for row in files.rows("kanal-runs.db", "SELECT batch FROM kanal_batch ORDER BY batch")] == list(
        range(1, 11)
    )


@pytest.mark.parametrize(
    ("source", "settings", "said"),
    [
        ("CREATE TABLE t (n integer)", "", "the source has no key"),
        ("CREATE TABLE t (n integer)", 'order_by = "n"', "two rows have the same values there"),
        ("CREATE TABLE t (n real PRIMARY KEY)", "", 'in the order of "n", which is double precision'),
        ("CREATE TABLE t (n integer PRIMARY KEY)", 'reject = "all"', "are committed when a bad row is found"),
        ("CREATE TABLE t (n integer PRIMARY KEY)", "limit = 1", "would count the rows anew"),
    ],
)
def test_what_does_not_go_batch_by_batch_is_said(files: Files, cli: Cli, source: str, settings: str, said: str) -> None:
    files.database("old.db", source, t=[] if "PRIMARY" in source else [(1,), (1,)])
    files.database("new.db", "CREATE TABLE t (n integer)")
    files.job(f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\ncommit = "batch"\n{settings}')
    outcome = cli("run", "job.toml")
    assert outcome.returncode in (1, 2)
    assert said in " ".join((outcome.stdout + outcome.stderr).split())
    assert files.rows("new.db", "SELECT * FROM t") == []


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_a_run_log_that_is_cut_off_for_a_moment_is_written_all_the_same(
    places: Places, files: Files, cutting: Any, kind: str
) -> None:
    old, new = filled(places, "sqlite")
    log = places(kind)
    port = sa.make_url(log.url).port or {"postgresql": 5432, "mariadb": 3306}[kind]
    proxy = cutting(port, 60_000, 3)
    body = STEPS.format(commit="step", write="truncate", key="") + f'[run_log]\nurl = "{behind(log, proxy).url}"\n'
    run = succeeded(job(files.folder, body, old=old, new=new).run(batch_rows=200))
    assert proxy.left == 0
    assert counts(run["second"])["read"] == ROWS
    logged = log.rows('SELECT step, count(*), sum("read") FROM kanal_batch GROUP BY step ORDER BY step'
                      .replace('"', "`" if kind == "mariadb" else '"'))  # fmt: skip
    assert [(step, int(batches), int(read)) for step, batches, read in logged] == [
        ("first", run["first"].batches, ROWS), ("second", run["second"].batches, ROWS)
    ]  # fmt: skip
    assert log.rows("SELECT status FROM kanal_run") == [("succeeded",)]


# --- servers, disks and run logs that fail --------------------------------------------------------------------------


class OwnServer:
    """A PostgreSQL server of the test's own, that it may stop and start."""

    def __init__(self, folder: Path) -> None:
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/pg_ctl"))
        if not found:
            server_or_skip("pg_ctl", FileNotFoundError("/usr/lib/postgresql"))
        self.program, self.folder = found[-1], folder
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port = free.getsockname()[1]
        self._as: dict[str, Any] = {}
        if os.geteuid() == 0:
            shutil.chown(folder, "postgres", "postgres")
            self._as = {"user": "postgres", "group": "postgres"}
        self._tell("init", "-o", "-A trust -U postgres")

    def start(self) -> None:
        self._tell("start", "-l", str(self.folder / "log"), "-o", f"-p {self.port} -k {self.folder} -c fsync=off")

    def stop(self) -> None:
        self._tell("stop", "-m", "immediate")

    def _tell(self, *arguments: str) -> None:
        command = [str(self.program), "-D", str(self.folder / "data"), "-s", "-w", *arguments]
        subprocess.run(command, check=True, timeout=60, cwd=self.folder, stdout=subprocess.DEVNULL, **self._as)


@pytest.fixture
def own_server() -> Iterator[OwnServer]:
    with tempfile.TemporaryDirectory(prefix="kanal-server-") as folder:
        server = OwnServer(Path(folder))
        server.start()
        yield server
        with contextlib.suppress(subprocess.CalledProcessError):
            server.stop()


@pytest.mark.parametrize("commit", ["step", "batch"])
def test_a_server_that_is_stopped_in_mid_load(
    places: Places, files: Files, cli: Cli, own_server: OwnServer, commit: str
) -> None:
    old = places("sqlite")
    new = Place("postgresql", f"postgresql://postgres@127.0.0.1:{own_server.port}/postgres")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, v text)")
    with old.engine.begin() as connection:
        connection.exec_driver_sql("INSERT INTO t VALUES (?, ?)", [(n, f"v{n}") for n in range(ROWS)])
    new.sql("CREATE TABLE one (id integer, v text)", "CREATE TABLE two (id integer PRIMARY KEY, v text)")
    new.engine.dispose()
    job(files.folder, STEPS.format(commit=commit, write="merge", key='key = "id"'), old=old, new=new)
    path = files.folder / "job.toml"
    path.write_text(path.read_text().replace("[defaults]", "[defaults]\nretries = 1\nretry_wait = 0.1"))
    process = started(files.folder, "run", "job.toml")
    while not logged(files, "SELECT * FROM kanal_batch WHERE batch > 5"):
        assert process.poll() is None
        time.sleep(0.02)
    own_server.stop()
    assert process.wait(60) == 1
    (error,) = {row[0] for row in logged(files, "SELECT error FROM kanal_step WHERE status = 'failed'")}
    assert "connection new" in error
    own_server.start()
    resumed = cli("resume", "--json")
    assert resumed.returncode == 0, resumed.stdout + resumed.stderr
    for table in ("one", "two"):
        assert new.rows(f"SELECT count(*), count(DISTINCT id) FROM {table}") == [(ROWS, ROWS)]
    new.engine.dispose()


def test_a_disk_that_is_full_leaves_the_target_as_it_was(places: Places, files: Files) -> None:
    old, new = filled(places, "sqlite")
    job(files.folder, STEPS.format(commit="step", write="truncate", key=""), old=old, new=new)

    def no_more_than_a_megabyte() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (1_000_000, 1_000_000))

    outcome = subprocess.run(
        [sys.executable, "-m", "kanal", "run", "job.toml"], cwd=files.folder, capture_output=True, text=True,
        preexec_fn=no_more_than_a_megabyte, check=False, timeout=120,
    )  # fmt: skip
    assert outcome.returncode == 1, outcome.stderr
    said = " ".join(outcome.stdout.split())
    assert "connection new" in said
    assert "disk" in said
    assert "Traceback" not in outcome.stderr
    assert new.rows("SELECT count(*) FROM one") == [(1,)]


@pytest.mark.parametrize("broken", ["missing folder", "folder", "no database", "while it runs"])
def test_a_run_log_that_cannot_be_written_leaves_the_target_as_it_was(
    places: Places, files: Files, cli: Cli, broken: str
) -> None:
    old, new = filled(places, "sqlite")
    log = places("postgresql")
    url = {"missing folder": "sqlite:///nowhere/runs.db", "folder": "sqlite:///.", "while it runs": log.url}
    (files.folder / "runs.txt").write_text("not a database, but long enough to be taken for one\n" * 90)
    (files.folder / "drop.sql").write_text("DROP TABLE kanal_batch")
    body = f'[connection.log]\nurl = "{log.url}"\n[command.drop]\nconnection = "log"\nsql_file = "drop.sql"\n'
    body = STEPS.format(commit="step", write="truncate", key="") + (body if broken == "while it runs" else "")
    job(files.folder, body + f'[run_log]\nurl = "{url.get(broken, "sqlite:///runs.txt")}"\n', old=old, new=new)
    path = files.folder / "job.toml"
    if broken == "while it runs":
        path.write_text(path.read_text().replace("[pipeline.first]", '[pipeline.first]\nafter = "drop"'))
    outcome = cli("run", "job.toml")
    assert outcome.returncode == (1 if broken == "while it runs" else 2)
    said = " ".join((outcome.stdout + outcome.stderr).split())
    assert "The run log" in said
    assert "Set run_log to a database that may be written" in said
    assert new.rows("SELECT count(*) FROM one") == [(1,)]
    assert new.rows("SELECT count(*) FROM two") == [(1,)]
