"""Runs that are done in full and undone."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from msgspec.structs import asdict

import kanal
from conftest import Cli, Files, Place, document
from test_references import fill
from test_servers import job

Places = Callable[[str], Place]
each_kind = pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
BODY = """[pipeline.reaches]\nsource = "old:reach"\ntarget = "new:reach"\nwrite = "{write}"\nkey = "no"\n{more}
[pipeline.gates]\nsource = "old:gate"\ntarget = "new:gate"\nwrite = "{write}"\nkey = "no"\n"""


def family(places: Places, kind: str) -> tuple[Place, Place]:
    old, new = places("sqlite"), places(kind)
    for place in (old, new):
        place.sql("CREATE TABLE reach (no integer PRIMARY KEY, seen integer)")
    old.sql("CREATE TABLE gate (no integer PRIMARY KEY, reach integer)")
    new.sql("CREATE TABLE gate (no integer PRIMARY KEY, reach integer, CONSTRAINT own CHECK (no <> 3), "
            "CONSTRAINT gate_reach FOREIGN KEY (reach) REFERENCES reach (no))",
            "INSERT INTO reach VALUES (90, 1)", "INSERT INTO gate VALUES (90, 90)")  # fmt: skip
    fill(old, reach=[(n, n) for n in range(5)], gate=[(n, n % 6) for n in range(12)])
    return old, new


def tables(place: Place) -> list[tuple[object, ...]]:
    return [*place.rows("SELECT * FROM reach ORDER BY no"), *place.rows("SELECT * FROM gate ORDER BY no")]


@each_kind
@pytest.mark.parametrize("write", ["append", "merge", "truncate"])
@pytest.mark.parametrize("more", ["", 'commit = "batch"\norder_by = "no"', 'last_sql = "UPDATE reach SET seen = 0"'])
def test_a_rehearsal_tells_what_a_run_would_do_and_leaves_nothing(
    places: Places, tmp_path: Path, kind: str, write: str, more: str
) -> None:
    old, new = family(places, kind)
    before = tables(new)
    made = job(tmp_path, BODY.format(write=write, more=more), old=old, new=new)
    rehearsed = made.run(rehearse=True)
    assert rehearsed.run == 0
    assert tables(new) == before
    mine = {"postgresql": "current_schema()", "mariadb": "DATABASE()"}.get(kind, "")
    names = f"SELECT table_name FROM information_schema.tables WHERE table_schema = {mine}"
    names = "SELECT name FROM sqlite_master" if kind == "sqlite" else names
    assert not [name for (name,) in new.rows(names) if name.startswith("kanal")]
    assert not (tmp_path / "kanal-runs.db").exists()
    if rehearsed.status == "succeeded":
        assert {r["constraint"] for r in rehearsed["gates"].rejects().to_pylist() if r["column"] == "no"} == {"own"}
    else:
        assert write == "truncate"
    run = made.run()
    assert run.status == rehearsed.status
    if run.status == "succeeded":  # else all of the rehearsal was undone, and not the steps before alone
        assert [asdict(step.tally) for step in run] == [asdict(step.tally) for step in rehearsed]


@each_kind
def test_watermarks_stay_where_they_are(places: Places, tmp_path: Path, cli: Cli, kind: str) -> None:
    old, new = family(places, kind)
    job(tmp_path, BODY.format(write="merge", more='since = "seen"'), old=old, new=new)
    for _ in range(2):
        shown = document(cli("run", "job.toml", "--rehearse", "--json"))
        assert (shown["run"], shown["rehearsal"], shown["steps"][0]["inserted"]) == (None, True, 5)
    assert document(cli("watermarks", "job.toml", "--json"))[0]["watermark"] is None
    said = cli("run", "job.toml", "--rehearse").stdout
    assert "all was done, and undone" in said
    assert "own" in said or "the condition" in said


def test_what_cannot_be_undone_is_said(places: Places, tmp_path: Path, files: Files) -> None:
    old, new = family(places, "mariadb")
    command = '[command.c]\nconnection = "new"\nsql = "CREATE TABLE q (n integer)"\n'
    made = job(tmp_path, BODY.format(write="append", more="") + command, old=old, new=new)
    with pytest.raises(kanal.JobError, match="cannot undo what this SQL does"):
        made.run(rehearse=True)
    assert made.run(rehearse=True, only=["reaches", "gates"]).status == "succeeded"
    other = places("sqlite")
    other.sql("CREATE TABLE reach (no integer PRIMARY KEY, seen integer)")
    chain = '[pipeline.on]\nsource = "new:reach"\ntarget = "other:reach"\n'
    made = job(tmp_path, BODY.format(write="append", more="") + chain, old=old, new=new, other=other)
    with pytest.raises(kanal.JobError, match=r"(?i)rehearse the two apart"):
        made.run(rehearse=True)
    made = job(tmp_path, '[pipeline.t]\nsource = "old:reach"\ntarget = "new:t"\ncreate = "missing"', old=old, new=new)
    with pytest.raises(kanal.JobError, match="kanal create"):
        made.run(rehearse=True)


def test_a_run_log_of_before_gets_what_it_lacks(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (n integer)", t=[(1,)])
    files.database("new.db", "CREATE TABLE t (n integer)")
    files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"')
    assert cli("run", "job.toml").returncode == 0
    gone = [(table, "withdrawn") for table in ("kanal_step", "kanal_batch")]
    gone += [("kanal_reject", name) for name in ("constraint", "would_be", "parent")]
    files.database("kanal-runs.db", "UPDATE kanal_version SET version = 5;" + ";".join(
        f'ALTER TABLE {table} DROP COLUMN "{column}"' for table, column in gone))  # fmt: skip
    (run,) = document(cli("runs", "--json"))
    assert (run["steps"][0]["inserted"], run["steps"][0]["withdrawn"]) == (1, 0)
    assert cli("run", "job.toml").returncode == 0
