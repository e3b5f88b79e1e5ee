"""The stages of a step, each by itself: a batch of three columns goes in, and what is left of it comes out."""

from __future__ import annotations

import datetime as dt

import pyarrow as pa
import pytest

import kanal
from conftest import Files
from kanal.connections.loading import RefusedRow
from kanal.core.errors import KanalError
from kanal.core.frame import SourceBatch
from kanal.core.rejects import target_row
from kanal.core.tally import Tally
from kanal.runner import plan_job
from kanal.runner.incremental import Increment
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.limits import limit_deletes, limit_rejects, require_rows
from kanal.runner.own_lookups import OwnLookups
from kanal.runner.stages import (
    Batch,
    Check,
    Convert,
    Fit,
    HoldBack,
    LookUp,
    OnlyNew,
    OpenReferences,
    Stage,
    Where,
    keys_in_target,
    through,
)

MOMENT = dt.datetime(2026, 1, 1)
ROWS = [(1, "a", "10"), (2, "b", "x"), (3, None, "30"), (4, "c", "400")]


@pytest.fixture
def folder(files: Files) -> Files:
    files.database("old.db", "CREATE TABLE s (k integer PRIMARY KEY, name text, v text)", s=ROWS)
    files.database("new.db", "CREATE TABLE t (k integer PRIMARY KEY, v smallint, name text)", t=[(1, 1, "old")])
    return files


def plan_of(files: Files, more: str = "", columns: str = 'k = "k"\nv = "v"\nname = "name"') -> PipelinePlan:
    path = files.job(
        f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nkey = "k"\n{more}\n[pipeline.t.columns]\n{columns}\n'
    )
    step = plan_job(kanal.Job.read(path)).steps[0]
    assert isinstance(step, PipelinePlan)
    return step


def batch_of(rows: list[tuple[int, str | None, str]] = ROWS) -> Batch:
    keys, names, values = zip(*rows, strict=True)
    columns = {
        "k": pa.array(keys, pa.int64()),
        "name": pa.array(names, pa.string()),
        "v": pa.array(values, pa.string()),
    }
    return Batch(SourceBatch(len(rows), columns))


def keys(batch: Batch) -> list[int]:
    """The keys of the rows that are left."""
    return [batch.source.columns["k"][int(row)].as_py() for row in batch.good]


def looked_up(plan: PipelinePlan) -> LookUp:
    return LookUp(plan, MOMENT, lambda database, table, names, load: database.read_columns(table, names, load))


def converted(plan: PipelinePlan, *more: Stage) -> Batch:
    return through([looked_up(plan), Convert(plan), *more], batch_of())


@pytest.mark.parametrize(
    ("where", "limit", "left", "tally"),
    [
        ("k > 2", "", [3, 4], Tally(read=4, filtered=2)),
        ("k > 1", "limit = 2", [2, 3], Tally(read=3, filtered=1)),  # the fourth row has not been asked for
        ("CAST(v AS integer) > 10", "", [3, 4], Tally(read=4, filtered=1)),  # of the second it cannot be told
    ],
)
def test_where(folder: Files, where: str, limit: str, left: list[int], tally: Tally) -> None:
    stage = Where(plan_of(folder, f'where = "{where}"\n{limit}'), MOMENT)
    batch = stage.take(batch_of())
    assert batch.source.columns["k"].to_pylist() == left
    assert batch.tally == tally
    assert len(batch.rejects) == tally.read - tally.filtered - len(left)
    assert stage.left == (0 if limit else None)


def test_only_new(folder: Files) -> None:
    plan = plan_of(folder, 'write = "merge"\nsince = "k"')
    assert plan.since is not None
    increment = Increment.of(plan, plan.since, "test", MOMENT, writes=False)
    increment.low = 3
    batch = OnlyNew(plan, increment, MOMENT).take(batch_of())
    assert batch.source.columns["k"].to_pylist() == [3, 4]
    assert batch.tally.read == 0  # rows that are not new are not counted
    assert increment.greatest == 4


def test_convert_and_fit(folder: Files) -> None:
    plan = plan_of(folder, columns='k = "k"\nv = { from = "v", type = "smallint" }\nname = "upper(name)"')
    batch = converted(plan, Fit(plan))
    assert keys(batch) == [1, 3, 4]
    assert batch.bad.tolist() == [1]
    assert batch.stored.column(batch.stored.schema.names.index("name")).to_pylist() == ["A", "B", None, "C"]
    assert [(reject.column, str(reject.reason), reject.value) for reject in batch.rejects] == [
        ("v", "not_a_number", "x")
    ]
    assert batch.faults == []


def test_rows_that_are_withdrawn_matter_by_their_key_alone(folder: Files) -> None:
    plan = plan_of(folder, 'write = "merge"\ndelete_when = "k = 2"', 'k = "k"\nv = { from = "v", type = "smallint" }')
    batch = converted(plan)
    assert keys(batch) == [1, 2, 3, 4]  # that v is no number does not matter of a row that goes
    assert batch.gone is not None
    assert batch.gone.tolist() == [False, True, False, False]


def test_look_up(folder: Files) -> None:
    more = '[pipeline.t.lookup.there]\ntable = "new:t"\non = { k = "k" }\n'
    plan = plan_of(folder, more, 'k = "k"\nname = "there.name"')
    batch = converted(plan)
    assert keys(batch) == [1]
    assert batch.made.column(batch.made.schema.names.index("name"))[0].as_py() == "old"
    assert {str(reject.reason) for reject in batch.rejects} == {"not_in_lookup"}


def test_hold_back(folder: Files) -> None:
    more = '[pipeline.t.lookup.there]\ntable = "new:t"\non = { k = "k" }\n'
    plan = plan_of(folder, more, 'k = "k"\nname = "there.name"')
    look_up = looked_up(plan)
    stage = HoldBack(OwnLookups(plan, frozenset({"there"}), MOMENT), lambda: look_up.tables)
    batch = batch_of()
    batch.tally.read = 4
    batch = stage.take(batch)
    assert batch.source.columns["k"].to_pylist() == [1]  # the others find nothing yet
    assert batch.held is not None
    assert batch.held.columns["k"].to_pylist() == [2, 3, 4]
    assert batch.tally.read == 1


def test_check(folder: Files) -> None:
    plan = plan_of(folder, 'checks = ["named"]\n[check.named]\nexpect = "name IS NOT NULL"')
    checks = [check.begin(lambda *_: {}) for check in plan.checks]
    batch = converted(plan_of(folder, columns='k = "k"\nname = "name"'), Check(plan, checks, MOMENT))
    assert keys(batch) == [1, 2, 4]
    assert [str(reject.reason) for reject in batch.rejects] == ["check_failed"]


def test_open_references(folder: Files) -> None:
    plan = plan_of(folder, columns='k = "k"\nname = "name"')
    batch = converted(plan, Fit(plan))
    key_of = keys_in_target(plan, batch.stored)
    assert key_of(2) == target_row("t", {"k": "3"})
    refused = {str(key_of(2)): RefusedRow(0, "there is no such row", ("name",))}
    batch = OpenReferences(plan, refused).take(batch)
    assert keys(batch) == [1, 2, 4]
    assert "there is no such row" in str(batch.rejects[0].message)


@pytest.mark.parametrize(
    ("settings", "tally", "said"),
    [
        ("max_rejects = 1", Tally(read=9, rejected=2), "more than max_rejects = 1"),
        ("max_rejects = 2", Tally(read=9, rejected=2), None),
        ('max_rejects = "20%"', Tally(read=9, rejected=2), "more than max_rejects = 20%"),
        ('reject = "all"', Tally(read=9, rejected=1), "refuses the whole load"),
        ("min_rows = 10", Tally(read=12, filtered=3, inserted=9), "fewer than min_rows = 10"),
        ('min_rows = "50%"', Tally(read=9, inserted=9), "50% of the 20 of t"),
        ('write = "truncate"', Tally(deleted=4), "has 4, which would all be gone"),
        ('write = "truncate"\nmin_rows = 0', Tally(deleted=4), None),
        ('write = "merge"\nmissing = "delete"\nmax_deletes = 3', Tally(deleted=4), "more than max_deletes = 3"),
        ('write = "merge"\nmissing = "delete"\nmax_deletes = "20%"', Tally(deleted=4), None),
    ],
)
def test_limits(folder: Files, settings: str, tally: Tally, said: str | None) -> None:
    plan = plan_of(folder, settings)

    def limits() -> None:
        limit_rejects(plan, tally, final=True)
        require_rows(plan, tally, before=20)
        limit_deletes(plan, tally.deleted, before=20)

    if said is None:
        limits()
    else:
        with pytest.raises(KanalError, match=said):
            limits()
