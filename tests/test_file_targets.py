"""Files as targets: what is written reads back the same, and a killed load leaves neither doubles nor rests."""

from __future__ import annotations

import datetime as dt
import io
import json
import subprocess
import sys
from collections.abc import Callable
from decimal import Decimal
from itertools import chain, cycle
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kanal
from conftest import Cli, Files, Place, document
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
OUT = '[connection.outbox]\nurl = "file:outbox"\n'
FORMATS = ["csv", "tsv.gz", "csv.zst", "jsonl.xz", "json.bz2", "parquet", "arrow", "arrows", "xlsx"]
TABLE = pa.table({
    "id": pa.array([1, 2, 3], pa.int64()),
    "name": pa.array(['Anna; "Lock",\n1', "caf\u00e9 \u20ac", None]),
    "toll": pa.array([Decimal("12.50"), Decimal("-0.01"), None], pa.decimal128(9, 2)),
    "share": pa.array([0.1, -2.5e-7, None]),
    "passed": pa.array([dt.datetime(2024, 2, 29, 12, 30), dt.datetime(1999, 12, 31, 23, 59, 59), None], pa.timestamp("us")),
    "day": pa.array([dt.date(2024, 2, 29), dt.date(1999, 12, 31), None]),
    "paid": pa.array([True, False, None]),
})  # fmt: skip


TYPES = ["bigint", "text", "decimal(9,2)", "double precision", "timestamp", "date", "boolean"]
BACK = "[pipeline.back.columns]\n" + "\n".join(
    f'{name} = {{ from = "{name}", type = "{kind}" }}' for name, kind in zip(TABLE.schema.names, TYPES, strict=True)
)


def with_places(made: kanal.Job, pipeline: str, **places: Any) -> kanal.Job:
    """A job that reads or fills data of this program."""
    models = {"source": kanal.Source, "target": kanal.Table}
    update = {name: models[name].model_validate(place) for name, place in places.items()}
    made.pipeline[pipeline] = made.pipeline[pipeline].model_copy(update=update)
    return made


@pytest.mark.parametrize(("ending", "write"), list(zip(FORMATS, cycle(["append", "truncate"]), strict=False)))
def test_what_is_written_reads_back(files: Files, ending: str, write: str) -> None:
    path = files.job(
        f'{OUT}[pipeline.out]\nsource = "old:t"\ntarget = "outbox:t-{{run}}.{ending}"\nwrite = "{write}"\n'
    )
    for number in (1, 2):
        run = succeeded(with_places(kanal.Job.read(path), "out", source=TABLE).run())
        assert (run["out"].tally.inserted, run["out"].tally.deleted) == (
            3,
            3 if (write, number) == ("truncate", 2) else 0,
        )
        assert len(list((files.folder / "outbox").glob("t-*"))) == (number if write == "append" else 1)
    memory = kanal.Memory()
    path = files.job(f'{OUT}[pipeline.back]\nsource = "outbox:t-*.{ending}"\ntarget = "new:t"\n{BACK}')
    succeeded(with_places(kanal.Job.read(path), "back", target=memory).run())
    again = pa.concat_tables([TABLE, TABLE]).sort_by("id") if write == "append" else TABLE
    assert memory.table().sort_by("id").to_pylist() == again.to_pylist()
    assert [path.name for path in (files.folder / "outbox" / ".kanal").iterdir()] == []


@pytest.mark.parametrize("kind", KINDS)
def test_a_table_into_files(places: Places, files: Files, cli: Cli, kind: str) -> None:
    old = places(kind)
    moment = "datetime" if kind == "mariadb" else "timestamp"
    old.sql(
        f"CREATE TABLE t (id bigint PRIMARY KEY, name varchar(20), toll decimal(9,2), changed {moment}, place varchar(9))"
    )
    old.sql(
        "INSERT INTO t VALUES (1, 'a', 1.50, '2025-01-01 10:00:00', 'x/y'), (2, 'b', 2, '2025-01-02 10:00:00', NULL)"
    )
    job(files.folder, OUT + """
[pipeline.new]
source = "old:t"
target = "outbox:new-{run}.csv"
since = "changed"
[pipeline.parts]
source = "old:t"
target = { connection = "outbox", files = "parts/{place}/rows.jsonl" }
write = "truncate"
min_rows = 0
partition_by = ["place", "name"]
[pipeline.many]
source = "old:t"
target = "outbox:many.parquet"
write = "truncate"
min_rows = 0
file_rows = 1
""", old=old)  # fmt: skip

    def read() -> set[str]:
        found = [path for path in (files.folder / "outbox").rglob("*") if path.is_file() and ".kanal" not in path.parts]
        return {path.relative_to(files.folder / "outbox").as_posix() for path in found}

    assert cli("check", "job.toml").returncode == 0
    assert cli("run", "job.toml").returncode == 0
    first = {"new-000001.csv", "parts/x%2Fy/name=a/rows.jsonl", "parts/null/name=b/rows.jsonl",
             "many-0001.parquet", "many-0002.parquet"}  # fmt: skip
    assert read() == first
    assert all(not one.differs() for one in kanal.Job.read(files.folder / "job.toml").compare())
    old.sql("DELETE FROM t WHERE id = 1", "INSERT INTO t VALUES (3, 'c', 3, '2025-01-03 10:00:00', 'z')")
    run = succeeded(kanal.Job.read(files.folder / "job.toml").run())
    assert (run["new"].tally.read, run["many"].tally.deleted) == (1, 2)
    assert read() == {"new-000001.csv", "new-000002.csv", "parts/z/name=c/rows.jsonl", "parts/null/name=b/rows.jsonl",
                      "many-0001.parquet", "many-0002.parquet"}  # fmt: skip
    new = (files.folder / "outbox" / "new-000002.csv").read_text()
    assert new == "id,name,toll,changed,place\n3,c,3.00,2025-01-03 10:00:00,z\n"
    nothing = succeeded(kanal.Job.read(files.folder / "job.toml").run(only=["new"]))
    assert nothing["new"].tally.read == 0 and not (files.folder / "outbox" / "new-000003.csv").exists()
    old.sql("DELETE FROM t")
    succeeded(kanal.Job.read(files.folder / "job.toml").run(only=["many", "parts"]))
    assert read() == {"new-000001.csv", "new-000002.csv", "many-0001.parquet"}
    assert pq.read_table(files.folder / "outbox" / "many-0001.parquet").num_rows == 0


@pytest.mark.parametrize(
    ("target", "settings", "said"),
    [
        ('"outbox:a.csv"', "", "would be written again by the next run → Write {run} in its name"),
        ('"outbox:a-{rum}.csv"', "", '"{rum}" in a-{rum}.csv means nothing → There are: date, part, run'),
        ('"outbox:a-*.csv"', 'write = "truncate"', "has a wild card"),
        ('"outbox:../a.csv"', 'write = "truncate"', "leads out of the folder"),
        ('"outbox:a.dat"', 'write = "truncate"', "its ending does not say its format"),
        ('"outbox:a.csv.zip"', 'write = "truncate"', "not written as .zip"),
        ('"outbox:a.parquet.gz"', 'write = "truncate"', "not written as .gz"),
        ('"outbox:a.xls"', 'write = "truncate"', "written as .xlsx, not .xls"),
        ('"outbox:a.xlsx"', 'write = "truncate"\nfile_rows = 2000000', "more than the 1,048,575"),
        ('"outbox:a.csv"', 'write = "merge"\nkey = "id"', "cannot merge rows"),
        ('"outbox:a-{run}.csv"', 'duplicates = "last"\nkey = "id"', "cannot replace rows of the load itself"),
        ('"outbox:a-{run}.csv"', 'commit = "batch"', "cannot commit batch by batch"),
        ('"outbox:a-{run}.csv"', 'partition_by = "nme"', 'there is no column "nme" → Did you mean "name"?'),
        ('"outbox:a-{run}.csv"', 'last_sql = "SELECT 1"', "runs no SQL"),
        ('"new:t"', "file_rows = 5", "has no files"),
        ('{ connection = "outbox", files = "a.dat", format = "f" }', 'write = "truncate"\n[format.f]\nkind = "fixed"\n'
         "columns = { a = [1, 2] }", "files of kind fixed are not written"),
        ('{ connection = "outbox", files = "a.csv", format = "f" }', 'write = "truncate"\n[format.f]\nskip_lines = 1',
         "skip_lines is for files that are read"),
        ('"outbox:b-{run}.csv"', '[pipeline.u]\nsource = "old:t"\ntarget = "outbox:b-{part}.csv"\nwrite = "truncate"',
         "pipeline t writes files of these names too"),
    ],
)  # fmt: skip
def test_what_check_says_of_targets(files: Files, cli: Cli, target: str, settings: str, said: str) -> None:
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, name text)")
    files.database("new.db", "CREATE TABLE t (id integer PRIMARY KEY, name text)")
    files.job(f'{OUT}[pipeline.t]\nsource = "old:t"\ntarget = {target}\n{settings}\n')
    outcome = cli("check", "job.toml")
    assert outcome.returncode == 2 and said in " ".join((outcome.stdout + outcome.stderr).split()), outcome


@pytest.mark.parametrize(
    ("ending", "form", "value", "kind", "reason"),
    [
        ("csv", 'encoding = "cp1252"', "\u4e2d", "text", "bad_text"),
        ("csv", 'quote = ""', "a,b", "text", "bad_text"),
        ("jsonl", 'encoding = "cp1252"', "\u4e2d", "text", "bad_text"),
        ("jsonl", "", float("inf"), "double precision", "out_of_range"),
        ("xlsx", "", 2**53 + 1, "bigint", "out_of_range"),
        ("xlsx", "", Decimal("1234567890123.456"), "decimal(20,3)", "out_of_range"),
        ("xlsx", "", dt.date(1899, 12, 31), "date", "out_of_range"),
        ("xlsx", "", dt.datetime(2024, 1, 1, 0, 0, 0, 1), "timestamp", "out_of_range"),
        ("xlsx", "", "", "text", "bad_text"),
        ("xlsx", "", "x" * 32_768, "text", "too_long"),
    ],
)  # fmt: skip
def test_a_value_that_a_file_cannot_hold_is_rejected(
    files: Files, cli: Cli, ending: str, form: str, value: Any, kind: str, reason: str
) -> None:
    made = f'[format.f]\n{form}\n[pipeline.t]\nsource = "old:t"\ntarget = {{ connection = "outbox", files = "t.{ending}", format = "f" }}'
    path = files.job(f'{OUT}{made}\nwrite = "truncate"\n[pipeline.t.columns]\nv = {{ from = "v", type = "{kind}" }}')
    run = succeeded(with_places(kanal.Job.read(path), "t", source=pa.table({"v": [value, None]})).run())
    assert (run["t"].tally.inserted, run["t"].tally.rejected) == (1, 1)
    assert document(cli("rejects", "--json"))[0]["reason"] == reason


def test_formulas_are_escaped_where_that_is_asked_for(files: Files) -> None:
    table = pa.table({"v": ["=1+1", "+49 30", "-5", "-5.50", "@x", "a=b", "-", None]})
    text = f'{OUT}[format.f]\nescape_formulas = true\n[pipeline.t]\nsource = "old:t"\n'
    path = files.job(text + 'target = { connection = "outbox", files = "t.csv", format = "f" }\nwrite = "truncate"')
    succeeded(with_places(kanal.Job.read(path), "t", source=table).run())
    lines = (files.folder / "outbox" / "t.csv").read_text().splitlines()
    assert lines == ["v", "'=1+1", "'+49 30", "-5", "-5.50", "'@x", "a=b", "'-", ""]
    assert not with_places(kanal.Job.read(path), "t", source=table).compare()[0].differs()


def test_too_many_rows_for_a_workbook(files: Files, monkeypatch: pytest.MonkeyPatch) -> None:
    from kanal.connections.files.workbook_writer import WorkbookWriter

    monkeypatch.setattr(WorkbookWriter, "most_rows", 2)
    path = files.job(f'{OUT}[pipeline.t]\nsource = "old:t"\ntarget = "outbox:t.xlsx"\nwrite = "truncate"')
    run = with_places(kanal.Job.read(path), "t", source=TABLE).run()
    assert run.status == "failed" and "more than 2 rows" in str(run["t"].error)
    left = [path.name for path in (files.folder / "outbox").rglob("*") if path.is_file()]
    assert [name.partition("-")[0] for name in left] == ["progress"]  # of a run that can be resumed


def test_a_step_reads_the_files_that_another_writes(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, v text)", t=[(n, f"v{n}") for n in range(5)])
    body = f"""{OUT}[defaults]
write = "truncate"
create = "missing"
[pipeline.back]
source = "outbox:out/t-*.csv"
target = "new:t"
[pipeline.out]
source = "old:t"
target = "outbox:out/t-{{part}}.csv"
file_rows = 2
"""
    path = files.job(body)
    assert cli("check", "job.toml").returncode == 0 and not (files.folder / "outbox").exists()
    for _ in range(2):
        run = succeeded(kanal.Job.read(path).run())
        assert {step.step: step.tally.inserted for step in run} == {"out": 5, "back": 5}
    files.job(body.replace("old:t", "outbox:out/u-*.csv"))
    assert "no file of connection outbox fits" in " ".join(cli("check", "job.toml").stdout.split())
    files.job(f'{OUT}[defaults]\nwrite = "truncate"\n[pipeline.a]\nsource = "outbox:x.csv"\ntarget = "outbox:y.csv"\n'
              '[pipeline.b]\nsource = "outbox:y.csv"\ntarget = "outbox:x.csv"\n')  # fmt: skip
    assert "no file of connection outbox fits" in " ".join(cli("check", "job.toml").stdout.split())


cells = st.text(st.sampled_from("ab,;\t\"'\n\r\u00e9\u20ac0 "), max_size=5)


@settings(max_examples=100, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    rows=st.lists(st.tuples(st.none() | cells, st.none() | cells), max_size=8),
    delimiter=st.sampled_from(",;\t|^"), quote=st.sampled_from("\"'"), width=st.integers(1, 2),
    encoding=st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "utf-16-le"]),
)  # fmt: skip
def test_any_text_comes_back_from_csv(rows: list[Any], delimiter: str, quote: str, width: int, encoding: str) -> None:
    from kanal.connections.files.delimited import DelimitedReader
    from kanal.connections.files.writers import CsvWriter

    form = kanal.Format(delimiter=delimiter, quote=quote, encoding=encoding)
    names = ["one", "two"][:width]
    columns = [pa.array([row[place] for row in rows], pa.string()) for place in range(width)]
    out = io.BytesIO()
    writer = CsvWriter(out, names, [], form)
    writer.add(CsvWriter.encoded(pa.RecordBatch.from_arrays(columns, names=names), [], form))
    writer.finish()
    out.seek(0)
    reader = DelimitedReader(out, form, delimiter, "f.csv")
    found = [column.to_pylist() for part in reader for column in part.columns]
    assert (reader.names, [list(chain(*found[place::width])) for place in range(width)]) == (
        names, [column.to_pylist() for column in columns])  # fmt: skip


#: Runs a job in a child that is killed at its nth change of a file.
KILLED = """
import importlib, json, os, pkgutil, sys
from pathlib import Path
from types import SimpleNamespace
import adbc_driver_sqlite.dbapi, pyarrow.compute, sqlalchemy.dialects.sqlite, sqlglot
import kanal
from kanal.connections.files import stores

for module in pkgutil.walk_packages(kanal.__path__, "kanal."):
    if not module.name.startswith(("kanal.cli", "kanal.__main__")):
        importlib.import_module(module.name)  # once, and not in each child
job, again, outbox = sys.argv[1:]

def child(act):
    made = os.fork()
    if made:
        return os.waitpid(made, 0)[1] == 0
    os._exit(0 if act().status == "succeeded" else 1)

def run():
    return kanal.Job.read(job).run()

def gone_on_with():
    try:
        return kanal.Job.read(job).resume()
    except kanal.KanalError as error:
        assert "succeeded, there is nothing to resume" in str(error)
        return SimpleNamespace(status="succeeded")

def killed(place):
    count = 0
    def counted(act):
        def call(*given, **more):
            nonlocal count
            count += 1
            if count == place:
                os._exit(9)
            result = act(*given, **more)
            count += 1
            if count == place:
                os._exit(9)
            return result
        return call
    for name in ("begin", "prepare", "publish", "remove", "keep_note"):
        setattr(stores.LocalStore, name, counted(getattr(stores.LocalStore, name)))
    return run()

ended, place = False, 0
while not ended:
    place += 1
    for left in [*Path(outbox).rglob("*"), *Path().glob("kanal-runs*")]:
        if left.is_file():
            left.unlink()
    assert child(run)
    ended = child(lambda: killed(place))
    assert child(run if ended or again == "anew" else gone_on_with)
    rows = [line for file in Path(outbox).glob("t-*.csv") for line in file.read_text().splitlines()[1:]]
    left = [file.name for file in Path(outbox, ".kanal").iterdir() if not file.name.startswith("progress-")]
    print(json.dumps([ended, sorted(rows), left]))
"""


@pytest.mark.parametrize(
    ("write", "again"),
    [
        ("append", "resume"),
        pytest.param("truncate", "anew", marks=pytest.mark.matrix),
        pytest.param("append", "anew", marks=pytest.mark.matrix),
        pytest.param("truncate", "resume", marks=pytest.mark.matrix),
    ],
)
def test_killed_anywhere_and_gone_on_with(files: Files, write: str, again: str) -> None:
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, v text)", t=[(n, "v") for n in range(5)])
    outbox = files.folder / "outbox"
    path = files.job(
        f'{OUT}[pipeline.t]\nsource = "old:t"\ntarget = "outbox:t-{{run}}.csv"\nwrite = "{write}"\nfile_rows = 2'
    )
    (files.folder / "killed.py").write_text(KILLED)
    arguments = [sys.executable, "killed.py", str(path), again, str(outbox)]
    outcome = subprocess.run(arguments, cwd=files.folder, capture_output=True, text=True, check=False)
    assert outcome.returncode == 0, outcome.stderr
    found = [json.loads(line) for line in outcome.stdout.splitlines() if line.startswith("[")]
    one = [f"{n},v" for n in range(5)]
    for place, (ended, rows, left) in enumerate(found, 1):
        # Of a run that was killed, all rows or none; of a run anew, its own beside them.
        times = len(rows) // 5
        assert rows == sorted(one * times), (place, rows)
        assert times in ({1} if write == "truncate" else {2} if (again, ended) == ("resume", False) else {2, 3}), place
        assert left == [], (place, left)
    assert found[-1][0] and len(found) > 20


def test_rejected_rows_go_into_files_of_their_own(files: Files, cli: Cli) -> None:
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "outbox:t-{run}.csv"\n[pipeline.t.columns]\nid = "id"\n'
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, n text)", t=[(1, "5"), (2, "x")])
    path = files.job(f'{OUT}{body}n = {{ from = "n", type = "integer" }}\n')
    assert succeeded(kanal.Job.read(path).run())["t"].tally.rejected == 1
    path = files.job(f'{OUT}{body}n = {{ from = "n", type = "integer", null_values = ["x"] }}\n')
    assert succeeded(kanal.Job.read(path).replay())["t"].tally.inserted == 1
    assert sorted(file.name for file in (files.folder / "outbox").glob("*.csv")) == ["t-000001.csv", "t-000002.csv"]
    assert (files.folder / "outbox" / "t-000002.csv").read_text() == "id,n\n2,\n"
    whole = f'{OUT}{body.replace("-{run}", "")}n = {{ from = "n", type = "integer" }}\n[defaults]\nwrite = "truncate"\n'
    assert succeeded(kanal.Job.read(files.job(whole)).run())["t"].tally.rejected == 1
    run = kanal.Job.read(files.job(whole.replace('"integer"', '"text"'))).replay()
    assert "is written as a whole, and no rows can be added to it" in str(run["t"].error)
