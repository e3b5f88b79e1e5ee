"""What a service remembers about its jobs: schedules, stopped runs and messages."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any, cast

import sqlalchemy as sa

from kanal.runlog import clock
from kanal.runlog.database import RunLogDatabase
from kanal.runlog.tables import MESSAGE, SCHEDULE

#: Messages are kept this long, so that none is sent twice.
OLD_MESSAGE = dt.timedelta(days=90)


class ServiceLog:
    """The memory of a service."""

    def __init__(self, database: RunLogDatabase) -> None:
        self._database = database

    def keep_schedule(self, job: str, times: str) -> dt.datetime:
        """Since when (UTC) a job's schedule is kept: from now on, where its times are new."""
        with self._database.begin() as connection:
            row = connection.execute(sa.select(SCHEDULE).where(SCHEDULE.c.job == job)).first()
            if row is not None and row.times == times:
                return cast(dt.datetime, row.since)
            now = clock.now().replace(microsecond=0)
            connection.execute(SCHEDULE.delete().where(SCHEDULE.c.job == job))
            connection.execute(SCHEDULE.insert().values(job=job, times=times, since=now))
            return now

    def note_stopped(self, job: str, run: int | None) -> None:
        """Record that a run was stopped with its service, to be continued when that is back; None for none."""
        with self._database.begin() as connection:
            connection.execute(SCHEDULE.update().where(SCHEDULE.c.job == job).values(stopped_run=run))

    def stopped_run(self, job: str) -> int | None:
        """The run of a job that was stopped with its service."""
        with self._database.begin() as connection:
            return connection.execute(sa.select(SCHEDULE.c.stopped_run).where(SCHEDULE.c.job == job)).scalar()

    def add_messages(self, rows: Sequence[Mapping[str, Any]]) -> int:
        """Record messages to be sent, of those that are not recorded yet; how many are new. Old ones are removed."""
        added = 0
        with self._database.begin() as connection:
            connection.execute(MESSAGE.delete().where(MESSAGE.c.made < clock.now() - OLD_MESSAGE))
            for row in rows:
                same = [MESSAGE.c[name] == row[name] for name in ("job", "about", "receiver")]
                if connection.execute(sa.select(MESSAGE.c.message).where(*same)).first() is None:
                    connection.execute(MESSAGE.insert().values(made=clock.now(), **row))
                    added += 1
        return added

    def claim_message(self, message: int, tries: int) -> bool:
        """Claim a message for this process, given its number of tries; False if another process sends it."""
        mine = sa.and_(MESSAGE.c.message == message, MESSAGE.c.tries == tries, MESSAGE.c.sent.is_(None))
        with self._database.begin() as connection:
            return connection.execute(MESSAGE.update().where(mine).values(tries=tries + 1)).rowcount == 1

    def message_sent(self, message: int, error: str | None) -> None:
        """Record that a claimed message was sent, or why not."""
        values = {"error": error} | ({} if error else {"sent": clock.now()})
        with self._database.begin() as connection:
            connection.execute(MESSAGE.update().where(MESSAGE.c.message == message).values(values))

    def unsent(self, job: str, tries: int) -> list[dict[str, Any]]:
        """The messages of a job that are not sent, and were not tried more often than that."""
        found = sa.select(MESSAGE).where(MESSAGE.c.job == job, MESSAGE.c.sent.is_(None), MESSAGE.c.tries < tries)
        first = MESSAGE.alias("first")  # two services may have noted the same message
        same = [first.c[name] == MESSAGE.c[name] for name in ("job", "about", "receiver")]
        earlier = sa.select(sa.literal(1)).select_from(first).where(*same, first.c.message < MESSAGE.c.message)
        found = found.where(~sa.exists(earlier.correlate(MESSAGE)))
        with self._database.begin() as connection:
            return [dict(row._mapping) for row in connection.execute(found.order_by(MESSAGE.c.message))]
