"""What programs do without the command line: look into databases, draft jobs, try expressions, and inspect jobs and runs."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pytest

import kanal
from conftest import Cli, Files, Place, document

Places = Callable[[str], Place]


@pytest.fixture
def old(files: Files) -> str:
    files.database(
        "old.db",
        "CREATE TABLE lock (code TEXT PRIMARY KEY, reach INTEGER NOT NULL DEFAULT 3); CREATE TABLE passage (no INTEGER "
        "PRIMARY KEY, lock TEXT REFERENCES lock, toll TEXT); CREATE VIEW tolls AS SELECT toll FROM passage",
        lock=[("L1", 2), ("L2", 5)],
        passage=[(1, "L1", "12.50"), (2, "L2", "7.00"), (3, "L1", None)],
    )
    return f"sqlite:///{files.folder}/old.db"


def test_tables_columns_samples_and_profiles_are_those_of_the_commands(files: Files, old: str, cli: Cli) -> None:
    with kanal.connect(old) as opened:
        assert opened.ping().works and opened.ping().about is not None
        found = opened.tables()
        told = document(cli("tables", old, "--json"))
        assert [(row["table"], row["rows"], row["view"], row["primary_key"]) for row in found.to_pylist()] == [
            (one["table"], one["rows"], one["view"], one["primary_key"]) for one in told
        ]
        assert opened.tables(like=["l*"])["table"].to_pylist() == ["lock"]
        assert opened.tables(not_like=["l*", "tolls"])["refers_to"].to_pylist() == [["lock"]]
        table = opened.table("lock")
        assert table.name == "lock" and table.primary_key == ("code",)
        assert table.columns.select(["column", "type", "nullable", "in_key"]).to_pylist() == [
            {"column": "code", "type": "text", "nullable": False, "in_key": True},
            {"column": "reach", "type": "bigint", "nullable": False, "in_key": False},
        ]
        assert table.sample(1).to_pylist() == [{"code": "L1", "reach": "2"}]
        assert len(table.sample()) == 2
        toll = opened.table("passage").profile().to_pylist()[2]
        assert (toll["nulls"], toll["distinct"], toll["longest"]) == (1, 2, 5) and toll["may_be"] == "decimal: all"
        assert "lock" in table._repr_html_() and "lock" in repr(table)
        with pytest.raises(kanal.KanalError, match='no table "lok"'):
            opened.table("lok")


def test_the_password_of_a_connection_is_not_shown(places: Places) -> None:
    url = places("postgresql").url.replace("postgres@", "postgres:pl4nted@")
    with kanal.connect(url) as opened:
        assert opened.ping().works
        assert "pl4nted" not in repr(opened) + str(opened.ping())
    with pytest.raises(kanal.KanalError, match=r"not a URL|no kind of connection"):
        kanal.connect("nonsense").ping()
    unreachable = kanal.connect("postgresql://127.0.0.1:1/x").ping()
    assert not unreachable.works and unreachable.remedy


def test_a_draft_is_a_job_that_runs(files: Files, old: str) -> None:
    target = f"sqlite:///{files.folder}/new.db"
    job = kanal.draft(old, target, not_like=["tolls"], prefix="old_")
    assert list(job.pipeline) == ["lock", "passage"] and job.defaults.create == "missing"
    job = job.model_copy(update={"run_log": kanal.RunLog(url=f"sqlite:///{files.folder}/log.db")})
    assert job.run().status == "succeeded"
    assert files.rows("new.db", "SELECT count(*) FROM old_passage") == [(3,)]
    with kanal.connect(old, name="here") as here, kanal.connect(target, name="there") as there:
        merged = kanal.draft(here, there, like=["lock"], write="merge", name="nightly")
        assert merged.job == "nightly" and set(merged.connection) == {"here", "there"}
        assert merged.pipeline["lock"].key == ["code"] and merged.effective("lock").write == "merge"
        with pytest.raises(kanal.KanalError, match="both connections are named here"):
            kanal.draft(here, kanal.connect(target, name="here"))
    with pytest.raises(kanal.KanalError, match=r'"murge" is not a write rule.*merge'):
        kanal.draft(old, target, write="murge")
    with pytest.raises(kanal.KanalError, match="no table of connection source fits"):
        kanal.draft(old, target, like=["nothing*"])


@pytest.mark.parametrize(
    ("columns", "rows", "reasons"),
    [
        ({"mark": "upper(trim(mark))"}, [{"mark": "A"}, {"mark": "B"}, {"mark": None}], []),
        ({"n": {"from": "n", "type": "integer"}}, [{"n": 1}], ["not_a_number", "not_a_number"]),
        ({"n": kanal.Column(from_="n", type="integer", if_bad="null")}, [{"n": 1}, {"n": None}, {"n": None}], []),
        ({"t": {"from": "t", "type": "decimal(9,2)", "decimal_mark": ","}}, [{"t": Decimal("12.50")}, {"t": None}, {"t": Decimal(7)}], []),
    ],
)  # fmt: skip
def test_expressions_are_tried_on_a_table(columns: dict[str, object], rows: list[object], reasons: list[str]) -> None:
    frame = pa.table({"mark": [" a", "b ", None], "n": ["1", "x", "y"], "t": ["12,5", None, "7"]})
    found = kanal.evaluate(frame, columns)  # type: ignore[arg-type]
    assert found.rows.to_pylist() == rows and found.rejects["reason"].to_pylist() == reasons
    rows_again, rejects = found
    assert rows_again is found.rows and rejects is found.rejects


def test_an_expression_that_is_wrong_is_a_sentence_and_leaves_nothing(files: Files) -> None:
    frame = pa.table({"a": [1, 2, 3]})
    assert kanal.evaluate(frame, {"b": "a * 2"}, where="a > 1").rows.to_pylist() == [{"b": 4}, {"b": 6}]
    with pytest.raises(kanal.JobError, match='no function "nope"'):
        kanal.evaluate(frame, {"b": "nope(a)"})
    with pytest.raises(kanal.JobError, match="colour"):
        kanal.evaluate(frame, {"b": "a"}, colour="red")
    with pytest.raises(kanal.KanalError, match=r"2 rows were rejected|max_rejects"):
        kanal.evaluate(pa.table({"t": ["x", "y"]}), {"b": {"from": "t", "type": "integer"}}, max_rejects=1)
    assert list(files.folder.iterdir()) == []


def test_a_job_is_inspected_as_by_the_commands(files: Files, old: str, cli: Cli, tmp_path: Path) -> None:
    files.database("new.db", "CREATE TABLE passage (no integer, toll decimal(9,2)); CREATE TABLE lock (code text)")
    path = files.job(
        '[pipeline.passages]\nsource = "old:passage"\ntarget = "new:passage"\nafter = ["locks"]\ncolumns = { no = "no", toll = '
        '{ from = "upper(lock)", type = "decimal(9,2)" } }\n[pipeline.locks]\nsource = "old:lock"\ntarget = "new:lock"\n'
        'columns = { code = "code" }\n[schedule]\ncron = "15 2 * * *"\n[environment.test]\nparameters = {}\n'
    )
    job = kanal.Job.read(path)
    order = job.order().to_pylist()
    told = document(cli("order", "job.toml", "--json"))
    assert [(row["position"], row["step"], row["kind"]) for row in order] == [
        (one["position"], one["step"], one["kind"]) for one in told
    ]
    assert order[1]["waits"] == [{"step": "locks", "because": "after"}] and order[1]["source"] == "old:passage"
    lineage = job.lineage("passage.toll").to_pylist()
    assert [(row["column"], row["expression"], row["source_column"], row["part"]) for row in lineage] == [
        ("toll", "upper(lock)", "lock", "value")
    ]
    assert job.lineage().num_rows > 2
    with pytest.raises(kanal.KanalError, match='fills no table or column "tol"'):
        job.lineage("tol")
    due = job.due(3)
    assert len(due) == 3 and {(moment.hour, moment.minute) for moment in due} == {(2, 15)}
    assert all(moment.tzinfo is dt.UTC for moment in due)
    assert job.runs() == []
    with pytest.raises(kanal.KanalError, match="test has no runs yet"):
        job.report(tmp_path / "no.html")
    run = job.run()
    assert run["passages"].rejects(reason="not_a_number").num_rows == 3
    assert run["passages"].rejects(reason="too_long").num_rows == run["passages"].rejects(column="no").num_rows == 0
    (record,) = job.runs()
    assert (record.run, record.status, record.total.read) == (run.run, "succeeded", 5)
    assert kanal.Job.read(path, environment="test").runs() == []
    assert job.report(tmp_path / "run.html") == (tmp_path / "run.html").stat().st_size
    with pytest.raises(kanal.KanalError, match=r"run 99"):
        job.report(tmp_path / "no.html", 99)
    with pytest.raises(kanal.KanalError, match="run 1 is one of test, not of test@test"):
        kanal.Job.read(path, environment="test").report(tmp_path / "no.html", 1)
    assert "job.toml" in job.bundle(tmp_path / "job.kanal.zip")
    assert kanal.Job.read(tmp_path / "job.kanal.zip").job == "test"
    with job.connect("old") as opened:
        assert opened.name == "old" and "lock" in opened.tables()["table"].to_pylist()
    with pytest.raises(kanal.KanalError, match=r'no connection "oldd".*old'):
        job.connect("oldd")
