"""The job file: it equals its Python twin, survives writing, and each mistake is said with place and way out."""

from __future__ import annotations

from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, document
from kanal import Check, Column, Command, Connection, Conversion, Job, Lookup, Pipeline, RunLog, Secret, Settings
from kanal.definition.locations import key_lines

FILE = """
job = "register"
[connection.a]
url = "sqlite:///a.db"
[connection.b]
url = "postgresql://register@localhost/${DB:-register}"
password = { env = "REGISTER_PASSWORD" }
[defaults]
batch_rows = 50_000
max_rejects = "1%"
[run_log]
url = "sqlite:///log.db"
[parameters]
season = 2025
[conversion.toll]
type = "decimal(9,2)"
decimal_mark = ","
[pipeline.locks]
source = "a:lock"
target = "b:harbour.lock"
write = "truncate"
[pipeline.passages]
source = { connection = "a", query = "SELECT * FROM book" }
target = 'b:"odd.schema"."odd.table"'
after = "locks"
where = "season = :season"
write = "merge"
key = "no"
same = "*"
skip = ["voided"]
checks = ["plausible"]
[pipeline.passages.columns]
no = "book_no"
toll = { from = "toll_txt", conversion = "toll", if_bad = { value = 0 } }
"odd name" = { from = '"Odd Name"', type = "varchar(9)", too_long = "cut", default = "none" }
[pipeline.passages.lookup.lock]
table = "b:lock"
on = { code = "lock_code" }
missing = "null"
[check.plausible]
expect = "toll > 0"
[command.refresh]
connection = "b"
sql = "SELECT 1"
after = ["passages"]
"""
TWIN = Job(
    job="register",
    connection={
        "a": Connection(url="sqlite:///a.db"),
        "b": Connection(
            url="postgresql://register@localhost/${DB:-register}", password=Secret(env="REGISTER_PASSWORD")
        ),
    },
    defaults=Settings(batch_rows=50_000, max_rejects="1%"),
    run_log=RunLog(url="sqlite:///log.db"),
    parameters={"season": 2025},
    conversion={"toll": Conversion(type="decimal(9,2)", decimal_mark=",")},
    pipeline={
        "locks": Pipeline(source="a:lock", target="b:harbour.lock", write="truncate"),
        "passages": Pipeline(
            source={"connection": "a", "query": "SELECT * FROM book"},
            target='b:"odd.schema"."odd.table"',
            after=["locks"],
            where="season = :season",
            write="merge",
            key=["no"],
            same="*",
            skip=["voided"],
            checks=["plausible"],
            columns={
                "no": "book_no",
                "toll": Column(from_="toll_txt", conversion="toll", if_bad={"value": 0}),
                "odd name": Column(from_='"Odd Name"', type="varchar(9)", too_long="cut", default="none"),
            },
            lookup={"lock": Lookup(table="b:lock", on={"code": "lock_code"}, missing="null")},
        ),
    },
    check={"plausible": Check(expect="toll > 0")},
    command={"refresh": Command(connection="b", sql="SELECT 1", after=["passages"])},
)


def test_a_file_and_its_python_twin_are_equal_and_survive_writing(tmp_path: Path) -> None:
    path = tmp_path / "job.toml"
    path.write_text(FILE, encoding="utf-8")
    job = Job.read(path)
    assert job == TWIN
    assert job != Job(job="register")
    job.write(tmp_path / "again.toml")
    assert Job.read(tmp_path / "again.toml") == TWIN
    effective = job.effective("passages")
    assert (effective.batch_rows, effective.max_rejects) == (50_000, "1%")
    assert (effective.columns["toll"].type, effective.columns["toll"].decimal_mark) == ("decimal(9,2)", ",")


def test_a_job_of_several_files(tmp_path: Path) -> None:
    (tmp_path / "shared.toml").write_text('[connection.a]\nurl = "sqlite:///a.db"\n[parameters]\nseason = 1\nx = 2')
    (tmp_path / "job.toml").write_text('job = "j"\ninclude = "shared.toml"\n[parameters]\nseason = 9')
    job = Job.read(tmp_path / "job.toml")
    assert (job.connection["a"].url, job.parameters) == ("sqlite:///a.db", {"season": 9, "x": 2})
    (tmp_path / "shared.toml").write_text('include = "job.toml"')
    with pytest.raises(kanal.JobError, match="includes itself"):
        Job.read(tmp_path / "job.toml")


def test_lines_of_keys() -> None:
    lines = key_lines('a = 1\n[b."c d"]\ne = """\nf = 2\n"""\ng = { h = 1, i = 2 }\n[b.j.k]\nl.m = 3')
    assert lines[("a",)] == 1
    assert lines[("b", "c d")] == 2
    assert lines[("b", "c d", "g", "i")] == 6
    assert lines[("b", "j", "k", "l", "m")] == 8
    assert ("b", "c d", "f") not in lines


OLD = 'CREATE TABLE t (id INTEGER PRIMARY KEY, name TEXT, n INTEGER, "Day" TEXT); CREATE VIEW v AS SELECT * FROM t;'
NEW = """CREATE TABLE t (id INTEGER PRIMARY KEY, name VARCHAR(9) NOT NULL, n SMALLINT, day DATE);
    CREATE TABLE child (id INTEGER, t_id INTEGER REFERENCES t (id)); CREATE VIEW v AS SELECT * FROM t;"""
GOOD = '[pipeline.p]\nsource = "old:t"\ntarget = "new:t"\n'

#: What is wrong, the lines of the job, and what must be said of it, with its line where it has one (line 6 is the
#: first of the body).
MISTAKES = [
    ("unknown key", GOOD + 'wher = "n = 1"', ["job.toml:9: pipeline p: ", 'unknown key "wher"', 'you mean "where"?']),
    ("unknown section", "[pipelin.p]", ["job.toml:6:", 'unknown key "pipelin"', '"pipeline"?']),
    ("unknown column key", GOOD + 'columns.n = { from = "n", typ = "text" }', ['unknown key "typ"', '"type"?']),
    ("broken TOML", GOOD + "write = merge", ["job.toml:9:", "a text stands without quotation marks"]),
    ("TOML that ends early", GOOD + 'columns = { n = "n"', ["job.toml:9:", "not TOML"]),
    ("unknown connection", GOOD.replace("old:", "odl:"), [":7:", 'no connection "odl"', '"old"?']),
    ("no connection in a place", '[pipeline.p]\nsource = "t"\ntarget = "new:t"', [":7:", "CONNECTION:TABLE"]),
    ("unknown table", GOOD.replace("old:t", "old:tt"), ['no table "tt" in connection old', '"t"?']),
    ("a view as target", '[pipeline.p]\nsource = "old:t"\ntarget = "new:v"', ['"v" is a view']),
    ("unknown column", GOOD + 'columns.name = "nam"', ["columns, name:", 'no column "nam" in t', 'you mean "name"?']),
    ("unknown target column", GOOD + 'columns.nam = "name"', ['no column "nam" in t', '"name"?']),
    ("unknown function", GOOD + 'where = "uper(name) = 1"', [":9: pipeline p, where:", "no function", '"upper"?']),
    ("unknown parameter", GOOD + 'where = "n = :sesaon"', ['no parameter "sesaon"', "[parameters]"]),
    ("broken expression", GOOD + 'where = "n = = 1"', ["where:", "cannot be read at", "character 5"]),
    ("expression that ends early", GOOD + 'where = "n +"', ["ends too early"]),
    ("a filter that is none", GOOD + 'where = "n + 1"', ["not a condition"]),
    ("text against a number", GOOD + 'where = "name > 1"', ["do not go together", "CAST"]),
    ("arithmetic on text", GOOD + 'columns.n = "name * 2"', ["stands between", "CAST"]),
    ("unknown type", GOOD + 'columns.n = { from = "n", type = "smalint" }', ['"smalint" is not a type', '"smallint"?']),
    ("unknown way", GOOD + 'columns.n = { from = "n", rounding = "up" }', ['"up" is not known here', '"half_up"']),
    ("option without sense", GOOD + 'columns.n = { from = "n + 1", format = "%d" }', ["format has no effect"]),
    ("bad format", GOOD + 'columns.day = { from = "Day", format = "%d.%Q" }', ['"%Q" in format', "%d"]),
    ("bad zone", GOOD + "columns.day = \"n AT TIME ZONE 'x'\"", ["There is no time zone"]),
    ("no conversion", GOOD + 'columns.day = "n"', ["no conversion from bigint to date"]),
    ("constant that does not fit", GOOD + "columns.n = \"'x'\"", ['"x" is not a number']),
    ("merge without key", GOOD + 'write = "merge"', [":9:", "a merge needs a key", 'key = ["id"]']),
    ("unknown key column", GOOD + 'write = "merge"\nkey = "idd"', ['no column "idd" in t', '"id"?']),
    ("unknown write rule", GOOD + 'write = "upsert"', ['"upsert" is not known here', '"merge"']),
    ("unmapped NOT NULL", GOOD + 'skip = "name"', ['"name" is NOT NULL and gets no value']),
    ("nothing in common", GOOD.replace("new:t", "new:child") + 'skip = "id"', ["no column name in common"]),
    ("unknown step in after", GOOD + 'after = ["q"]', ['there is no step "q"']),
    ("unknown check", GOOD + 'checks = ["q"]', ['there is no check "q"']),
    ("unknown conversion", GOOD + 'columns.n = { from = "n", conversion = "q" }', ['there is no conversion "q"']),
    ("unknown look-up", GOOD + 'columns.n = "l.id"', ['There is no look-up "l"']),
    ("look-up key of another type", GOOD + 'lookup.l = { table = "new:t", on = { id = "name" } }', ["compares its id"]),
    ("look-up key not there", GOOD + 'lookup.l = { table = "new:t", on = { idd = "n" } }', ['no column "idd" in t']),
    (
        "circle",
        GOOD + 'after = ["q"]\n[pipeline.q]\nsource = "new:t"\ntarget = "old:t"',
        ["in a circle: p → q → p", "q waits for p: reads new:t"],
    ),
    ("unknown kind of database", '[connection.x]\nurl = "sqllite:///x.db"', ["connection x:", '"sqlite"?']),
    ("no URL", '[connection.x]\nurl = "x.db"', ["is not a URL"]),
    ("file that is not there", '[connection.x]\nurl = "sqlite:///ols.db"\n[pipeline.p]\nsource="x:t"\ntarget="new:t"',
     ["connection x", "no file", "old.db"]),
    ("not a database", '[connection.x]\nurl = "sqlite:///job.toml"\n[pipeline.p]\nsource="x:t"\ntarget="new:t"',
     ["not a SQLite database"]),
    ("in memory", '[connection.x]\nurl = "sqlite://"\n[pipeline.p]\nsource="x:t"\ntarget="new:t"', ["in memory"]),
    ("variable not set", '[connection.x]\nurl = "sqlite:///${NO_SUCH_VAR}.db"', ["NO_SUCH_VAR is not set", ":-"]),
    ("password in the file", '[connection.x]\nurl = "sqlite:///x.db"\npassword = "secret-word"', ["not belong"]),
    ("broken query", GOOD.replace('"old:t"', '{ connection = "old", query = "SELEC" }'), ["cannot be run"]),
    ("no pipelines", "", ["the job has no pipelines"]),
    ("bad limit", GOOD + 'max_rejects = "many"', ['"many" is neither a number of rows nor a share']),
    ("bad batch", GOOD + "batch_rows = 0", ["batch_rows"]),
    ("run log in a target", GOOD + '[run_log]\nurl = "sqlite:///new.db"', ["the run log is in the file"]),
]  # fmt: skip


@pytest.mark.parametrize(("body", "said"), [case[1:] for case in MISTAKES], ids=[case[0] for case in MISTAKES])
def test_a_mistake_is_said_with_its_place_and_the_way_out(
    files: Files, body: str, said: list[str], capfd: pytest.CaptureFixture[str]
) -> None:
    from kanal.cli.entry import run_app

    files.database("old.db", OLD, t=[(1, "a", 1, "2025-01-01")])
    files.database("new.db", NEW)
    path = files.job(body)
    assert run_app(["run", str(path)]) == 2
    out, err = capfd.readouterr()
    assert out == ""
    for part in said:
        assert part in err, err
    assert "Traceback" not in err
    assert "secret-word" not in err
    assert files.rows("new.db", "SELECT count(*) FROM t") == [(0,)]


def test_check_lists_everything_at_once(files: Files, cli: Cli) -> None:
    files.database("old.db", OLD)
    files.database("new.db", NEW)
    files.job(GOOD + 'where = "voidd IS NULL"\nskip = "name"\n[pipeline.q]\nsource = "old:q"\ntarget = "new:t"')
    outcome = cli("check", "job.toml", "--json")
    assert outcome.returncode == 2
    found = document(outcome)
    assert found["ok"] is False
    assert [problem["line"] for problem in found["problems"]] == [9, 6, 12]
    assert "problems" in found
    files.job(GOOD)
    outcome = cli("check", "job.toml")
    assert outcome.returncode == 0
    assert "1 step" in outcome.stdout
