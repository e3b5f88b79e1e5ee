"""Tables change shape between two runs: what is remembered, what is said, and what is done about it."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from conftest import Cli, Files, Place, document
from kanal import Job
from kanal.core.shapes import ColumnShape, TableShape, changes
from kanal.core.types import holds, parse_type, wider
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
each_kind = pytest.mark.parametrize("kind", KINDS)


def shape(text: str, key: str = "id") -> TableShape:
    columns = []
    for part in text.split(", "):
        name, declared, *rest = part.split(" ")
        columns.append(ColumnShape(name, declared, None if declared == "thing" else declared, not rest))
    return TableShape(tuple(columns), tuple(key.split()))


@pytest.mark.parametrize(
    ("before", "now", "said"),
    [
        ("id integer", "id integer", []),
        ("id integer, a text", "a text, id integer", []),  # the order does not count
        ("id integer", "id integer, a text", ["a (text) is new"]),
        ("id integer, a text", "id integer", ["a (text) was dropped"]),
        ("id integer, a text, b date", "id integer, c text, b date", ["a seems to be called c now"]),
        ("id integer, a text, b date", "id integer, b date, c text", ["c (text) is new", "a (text) was dropped"]),
        ("id integer, lift_mm integer, r text, b date", "id integer, lift integer, b date",
         ["lift_mm seems to be called lift now", "r (text) was dropped"]),
        ("id integer, a text", "id integer, c date", ["c (date) is new", "a (text) was dropped"]),
        ("id integer, v varchar(20)", "id bigint, v varchar(10)",
         ["id was widened from integer to bigint", "v was narrowed from varchar(20) to varchar(10)"]),
        ("id integer, v varchar(20)", "id integer, v text", ["v was widened from varchar(20) to text"]),
        ("id integer, d decimal(9,2)", "id integer, d decimal(8,3)", ["d is decimal(8,3) now, was decimal(9,2)"]),
        ("id integer, d decimal(9,2)", "id integer, d thing", ["d is thing now, was decimal(9,2)"]),
        ("id integer, a text not", "id integer, a text", ["a may be NULL now"]),
        ("id integer, a text", "id integer, a text not", ["a is NOT NULL now"]),
    ],
)  # fmt: skip
def test_what_has_changed(before: str, now: str, said: list[str]) -> None:
    assert [change.what for change in changes(shape(before), shape(now))] == said
    assert TableShape.from_json(shape(now).to_json()) == shape(now)


def test_a_key_that_has_changed() -> None:
    one, other = shape("id integer, a text", "id"), shape("id integer, a text", "id a")
    assert [change.what for change in changes(one, other)] == ["the primary key is (id, a) now, was (id)"]


@pytest.mark.parametrize("one", ["smallint", "bigint", "decimal(9,2)", "decimal(4,4)", "varchar(9)", "text", "real"])
@pytest.mark.parametrize("other", ["integer", "decimal(30,10)", "varchar(12)", "double precision", "date"])
def test_the_wider_of_two_types_holds_both(one: str, other: str) -> None:
    made = wider(parse_type(one), parse_type(other))
    families = {parse_type(one).family.value, parse_type(other).family.value}
    assert (made is None) == (families not in ({"text"}, {"integer"}, {"decimal"}, {"integer", "decimal"},
                                               {"double precision"}))  # fmt: skip
    assert made is None or all(holds(made, parse_type(each)) for each in (one, other))


OLD = "id integer PRIMARY KEY, name varchar(20) NOT NULL, lift_mm integer, note text"
NEW = "id bigint PRIMARY KEY, name varchar(20) DEFAULT 'none' NOT NULL, lift smallint"
CHANGED = {
    "sqlite": ["DROP TABLE lock", "CREATE TABLE lock (id integer PRIMARY KEY, name varchar(60), lift_mm integer, "
               "keeper text, depth decimal(6,2))"],
    "postgresql": ["ALTER TABLE lock DROP note, ADD keeper text, ADD depth decimal(6,2)",
                   "ALTER TABLE lock ALTER name TYPE varchar(60), ALTER name DROP NOT NULL"],
    "mariadb": ["ALTER TABLE `lock` DROP note, ADD keeper text, ADD depth decimal(6,2), MODIFY name varchar(60)"],
}  # fmt: skip


@each_kind
@pytest.mark.parametrize("target", KINDS)
def test_a_source_that_has_changed(places: Places, files: Files, cli: Cli, kind: str, target: str) -> None:
    old, new = places(kind), places(target)
    table = "`lock`" if kind == "mariadb" else "lock"
    old.sql(f"CREATE TABLE {table} ({OLD})", f"INSERT INTO {table} VALUES (1, 'Vlietmond', 300, 'x')")
    new.sql(f"CREATE TABLE gate ({NEW})")
    if target == "mariadb":
        new.sql("ALTER TABLE gate MODIFY name varchar(20) NOT NULL DEFAULT 'a, (b)' COMMENT 'its ''name'")
    columns = '[pipeline.gate.columns]\nid = "id"\nname = "name"\nlift = "lift_mm"  # in mm\n\n# the end'
    text = f'[pipeline.gate]\nsource = "old:lock"\ntarget = "new:gate"\nwrite = "truncate"\n{columns}'
    made = job(files.folder, text, old=old, new=new)
    succeeded(made.run())
    quiet = cli("check", "job.toml").stdout
    assert "has changed" not in quiet and "note" in quiet  # which went nowhere from the first

    old.sql(*CHANGED[kind], f"INSERT INTO {table} (id, name, keeper, depth) VALUES (2, '{'x' * 30}', 'Hanne', 2.25)")
    said = " ".join(cli("check", "job.toml").stdout.split()).replace("VARCHAR", "varchar").replace("TEXT", "text")
    assert "the source has changed since run 1" in said
    assert "name was widened from varchar(20) to varchar(60), and name (varchar(20)) does not hold all of it" in said
    assert "keeper (text) is new, which goes nowhere" in said and "note (text) was dropped, and is not used" in said
    assert ("rows without it are rejected, since name is NOT NULL" in said) and "depth (" in said

    drafted = cli("draft", "old", "new", "--job", "job.toml", "--like", "lock", "--into", "job.toml")
    assert "pipeline gate takes new columns: keeper, depth" in drafted.stderr
    assert "kanal create --alter job.toml" in drafted.stderr
    whole = (files.folder / "job.toml").read_text()
    assert 'lift = "lift_mm"  # in mm\nkeeper = "keeper"\ndepth = "depth"\n' in whole and whole.rstrip()[-3:] == "end"
    again = cli("draft", "old", "new", "--job", "job.toml", "--like", "lock", "--into", "job.toml")
    assert again.stderr.strip() == "kanal: job.toml has all of these tables already"

    answer = document(cli("create", "job.toml", "--alter", "--json"))
    done = {one["column"] for one in answer["altered"]}
    left = {one["column"] for one in answer["differences"]}
    assert done == ({"keeper", "depth"} if target == "sqlite" else {"keeper", "depth", "name", "lift"})
    assert left == ({"name", "lift"} if target == "sqlite" else set())
    if target == "mariadb":
        ((_, now),) = new.rows("SHOW CREATE TABLE gate")
        assert "NOT NULL DEFAULT 'a, (b)' COMMENT 'its ''name'" in now and "varchar(60)" in now
    run = Job.read(files.folder / "job.toml").run()
    succeeded(run)
    tally, rows = run["gate"].tally, 1 if kind == "sqlite" else 2
    assert (tally.inserted, tally.rejected) == ((rows - 1, 1) if target == "sqlite" else (rows, 0))
    assert "the source has changed since run 1" in (run["gate"].note or "")
    assert "has changed" not in cli("check", "job.toml").stdout  # this run saw it so


@each_kind
def test_a_column_that_is_gone_is_said_with_what_came(places: Places, files: Files, cli: Cli, kind: str) -> None:
    place = places(kind)
    place.sql("CREATE TABLE a (id integer PRIMARY KEY, lift_mm integer)", "CREATE TABLE b (id integer, lift integer)")
    columns = '[pipeline.b.columns]\nid = "id"\nlift = "lift_mm"'
    made = job(files.folder, f'[pipeline.b]\nsource = "p:a"\ntarget = "p:b"\n{columns}', p=place)
    succeeded(made.run())
    place.sql("ALTER TABLE a RENAME COLUMN lift_mm TO lift_in_mm")
    checked = cli("check", "job.toml")
    assert checked.returncode == 2 and "lift_mm seems to be called lift_in_mm now" in " ".join(checked.stdout.split())
    ran = cli("run", "job.toml")
    assert ran.returncode == 2 and "lift_mm seems to be called lift_in_mm now" in ran.stderr
    assert "seems to be called" in " ".join(cli("runs", "2").stdout.split())


@each_kind
def test_a_column_that_was_carried_by_its_name(places: Places, files: Files, cli: Cli, kind: str) -> None:
    place = places(kind)
    for name in ("a", "b"):
        place.sql(f"CREATE TABLE {name} (id integer PRIMARY KEY, lift integer, note integer)")
    made = job(files.folder, '[pipeline.b]\nsource = "p:a"\ntarget = "p:b"', p=place)
    succeeded(made.run())
    place.sql("ALTER TABLE a RENAME COLUMN lift TO lift_mm", "ALTER TABLE a DROP COLUMN note")
    said = " ".join(cli("check", "job.toml").stdout.split())
    assert "lift seems to be called lift_mm now, which goes nowhere; lift of the target gets no value any more" in said
    assert "was dropped, note of the target gets no value any more" in said


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_two_steps_need_one_column_wider(places: Places, files: Files, cli: Cli, kind: str) -> None:
    place = places(kind)
    place.sql("CREATE TABLE a (n varchar(40))", "CREATE TABLE b (n varchar(30))", "CREATE TABLE t (n varchar(10))")
    steps = "\n".join(f'[pipeline.{name}]\nsource = "p:{name}"\ntarget = "p:t"' for name in "ab")
    job(files.folder, steps, p=place)
    assert "VARCHAR(10) → VARCHAR(40)" in cli("create", "job.toml", "--alter").stdout
    assert cli("create", "job.toml", "--alter").stdout.startswith("✓ every target table holds")


def test_what_would_change_values_is_only_shown(places: Places, files: Files, cli: Cli) -> None:
    place = places("postgresql")
    place.sql("CREATE TABLE a (n timestamp, v varchar(9))", "CREATE TABLE t (n date, v varchar(5))",
              "CREATE VIEW w AS SELECT v FROM t")  # fmt: skip
    job(files.folder, '[pipeline.a]\nsource = "p:a"\ntarget = "p:t"', p=place)
    altered = cli("create", "job.toml", "--alter")
    assert altered.returncode == 1
    assert "It would turn DATE into TIMESTAMP" in altered.stdout and "used by a view" in altered.stdout
    assert cli("create", "job.toml", "--alter", "--show").returncode == 2
    assert {one["left"][:8] for one in document(cli("create", "job.toml", "--alter", "--json"))["differences"]}
