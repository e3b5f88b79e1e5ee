"""The moment that the run log writes down."""

from __future__ import annotations

import datetime as dt

import sqlalchemy as sa

_ahead = [dt.timedelta()]


def now() -> dt.datetime:
    """This moment, in UTC, without a zone, as the run log keeps it."""
    return dt.datetime.now(dt.UTC).replace(tzinfo=None) + _ahead[0]


_OF_SERVER = {
    "postgresql": "SELECT clock_timestamp() AT TIME ZONE 'UTC'",
    "mysql": "SELECT UTC_TIMESTAMP(6)",
    "mariadb": "SELECT UTC_TIMESTAMP(6)",
}


def shared(connection: sa.Connection) -> dt.datetime:
    """This moment by the clock of the run log's server, the same for all machines; of a file, by this machine's."""
    asked = _OF_SERVER.get(connection.dialect.name)
    found: dt.datetime | None = None if asked is None else connection.execute(sa.text(asked)).scalar()
    return now() if found is None else found + _ahead[0]


def set_ahead(time: dt.timedelta) -> None:
    """Have the clock of this process go ahead of the machine's; for rehearsing a schedule."""
    _ahead[0] = time
