"""A source that gives too few rows empties no table, and fails the step where the job says how many it needs."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Place
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
each_kind = pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb", "duckdb"])


def made(places: Places, folder: Path, kind: str, rows: int, more: str) -> tuple[Place, Place, kanal.Job]:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY)", *(f"INSERT INTO s VALUES ({k})" for k in range(rows)))
    new.sql("CREATE TABLE t (k integer PRIMARY KEY)", *(f"INSERT INTO t VALUES ({k})" for k in range(100, 110)))
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nkey = "k"\n{more}'
    return old, new, job(folder, body, old=old, new=new)


@each_kind
@pytest.mark.parametrize("commit", ["step", "batch", "job"])
@pytest.mark.parametrize("reason", ["empty", "filtered"])
def test_a_table_is_not_emptied_for_nothing(
    places: Places, tmp_path: Path, kind: str, commit: str, reason: str
) -> None:
    if (kind, commit) == ("duckdb", "batch"):
        pytest.skip("the others show it")
    more = 'where = "k > 5"\n' if reason == "filtered" else ""
    more = f'write = "truncate"\ncommit = "{commit}"\n{more}'
    _, new, job_ = made(places, tmp_path, kind, 3 if reason == "filtered" else 0, more)
    step = job_.run()["t"]
    assert "the source gave no rows, and t has 10, which would all be gone" in str(step.error)
    assert new.rows("SELECT count(*) FROM t") == [(10,)]
    with (tmp_path / "job.toml").open("a") as file:
        file.write("\nmin_rows = 0\n")
    allowed = kanal.Job.read(tmp_path / "job.toml")
    succeeded(allowed.run())
    assert new.rows("SELECT count(*) FROM t") == [(0,)]


@each_kind
@pytest.mark.parametrize(
    ("least", "rows", "said"),
    [
        ("5", 4, "the source gave 4 rows, fewer than min_rows = 5"),
        ("4", 4, None),
        ('"50%"', 4, "fewer than min_rows = 50% of the 10 of t"),
        ('"40%"', 4, None),
    ],
)
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
def test_fewer_rows_than_asked_for_fail_the_step(
    places: Places, tmp_path: Path, kind: str, write: str, least: str, rows: int, said: str | None
) -> None:
    _, new, job_ = made(places, tmp_path, kind, rows, f'write = "{write}"\nmin_rows = {least}')
    step = job_.run()["t"]
    if said is None:
        assert step.error is None
        assert counts(step)["inserted"] == rows
    else:
        assert said in str(step.error)
        assert new.rows("SELECT count(*), min(k) FROM t") == [(10, 100)]


@pytest.mark.parametrize("least", ["80% of last run", "50% of usual"])
def test_fewer_rows_than_earlier_runs_gave_fail_the_step(places: Places, tmp_path: Path, least: str) -> None:
    old, new, job_ = made(places, tmp_path, "sqlite", 10, f'write = "truncate"\nmin_rows = "{least}"')
    for _ in range(2):
        succeeded(job_.run())
    old.sql("DELETE FROM s WHERE k > 3")
    wanted = 8 if "last" in least else 5
    assert f"the source gave 4 rows, fewer than min_rows = {wanted}" in str(job_.run()["t"].error)
    assert new.rows("SELECT count(*) FROM t") == [(10,)]
    old.sql("DELETE FROM s", *(f"INSERT INTO s VALUES ({k})" for k in range(8)))
    succeeded(job_.run())


@each_kind
def test_a_mirror_says_why_it_deletes_nothing(places: Places, tmp_path: Path, kind: str) -> None:
    _, new, job_ = made(places, tmp_path, kind, 0, 'write = "merge"\nmissing = "delete"')
    step = succeeded(job_.run())["t"]
    assert "the source had no rows, so none were deleted" in str(step.note)
    assert new.rows("SELECT count(*) FROM t") == [(10,)]


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ('min_rows = "many"', "neither a number of rows nor a share"),
        ("min_rows = -1", "less than 0"),
        ('min_rows = 5\ncommit = "batch"', "rows are committed before all of them are counted"),
    ],
)
def test_what_min_rows_cannot_mean_is_an_error(places: Places, tmp_path: Path, cli: Cli, more: str, said: str) -> None:
    old, new = places("sqlite"), places("sqlite")
    for place, table in ((old, "s"), (new, "t")):
        place.sql(f"CREATE TABLE {table} (k integer PRIMARY KEY)")
    (tmp_path / "job.toml").write_text(
        f'job = "t"\n[connection.old]\nurl = "{old.url}"\n[connection.new]\nurl = "{new.url}"\n'
        f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\n{more}\n'
    )
    outcome = cli("check", "job.toml")
    assert outcome.returncode == 2
    assert said in " ".join((outcome.stdout + outcome.stderr).split())
