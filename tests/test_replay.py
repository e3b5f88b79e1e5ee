"""Rejected rows are loaded again, and only those, after the cause was fixed."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable

import pytest

import forking
import kanal
from conftest import Cli, Files, Place, document
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
BODY = """
    [pipeline.passages]
    source = "old:p"
    target = "new:p"
    write = "{write}"
    key = "no"
    columns = {{ no = "no", lock_id = "lock.id", toll = {{ from = "toll", {mark} }}, n = "n", raw = "raw" }}
    lookup.lock = {{ table = "new:l", on = {{ code = "code" }} }}
"""


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
def test_rejects_are_loaded_again_and_only_those(places: Places, files: Files, cli: Cli, kind: str, write: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE p (no integer PRIMARY KEY, code text, toll text, n smallint, raw binary)")
    with old.engine.begin() as connection:
        rows = [(n, "L1", "5.00", n, b"\0\xff") for n in range(10)]
        rows += [(10, "L1", "1.234,50", 7, b""), (11, "L9", "5", 7, None), (12, "L1", "free", 7, b"x"),
                 (13, "L1", "5", "seven", b"x"), (14, "L1", "5", 99, b"x'")]  # fmt: skip
        connection.exec_driver_sql("INSERT INTO p VALUES (?, ?, ?, ?, ?)", rows)
    raw = {"postgresql": "bytea", "mariadb": "blob"}.get(kind, "binary")
    new.sql("CREATE TABLE l (code varchar(9) PRIMARY KEY, id integer)", "INSERT INTO l VALUES ('L1', 1)")
    new.sql(
        f"CREATE TABLE p (no integer PRIMARY KEY, lock_id integer, toll decimal(9,2), n integer CHECK (n < 50), raw {raw})"
    )
    made = job(files.folder, BODY.format(write=write, mark="type = 'decimal(9,2)'"), old=old, new=new)
    run = succeeded(made.run(batch_rows=4))
    assert counts(run["passages"]) == {"read": 15, "rejected": 5, "inserted": 10}

    # A conversion is corrected, a missing row is loaded; two causes stay.
    new.sql("INSERT INTO l VALUES ('L9', 9)", "UPDATE p SET n = 42 WHERE no = 1")
    made = job(files.folder, BODY.format(write=write, mark="decimal_mark = ',', grouping_mark = '.'"), old=old, new=new)
    assert made.check() == []
    again = document(cli("replay", "1", "--json"))
    assert (again["run"], again["steps"][0]["read"], again["steps"][0]["inserted"]) == (2, 5, 2)
    assert sorted(new.rows("SELECT no, lock_id FROM p WHERE no > 9")) == [(10, 1), (11, 9)]
    assert new.rows("SELECT n FROM p WHERE no = 1") == [(42,)], "other rows are left alone"
    left = document(cli("rejects", "1", "--json"))
    assert sorted((reject["row"]["no"], reject["reason"]) for reject in left) == [
        ("12", "not_a_number"), ("13", "not_a_number"), ("14", "refused_by_target")
    ]  # fmt: skip
    assert len(document(cli("rejects", "1", "--reason", "not_a_number", "--json"))) == 2
    assert [r["row"]["no"] for r in document(cli("rejects", "1", "--column", "n", "--json"))] == ["13", "14"]
    assert 'no reason "not_a_numbr". Did you mean "not_a_number"?' in cli("rejects", "--reason", "not_a_numbr").stderr
    assert cli("rejects", "1", "--export", "left.jsonl").returncode == 0
    lines = (files.folder / "left.jsonl").read_text(encoding="utf-8").splitlines()
    assert [json.loads(line) for line in lines] == left
    shown = cli("rejects", "1").stdout
    assert "2 rejected rows of run 1 were resolved by a replay" in shown
    assert "kanal replay 1" in shown
    assert "\0" not in shown

    made = job(files.folder, BODY.format(write=write, mark="if_bad = 'null'"), old=old, new=new)
    run = succeeded(made.replay(1, "passages"))
    assert run["passages"].tally.rejected == 2
    assert new.rows("SELECT no, toll FROM p WHERE no = 12") == [(12, None)]
    assert files.rows("kanal-runs.db", "SELECT run, resolved_by FROM kanal_reject WHERE resolved_by IS NOT NULL") == [
        (1, 2), (1, 2), (1, 3), (2, 3)
    ]  # fmt: skip
    assert new.rows("SELECT count(*) FROM p") == [(13,)]


def test_what_cannot_be_loaded_again_is_said(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (n, m text)", t=[("x", "a"), (1, "b")])
    files.database("new.db", "CREATE TABLE t (n integer, m text)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n[pipeline.t.columns]\nn = "n"\n'
    files.job(body)
    assert cli("replay", "--job", "job.toml").returncode == 2
    assert cli("run", "job.toml").returncode == 0
    for arguments, said in [
        (["replay", "7"], "has no run 7"),
        (["replay", "1", "q"], 'has no step "q"'),
        (["resume", "1"], "succeeded"),
    ]:
        outcome = cli(*arguments)
        assert outcome.returncode == 2
        assert said in outcome.stderr
    files.job(body + 'm = "m"\n')
    failed = cli("replay", "1", "--json")
    assert failed.returncode == 1
    assert 'do not have the column "m"' in document(failed)["steps"][0]["error"]
    files.job(body.replace('n = "n"', 'n = { from = "n", if_bad = "null" }'))
    assert cli("replay", "1").returncode == 0
    assert sorted(files.rows("new.db", "SELECT n FROM t"), key=str) == [(1,), (None,)]
    assert "no rejected rows that are not resolved" in cli("replay", "1").stderr
    assert kanal.Job.read(files.folder / "job.toml").run()["t"].rejects().num_rows == 0


DIES = """
import os, sys, threading
import kanal
from kanal.runlog.rejects import RejectEntries
from kanal.runlog.steps import StepEntries
holder = StepEntries if sys.argv[1] == "end_step" else RejectEntries
setattr(holder, sys.argv[1], lambda *_, **__: os._exit(9))
kanal.Job.read("job.toml").replay(1)
"""


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
@pytest.mark.parametrize("dies_at", ["resolve", "settle", "end_step"])
def test_a_replay_that_died_loads_nothing_twice(
    places: Places, files: Files, cli: Cli, kind: str, dies_at: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (n)", "INSERT INTO t VALUES (1), ('2,0'), ('x')")
    new.sql("CREATE TABLE t (n integer)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n'
    job(files.folder, body, old=old, new=new)
    assert cli("run", "job.toml").returncode == 0
    job(files.folder, body + "columns = { n = { from = 'n', decimal_mark = ',' } }", old=old, new=new)
    died = forking.run([sys.executable, "-c", DIES, dies_at], cwd=files.folder, timeout=60)
    assert died.returncode == 9
    if dies_at != "end_step":
        assert len(document(cli("rejects", "1", "--json"))) == 2, "nobody knows yet whether one of them was loaded"
    again = document(cli("replay", "1", "--json"))
    assert again["steps"][0]["inserted"] == (1 if dies_at == "resolve" else 0)
    assert sorted(new.rows("SELECT n FROM t")) == [(1,), (2,)]
    assert [reject["value"] for reject in document(cli("rejects", "1", "--json"))] == ["x"]


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_a_run_log_that_a_team_shares(places: Places, files: Files, cli: Cli, kind: str) -> None:
    log = places(kind)
    rows = [("x" * 300, "a\\b\t\u00e9\U0001f600"), (1, "b"), ("%s :x", None)]
    files.database("old.db", "CREATE TABLE t (n, m text)", t=rows)
    files.database("new.db", "CREATE TABLE t (n integer, m text NOT NULL)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n[pipeline.t.columns]\nm = "m"\nn = '
    files.job(f'{body}"n"\n[run_log]\nurl = "{log.url}"\n')
    run = document(cli("run", "job.toml", "--json"))
    assert (run["run"], run["status"], run["steps"][0]["rejected"]) == (1, "succeeded", 2)
    found = document(cli("rejects", "--job", "job.toml", "--json"))
    assert [reject["row"] for reject in found] == [{"n": str(n), "m": m} for n, m in rows if n != 1]
    assert "300" in cli("rejects", "1", "--run-log", log.url).stdout
    files.job(f'{body}{{ from = "n", if_bad = "null" }}\n[run_log]\nurl = "{log.url}"\n')
    again = document(cli("replay", "1", "--run-log", log.url, "--json"))
    assert (again["run"], again["steps"][0]["inserted"], again["steps"][0]["rejected"]) == (2, 1, 1)
    assert log.rows("SELECT resolved_by FROM kanal_reject WHERE run = 1 ORDER BY reject") == [(2,), (None,)]
    assert log.rows("SELECT status FROM kanal_run ORDER BY run") == [("succeeded",), ("succeeded",)]
    assert log.rows("SELECT * FROM kanal_lock") == []
    assert [run["run"] for run in document(cli("runs", "--job", "job.toml", "--json"))] == [2, 1]
    assert kanal.Job.read(files.folder / "job.toml").run()["t"].rejects().num_rows == 1


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
@pytest.mark.parametrize("write", ["append", "merge"])
@pytest.mark.parametrize("key", ["integer", "varchar(9)"])
def test_rejected_rows_are_tried_as_the_source_has_them_now(
    places: Places, files: Files, cli: Cli, kind: str, write: str, key: str
) -> None:
    old, new = places(kind), places("sqlite")
    old.sql(f"CREATE TABLE t (no {key} PRIMARY KEY, n varchar(9))",
            "INSERT INTO t VALUES ('1', 'x'), ('2', 'x'), ('3', 'x'), ('4', '4')")  # fmt: skip
    new.sql(f"CREATE TABLE t (no {key} PRIMARY KEY, n integer)")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "no"'
    made = job(files.folder, body, old=old, new=new)
    assert succeeded(made.run())["t"].tally.rejected == 3
    old.sql("UPDATE t SET n = '11' WHERE no = '1'", "DELETE FROM t WHERE no = '2'", "INSERT INTO t VALUES ('5', '5')")
    again = succeeded(made.replay())
    assert counts(again["t"]) == {"read": 2, "rejected": 1, "inserted": 1}
    assert "changed at the source, and tried as it is now: 1 rejected row" in str(again["t"].note)
    assert "gone from the source: 1 rejected row" in str(again["t"].note)
    assert sorted((str(no), n) for no, n in new.rows("SELECT no, n FROM t")) == [("1", 11), ("4", 4)]
    assert [reject["row"]["no"] for reject in document(cli("rejects", "1", "--json"))] == ["3"]
    assert "Gone from the source: 1 rejected row of run 1" in cli("rejects", "1").stdout
    old.sql("DELETE FROM t WHERE no = '3'")
    with pytest.raises(kanal.KanalError, match="no longer has any"):
        made.replay(1)
    assert document(cli("rejects", "1", "--json")) == []
