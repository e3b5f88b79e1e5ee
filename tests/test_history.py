"""Histories: every version of a row, from when until when it was valid."""

from __future__ import annotations

import datetime as dt
import random
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
import sqlalchemy as sa

from conftest import Cli, Files, Place, document
from kanal.core.versioned_lookups import VersionedLookupTable
from test_references import fill
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
each_kind = pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb", "firebird", "duckdb"])
MOMENTS = {
    "firebird": "timestamp",
    "duckdb": "timestamp",
    "sqlite": "timestamp",
    "postgresql": "timestamp",
    "mariadb": "datetime",
}
BODY = """[pipeline.s]
source = "old:s"
target = "new:s"
write = "history"
key = "licence"
skip = ["at", "seq"]
history = {{ {history} }}
{more}
"""
WHOLE = 'from = "valid_from", until = "valid_to", current = "is_current", at = "at", overwrite = "phone"'


@dataclass
class Version:
    begins: str
    ends: str | None
    name: str | None
    phone: str | None


class Model:
    """The same, plainly: one change after the other."""

    def __init__(self) -> None:
        self.keys: dict[int, list[Version]] = {}

    def change(self, changes: list[tuple[int, str, str | None, str | None]]) -> None:
        for licence, at, name, phone in sorted(changes, key=lambda one: one[:2]):
            versions = self.keys.setdefault(licence, [])
            newest = max((version.begins for version in versions), default="")
            kept = next((version.phone for version in versions if version.begins == newest), None)
            before = [version for version in versions if version.begins < at]
            same = next((version for version in versions if version.begins == at), None)
            valid = next((v for v in before if v.ends is None or v.ends > at), None)
            after = min((version.begins for version in versions if version.begins > at), default=None)
            if same is not None:
                same.name = name
            elif valid is None or valid.name != name:
                versions.append(Version(at, valid.ends if valid is not None else after, name, phone))
                if valid is not None:
                    valid.ends = at
                versions.sort(key=lambda version: version.begins)
            for version in versions:
                version.phone = phone if at >= newest else kept

    def close(self, left: set[int], moment: str) -> None:
        for licence, versions in self.keys.items():
            if licence not in left and versions[-1].ends is None:
                versions[-1].ends = moment

    def rows(self) -> list[tuple[Any, ...]]:
        return sorted(
            (licence, v.begins, v.ends, v.name, v.phone, v.ends is None)
            for licence, vs in self.keys.items()
            for v in vs
        )


def made(place: Place, moment: str, flag: str, unique: bool) -> None:
    place.sql(
        f"CREATE TABLE s (licence integer NOT NULL, name varchar(9), phone varchar(9), valid_from {moment} NOT NULL, "
        f"valid_to {moment}, is_current {flag} NOT NULL, PRIMARY KEY (licence, valid_from))"
    )
    if unique:
        place.sql("CREATE UNIQUE INDEX one ON s (licence) WHERE valid_to IS NULL")


def stands(place: Place) -> list[tuple[Any, ...]]:
    def text(value: Any) -> str | None:
        if isinstance(value, dt.datetime):
            value = value.replace(tzinfo=None)
        return None if value is None else str(value)[:19]

    rows = place.rows("SELECT licence, valid_from, valid_to, name, phone, is_current FROM s")
    found = [(n, text(f), text(u), name, phone, bool(c)) for n, f, u, name, phone, c in rows]
    return sorted(found, key=lambda row: (row[:2], row[2] is None))


#: Seeds of cases: fewer of those databases that are reached by a general way.
CASES = [("sqlite", 6), ("postgresql", 6), ("mariadb", 6), ("firebird", 2), ("duckdb", 2)]


@pytest.mark.parametrize(("kind", "seed"), [(kind, seed) for kind, seeds in CASES for seed in range(seeds)])
def test_a_history_is_what_the_changes_make_of_it_one_by_one(
    places: Places, tmp_path: Path, kind: str, seed: int
) -> None:
    chance = random.Random(f"history {kind} {seed}")
    commit = ["step", "batch", "job", "step"][seed % 4]
    rows, flag = chance.choice([3, 1000]), chance.choice(["boolean", "integer"])
    of_days = seed == 5
    old, new, model = places("sqlite"), places(kind), Model()
    old.sql("CREATE TABLE s (seq integer PRIMARY KEY, licence integer, name text, phone text, at text)")
    made(new, "date" if of_days else MOMENTS[kind], flag, unique=kind in ("sqlite", "postgresql"))
    more = f'commit = "{commit}"\nbatch_rows = {rows}\norder_by = "seq"'
    load = job(tmp_path, BODY.format(history=WHOLE, more=more), old=old, new=new)
    for _ in range(6):
        changes = {}
        for _ in range(chance.randint(1, 14)):
            day = f"2025-01-{chance.randint(1, 20):02d}" + ("" if of_days else " 12:00:00")
            changes[chance.randint(1, 4), day] = (chance.choice(["a", "b", None]), chance.choice(["1", "2", None]))
        given = chance.sample([(k, at, *values) for (k, at), values in changes.items()], len(changes))
        old.sql("DELETE FROM s")
        fill(old, s=[(n, k, name, phone, at) for n, (k, at, name, phone) in enumerate(given)])
        run = succeeded(load.run())
        with sqlite3.connect(tmp_path / "kanal-runs.db") as log:
            asked = "SELECT read FROM kanal_batch WHERE run = ? ORDER BY batch"
            parts = [count for (count,) in log.execute(asked, (run.run,))] if commit == "batch" else [len(given)]
        left = list(given)
        for count in parts:
            model.change(left[:count])
            left = left[count:]
        tally = run["s"].tally
        assert stands(new) == model.rows(), tally
        assert tally.read == len(given) == tally.inserted + tally.updated + tally.unchanged
        if commit != "batch":  # the same changes again make nothing new
            again = succeeded(load.run())["s"].tally
            assert (again.inserted, again.updated, again.closed) == (0, 0, 0)
            assert stands(new) == model.rows()


@each_kind
@pytest.mark.parametrize("flag", ["boolean", "integer"])
def test_what_the_source_no_longer_has_is_closed_and_may_come_back(
    places: Places, tmp_path: Path, cli: Cli, kind: str, flag: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (licence integer, name text, phone text)")
    fill(old, s=[(1, "a", "1"), (2, "b", "2"), (3, "c", "3")])
    made(new, {"mariadb": "datetime(6)"}.get(kind, "timestamp"), flag, unique=False)
    history = 'from = "valid_from", until = "valid_to", current = "is_current"'
    body = BODY.format(history=history, more='missing = "delete"').replace('skip = ["at", "seq"]\n', "")
    load = job(tmp_path, body, old=old, new=new)
    assert succeeded(load.run())["s"].tally.inserted == 3
    assert document(cli("compare", "job.toml", "--json"))[0]["differs"] is False
    old.sql("DELETE FROM s WHERE licence = 2", "UPDATE s SET name = 'C' WHERE licence = 3")
    tally = succeeded(load.run())["s"].tally
    assert (tally.inserted, tally.unchanged, tally.closed, tally.deleted) == (1, 1, 1, 1)
    assert document(cli("compare", "job.toml", "--json"))[0]["differs"] is False
    old.sql("INSERT INTO s VALUES (2, 'b', '2')")
    assert document(cli("compare", "job.toml", "--json"))[0]["missing"] == 1
    tally = succeeded(load.run())["s"].tally
    assert (tally.inserted, tally.unchanged, tally.closed) == (1, 2, 0)
    versions = [row for row in stands(new) if row[0] == 2]
    assert sorted(row[2] is None for row in versions) == [False, True]
    assert succeeded(load.run())["s"].tally.unchanged == 3
    old.sql("DELETE FROM s")
    run = succeeded(load.run())
    assert (run["s"].tally.closed, run["s"].tally.deleted) == (0, 0)
    assert "no rows" in str(run["s"].note)


@each_kind
def test_a_change_that_does_not_fit_is_a_reject_and_can_be_replayed(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (licence integer, name text, phone text, at text)")
    if kind == "duckdb":
        pytest.skip("it keeps texts of any length")
    made(new, MOMENTS[kind], "boolean", unique=False)
    new.sql("CREATE TABLE bad (n integer)")
    fill(old, s=[(1, "a", "1", "2025-01-01 00:00:00"), (1, "too long for it", "1", "2025-01-03 00:00:00"),
                 (1, "c", "1", "2025-01-05 00:00:00"), (2, "x", "1", None)])  # fmt: skip
    body = BODY.format(history=WHOLE, more="").replace('skip = ["at", "seq"]', 'skip = "at"')
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert {reject["reason"] for reject in run["s"].rejects().to_pylist()} == {"too_long", "null_not_allowed"}
    cut = (
        body
        + '[pipeline.s.columns]\nname = { from = "name", too_long = "cut" }\nlicence = "licence"\nphone = "phone"\n'
    )
    replayed = job(tmp_path, cut, old=old, new=new).replay(1)
    assert replayed["s"].tally.inserted == 1
    assert [(row[1][:10], row[2] and row[2][:10], row[3]) for row in stands(new)] == [
        ("2025-01-01", "2025-01-03", "a"), ("2025-01-03", "2025-01-05", "too long "), ("2025-01-05", None, "c"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("history", "more", "what"),
    [
        (None, "", "it is not said which columns hold it"),
        ('from = "valid_from"', "", "until"),
        ('from = "valid_fro", until = "valid_to"', "", 'no column "valid_fro"'),
        ('from = "name", until = "valid_to"', "", "take a date or a timestamp"),
        ('from = "valid_from", until = "name"', "", "give both one type"),
        ('from = "valid_from", until = "valid_from"', "", "has another part already"),
        ('from = "valid_from", until = "valid_to", current = "name"', "", "take a boolean or an integer"),
        ('from = "valid_from", until = "valid_to", overwrite = "licence"', "", "is in the key"),
        ('from = "valid_from", until = "valid_to", at = "nothing"', "", "nothing"),
        ('from = "valid_from", until = "valid_to", when = 3', "", "when"),
        ('from = "valid_from", until = "valid_to"', 'matched = "keep"', 'cannot be combined with write = "history"'),
        (
            'from = "valid_from", until = "valid_to"',
            'delete_when = "name IS NULL"',
            'cannot be combined with write = "history"',
        ),
        ('from = "valid_from", until = "valid_to"', 'write = "merge"', "keeps one"),
    ],
)
def test_wrong_keys_are_a_sentence_with_their_line(
    files: Files, cli: Cli, history: str | None, more: str, what: str
) -> None:
    files.database("old.db", "CREATE TABLE s (licence integer NOT NULL, name text)")
    files.database("new.db", "CREATE TABLE s (licence integer, name text, valid_from timestamp, valid_to timestamp)")
    body = BODY.format(history=history or "", more=more).replace('skip = ["at", "seq"]\n', "")
    if history is None:
        body = body.replace("history = {  }\n", "")
    if "write" in more:
        body = body.replace('write = "history"\n', "")
    files.job(body)
    problems = document(cli("check", "job.toml", "--json"))["problems"]
    found = [p for p in problems if what in p["what"] + p["remedy"] + p["place"]]
    assert found, problems
    assert found[0]["line"] is not None


# --- looking up the version of a moment ------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(6))
def test_the_version_of_a_moment_is_found(seed: int) -> None:
    chance = random.Random(seed)
    keys = [str, int][seed % 2]
    versions: list[tuple[Any, int, int | None, int]] = []
    for number in range(30):
        cuts = sorted(chance.sample(range(100), chance.randint(1, 6)))
        for begins, ends in zip(cuts, [*cuts[1:], None], strict=True):
            gap = chance.random() < 0.2
            until = ends if ends is None and not gap else (begins + 1 if gap else ends)
            versions.append((keys(number), begins, until, len(versions)))
    chance.shuffle(versions)
    columns = list(zip(*versions, strict=True))
    moments = pa.timestamp("us") if seed < 3 else pa.date32()
    kind = pa.string() if keys is str else pa.int64()
    arrays = {
        "k": pa.array(columns[0], kind), "v": pa.array(columns[3]),
        **{name: pa.array(columns[place], pa.int64() if seed < 3 else pa.int32()).cast(moments)
           for place, name in ((1, "f"), (2, "u"))},
    }  # fmt: skip
    table = VersionedLookupTable("t", arrays, ["k"], ("f", "u"))
    asked = [(keys(chance.randint(0, 32)), chance.choice([None, *range(-1, 102)])) for _ in range(500)]
    probes = [pa.array([key for key, _ in asked], kind),
              pa.array([at for _, at in asked], pa.int64() if seed < 3 else pa.int32()).cast(moments)]  # fmt: skip
    rows, found = table.find(probes)
    got = table.take("v", rows, found)[0].to_pylist()
    assert got == [
        next((v for k, f, u, v in versions if at is not None and k == key and f <= at and (u is None or at < u)), None)
        for key, at in asked
    ]


@each_kind
@pytest.mark.parametrize("said", ['"day"', '{ at = "day", from = "valid_from", until = "valid_to" }'])
def test_a_look_up_takes_the_version_that_was_valid(places: Places, tmp_path: Path, kind: str, said: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (licence integer, name text, phone text, at text)",
            "CREATE TABLE p (nr integer, licence integer, day text)")  # fmt: skip
    fill(old, s=[(1, "early", "1", "2025-01-01 00:00:00"), (1, "late", "1", "2025-02-01 00:00:00")],
         p=[(1, 1, "2025-01-31 23:59:59"), (2, 1, "2025-02-01 00:00:00"), (3, 1, "2024-12-31 00:00:00"), (4, 1, None)])  # fmt: skip
    made(new, MOMENTS[kind], "boolean", unique=False)
    new.sql("CREATE TABLE p (nr integer PRIMARY KEY, name varchar(9))")
    history = BODY.format(history=WHOLE, more="").replace('skip = ["at", "seq"]', 'skip = "at"')
    day = "CAST(day AS timestamp)"
    body = history + (
        '[pipeline.p]\nsource = "old:p"\ntarget = "new:p"\n[pipeline.p.columns]\nnr = "nr"\nname = "s.name"\n'
        f'[pipeline.p.lookup.s]\ntable = "new:s"\non = {{ licence = "licence" }}\nas_of = {said.replace("day", day)}\n'
    )
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert sorted(new.rows("SELECT nr, name FROM p")) == [(1, "early"), (2, "late")]
    assert "valid at 2024-12-31" in " ".join(run["p"].rejects()["message"].to_pylist())
    if "from" in said:
        body = body.replace('valid_to" }\n', 'name" }\n')
        problems = job(tmp_path, body, old=old, new=new).check()
        assert any("name a date or a timestamp" in problem.lower() for problem in problems)


@each_kind
def test_a_created_history_numbers_its_versions(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v varchar(9))", "INSERT INTO s VALUES (1, 'a'), (2, 'b')")
    body = """[pipeline.t]
        source = "old:s"
        target = "new:t"
        key = "k"
        write = "history"
        create = "missing"
        history = { from = "since", until = "ended", surrogate = "version" }
    """
    load = job(tmp_path, body, old=old, new=new)
    assert counts(succeeded(load.run())["t"]) == {"read": 2, "inserted": 2}
    old.sql("UPDATE s SET v = 'c' WHERE k = 1")
    assert counts(succeeded(load.run())["t"]) == {"read": 2, "inserted": 1, "unchanged": 1, "closed": 1}
    numbers = [row[0] for row in new.rows("SELECT version FROM t")]
    assert len(set(numbers)) == 3
    assert None not in numbers
    with pytest.raises(sa.exc.SQLAlchemyError):  # the number is the primary key
        new.sql("INSERT INTO t (version, k, since) SELECT version, k + 50, since FROM t")
    with pytest.raises(sa.exc.SQLAlchemyError):  # a key has one version that begins at a moment
        new.sql("INSERT INTO t (k, since) SELECT k, since FROM t")


def test_columns_of_a_history_are_checked(tmp_path: Path, places: Places) -> None:
    old, new = places("sqlite"), places("sqlite")
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v varchar(9))")
    new.sql("CREATE TABLE t (k integer, v varchar(9), nr integer, since timestamp, ended timestamp)")
    body = """[pipeline.t]
        source = "old:s"
        target = "new:t"
        key = "k"
        write = "history"
        history = { from = "since", until = "ended", surrogate = "nr" }
        columns.ended = "NULL"
        same = "*"
    """
    problems = " ".join(job(tmp_path, body, old=old, new=new).check())
    assert 't does not number its rows in "nr"' in problems
    assert 'the history fills "ended" by itself' in problems


@each_kind
@pytest.mark.parametrize("at", ["", 'at = "at", '])
def test_a_history_is_created_and_a_key_comes_back_with_an_old_date(
    places: Places, tmp_path: Path, kind: str, at: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (k integer PRIMARY KEY, v text, at timestamp)")
    rows = {k: f"INSERT INTO s VALUES ({k}, '{k}', '2020-01-0{k} 10:00:00')" for k in (1, 2, 3)}
    old.sql(*rows.values())
    body = f"""[pipeline.t]
        source = "old:s"
        target = "new:t"
        key = "k"
        write = "history"
        missing = "delete"
        create = "missing"
        skip = ["at"]
        history = {{ {at}from = "since", until = "ended", current = "is_current" }}
        columns.v = {{ from = "v", type = "varchar(9)" }}
        same = "*"
    """
    load = job(tmp_path, body, old=old, new=new)
    assert counts(succeeded(load.run())["t"]) == {"read": 3, "inserted": 3}
    with pytest.raises(sa.exc.SQLAlchemyError):
        new.sql("INSERT INTO t VALUES ('9', 9, NULL, NULL, NULL)")
    old.sql("DELETE FROM s WHERE k = 1")
    assert counts(succeeded(load.run())["t"]) == {"read": 2, "unchanged": 2, "deleted": 1}
    old.sql(rows[1])
    for expected in ({"read": 3, "inserted": 1, "unchanged": 2}, {"read": 3, "unchanged": 3}):
        assert counts(succeeded(load.run())["t"]) == expected
        versions = new.rows("SELECT since, ended FROM t WHERE k = 1 ORDER BY since")
        assert len(versions) == 2
        assert versions[0][1] <= versions[1][0]
        assert versions[1][1] is None
        assert len(new.rows("SELECT k FROM t WHERE ended IS NULL")) == 3
    old.sql("UPDATE s SET v = 'x', at = '2020-02-01 10:00:00' WHERE k = 2")
    assert counts(succeeded(load.run())["t"]) == {"read": 3, "inserted": 1, "unchanged": 2, "closed": 1}
