"""Whole runs on SQLite: write rules, order, look-ups, doubled keys, rejects, and that the books balance."""

from __future__ import annotations

import datetime as dt
import sqlite3
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import asdict

import kanal
from conftest import Files
from kanal.core.tally import Tally

VESSEL = "CREATE TABLE vessel (mark TEXT, name TEXT, tonnage INTEGER);"
TARGET = "CREATE TABLE vessel (mark VARCHAR(6) PRIMARY KEY, name VARCHAR(10), tonnage SMALLINT NOT NULL);"


def load(files: Files, body: str, **options: object) -> kanal.Run:
    return kanal.Job.read(files.job(body)).run(**options)


def counts(step: kanal.StepResult) -> dict[str, int]:
    return {name: count for name, count in asdict(step.tally).items() if count}


def pipeline(rest: str) -> str:
    return f'[pipeline.vessels]\nsource = "old:vessel"\ntarget = "new:vessel"\n{rest}'


ROWS = [("A1", "Linde", 100), ("A2", "Ploeg", 200), ("A3", None, 300)]


@pytest.mark.parametrize(
    ("write", "before", "expected", "after"),
    [
        ("append", [], {"read": 3, "inserted": 3}, 3),
        ("append", [("Z9", "Old", 1)], {"read": 3, "inserted": 3}, 4),
        ("truncate", [("Z9", "Old", 1)], {"read": 3, "inserted": 3, "deleted": 1}, 3),
        ("merge", [("Z9", "Old", 1)], {"read": 3, "inserted": 3}, 4),
        ("merge", [("A1", "Linde", 100)], {"read": 3, "inserted": 2, "unchanged": 1}, 3),
        ("merge", [("A1", "Linde", 7), ("A3", None, 300)], {"read": 3, "inserted": 1, "updated": 1, "unchanged": 1}, 3),
        ("merge", [("A3", "Named", 300)], {"read": 3, "inserted": 2, "updated": 1}, 3),
    ],
)
def test_each_write_rule_counts_what_it_did(files: Files, write: str, before: list, expected: dict, after: int) -> None:
    files.database("old.db", VESSEL, vessel=ROWS)
    files.database("new.db", TARGET, vessel=before)
    run = load(files, pipeline(f'write = "{write}"\nkey = "mark"'))
    assert run.status == "succeeded"
    assert counts(run["vessels"]) == expected
    assert files.rows("new.db", "SELECT count(*) FROM vessel") == [(after,)]
    assert set(files.rows("new.db", "SELECT * FROM vessel")) >= set(ROWS)


@pytest.mark.parametrize(
    ("settings", "before", "expected", "rows"),
    [
        ('matched = "keep"', [("A1", "Kept", 1)], {"read": 3, "inserted": 2, "unchanged": 1}, {("A1", "Kept", 1)}),
        ('not_matched = "ignore"', [("A1", "X", 1)], {"read": 3, "updated": 1, "unchanged": 2}, {("A1", "Linde", 100)}),
        ('newer_by = "tonnage"', [("A1", "X", 500)], {"read": 3, "inserted": 2, "unchanged": 1}, {("A1", "X", 500)}),
        ('newer_by = "tonnage"', [("A1", "X", 50)], {"read": 3, "inserted": 2, "updated": 1}, {("A1", "Linde", 100)}),
    ],
)
def test_merge_does_as_it_is_told(files: Files, settings: str, before: list, expected: dict, rows: set) -> None:
    files.database("old.db", VESSEL, vessel=ROWS)
    files.database("new.db", TARGET, vessel=before)
    run = load(files, pipeline(f'write = "merge"\nkey = "mark"\n{settings}'))
    assert counts(run["vessels"]) == expected
    assert rows <= set(files.rows("new.db", "SELECT * FROM vessel"))


STRAYS = [
    ("A1", "Linde", 100),
    ("A2", "Ploeg", "ca. 9"),
    ("A3", "Zwaan", 40_000),
    ("A4", "A name that is too long", 1),
    (None, "None", 1),
    ("A6", "Half", 1.5),
    ("A7", "Blob", b"\x01"),
    ("A8", "None", None),
    ("A9", b"\xff\xfe", 2),
    ("A1", "Again", 3),
    ("B1", "Text", "12 "),
]


def test_values_of_any_type_in_any_column_become_rejects_with_their_reason(files: Files) -> None:
    files.database("old.db", VESSEL.replace("INTEGER", ""), vessel=STRAYS)
    files.database("new.db", TARGET)
    for batch_rows in (1, 3, 1000):
        run = load(files, pipeline('write = "truncate"\nkey = "mark"'), batch_rows=batch_rows)
        found = {(r["column"], r["reason"], r["value"]) for r in run["vessels"].rejects().to_pylist()}
        assert found == {
            ("tonnage", "not_a_number", "ca. 9"),
            ("tonnage", "out_of_range", "40000"),
            ("name", "too_long", "A name that is too long"),
            ("mark", "null_not_allowed", None),
            ("tonnage", "would_round", "1.5"),
            ("tonnage", "not_a_number", "\x01"),
            ("tonnage", "null_not_allowed", None),
            ("name", "bad_text", "x'fffe'"),
            ("mark", "duplicate_key", "A1"),
        }
        assert counts(run["vessels"])["rejected"] == 9
        assert files.rows("new.db", "SELECT * FROM vessel ORDER BY 1") == [("A1", "Linde", 100), ("B1", "Text", 12)]


@pytest.mark.parametrize(
    ("rule", "written", "expected"),
    [
        ("reject", {("K", 1), ("L", 2)}, {"read": 5, "rejected": 3, "inserted": 2}),
        ("first", {("K", 1), ("L", 2)}, {"read": 5, "superseded": 3, "inserted": 2}),
        ("last", {("K", 5), ("L", 4)}, {"read": 5, "superseded": 3, "inserted": 2}),
    ],
)
@pytest.mark.parametrize("write", ["append", "merge", "truncate"])
@pytest.mark.parametrize("batch_rows", [1, 2, 5])
def test_doubled_keys_across_batches(
    files: Files, rule: str, written: set, expected: dict, write: str, batch_rows: int
) -> None:
    files.database("old.db", "CREATE TABLE t (k TEXT, n INTEGER)", t=[("K", 1), ("L", 2), ("K", 3), ("L", 4), ("K", 5)])
    files.database("new.db", "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER)")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "k"\nduplicates = "{rule}"'
    run = load(files, body, batch_rows=batch_rows)
    assert counts(run["t"]) == expected
    assert set(files.rows("new.db", "SELECT * FROM t")) == written


def test_what_the_target_refuses_is_found_row_by_row(files: Files) -> None:
    rows = [(n, n % 100) for n in range(1000)]
    files.database("old.db", "CREATE TABLE t (id INTEGER, n INTEGER)", t=rows)
    files.database("new.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER CHECK (n <> 13))")
    for write in ("append", "merge"):
        (files.folder / "new.db").unlink()
        files.database("new.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER CHECK (n <> 13))")
        body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "id"'
        run = load(files, body, batch_rows=300)
        assert counts(run["t"]) == {"read": 1000, "rejected": 10, "inserted": 990}
        first = run["t"].rejects().to_pylist()[0]
        assert first["reason"] == "refused_by_target"
        assert "the condition n <> 13 does not hold" in first["message"]
        assert (first["column"], first["value"], first["constraint"]) == ("n", "13", "n <> 13")


def test_look_ups_in_a_chain_and_without_a_match(files: Files) -> None:
    files.database("old.db", "CREATE TABLE p (no INTEGER, lock TEXT)", p=[(1, " L1"), (2, "L2"), (3, None), (4, "L9")])
    files.database(
        "new.db",
        """CREATE TABLE lock (code TEXT PRIMARY KEY, reach INTEGER); CREATE TABLE reach (id INTEGER, name TEXT);
        CREATE TABLE p (no INTEGER PRIMARY KEY, reach TEXT);""",
        lock=[("L1", 1), ("L2", 2)],
        reach=[(1, "upper")],
    )
    body = """
        [pipeline.p]
        source = "old:p"
        target = "new:p"
        write = "truncate"
        columns = { no = "no", reach = "reach.name" }
        lookup.lock = { table = "new:lock", on = { code = "trim(lock)" }, missing = "%s" }
        lookup.reach = { table = "new:reach", on = { id = "lock.reach" }, missing = "null" }
    """
    run = load(files, body % "reject")
    assert counts(run["p"]) == {"read": 4, "rejected": 2, "inserted": 2}
    assert files.rows("new.db", "SELECT * FROM p") == [(1, "upper"), (2, None)]
    assert [r["value"] for r in run["p"].rejects().to_pylist()] == [None, "L9"]
    assert counts(load(files, body % "null")["p"]) == {"read": 4, "inserted": 4, "deleted": 2}


def test_a_doubled_key_in_a_looked_up_table_is_named(files: Files) -> None:
    files.database("old.db", "CREATE TABLE p (no INTEGER)", p=[(1,)])
    files.database("new.db", "CREATE TABLE p (no INTEGER); CREATE TABLE l (k INTEGER, v TEXT)", l=[(7, "a"), (7, "b")])
    run = load(
        files,
        """
        [pipeline.p]
        source = "old:p"
        target = "new:p"
        columns.no = "no"
        lookup.l = { table = "new:l", on = { k = "no" } }
        """,
    )
    assert run.status == "failed"
    assert "the key k = 7 stands in the table more than once" in str(run["p"].error)


def test_checks_limits_and_refusal_of_all(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n INTEGER)", t=[(n,) for n in range(200)])
    files.database("new.db", "CREATE TABLE t (n INTEGER)", t=[(-1,)])
    body = (
        '[check.odd]\nexpect = "n %% 20 <> 7 OR n IS NULL"\n'
        '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\nchecks = ["odd"]\n%s'
    )
    for limit, status in [
        ("", "succeeded"),
        ("max_rejects = 10", "succeeded"),
        ('max_rejects = "5%"', "succeeded"),
        ("max_rejects = 9", "failed"),
        ('max_rejects = "4.9%"', "failed"),
        ('reject = "all"', "failed"),
    ]:
        before = files.rows("new.db", "SELECT count(*), min(n) FROM t")
        run = load(files, body % limit, batch_rows=50)
        assert run.status == status, limit
        if status == "failed":
            assert files.rows("new.db", "SELECT count(*), min(n) FROM t") == before
            assert run["t"].tally.written == 0
        else:
            assert counts(run["t"])["rejected"] == 10
    assert {r["reason"] for r in run["t"].rejects().to_pylist()} == {"check_failed"}
    assert len(run["t"].rejects()) == 10  # all bad rows are listed, though one was enough


def test_if_bad_default_and_null_values(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n TEXT)", t=[("1",), ("x",), ("",), (None,)])
    files.database("new.db", "CREATE TABLE t (a INTEGER, b INTEGER, c INTEGER)")
    body = """
        [pipeline.t]
        source = "old:t"
        target = "new:t"
        write = "truncate"
        [pipeline.t.columns]
        a = { from = "n", if_bad = "null" }
        b = { from = "n", if_bad = { value = -1 }, null_values = [""], default = 0 }
        c = { from = "CAST(NULLIF(n, '') AS integer)", if_bad = "%s" }
    """
    assert load(files, body % "null").status == "succeeded"
    expected = [(1, 1, 1), (None, -1, None), (None, 0, None), (None, 0, None)]
    assert files.rows("new.db", "SELECT * FROM t") == expected
    run = load(files, body % "fail")
    assert run.status == "failed"
    assert '"x" is not a number' in str(run["t"].error)
    assert files.rows("new.db", "SELECT * FROM t") == expected


def test_a_failed_step_blocks_those_that_wait_for_it_and_no_others(files: Files) -> None:
    files.database(
        "old.db", "CREATE TABLE a (n); CREATE TABLE b (n); CREATE TABLE c (n)", a=[("x",)], b=[(1,)], c=[(1,)]
    )
    files.database("new.db", "CREATE TABLE a (n INTEGER); CREATE TABLE b (n INTEGER); CREATE TABLE c (n INTEGER)")
    one = '[pipeline.{0}]\nsource = "old:{0}"\ntarget = "new:{0}"\nmax_rejects = 0\n'
    body = one.format("a") + one.format("b") + 'after = ["a"]\n' + one.format("c")
    run = load(files, body + '[command.done]\nconnection = "new"\nsql = "DELETE FROM c"\nafter = ["b", "c"]')
    assert {step.step: str(step.status) for step in run} == {
        "a": "failed",
        "b": "blocked",
        "c": "succeeded",
        "done": "blocked",
    }
    assert files.rows("new.db", "SELECT * FROM c") == [(1,)]


def test_a_table_copied_within_one_file(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n INTEGER)")
    files.database("new.db", "CREATE TABLE a (n INTEGER); CREATE TABLE b (n INTEGER)", a=[(n,) for n in range(20_000)])
    run = load(files, '[pipeline.b]\nsource = "new:a"\ntarget = "new:b"', batch_rows=700)
    assert counts(run["b"]) == {"read": 20_000, "inserted": 20_000}


def test_commands_and_statements_around_a_load(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n INTEGER)", t=[(1,), (2,)])
    files.database("new.db", "CREATE TABLE t (n INTEGER); CREATE TABLE log (line TEXT); CREATE TABLE total (n INTEGER)")
    body = """
        [pipeline.t]
        source = { connection = "old", query = "SELECT n FROM t ORDER BY n DESC" }
        target = "new:t"
        limit = 1
        first_sql = "INSERT INTO log VALUES ('first; not split')"
        last_sql = "INSERT INTO log SELECT 'last ' || n FROM t"
        [command.total]
        connection = "new"
        sql = "DELETE FROM total; INSERT INTO total SELECT sum(n) FROM t;"
        after = "t"
    """
    assert load(files, body).status == "succeeded"
    assert files.rows("new.db", "SELECT line FROM log") == [("first; not split",), ("last 2",)]
    assert files.rows("new.db", "SELECT n FROM total") == [(2,)]


def test_a_parent_is_emptied_and_filled_while_children_refer_to_it(files: Files) -> None:
    files.database("old.db", "CREATE TABLE lock (id INTEGER)", lock=[(1,), (2,)])
    schema = "CREATE TABLE lock (id INTEGER PRIMARY KEY); CREATE TABLE p (lock_id INTEGER REFERENCES lock (id));"
    files.database("new.db", schema, lock=[(1,), (3,)], p=[(1,)])
    body = '[pipeline.lock]\nsource = "old:lock"\ntarget = "new:lock"\nwrite = "truncate"'
    assert load(files, body).status == "succeeded"
    assert files.rows("new.db", "SELECT id FROM lock") == [(1,), (2,)]
    files.database("new.db", "INSERT INTO lock VALUES (9)", p=[(9,)])
    run = load(files, body)
    assert run.status == "failed"
    assert "FOREIGN KEY" in str(run["lock"].error)
    assert len(files.rows("new.db", "SELECT id FROM lock")) == 3


NAMES = ["select", "Book No", 'quo"te', "semi;colon", "ümläut", "a.b", "%s", "kanal_row", "x" * 63]


def test_hostile_names_and_values(files: Files) -> None:
    columns = ", ".join('"' + name.replace('"', '""') + '" TEXT' for name in NAMES)
    hostile = "'); DROP TABLE t; -- \\N \t\n\r \x00 😀"
    for table in ("order", "my table", 'ta"ble', "schema.table"):
        quoted = '"' + table.replace('"', '""') + '"'
        key = 'PRIMARY KEY ("select")'
        files.database("old.db", f"CREATE TABLE {quoted} ({columns})", **{})
        files.database("new.db", f"CREATE TABLE {quoted} ({columns}, {key})", **{})
        connection = sqlite3.connect(files.folder / "old.db")
        connection.execute(f"INSERT INTO {quoted} VALUES ({', '.join('?' * len(NAMES))})", [hostile] * len(NAMES))
        connection.commit()
        connection.close()
        place = '\\"' + table.replace('"', '\\"\\"') + '\\"'
        body = f'[pipeline.t]\nsource = "old:{place}"\ntarget = "new:{place}"\nwrite = "merge"\nkey = "select"'
        for expected in ({"read": 1, "inserted": 1}, {"read": 1, "unchanged": 1}):
            run = load(files, body)
            assert (run["t"].error, counts(run["t"])) == (None, expected)
        assert files.rows("new.db", f"SELECT * FROM {quoted}") == [(hostile,) * len(NAMES)]


def test_types_survive_the_way_through_sqlite_and_back(files: Files) -> None:
    schema = """CREATE TABLE t (i BIGINT, d DECIMAL(12,2), big DECIMAL(30,6), tx TEXT, f DOUBLE PRECISION, b BOOLEAN,
        day DATE, at TIMESTAMP, z TIMESTAMP WITH TIME ZONE, bin BLOB, u UUID, j JSON, tm TIME)"""
    row = (
        9007199254740993, 1234567890.12, None, "", 0.1, 1, "0001-01-01", "9999-12-31 23:59:59.999999",
        "2025-03-30 01:00:00+00:00", b"\x00\xff", "12345678-1234-1234-1234-123456789abc", '{"a": 1.10}', "23:59:59.5",
    )  # fmt: skip
    files.database("old.db", schema, t=[row, (None,) * len(row)])
    files.database("new.db", schema)
    assert load(files, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"').status == "succeeded"
    assert files.rows("new.db", "SELECT * FROM t") == [row, (None,) * len(row)]


value = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.integers(-5, 5),
    st.floats(allow_nan=False),
    st.text(max_size=6),
    st.binary(max_size=4),
    st.sampled_from(["1", " 2", "x", "3.0", "40000", "2025-02-30", "2025-01-31"]),
)
# Most rows fit, so that some compete for a key.
fitting = st.tuples(
    st.integers(0, 6), st.sampled_from([None, -5, 0, 1, 2, 3]), st.sampled_from([None, "2025-01-31", "2024-02-29"])
)
anything = st.tuples(value, value, value)


@settings(max_examples=60, deadline=None)
@given(
    rows=st.lists(st.one_of(fitting, fitting, fitting, anything), max_size=25),
    before=st.lists(st.integers(0, 6), max_size=4, unique=True),
    write=st.sampled_from(["append", "truncate", "merge"]),
    duplicates=st.sampled_from(["reject", "first", "last"]),
    batch_rows=st.integers(1, 9),
    where=st.sampled_from(["", 'where = "a IS NOT NULL"', 'where = "CAST(a AS integer) / 2 > 0"']),
)
def test_the_books_balance(rows: list, before: list, write: str, duplicates: str, batch_rows: int, where: str) -> None:
    """Every row read is accounted for once, and the target holds the rows that the counts and the rejects say."""
    with tempfile.TemporaryDirectory() as name:
        files = Files(Path(name))
        source = [(n, *row) for n, row in enumerate(rows)]
        files.database("old.db", "CREATE TABLE t (n INTEGER, k, a, b)", t=source)
        files.database(
            "new.db",
            "CREATE TABLE t (k INTEGER PRIMARY KEY, a SMALLINT, b DATE, n INTEGER)",
            t=[(k, 1, None, None) for k in before],
        )
        body = (
            f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "k"\n'
            f'duplicates = "{duplicates}"\nmin_rows = 0\n{where}'
        )
        run = load(files, body, batch_rows=batch_rows)
        tally = run["t"].tally
        assert run["t"].error is None
        assert tally.read == len(rows)
        assert tally.read == tally.accounted
        held = files.rows("new.db", "SELECT n, k, a, b FROM t")
        assert len(held) == len(before) - tally.deleted + tally.inserted
        rejected = [reject["row"]["n"] for reject in run["t"].rejects().to_pylist()]
        check_which_rows(source, held, [int(n) for n in rejected], tally, duplicates, where)
        steps = files.rows("kanal-runs.db", "SELECT read, rejected, inserted FROM kanal_step")
        batches = files.rows("kanal-runs.db", "SELECT sum(read), sum(rejected), sum(inserted) FROM kanal_batch")
        assert steps == [(tally.read, tally.rejected, tally.inserted)]
        assert batches in ([steps[0]], [(None, None, None)])


def check_which_rows(
    source: list, held: list, rejected: list[int], tally: Tally, duplicates: str, where: str
) -> None:  # fmt: skip
    """Each row of the source is rejected, loaded, or left out for a reason: the filter, or a better row of its key."""
    loaded = {n: (k, a, b) for n, k, a, b in held if n is not None}
    assert len(rejected) == len(set(rejected)) == tally.rejected
    assert not loaded.keys() & set(rejected)
    assert len(loaded) == tally.inserted + tally.updated
    winners = {values[0]: n for n, values in loaded.items()}
    left_out = {n: row for n, *row in source if n not in loaded and n not in rejected}
    assert len(left_out) == tally.filtered + tally.superseded
    filtered = {n for n, (_, a, _) in left_out.items() if where and (a is None or "IS NOT NULL" not in where)}
    if "IS NOT NULL" in where:
        assert filtered == {n for n, _, a, _ in source if a is None}
    assert len(filtered) >= tally.filtered
    for n, row in left_out.items():
        if n not in filtered:
            assert duplicates != "reject"
            assert n > winners[int(float(row[0]))] if duplicates == "first" else n < winners[int(float(row[0]))]
    for n, k, a, b in source:
        for value_read, there in zip((k, a, b), loaded.get(n, (k, a, b)), strict=True):
            if value_read is None or isinstance(value_read, int):
                assert there == value_read


def test_parameters_are_bound_and_can_be_set(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (n INTEGER, s TEXT)", t=[(2025, "a' OR 'b"), (2026, "x")])
    files.database("new.db", "CREATE TABLE t (n INTEGER, s TEXT)")
    body = (
        '[parameters]\nseason = 2025\nname = "a\' OR \'b"\nday = 2025-01-01\n[pipeline.t]\nsource = "old:t"\n'
        'target = "new:t"\nwrite = "truncate"\nwhere = "n = :season OR s = :name AND :day < DATE \'2026-01-01\'"'
    )
    assert counts(load(files, body)["t"]) == {"read": 2, "filtered": 1, "inserted": 1}
    assert counts(load(files, body, parameters={"season": 2026})["t"]) == {"read": 2, "inserted": 2, "deleted": 1}
    assert dt.date(2025, 1, 1) == kanal.Job.read(files.folder / "job.toml").parameters["day"]
