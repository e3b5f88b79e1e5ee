"""Loads of what is new: watermarks, overlaps, windows, late and missing change values, a two-way exchange."""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, Place, document
from kanal import KanalError
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb", "other"]
TYPES = {
    "sqlite": {"timestamp": "timestamp", "tz": "timestamp with time zone", "date": "date", "number": "integer"},
    "postgresql": {"timestamp": "timestamp", "tz": "timestamptz", "date": "date", "number": "bigint"},
    "mariadb": {"timestamp": "datetime(6)", "tz": "timestamp(6)", "date": "date", "number": "bigint"},
}
TYPES["other"] = TYPES["postgresql"]
VALUES = {
    "timestamp": ["2025-03-01 10:00:00", "2025-03-02 10:00:00.5", "2025-03-03 10:00:00", "2025-03-04 10:00:00"],
    "tz": ["2025-03-01 10:00:00+00:00", "2025-03-02 10:00:00+00:00", "2025-03-03 10:00:00+00:00", "2025-03-04 10:00:00+00:00"],
    "date": ["2025-03-01", "2025-03-02", "2025-03-03", "2025-03-04"],
    "number": ["9", "10", "100", "1000"],
}  # fmt: skip
BODY = """
    [pipeline.t]
    source = "old:t"
    target = "new:t"
    write = "{write}"
    key = "id"
    since = {since}
"""


def tables(places: Places, kind: str, change: str, rows: int = 3) -> tuple[Place, Place]:
    old, new = places(kind), places(kind)
    declared = TYPES[kind][change]
    old.sql(f"CREATE TABLE t (id integer PRIMARY KEY, changed {declared} NULL)")
    new.sql(f"CREATE TABLE t (id integer, changed {declared} NULL, PRIMARY KEY (id))")
    for row, value in enumerate(VALUES[change][:rows]):
        add(old, row, value)
    return old, new


def add(place: Place, row: int, value: str) -> None:
    value = value.replace("+00:00", "") if place.kind == "mariadb" else value
    if place.kind == "mariadb":
        place.sql("SET time_zone = '+00:00'", f"INSERT INTO t (id, changed) VALUES ({row}, '{value}')")
    else:
        place.sql(f"INSERT INTO t (id, changed) VALUES ({row}, '{value}')")


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("change", VALUES)
def test_only_what_is_new_is_loaded(places: Places, tmp_path: Path, kind: str, change: str) -> None:
    old, new = tables(places, kind, change)
    made = job(tmp_path, BODY.format(write="append", since='"changed"'), old=old, new=new)
    assert counts(succeeded(made.run())["t"]) == {"read": 3, "inserted": 3}
    (watermark,) = made.watermarks()
    assert (watermark.step, watermark.watermark is not None and watermark.watermark[:19]) == (
        "t",
        VALUES[change][2][:19],
    )
    assert counts(succeeded(made.run())["t"]) == {}
    add(old, 3, VALUES[change][3])
    run = succeeded(made.run())["t"]
    assert counts(run) == {"read": 1, "inserted": 1}
    assert f"read: changed > {watermark.watermark}" in str(run.note)
    assert new.rows("SELECT count(*) FROM t") == [(4,)]


@pytest.mark.parametrize("kind", KINDS[:3])
def test_an_overlap_brings_late_arrivals_and_a_merge_takes_what_has_no_change_value(
    places: Places, tmp_path: Path, kind: str
) -> None:
    old, new = tables(places, kind, "timestamp")
    since = '{ column = "changed", first = 2025-03-02, overlap = "1 day" }'
    made = job(tmp_path, BODY.format(write="merge", since=since), old=old, new=new)
    assert counts(succeeded(made.run())["t"]) == {"read": 2, "inserted": 2}
    add(old, 7, "2025-03-02 11:00:00")  # late, within a day of the watermark
    add(old, 8, "2025-03-01 11:00:00")  # too late
    old.sql("INSERT INTO t VALUES (9, NULL)")
    assert counts(succeeded(made.run())["t"]) == {"read": 4, "inserted": 2, "unchanged": 2}
    assert [row[0] for row in new.rows("SELECT id FROM t ORDER BY id")] == [1, 2, 7, 9]
    (watermark,) = made.watermarks()
    assert str(watermark.watermark)[:10] == "2025-03-03"


def test_an_append_rejects_what_has_no_change_value(places: Places, tmp_path: Path) -> None:
    old, new = tables(places, "sqlite", "timestamp")
    old.sql("INSERT INTO t VALUES (9, NULL)", "INSERT INTO t VALUES (10, 'yesterday')")
    made = job(tmp_path, BODY.format(write="append", since='"changed"'), old=old, new=new)
    for read in (5, 2):
        step = made.run()["t"]
        assert (step.tally.read, step.tally.rejected) == (read, 2)
        assert step.rejects()["reason"].to_pylist() == ["null_not_allowed", "not_a_date"]


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_watermarks_in_a_table_of_the_former_name_are_taken_over(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = tables(places, kind, "number")
    made = job(tmp_path, BODY.format(write="append", since='"changed"'), old=old, new=new)
    assert counts(succeeded(made.run())["t"]) == {"read": 3, "inserted": 3}
    new.sql("CREATE TABLE kanal_mark AS SELECT job, 't' AS step, watermark AS mark, moved FROM kanal_watermark")
    new.sql("DROP TABLE kanal_watermark")
    assert [state.watermark for state in made.watermarks()] == ["100"]
    add(old, 3, "1000")
    assert counts(succeeded(made.run())["t"]) == {"read": 1, "inserted": 1}
    assert [state.watermark for state in made.watermarks()] == ["1000"]
    with pytest.raises(Exception, match="kanal_mark"):
        new.rows("SELECT * FROM kanal_mark")


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_failed_load_leaves_the_watermark(places: Places, tmp_path: Path, kind: str) -> None:
    old, new = tables(places, kind, "number")
    body = BODY.format(write="append", since='{ column = "changed", first = 10 }')
    made = job(tmp_path, body, old=old, new=new)
    assert counts(succeeded(made.run())["t"]) == {"read": 2, "inserted": 2}
    add(old, 3, "1000")
    broken = job(tmp_path, body + '    last_sql = "SELEC 1"', old=old, new=new)
    assert broken.run().status == "failed"
    assert [state.watermark for state in made.watermarks()] == ["100"]
    assert counts(succeeded(made.run())["t"]) == {"read": 1, "inserted": 1}


def test_ranges_watermarks_and_all_on_the_command_line(places: Places, files: Files, cli: Cli) -> None:
    old, new = tables(places, "postgresql", "date", rows=4)
    job(files.folder, BODY.format(write="merge", since='"changed"'), old=old, new=new)

    def read(*options: str) -> int:
        outcome = cli("run", "job.toml", "--json", *options)
        assert outcome.returncode == 0, outcome.stderr
        found: int = document(outcome)["steps"][0]["read"]
        return found

    def mark() -> str | None:
        found: str | None = document(cli("watermarks", "job.toml", "--json"))[0]["watermark"]
        return found

    assert (read("--since", "2025-03-02", "--until", "2025-03-04"), mark()) == (2, None)
    assert (read("--since", "2025-03-02"), mark()) == (3, "2025-03-04")
    assert (read(), read("--since", "2025-03-01"), mark()) == (1, 4, "2025-03-04")
    assert cli("watermarks", "job.toml", "t", "--set", "2025-03-03").returncode == 0
    assert (mark(), read()) == ("2025-03-03", 2)
    assert (read("--all"), mark()) == (4, "2025-03-04")
    assert cli("watermarks", "job.toml", "t", "--clear").returncode == 0
    assert (mark(), "none: all rows are new" in cli("watermarks", "job.toml").stdout) == (None, True)
    for arguments, said in (
        (("run", "job.toml", "--since", "soon"), '"soon" is not a value of type date'),
        (("run", "job.toml", "--since", "2025-01-01", "--all"), "are asked for at once"),
        (("watermarks", "job.toml", "--set", "2025-01-01"), "for one step"),
        (("watermarks", "job.toml", "u", "--clear"), '"u" is not a step that loads only new rows'),
    ):
        outcome = cli(*arguments)
        assert (outcome.returncode, said in outcome.stderr) == (2, True), outcome.stderr


@pytest.mark.parametrize(
    ("settings", "said"),
    [
        ('since = "id || changed"', "which does not grow"),
        ('since = { column = "id", overlap = "1 day" }', "which is bigint, cannot be 1 day"),
        ('since = { column = "id", overlap = 3 }', "would be appended again"),
        ('since = { column = "id", overlap = "3 moons" }', "number, or a time such as"),
        ('since = { column = "id", first = "x" }', '"x" is not a value of type'),
        ('since = "id"\nlimit = 3', "would be taken for loaded"),
        ('since = "id"\nwrite = "truncate"', "the target would have only what is new"),
    ],
)
def test_what_does_not_go_with_since_is_said(files: Files, cli: Cli, settings: str, said: str) -> None:
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, changed text)")
    files.database("new.db", "CREATE TABLE t (id integer PRIMARY KEY, changed text)")
    files.job(f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n{settings}')
    outcome = cli("check", "job.toml")
    assert (outcome.returncode, said in " ".join((outcome.stdout + outcome.stderr).split())) == (2, True), (
        outcome.stdout
    )


EXCHANGE = """
[defaults]
write = "merge"
{defaults}
[pipeline.there]
source = "here:t"
target = "there:t"
key = "id"
since = {since}
newer_by = "changed"
other_way = "back"
{more}
[pipeline.back]
source = "there:t"
target = "here:t"
key = "id"
since = {since}
newer_by = "changed"
other_way = "there"
"""


def ends_of_an_exchange(places: Places, kinds: str) -> tuple[Place, Place]:
    ends = []
    for kind in kinds.split():
        place = places(kind)
        moment = "datetime(6)" if kind == "mariadb" else "timestamp"
        place.sql(f"CREATE TABLE t (id integer PRIMARY KEY, v varchar(40), changed {moment} NOT NULL)")
        ends.append(place)
    return ends[0], ends[1]


EACH_EXCHANGE = ["postgresql mariadb", "mariadb sqlite", "sqlite postgresql", "postgresql postgresql"]


@pytest.mark.parametrize(
    ("kinds", "commit"),
    [*((kinds, "step") for kinds in EACH_EXCHANGE), (EACH_EXCHANGE[0], "job"), (EACH_EXCHANGE[1], "batch")],
)
def test_an_exchange_in_both_ways(places: Places, files: Files, cli: Cli, kinds: str, commit: str) -> None:
    here, there = ends_of_an_exchange(places, kinds)
    defaults = f'commit = "{commit}"' + ('\nmissing = "delete"\nmax_rejects = 0' if commit != "batch" else "")
    since = '"changed"' if commit == "batch" else '{ column = "changed", overlap = "0 seconds" }'
    body = EXCHANGE.format(defaults=defaults, since=since, more="")
    made = job(files.folder, body, here=here, there=there)
    here.sql("INSERT INTO t VALUES (1, 'here', '2025-03-01 10:00:00'), (2, 'here', '2025-03-01 12:00:00')")
    there.sql("INSERT INTO t VALUES (2, 'there', '2025-03-01 11:00:00'), (3, 'there', '2025-03-01 11:30:00')")

    def exchange() -> tuple[list[tuple[object, ...]], list[int]]:
        run = succeeded(made.run())
        both = [place.rows("SELECT id, v FROM t ORDER BY id") for place in (here, there)]
        assert both[0] == both[1]
        return both[0], [step.tally.conflicts for step in run]

    assert exchange() == ([(1, "here"), (2, "here"), (3, "there")], [0, 0])  # nothing was carried before
    here.sql("UPDATE t SET v = 'changed here', changed = '2025-03-02 10:00:00' WHERE id = 3",
             "UPDATE t SET v = 'again here', changed = '2025-03-02 08:00:00' WHERE id = 1")  # fmt: skip
    there.sql("UPDATE t SET v = 'changed there', changed = '2025-03-02 09:00:00' WHERE id IN (1, 3)")
    assert exchange() == ([(1, "changed there"), (2, "here"), (3, "changed here")], [2, 0])
    listed = " ".join(cli("rejects", "--all").stdout.split())
    assert "conflict" in listed and "v changed there" in listed
    assert "it is overwritten, being older" in listed and "it stays, not being older" in listed
    assert [step.tally.written for step in succeeded(made.run())] == [0, 0]
    with pytest.raises(KanalError, match="no rejected rows"):
        made.replay(2)
    if commit == "batch":
        return
    here.sql("DELETE FROM t WHERE id = 1", "DELETE FROM t WHERE id = 2",
             "INSERT INTO t VALUES (4, 'new here', '2025-03-03 10:00:00')")  # fmt: skip
    there.sql("DELETE FROM t WHERE id = 3", "INSERT INTO t VALUES (5, 'new there', '2025-03-03 10:00:00')",
              "UPDATE t SET v = 'changed there again', changed = '2025-03-03 09:00:00' WHERE id = 2")  # fmt: skip
    expected = [(2, "changed there again"), (4, "new here"), (5, "new there")]  # a change outlives a deletion
    assert exchange() == (expected, [0, 0])


@pytest.mark.parametrize("kinds", ["sqlite postgresql", "postgresql mariadb"])
def test_the_newest_row_can_be_deleted(places: Places, tmp_path: Path, kinds: str) -> None:
    here, there = ends_of_an_exchange(places, kinds)
    since = '{ column = "changed", overlap = "1 second" }'
    body = EXCHANGE.format(defaults='missing = "delete"\nmax_rejects = 0', since=since, more="")
    made = job(tmp_path, body, here=here, there=there)
    here.sql("INSERT INTO t VALUES (1, 'a', '2025-03-01 10:00:00'), (2, 'newest', '2025-03-01 12:00:00')")
    succeeded(made.run())
    there.sql("DELETE FROM t WHERE id = 2")
    succeeded(made.run())  # too early: a row that comes late could be meant
    assert [place.rows("SELECT id FROM t ORDER BY id") for place in (here, there)] == [[(1,), (2,)]] * 2
    time.sleep(2.1)
    succeeded(made.run())
    for place in (there, here):
        place.sql("DELETE FROM t WHERE id = 2")
        for _ in range(2):
            succeeded(made.run())
            assert [place.rows("SELECT id FROM t ORDER BY id") for place in (here, there)] == [[(1,)]] * 2
        here.sql("INSERT INTO t VALUES (2, 'newest', '2025-03-01 12:00:00')")
        succeeded(made.run())


@pytest.mark.parametrize(("seed", "kinds"), enumerate(EACH_EXCHANGE))
def test_an_exchange_loses_no_change(places: Places, tmp_path: Path, kinds: str, seed: int) -> None:
    """Random changes on both sides, runs of one way alone among those of both: the last change of each row arrives."""
    chance = random.Random(f"{kinds} {seed}")
    ends = ends_of_an_exchange(places, kinds)
    defaults = 'missing = "delete"\nmax_rejects = 0\nmax_deletes = "100 %"'
    late = 5 * (seed % 2)
    since = f'{{ column = "changed", overlap = "{late} seconds" }}'
    made = job(tmp_path, EXCHANGE.format(defaults=defaults, since=since, more=""), here=ends[0], there=ends[1])
    last: dict[int, tuple[str, int]] = {}
    changed: list[dict[int, int]] = [{}, {}]  # when each side changed a row by itself
    for clock in range(1, 50):
        side, row = chance.randrange(2), chance.randrange(8)
        moment = f"2025-01-01 00:00:{clock:02d}"
        there = ends[side].rows(f"SELECT v FROM t WHERE id = {row}")
        if there and chance.random() < 0.4:
            ends[side].sql(f"DELETE FROM t WHERE id = {row}")
            last[row] = "deleted", clock
        else:
            verb = f"UPDATE t SET v = 'v{clock}', changed = '{moment}' WHERE id = {row}" if there else (
                f"INSERT INTO t VALUES ({row}, 'v{clock}', '{moment}')")  # fmt: skip
            ends[side].sql(verb)
            last[row], changed[side][row] = (f"v{clock}", clock), clock
        if chance.random() < 0.25:
            succeeded(made.run(only=chance.choice([None, ["there"], ["back"]])))
    for _ in range(2):
        succeeded(made.run())
    found = [dict(end.rows("SELECT id, v FROM t")) for end in ends]
    assert found[0] == found[1]
    for row, (value, _) in last.items():
        if value != "deleted":
            assert found[0].get(row) == value, (row, value)
        else:  # or a change that the side which deleted it did not have yet, or that is as new as late rows may be
            assert row not in found[0] or late or found[0][row] in {f"v{when[row]}" for when in changed if row in when}


@pytest.mark.parametrize(
    ("defaults", "more", "said"),
    [
        ('missing = "delete"', "", "no row may be rejected"),
        ("max_rejects = 0", 'delete_when = "id = 9"\nmissing = "delete"', "would be deleted where they came from"),
        ('max_rejects = 0\nmissing = "delete"', 'missing = "keep"\nwhere = "id > 1"', "deleted where they came from"),
        ("", '[pipeline.there.columns]\nid = "id"\nchanged = "changed + INTERVAL \'1\' HOUR"', "is not filled by"),
    ],
)  # fmt: skip
def test_what_is_no_exchange(places: Places, files: Files, cli: Cli, defaults: str, more: str, said: str) -> None:
    here, there = ends_of_an_exchange(places, "postgresql mariadb")
    since = '{ column = "changed", overlap = "5 minutes" }'
    job(files.folder, EXCHANGE.format(defaults=defaults, since=since, more=more), here=here, there=there)
    outcome = cli("check", "job.toml")
    assert outcome.returncode == 2 and said in " ".join((outcome.stdout + outcome.stderr).split()), outcome.stdout
    text = (files.folder / "job.toml").read_text()
    for wrong, told in (('other_way = "bac"', 'there is no pipeline "bac"'), ("", "does not say that this is its")):
        (files.folder / "job.toml").write_text(text.replace(more, "").replace('other_way = "back"', wrong))
        outcome = cli("check", "job.toml")
        assert outcome.returncode == 2 and told in " ".join(outcome.stdout.split()), outcome.stdout


def test_the_python_twin(places: Places, tmp_path: Path) -> None:
    old, new = tables(places, "sqlite", "number")
    made = job(tmp_path, BODY.format(write="merge", since='{ column = "changed", overlap = 5 }'), old=old, new=new)
    assert made.pipeline["t"].since == kanal.Since(column="changed", overlap=5)
    made.set_watermark("t", 15)
    assert counts(succeeded(made.run())["t"]) == {"read": 2, "inserted": 2}
    assert counts(succeeded(made.run(everything=True))["t"]) == {"read": 3, "inserted": 1, "unchanged": 2}
    assert counts(succeeded(made.run(since=9, until=10))["t"]) == {"read": 1, "unchanged": 1}
