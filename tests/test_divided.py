"""Steps divided into ranges, each loaded into a portion by another process: as one process would have loaded them."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import pytest

import kanal
from conftest import Place
from kanal.runner.elsewhere.divided import DividedAttempt
from kanal.runner.elsewhere.portions import PortionOutcome
from test_servers import job, succeeded

Places = Callable[[str], Place]
ROWS = 3_000
BODY = """
    [check.tall]
    expect = "tons < 2900"
    [check.alone]
    unique = "tag"
    [pipeline.t]
    source = "old:t"
    target = "new:t"
    write = "{write}"
    key = "id"
    split = {{ column = "n", parts = 5, snapshot = "{snapshot}" }}
    batch_rows = 200
    checks = ["tall", "alone"]
    lookup.l = {{ table = "new:l", on = {{ code = "code" }} }}
    columns = {{ id = "id", tons = "tons", reach = "l.reach", berth = "berth", tag = "tag" }}
    {more}
"""


@pytest.fixture(scope="module")
def pool() -> Iterator[ProcessPoolExecutor]:
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as executor:
        yield executor


def tables(places: Places, kinds: tuple[str, str], targets: int = 2) -> tuple[Place, list[Place]]:
    """A source in which rows of several ranges share keys, tags and berths that are not there; and empty targets."""
    old, news = places(kinds[0]), [places(kinds[1]) for _ in range(targets)]
    old.sql("CREATE TABLE t (n integer PRIMARY KEY, id integer, code varchar(4), tons varchar(9), berth integer, "
            "tag varchar(9), changed integer)")  # fmt: skip
    rows = []
    for n in range(ROWS):
        key = n - 1_500 if n % 100 == 7 and n > 1_500 else n  # the same key in an earlier range
        tag = f"'T{n - 2_000 if n % 90 == 5 and n > 2_000 else n}'"
        berth = "NULL" if n % 3 else ("99" if n % 50 == 0 else "1")  # 99 is not there
        rows.append(f"({n}, {key}, 'L{n % 4}', '{'x' if n % 70 == 0 else n}', {berth}, {tag}, {n})")
    old.sql(f"INSERT INTO t VALUES {', '.join(rows)}")
    for new in news:
        new.sql("CREATE TABLE berth (berth integer PRIMARY KEY)", "INSERT INTO berth VALUES (1)",
                "CREATE TABLE l (code varchar(4) PRIMARY KEY, reach integer)",
                "INSERT INTO l VALUES ('L0', 10), ('L1', 11), ('L2', 12)",
                "CREATE TABLE t (id integer PRIMARY KEY, tons integer, reach integer, berth integer, tag varchar(9), "
                "CHECK (reach <> 12 OR tons < 2000), FOREIGN KEY (berth) REFERENCES berth (berth))",
                "INSERT INTO t VALUES (5, 1, 10, NULL, 'old'), (1000000, 1, 10, NULL, 'gone')")  # fmt: skip
    return old, news


def reasons(run: kanal.Run) -> list[tuple[str, int]]:
    found: dict[str, int] = {}
    for reason in run["t"].rejects().column("reason").to_pylist():
        found[reason] = found.get(reason, 0) + 1
    return sorted(found.items())


BOTH = [("postgresql", "postgresql"), ("postgresql", "mariadb")]
CASES = [(kinds, write, "") for kinds in BOTH for write in ("append", "truncate", "merge")]
CASES += [(kinds, "merge", 'missing = "delete"') for kinds in BOTH]
CASES += [(BOTH[0], "append", 'since = "changed"'), (BOTH[1], "merge", 'since = "changed"')]
CASES += [(BOTH[0], "truncate", "where = 'n % 11 <> 0'"), (("mariadb", "postgresql"), "append", 'since = "changed"')]


#: Of each two cases that differ in their databases alone, one in every run.
OFTEN = [place for place, case in enumerate(CASES) if place % 2 or case[1:] == ("truncate", "where = 'n % 11 <> 0'")]


@pytest.mark.parametrize(
    ("kinds", "write", "more"),
    [pytest.param(*case, marks=() if place in OFTEN else pytest.mark.matrix) for place, case in enumerate(CASES)],
)
def test_a_divided_step_ends_as_one_process_would_end_it(
    places: Places, tmp_path: Path, pool: ProcessPoolExecutor, kinds: tuple[str, str], write: str, more: str
) -> None:
    old, (here, there) = tables(places, kinds)
    for new in (here, there) if write == "append" else ():
        new.sql("DELETE FROM t WHERE id = 5")
    body = BODY.format(write=write, snapshot="common" if kinds[0] == "postgresql" else "none", more=more)
    runs = []
    for name, new, executor in (("here", here, None), ("there", there, pool)):
        (tmp_path / name).mkdir()
        runs.append(succeeded(job(tmp_path / name, body, old=old, new=new).run(executor=executor)))
    alone, divided = runs
    assert divided["t"].tally == alone["t"].tally
    assert reasons(divided) == reasons(alone)
    assert len(reasons(divided)) >= 4
    # Which of two rows of one key or tag comes first is not told; that each has one is.
    query = "SELECT count(*), sum(id), sum(reach), count(berth), count(DISTINCT tag) FROM t"
    assert there.rows(query) == here.rows(query)
    mine = {"postgresql": "current_schema()", "mariadb": "database()"}[kinds[1]]
    found = there.rows(f"SELECT table_name FROM information_schema.tables WHERE table_schema = {mine}")
    names = [name for name in found if "portion" in str(name)]
    assert names == [], divided["t"].note
    if write == "append":  # it would refuse every row
        return
    again = [kanal.Job.read(tmp_path / name / "job.toml") for name in ("here", "there")]
    second = [succeeded(made.run(executor=executor))["t"] for made, executor in zip(again, (None, pool), strict=True)]
    assert second[0].tally == second[1].tally
    marks = [[state.watermark for state in made.watermarks()] for made in again]
    assert marks[0] == marks[1] == (["2999"] if "since" in more else [])


def test_a_table_is_exchanged_with_all_that_belongs_to_it(
    places: Places, tmp_path: Path, pool: ProcessPoolExecutor
) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql(
        "CREATE TABLE t (id integer PRIMARY KEY, tons integer)",
        "INSERT INTO t SELECT i, i FROM generate_series(1, 900) i",
    )
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, tons integer DEFAULT 7 CHECK (tons <> 500), UNIQUE (tons, id))",
            "CREATE INDEX heavy ON t (tons DESC) WHERE tons > 10", "COMMENT ON TABLE t IS 'kept'", "INSERT INTO t VALUES (0, 1)")  # fmt: skip
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\nsplit = 3\npublish = "swap"\n'
    described = """
        SELECT c.relname, pg_get_indexdef(c.oid) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE indrelid = 't'::regclass
        UNION ALL SELECT conname, pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = 't'::regclass
        UNION ALL SELECT attname, format_type(atttypid, atttypmod) || attnotnull || coalesce(pg_get_expr(adbin, adrelid), '')
        FROM pg_attribute LEFT JOIN pg_attrdef ON adrelid = attrelid AND adnum = attnum WHERE attrelid = 't'::regclass AND attnum > 0
        ORDER BY 1, 2"""
    before, oid = new.rows(described), new.rows("SELECT 't'::regclass::oid")
    run = succeeded(job(tmp_path, body, old=old, new=new).run(executor=pool))
    assert run["t"].tally == kanal.Tally(read=900, inserted=899, rejected=1, deleted=1)
    assert new.rows("SELECT count(*), sum(tons) FROM t") == [(899, 900 * 901 // 2 - 500)]
    assert new.rows("SELECT 't'::regclass::oid") != oid
    assert new.rows(described) == before
    refusing = {
        "CREATE VIEW v AS SELECT * FROM t": "view v reads it",
        "CREATE TABLE child (id integer REFERENCES t)": "foreign key child_id_fkey refers to it",
        "GRANT SELECT ON t TO public": "rights to it were granted",
        "ALTER TABLE t ADD number serial": "its column number numbers rows by itself",
    }
    for sql, why in refusing.items():
        new.sql(sql)
        assert why in "\n".join(str(problem) for problem in kanal.Job.read(tmp_path / "job.toml").check())


def test_a_range_that_was_lost_is_loaded_again(places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As after a crash of the server, which empties tables that it keeps no log of."""
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t SELECT i FROM generate_series(1, 900) i")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    publish, tries = DividedAttempt._publish, []

    def lose(self: DividedAttempt, portions: list[PortionOutcome]) -> object:
        tries.append(portions)
        if len(tries) == 1:
            new.sql(f"TRUNCATE {portions[1].place}")
        return publish(self, portions)

    monkeypatch.setattr(DividedAttempt, "_publish", lose)
    body = '[defaults]\nretry_wait = 0\n[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nsplit = 3\n'
    with ThreadPoolExecutor(2) as threads:
        run = succeeded(job(tmp_path, body, old=old, new=new).run(executor=threads))
    assert "should have 300 rows and has 0, as after a crash" in str(run["t"].note)
    assert (run["t"].tally.inserted, new.rows("SELECT count(*) FROM t")) == (900, [(900,)])
