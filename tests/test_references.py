"""Tables that refer to themselves and to each other, and rows that their constraints refuse."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Cli, Files, Place, document
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
each_kind = pytest.mark.parametrize("kind", KINDS)


def fill(place: Place, **tables: list[tuple[Any, ...]]) -> None:
    """Insert rows into tables of SQLite."""
    with place.engine.begin() as connection:
        for table, rows in tables.items():
            if rows:
                marks = ", ".join("?" * len(rows[0]))
                connection.exec_driver_sql(f"INSERT INTO {table} VALUES ({marks})", rows)


# --- a table that refers to itself -----------------------------------------------------------------------------------


@each_kind
@pytest.mark.parametrize("write", ["append", "merge", "truncate"])
@pytest.mark.parametrize("null", ["", "NOT NULL"])
@pytest.mark.parametrize("commit", ["step", "job"])
def test_rows_may_come_before_those_that_they_refer_to(
    places: Places, tmp_path: Path, kind: str, write: str, null: str, commit: str
) -> None:
    old, new, shuffled = places("sqlite"), places(kind), random.Random(3)
    staff = {n: n if n <= 3 else shuffled.choice([max(1, n // 2), n // 3 + 1]) for n in range(1, 301)}
    staff[50] = 9999  # nobody: with it go all below
    rows = shuffled.sample(sorted(staff.items()), len(staff))
    good = dict(staff)
    while gone := [n for n, boss in good.items() if boss not in good]:
        for n in gone:
            del good[n]
    old.sql("CREATE TABLE staff (id integer, boss integer)")
    fill(old, staff=rows)
    new.sql(
        f"CREATE TABLE staff (id integer PRIMARY KEY, boss integer {null}, "
        "CONSTRAINT staff_boss FOREIGN KEY (boss) REFERENCES staff (id))",
        "INSERT INTO staff VALUES (1000, 1000), (1001, 1000)",
    )
    if write != "append":
        new.sql("INSERT INTO staff VALUES (7, 1000)")
    body = (
        f'[defaults]\nwrite = "{write}"\ncommit = "{commit}"\nbatch_rows = 40\n'
        '[pipeline.staff]\nsource = "old:staff"\ntarget = "new:staff"\nkey = "id"'
    )
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    found = dict(new.rows("SELECT id, boss FROM staff WHERE id < 1000"))
    assert found == good
    assert run["staff"].tally.rejected == len(staff) - len(good) > 5
    reject = next(r for r in run["staff"].rejects().to_pylist() if r["row"]["id"] == "50")
    assert (reject["column"], reject["value"], reject["reason"]) == ("boss", "9999", "refused_by_target")
    assert reject["constraint"] == ("foreign key (boss)" if kind == "sqlite" else "staff_boss")
    assert new.rows("SELECT count(*) FROM staff WHERE id >= 1000") == [(0 if write == "truncate" else 2,)]
    if write == "merge":
        again = succeeded(job(tmp_path, body, old=old, new=new).run())
        assert again["staff"].tally.written == 0
        leaf = max(set(good) - set(good.values()))
        old.sql("UPDATE staff SET boss = 1 WHERE id = 4", f"DELETE FROM staff WHERE id IN ({leaf}, 50)")
        body += '\nmissing = "delete"'
        run = succeeded(job(tmp_path, body, old=old, new=new).run())
        tally = run["staff"].tally
        # MariaDB never lets go of a row that must refer to itself.
        assert (tally.updated, tally.inserted, tally.deleted) == (1, 0, 2 if kind == "mariadb" and null else 3)


@each_kind
@pytest.mark.parametrize(("settings", "boss", "name"), [
    ('matched = "keep"', None, "old"), ('newer_by = "seen"', None, "old"), ('not_matched = "ignore"', 2, "new"),
])  # fmt: skip
def test_what_the_target_keeps_refers_to_what_it_did(
    places: Places, tmp_path: Path, kind: str, settings: str, boss: int | None, name: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE s (id integer, boss integer, name text, seen integer)")
    fill(old, s=[(1, 2, "new", 1), (3, 4, "new", 9), (2, None, "new", 9), (4, 1, "new", 9)])
    new.sql(
        "CREATE TABLE s (id integer PRIMARY KEY, boss integer, name varchar(9), seen integer, "
        "CONSTRAINT own FOREIGN KEY (boss) REFERENCES s (id))",
        "INSERT INTO s VALUES (1, NULL, 'old', 5), (2, NULL, 'old', 5)",
    )
    body = f'[pipeline.s]\nsource = "old:s"\ntarget = "new:s"\nwrite = "merge"\nkey = "id"\n{settings}'
    succeeded(job(tmp_path, body, old=old, new=new).run())
    assert new.rows("SELECT boss, name FROM s WHERE id = 1") == [(boss, name)]
    there = [] if "ignore" in settings else [(3, 4), (4, 1)]
    assert new.rows("SELECT id, boss FROM s WHERE id > 2 ORDER BY id") == there


# --- tables that refer to each other ---------------------------------------------------------------------------------


def circle(kind: str, how: str) -> list[str]:
    """Districts with a keeper, and keepers with a district and a senior."""
    null, late = ("", "") if how == "nullable" else (" NOT NULL", " DEFERRABLE")
    own = "CONSTRAINT keeper_senior FOREIGN KEY (senior) REFERENCES keeper (no)"
    there = f"CONSTRAINT district_keeper FOREIGN KEY (keeper) REFERENCES keeper (no){late}"
    made = [
        f"CREATE TABLE district (no integer PRIMARY KEY, keeper integer{null}, name varchar(9)"
        + (f", {there})" if kind == "sqlite" else ")"),
        f"CREATE TABLE keeper (no integer PRIMARY KEY, district integer NOT NULL, senior integer, name varchar(9), {own}, "
        "CONSTRAINT keeper_district FOREIGN KEY (district) REFERENCES district (no))",
    ]
    return made if kind == "sqlite" else [*made, f"ALTER TABLE district ADD {there}"]


BOTH = """[defaults]\nwrite = "{write}"\ncommit = "{commit}"\nbatch_rows = {rows}
[pipeline.district]\nsource = "old:district"\ntarget = "new:district"\nkey = "no"
[pipeline.keeper]\nsource = "old:keeper"\ntarget = "new:keeper"\nkey = "no"\n"""

District, Keeper = dict[int, tuple[int | None, str]], dict[int, tuple[int, int | None, str]]


def closed(district: District, keeper: Keeper, was: tuple[District, Keeper], write: str) -> tuple[District, Keeper]:
    """What is to be there: of the rows the most that refer to each other, or to rows that are there and stay."""
    district, keeper = dict(district), dict(keeper)
    left = was if write != "truncate" else ({}, {})
    while True:
        districts, keepers = {*district, *left[0]}, {*keeper, *left[1]}
        bad = [n for n, (k, _) in district.items() if k is not None and k not in keepers]
        worse = [n for n, (d, s, _) in keeper.items() if d not in districts or (s is not None and s not in keepers)]
        if write == "append":
            bad, worse = [*bad, *(district.keys() & left[0])], [*worse, *(keeper.keys() & left[1])]
        if not bad and not worse:
            return {**left[0], **district}, {**left[1], **keeper}
        for n in set(bad):
            del district[n]
        for n in set(worse):
            del keeper[n]


@each_kind
@pytest.mark.parametrize("seed", range(9))
def test_tables_that_refer_to_each_other(places: Places, tmp_path: Path, kind: str, seed: int) -> None:
    chance = random.Random(f"{kind} {seed}")
    how = "nullable" if kind == "mariadb" or seed % 2 else "deferrable"
    write, commit = ["append", "merge", "truncate"][seed % 3], chance.choice(["step", "job"])
    districts, keepers = chance.randint(1, 12), chance.randint(1, 40)
    empty = 0.2 if how == "nullable" else 0
    district: District = {
        n: (None if chance.random() < empty else chance.randint(1, keepers + chance.choice([0, 0, 2])), f"d{n % 3}")
        for n in range(1, districts + 1)
    }
    keeper: Keeper = {
        n: (chance.randint(1, districts + (chance.random() < 0.1)),
            None if chance.random() < 0.3 else chance.randint(1, keepers + (chance.random() < 0.1)), f"k{n % 3}")
        for n in range(1, keepers + 1)
    }  # fmt: skip
    was: tuple[District, Keeper] = ({901: (901, "o")}, {901: (901, None, "o"), 902: (901, 901, "o")})
    if write != "append" or chance.random() < 0.4:
        was[0][1], was[1][2] = (901, "o"), (901, 902, "o")
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE district (no integer, keeper integer, name text)",
            "CREATE TABLE keeper (no integer, district integer, senior integer, name text)")  # fmt: skip
    fill(old, district=chance.sample([(n, *d) for n, d in district.items()], districts),
         keeper=chance.sample([(n, *k) for n, k in keeper.items()], keepers))  # fmt: skip
    new.sql(*circle(kind, how))
    late = {"sqlite": "PRAGMA defer_foreign_keys = ON", "postgresql": "SET CONSTRAINTS ALL DEFERRED"}
    first = [f"INSERT INTO district VALUES ({n}, {'NULL' if how == 'nullable' else k}, '{s}')"
             for n, (k, s) in was[0].items()]  # fmt: skip
    second = [f"INSERT INTO keeper VALUES ({n}, {d}, {s or 'NULL'}, '{name}')" for n, (d, s, name) in was[1].items()]
    third = [f"UPDATE district SET keeper = {k} WHERE no = {n}" for n, (k, _) in was[0].items()]
    new.sql(*([late[kind]] if how == "deferrable" else []), *first, *second, *third)
    rows = chance.choice([3, 7, 1000])
    made = job(tmp_path, BOTH.format(write=write, commit=commit, rows=rows), old=old, new=new)
    run = succeeded(made.run())
    found = ({n: (k, s) for n, k, s in new.rows("SELECT * FROM district")},
             {n: (d, s, name) for n, d, s, name in new.rows("SELECT * FROM keeper")})  # fmt: skip
    assert found == closed(district, keeper, was, write)
    assert run["keeper"].tally.read == keepers
    assert run["keeper"].tally.rejected == len(run["keeper"].rejects())
    if write == "merge":
        assert sum(step.tally.written for step in succeeded(made.run())) == 0


@each_kind
def test_a_circle_is_named_and_made(places: Places, tmp_path: Path, cli: Cli, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql(*circle("sqlite", "nullable"), "INSERT INTO district VALUES (1, NULL, 'a')",
            "INSERT INTO keeper VALUES (5, 1, 5, 'k')", "UPDATE district SET keeper = 5")  # fmt: skip
    body = BOTH.format(write="truncate", commit="step", rows=9)
    made = job(tmp_path, body, old=old, new=new)
    assert len(made.create()) == 2
    succeeded(made.run())
    assert new.rows("SELECT keeper, senior FROM district JOIN keeper ON keeper.no = keeper") == [(5, 5)]
    said = cli("check", "job.toml").stdout
    assert "keeper is filled in once keeper is loaded, in one transaction with it" in " ".join(said.split())
    (first, second) = document(cli("order", "job.toml", "--json"))
    assert (first["step"], first["open_references"][0]["columns"], second["open_references"]) == (
        "district", ["keeper"], []
    )  # fmt: skip
    assert cli("order", "job.toml", "--picture", "o.svg").returncode == 0
    assert "fills in what refers to it" in (tmp_path / "o.svg").read_text()
    only = succeeded(made.run(only=["district"]) if kind == "sqlite" else made.run())
    assert only["district"].tally.inserted == 1


def test_a_circle_that_cannot_be_broken_says_what_would_help(places: Places, tmp_path: Path) -> None:
    old, new = places("sqlite"), places("mariadb")
    old.sql(*circle("sqlite", "nullable"))
    new.sql(*circle("mariadb", "nullable"), "ALTER TABLE district MODIFY keeper integer NOT NULL")
    (problem,) = job(tmp_path, BOTH.format(write="merge", commit="step", rows=9), old=old, new=new).check()
    assert "district → keeper → district" in problem
    assert "ake keeper of district nullable, or its foreign key district_keeper deferrable" in problem
    assert "not_after" in problem
    left = job(
        tmp_path, BOTH.format(write="merge", commit="step", rows=9) + 'not_after = ["district"]', old=old, new=new
    )
    assert left.check() == []
    new.sql("ALTER TABLE district MODIFY keeper integer")
    (problem,) = job(tmp_path, BOTH.format(write="merge", commit="batch", rows=9), old=old, new=new).check()
    assert "ommit pipeline" in problem


@pytest.mark.parametrize(
    ("more", "what"),
    [
        ('not_after = ["nobody"]', 'there is no step "nobody"'),
        ('after = ["district"]\nnot_after = ["district"]', "district is named in after too"),
        ("not_after = 3", "list"),
    ],
)
def test_not_after_wrong_is_a_sentence_with_its_line(files: Files, cli: Cli, more: str, what: str) -> None:
    files.database("old.db", ";".join(circle("sqlite", "nullable")))
    files.database("new.db", ";".join(circle("sqlite", "nullable")))
    files.job(BOTH.format(write="merge", commit="step", rows=9) + more)
    problem = document(cli("check", "job.toml", "--json"))["problems"][0]
    assert what in problem["what"] + problem["remedy"]
    assert problem["line"] is not None


# --- rows that constraints refuse ------------------------------------------------------------------------------------


@each_kind
@pytest.mark.parametrize("write", ["append", "merge", "truncate"])
@pytest.mark.parametrize("commit", ["step", "batch", "job"])
def test_refused_rows_name_their_constraint_and_their_parent(
    places: Places, tmp_path: Path, cli: Cli, kind: str, write: str, commit: str
) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE reach (no integer PRIMARY KEY, name text)",
            "CREATE TABLE gate (no integer PRIMARY KEY, reach integer, code text, width decimal(5,2))")  # fmt: skip
    reaches = [(n, "much too long a name" if n == 3 else f"r{n}") for n in range(1, 9)]
    gates = [(n, n % 9 or None, "c7" if n in (20, 21) else f"c{n}", -1 if n % 40 == 5 else 4.5) for n in range(400)]
    fill(old, reach=reaches, gate=gates)
    new.sql(
        "CREATE TABLE reach (no integer PRIMARY KEY, name varchar(9))",
        "CREATE TABLE gate (no integer PRIMARY KEY, reach integer, code varchar(9) UNIQUE, width decimal(5,2), "
        "CONSTRAINT wide CHECK (width > 0), CONSTRAINT gate_reach FOREIGN KEY (reach) REFERENCES reach (no))",
    )
    body = (
        f'[defaults]\nwrite = "{write}"\ncommit = "{commit}"\nbatch_rows = 64\norder_by = ["no"]\n'
        '[pipeline.reaches]\nsource = "old:reach"\ntarget = "new:reach"\nkey = "no"\n'
        '[pipeline.gates]\nsource = "old:gate"\ntarget = "new:gate"\nkey = "no"\n'
    ).replace('order_by = ["no"]\n', "")
    if commit == "batch":
        body = body.replace('key = "no"\n', 'key = "no"\norder_by = ["no"]\n')
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    orphans = {n for n, reach, _, _ in gates if reach == 3}
    narrow = {n for n, _, _, width in gates if width < 0} - orphans
    rejects = run["gates"].rejects().to_pylist()
    by = {name: {int(r["row"]["no"]) for r in rejects if r["column"] == name} for name in ("reach", "width", "code")}
    assert by["width"] | by["reach"] == narrow | orphans
    assert by["code"] == {20, 21} - orphans - narrow
    assert {r["constraint"] for r in rejects if r["column"] == "width"} == {"wide"}
    assert {r["value"] for r in rejects if r["column"] == "reach"} == {"3"}
    assert new.rows("SELECT count(*) FROM gate") == [(400 - len(rejects),)]
    shown = cli("rejects", "--examples", "1").stdout
    assert "Rejected because another row was" in shown
    assert "reaches: name, too_long" in shown
    assert shown.count("the condition") == 2  # in the list of groups, and once for its group


@each_kind
@pytest.mark.parametrize("write", ["append", "merge"])
def test_a_row_refused_for_one_reason_takes_no_key_from_another(
    places: Places, tmp_path: Path, kind: str, write: str
) -> None:
    """Where two rows have a unique value, and the first is refused for something else, the second is loaded."""
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer, code text, n integer)")
    fill(old, t=[(1, "a", -1), (2, "a", 1), (3, "a", 2), (4, "b", 3), (5, "z", 4)])
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, code varchar(9), n integer CHECK (n > 0), UNIQUE (code))",
            "INSERT INTO t VALUES (9, 'z', 1)")  # fmt: skip
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "{write}"\nkey = "id"'
    succeeded(job(tmp_path, body, old=old, new=new).run())
    assert sorted(new.rows("SELECT id, code FROM t")) == [(2, "a"), (4, "b"), (9, "z")]


@each_kind
def test_a_merge_that_passes_values_on_is_not_refused(places: Places, tmp_path: Path, kind: str) -> None:
    """A unique value that a row gives up may be another's in the same load; triggers decide before constraints do."""
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer, code text)")
    fill(old, t=[(1, "x"), (2, "a"), (3, "a")])
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, code varchar(9) UNIQUE)", "INSERT INTO t VALUES (1, 'a')")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nwrite = "merge"\nkey = "id"'
    run = succeeded(job(tmp_path, body, old=old, new=new).run())
    assert sorted(new.rows("SELECT id, code FROM t")) == [(1, "x"), (2, "a")]
    assert run["t"].tally.rejected == 1


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_where_a_trigger_changes_rows_only_the_target_knows(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = places("sqlite"), places(kind)
    old.sql("CREATE TABLE t (id integer, n integer)")
    fill(old, t=[(n, -1 if n % 7 else -9) for n in range(50)])
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, n integer, CONSTRAINT big CHECK (n > 0))")
    turn = "NEW.n := CASE WHEN NEW.n = -1 THEN 1 ELSE NEW.n END"
    if kind == "postgresql":
        new.sql(f"CREATE FUNCTION turn() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN {turn}; RETURN NEW; END$$",
                "CREATE TRIGGER turn BEFORE INSERT ON t FOR EACH ROW EXECUTE FUNCTION turn()")  # fmt: skip
    else:
        new.sql(f"CREATE TRIGGER turn BEFORE INSERT ON t FOR EACH ROW SET {turn.replace(':=', '=')}")
    run = succeeded(job(tmp_path, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"', old=old, new=new).run())
    assert (run["t"].tally.inserted, run["t"].tally.rejected) == (42, 8)
    assert {reject["constraint"] for reject in run["t"].rejects().to_pylist()} == {"big"}


def test_a_reference_that_only_the_commit_would_check_refuses_rows(places: Places, tmp_path: Path) -> None:
    old, new = places("sqlite"), places("postgresql")
    old.sql("CREATE TABLE gate (no integer, reach integer)")
    fill(old, gate=[(n, n % 4) for n in range(20)])
    new.sql("CREATE TABLE reach (no integer PRIMARY KEY)", "INSERT INTO reach VALUES (0), (1), (2)",
            "CREATE TABLE gate (no integer PRIMARY KEY, reach integer REFERENCES reach DEFERRABLE INITIALLY DEFERRED)")  # fmt: skip
    for write in ("append", "merge"):
        body = f'[pipeline.g]\nsource = "old:gate"\ntarget = "new:gate"\nwrite = "{write}"\nkey = "no"'
        run = succeeded(job(tmp_path, body, old=old, new=new).run())
        assert {reject["value"] for reject in run["g"].rejects().to_pylist()} == {"3"}
        new.sql("DELETE FROM gate")


def test_without_the_rights_to_look_the_rows_are_searched_for(places: Places, tmp_path: Path) -> None:
    old, new = places("sqlite"), places("mariadb")
    old.sql("CREATE TABLE t (id integer, n integer)")
    fill(old, t=[(n, -1 if n % 7 == 0 else n) for n in range(50)])
    name = new.url.rpartition("/")[2]
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, n integer, CONSTRAINT big CHECK (n > 0))",
            "DROP USER IF EXISTS kanal_clerk@'127.0.0.1'", "CREATE USER kanal_clerk@'127.0.0.1'",
            f"GRANT SELECT, INSERT ON {name}.t TO kanal_clerk@'127.0.0.1'",
            f"GRANT CREATE, SELECT, INSERT, UPDATE, DELETE ON {name}.kanal_progress TO kanal_clerk@'127.0.0.1'")  # fmt: skip
    made = job(tmp_path, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"', old=old, new=new)
    path = tmp_path / "job.toml"
    path.write_text(path.read_text().replace("root@127.0.0.1", "kanal_clerk@127.0.0.1"))
    try:
        run = succeeded(type(made).read(path).run())
        assert (run["t"].tally.inserted, run["t"].tally.rejected) == (42, 8)
        assert {reject["constraint"] for reject in run["t"].rejects().to_pylist()} == {"big"}
    finally:
        new.sql("DROP USER kanal_clerk@'127.0.0.1'")
