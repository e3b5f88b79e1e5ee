"""Which runs are kept, and which are removed."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterator

import sqlalchemy as sa

from kanal.runlog import clock
from kanal.runlog.database import RunLogDatabase
from kanal.runlog.tables import BATCH, REJECT, RUN, STEP, TASK

#: A run that failed so long ago, before others that succeeded, is not resumed any more.
ABANDONED = dt.timedelta(days=30)


class KeptRuns:
    """Removes runs that are no longer needed."""

    def __init__(self, database: RunLogDatabase, keep: int | dt.timedelta | None) -> None:
        """`keep` is how many runs of each job are kept, or for how long; None for all."""
        self._database, self.keep_runs = database, keep

    def overdue(self, job: str) -> list[tuple[int, str]]:
        """The runs of a job that are kept no longer, each with the token of its work in targets.

        `keep_runs` is a number or an age. Running ones and the latest successful run always stay.
        """
        if self.keep_runs is None:
            return []
        ended = sa.and_(RUN.c.job == job, RUN.c.status != "running")
        found = sa.select(RUN.c.run, RUN.c.token).where(ended).order_by(RUN.c.run.desc())
        if isinstance(self.keep_runs, dt.timedelta):
            found = found.where(RUN.c.started < clock.now() - self.keep_runs)
        else:
            found = found.offset(self.keep_runs)
        last = sa.select(sa.func.max(RUN.c.run)).where(RUN.c.job == job, RUN.c.status == "succeeded")
        with self._database.begin() as connection:
            best = connection.execute(last).scalar()
            return [(row.run, row.token or "") for row in connection.execute(found.limit(100_000)) if row.run != best]

    def abandoned(self, job: str) -> list[tuple[int, str]]:
        """The runs of a job that failed long ago, and that nobody has continued while later ones succeeded.

        Not those of a window, which no other run loads."""
        long_ago = clock.now() - ABANDONED
        last = sa.select(sa.func.max(RUN.c.run)).where(RUN.c.job == job, RUN.c.status == "succeeded").scalar_subquery()
        found = sa.select(RUN.c.run, RUN.c.token).where(
            RUN.c.job == job, RUN.c.status.in_(("failed", "stopped")), RUN.c.finished < long_ago, RUN.c.run < last,
            RUN.c.token != "", sa.or_(RUN.c.options.is_(None), ~RUN.c.options.like('%"until"%')),
        )  # fmt: skip
        with self._database.begin() as connection:
            return [(row.run, row.token or "") for row in connection.execute(found)]

    def give_up(self, runs: Collection[int]) -> None:
        """Record that runs, by their numbers, cannot be continued any more."""
        with self._database.begin() as connection:
            for some in _hundreds(runs):
                connection.execute(RUN.update().where(RUN.c.run.in_(some)).values(token=""))

    def remove(self, runs: Collection[int]) -> None:
        """Remove runs, by their numbers, with all that belongs to them."""
        with self._database.begin() as connection:
            for some in _hundreds(runs):
                for table in (BATCH, REJECT, TASK, STEP, RUN):
                    connection.execute(table.delete().where(table.c.run.in_(some)))


def _hundreds(numbers: Collection[int]) -> Iterator[list[int]]:
    listed = sorted(numbers)
    for start in range(0, len(listed), 500):
        yield listed[start : start + 500]
