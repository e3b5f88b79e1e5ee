"""Kanal from Python: data of the program as sources and targets, mistakes, dry runs, results in a notebook."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import kanal
from conftest import Files, Place
from test_runs import counts
from test_servers import succeeded

Places = Callable[[str], Place]
UTC = dt.UTC


def made(folder: Path, source: Any, target: Any, **settings: Any) -> kanal.Job:
    """A job of one pipeline `p`."""
    connections = settings.pop("connection", {})
    functions = settings.pop("functions", [])
    return kanal.Job(
        job="python",
        functions=functions,
        connection=connections,
        run_log=kanal.RunLog(url=f"sqlite:///{folder}/runs.db"),
        pipeline={"p": kanal.Pipeline(source=source, target=target, **settings)},
    )


MOMENT = dt.datetime(2025, 3, 1, 12, 30, 0, 5)
TYPES: list[tuple[pa.DataType, Any, pa.DataType, Any]] = [
    (pa.int8(), -5, pa.int16(), -5),
    (pa.uint16(), 65_535, pa.int32(), 65_535),
    (pa.uint32(), 2**32 - 1, pa.int64(), 2**32 - 1),
    (pa.uint64(), 2**64 - 1, pa.decimal128(20, 0), Decimal(2**64 - 1)),
    (pa.float32(), 0.5, pa.float32(), 0.5),
    (pa.float64(), 0.1, pa.float64(), 0.1),
    (pa.bool_(), True, pa.bool_(), True),
    (pa.string(), "Linde", pa.string(), "Linde"),
    (pa.large_string(), "Linde", pa.string(), "Linde"),
    (pa.dictionary(pa.int8(), pa.string()), "Linde", pa.string(), "Linde"),
    (pa.large_binary(), b"\0\xff", pa.binary(), b"\0\xff"),
    (pa.decimal128(9, 2), Decimal("1.25"), pa.decimal128(9, 2), Decimal("1.25")),
    (pa.date32(), dt.date(2025, 3, 1), pa.date32(), dt.date(2025, 3, 1)),
    (pa.date64(), dt.date(2025, 3, 1), pa.date32(), dt.date(2025, 3, 1)),
    (pa.time32("s"), dt.time(12, 30), pa.time64("us"), dt.time(12, 30)),
    (pa.timestamp("ns"), MOMENT, pa.timestamp("us"), MOMENT),
    (pa.timestamp("s", "Europe/Amsterdam"), MOMENT.replace(microsecond=0, tzinfo=UTC), pa.timestamp("us", "UTC"),
     MOMENT.replace(microsecond=0, tzinfo=UTC)),
    (pa.list_(pa.int64()), [1, 2], pa.string(), "[1, 2]"),
    (pa.struct([("day", pa.date32())]), {"day": dt.date(2025, 3, 1)}, pa.string(), '{"day": "2025-03-01"}'),
    (pa.duration("s"), dt.timedelta(hours=1), pa.string(), "1:00:00"),
    (pa.null(), None, pa.string(), None),
]  # fmt: skip


def test_every_type_of_arrow_comes_through(tmp_path: Path) -> None:
    table = pa.table({f"c{n}": pa.array([value, None], kind) for n, (kind, value, _, _) in enumerate(TYPES)})
    memory = kanal.Memory()
    assert counts(succeeded(made(tmp_path, table, memory).run())["p"]) == {"read": 2, "inserted": 2}
    found = memory.table()
    assert found.schema.types == [wanted for _, _, wanted, _ in TYPES]
    assert list(found.to_pylist()[0].values()) == [value for *_, value in TYPES]
    assert set(found.to_pylist()[1].values()) == {None}


def test_what_a_type_cannot_hold_is_rejected(tmp_path: Path) -> None:
    finer = pa.array([1, 1000, None], pa.int64()).cast(pa.timestamp("ns"))
    step = made(tmp_path, pa.table({"at": finer}), kanal.Memory()).run()["p"]
    assert counts(step) == {"read": 3, "rejected": 1, "inserted": 2}
    assert step.rejects()["row"].to_pylist() == [{"at": "1970-01-01 00:00:00.000000001"}]


class Capsule:
    """Something that has the Arrow PyCapsule interface, and nothing else."""

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        return pa.table({"code": ["L1", "L2"]}).__arrow_c_stream__(requested_schema)


BATCH = pa.record_batch({"code": ["L1", "L2"]})


@pytest.mark.parametrize(
    "source", [pa.Table.from_batches([BATCH]), BATCH, Capsule()], ids=lambda one: type(one).__name__
)
def test_what_rows_can_be_read_from(tmp_path: Path, source: Any) -> None:
    memory = kanal.Memory()
    job = made(tmp_path, source, memory, write="truncate")
    assert job.check() == []
    for _ in range(2):
        assert succeeded(job.run())["p"].table().to_pydict() == {"code": ["L1", "L2"]}
    assert [comparison.differs() for comparison in job.compare()] == [False]


def test_a_stream_is_read_once(tmp_path: Path) -> None:
    job = made(tmp_path, pa.RecordBatchReader.from_batches(BATCH.schema, [BATCH]), kanal.Memory(), write="truncate")
    assert counts(succeeded(job.run())["p"]) == {"read": 2, "inserted": 2}
    again = job.run()["p"]
    assert (again.status, again.tally.deleted) == ("failed", 0)
    assert "is a stream, which has been read already" in str(again.error)


def test_a_memory_is_added_to_or_replaced_and_a_failed_run_leaves_it(tmp_path: Path) -> None:
    memory = kanal.Memory()
    with pytest.raises(kanal.KanalError, match="nothing was loaded"):
        memory.table()
    assert succeeded(made(tmp_path, BATCH, memory, write="append").run())
    assert succeeded(made(tmp_path, BATCH, memory, write="append").run())
    assert memory.table().num_rows == 4
    for write in ("append", "truncate"):
        failed = made(tmp_path, BATCH, memory, write=write, where="code = 'L1' OR 1/0 = 1", reject="all").run()
        assert (failed.status, memory.table().num_rows) == ("failed", 4)
    run = succeeded(made(tmp_path, BATCH, memory, write="truncate").run())
    assert counts(run["p"]) == {"read": 2, "inserted": 2, "deleted": 4}
    assert pa.table(memory).num_rows == 2


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb", "other"])
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
@pytest.mark.parametrize("commit", ["step", "job"])
def test_data_of_the_program_there_and_back(places: Places, tmp_path: Path, kind: str, write: str, commit: str) -> None:
    place = places(kind)
    place.sql("CREATE TABLE t (code varchar(9) NOT NULL, tons decimal(9,2), PRIMARY KEY (code))")
    place.sql("INSERT INTO t VALUES ('L9', 1)")
    connection = {"d": kanal.Connection(url=place.url)}
    rows = pa.table({"code": ["L1", "L2", None], "tons": ["1.5", "x", "2"]})
    job = made(tmp_path, rows, "d:t", write=write, key="code", commit=commit, connection=connection)
    step = job.run()["p"]
    assert (step.tally.read, step.tally.inserted, step.tally.rejected) == (3, 1, 2), step.error
    back = kanal.Memory()
    succeeded(made(tmp_path, "d:t", back, where="tons IS NOT NULL", connection=connection).run())
    expected = {"L1": Decimal("1.50")} | ({} if write == "truncate" else {"L9": Decimal("1.00")})
    assert {row["code"]: row["tons"] for row in back.table().to_pylist()} == expected
    again = made(tmp_path, pa.table({"code": ["L2"], "tons": ["2"]}), "d:t", write="merge", key="code",
                 connection=connection)  # fmt: skip
    assert counts(succeeded(again.run(dry_run=True))["p"]) == {"read": 1, "inserted": 1}
    assert len(place.rows("SELECT * FROM t")) == len(expected)


def test_replay_and_resume_of_data_of_the_program(tmp_path: Path) -> None:
    memory = kanal.Memory()
    rows = pa.table({"n": ["1", "two"]})
    first = made(tmp_path, rows, memory, columns={"n": {"from": "n", "type": "integer"}}).run()
    assert counts(first["p"]) == {"read": 2, "rejected": 1, "inserted": 1}
    fixed = made(tmp_path, rows, memory, columns={"n": {"from": "replace(n, 'two', '2')", "type": "integer"}})
    assert counts(fixed.replay()["p"]) == {"read": 1, "inserted": 1}
    assert memory.table().to_pydict() == {"n": [1, 2]}
    with pytest.raises(kanal.KanalError, match="nothing to resume"):
        fixed.resume(first.run)


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        (lambda: kanal.Pipeline(source="old:t", targt="new:t"), 'unknown key "targt". Did you mean "target"?'),
        (lambda: kanal.Connection(url=5), "url: 5 is not a text"),
        (lambda: kanal.Settings(write="mrge"), "is not known here"),
        (lambda: kanal.Job(job="x", pipeline={"p": {"source": "t", "target": "n:t"}}), "pipeline p, source"),
        (lambda: kanal.Job(job="x", functions=[len]), "decorate a function of this program with @kanal.function"),
        (lambda: kanal.Pipeline(source=5, target="n:t"), "source: 5 is not a table"),
    ],
    ids=["key", "type", "choice", "inner", "function", "source"],
)
def test_a_mistake_is_a_joberror(wrong: Callable[[], Any], said: str) -> None:
    with pytest.raises(kanal.JobError) as caught:
        wrong()
    assert said in str(caught.value)
    assert "pydantic" not in str(caught.value)


def test_a_function_belongs_to_the_job_that_names_it(tmp_path: Path) -> None:
    def declared(suffix: str) -> Any:
        @kanal.function(takes="value", name="marked")
        def marked(code: str) -> str:
            return code + suffix

        return marked

    jobs = []
    for suffix in ("!", "?"):
        memory = kanal.Memory()
        jobs.append(
            (made(tmp_path, BATCH, memory, functions=[declared(suffix)], columns={"c": "marked(code)"}), memory)
        )
    for (job, memory), suffix in zip(jobs, ("!", "?"), strict=True):
        succeeded(job.run())
        assert memory.table().to_pydict() == {"c": [f"L1{suffix}", f"L2{suffix}"]}
    with pytest.raises(kanal.KanalError, match="functions of this program"):
        jobs[0][0].write(tmp_path / "job.toml")


def test_results_show_themselves(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (a text)", t=[("1",), ("<b>",)])
    files.database("new.db", "CREATE TABLE t (a integer)")
    job = kanal.Job.read(files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"'))
    dry = job.run(dry_run=True)
    assert (dry.run, counts(dry["t"])) == (0, {"read": 2, "rejected": 1, "inserted": 1})
    with pytest.raises(kanal.KanalError, match="were not kept"):
        dry["t"].rejects()
    with pytest.raises(kanal.KanalError, match="does not load into memory"):
        dry["t"].table()
    assert files.rows("new.db", "SELECT * FROM t") == []
    run = job.run()
    assert run["t"].rejects()["row"].to_pylist() == [{"a": "<b>"}]
    (comparison,) = job.compare()
    for shown in (run, run["t"], dry, comparison):
        page = shown._repr_html_()
        assert page.startswith("<table>") and page.endswith("</table>") and "<td>" in page
    with pytest.raises(kanal.KanalError, match="data of this program"):
        made(files.folder, BATCH, kanal.Memory()).write(files.folder / "x.toml")
