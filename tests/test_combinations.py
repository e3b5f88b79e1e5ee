"""Settings that cannot be combined: each pair of the table is reported for a job that has both."""

from __future__ import annotations

import pytest

import kanal
from conftest import Files
from kanal.runner.planning.combinations import COMBINATIONS, EXCHANGE, Combination
from kanal.runner.run import check_job

#: How a job gets each setting.
LINES = {
    'write = "truncate"': 'write = "truncate"',
    'write = "history"': 'write = "history"\nhistory = { from = "begins", until = "ends" }',
    "a write rule that does not merge": 'write = "append"',
    'a write rule other than "truncate"': 'write = "merge"',
    'missing = "delete"': 'missing = "delete"',
    'missing = "keep" without delete_when': "",
    "max_deletes": "max_deletes = 3",
    'reject = "all"': 'reject = "all"',
    'commit = "batch"': 'commit = "batch"',
    'duplicates = "first" or "last"': 'duplicates = "first"',
    'duplicates = "last" with commit = "batch"': 'duplicates = "last"\ncommit = "batch"',
    'duplicates = "last"': 'duplicates = "last"',
    'matched = "keep"': 'matched = "keep"',
    'matched = "keep" or newer_by': 'write = "merge"\nnewer_by = "v"',
    'not_matched = "ignore"': 'not_matched = "ignore"',
    "newer_by": 'newer_by = "v"',
    "delete_when": 'delete_when = "v = 1"',
    "since": 'since = "k"',
    "files_once": "files_once = true",
    "limit": "limit = 5",
    "min_rows": "min_rows = 2",
    "where": 'where = "v > 0"',
    "order_by": 'order_by = "k"',
    "split": "split = 2",
    "rebuild_indexes": "rebuild_indexes = true",
    "a query as the source": "",
    "a check that values are unique": 'checks = ["once"]',
    "a look-up in the table that is filled": "",
}
MORE = {
    "a check that values are unique": '[check.once]\nunique = ["v"]\n',
    "a look-up in the table that is filled": '[pipeline.t.lookup.own]\ntable = "new:t"\non = { k = "v" }\n',
}


def job_of(files: Files, *settings: str) -> kanal.Job:
    lines = "\n".join(LINES[text] for text in settings)
    source = '{ connection = "old", query = "SELECT * FROM s" }' if "a query as the source" in settings else '"old:s"'
    if "files_once" in settings:
        source = '"files:s.csv"'
    rule = "" if "write" in lines else 'write = "merge"\n'
    more = "".join(MORE.get(text, "") for text in settings)
    body = f'[pipeline.t]\nsource = {source}\ntarget = "new:t"\nkey = "k"\n{rule}{lines}\n{more}'
    return kanal.Job.read(files.job('[connection.files]\nurl = "file://."\n' + body))


@pytest.fixture
def tables(files: Files) -> Files:
    columns = "k integer PRIMARY KEY, v integer"
    files.database("old.db", f"CREATE TABLE s ({columns})", s=[(1, 1)])
    files.database("new.db", f"CREATE TABLE t ({columns}, begins timestamp, ends timestamp)")
    (files.folder / "s.csv").write_text("k,v\n1,1\n")
    return files


@pytest.mark.parametrize(
    "pair",
    [pair for pair in COMBINATIONS if pair.other.text != EXCHANGE.text],  # exchanges have tests of their own
    ids=lambda pair: f"{pair.setting.text} x {pair.other.text}",
)
def test_each_pair_is_reported_at_its_key(tables: Files, pair: Combination) -> None:
    found = check_job(job_of(tables, pair.setting.text, pair.other.text))
    reported = [one for one in found if one.what.startswith(f"{pair.setting.text} cannot be combined with")]
    assert [one for one in reported if pair.other.text in one.what and one.what.endswith(pair.why)]
    assert {one.path for one in reported} == {("pipeline", "t", pair.key)}


#: These mean nothing in a plain merge.
NEED_ANOTHER = {"max_deletes", "rebuild_indexes"}


@pytest.mark.parametrize("setting", [text for text in LINES if text not in NEED_ANOTHER])
def test_no_setting_is_reported_by_itself(tables: Files, setting: str) -> None:
    assert not [one for one in check_job(job_of(tables, setting)) if "cannot be combined" in one.what]
