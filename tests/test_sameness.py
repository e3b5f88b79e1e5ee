"""What counts as the same: two values of a column, two keys, two names in Kanal's own tables."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

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
