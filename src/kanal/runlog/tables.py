"""The tables of the run log, plain ones that any database has."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import sqlalchemy as sa

from kanal.core.tally import Tally

METADATA = sa.MetaData()
COUNTS = tuple(count.name for count in fields(Tally))


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
    # Which process may write of it: one that goes on with the run takes it over.
    sa.Column("owner", sa.String(36)),
)
#: The form of these tables; a run log of an older one is brought to it when it is next used.
VERSION_NOW = 8
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
    *_counts(),
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
    # With which batch of that run, where it commits batch by batch.
    sa.Column("resolved_in", sa.Integer),
    sa.Column("batch", sa.Integer),
    # The reject of an earlier run that this one is again, and the key of the source's row.
    sa.Column("origin", sa.Integer),
    sa.Column("row_key", sa.Text),
    # The target's constraint that it breaks; which row of the target it would have been, and which it refers to.
    sa.Column("constraint", sa.Text),
    sa.Column("would_be", sa.Text),
    sa.Column("parent", sa.Text),
    # What became of its row, where it can no longer be loaded: gone.
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
