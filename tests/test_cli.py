"""The command line as a process: the demo, what it prints, its exit statuses, and what remains when it is killed."""

from __future__ import annotations

import csv
import io
import os
import re
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest
from rich.console import Console

import kanal
from conftest import Cli, Files, document
from forking import Forked
from kanal.cli.progress import Progress

STEP_KEYS = ["step", "kind", "status", "read", "filtered", "rejected", "superseded", "withdrawn", "inserted",
             "updated", "unchanged"]  # fmt: skip
STEP_KEYS += ["deleted", "closed", "conflicts", "written", "batches", "seconds", "error"]


@pytest.fixture
def cli(process: Cli) -> Cli:
    return process


def test_the_demo_and_the_commands_it_names(cli: Cli, tmp_path: Path) -> None:
    first = cli("demo", "d")
    assert first.returncode == 0, first.stderr
    assert first.stderr == ""  # progress is for terminals
    assert "Rejected rows" in first.stdout
    assert max(map(len, first.stdout.splitlines())) <= 100
    again = cli("run", "d/lock-register.toml", "--json")
    assert again.returncode == 0
    run = document(again)
    assert (run["run"], run["job"], run["status"]) == (2, "lock-register", "succeeded")
    assert [list(step) for step in run["steps"]] == [STEP_KEYS] * 8
    merged = [step for step in run["steps"] if step["step"] not in ("tariffs", "toll_by_lock")]
    assert all(step["written"] == 0 and step["unchanged"] > 0 for step in merged)  # nothing changes the second time
    for step in run["steps"]:
        ends = ("filtered", "rejected", "superseded", "withdrawn", "inserted", "updated", "unchanged")
        assert step["read"] == sum(step[name] for name in ends)

    past = document(cli("runs", "--job", "d/lock-register.toml", "--json"))
    assert [record["run"] for record in past] == [2, 1]
    one = document(cli("runs", "2", "--run-log", f"sqlite:///{tmp_path}/d/kanal-runs.db", "--json"))
    assert one["steps"] == run["steps"]

    rejects = document(cli("rejects", "1", "--job", "d/lock-register.toml", "--json"))
    assert [list(reject) for reject in rejects[:1]] == [
        ["step", "column", "reason", "value", "message", "constraint", "row"]
    ]
    assert len(rejects) == sum(step["rejected"] for step in run["steps"])
    ambiguous = next(reject for reject in rejects if reject["reason"] == "ambiguous_time")
    assert ambiguous["value"] == ambiguous["row"]["arrived"] == "26.10.2025 02:15"
    exported = cli("rejects", "1", "--job", "d/lock-register.toml", "--export", "out.csv")
    assert exported.stdout == ""
    with (tmp_path / "out.csv").open(encoding="utf-8") as file:
        assert len(list(csv.DictReader(file))) == len(rejects)
    shown = cli("rejects", "1", "passages_upper", "--job", "d/lock-register.toml", "-n", "1")
    assert "too_long" in shown.stdout
    assert "passages_lower" not in shown.stdout

    order = document(cli("order", "d/lock-register.toml", "--json"))
    place = {step["step"]: step["position"] for step in order}
    waits = {(step["step"], wait["for"]) for step in order for wait in step["waits"]}
    assert all(place[before] < place[step] for step, before in waits)
    assert {("vessels", "skippers"), ("passages_lower", "vessels"), ("toll_by_lock", "passages_upper")} <= waits


def test_a_run_is_gone_on_with_from_another_folder(cli: Cli, tmp_path: Path) -> None:
    assert cli("demo", "a").returncode == 0
    replayed = cli("replay", "1", "--run-log", f"sqlite:///{tmp_path}/a/kanal-runs.db", "--json")
    assert replayed.returncode == 0, replayed.stderr
    assert document(replayed)["run"] == 2


@pytest.mark.parametrize(
    ("arguments", "status", "said"),
    [
        (["run", "nothing.toml"], 2, "no file nothing.toml"),
        (["run", "."], 2, "is a folder"),
        (["run"], 2, "Missing argument 'JOB'"),
        (["rn"], 2, "No such command"),
        (["run", "job.toml", "--batch-rows", "0"], 2, "batch-rows"),
        (["run", "job.toml", "--set", "season"], 2, "NAME=VALUE"),
        (["run", "job.toml", "--set", "seasn=1"], 2, 'no parameter "seasn". Did you mean "season"?'),
        (["run", "job.toml", "--only", "q"], 2, 'no step "q"'),
        (["runs"], 2, "no kanal-runs.db in this folder"),
        (["rejects", "--run-log", "sqlite:///none.db"], 2, "no run log"),
        (["demo", "full"], 2, "holds other files"),
        (["--version"], 0, ""),
        (["run", "job.toml", "--set", "season=2025"], 1, ""),
    ],
)
def test_arguments_and_exit_statuses(files: Files, cli: Cli, arguments: list[str], status: int, said: str) -> None:
    files.database("old.db", "CREATE TABLE t (n)", t=[("x",)])
    files.database("new.db", "CREATE TABLE t (n INTEGER)")
    files.job(
        '[parameters]\nseason = 1\n[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nmax_rejects = 0\n'
        'where = ":season > 0"'
    )
    (files.folder / "full").mkdir()
    (files.folder / "full" / "other").touch()
    outcome = cli(*arguments)
    assert outcome.returncode == status, outcome.stderr
    assert said in outcome.stderr
    assert "Traceback" not in outcome.stderr + outcome.stdout
    assert outcome.stderr.startswith("kanal: ") or status != 2


BIG = 400_000


@pytest.fixture
def big(files: Files) -> Files:
    files.database("old.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)", t=[(n, f"new {n}") for n in range(BIG)])
    files.database("new.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)", t=[(n, "old") for n in range(5)])
    files.job('[defaults]\nbatch_rows = 1000\n[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"')
    return files


@pytest.mark.parametrize(
    ("sign", "batches"), [(signal.SIGKILL, 2), (signal.SIGKILL, 30), (signal.SIGTERM, 5), (signal.SIGINT, 9)]
)
def test_a_run_that_is_killed_leaves_the_target_as_it_was(big: Files, sign: signal.Signals, batches: int) -> None:
    process = Forked(
        [sys.executable, "-m", "kanal", "run", "job.toml"],
        cwd=big.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        time.sleep(0.01)
        try:
            if big.rows("kanal-runs.db", "SELECT count(*) FROM kanal_batch")[0][0] >= batches:
                break
        except sqlite3.OperationalError:
            continue
    assert process.poll() is None, "the run ended before it could be killed"
    os.kill(process.pid, sign)
    _, err = process.communicate(timeout=60)
    assert big.rows("new.db", "SELECT count(*), min(v) FROM t") == [(5, "old")]
    if sign != signal.SIGKILL:
        assert process.returncode == 130, err
        assert "Traceback" not in err
        assert big.rows("kanal-runs.db", "SELECT status FROM kanal_run") == [("stopped",)]
        assert big.rows("kanal-runs.db", "SELECT status, inserted FROM kanal_step") == [("stopped", 0)]
    run = kanal.Job.read(big.folder / "job.toml").run()
    assert run["t"].tally.inserted == BIG
    assert run["t"].tally.deleted == 5


def test_a_target_that_another_program_writes_to_fails_with_a_sentence(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n INTEGER)", t=[(1,)])
    files.database("new.db", "CREATE TABLE t (n INTEGER)")
    (files.folder / "new.db").chmod(0o644)
    job = kanal.Job.read(files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nlast_sql = "SELEC 1"'))
    run = job.run()
    assert "syntax error" in str(run["t"].error)
    assert files.rows("new.db", "SELECT * FROM t") == []


def test_shell_completion(tmp_path: Path) -> None:
    asked = os.environ | {"_KANAL_COMPLETE": "complete_bash", "COMP_WORDS": "kanal re", "COMP_CWORD": "1"}
    kanal = Path(sys.executable).parent / "kanal"
    done = subprocess.run([kanal], env=asked, cwd=tmp_path, capture_output=True, text=True, check=True)
    assert set(done.stdout.split()) == {"resume", "replay", "rejects", "report"}


def test_progress_tells_the_share_and_the_time_left(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n integer)", t=[(n,) for n in range(1000)])
    files.database("new.db", "CREATE TABLE t (n integer)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n[command.c]\nconnection = "new"\nsql = "SELECT 1"'
    shown: list[str] = []

    class Watching(Progress):
        def batch_ends(self, step: str, tally: kanal.Tally) -> None:
            super().batch_ends(step, tally)
            screen = Console(file=io.StringIO(), width=120)
            screen.print(self)
            shown.append(screen.file.getvalue())  # type: ignore[attr-defined]

    kanal.Job.read(files.job(body)).run(batch_rows=250, watcher=Watching())
    assert "25 % of 1,000" in " ".join(shown[0].split()) or "24 % of 1,000" in " ".join(shown[0].split())
    assert re.search(r"\d+ s *$", shown[0].splitlines()[1])
    assert "%" in shown[2]


def test_what_is_said_of_runs_names_them(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE s (k integer PRIMARY KEY, v text)", s=[(1, "1"), (2, "x")])
    files.database("new.db", "CREATE TABLE t (k integer PRIMARY KEY, v integer)")
    body = '[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nwrite = "merge"\nkey = "k"\n[environment.test]\nrun_log.keep_rejects = 9\n'
    path = files.job(body)
    other = files.folder / "other.toml"
    other.write_text(path.read_text().replace('job = "test"', 'job = "other"'))
    assert cli("run", "other.toml", "--env", "test").returncode == 0
    assert cli("run", "job.toml").returncode == 0
    assert [run["run"] for run in document(cli("runs", "--job", "job.toml", "--json"))] == [2]
    assert [run["run"] for run in document(cli("runs", "--json"))] == [2, 1]
    assert "Run 2 of test" in cli("rejects", "--job", "job.toml").stdout
    said = " ".join(cli("report", "--job", "other.toml").stderr.split())
    assert "no runs of other outside of its environments yet" in said
    assert "--env test (run 1)" in said
    files.rows("old.db", "SELECT 1")
    files.database("old.db", "UPDATE s SET v = '2' WHERE k = 2")
    assert cli("replay", "--job", "job.toml").returncode == 0
    assert "Run 3 succeeded, there is nothing to resume" in " ".join(cli("resume", "--job", "job.toml").stderr.split())


def test_files_that_are_not_there_yet_are_no_contradiction(files: Files, cli: Cli) -> None:
    (files.folder / "in").mkdir()
    files.database("new.db", "CREATE TABLE t (k integer)")
    files.job(
        '[connection.in]\nurl = "file://in"\n[pipeline.t]\nsource = "in:*.csv"\ntarget = "new:t"\nfiles_once = true\n'
    )
    assert "t: no file was loaded yet, and none is there." in cli("files", "job.toml").stdout
