"""Drafts of jobs between two open connections, and expressions tried on a table without a database."""

from __future__ import annotations

import tempfile
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import Column, Pipeline, RunLog, Settings
from kanal.explore.draft import Wish, draft_job
from kanal.job import Job
from kanal.opened import OpenConnection, connect
from kanal.runner.write_rules import WRITE_RULES


def draft(
    source: str | OpenConnection,
    target: str | OpenConnection,
    *,
    name: str | None = None,
    like: Sequence[str] = (),
    not_like: Sequence[str] = (),
    write: str = "truncate",
    since: bool = False,
    prefix: str = "",
    schema: str | None = None,
    sample: int = 1000,
) -> Job:
    """A job that loads the tables of one place into another, ordered by their references.

    `like` and `not_like` choose tables by patterns; `write` is the write rule, `since` loads only new rows of tables
    that have a column of changes; `prefix` and `schema` name the target tables. Conversions are proposed from `sample`
    rows of each table (0 for none). The job creates missing target tables.
    Raises KanalError.
    """
    if write not in WRITE_RULES:
        raise KanalError(f'"{write}" is not a write rule', did_you_mean(write, WRITE_RULES))
    here = connect(source, name="source") if isinstance(source, str) else source
    there = connect(target, name="target") if isinstance(target, str) else target
    if here.name == there.name:
        raise KanalError(f"both connections are named {here.name}", "give each a name: kanal.connect(url, name=…)")
    there._opened.may_be_made()
    wish = Wish(tuple(like), tuple(not_like), None, schema, prefix, write, since, sample)
    settings = {one.name: one.settings for one in (here, there)}
    title = name or f"{here.name}-to-{there.name}"
    try:
        text = draft_job(title, here._opened, there._opened, dict.fromkeys(settings, 'url = ""'), wish)
    finally:
        for given, opened in ((source, here), (target, there)):
            if isinstance(given, str):
                opened.close()
    return Job(**tomllib.loads(text) | {"connection": settings})


class Evaluated(tuple[pa.Table, pa.Table]):
    """The rows that expressions make of others, and the rejected rows: `rows, rejects = kanal.evaluate(…)`."""

    __slots__ = ()

    @property
    def rows(self) -> pa.Table:
        """The mapped rows."""
        return self[0]

    @property
    def rejects(self) -> pa.Table:
        """The rejected rows: column, reason, value, message, and the source row."""
        return self[1]


def evaluate(
    frame: Any, columns: Mapping[str, str | Column | Mapping[str, Any]], *, where: str | None = None, **settings: Any
) -> Evaluated:
    """Map rows without a database, to try or to test expressions and conversions.

    `frame` is an Arrow table, a data frame, or anything with an Arrow stream; `columns` are given as in a pipeline:
    expressions, such as `{"mark": "upper(trim(mark))"}`, or expressions with a conversion. `where` and `settings` are
    other keys of a pipeline. Raises JobError if an expression is wrong.
    """
    from kanal.connections.arrow import Memory

    given: dict[str, Any] = {name: Column.model_validate(dict(value)) if isinstance(value, Mapping) else value
                             for name, value in columns.items()}  # fmt: skip
    target: Any = Memory()
    pipeline = Pipeline(source=frame, target=target, columns=given, where=where, **settings)
    with tempfile.TemporaryDirectory(prefix="kanal-evaluate-") as folder:
        log = RunLog(url=f"sqlite:///{Path(folder, 'log.db').as_posix()}")
        run = Job(job="evaluate", pipeline={"evaluate": pipeline}, run_log=log, defaults=Settings(write="append")).run()
        step = run["evaluate"]
        if step.error is not None:
            raise KanalError(step.error)
        return Evaluated((step.table(), step.rejects()))
