"""Rows that go from the target: those that the source no longer has, and those that it says are void."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, Place, document
from kanal.connections.sql import verdict
from kanal.connections.sql.postgresql import PostgreSQL
from test_references import fill
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
each_kind = pytest.mark.parametrize(
    "kind", ["sqlite", "postgresql", "mariadb", pytest.param("firebird", marks=pytest.mark.matrix)]
)

FAMILY = [
    "CREATE TABLE reach (nr integer PRIMARY KEY, code varchar(9) UNIQUE)",
    "CREATE TABLE gate (nr integer PRIMARY KEY, reach integer, "
    "CONSTRAINT gate_reach FOREIGN KEY (reach) REFERENCES reach (nr))",
]
BODY = """[defaults]\nwrite = "merge"\nmissing = "delete"\n{more}
[pipeline.reaches]\nsource = "old:reach"\ntarget = "new:reach"\nkey = "nr"
[pipeline.gates]\nsource = "old:gate"\ntarget = "new:gate"\nkey = "nr"\n{gates}"""


def family(places: Places, kind: str) -> tuple[Place, Place]:
    old, new = places("sqlite"), places(kind)
    old.sql(*FAMILY)
    new.sql(*FAMILY)
    fill(old, reach=[(n, f"c{n}") for n in range(1, 6)], gate=[(n, n % 5 + 1) for n in range(20)])
    return old, new


@each_kind
def test_parents_and_children_shrink_together(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = family(places, kind)
    made = job(tmp_path, BODY.format(more='commit = "job"', gates=""), old=old, new=new)
    succeeded(made.run())
    # Two reaches go with their gates; a code that goes is another's at once.
    old.sql("DELETE FROM gate WHERE reach IN (2, 4)", "DELETE FROM reach WHERE nr IN (2, 4)",
            "INSERT INTO reach VALUES (9, 'c7')", "UPDATE reach SET code = 'x' WHERE nr = 1")  # fmt: skip
    run = succeeded(made.run())
    assert [run[step].tally.deleted for step in ("reaches", "gates")] == [2, 8]
    assert new.rows("SELECT nr, code FROM reach ORDER BY nr") == [(1, "x"), (3, "c3"), (5, "c5"), (9, "c7")]
    assert new.rows("SELECT count(*) FROM gate") == [(12,)]
    assert succeeded(made.run())["gates"].tally.deleted == 0


@each_kind
@pytest.mark.parametrize("commit", ["step", "job"])
@pytest.mark.parametrize("large", [20_000, 1])
def test_a_row_that_others_refer_to_stays_and_is_named(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, cli: Cli, kind: str, commit: str, large: int
) -> None:
    monkeypatch.setattr(verdict, "_LARGE", large)
    old, new = family(places, kind)
    made = job(tmp_path, BODY.format(more=f'commit = "{commit}"', gates=""), old=old, new=new)
    succeeded(made.run())
    new.sql("CREATE TABLE toll (gate integer, CONSTRAINT toll_gate FOREIGN KEY (gate) REFERENCES gate (nr))",
            "INSERT INTO toll VALUES (1), (6)")  # fmt: skip
    old.sql("DELETE FROM gate WHERE reach IN (2, 4)", "DELETE FROM reach WHERE nr IN (2, 4)")
    run = succeeded(made.run())
    if commit == "step":  # the parents' step comes before the children are gone
        assert run["reaches"].tally.deleted == 0
        run = succeeded(made.run())
    assert new.rows("SELECT nr FROM gate WHERE reach IN (2, 4) ORDER BY nr") == [(1,), (6,)]
    assert new.rows("SELECT nr FROM reach WHERE nr IN (2, 4)") == [(2,)]
    (reject, *_) = run["reaches"].rejects().to_pylist()
    assert (reject["reason"], reject["column"], reject["value"]) == ("not_deleted", "nr", "2")
    assert run["reaches"].tally.rejected == 0
    assert "others refer to them" in str(run["reaches"].note)
    assert "not_deleted" in cli("rejects").stdout
    assert "nothing to load again" in cli("replay").stderr


@each_kind
def test_what_is_missing_goes_though_only_new_rows_are_read(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, seen integer, v text)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, seen integer, v varchar(9))")
    fill(old, t=[(n, n, "a") for n in range(1, 101)])
    body = ('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"\nsince = "seen"\n'
            'missing = "delete"\nbatch_rows = 30')  # fmt: skip
    made = job(tmp_path, body, old=old, new=new)
    assert succeeded(made.run())["t"].tally.inserted == 100
    old.sql("DELETE FROM t WHERE id % 10 = 0", "UPDATE t SET seen = 200, v = 'b' WHERE id = 7",
            "INSERT INTO t VALUES (101, 201, 'c')")  # fmt: skip
    tally = succeeded(made.run())["t"].tally
    assert (tally.read, tally.inserted, tally.updated, tally.deleted) == (2, 1, 1, 10)
    assert new.rows("SELECT count(*), min(v), max(v) FROM t") == [(91, "a", "c")]
    assert succeeded(made.run())["t"].tally == kanal.Tally(read=1, unchanged=1)  # what has the watermark's value


@each_kind
@pytest.mark.parametrize("commit", ["step", "batch", "job"])
@pytest.mark.parametrize("duplicates", ["first", "last"])
def test_rows_that_the_source_calls_void_go(
    places: Places, tmp_path: Path, kind: str, commit: str, duplicates: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (line integer PRIMARY KEY, id integer, n text, void text)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t VALUES (1, 1), (2, 2), (3, 3)")
    fill(old, t=[
        (1, 1, "no number", "yes"),   # there, and goes; what else the row has does not matter
        (2, 7, "7", "yes"),           # not there
        (3, 2, "20", None),           # changed
        (4, 3, "30", "yes"), (5, 3, "31", None),   # void and then not
        (6, 8, "80", None), (7, 8, "81", "yes"),   # new and then void
        (8, None, "1", "yes"),        # without a key
        (9, 9, "x", None),
    ])  # fmt: skip
    body = (
        f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"\nskip = ["line", "void"]\n'
        f'delete_when = "void = \'yes\'"\nduplicates = "{duplicates}"\ncommit = "{commit}"\nbatch_rows = 4\n'
        'order_by = ["line"]\n[pipeline.t.columns]\nid = "id"\nn = "n"\n'
    )
    load = job(tmp_path, body, old=old, new=new)
    (before,) = load.compare()
    # 1 and 3 should be gone if their last row, or their first, is the one that counts.
    assert (before.missing, before.extra, before.differing) == ((0, 1, 2) if duplicates == "last" else (1, 2, 1))
    run = succeeded(load.run())
    (after,) = load.compare()
    assert (after.same, after.differs()) == (2, False)
    tally = run["t"].tally
    last = duplicates == "last"
    left = [(2, 20), (3, 31)] if last else [(2, 20), (8, 80)]
    assert sorted(new.rows("SELECT id, n FROM t")) == left
    assert (tally.read, tally.rejected, tally.superseded) == (9, 2, 2)
    assert tally.read == tally.accounted
    if commit != "batch":
        assert tally.withdrawn == 3
        assert tally.deleted == (1 if last else 2)


@each_kind
def test_an_older_void_row_does_not_delete_a_newer_one(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer, seen integer, void integer)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, seen integer)", "INSERT INTO t VALUES (1, 5), (2, 5), (3, NULL)",
            "CREATE TABLE u (id integer, CONSTRAINT u_t FOREIGN KEY (id) REFERENCES t (id))",
            "INSERT INTO u VALUES (3)")  # fmt: skip
    fill(old, t=[(1, 4, 1), (2, 6, 1), (3, 6, 1)])
    body = ('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"\nnewer_by = "seen"\n'
            'delete_when = "void = 1"\nsame = "*"\nskip = "void"\n')  # fmt: skip
    body = body.replace('same = "*"\nskip = "void"\n', '[pipeline.t.columns]\nid = "id"\nseen = "seen"\n')
    load = job(tmp_path, body, old=old, new=new)
    run = succeeded(load.run())
    assert sorted(new.rows("SELECT id FROM t")) == [(1,), (3,)]
    (comparison,) = load.compare()
    assert (comparison.extra, comparison.left_out) == (1, 1)
    tally = run["t"].tally
    assert (tally.withdrawn, tally.deleted, tally.rejected, tally.unchanged) == (1, 1, 1, 1)
    assert "refer to the row" in run["t"].rejects()["message"][0].as_py()


@each_kind
@pytest.mark.parametrize(("limit", "rows", "left"), [
    ("", 0, 10), ("max_deletes = 10", 0, 0), ('max_deletes = "100%"', 0, 0), ("max_deletes = 2", 8, 8),
    ("max_deletes = 1", 8, 10), ('max_deletes = "19%"', 8, 10), ('max_deletes = "20 %"', 8, 8), ("", 8, 8),
])  # fmt: skip
def test_no_more_are_deleted_than_is_allowed(
    places: Places, tmp_path: Path, kind: str, limit: str, rows: int, left: int
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)", f"INSERT INTO t VALUES {', '.join(f'({n})' for n in range(10))}")
    fill(old, t=[(n,) for n in range(rows)])
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"\nmissing = "delete"\n{limit}'
    run = job(tmp_path, body, old=old, new=new).run()
    assert new.rows("SELECT count(*) FROM t") == [(left,)]
    refused = rows and left == 10
    assert run.status == ("failed" if refused else "succeeded")
    assert ("max_deletes" in str(run["t"].error)) == bool(refused)
    assert ("the source had no rows" in str(run["t"].note)) == (not rows and not limit)


@pytest.mark.parametrize(
    ("more", "what"),
    [
        ('delete_when = "n"', "not a condition"),
        ('delete_when = "q = 1"', "q"),
        ("delete_when = 3", "delete_when"),
        ('delete_when = "n = 1"\nwrite = "append"', "only a merge knows which row to delete"),
        ('missing = "delete"\ncommit = "batch"\norder_by = "n"', "no batch knows which rows the others have"),
        ("max_deletes = 3", "nothing is deleted"),
        ('missing = "delete"\nmax_deletes = "many"', "neither a number of rows nor a share"),
        ('missing = "delete"\nmax_deletes = -1', "less than 0"),
    ],
)
def test_wrong_keys_are_a_sentence_with_their_line(files: Files, cli: Cli, more: str, what: str) -> None:
    files.database("old.db", "CREATE TABLE t (n integer PRIMARY KEY)")
    files.database("new.db", "CREATE TABLE t (n integer PRIMARY KEY)")
    write = "" if "write" in more else 'write = "merge"\n'
    files.job(f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nkey = "n"\n{write}{more}')
    problem = document(cli("check", "job.toml", "--json"))["problems"][0]
    assert what in problem["what"] + problem["remedy"] + problem["place"]
    assert problem["line"] is not None


RULES = ["", 'missing = "delete"\nmax_deletes = "100 %"', 'newer_by = "v"', 'newer_by = "v"\nmissing = "delete"',
         'matched = "keep"', 'not_matched = "ignore"', 'delete_when = "v % 7 = 3"\nmissing = "delete"',
         'key = ["k", "w"]\nmissing = "delete"\nmax_deletes = "100 %"']  # fmt: skip


@pytest.mark.parametrize(
    ("rule", "commit"),
    [*((rule, "step") for rule in RULES), *((rule, commit) for rule in RULES[1:3] for commit in ("job", "batch"))],
)
def test_both_ways_to_find_what_is_to_be_done_do_the_same(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, rule: str, commit: str
) -> None:
    """Statement by statement, or by one join, as for large tables, gone to one by one or not: the same table, the same
    books."""
    if commit == "batch" and "missing" in rule:
        rule = "\n".join(line for line in rule.splitlines() if "missing" not in line and "max_deletes" not in line)
    chance = random.Random(f"{rule} {commit}")
    monkeypatch.setattr(verdict, "_LARGE", 1)
    monkeypatch.setattr(verdict, "_SHARE", 2.0)
    made: list[str] = []
    drop = verdict.Verdict.drop
    monkeypatch.setattr(verdict.Verdict, "drop", lambda found: (made.append("one"), drop(found)))
    old, ends = places("postgresql"), [places("postgresql") for _ in range(3)]
    old.sql("CREATE TABLE t (k integer, w integer, v integer, PRIMARY KEY (k, w))")
    for end in ends:
        end.sql("CREATE TABLE way (hashes text)")
        end.sql("CREATE TABLE t (k integer NOT NULL, w integer NOT NULL, v integer CHECK (v <> 13), UNIQUE (k, w))",
                "INSERT INTO t SELECT i, i % 3, i + 14 FROM generate_series(0, 59) AS i")  # fmt: skip
    key = "" if "key =" in rule else '\nkey = ["k", "w"]'
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\ncommit = "{commit}"\nbatch_rows = 40\n'
    body += "last_sql = \"INSERT INTO way VALUES (current_setting('enable_hashjoin'))\"\n"
    for number in range(2):
        rows = {(chance.randrange(60), chance.randrange(3)): chance.randrange(40) for _ in range(120)}
        values = ", ".join(f"({k}, {w}, {v})" for (k, w), v in rows.items())
        old.sql("DELETE FROM t", f"INSERT INTO t VALUES {values}")
        tallies = []
        for way, end in enumerate(ends):
            monkeypatch.setattr(PostgreSQL, "joins_whole", bool(way))
            monkeypatch.setattr(verdict, "_FEW", 0.0 if way == 1 else 2.0)
            (tmp_path / f"{number}{way}").mkdir()
            run = succeeded(job(tmp_path / f"{number}{way}", body + rule + key, old=old, new=end).run())
            tallies.append(run["t"].tally)
        assert tallies[0] == tallies[1] == tallies[2]
        found = [sorted(end.rows("SELECT * FROM t")) for end in ends]
        assert found[0] == found[1] == found[2] and found[0]
        assert {way for end in ends for (way,) in end.rows("SELECT hashes FROM way")} == {"on"}
    assert made


def test_a_merge_into_an_empty_table_does_not_go_through_it_for_each_row(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t AS SELECT i AS k, i AS v FROM generate_series(1, 30000) AS i")
    new.sql("CREATE TABLE t (k integer PRIMARY KEY, v integer)", "ANALYZE t")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "k"'
    assert succeeded(job(tmp_path, body, old=old, new=new).run())["t"].tally.inserted == 30_000
    new.sql("SELECT pg_sleep(1.5)")  # the server's statistics come a little late
    ((read,),) = new.rows("SELECT seq_tup_read FROM pg_stat_user_tables WHERE relname = 't'")
    assert read < 1_000_000


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb", "duckdb", "firebird"])
def test_a_row_is_withdrawn_unless_the_targets_is_newer(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, u integer, gone integer)",
            "INSERT INTO s VALUES (1, 10, 1), (2, 10, 1), (3, 10, 1), (4, 10, 1)")  # fmt: skip
    new.sql("CREATE TABLE t (k integer NOT NULL PRIMARY KEY, u integer)")
    new.sql("INSERT INTO t VALUES (1, 9), (2, 10), (3, 11)")
    body = '''[pipeline.t]
        source = "old:s"
        target = "new:t"
        write = "merge"
        key = "k"
        skip = ["gone"]
        newer_by = "u"
        delete_when = "gone = 1"'''
    step = succeeded(job(tmp_path, body, old=old, new=new).run())["t"]
    assert new.rows("SELECT k FROM t") == [(3,)]
    assert counts(step) == {"read": 4, "withdrawn": 3, "unchanged": 1, "deleted": 2}
