"""What counts as the same: two values of a column, two keys, two names in Kanal's own tables."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Place
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]

#: A place, what it needs first, a column's type, and two values that its equality does not tell apart.
ALIKE = {
    "NOCASE": ("sqlite", "", "text COLLATE NOCASE", "'muller'", "'Muller'"),
    "RTRIM": ("sqlite", "", "text COLLATE RTRIM", "'a'", "'a '"),
    "citext": ("postgresql", "CREATE EXTENSION IF NOT EXISTS citext", "citext", "'muller'", "'Muller'"),
    "nondeterministic": (
        "postgresql",
        "CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level1', deterministic = false)",
        'text COLLATE "loose"',
        "'muller'",
        "'Müller'",
    ),
    "domain": (
        "postgresql",
        "CREATE EXTENSION IF NOT EXISTS citext; CREATE DOMAIN mail AS citext CHECK (VALUE <> '')",
        "mail",
        "'a@b'",
        "'A@b'",
    ),
    "enum": ("postgresql", "CREATE TYPE mood AS ENUM ('low', 'Low')", "mood", "'low'", "'Low'"),
    "zero": ("postgresql", "", "double precision", "0.0", "'-0'"),
    "real zero": ("postgresql", "", "real", "0.0", "'-0'"),
    "interval": ("postgresql", "", "interval", "'1 day'", "'24 hours'"),
    "json": ("postgresql", "", "json", "'{\"a\":1}'", "'{\"a\": 1}'"),
    "jsonb": ("postgresql", "", "jsonb", "'{\"a\":1.0}'", "'{\"a\":1.00}'"),
    "accents": ("mariadb", "", "varchar(20)", "'muller'", "'Müller'"),
    "blanks": ("mariadb", "", "varchar(20)", "'a'", "'a '"),
    "mariadb enum": ("mariadb", "", "enum('a', 'b')", "'a'", "'b'"),
    "duckdb case": ("duckdb", "", "varchar COLLATE NOCASE", "'muller'", "'Muller'"),
    "duckdb json": ("duckdb", "", "json", "'{\"a\":1}'", "'{\"a\": 1}'"),
    "unicode_ci": ("firebird", "", "varchar(20) CHARACTER SET UTF8 COLLATE UNICODE_CI", "'muller'", "'Muller'"),
    "firebird blanks": ("firebird", "", "varchar(20)", "'a'", "'a '"),
    "firebird blob": ("firebird", "", "blob sub_type text", "'a'", "'A'"),
    "odbc accents": ("odbc-mariadb", "", "varchar(20)", "'muller'", "'Müller'"),
    "odbc NOCASE": ("odbc-sqlite", "", "text COLLATE NOCASE", "'muller'", "'Muller'"),
    "odbc citext": ("odbc-postgresql", "CREATE EXTENSION IF NOT EXISTS citext", "citext", "'muller'", "'Muller'"),
    "odbc json": ("odbc-postgresql", "", "json", "'{\"a\":1}'", "'{\"a\": 1}'"),
    "odbc zero": ("odbc-postgresql", "", "double precision", "0.0", "'-0'"),
}  # fmt: skip

WRITES = {
    "merge": 'write = "merge"',
    "batches": 'write = "merge"\ncommit = "batch"\nbatch_rows = 2',
    "history": 'write = "history"\nhistory = { from = "since", until = "ended" }',
    "overwrite": 'write = "history"\nhistory = { from = "since", until = "ended", overwrite = "v" }',
}


@pytest.mark.parametrize("write", WRITES)
@pytest.mark.parametrize("case", ALIKE)
def test_a_value_that_is_displayed_otherwise_has_changed(places: Places, tmp_path: Path, case: str, write: str) -> None:
    kind, first, declared, old, new = ALIKE[case]
    versions = write in ("history", "overwrite")
    if versions and case == "odbc json":
        pytest.skip("json has no order, in which a history by ODBC would look for versions")
    place = places(kind)
    source = places(kind) if place.kind == "sqlite" else place  # whose file a reader would lock
    if first:
        place.sql(*first.split("; "))
    moment = {"mariadb": "datetime(6)"}.get(place.kind, "timestamp")
    since = f", since {moment} NOT NULL, ended {moment}" if versions else ""
    key = "n, since" if versions else "n"
    source.sql(f"CREATE TABLE s (n integer NOT NULL PRIMARY KEY, v {declared})")
    place.sql(f"CREATE TABLE t (n integer NOT NULL, v {declared}{since}, PRIMARY KEY ({key}))")
    source.sql(*(f"INSERT INTO s VALUES ({n}, {old})" for n in (1, 2, 3)))
    body = f'[pipeline.t]\nsource = "old:s"\ntarget = "db:t"\nkey = "n"\n{WRITES[write]}'
    made = job(tmp_path, body, old=source, db=place)
    succeeded(made.run())
    assert counts(succeeded(made.run())["t"]) == {"read": 3, "unchanged": 3}
    source.sql(f"UPDATE s SET v = {new} WHERE n = 2")
    if not versions and "json" not in case:  # whose texts differ where the values of compare do not
        assert made.compare()[0].differs()
    found = counts(succeeded(made.run())["t"])
    changed = {"inserted": 1, "closed": 1} if write == "history" else {"updated": 1}
    assert found == {"read": 3, "unchanged": 2, **changed}
    assert counts(succeeded(made.run())["t"]) == {"read": 3, "unchanged": 3}
    if not versions:
        assert not made.compare()[0].differs()


SINCE = """
[pipeline.{name}]
source = "old:{table}"
target = "new:{table}"
write = "{write}"
key = "n"
since = "{since}"
"""


@pytest.mark.parametrize("kind", ["mariadb", "postgresql", "sqlite"])
@pytest.mark.parametrize("names", [("Orders", "orders"), ("café", "cafe")])
def test_steps_and_jobs_of_like_names_are_told_apart(
    places: Places, tmp_path: Path, kind: str, names: tuple[str, str]
) -> None:
    old, new = places("sqlite"), places(kind)
    for place in (old, new):
        place.sql(*(f"CREATE TABLE {table} (n integer PRIMARY KEY, u integer)" for table in ("a", "b")))
    old.sql("INSERT INTO a VALUES (1, 100), (2, 200)", "INSERT INTO b VALUES (1, 5), (2, 6)")
    body = "".join(
        SINCE.format(name=f'"{name}"', table=table, write="append", since="u")
        for name, table in zip(names, "ab", strict=True)
    )
    for commit in ("step", "batch"):
        new.sql("DELETE FROM a", "DELETE FROM b")
        made = job(tmp_path, f'[defaults]\ncommit = "{commit}"\n{body}', old=old, new=new)
        made = made.model_copy(update={"job": f"{names[0]} {commit}"})
        assert [counts(step) for step in succeeded(made.run())] == [{"read": 2, "inserted": 2}] * 2
        assert [counts(step) for step in succeeded(made.run())] == [{}] * 2
        new.sql("DELETE FROM a", "DELETE FROM b")
        made = made.model_copy(update={"job": f"{names[1]} {commit}"})
        assert [counts(step) for step in succeeded(made.run())] == [{"read": 2, "inserted": 2}] * 2


@pytest.mark.parametrize("kind", ["mariadb", "sqlite", "files"])
def test_a_watermark_is_one_of_its_expression(places: Places, tmp_path: Path, kind: str) -> None:
    old = places("sqlite")
    old.sql("CREATE TABLE a (n integer PRIMARY KEY, u integer, c integer)", "INSERT INTO a VALUES (1, 100, 1)")
    if kind == "files":
        new = Place("sqlite", f"file://{tmp_path}/out")
        (tmp_path / "out").mkdir()
    else:
        new = places(kind)
        new.sql("CREATE TABLE a (n integer PRIMARY KEY, u integer, c integer)")

    def made(write: str, since: str) -> kanal.Job:
        body = SINCE.format(name="a", table="a", write=write, since=since)
        if kind == "files":
            body = body.replace("new:a", "new:a-{run}.csv").replace('key = "n"\n', "")
        return job(tmp_path, body, old=old, new=new)

    succeeded(made("append", "u").run())
    old.sql("INSERT INTO a VALUES (2, 50, 2)")
    failed = made("append", "c").run()["a"]
    assert "since is now c, and the watermark 100 is one of u" in str(failed.error)
    if kind == "files":
        return
    step = succeeded(made("merge", "c").run())["a"]
    assert counts(step) == {"read": 2, "inserted": 1, "unchanged": 1}
    assert "it does not apply" in str(step.note)
    assert counts(succeeded(made("merge", "c").run())["a"]) == {"read": 1, "unchanged": 1}


@pytest.mark.parametrize(
    ("kind", "first", "declared", "found"),
    [
        ("sqlite", "", "text COLLATE NOCASE", ["ANNA", "anna"]),
        ("sqlite", "", "text COLLATE RTRIM", ["anna", "anna  "]),
        ("sqlite", "", "text", ["anna"]),
        ("mariadb", "", "varchar(20)", ["ANNA", "anna", "anna  ", "änna"]),
        ("mariadb", "", "varchar(20) COLLATE utf8mb4_bin", ["anna", "anna  "]),
        ("postgresql", "CREATE EXTENSION IF NOT EXISTS citext", "citext", ["ANNA", "anna"]),
        ("postgresql", "", "varchar(20)", ["anna"]),
        ("postgresql", "", "char(20)", ["anna", "anna  "]),
    ],
)
def test_look_ups_compare_as_the_looked_up_column_does(
    places: Places, tmp_path: Path, kind: str, first: str, declared: str, found: list[str]
) -> None:
    old, new = places("sqlite"), places(kind)
    texts = ["ANNA", "anna", "anna  ", "änna", "other"]
    old.sql("CREATE TABLE s (n text)", *(f"INSERT INTO s VALUES ('{text}')" for text in texts))
    if first:
        new.sql(first)
    new.sql(f"CREATE TABLE p (k {declared}, id integer)", "INSERT INTO p VALUES ('anna', 7)",
            "CREATE TABLE t (n varchar(20), id integer)", "CREATE TABLE u (n varchar(20))")  # fmt: skip
    body = """
        [check.known]
        value = "n"
        exists_in = { table = "new:p", column = "k" }
        [pipeline.t]
        source = "old:s"
        target = "new:t"
        columns = { n = "n", id = "p.id" }
        lookup.p = { table = "new:p", on = { k = "n" } }
        [pipeline.u]
        source = "old:s"
        target = "new:u"
        checks = ["known"]
    """
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert sorted(row[0] for row in new.rows("SELECT n FROM t WHERE id = 7")) == found
    assert sorted(row[0] for row in new.rows("SELECT n FROM u")) == found
    assert counts(run["t"])["rejected"] == counts(run["u"])["rejected"] == len(texts) - len(found)


def test_nan_is_a_key_like_others(places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE s (x double precision)", "INSERT INTO s VALUES ('NaN'), (1), (2)")
    new.sql("CREATE TABLE p (x double precision, id integer)", "INSERT INTO p VALUES ('NaN', 7), (1, 1)",
            "CREATE TABLE t (x double precision, id integer)")  # fmt: skip
    body = """[pipeline.t]
        source = "old:s"
        target = "new:t"
        columns = { x = "x", id = "p.id" }
        lookup.p = { table = "new:p", on = { x = "x" } }"""
    made = job(tmp_path, body, old=old, new=new)
    assert counts(succeeded(made.run())["t"]) == {"read": 3, "inserted": 2, "rejected": 1}
    assert new.rows("SELECT id FROM t ORDER BY id") == [(1,), (7,)]
    new.sql("INSERT INTO p VALUES ('NaN', 8)")
    assert "the key x = nan stands in the table more than once" in str(made.run()["t"].error)
