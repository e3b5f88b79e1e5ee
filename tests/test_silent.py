"""Nothing is silently wrong beside the main road: one case for each way in which a value or a row once went astray."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
import sqlalchemy as sa

import kanal
from conftest import Files, Place
from kanal.core.conversions import Options, all_examples, converter
from kanal.core.expressions import Scope, compile_expression
from kanal.core.frame import Frame, SourceBatch
from kanal.core.types import TEXT, parse_type
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
each_kind = pytest.mark.parametrize("kind", KINDS)
each_commit = pytest.mark.parametrize("commit", ["step", "batch", "job"])
each_write = pytest.mark.parametrize("write", ["append", "truncate", "merge"])


# --- A1, A2: look-ups ----------------------------------------------------------------------------------------------


@each_kind
@each_commit
def test_what_is_read_in_the_target_is_the_same_in_every_transaction(
    places: Places, tmp_path: Path, kind: str, commit: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, k integer)", "INSERT INTO t VALUES (1, 7), (2, 8)")
    json = "jsonb" if kind == "postgresql" else "text"
    new.sql(
        f"CREATE TABLE rate (k integer PRIMARY KEY, r decimal(9,2), d date, j {json})",
        "INSERT INTO rate VALUES (7, 12.34, '2024-02-29', '{\"a\": true}'), (8, -0.05, NULL, NULL)",
        "CREATE TABLE t (id integer PRIMARY KEY, r decimal(9,2), d date, j varchar(40))",
    )
    if kind == "postgresql":
        new.sql("UPDATE rate SET d = 'infinity' WHERE k = 8")
    body = f"""[pipeline.t]
        source = "old:t"
        target = "new:t"
        commit = "{commit}"
        columns = {{ id = "id", r = "rate.r", d = {{ from = "rate.d", if_bad = "null" }}, j = "rate.j" }}
        lookup.rate = {{ table = "new:rate", on = {{ k = "k" }} }}"""
    assert counts(succeeded(job(tmp_path, body, old=old, new=new).run())["t"]) == {"read": 2, "inserted": 2}
    found = [(Decimal(str(r)), d and str(d), j) for r, d, j in new.rows("SELECT r, d, j FROM t ORDER BY id")]
    assert found == [(Decimal("12.34"), "2024-02-29", '{"a": true}'), (Decimal("-0.05"), None, None)]


@pytest.mark.parametrize(("if_bad", "expected", "row"), [
    ('"reject"', {"read": 2, "rejected": 1, "inserted": 1}, []),
    ('"null"', {"read": 2, "inserted": 2}, [(2, None)]),
    ("{ value = 5 }", {"read": 2, "inserted": 2}, [(2, 5)]),
])  # fmt: skip
@pytest.mark.parametrize("keys", [("7", "8"), ("'x'", "'y'")])
def test_a_value_of_a_looked_up_table_that_does_not_fit_is_never_null(
    files: Files, if_bad: str, expected: dict, row: list, keys: tuple
) -> None:
    kind = "integer" if keys[0] == "7" else "text"
    files.database(
        "old.db", f"CREATE TABLE t (id integer, k {kind}); INSERT INTO t VALUES (1, {keys[0]}), (2, {keys[1]})"
    )
    files.database(
        "new.db",
        f"""CREATE TABLE rate (k {kind} PRIMARY KEY, r integer); CREATE TABLE t (id integer, r integer);
        INSERT INTO rate VALUES ({keys[0]}, 3), ({keys[1]}, 'oops')""",
    )
    run = kanal.Job.read(
        files.job(f"""[pipeline.t]
        source = "old:t"
        target = "new:t"
        columns = {{ id = "id", r = {{ from = "rate.r", if_bad = {if_bad} }} }}
        lookup.rate = {{ table = "new:rate", on = {{ k = "k" }} }}""")
    ).run()
    assert counts(run["t"]) == expected
    assert files.rows("new.db", "SELECT * FROM t WHERE id = 2") == row


# --- A4: resumed in the order of texts that a collation holds equal -------------------------------------------------

COLLATED = {
    "sqlite": "text COLLATE NOCASE", "mariadb": "varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci",
    "postgresql": "text",
}  # fmt: skip


@each_kind
def test_resumed_by_batches_no_row_is_lost_whatever_the_collation(
    places: Places, tmp_path: Path, kind: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kanal.runner.step import StepParts

    old, new = places(kind), places("sqlite")
    texts = ["abc", "ABC", "Abc", "ab", "\u00c9", "e", "\u00e9", "z", "Z", "abc  x"]
    if kind != "mariadb":
        texts += ["abc ", "a"]
    old.sql(f"CREATE TABLE t (k {COLLATED[kind]} NOT NULL)", *(f"INSERT INTO t VALUES ('{text}')" for text in texts))
    new.sql("CREATE TABLE t (k text)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\ncommit = "batch"\norder_by = "k"\nbatch_rows = 1\nretries = 0'
    made = job(tmp_path, body, old=old, new=new)
    commits = StepParts.commit
    calls = []

    def dies(step: Any, *arguments: Any, **named: Any) -> None:
        calls.append(1)
        if len(calls) % 3 == 0:
            raise kanal.KanalError("broken off")
        commits(step, *arguments, **named)

    monkeypatch.setattr(StepParts, "commit", dies)
    run = made.run()
    for _ in range(20):
        if run.status == "succeeded":
            break
        run = made.resume()
    assert run.status == "succeeded"
    assert sorted(row[0] for row in new.rows("SELECT k FROM t")) == sorted(texts)


# --- A5, A6: whose key it is ---------------------------------------------------------------------------------------

RULES = {
    # Rows are (key, number); the target refuses 13. What is loaded, and the counts.
    "reject": ([("a", 13), ("a", 2), ("a", 3), ("b", 4)], {("a", 2), ("b", 4)}, {"read": 4, "rejected": 2, "inserted": 2}),
    "first": ([("a", 13), ("a", 2), ("a", 3), ("b", 4)], {("a", 2), ("b", 4)}, {"read": 4, "rejected": 1, "superseded": 1, "inserted": 2}),
    "last": ([("a", 1), ("a", 2), ("a", 13), ("b", 4)], {("a", 2), ("b", 4)}, {"read": 4, "rejected": 1, "superseded": 1, "inserted": 2}),
}  # fmt: skip


@each_kind
@each_write
@pytest.mark.parametrize("rule", [*RULES, "unique"])
@pytest.mark.parametrize("commit", ["step", "batch"])
@pytest.mark.parametrize("batch_rows", [1, 2, 9])
def test_a_key_belongs_to_a_row_that_is_loaded(
    places: Places, tmp_path: Path, kind: str, write: str, rule: str, commit: str, batch_rows: int
) -> None:
    rows, loaded, expected = RULES["reject" if rule == "unique" else rule]
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, k text, n integer)")
    old.sql(*(f"INSERT INTO t VALUES ({place}, '{key}', {number})" for place, (key, number) in enumerate(rows)))
    new.sql("CREATE TABLE t (k varchar(9) NOT NULL, n integer PRIMARY KEY, CHECK (n <> 13))")
    how = f'duplicates = "{rule}"\nkey = "k"'
    if rule == "unique":
        how = 'checks = ["alone"]' + ('\nkey = "n"' if write == "merge" else "")
    body = f"""[check.alone]
        unique = "k"
        [pipeline.t]
        source = "old:t"
        target = "new:t"
        write = "{write}"
        commit = "{commit}"
        batch_rows = {batch_rows}
        {how}
        columns = {{ k = "k", n = "n" }}"""
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert set(new.rows("SELECT k, n FROM t")) == loaded
    assert counts(run["t"]) == expected


@pytest.mark.parametrize("settings", ['matched = "keep"', 'newer_by = "n"'])
def test_the_last_of_a_key_counts_or_the_job_is_refused(files: Files, settings: str) -> None:
    files.database(
        "old.db",
        "CREATE TABLE t (id integer PRIMARY KEY, k text, n integer); INSERT INTO t VALUES (1, 'a', 9), (2, 'a', 5)",
    )
    files.database("new.db", "CREATE TABLE t (k text PRIMARY KEY, n integer)")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "k"\nduplicates = "last"\nbatch_rows = 1\ncolumns = {{ k = "k", n = "n" }}\n{settings}'
    run = kanal.Job.read(files.job(body)).run()
    assert files.rows("new.db", "SELECT n FROM t") == [(5,)]
    assert counts(run["t"]) == {"read": 2, "superseded": 1, "inserted": 1}
    said = kanal.Job.read(files.job(body + '\ncommit = "batch"')).check()
    assert any('duplicates = "last" with commit = "batch" cannot be combined' in one for one in said)


# --- A7: keys that the target holds equal ---------------------------------------------------------------------------


@pytest.mark.parametrize(("kind", "declared"), [
    ("sqlite", "text COLLATE NOCASE"), ("sqlite", "text COLLATE RTRIM"), ("postgresql", "char(9)"),
    ("mariadb", "varchar(20) COLLATE utf8mb4_general_ci"), ("mariadb", "varchar(20) COLLATE utf8mb4_unicode_ci"),
    ("mariadb", "varchar(20) COLLATE utf8mb4_bin"), ("mariadb", "varchar(20) COLLATE utf8mb4_nopad_bin"),
])  # fmt: skip
@pytest.mark.parametrize("commit", ["step", "batch"])
def test_keys_are_the_same_where_the_target_holds_them_equal(
    places: Places, tmp_path: Path, kind: str, declared: str, commit: str
) -> None:
    old, new = places("sqlite"), places(kind)
    texts = ["abc", "ABC", "abc ", "\u00e4bc", "x", "X ", "stra\u00dfe", "strasse", "STRASSE"]
    old.sql(
        "CREATE TABLE t (id integer PRIMARY KEY, k text)",
        *(f"INSERT INTO t VALUES ({n}, '{text}')" for n, text in enumerate(texts)),
    )
    new.sql(f"CREATE TABLE t (k {declared} PRIMARY KEY, id integer)")
    first: list[str] = []
    for text in texts:  # by the target's own judgement
        if not any(new.rows(f"SELECT 1 FROM t WHERE k = '{text}'")):
            new.sql(f"INSERT INTO t VALUES ('{text}', 0)")
            first.append(text)
    new.sql("DELETE FROM t")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "k"\nduplicates = "first"\nbatch_rows = 2\ncommit = "{commit}"'
    made = job(tmp_path, body, old=old, new=new)
    one, two = succeeded(made.run())["t"], succeeded(made.run())["t"]
    assert (one.tally.inserted, one.tally.superseded) == (len(first), len(texts) - len(first))
    assert (two.tally.inserted, two.tally.updated, two.tally.unchanged) == (0, 0, len(first))
    assert [found.differs() for found in made.compare()] == [False]


# --- A8: one table, however it is spelled --------------------------------------------------------------------------


@pytest.mark.parametrize(("kind", "spelled"), [
    ("postgresql", "schema"), ("postgresql", "host"), ("mariadb", "host"), ("mariadb", "schema"), ("sqlite", "path"), ("postgresql", "parent"),
])  # fmt: skip
def test_a_reader_waits_for_the_writer_of_its_table_however_it_is_spelled(
    places: Places, tmp_path: Path, kind: str, spelled: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer)", "INSERT INTO t VALUES (1), (2)")
    other, table = Place(kind, new.url), "a1"
    if spelled == "parent":
        new.sql(
            "CREATE TABLE whole (id integer) PARTITION BY RANGE (id)",
            "CREATE TABLE a1 PARTITION OF whole FOR VALUES FROM (0) TO (9)",
        )
        table = "whole"
    else:
        new.sql("CREATE TABLE a1 (id integer)")
    new.sql("CREATE TABLE a2 (id integer)")
    if spelled == "schema":
        table = f"{'public' if kind == 'postgresql' else sa.make_url(new.url).database}.a1"
    if spelled == "host":
        other.url = (
            sa.make_url(new.url)
            .set(host="localhost" if "127" in new.url else "127.0.0.1")
            .render_as_string(hide_password=False)
        )
    if spelled == "path":
        path = Path(sa.make_url(new.url).database or "")
        (path.parent / "sub").mkdir()
        other.url = f"sqlite:///{path.parent}/sub/../{path.name}"
    body = f'[pipeline.reads]\nsource = "again:{table}"\ntarget = "new:a2"\n[pipeline.fills]\nsource = "old:t"\ntarget = "new:a1"'
    run = succeeded(job(tmp_path, body, old=old, new=new, again=other).run())
    assert [step.step for step in run] == ["fills", "reads"]
    assert new.rows("SELECT id FROM a2 ORDER BY 1") == [(1,), (2,)]


@pytest.mark.parametrize("source", ["whole", "public.a1", "a1"])
def test_a_table_emptied_while_it_is_read_under_another_name_does_not_wait_for_itself(
    places: Places, tmp_path: Path, source: str
) -> None:
    pg = places("postgresql")
    pg.sql("CREATE TABLE whole (id integer) PARTITION BY RANGE (id)", "CREATE TABLE a1 PARTITION OF whole FOR VALUES FROM (0) TO (99999)",
           "INSERT INTO whole SELECT generate_series(0, 30000)")  # fmt: skip
    body = f'[pipeline.t]\nsource = "again:{source}"\ntarget = "pg:a1"\nwrite = "truncate"\ntimeout = 30'
    again = Place("postgresql", sa.make_url(pg.url).set(host="localhost").render_as_string(hide_password=False))
    run = succeeded(job(tmp_path, body, pg=pg, again=again).run())
    assert counts(run["t"]) == {"read": 30_001, "inserted": 30_001, "deleted": 30_001}


# --- A9: expressions -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("text", "expected"), [
    ("concat_ws('-', a, b)", ["x-y", "", "z"]), ("concat_ws(a, b, b)", ["yxy", None, None]), ("concat_ws('-', NULL, NULL)", ["", "", ""]),
    ("5 BETWEEN SYMMETRIC 9 AND 1", [True] * 3), ("5 NOT BETWEEN SYMMETRIC 9 AND 1", [False] * 3),
    ("round(600.00, -5)", [Decimal("0.00")] * 3), ("round(999.00, -3)", [Decimal("1000.00")] * 3), ("round(-5.0, -1)", [Decimal("-10.0")] * 3),
    ("trunc(999.9, -9)", [Decimal("0.0")] * 3), ("DATE '2024-02-29'::timestamp", [dt.datetime(2024, 2, 29)] * 3),
    ("concat(TRUE, 1 = 2)", ["tf"] * 3), ("'' || TRUE", ["true"] * 3),
])  # fmt: skip
def test_expressions_that_once_went_astray(text: str, expected: list[Any]) -> None:
    types = {"a": TEXT, "b": TEXT}
    columns = {"a": pa.array(["x", None, None], pa.string()), "b": pa.array(["y", None, "z"], pa.string())}
    frame = Frame(SourceBatch(3, columns), types)
    assert frame.array(compile_expression(text, Scope(types)).node.evaluate(frame)).to_pylist() == expected


def test_an_expression_that_gives_too_few_values_is_an_error_and_shifts_nothing() -> None:
    frame = Frame(SourceBatch(3, {}), {})
    with pytest.raises(kanal.KanalError, match="gave 2 values for 3 rows"):
        frame.array(pa.array([1, 2]))


# --- A10, B15: a bare column goes by its type -----------------------------------------------------------------------

STORED = {
    "ok": ("boolean", {"postgresql": "boolean", "mariadb": "boolean", "sqlite": "boolean"}, ["true", "true", "1"]),
    "at": ("timestamp", {"postgresql": "timestamp(6)", "mariadb": "datetime(6)", "sqlite": "timestamp"}, ["2024-02-29 10:15:30.5"] * 3),
    "tm": ("time", {"postgresql": "time(6)", "mariadb": "time(6)", "sqlite": "time"}, ["10:15:30.5"] * 3),
    "mid": ("timestamp", {"postgresql": "timestamp", "mariadb": "datetime", "sqlite": "timestamp"}, ["2024-02-29 00:00:00"] * 3),
    "n": ("decimal(9,2)", {"postgresql": "decimal(9,2)", "mariadb": "decimal(9,2)", "sqlite": "decimal(9,2)"}, ["1.50"] * 3),
}  # fmt: skip


@each_kind
def test_a_bare_column_converts_by_its_type_whatever_holds_it(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places(kind), places("sqlite")
    columns = ", ".join(f"{name} {declared[kind]}" for name, (_, declared, _) in STORED.items())
    values = ", ".join(
        f"'{given[KINDS.index(kind) - 1] if name == 'ok' and kind != 'mariadb' else given[0]}'"
        for name, (_, _, given) in STORED.items()
    )
    values = values.replace("'true'", "true").replace("'1'", "true")
    old.sql(f"CREATE TABLE t ({columns})", f"INSERT INTO t VALUES ({values})")
    new.sql(
        "CREATE TABLE t (ok text, ok2 text, at text, tm text, mid text, day date, n text, at2 text, tm2 text, floored date)"
    )
    body = """[pipeline.t]
        source = "old:t"
        target = "new:t"
        columns = { ok = "ok", ok2 = "coalesce(ok, ok)", at = "at", tm = "tm", mid = "mid", day = "mid", n = "n", at2 = { from = "at", format = "%d.%m.%Y %H:%M" }, tm2 = { from = "tm", format = "%H-%M" }, floored = { from = "at", rounding = "floor" } }"""
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert counts(run["t"]) == {"read": 1, "inserted": 1}, run["t"].rejects().to_pylist()
    assert new.rows("SELECT * FROM t") == [
        (
            "true",
            "true",
            "2024-02-29 10:15:30.5",
            "10:15:30.5",
            "2024-02-29 00:00:00",
            "2024-02-29",
            "1.50",
            "29.02.2024 10:15",
            "10-15",
            "2024-02-29",
        )
    ]


#: Types of a column that holds every value of a type, by database; None where a type has none there.
HOLDS = {
    "postgresql": {"double precision": "double precision", "text": "text", "timestamp with time zone": "timestamptz", "binary": "bytea"},
    "mariadb": {"timestamp with time zone": "timestamp(6) NULL", "binary": "longblob", "text": "longtext", "double precision": "double", "time": "time(6)",
                "timestamp": "datetime(6)", "uuid": "char(36)", "json": "longtext"},
    "sqlite": {},
}  # fmt: skip


@each_kind
def test_every_documented_conversion_runs_as_a_job_from_and_into_every_database(
    places: Places, tmp_path: Path, kind: str
) -> None:
    """From a text column through CAST-free conversions: the source column has the type, the target column too."""
    old, new = places(kind), places(kind)
    cases = []
    for place, example in enumerate(all_examples()):
        source, target = example.source.value, example.target.value
        source = "decimal(9,2)" if source == "decimal" else source
        target = {"decimal": "decimal(9,2)", "text": "varchar(3)" if example.options.too_long else "text"}.get(
            target, target
        )
        value, faults = converter(
            TEXT, parse_type(source), Options(time_zone="UTC") if "zone" in source else Options()
        )(pa.array([example.value]))
        if not faults:
            cases.append((f"c{place}", source, target, example, value[0].as_py()))
    declared = HOLDS[kind]
    with old.engine.begin() as connection:
        columns = ", ".join(f"{name} {declared.get(source, source)}" for name, source, *_ in cases)
        connection.exec_driver_sql(f"CREATE TABLE t ({columns})")
    table = sa.Table("t", sa.MetaData(), autoload_with=old.engine)
    with old.engine.begin() as connection:
        made = {name: value for name, _, _, _, value in cases}
        if kind == "mariadb":
            made = {
                name: value.replace(tzinfo=None) if isinstance(value, dt.datetime) else value
                for name, value in made.items()
            }
        if kind == "sqlite":
            raw: dict[str, Any] = {name: value if isinstance(value, bytes | int | float) and not isinstance(value, bool) else float(value) if isinstance(value, Decimal) else int(value) if isinstance(value, bool)
                                   else str(value) for name, value in made.items()}  # fmt: skip
            connection.exec_driver_sql(f"INSERT INTO t VALUES ({', '.join('?' * len(raw))})", tuple(raw.values()))
        elif kind == "postgresql":
            connection.exec_driver_sql(f"INSERT INTO t VALUES ({', '.join(['%s'] * len(made))})", tuple(made.values()))
        else:
            connection.exec_driver_sql(f"INSERT INTO t VALUES ({', '.join(['%s'] * len(made))})", tuple(made.values()))
    del table
    new.sql(
        "CREATE TABLE t (" + ", ".join(f"{name} {declared.get(target, target)}" for name, _, target, *_ in cases) + ")"
    )
    lines = []
    for name, source, target, example, _ in cases:
        options = {option: getattr(example.options, option) for option in sorted(example.options.given())}
        if source == "text" or kind == "postgresql" or target != source:
            given = ", ".join(
                f"{key} = {list(v) if isinstance(v, tuple) else repr(v)}".replace("'", '"')
                for key, v in options.items()
            )
            # Of MariaDB, a uuid and JSON are texts by their columns.
            lines.append(f'{name} = {{ from = "{name}", type = "{target}"{", " + given if given else ""} }}')
        else:
            lines.append(f'{name} = "{name}"')
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n[pipeline.t.columns]\n' + "\n".join(lines)
    made_job = job(tmp_path, body, old=old, new=new)
    assert made_job.check() == []
    run = succeeded(made_job.run())
    assert counts(run["t"]) == {"read": 1, "inserted": 1}, run["t"].rejects().to_pylist()


# --- A11: values that a database bends ------------------------------------------------------------------------------


@pytest.mark.parametrize(("kind", "declared", "source", "values", "loaded"), [
    ("mariadb", "year", "integer", [0, 5, 70, 1901, 2155, 2156], [0, 1901, 2155]), ("mariadb", "double", "float8", [-0.0, 1.5], [1.5]),
    ("sqlite", "real", "float8", [-0.0, 1.5], [1.5]), ("sqlite", "", "integer", [7, -1], [7, -1]),
    ("postgresql", "money", "text", ["1.005", "1.50", "$2,000.10", "1.000"], ["$1.50", "$2,000.10", "$1.00"]),
    ("postgresql", "jsonb", "text", ['{"a":1,"a":2}', '{"a": 1.10}'], ['{"a": 1.10}']),
])  # fmt: skip
@each_write
def test_a_value_that_the_target_would_bend_is_rejected(
    places: Places, tmp_path: Path, kind: str, declared: str, source: str, values: list, loaded: list, write: str
) -> None:
    old, new = places("postgresql" if source == "float8" else "sqlite"), places(kind)
    old.sql(f"CREATE TABLE t (id integer PRIMARY KEY, v {source})")
    with old.engine.begin() as connection:
        mark = "%s" if source == "float8" else "?"
        connection.exec_driver_sql(f"INSERT INTO t VALUES ({mark}, {mark})", list(enumerate(values)))
    new.sql(f"CREATE TABLE t (id integer PRIMARY KEY, v {declared})")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "id"'
    made = job(tmp_path, body, old=old, new=new)
    run = succeeded(made.run())
    shown = "v::text" if kind == "postgresql" else "v"
    assert [row[0] for row in new.rows(f"SELECT {shown} FROM t ORDER BY id")] == loaded
    assert counts(run["t"]) == {"read": len(values), "inserted": len(loaded)} | (
        {"rejected": len(values) - len(loaded)} if len(values) > len(loaded) else {}
    )
    assert declared == "money" or not [found.examples for found in made.compare() if found.differs()]


def test_columns_without_types_do_not_turn_numbers_into_texts(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (v)", t=[(7,), (8,)])
    files.database("new.db", "CREATE TABLE t (v)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n'
    assert "numbers would arrive as texts" in kanal.Job.read(files.job(body)).check()[0]
    kanal.Job.read(files.job(body + 'columns.v = { from = "v", type = "bigint" }')).run()
    assert files.rows("new.db", "SELECT v, typeof(v) FROM t") == [(7, "integer"), (8, "integer")]


# --- A12, A13, A14 -------------------------------------------------------------------------------------------------


@each_kind
@pytest.mark.parametrize("batch_rows", [2, 100])
def test_a_limit_counts_what_passes_the_filter(places: Places, tmp_path: Path, kind: str, batch_rows: int) -> None:
    old, new = places(kind), places("sqlite")
    old.sql(
        "CREATE TABLE t (id integer PRIMARY KEY, n integer)",
        *(f"INSERT INTO t VALUES ({n}, {n % 3})" for n in range(20)),
    )
    new.sql("CREATE TABLE t (id integer, n integer)")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwhere = "n = 1 AND id <> 4"\nlimit = 3\norder_by = "id"\nbatch_rows = {batch_rows}'
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert new.rows("SELECT id FROM t ORDER BY 1") == [(1,), (7,), (10,)]
    assert run["t"].tally.inserted == 3


@pytest.mark.parametrize("write", ["append", "merge"])
def test_a_row_whose_change_value_is_no_number_is_not_forgotten(places: Places, tmp_path: Path, write: str) -> None:
    old, new = places("postgresql"), places("sqlite")
    old.sql(
        "CREATE TABLE t (id integer PRIMARY KEY, c double precision)", "INSERT INTO t VALUES (1, 1), (2, 'NaN'), (3, 2)"
    )
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "id"\nsince = "c"\ncolumns = {{ id = "id" }}'
    made = job(tmp_path, body, old=old, new=new)
    first = counts(succeeded(made.run())["t"])
    assert first == ({"read": 3, "rejected": 1, "inserted": 2} if write == "append" else {"read": 3, "inserted": 3})
    old.sql("INSERT INTO t VALUES (4, 'NaN')")
    second = counts(succeeded(made.run())["t"])
    assert second["read"] == (2 if write == "append" else 3)


@pytest.mark.parametrize(("settings", "before", "differs"), [
    ('matched = "keep"', [(1, 0)], False), ('newer_by = "n"', [(1, 99)], False), ('newer_by = "n"', [(1, 3)], True),
    ('not_matched = "ignore"', [(1, 10)], False), ("", [(1, 0)], True),
    ('since = { column = "n", first = 15 }', [], False),
])  # fmt: skip
def test_a_comparison_goes_by_the_rule_that_loads(files: Files, settings: str, before: list, differs: bool) -> None:
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, n integer)", t=[(1, 10), (2, 20)])
    files.database("new.db", "CREATE TABLE t (id integer PRIMARY KEY, n integer)", t=before)
    made = kanal.Job.read(
        files.job(f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"\n{settings}')
    )
    if settings and not differs:
        made.run()
    assert [one.differs() for one in made.compare()] == [differs or not settings]


@pytest.mark.parametrize(("one", "other", "same"), [
    ('{"a": 1.10}', '{"a": 1.1}', False), ('{"a": 9007199254740993}', '{"a": 9007199254740992}', False), ('{"a":1,"a":2}', '{"a": 2}', False),
    ('{"a": 1, "b": 2}', '{"b":2,"a":1}', True), ('"\\ud800"', '"\\ud800"', True), ("1e2", "100", True),
])  # fmt: skip
def test_json_is_compared_digit_by_digit(places: Places, tmp_path: Path, one: str, other: str, same: bool) -> None:
    old, new = places("mariadb"), places("postgresql")
    old.sql(
        "CREATE TABLE t (id integer PRIMARY KEY, j longtext)",
        f"INSERT INTO t VALUES (1, '{one.replace(chr(92), chr(92) * 2)}')",
    )
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, j json)", f"INSERT INTO t VALUES (1, '{other}')")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"'
    assert [found.differs() for found in job(tmp_path, body, old=old, new=new).compare()] == [not same]


def test_a_zero_with_a_sign_differs_from_one_without(places: Places, tmp_path: Path) -> None:
    pg = places("postgresql")
    pg.sql("CREATE TABLE a (id integer PRIMARY KEY, v float8)", "CREATE TABLE b (id integer PRIMARY KEY, v float8)",
           "INSERT INTO a VALUES (1, '-0.0')", "INSERT INTO b VALUES (1, 0.0)")  # fmt: skip
    made = job(tmp_path, '[pipeline.t]\nsource = "pg:a"\ntarget = "pg:b"\nwrite = "truncate"', pg=pg)
    assert [one.differs() for one in made.compare()] == [True]
    made.run()
    assert pg.rows("SELECT v::text FROM b") == [("-0",)]
    assert [one.differs() for one in made.compare()] == [False]
