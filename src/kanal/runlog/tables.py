"""The tables of the run log, plain ones that any database has."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles

from kanal.core.tally import COUNTS

METADATA = sa.MetaData()


class LongText(sa.Text):
    """A text that MariaDB too takes if it is longer than 65,535 bytes."""

    cache_ok = True


@compiles(LongText)
def _as_text(*_: Any, **__: Any) -> str:
    return "TEXT"


@compiles(LongText, "mysql", "mariadb")
def _as_medium_text(*_: Any, **__: Any) -> str:
    return "MEDIUMTEXT"


def _counts() -> list[sa.Column[Any]]:
    return [sa.Column(name, sa.BigInteger, nullable=False, default=0, server_default="0") for name in COUNTS]


RUN = sa.Table(
    "kanal_run",
    METADATA,
    sa.Column("run", sa.Integer, primary_key=True),
    sa.Column("job", sa.Text, nullable=False),
    sa.Column("file", sa.Text),
    sa.Column("status", sa.String(20), nullable=False),
    sa.Column("started", sa.DateTime, nullable=False),
    sa.Column("finished", sa.DateTime),
    sa.Column("host", sa.Text),
    sa.Column("process", sa.Integer),
    # Which process of that number, when it last gave a sign, what marks its work in targets, and what it was told.
    sa.Column("born", sa.Text),
    sa.Column("sign", sa.DateTime),
    sa.Column("token", sa.String(36)),
    sa.Column("options", sa.Text),
    # Why none of its steps could begin.
    sa.Column("error", sa.Text),
    # Which process may write of it: one that continues the run takes it over.
    sa.Column("owner", sa.String(36)),
    # In which environment, by whom, and when it was due (UTC), if by a schedule; how often it was resumed.
    sa.Column("environment", sa.String(100)),
    sa.Column("started_by", sa.Text),
    sa.Column("due", sa.DateTime),
    sa.Column("resumes", sa.Integer),
    # Runs of one series may run side by side: each loads a window of its own.
    sa.Column("series", sa.String(36)),
    # What its plan looked like.
    sa.Column("plan", sa.Integer),
    sa.Index("kanal_run_of_job", "job", "run"),
    sa.Index("kanal_run_of_status", "status"),
)
#: The form of these tables; a run log of an older one is brought to it when it is next used.
VERSION_NOW = 11
#: What columns were called before: their values are taken over.
FORMER = {"resolved_by": "mended_by", "resolved_in": "mended_in"}
VERSION = sa.Table("kanal_version", METADATA, sa.Column("version", sa.Integer, primary_key=True, autoincrement=False))
LOCK = sa.Table(
    "kanal_lock",
    METADATA,
    sa.Column("job", sa.String(200), primary_key=True),
    sa.Column("run", sa.Integer, nullable=False),
)
STEP = sa.Table(
    "kanal_step",
    METADATA,
    sa.Column("run", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("position", sa.Integer, nullable=False),
    sa.Column("kind", sa.String(20), nullable=False),
    sa.Column("status", sa.String(20), nullable=False),
    sa.Column("started", sa.DateTime),
    sa.Column("seconds", sa.Double, nullable=False, default=0.0),
    sa.Column("batches", sa.Integer, nullable=False, default=0),
    *_counts(),
    sa.Column("error", sa.Text),
    sa.Column("note", sa.Text),
    # Whether it reads all of its source, so that no row of an earlier run is newer; and commits batch by batch.
    sa.Column("reads_all", sa.Boolean),
    sa.Column("by_batch", sa.Boolean),
)
BATCH = sa.Table(
    "kanal_batch",
    METADATA,
    sa.Column("run", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("batch", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("seconds", sa.Double, nullable=False),
    # These go on side by side, so a batch's seconds may be fewer than their sum.
    sa.Column("reading", sa.Double),
    sa.Column("computing", sa.Double),
    sa.Column("writing", sa.Double),
    # The seconds of each stage, as JSON.
    sa.Column("stages", sa.Text),
    *_counts(),
)
TASK = sa.Table(
    "kanal_task",
    METADATA,
    # Which worker of a cluster, or process of an executor, has or had a step (0), or a range of it (1 and upwards).
    sa.Column("run", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("task", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("part", sa.String(40), nullable=False),
    sa.Column("worker", sa.Text, nullable=False),
    sa.Column("started", sa.DateTime, nullable=False),
    sa.Column("seconds", sa.Double),
    # How many workers had it before, and were lost.
    sa.Column("lost", sa.Integer, nullable=False, default=0),
)
REJECT = sa.Table(
    "kanal_reject",
    METADATA,
    sa.Column("reject", sa.Integer, primary_key=True),
    sa.Column("run", sa.Integer, nullable=False),
    sa.Column("step", sa.String(200), nullable=False),
    sa.Column("column", sa.Text),
    sa.Column("reason", sa.String(40), nullable=False),
    sa.Column("value", sa.Text),
    sa.Column("message", sa.Text, nullable=False),
    sa.Column("row", sa.Text, nullable=False),
    # The run by which the row was loaded after all; its number below 0 while that has yet to commit.
    sa.Column("resolved_by", sa.Integer),
    # With which batch of that run, if it commits batch by batch.
    sa.Column("resolved_in", sa.Integer),
    sa.Column("batch", sa.Integer),
    # The reject of an earlier run that this one is again, and the key of the source's row.
    sa.Column("origin", sa.Integer),
    sa.Column("row_key", sa.Text),
    # The target's constraint that it breaks; which row of the target it would have been, and which it refers to.
    sa.Column("constraint", sa.Text),
    sa.Column("would_be", sa.Text),
    sa.Column("parent", sa.Text),
    # What became of its row, if it can no longer be loaded: gone.
    sa.Column("ended", sa.String(10)),
    sa.Index("kanal_reject_of_run", "run", "step"),
)
SHAPE = sa.Table(
    "kanal_shape",
    METADATA,
    # What the tables of a job looked like: an entry for the first run that saw it so.
    sa.Column("shape", sa.Integer, primary_key=True),
    sa.Column("job", sa.String(200), nullable=False),
    sa.Column("step", sa.String(200), nullable=False),
    # What the step does with it: source, target, or the look-up that reads it.
    sa.Column("role", sa.String(200), nullable=False),
    sa.Column("place", sa.Text, nullable=False),
    sa.Column("run", sa.Integer, nullable=False),
    sa.Column("columns", sa.Text, nullable=False),
    sa.Index("kanal_shape_of_job", "job"),
)
PLAN = sa.Table(
    "kanal_plan",
    METADATA,
    # What a job's plan looked like: its steps, waits and the origins of columns, as JSON; once for each form.
    sa.Column("plan", sa.Integer, primary_key=True),
    sa.Column("job", sa.String(200), nullable=False),
    sa.Column("digest", sa.String(64), nullable=False),
    sa.Column("content", LongText, nullable=False),
    sa.Index("kanal_plan_of_job", "job", "digest"),
)
SCHEDULE = sa.Table(
    "kanal_schedule",
    METADATA,
    sa.Column("job", sa.String(200), primary_key=True),
    # Which times these are, and from when on (UTC) they are kept: what was due before is not missed.
    sa.Column("times", sa.Text, nullable=False),
    sa.Column("since", sa.DateTime, nullable=False),
    # The run that was stopped with its service, and is continued when that is back.
    sa.Column("stopped_run", sa.Integer),
)
MESSAGE = sa.Table(
    "kanal_message",
    METADATA,
    # What is to be told of a run or a due moment, once for each receiver, until it is sent.
    sa.Column("message", sa.Integer, primary_key=True),
    sa.Column("job", sa.String(200), nullable=False),
    sa.Column("about", sa.String(100), nullable=False),
    sa.Column("receiver", sa.String(100), nullable=False),
    sa.Column("kinds", sa.Text, nullable=False),
    sa.Column("title", sa.Text, nullable=False),
    sa.Column("text", sa.Text, nullable=False),
    sa.Column("made", sa.DateTime, nullable=False),
    sa.Column("sent", sa.DateTime),
    sa.Column("tries", sa.Integer, nullable=False, default=0),
    sa.Column("error", sa.Text),
    sa.Index("kanal_message_about", "job", "about", "receiver", unique=True),
)


def make_fit(dialect: str) -> None:
    """Say of the tables what a kind of database has to be told: MariaDB, how much of a long text an index has.

    Not if they are declared, since that would load SQLAlchemy's part for MariaDB wherever there is a run log.
    """
    if dialect in ("mysql", "mariadb"):
        for index in RUN.indexes:
            index.dialect_options["mysql"]["length"] = {"job": 100} if "job" in index.columns else None
