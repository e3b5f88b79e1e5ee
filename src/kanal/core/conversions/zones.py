"""What clocks in a time zone are ahead of UTC, for many moments at once and for all years from 1 to 9999.

The rules are those of Python's zoneinfo, which continues a zone's last rule for ever (RFC 8536, footer); it is asked
once for each day of a year that occurs, and the offsets of all moments are then found by a search.
"""

from __future__ import annotations

import datetime as dt
import zoneinfo
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Moments = NDArray[np.int64]

_EPOCH = dt.datetime(1970, 1, 1)
_DAY = 86_400_000_000
_SECOND = 1_000_000
#: The years of which offsets are known: in the first and the last, a moment may have no local time.
FIRST_YEAR, LAST_YEAR = 1, 9999


def year_of(microseconds: Moments) -> NDArray[np.int64]:
    """The years in which moments lie."""
    years: NDArray[np.int64] = microseconds.view("datetime64[us]").astype("datetime64[Y]").astype(np.int64) + 1970
    return years


def _start_of(year: int) -> int:
    return int(np.datetime64(f"{year:04d}-01-01", "us").astype(np.int64))


def _offset(info: zoneinfo.ZoneInfo, second: int) -> int:
    """The offset at a moment, in seconds since 1970, in microseconds."""
    moment = (_EPOCH + dt.timedelta(seconds=second)).replace(tzinfo=dt.UTC)
    try:
        offset = moment.astimezone(info).utcoffset()
    except OverflowError:  # its local time lies beyond the calendar; the nearest day that has one tells
        nearer = dt.timedelta(days=2 if moment.year < 5000 else -2)
        offset = (moment + nearer).astimezone(info).utcoffset()
    assert offset is not None
    return offset // dt.timedelta(microseconds=1)


@lru_cache(maxsize=4096)
def _year(zone: str, year: int) -> tuple[list[int], list[int]]:
    """The moments of a year, in UTC, from which on an offset holds, the year's beginning first, and these offsets."""
    info = zoneinfo.ZoneInfo(zone)
    start = _start_of(year) // _SECOND
    end = _start_of(year + 1) // _SECOND if year < LAST_YEAR else start + 365 * 86_400 - 1
    days = list(range(start, end, 86_400))
    offsets = [_offset(info, second) for second in days]
    days.append(end)
    offsets.append(_offset(info, end))
    moments, found = [start * _SECOND], [offsets[0]]
    for place in range(len(days) - 1):
        if offsets[place] != offsets[place + 1]:
            low, high = days[place], days[place + 1]
            while high - low > 1:
                middle = (low + high) // 2
                low, high = (middle, high) if _offset(info, middle) == offsets[place] else (low, middle)
            if high < end:
                moments.append(high * _SECOND)
                found.append(offsets[place + 1])
    return moments, found


def offsets_at(moments: Moments, zone: str) -> Moments:
    """The offsets from UTC, in microseconds, at moments in microseconds since 1970, within the years 1 to 9999."""
    if not len(moments):
        return np.zeros(0, dtype=np.int64)
    starts: list[int] = []
    offsets: list[int] = []
    for year in np.unique(year_of(moments)).tolist():
        found = _year(zone, min(max(year, FIRST_YEAR), LAST_YEAR))
        starts += found[0]
        offsets += found[1]
    places = np.searchsorted(np.array(starts, dtype=np.int64), moments, side="right") - 1
    return np.array(offsets, dtype=np.int64)[np.maximum(places, 0)]


def to_utc(local: Moments, zone: str, least: int, greatest: int) -> tuple[Moments, NDArray[np.bool_]]:
    """Local times as moments in UTC, and which of them represent exactly one moment between two bounds.

    A time zone changes its offset at most once within some days, so one of the offsets a day before and a day
    after holds at the moment itself.
    """
    around = [offsets_at(np.clip(local + side * _DAY, least, greatest), zone) for side in (-1, 1)]
    moments = [local - offset for offset in around]
    inside = [(moment >= least) & (moment <= greatest) for moment in moments]
    fits = [
        within & (offsets_at(np.clip(moment, least, greatest), zone) == offset)
        for moment, within, offset in zip(moments, inside, around, strict=True)
    ]
    same = moments[0] == moments[1]
    one = (fits[0] & same) | (fits[0] ^ fits[1])
    return np.where(fits[0], moments[0], moments[1]), one
