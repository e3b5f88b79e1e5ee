"""Columns that go on as their source sent them, and indexes that are made anew: both are loaded as anything else is."""

from __future__ import annotations

import pickle
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kanal
from conftest import Place
from kanal.connections import open_database
from kanal.connections.sql import copy_rows, postgresql_rows
from kanal.connections.sql.copy_binary import binary_rows
from kanal.connections.sql.copy_rows import CopiedRows
from kanal.connections.sql.postgresql import PostgreSQL
from kanal.core.errors import KanalError
from kanal.core.expressions import Scope, compile_expression, compiler
from kanal.core.expressions.scope import RESERVED, bare_column
from kanal.core.types import INTEGER, parse_type
from kanal.runner import plan_job, write_rule
from kanal.runner.job_plan import PipelinePlan
from test_servers import job, succeeded
from test_wire import KINDS, columns_of, tables

Places = Callable[[str], Place]
NAMES = {"double": "double precision", "moment": "timestamp with time zone"}


@given(tables(list(KINDS)), st.data())
@settings(max_examples=150, deadline=None)
def test_fields_that_were_copied_are_found_decoded_and_laid_out_again(
    table: tuple[list[str], list[tuple[Any, ...]]], data: st.DataObject
) -> None:
    kinds, rows = table
    columns, stored = columns_of(kinds, rows), [parse_type(NAMES.get(kind, kind)) for kind in kinds]
    singles = [bytes(binary_rows([one.slice(row, 1) for one in columns])) for row in range(len(rows))]
    starts = np.cumsum([0, *map(len, singles)])[: len(rows)] + copy_rows.COUNT
    content = np.frombuffer(b"".join(singles) + bytes(copy_rows.spare_bytes(stored)), np.uint8)
    copied = CopiedRows(content, starts.astype(np.int64), stored)
    few = np.array(sorted(data.draw(st.sets(st.integers(0, len(rows) - 1)))) if rows else [], dtype=np.intp)
    for some, places in ((copied, list(range(len(rows)))), (copied.take(few), few.tolist())):
        for one in (some, pickle.loads(pickle.dumps(some))):
            for field, kind in enumerate(kinds):
                found, strays = one.column(field)
                assert found.to_pylist() == [columns[field][place].as_py() for place in places], kind
                assert not strays
                assert one.goes_on(field)
                assert one.has_nulls(field) == bool(found.null_count)
            carried = sorted(data.draw(st.sets(st.integers(0, len(kinds) - 1), min_size=1)))
            others = [field for field in range(len(kinds)) if field not in carried]
            laid = binary_rows([columns[field].take(pa.array(places, pa.int64())) for field in others], one, carried)
            assert bytes(laid) == bytes(
                binary_rows([columns[field].take(pa.array(places, pa.int64())) for field in [*carried, *others]])
            )


def test_numerics_are_read_as_the_server_has_them(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    texts = ["0", "1", "-1.5", "9999.9999", "0.0001", "-0.01", "123456789.012345678", "10000", "-999999999.999999999",
             "0.000000001", "99990000.00009999", "100000000", "NaN"]  # fmt: skip
    values = ", ".join(f"({place}, '{text}')" for place, text in enumerate(texts))
    old.sql("CREATE TABLE t (id integer, a numeric(18, 9), b numeric(18, 0), c numeric(2, 1), d numeric(18, 18))",
            f"INSERT INTO t SELECT id, v, v, CASE WHEN abs(v) < 9 THEN v END, CASE WHEN abs(v) < 1 THEN v END "
            f"FROM (VALUES {values}) AS x(id, text), LATERAL (SELECT text::numeric AS v) AS y",
            "INSERT INTO t (id) VALUES (99)")  # fmt: skip
    new.sql("CREATE TABLE t (id integer, a numeric(38, 18), b numeric(38, 18), c numeric(38, 18), d numeric(38, 18))")
    run = succeeded(job(tmp_path, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n', old=old, new=new).run())
    assert (run["t"].tally.inserted, run["t"].rejects()["value"].to_pylist()) == (len(texts), ["NaN"])
    query = "SELECT * FROM t WHERE a IS DISTINCT FROM 'NaN' ORDER BY id"
    assert new.rows(query) == old.rows(query)


#: Declared, NULL or not, and in the third row a value that Kanal has no place for, or none.
COLUMNS = """id bigint {key}, si smallint NOT NULL, i integer, r real, d double precision, ok boolean, day date, t time,
    at timestamp, z timestamptz, n numeric(12,3), s text NOT NULL, v varchar(9), raw bytea, fine timestamp(3), u uuid,
    c char(4), j jsonb, big numeric(30,4)"""
ROW = """SELECT i, (i % 100)::smallint, CASE WHEN i % 3 > 0 THEN i END, i / 3.0, i / 7.0, i % 2 = 0,
    CASE WHEN i % 50 = 3 THEN 'infinity' ELSE date '2026-01-01' + i END, CASE WHEN i % 90 = 5 THEN '24:00' ELSE time '01:00' END,
    CASE WHEN i % 70 = 9 THEN '-infinity' ELSE timestamp '2026-01-01' + i * interval '1 second' END, now(),
    CASE WHEN i % 40 = 7 THEN 'NaN' ELSE i / 8.0 END, repeat('é', i % 40), CASE WHEN i % 4 > 0 THEN 'v' || i END,
    decode(lpad(to_hex(i), 8, '0'), 'hex'), now()::timestamp(3), md5(i::text)::uuid, 'c' || i % 9, json_build_object('i', i),
    i::numeric(30,4) FROM generate_series({first}, {last}) AS i"""


@pytest.mark.parametrize("blocks", ["socket", "driver"])
@pytest.mark.parametrize("commit", ["step", "batch", "job"])
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
def test_what_is_carried_arrives_as_what_is_decoded(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, write: str, commit: str, blocks: str
) -> None:
    """Rows, counts and rejects are the same, with rejects of every kind among the rows."""
    if blocks == "driver":
        monkeypatch.setattr(PostgreSQL, "_unencrypted", False)
    old = places("postgresql")
    old.sql(f"CREATE TABLE t ({COLUMNS.format(key='PRIMARY KEY')})", f"INSERT INTO t {ROW.format(first=1, last=700)}")
    found = []
    for carries in (PostgreSQL.carries, lambda *_: False):
        monkeypatch.setattr(PostgreSQL, "carries", carries)
        new = places("postgresql")
        new.sql(f"CREATE TABLE t ({COLUMNS.format(key='PRIMARY KEY')}, CHECK (n <> 12.5), CHECK (d < 90))",
                *([f"INSERT INTO t {ROW.format(first=20, last=30)}"] if write != "append" else []),
                *(["UPDATE t SET v = 'old'"] if write == "merge" else []))  # fmt: skip
        body = f'''[defaults]\nbatch_rows = 150\n[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"
            commit = "{commit}"\nsame = "*"\n{'key = "id"' if write == "merge" else ""}\nduplicates = "reject"
            [pipeline.t.columns]\nv = "upper(v)"\n'''
        run = succeeded(job(tmp_path, body, old=old, new=new).run())
        rejects = [{**row, "reject": None} for row in run["t"].rejects().to_pylist()]
        found.append((run["t"].tally, rejects, new.rows("SELECT CAST(x AS text) FROM t AS x ORDER BY id")))
        (tmp_path / "kanal-runs.db").unlink()
    assert found[0] == found[1]
    assert found[0][0].rejected > 10
    # Values that Kanal's types lack are loaded as they are; infinity and NaN break no condition but d < 90.
    shown = " ".join(row[0] for row in found[0][2])
    assert all(value in shown for value in ("infinity", "-infinity", "NaN", "24:00:00"))


def test_a_column_is_carried_only_into_its_own_type(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    types = ["integer", "bigint", "numeric(12,2)", "timestamp", "timestamp(2)", "varchar(5)", "text", "char(5)", "uuid",
             "jsonb", "numeric", "citext", "interval", "integer[]"]  # fmt: skip
    new.sql("CREATE EXTENSION IF NOT EXISTS citext")
    old.sql("CREATE EXTENSION IF NOT EXISTS citext")
    named = ", ".join(f"c{place} {kind}" for place, kind in enumerate(types))
    old.sql(f"CREATE TABLE t ({named})")
    new.sql(f"CREATE TABLE t ({named})")
    source, target = PostgreSQL.opened("old", _url(old), tmp_path), PostgreSQL.opened("new", _url(new), tmp_path)
    columns = source.catalogue.describe(None, "t").columns, target.catalogue.describe(None, "t").columns
    found = {(types[a], types[b]) for a, one in enumerate(columns[0]) for b, other in enumerate(columns[1])
             if source.carries(one, target, other)}  # fmt: skip
    assert found == {(kind, kind) for kind in [*types[:7], "citext"]}


def _url(place: Place) -> Any:
    import sqlalchemy as sa

    return sa.make_url(place.url)


def test_a_field_of_another_form_is_an_error(places: Places) -> None:
    content = np.frombuffer(b"\0\1\0\0\0\2ab" + bytes(64), np.uint8)
    with pytest.raises(KanalError, match="a column described as integer came in another form"):
        CopiedRows(content, np.array([2]), [INTEGER]).column(0)


def test_rows_are_found_though_their_bytes_look_like_the_beginning_of_rows() -> None:
    """A text that holds what a row begins with is no row."""
    blocks = postgresql_rows.SocketBlocks.__new__(postgresql_rows.SocketBlocks)
    blocks._columns, blocks._first = 1, False
    rows = [b"\0\1" + len(text).to_bytes(4, "big") + text for text in (b"d\0\0\0\x0e\0\1....", b"", b"x" * 700)]
    content = b"".join(b"d" + (len(row) + 4).to_bytes(4, "big") + row for row in rows)
    buffer = np.frombuffer(content + bytes(64), np.uint8)
    starts, end, following = blocks._rows(buffer, len(content))
    assert (starts.tolist(), end, following) == ([7, 29, 40], len(content), len(content))


def test_a_bare_name_is_compiled_as_the_parser_has_it() -> None:
    from sqlglot.dialects.postgres import Postgres

    words = {word.lower() for word in Postgres.Tokenizer.KEYWORDS if word.isidentifier()}
    words |= {kind.name.lower() for kind in Postgres.Parser.NO_PAREN_FUNCTIONS} | RESERVED | {"tons", "Tons", "_a1"}
    scope = Scope(dict.fromkeys(words, INTEGER))
    for word in sorted(words):
        for text in (word, f' "{word}" ', word.upper()):
            quick = bare_column(text, scope)
            if quick is not None:
                exact = compiler.compiled(text, scope)
                assert (quick.type, quick.uses, quick.node.column) == (exact.type, exact.uses, exact.node.column), text
    assert compile_expression("tons", scope).uses == {(None, "tons")}
    assert bare_column("null", scope) is None


# --- indexes that are made anew --------------------------------------------------------------------------------------

INDEXES = """SELECT c.relname, pg_get_indexdef(c.oid), k.conname, pg_get_constraintdef(k.oid), k.condeferrable FROM pg_index i
    JOIN pg_class c ON c.oid = i.indexrelid LEFT JOIN pg_constraint k ON k.conindid = c.oid AND k.conrelid = i.indrelid
    WHERE i.indrelid = 't'::regclass ORDER BY 1"""


@pytest.mark.parametrize("commit", ["step", "job"])
@pytest.mark.parametrize("doubled", [False, True])
def test_indexes_are_made_anew_and_rows_that_break_them_are_rejected(
    places: Places, tmp_path: Path, commit: str, doubled: bool
) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer, v text)", "INSERT INTO t SELECT i, i::text FROM generate_series(1, 900) i",
            *(["INSERT INTO t VALUES (7, 'again'), (NULL, 'none')"] if doubled else []))  # fmt: skip
    new.sql("CREATE TABLE t (id integer CONSTRAINT \"The Key\" PRIMARY KEY, v text, CONSTRAINT once UNIQUE (v) DEFERRABLE)",
            'CREATE INDEX "Long ones" ON t (lower(v) DESC) WHERE length(v) > 2', "INSERT INTO t VALUES (0, 'old')")  # fmt: skip
    before = new.rows(INDEXES)
    body = f'''[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\ncommit = "{commit}"
        rebuild_indexes = true\n'''
    run = job(tmp_path, body, old=old, new=new).run()
    step = run["t"]
    if doubled and commit == "job":  # others share its transaction
        assert "the indexes of t cannot be made again" in str(step.error)
        assert "Leave rebuild_indexes out" in str(step.error)
        assert new.rows("SELECT id FROM t") == [(0,)]
    else:
        assert succeeded(run)["t"].tally == kanal.Tally(
            read=900 + 2 * doubled, inserted=900, rejected=2 * doubled, deleted=1
        )
        assert step.rejects().num_rows == 2 * doubled
        assert ("it was loaded again with its indexes in place" in str(step.note)) == doubled
    assert new.rows(INDEXES) == before


def test_indexes_stay_where_each_batch_is_committed(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t SELECT generate_series(1, 90)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    before = new.rows(INDEXES)
    body = '[defaults]\nrebuild_indexes = true\n[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\n'
    run = succeeded(job(tmp_path, body + 'commit = "batch"\nbatch_rows = 20\n', old=old, new=new).run())
    assert (run["t"].tally.inserted, new.rows(INDEXES)) == (90, before)


def test_indexes_on_which_something_depends_stay(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer, v text)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, v text)", "CREATE INDEX by_v ON t (v)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\nrebuild_indexes = true\n'
    job(tmp_path, body, old=old, new=new).check()
    for sql, undo, why in (
        ("CREATE TABLE child (id integer REFERENCES t)", "DROP TABLE child", "foreign key child_id_fkey refers to it"),
        ("CREATE VIEW w AS SELECT id, v FROM t GROUP BY id", "DROP VIEW w", "view w needs its key"),
        ("ALTER INDEX by_v SET (fillfactor = 70)", "ALTER INDEX by_v RESET (fillfactor)", "index by_v has settings"),
        ("ALTER TABLE t CLUSTER ON by_v", "ALTER TABLE t SET WITHOUT CLUSTER", "index by_v has settings"),
        ("COMMENT ON INDEX by_v IS 'x'", "COMMENT ON INDEX by_v IS NULL", "index by_v has settings"),
        ("CREATE PUBLICATION p FOR TABLE t", "DROP PUBLICATION p", "it is published to subscribers"),
    ):
        new.sql(sql)
        said = "\n".join(map(str, kanal.Job.read(tmp_path / "job.toml").check()))
        assert why in said, said
        new.sql(undo)
    for write, kind, why in (
        ("append", "postgresql", "for a table that is emptied"), ("truncate", "sqlite", "cannot take indexes away"),
        ("truncate", "mariadb", "cannot take indexes away"),
    ):  # fmt: skip
        other = places(kind)
        other.sql("CREATE TABLE t (id integer, v text)")
        text = body.replace("truncate", write)
        assert why in "\n".join(map(str, job(tmp_path, text, old=old, new=other).check()))


# --- what the engine does by itself ----------------------------------------------------------------------------------

#: What a row may have that the target, or Kanal, does not take.
BAD = ["", "UPDATE s SET day = 'infinity' WHERE id = 5", "UPDATE s SET n = 'NaN' WHERE id = 600", "UPDATE s SET d = 91 WHERE id = 1",
       "UPDATE s SET t = '24:00' WHERE id = 7", "UPDATE s SET at = '-infinity' WHERE id = 8"]  # fmt: skip


@pytest.mark.parametrize("bad", range(len(BAD)))
@pytest.mark.parametrize(
    ("write", "commit"),
    [("append", "step"), ("truncate", "step"), ("truncate", "job"), ("append", "job"), ("append", "batch")],
)
def test_rows_that_the_engine_moves_arrive_as_others(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, write: str, commit: str, bad: int
) -> None:
    columns = "id bigint PRIMARY KEY, day date, t time, at timestamp, n numeric(12,3), d double precision, s text"
    rows = """SELECT i, date '2026-01-01' + i, time '01:00', timestamp '2026-01-01', i / 8.0, i / 9.0, 's' || i
        FROM generate_series({}, {}) AS i"""
    moves, found, moved = PostgreSQL.moves_to, [], []
    real = write_rule.WriteRule.move
    monkeypatch.setattr(write_rule.WriteRule, "move", lambda *given: moved.append(real(*given)) or moved[-1])
    for may in (moves, lambda *_: False):
        monkeypatch.setattr(PostgreSQL, "moves_to", may)
        place = places("postgresql")
        place.sql(f"CREATE TABLE s ({columns})", f"INSERT INTO s {rows.format(1, 700)}", BAD[bad] or "SELECT 1",
                  f"CREATE TABLE t ({columns}, CHECK (d < 90))", f"INSERT INTO t {rows.format(-5, 0)}")  # fmt: skip
        body = f'[pipeline.t]\nsource = "here:s"\ntarget = "here:t"\nwrite = "{write}"\ncommit = "{commit}"\n'
        run = succeeded(job(tmp_path, body, here=place).run())
        rejects = [{**row, "reject": None} for row in run["t"].rejects().to_pylist()]
        found.append((run["t"].tally, rejects, place.rows("SELECT CAST(x AS text) FROM t AS x ORDER BY id")))
        (tmp_path / "kanal-runs.db").unlink()
    assert found[0] == found[1]
    assert found[0][0].rejected == (BAD[bad].find("d = 91") >= 0)
    assert [written is not None for written in moved] == ([] if commit == "batch" else [not bad])


@pytest.mark.parametrize("more", ["where = \"id > 3\"", "limit = 5", "order_by = [\"v\"]", "batch_rows = 9\ncommit = \"batch\"", "key = \"id\"\nwrite = \"merge\"",
                                  "[pipeline.t.columns]\nid = \"id + 1\"", "key = \"v\""])  # fmt: skip
def test_what_is_more_than_a_copy_is_not_left_to_the_engine(places: Places, tmp_path: Path, more: str) -> None:
    place = places("postgresql")
    place.sql("CREATE TABLE s (id integer PRIMARY KEY, v text)", "CREATE TABLE t (id integer PRIMARY KEY, v text)")
    body = f'[pipeline.t]\nsource = "here:s"\ntarget = "here:t"\n{more}\n'
    plan = plan_job(job(tmp_path, body, here=place))
    try:
        (step,) = plan.steps
        assert isinstance(step, PipelinePlan)
        assert not step.may_move
    finally:
        plan.dispose()


@pytest.mark.parametrize(
    ("change", "counts"),
    [
        ("SELECT 1", (700, 0, 0, 0)),
        ("UPDATE t SET d = '-0' WHERE id = 700", (699, 0, 0, 1)),
        ("UPDATE t SET n = n + 0.001 WHERE id = 9", (699, 0, 0, 1)),
        ("DELETE FROM t WHERE id = 9", (699, 1, 0, 0)),
        ("INSERT INTO t SELECT 0, day, t, at, n, d, s FROM t WHERE id = 1", (700, 0, 1, 0)),
        ("UPDATE t SET s = NULL WHERE id = 3; UPDATE t SET s = 's3' WHERE id = 4", (698, 0, 0, 2)),
        ("UPDATE t SET day = 'infinity' WHERE id = 3", (699, 0, 0, 1)),
    ],
)
def test_a_comparison_by_the_engines_finds_what_one_by_kanal_finds(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, change: str, counts: tuple[int, ...]
) -> None:
    old, new = places("postgresql"), places("postgresql")
    columns = "id bigint PRIMARY KEY, day date, t time, at timestamp, n numeric(12,3), d double precision, s text"
    for place in (old, new):
        place.sql(f"CREATE TABLE t ({columns})", """INSERT INTO t SELECT i, date '2026-01-01' + i, time '01:00', timestamp
            '2026-01-01', i / 8.0, CASE WHEN i < 700 THEN i / 9.0 ELSE 0 END, 's' || i FROM generate_series(1, 700) AS i""")  # fmt: skip
    new.sql(change)
    made, found = (
        job(tmp_path, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "truncate"\n', old=old, new=new),
        [],
    )
    asked: list[object] = []
    digest = PostgreSQL.digest
    for own in (lambda *given: asked.append(digest(*given)) or asked[-1], lambda *_: None):
        monkeypatch.setattr(PostgreSQL, "digest", own)
        (one,) = made.compare()
        found.append((one.same, one.missing, one.extra, one.differing, one.source_rows, one.target_rows, one.tally))
    assert found[0] == found[1]
    assert found[0][:4] == counts
    assert len(asked) == 2 and (asked[0] == asked[1]) == (change == "SELECT 1")
    assert ("infinity" in change) == (None in asked)


@pytest.mark.parametrize(
    ("kind", "one", "other"),
    [
        ("smallint", "1", "-1"), ("integer", "7", "0"), ("bigint", "4722", "4713"),
        ("bigint", "1", "4294967296"), ("bigint", "-1", "4294967295"), ("bigint", "-2", "-4294967297"),
        ("bigint", "9223372036854775807", "-9223372036854775808"), ("numeric(12,2)", "1", "10000"), ("numeric(9,2)", "1.5", "-1.5"),
        ("real", "0", "-0"), ("double precision", "0", "-0"), ("double precision", "NaN", "1e308"), ("boolean", "t", "f"),
        ("date", "2026-01-01", "2026-01-02"), ("time", "00:00", "12:00"), ("timestamp", "2026-01-01", "2026-01-01 00:01"),
        ("timestamp", "2000-01-01 00:00:00.000001", "2000-01-01 01:11:34.967296"), ("time", "00:00:00.000001", "01:11:34.967296"),
        ("timestamp with time zone", "2026-01-01 UTC", "2026-01-01 CET"), ("bytea", "", "a"), ("text", "a", "b"),
        ("varchar(9)", "", "x"),
    ],
)  # fmt: skip
def test_digests_tell_rows_apart(places: Places, tmp_path: Path, kind: str, one: str, other: str) -> None:
    place = places("postgresql")
    place.sql(f"CREATE TABLE t (id integer PRIMARY KEY, a {kind}, b {kind})")
    database, digests = open_database("here", kanal.Connection(url=place.url), tmp_path), list[Any]()
    for rows in (
        f"(1, '{one}', '{other}'), (2, '{other}', NULL), (3, NULL, '{one}')",
        f"(3, NULL, '{one}'), (2, '{other}', NULL), (1, '{one}', '{other}')",
        f"(1, '{other}', '{one}'), (2, '{other}', NULL), (3, NULL, '{one}')",
        f"(1, '{other}', '{other}'), (2, '{one}', NULL), (3, NULL, '{one}')",
        f"(1, '{one}', '{other}'), (2, NULL, '{other}'), (3, '{one}', NULL)",
        f"(1, '{one}', '{other}'), (2, NULL, NULL), (3, NULL, '{one}')",
        f"(1, '{one}', '{other}'), (2, '{other}', NULL), (3, NULL, '{one}'), (4, NULL, NULL)",
    ):
        place.sql("DELETE FROM t", f"INSERT INTO t VALUES {rows}")
        digests.append(database.digest(database.catalogue.describe(None, "t"), ["id", "a", "b"]))
    database.dispose()
    first, *rest = digests
    assert first == rest[0] and None not in digests
    assert len(set(rest)) == len(rest)


@pytest.mark.parametrize(
    ("kind", "more", "asks"),
    [
        ("bigint PRIMARY KEY", "", True),
        ("bigint PRIMARY KEY", 'write = "merge"\nkey = ["id"]', True),
        ("bigint", 'write = "append"', False),
        ("integer PRIMARY KEY", "", False),
        ("bigint UNIQUE", "", False),
        ("bigint PRIMARY KEY", "where = 'id < 60'", False),
        ("bigint PRIMARY KEY", 'checks = ["odd"]', False),
    ],
)
def test_only_columns_that_are_mapped_are_compared_where_the_engines_say_that_the_others_are_the_same(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str, more: str, asks: bool
) -> None:
    old, new = places("postgresql"), places("postgresql")
    made = job(tmp_path, f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nsame = "*"\n{more}\n'
               '[pipeline.t.columns]\nv = "upper(v)"\nc = "c"\n[check.odd]\nexpect = "v <> \'S7\'"\n', old=old, new=new)  # fmt: skip
    answers: list[object] = []
    digest = PostgreSQL.digest
    ways = (lambda *given: answers.append(digest(*given)) or answers[-1], lambda *_: None)
    for place, change, alike in (
        (new, "SELECT 1", True),
        (new, "UPDATE t SET v = (SELECT v FROM t AS o WHERE o.id = 7 - t.id) WHERE id IN (3, 4)", True),
        (new, "UPDATE t SET c = 7, v = 'S7' WHERE id = 5", True),
        (new, "UPDATE t SET n = 7 WHERE id = 5", False),
        (new, "DELETE FROM t WHERE id > 60", False),
        (new, "UPDATE t SET id = id + 1000, v = NULL WHERE id = 9", False),
        (old, "UPDATE t SET c = 'none', v = 'x' WHERE id IN (1, 70)", True),
        (old, "UPDATE t SET v = NULL, d = '-0' WHERE id = 70", False),
    ):
        for side, v, c in ((old, "s", "text"), (new, "S", "smallint")):
            key = kind if side is new else "bigint PRIMARY KEY"
            side.sql("DROP TABLE IF EXISTS t", f"CREATE TABLE t (id {key}, n numeric(9,2), d double precision, v text, c {c})",
                     f"INSERT INTO t SELECT i, i / 8.0, 0, '{v}' || i, i FROM generate_series(1, 70) AS i")  # fmt: skip
        place.sql(change)
        found, quick = list[Any](), list[Any]()
        for way in ways[::-1]:
            monkeypatch.setattr(PostgreSQL, "digest", way)
            quick.append(made.compare(quick=True))
            answers.clear()
            (one,) = made.compare()
            found.append(one)
        assert (found[0], quick[0]) == (found[1], quick[1]), change
        assert len(answers) == 2 * asks
        assert not asks or (answers[0] == answers[1]) == alike
        assert found[1].differs() == (change != "SELECT 1" or "odd" in more or "60" in more)


def test_rules_of_a_table_send_no_rows_elsewhere(places: Places, tmp_path: Path) -> None:
    place = places("postgresql")
    place.sql("CREATE TABLE s AS SELECT generate_series(1, 9) AS id", "CREATE TABLE t (id integer)",
              "CREATE RULE elsewhere AS ON INSERT TO t DO INSTEAD NOTHING")  # fmt: skip
    run = succeeded(job(tmp_path, '[pipeline.t]\nsource = "here:s"\ntarget = "here:t"\n', here=place).run())
    assert (run["t"].tally, place.rows("SELECT count(*) FROM t")) == (kanal.Tally(read=9, inserted=9), [(9,)])
