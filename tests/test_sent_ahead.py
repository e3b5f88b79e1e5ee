"""Batches that are sent to a target before it says what it makes of those before."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Place
from kanal.connections.sql.mariadb_load import MariaDBLoad
from kanal.connections.sql.postgresql_load import PostgreSQLLoad
from kanal.runner import write_rule
from test_servers import job, succeeded

Places = Callable[[str], Place]
ROWS = 160
LOADS: dict[str, Any] = {"postgresql": PostgreSQLLoad, "mariadb": MariaDBLoad}
#: The source's rows, what is wrong with some of them, and whether the target refuses any.
WRONG: dict[str, tuple[list[str], bool]] = {
    "nothing": ([], False),
    "the first": (["UPDATE s SET n = 13 WHERE id = 1"], True),
    "the last": (["UPDATE s SET n = 13 WHERE id = 160"], True),
    "some": (["UPDATE s SET n = 13 WHERE id % 60 = 9"], True),
    "most": (["UPDATE s SET n = 13 WHERE id % 5 > 0"], True),
    "doubled": (["UPDATE s SET id = id - 90 WHERE id IN (95, 100, 159)", "UPDATE s SET n = 13 WHERE id = 110"], True),
    "unreadable": (["UPDATE s SET code = 'x' WHERE id % 70 = 6"], False),
    "both": (["UPDATE s SET code = 'x' WHERE id % 70 = 6", "UPDATE s SET n = 13 WHERE id % 50 = 7"], True),
}


def fill(old: Place, new: Place, wrong: str) -> None:
    old.sql("DROP TABLE IF EXISTS s", "CREATE TABLE s (place integer, id integer, n integer, code text, v text)",
            "INSERT INTO s SELECT i, i, CASE WHEN i < 100 THEN 20 + i END, i::text, 'v' || i "
            f"FROM generate_series(1, {ROWS}) AS i", *WRONG[wrong][0])  # fmt: skip
    new.sql("DROP TABLE IF EXISTS t", "CREATE TABLE t (id integer PRIMARY KEY, n integer CHECK (n <> 14), code smallint, v varchar(9) UNIQUE)",
            "INSERT INTO t VALUES (50, 1, 1, 'w50'), (500, 1, 1, 'v120')")  # fmt: skip


def body(write: str, commit: str, duplicates: str = "reject", more: str = "") -> str:
    # The numbers that are computed have no NULL in some batches, so that their columns come in another order.
    key = 'key = "id"' if write == "merge" or duplicates != "reject" else ""
    return f'''[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nwrite = "{write}"\ncommit = "{commit}"\nbatch_rows = 7
        order_by = ["place"]\nduplicates = "{duplicates}"\n{key}\n{more}
        [pipeline.t.columns]\nid = "id"\nn = "n + 1"\ncode = "code"\nv = "v"\n'''


RULES = [("append", "reject"), ("append", "first"), ("truncate", "reject"), ("truncate", "last"), ("merge", "reject"),
         ("merge", "first"), ("merge", "last")]  # fmt: skip


@pytest.mark.parametrize(
    ("write", "duplicates", "kind"),
    # Each way to write into one of the databases, and into the other with the long tests.
    [pytest.param(*rule, kind, marks=() if (place + turn) % 2 == 0 else pytest.mark.matrix)
     for place, rule in enumerate(RULES) for turn, kind in enumerate(LOADS)],
)  # fmt: skip
def test_rows_counts_and_rejects_are_those_of_batches_that_are_sent_one_by_one(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, write: str, duplicates: str, kind: str
) -> None:
    confirmed, sent = list[bool](), list[int | None]()
    confirm, send = LOADS[kind].confirm, LOADS[kind].send

    def confirming(load: Any) -> None:
        confirmed.append(load._open is not None)
        confirm(load)

    def sending(load: Any, *given: Any) -> int | None:
        sent.append(send(load, *given))
        return sent[-1]

    monkeypatch.setattr(LOADS[kind], "confirm", confirming)
    monkeypatch.setattr(LOADS[kind], "send", sending)
    old, new = places("postgresql"), places(kind)
    for wrong, commit in [*((wrong, "step") for wrong in WRONG), ("doubled", "job"), ("both", "job")]:
        found = []
        for may in (True, False):
            confirmed.clear()
            sent.clear()
            fill(old, new, wrong)
            with monkeypatch.context() as patch:
                if not may:
                    one_by_one(patch)
                run = succeeded(job(tmp_path, body(write, commit, duplicates), old=old, new=new).run())
            rejects = [{**row, "reject": None} for row in run["t"].rejects().to_pylist()]
            found.append((run["t"].tally, rejects, new.rows("SELECT * FROM t ORDER BY id")))
            (tmp_path / "kanal-runs.db").unlink()
            if may and wrong == "nothing" and write == "truncate" and duplicates == "reject":
                assert len([size for size in sent if size is not None]) == -(-ROWS // 7)
                assert sum(confirmed) < len(sent) / 2
        for one, other in zip(found[0], found[1], strict=True):
            assert one == other, (wrong, commit)
        assert found[0][0].read == ROWS
        if WRONG[wrong][1]:
            assert any("refused" in str(row["message"]) for row in found[0][1])


def one_by_one(patch: pytest.MonkeyPatch) -> None:
    for rule in (write_rule.WriteRule, write_rule.Merge):
        patch.setattr(rule, "may_send", False)


@pytest.mark.parametrize("kind", LOADS)
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
def test_a_limit_of_rejects_ends_a_step_where_it_would_end(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str, write: str
) -> None:
    found = []
    old, new = places("postgresql"), places(kind)
    for may in (True, False):
        if not may:
            one_by_one(monkeypatch)
        fill(old, new, "both")
        before = new.rows("SELECT * FROM t ORDER BY id")
        run = job(tmp_path, body(write, "step", more="max_rejects = 2"), old=old, new=new).run()
        found.append((run["t"].tally.rejected, str(run["t"].error)))
        assert new.rows("SELECT * FROM t ORDER BY id") == before
        (tmp_path / "kanal-runs.db").unlink()
    for one, other in zip(found[0], found[1], strict=True):
        assert one == other
    assert "more than 2 rows" in found[0][1] or "max_rejects" in found[0][1]


@pytest.mark.parametrize("kind", LOADS)
@pytest.mark.parametrize("commit", ["step", "job"])
@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
def test_a_source_that_fails_when_rows_were_sent_leaves_the_target_as_it_was(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str, write: str, commit: str
) -> None:
    old, new, left = places("postgresql"), places(kind), list[object]()
    close = LOADS[kind].close

    def closing(load: Any) -> None:
        close(load)
        left.append(load._open)

    monkeypatch.setattr(LOADS[kind], "close", closing)
    fill(old, new, "nothing")
    old.sql("ALTER TABLE s RENAME TO rows",
            "CREATE VIEW s AS SELECT place, id, 10 / (150 - id) AS n, code, v FROM rows")  # fmt: skip
    before = new.rows("SELECT * FROM t ORDER BY id")
    made = job(tmp_path, body(write, commit), old=old, new=new)
    run = made.run()
    assert "division by zero" in str(run["t"].error)
    assert new.rows("SELECT * FROM t ORDER BY id") == before
    old.sql("CREATE OR REPLACE VIEW s AS SELECT place, id, id AS n, code, v FROM rows")
    assert succeeded(made.run())["t"].tally.read == ROWS
    assert left == [None] * len(left) != []
