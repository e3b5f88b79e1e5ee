"""The moment that the run log writes down."""

from __future__ import annotations

import datetime as dt

_ahead = [dt.timedelta()]


def now() -> dt.datetime:
    """This moment, in UTC, without a zone, as the run log keeps it."""
    return dt.datetime.now(dt.UTC).replace(tzinfo=None) + _ahead[0]


def set_ahead(time: dt.timedelta) -> None:
    """Have the clock of this process go ahead of the machine's; for rehearsing a schedule."""
    _ahead[0] = time
