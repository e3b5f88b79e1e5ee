"""Every commit proves whose turn it is: processes that were taken for dead, and runs that were killed around a commit."""

from __future__ import annotations

import random
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest
import sqlalchemy as sa

import forking
import kanal
from conftest import Cli, Files, Place
from forking import Forked
from test_resume import behind
from test_runs import counts
from test_servers import job, succeeded
from unreliable import FAULTS, Unreliable

Places = Callable[[str], Place]

#: Runs a job, and either hangs or dies as a method of a class is called, before or after it.
DRIVER = """
import os, pathlib, sys, time
import kanal
from kanal.runner.step import StepParts
from kanal.runlog.steps import StepEntries
from kanal.connections.sql.load import SqlLoad

command, holder, method, when, how = sys.argv[1:6]
cls = {"step": StepParts, "log": StepEntries}[holder]
original = getattr(cls, method)

def wait():
    if how == "die":
        os._exit(9)
    pathlib.Path("waits").touch()
    while not pathlib.Path("go").exists():
        time.sleep(0.02)

def patched(self, *arguments, **more):
    if when == "before":
        wait()
    found = original(self, *arguments, **more)
    if when == "after":
        wait()
    return found

setattr(cls, method, patched)
made = kanal.Job.read("job.toml")
getattr(made, command)()
"""

WRITES = {
    "append": 'write = "append"',
    "batches": 'write = "append"\ncommit = "batch"\nbatch_rows = 2',
    "truncate": 'write = "truncate"',
    "merge": 'write = "merge"',
    "mirror": 'write = "merge"\nmissing = "delete"\nmax_deletes = "100%"',
    "history": 'write = "history"\nhistory = { from = "since", until = "ended" }',
    "job": 'write = "truncate"\ncommit = "job"',
}


def begun(folder: Path, *arguments: str) -> subprocess.Popen[bytes]:
    return Forked([sys.executable, "-c", DRIVER, *arguments], cwd=folder, stderr=subprocess.PIPE)


def made(places: Places, folder: Path, kind: str, write: str) -> tuple[Place, Place, kanal.Job]:
    old, new = places("sqlite"), places(kind)
    moment = {"mariadb": "datetime(6)"}.get(new.kind, "timestamp")
    versions = f", since {moment} NOT NULL, ended {moment}" if write == "history" else ""
    key = "k, since" if write == "history" else "k"
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v text)", "INSERT INTO s VALUES (1, 'a'), (2, 'b'), (3, 'c')")
    new.sql(f"CREATE TABLE t (k integer NOT NULL, v varchar(9){versions}, PRIMARY KEY ({key}))")
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nkey = "k"\n{WRITES[write]}'
    return old, new, job(folder, body, old=old, new=new)


@pytest.mark.parametrize("write", [write for write in WRITES if write != "job"])  # which holds locks all the time
@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_a_process_that_was_taken_for_dead_commits_nothing(
    places: Places, tmp_path: Path, process: Cli, kind: str, write: str
) -> None:
    old, new, _ = made(places, tmp_path, kind, write)
    stale = begun(tmp_path, "run", "step", "__init__", "after", "hang")
    deadline = time.monotonic() + 60
    while not (tmp_path / "waits").exists():
        assert stale.poll() is None and time.monotonic() < deadline
        time.sleep(0.02)
    with sqlite3.connect(tmp_path / "kanal-runs.db") as log:
        log.execute("UPDATE kanal_run SET status = 'stopped'")
    log.close()
    old.sql("UPDATE s SET v = 'new'")
    try:
        assert process("resume", timeout=60).returncode == 0
    except BaseException:
        stale.kill()
        raise
    expected = new.rows("SELECT * FROM t ORDER BY k")
    assert [row[:2] for row in expected] == [(1, "new"), (2, "new"), (3, "new")]
    (tmp_path / "go").touch()
    stale.wait(60)
    assert new.rows("SELECT * FROM t ORDER BY k") == expected
    logged = sqlite3.connect(tmp_path / "kanal-runs.db").execute("SELECT status, inserted FROM kanal_step").fetchall()
    assert logged == [("succeeded", 3)]


@pytest.mark.parametrize("write", WRITES)
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_committed_step_never_runs_again(places: Places, tmp_path: Path, cli: Cli, kind: str, write: str) -> None:
    _, new, _ = made(places, tmp_path, kind, write)
    new.sql("CREATE TABLE told (n integer)")
    with (tmp_path / "job.toml").open("a") as file:
        file.write('\nlast_sql = "INSERT INTO told VALUES (1)"\n')
    assert begun(tmp_path, "run", "log", "end_step", "before", "die").wait(60) == 9
    assert cli("resume").returncode == 0
    assert new.rows("SELECT count(*) FROM told") == [(1,)]
    assert new.rows("SELECT count(*) FROM t") == [(3,)]
    log = sqlite3.connect(tmp_path / "kanal-runs.db")
    assert log.execute("SELECT status, read, inserted FROM kanal_step").fetchall() == [("succeeded", 3, 3)]


REJECTING = """[pipeline.t]
source = "old:s"
target = "new:t"
key = "k"
{write}
"""


@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_rejects_of_a_step_that_only_its_target_knows_are_replayed(
    places: Places, tmp_path: Path, cli: Cli, kind: str, write: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v text)", "INSERT INTO s VALUES (1, '1'), (2, '2'), (3, 'x')")
    new.sql("CREATE TABLE t (k integer PRIMARY KEY, v integer)")
    job(tmp_path, REJECTING.format(write=f'write = "{write}"'), old=old, new=new)
    assert begun(tmp_path, "run", "log", "end_step", "before", "die").wait(60) == 9
    assert new.rows("SELECT count(*) FROM t") == [(2,)]
    old.sql("UPDATE s SET v = '3' WHERE k = 3")
    assert cli("replay").returncode == 0
    assert new.rows("SELECT k, v FROM t ORDER BY k") == [(1, 1), (2, 2), (3, 3)]
    outcome = cli("replay")
    assert outcome.returncode == 2 and "no rejected rows that are not resolved" in outcome.stderr


@pytest.mark.parametrize("instant", [("log", "end_step", "before"), ("step", "commit_all", "after"),
                                     ("step", "commit_all", "before")])  # fmt: skip
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_replay_that_is_killed_doubles_nothing(
    places: Places, tmp_path: Path, cli: Cli, kind: str, instant: tuple[str, str, str]
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v text, u integer)",
            *(f"INSERT INTO s VALUES ({k}, '{'x' if k > 90 else k}', {k})" for k in range(1, 101)))  # fmt: skip
    new.sql("CREATE TABLE t (k integer, v integer, u integer)")
    body = REJECTING.format(write='write = "append"\nsince = "u"')
    succeeded(job(tmp_path, body, old=old, new=new).run())
    old.sql("UPDATE s SET v = '7' WHERE k > 90")
    assert begun(tmp_path, "replay", *instant, "die").wait(60) == 9
    assert cli("run", "job.toml").returncode == 0
    assert cli("replay", "1").returncode in (0, 2)
    assert new.rows("SELECT count(*), count(DISTINCT k) FROM t") == [(100, 100)]
    open_ones = "SELECT count(*) FROM kanal_reject WHERE resolved_by IS NULL OR resolved_by < 0"
    assert sqlite3.connect(tmp_path / "kanal-runs.db").execute(open_ones).fetchone() == (0,)


@pytest.mark.parametrize("since", [False, True])
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_run_does_not_append_again_what_a_killed_one_has_committed(
    places: Places, tmp_path: Path, cli: Cli, kind: str, since: bool
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, u integer)",
            *(f"INSERT INTO s VALUES ({k}, {k})" for k in range(1, 21)))  # fmt: skip
    new.sql("CREATE TABLE t (k integer, u integer)")
    more = '\nsince = "u"' if since else ""
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\ncommit = "batch"\nbatch_rows = 5{more}'
    made = job(tmp_path, body, old=old, new=new)
    assert begun(tmp_path, "run", "step", "commit", "after", "die").wait(60) == 9
    ((rows,),) = new.rows("SELECT count(*) FROM t")
    assert 0 < rows <= 5
    outcome = cli("run", "job.toml")
    assert outcome.returncode == 2
    said = " ".join(outcome.stderr.split())
    assert f"Run 1 was broken off after {rows} rows of t were committed, and this run would append them again" in said
    assert "kanal resume" in said and "--anew" in said
    with pytest.raises(kanal.KanalError, match="would append them again"):
        made.run()
    assert new.rows("SELECT count(*) FROM t") == [(rows,)]
    assert cli("resume").returncode == 0
    assert new.rows("SELECT count(*), count(DISTINCT k) FROM t") == [(20, 20)]
    assert counts(succeeded(made.run())["t"]).get("inserted", 0) == (0 if since else 20)
    assert cli("run", "job.toml", "--anew").returncode == 0


@pytest.mark.parametrize("commit", ["step", "batch", "job"])
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_run_does_not_append_again_what_a_killed_one_has_wholly_committed(
    places: Places, tmp_path: Path, cli: Cli, kind: str, commit: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY)", "INSERT INTO s VALUES (1), (2)")
    new.sql("CREATE TABLE t (k integer)")
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\ncommit = "{commit}"'
    job(tmp_path, body, old=old, new=new)
    assert begun(tmp_path, "run", "log", "end_step", "before", "die").wait(60) == 9
    for _ in range(2):
        outcome = cli("run", "job.toml")
        assert outcome.returncode == 2 and "would append them again" in " ".join(outcome.stderr.split())
    assert new.rows("SELECT count(*) FROM t") == [(2,)]
    assert cli("resume").returncode == 0
    assert new.rows("SELECT count(*) FROM t") == [(2,)]
    assert cli("run", "job.toml").returncode == 0
    assert new.rows("SELECT count(*), count(DISTINCT k) FROM t") == [(4, 2)]


@pytest.mark.parametrize("commit", ["step", "batch"])
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_run_goes_on_from_a_watermark_that_a_killed_one_has_left(
    places: Places, tmp_path: Path, cli: Cli, kind: str, commit: str
) -> None:
    """A step that is wholly committed is not half loaded: what is new since then is loaded by the next run, and the
    rejects of the killed one can be replayed."""
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, u text)", "INSERT INTO s VALUES (1, '1'), (2, 'x')")
    new.sql("CREATE TABLE t (k integer, u integer)")
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\ncommit = "{commit}"\nsince = "k"'
    job(tmp_path, body, old=old, new=new)
    assert begun(tmp_path, "run", "log", "end_step", "before", "die").wait(60) == 9
    assert new.rows("SELECT count(*) FROM t") == [(1,)]
    old.sql("INSERT INTO s VALUES (3, '3')")
    assert cli("run", "job.toml").returncode == 0
    assert cli("run", "job.toml").returncode == 0
    log = sqlite3.connect(tmp_path / "kanal-runs.db")
    assert log.execute("SELECT status FROM kanal_run WHERE run = 1").fetchone() == ("succeeded",)
    assert log.execute("SELECT status, read, rejected, inserted FROM kanal_step WHERE run = 1").fetchall() == [
        ("succeeded", 2, 1, 1)
    ]
    old.sql("UPDATE s SET u = '2' WHERE u = 'x'")
    assert cli("replay", "1").returncode == 0
    assert new.rows("SELECT k FROM t ORDER BY k") == [(1,), (2,), (3,)]


def test_a_run_that_committed_nothing_is_no_hindrance(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE s (k integer PRIMARY KEY)", s=[(k,) for k in range(20)])
    files.database("new.db", "CREATE TABLE t (k integer)")
    files.job('[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\ncommit = "batch"\nbatch_rows = 5\n')
    assert begun(files.folder, "run", "step", "commit", "before", "die").wait(60) == 9
    assert cli("run", "job.toml").returncode == 0
    assert files.rows("new.db", "SELECT count(*) FROM t") == [(20,)]


#: Dies, or changes files, once a load into the target is committed and before its files are moved.
FILES = """
import os, pathlib, sys
import kanal
import kanal.runner.step.parts as parts

def finish(plan, job):
    os._exit(9)

parts.finish_files = finish
kanal.Job.read("job.toml").run()
"""


@pytest.mark.parametrize("then", ["when_loaded = { move = 'done' }", "when_loaded = { delete = true }"])
@pytest.mark.parametrize("once", [True, False])
@pytest.mark.parametrize("killed", [True, False])
def test_a_file_that_was_never_read_is_never_moved_or_deleted(
    files: Files, cli: Cli, then: str, once: bool, killed: bool
) -> None:
    folder = files.folder / "in"
    folder.mkdir()
    for name in "ab":
        (folder / f"{name}.csv").write_text(f"k\n{name}1\n")
    files.database("new.db", "CREATE TABLE t (k text)")
    (files.folder / "job.toml").write_text(
        'job = "t"\n[connection.in]\nurl = "file://in"\n[connection.new]\nurl = "sqlite:///new.db"\n[pipeline.t]\n'
        f'source = "in:*.csv"\ntarget = "new:t"\nfiles_once = {str(once).lower()}\n{then}\n'
    )
    if killed:
        assert forking.run([sys.executable, "-c", FILES], cwd=files.folder).returncode == 9
        (folder / "b.csv").write_text("k\nb2\n")
        assert cli("run", "job.toml").returncode == 0
    else:
        made = kanal.Job.read(files.folder / "job.toml")

        class Replaces:
            """Replaces a file while the step loads others."""

            def __getattr__(self, name: str) -> Callable[..., None]:
                return lambda *arguments: None

            ended = 0

            def batch_ends(self, *arguments: object) -> None:
                self.ended += 1
                if self.ended == 2:  # both are read, and nothing is committed
                    time.sleep(1)  # until the reader has seen that nothing follows
                    (folder / "b.csv").write_text("k\nb2\n")

        succeeded(made.run(watcher=Replaces()))
        assert (folder / "b.csv").read_text() == "k\nb2\n"
        assert cli("run", "job.toml").returncode == 0
    assert sorted(row[0] for row in files.rows("new.db", "SELECT k FROM t")) == ["a1", "b1", "b2"]
    assert not list(folder.glob("*.csv"))
    if "move" in then:
        contents = sorted(path.read_text() for path in (folder / "done").glob("*.csv"))
        assert contents == ["k\na1\n", "k\nb2\n"]


def test_a_move_overwrites_nothing(files: Files, cli: Cli) -> None:
    folder = files.folder / "in"
    (folder / "done").mkdir(parents=True)
    files.database("new.db", "CREATE TABLE t (k text)")
    (files.folder / "job.toml").write_text(
        'job = "t"\n[connection.in]\nurl = "file://in"\n[connection.new]\nurl = "sqlite:///new.db"\n[pipeline.t]\n'
        'source = "in:*.csv"\ntarget = "new:t"\nfiles_once = true\nwhen_loaded = { move = "done" }\n'
    )
    for number in range(3):
        (folder / "a.csv").write_text(f"k\n{number}\n")
        if number == 2:  # a file that comes between the choice of the name and the move
            (folder / "done" / f"a-{number + 1:06d}.csv").write_text("another\n")
        assert cli("run", "job.toml").returncode == 0
    texts = sorted(path.read_text() for path in (folder / "done").iterdir())
    assert texts == ["another\n", "k\n0\n", "k\n1\n", "k\n2\n"]


def test_published_files_that_somebody_took_are_done(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE s (k integer PRIMARY KEY, p text)", s=[(1, "a"), (2, "b"), (3, "c")])
    out = files.folder / "out"
    out.mkdir()
    (files.folder / "job.toml").write_text(
        'job = "t"\n[connection.old]\nurl = "sqlite:///old.db"\n[connection.out]\nurl = "file://out"\n[pipeline.t]\n'
        'source = "old:s"\ntarget = "out:{p}-{run}.csv"\npartition_by = ["p"]\n'
    )
    dies = (
        "import os\nimport kanal\nfrom kanal.connections.files.stores import LocalStore\n"
        "publish, done = LocalStore.publish, []\n"
        "def dying(self, *arguments):\n    publish(self, *arguments)\n    os._exit(9)\n"
        "LocalStore.publish = dying\nkanal.Job.read('job.toml').run()\n"
    )
    assert forking.run([sys.executable, "-c", dies], cwd=files.folder).returncode == 9
    taken = list(out.glob("*.csv"))
    assert len(taken) == 1
    taken[0].unlink()
    assert cli("resume").returncode == 0
    assert len(list(out.glob("*.csv"))) == 2
    assert cli("run", "job.toml").returncode == 0
    assert len(list(out.glob("*.csv"))) == 5


#: Runs a command and dies at a statement of a load, counted from the first, before or after it.
DIES_AT = """
import os, sys
import kanal
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.mariadb_load import MariaDBLoad, MariaDBWriter
from kanal.connections.sql.postgresql_load import PostgreSQLLoad
from kanal.connections.sql.sqlite_load import SQLiteLoad, SQLiteWriter
from kanal.connections.sql.staging import StagingTransaction
from kanal.connections.sql.streaming import StreamingLoad, StreamWriter
from kanal.connections.sql.transaction import SqlTransaction
from kanal.connections.sql.writer import TableWriter

command, last, when = sys.argv[1], int(sys.argv[2]), sys.argv[3]  # of 0, none
count = [0]

def dying(original):
    def method(self, *arguments, **more):
        count[0] += 1
        dies = count[0] == last
        if dies and when == "before":
            os._exit(9)
        found = original(self, *arguments, **more)
        if dies:
            os._exit(9)
        return found
    return method

for cls in (SqlTransaction, StagingTransaction, SqlLoad, StreamingLoad, MariaDBLoad, PostgreSQLLoad, SQLiteLoad,
            TableWriter, StreamWriter, MariaDBWriter, SQLiteWriter):
    for name in ("execute", "attempt", "insert", "send", "confirm", "commit", "run_sql", "empty"):
        if name in cls.__dict__:
            setattr(cls, name, dying(cls.__dict__[name]))
try:
    getattr(kanal.Job.read("job.toml"), command)()
except kanal.KanalError:
    sys.exit(3)
"""
RULES = {
    "append": 'write = "append"\nsince = "k"',
    "append by batches": 'write = "append"\nsince = "k"\ncommit = "batch"\nbatch_rows = 7',
    "truncate": 'write = "truncate"\nlast_sql = "INSERT INTO told SELECT count(*) FROM t"',
    "merge": 'write = "merge"',
    "merge by batches": 'write = "merge"\ncommit = "batch"\nbatch_rows = 7',
    "job": 'write = "merge"\ncommit = "job"',
}


def broken_off(folder: Path, network: Unreliable | None, command: str, chance: random.Random) -> str:
    """Run a command that dies at a random statement, or whose connection to the target fails; what happened."""
    faults = ["dies before", "dies after", *(FAULTS if network is not None else ())]
    fault, at = chance.choice(faults), chance.randint(1, 25)
    dies_at = 0
    if fault.startswith("dies"):
        dies_at = at
    elif network is not None:
        network.arm(at := chance.randint(1, 120), fault)
    arguments = [command, str(dies_at), fault.removeprefix("dies ")]
    process = Forked([sys.executable, "-c", DIES_AT, *arguments], cwd=folder, stderr=subprocess.PIPE)
    if network is not None and fault == "late":
        while process.poll() is None and not network.held.wait(0.05):
            pass
        if network.held.is_set():
            process.kill()
            threading.Timer(chance.choice([0.0, 0.5, 1.5]), network.release).start()
    said = process.communicate(timeout=120)[1]
    assert process.returncode in (0, 1, 3, 9, -9), said.decode()
    return f"{command}, {fault} at {at}: {process.returncode}"


def sequence(places: Places, folder: Path, cli: Cli, kind: str, seed: int) -> str:
    """Commands that are broken off at random, in random order, and then all that there is to do; what was done.

    In the end each row of the source stands in the target once, the log agrees, and no reject is left.
    """
    chance = random.Random(f"{kind} {seed}")
    name = chance.choice(list(RULES))
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v text)",
            *(f"INSERT INTO s VALUES ({k}, '{'x' if k % 9 == 0 else k}')" for k in range(1, 31)))  # fmt: skip
    key = "" if name.startswith("append") else " PRIMARY KEY"
    new.sql(f"CREATE TABLE t (k integer NOT NULL{key}, v integer)", "CREATE TABLE told (n integer)")
    port = {"postgresql": 5432, "mariadb": 3306}.get(new.kind)
    network = Unreliable(sa.make_url(new.url).port or port) if port is not None else None
    target = behind(new, network) if network is not None else new
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nkey = "k"\nretry_wait = 0.1\n{RULES[name]}'
    job(folder, body, old=old, new=target)
    done = [name]
    for _ in range(chance.randint(1, 5)):
        command = chance.choice(["run", "run", "resume", "resume", "replay"])
        if "replay" in (command, *done) and name.startswith("append") and "fixed" not in done:
            old.sql("UPDATE s SET v = '7' WHERE v = 'x'")
            done.append("fixed")
        done.append(broken_off(folder, network, command, chance))
    if network is not None:
        network.arm(0, "")
        network.release()
    for _ in range(3):
        cli("resume")
    assert cli("run", "job.toml").returncode == 0, done
    old.sql("UPDATE s SET v = '7' WHERE v = 'x'")
    log = sqlite3.connect(folder / "kanal-runs.db")
    for _ in range(6):
        rest = log.execute(
            "SELECT DISTINCT run FROM kanal_reject WHERE resolved_by IS NULL OR resolved_by < 0"
        ).fetchall()
        for (run,) in rest:
            cli("replay", str(run))
    if not name.startswith("append"):
        assert cli("run", "job.toml").returncode == 0
    expected = [(k, 7 if k % 9 == 0 else k) for k in range(1, 31)]
    assert [tuple(row) for row in new.rows("SELECT k, v FROM t ORDER BY k")] == expected, done
    steps = log.execute(
        "SELECT kanal_step.status FROM kanal_step JOIN kanal_run USING (run) WHERE run = (SELECT max(run) FROM kanal_run)"
    )
    assert {status for (status,) in steps} == {"succeeded"}, done
    if network is not None:
        network.close()
    return "; ".join(done)


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_commands_killed_at_any_statement(places: Places, tmp_path: Path, cli: Cli, kind: str, seed: int) -> None:
    print(sequence(places, tmp_path, cli, kind, seed))


@pytest.mark.matrix
@pytest.mark.parametrize("seed", range(100, 200))
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_many_commands_killed_at_any_statement(places: Places, tmp_path: Path, cli: Cli, kind: str, seed: int) -> None:
    print(sequence(places, tmp_path, cli, kind, seed))
