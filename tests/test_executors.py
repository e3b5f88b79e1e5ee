"""Steps that an executor runs in other processes: the same counts, rows and rejects, whatever happens to a process."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import pyarrow as pa
import pytest

import kanal
from conftest import Place
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
BODY = """
    [pipeline.l]
    source = "old:l"
    target = "new:l"
    write = "merge"
    key = "code"
    [pipeline.t]
    source = "old:t"
    target = "new:t"
    write = "{write}"
    key = "id"
    commit = "{commit}"
    batch_rows = 200
    lookup.l = {{ table = "new:l", on = {{ code = "code" }} }}
    columns = {{ id = "id", tons = "tons", reach = "l.reach" }}
    {more}
"""


@pytest.fixture(scope="module")
def pool() -> Iterator[ProcessPoolExecutor]:
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as executor:
        yield executor


def tables(places: Places, kind: str, rows: int = 1_000) -> tuple[Place, Place]:
    old, new = places(kind), places(kind)
    old.sql(
        "CREATE TABLE l (code varchar(4) PRIMARY KEY, reach integer)", "INSERT INTO l VALUES ('L1', 10), ('L2', 20)"
    )
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, code varchar(4), tons varchar(9), changed integer)")
    values = (f"({n}, 'L{n % 3}', '{'x' if n % 50 == 0 else n}', {n})" for n in range(rows))
    old.sql(f"INSERT INTO t VALUES {', '.join(values)}")
    new.sql("CREATE TABLE l (code varchar(4) PRIMARY KEY, reach integer)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, tons decimal(9,2), reach integer)")
    new.sql("INSERT INTO t VALUES (-1, 1, 1)")
    return old, new


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
@pytest.mark.parametrize("commit", ["step", "batch", "job"])
def test_a_job_in_other_processes(
    places: Places, tmp_path: Path, pool: ProcessPoolExecutor, kind: str, write: str, commit: str
) -> None:
    old, new = tables(places, kind)
    body = BODY.format(write=write, commit=commit, more="")
    body = body.replace('key = "code"', 'key = "code"\n    commit = "job"') if commit == "job" else body
    run = succeeded(job(tmp_path, body, old=old, new=new).run(executor=pool, workers=2))
    good = sum(n % 3 != 0 and n % 50 != 0 for n in range(1_000))
    expected = {"read": 1_000, "rejected": 1_000 - good, "inserted": good}
    assert counts(run["t"]) == expected | ({"deleted": 1} if write == "truncate" else {})
    assert run["t"].rejects().num_rows == 1_000 - good
    assert new.rows("SELECT count(*), sum(reach) FROM t WHERE id >= 0") == [(good, sum(
        10 * (n % 3) for n in range(1_000) if n % 3 and n % 50))]  # fmt: skip
    assert counts(succeeded(kanal.Job.read(tmp_path / "job.toml").run(executor=pool, only=["l"]))["l"]) == {
        "read": 2, "unchanged": 2}  # fmt: skip
    body = body.replace('tons = "tons"', "tons = \"replace(tons, 'x', '1')\"")
    fixed = job(tmp_path, body, old=old, new=new).replay(run.run, "t")
    resolved = sum(n % 3 != 0 and n % 50 == 0 for n in range(1_000))
    assert fixed["t"].tally.written == resolved


@pytest.mark.parametrize("kind", KINDS)
def test_only_what_is_new_in_other_processes(
    places: Places, tmp_path: Path, pool: ProcessPoolExecutor, kind: str
) -> None:
    old, new = tables(places, kind, rows=100)
    made = job(tmp_path, BODY.format(write="append", commit="step", more='since = "changed"'), old=old, new=new)
    assert succeeded(made.run(executor=pool))["t"].tally.read == 100
    assert counts(succeeded(made.run(executor=pool))["t"]) == {}
    assert [state.watermark for state in made.watermarks()] == ["99"]
    assert made.run(executor=pool, since="90")["t"].tally.read == 10


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("commit", ["step", "batch"])
@pytest.mark.parametrize("after", [0.8, *(pytest.param(after, marks=pytest.mark.matrix) for after in (0.3, 1.5))])
def test_a_process_is_killed_and_the_run_goes_on_elsewhere(
    places: Places, tmp_path: Path, kind: str, commit: str, after: float
) -> None:
    old, new = tables(places, kind, rows=20_000)
    made = job(tmp_path, BODY.format(write="append", commit=commit, more=""), old=old, new=new)
    with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as executor:
        executor.submit(os.getpid).result()

        def kill() -> None:
            time.sleep(after)
            for process in list(executor._processes.values()):
                os.kill(process.pid or 0, signal.SIGKILL)

        threading.Thread(target=kill, daemon=True).start()
        run = made.run(executor=executor)
    assert run.status in ("succeeded", "failed")
    if run.status == "failed":
        assert any("ended unexpectedly" in str(step.error) for step in run), [step.error for step in run]
        with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as another:
            run = made.resume(executor=another)
    assert run.status == "succeeded", [step.error for step in run]
    good = sum(n % 3 != 0 and n % 50 != 0 for n in range(20_000))
    assert new.rows("SELECT count(*) FROM t WHERE id >= 0") == [(good,)]
    assert (run["t"].tally.inserted, run["t"].tally.rejected) == (good, 20_000 - good)


def test_a_timeout_reaches_the_other_process(places: Places, tmp_path: Path, pool: ProcessPoolExecutor) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE VIEW slow AS SELECT 1 AS id, pg_sleep(30)::text AS nap")
    new.sql("CREATE TABLE t (id integer)")
    body = '[pipeline.t]\nsource = "old:slow"\ntarget = "new:t"\ntimeout = 1\ncolumns = { id = "id + length(nap)" }'
    began = time.monotonic()
    step = job(tmp_path, body, old=old, new=new).run(executor=pool)["t"]
    assert "longer than its timeout of 1 s; it was undone" in str(step.error)
    assert time.monotonic() - began < 20


def test_what_cannot_be_sent_is_told_and_memory_stays_here(tmp_path: Path, pool: ProcessPoolExecutor) -> None:
    @kanal.function(takes="value")
    def local(code: str) -> str:
        return code.lower()

    rows = pa.table({"code": ["L1", "L2"]})
    (tmp_path / "to.db").touch()
    parts = {
        "here": kanal.Pipeline(source=rows, target=(memory := kanal.Memory())),
        "there": kanal.Pipeline(source=rows, target="new:l", create="missing", columns={"code": "local(code)"}),
    }
    connection = {"new": kanal.Connection(url=f"sqlite:///{tmp_path}/to.db")}
    made = kanal.Job(job="x", functions=[local], connection=connection, pipeline=parts,
                     run_log=kanal.RunLog(url=f"sqlite:///{tmp_path}/runs.db"))  # fmt: skip
    run = made.run(executor=pool)
    assert memory.table().num_rows == 2
    assert run["here"].status == "succeeded"
    assert "cannot be sent to another process" in str(run["there"].error)
