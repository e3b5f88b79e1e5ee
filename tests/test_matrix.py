"""Every type from every database into every other, by each write rule, commit, way and form, against a plain model.

All cases: pytest -m matrix. A sample, chosen anew for each commit, runs with the other tests; its seed is printed.
"""

from __future__ import annotations

import datetime as dt
import itertools
import json
import os
import random
import subprocess
import uuid
import zlib
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

import kanal
from conftest import Place
from kanal.runner.stages import Write
from kanal.runner.step import by_batches, one_transaction
from kanal.runner.step.sending import Sending
from test_servers import job

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
Row = dict[str, Any]

#: By type: how each database declares it, and values that all three hold.
TYPES: dict[str, tuple[tuple[str, str, str], list[Any]]] = {
    "si": (("smallint", "smallint", "smallint"), [0, -32768, 32767]),
    "i": (("integer", "integer", "integer"), [0, -(2**31), 2**31 - 1]),
    "big": (("bigint", "bigint", "bigint"), [2**63 - 1, -(2**63), 2**53 + 1]),
    "n": (("decimal(9,2)", "decimal(9,2)", "decimal(9,2)"), [Decimal("12.34"), Decimal("-0.05"), Decimal("9999999.99"), Decimal(0)]),
    "p": (("decimal(2,2)", "decimal(2,2)", "decimal(2,2)"), [Decimal("0.99"), Decimal("-0.99")]),
    "w": (("text", "decimal(30,10)", "decimal(30,10)"), [Decimal("12345678901234567890.0123456789"), Decimal("-1.5000000000")]),
    "f": (("double precision", "double precision", "double"), [0.1, -1e300, 5e-324, 1 / 3]),
    "ok": (("boolean", "boolean", "boolean"), [True, False]),
    "d": (("date", "date", "date"), [dt.date(1, 1, 1), dt.date(2024, 2, 29), dt.date(9999, 12, 31)]),
    "tm": (("time", "time", "time(6)"), [dt.time(0), dt.time(23, 59, 59, 999999), dt.time(10, 15, 30, 500000)]),
    "at": (("timestamp", "timestamp", "datetime(6)"), [dt.datetime(1, 1, 1), dt.datetime(2038, 1, 19, 3, 14, 8, 1), dt.datetime(9999, 12, 31, 23, 59, 59)]),
    "z": (("timestamp with time zone", "timestamptz", "timestamp(6) NULL"), [dt.datetime(1971, 1, 1, tzinfo=dt.UTC), dt.datetime(2037, 7, 1, 12, 0, 0, 5, tzinfo=dt.UTC)]),
    "v": (("varchar(20)", "varchar(20)", "varchar(20)"), ["", " a ", "caf\u00e9", "\U0001f600", "\\N", "tab\t'q\"", "NULL"]),
    "s": (("text", "text", "longtext"), ["x" * 70_000, "line\r\nline", "%s :x"]),
    "raw": (("blob", "bytea", "longblob"), [b"", b"\0\xff", b"x'00'"]),
    "u": (("uuid", "uuid", "char(36)"), [str(uuid.UUID(int=7)), str(uuid.UUID(int=2**127 + 5))]),
    "j": (("json", "jsonb", "longtext"), ['{"a": [1, true, null]}', '{"a": 1.10}', '"\u00e9"']),
}  # fmt: skip
WRITES = ["append", "truncate", "merge", "delete", "history", "mirror", "circle"]
COMMITS = ["step", "batch", "job"]
WAYS, FORMS = ["whole", "killed", "split", "replayed"], ["column", "expression", "lookup"]
Case = tuple[str, str, str, str, str, str]
CASES: list[Case] = list(itertools.product(KINDS, KINDS, WRITES, COMMITS, WAYS, FORMS))


def seed() -> str:
    """The commit that is tested: each one is tried with other cases, and the same ones wherever it is tested."""
    failed, head = subprocess.getstatusoutput(f"git -C '{Path(__file__).parent}' rev-parse HEAD")
    return kanal.__version__ if failed else head[:12]


SEED = os.environ.get("KANAL_TEST_SEED") or seed()
SAMPLE = random.Random(SEED).sample(CASES, 32)
#: Which row refers to which, where the table refers to itself: in circles, those that are rejected to each other.
UP = {0: 1, 1: 2, 2: 0, 4: 5, 5: 4, 6: None, 7: 6, 9: 10, 10: 11, 11: 9, 3: 8, 8: 3}
#: What a job file says for a write rule; `delete` is a merge with rows that say that they are gone, `mirror` one that
#: deletes what is missing, `circle` one into a table that refers to itself.
RULES = {
    "mirror": 'write = "merge"\nmissing = "delete"\nmax_deletes = 1',
    "circle": 'write = "merge"',
    "delete": "write = \"merge\"\ndelete_when = \"bad IN ('2', '5')\"",
    "history": 'write = "history"\nhistory = { from = "begins", until = "ends" }',
}


def rows() -> list[Row]:
    """Rows with each value and with NULL; `bad` is text that is a number, of two rows only once it is corrected."""
    made = []
    for number in range(12):
        row: Row = {
            name: values[number % len(values)] if (number + place) % 5 else None
            for place, (name, (_, values)) in enumerate(TYPES.items())
        }
        made.append({"id": number, **row, "bad": "7!" if number in (3, 8) else str(number)})
    return made


def declared(kind: str) -> str:
    place = KINDS.index(kind)
    return ", ".join(f"{name} {types[place]}" for name, (types, _) in TYPES.items())


def put(place: Place, table: str, made: list[Row]) -> None:
    """Insert rows by the database's own driver."""

    def given(value: Any) -> Any:
        if place.kind == "sqlite" and isinstance(value, Decimal):
            return str(value) if len(value.as_tuple().digits) > 15 else float(value)
        if place.kind == "sqlite" and isinstance(value, dt.date | dt.time):
            return value.isoformat(sep=" ") if isinstance(value, dt.datetime) else value.isoformat()
        if place.kind == "mariadb" and isinstance(value, dt.datetime):
            return value.replace(tzinfo=None)
        return value

    mark = "?" if place.kind == "sqlite" else "%s"
    with place.engine.begin() as connection:
        if place.kind == "mariadb":
            connection.exec_driver_sql("SET time_zone = '+00:00'")
        for row in made:
            connection.exec_driver_sql(
                f"INSERT INTO {table} ({', '.join(row)}) VALUES ({', '.join([mark] * len(row))})",
                tuple(map(given, row.values())),
            )


def plain(name: str, value: Any) -> Any:
    """A value, however a driver gives it, in one form for each type."""
    if value is None or name == "id":
        return value
    if name in ("n", "p", "w"):
        scale = {"n": 2, "p": 2, "w": 10}[name]
        return Decimal(str(value)).quantize(Decimal(1).scaleb(-scale), context=__import__("decimal").Context(prec=60))
    if name == "ok":
        return bool(value)
    if name == "raw":
        return bytes(value)
    if name == "tm":
        return (
            dt.time.fromisoformat(value)
            if isinstance(value, str)
            else (dt.datetime.min + value).time()
            if isinstance(value, dt.timedelta)
            else value
        )
    if name in ("at", "z"):
        moment = dt.datetime.fromisoformat(value) if isinstance(value, str) else value
        return moment.astimezone(dt.UTC).replace(tzinfo=None) if moment.tzinfo else moment
    if name == "d":
        return dt.date.fromisoformat(value) if isinstance(value, str) else value
    if name == "j":
        return json.dumps(value) if not isinstance(value, str) else json.dumps(json.loads(value, parse_float=str))
    return str(value) if name in ("u", "v", "s") else value


def found(place: Place) -> list[tuple[Any, ...]]:
    """What stands in the target, in the model's form."""
    names = ["id", *TYPES, "bad"]
    now = (
        " WHERE ends IS NULL"
        if "ends" in {column["name"] for column in sa.inspect(place.engine).get_columns("t")}
        else ""
    )
    shown = [f"{name}::text" if place.kind == "postgresql" and name == "j" else name for name in names]
    with place.engine.begin() as connection:
        if place.kind == "mariadb":
            connection.exec_driver_sql("SET time_zone = '+00:00'")
        given = connection.exec_driver_sql(f"SELECT {', '.join(shown)} FROM t{now} ORDER BY id, bad").fetchall()
    return [tuple(plain(name, value) for name, value in zip(names, row, strict=True)) for row in given]


def model(write: str, before: list[Row], read: list[Row]) -> list[tuple[Any, ...]]:
    """What must stand in the target: slow and obvious."""
    loaded = [{**row, "bad": int(row["bad"].rstrip("!"))} for row in read]
    ids = {row["id"] for row in loaded}
    kept = {"append": before, "truncate": [], "mirror": []}.get(write, [row for row in before if row["id"] not in ids])
    whole = [*kept, *(row for row in loaded if write != "delete" or row["id"] not in (2, 5))]
    names = ["id", *TYPES, "bad"]
    return sorted(
        (tuple(plain(name, row.get(name)) for name in names) for row in whole), key=lambda row: (row[0], row[-1])
    )


def body(case: Case, fixed: bool) -> str:
    _, _, write, commit, way, form = case
    forms = {"column": "{0}", "expression": "coalesce({0}, {0})", "lookup": "l.{0}"}
    lines = []
    for name in TYPES:
        lines.append(f'{name} = "{forms[form].format(name)}"')
    bad = "replace(bad, '!', '')" if fixed else "bad"
    lines.append(f'bad = {{ from = "{bad}", type = "integer" }}')
    lines += ['up = "up"'] if write == "circle" else []
    split = "split = 3\n" if way == "split" else ""
    lookup = 'lookup.l = { table = "new:l", on = { id = "id" } }\n' if form == "lookup" else ""
    rule = RULES.get(write, f'write = "{write}"')
    batch = 13 if write == "circle" and commit == "batch" else 3  # the parents of a row may not come in later batches
    return (
        f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n{rule}\ncommit = "{commit}"\nkey = "id"\nbatch_rows = {batch}\nretries = 0\n{split}{lookup}'
        '[pipeline.t.columns]\nid = "id"\n' + "\n".join(lines)
    )  # fmt: skip


def killed_in(made: kanal.Job, instant: int) -> None:
    """Run a job in a process that dies before its so-manieth batch is sent or written, or before its commit."""
    child = os.fork()
    if child:
        os.waitpid(child, 0)
        return
    left = [instant]

    def dies(real: Callable[..., Any]) -> Callable[..., Any]:
        def step(*arguments: Any) -> Any:
            left[0] -= 1
            if not left[0]:
                os._exit(9)
            return real(*arguments)

        return step

    for holder, name in (
        (Sending, "_send"), (Write, "take"), (one_transaction, "end"), (by_batches, "end"),
    ):  # fmt: skip
        setattr(holder, name, dies(getattr(holder, name)))
    try:
        made.run()
    finally:
        os._exit(9)


def run_case(places: Places, folder: Path, case: Case) -> str:
    """Run one case and compare; "refused" where check says that it cannot be, "held" else. Raises AssertionError."""
    source, target, write, _, way, form = case
    old, new = places(source), places(target)
    made = rows()
    bad = {"sqlite": "text", "postgresql": "text", "mariadb": "varchar(20)"}
    moment = TYPES["at"][0][KINDS.index(target)]
    up = ", up integer" if write == "circle" else ""
    old.sql(f"CREATE TABLE t (id integer PRIMARY KEY, {declared(source)}, bad {bad[source]}{up})")
    put(old, "t", [{**row, "up": UP[row["id"]]} if up else row for row in made])
    key = {
        "append": "",
        "circle": ", up integer, PRIMARY KEY (id), FOREIGN KEY (up) REFERENCES t (id)",
        "history": f", begins {moment} NOT NULL, ends {moment}, PRIMARY KEY (id, begins)",
    }.get(write, ", PRIMARY KEY (id)")
    new.sql(f"CREATE TABLE t (id integer, {declared(target)}, bad integer{key})")
    if form == "lookup":
        new.sql(f"CREATE TABLE l (id integer PRIMARY KEY, {declared(target)})")
        put(new, "l", [{name: value for name, value in row.items() if name != "bad"} for row in made])
    past = {"begins": dt.datetime(2000, 1, 1)} if write == "history" else {}
    before: list[Row] = [{"id": 2, "v": "old", "bad": -1, **past}, {"id": 99, "v": "old", "bad": -2, **past}]
    put(new, "t", before)
    first = job(folder, body(case, fixed=False), old=old, new=new)
    problems = first.check()
    if problems:
        assert way == "split" or (write == "mirror" and case[3] == "batch"), problems
        return "refused"
    good = [row for row in made if "!" not in row["bad"]]
    if way == "killed":
        instants = 2 if up and case[3] == "batch" else 5
        killed_in(first, 1 + zlib.crc32(name_of(case).encode()) % instants)
        log = folder / "kanal-runs.db"
        run = first.resume() if log.exists() and first_run_is_there(log) else first.run()
    else:
        run = first.run()
    assert run.status == "succeeded", [str(step.error) for step in run]
    assert (run["t"].tally.read, run["t"].tally.rejected) == (12, 2), run["t"].tally
    assert run["t"].rejects().num_rows == 2
    expected = good
    if way == "replayed":
        again = job(folder, body(case, fixed=True), old=old, new=new).replay()
        assert again["t"].tally.rejected == 0, again["t"].rejects().to_pylist()
        expected = made
    assert found(new) == model(write, before, expected)
    if up:
        refers = {row["id"]: UP[row["id"]] for row in expected}
        assert dict(new.rows("SELECT id, up FROM t WHERE id < 99")) == refers
    if write == "history":
        closed = new.rows("SELECT id, v FROM t WHERE ends IS NOT NULL")
        assert closed == [(2, "old")]
    comparison = [
        one.differs(allow_extra=write not in ("truncate", "mirror"))
        for one in job(folder, body(case, fixed=way == "replayed"), old=old, new=new).compare()
    ]
    assert write == "append" or comparison == [False]
    return "held"


def first_run_is_there(log: Path) -> bool:
    with sa.create_engine(f"sqlite:///{log}").connect() as connection:
        return bool(
            sa.inspect(connection).has_table("kanal_run")
            and connection.exec_driver_sql("SELECT 1 FROM kanal_run").first()
        )


def name_of(case: Case) -> str:
    return "-".join(case)


@pytest.mark.parametrize("case", SAMPLE, ids=name_of)
def test_a_sample_of_all_paths(places: Places, tmp_path: Path, case: Case) -> None:
    print(f"seed {SEED}: set KANAL_TEST_SEED to repeat it")
    assert run_case(places, tmp_path, case) in ("held", "refused")


@pytest.mark.matrix
@pytest.mark.parametrize("case", CASES, ids=name_of)
def test_all_paths(places: Places, tmp_path: Path, case: Case) -> None:
    if run_case(places, tmp_path, case) == "refused":
        pytest.skip("check refuses it")
