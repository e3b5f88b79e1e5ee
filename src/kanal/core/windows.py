"""Windows: the parts of a range of change values that are loaded one by one."""

from __future__ import annotations

import calendar
import datetime as dt
import re
import zoneinfo
from collections.abc import Iterator

from msgspec import Struct

from kanal.core.errors import KanalError, shortened

#: An edge of a window, of whichever kind.
AnyEdge = int | dt.date | dt.datetime
Window = tuple[AnyEdge, AnyEdge]

_STEP = re.compile(r"([0-9]{1,9}) ?(seconds?|minutes?|hours?|days?|weeks?|months?|years?)", re.ASCII)
_TIMES = ("seconds", "minutes", "hours", "days", "weeks")
#: More windows than this are a slip of the pen.
MOST = 100_000


class Step(Struct, frozen=True):
    """The length of a window: so many of a unit of time, or a number."""

    count: int
    unit: str = ""

    def __str__(self) -> str:
        if not self.unit:
            return str(self.count)
        return f"{self.count} {self.unit if self.count != 1 else self.unit.removesuffix('s')}"

    @property
    def is_time(self) -> bool:
        """True for a fixed time: not for months, years and numbers."""
        return self.unit in _TIMES

    @property
    def time(self) -> dt.timedelta:
        """The same as a time; raises KanalError for what is none, or is too long."""
        try:
            return dt.timedelta(**{self.unit: self.count})
        except (OverflowError, TypeError):
            raise KanalError(f'"{self}" is not a time that can be counted', "write a shorter one") from None

    def after(self, anchor: AnyEdge, number: int) -> AnyEdge:
        """The edge this many steps after another one; of a day that a month does not have, its last day.

        Raises KanalError if the edge is beyond all dates, or is not of a kind that has such steps.
        """
        try:
            if isinstance(anchor, int):
                if self.unit:
                    raise KanalError(f'"{self}" does not go with the number {anchor}', "write a number of it")
                return anchor + number * self.count
            if not self.unit:
                raise KanalError(f'"{self}" does not go with the date {anchor}', 'write a time such as "1 day"')
            if not self.is_time:
                return _months_after(anchor, number * self.count * (12 if self.unit == "years" else 1))
            return anchor + number * self.time
        except OverflowError:
            raise KanalError(f'a window of "{self}" is too long for {anchor}', "write a shorter one") from None


def _months_after(anchor: dt.date, months: int) -> dt.date:
    year, month = divmod(anchor.year * 12 + anchor.month - 1 + months, 12)
    if not 1 <= year <= 9999:
        raise OverflowError
    return anchor.replace(year=year, month=month + 1, day=min(anchor.day, calendar.monthrange(year, month + 1)[1]))


def parse_step(text: str) -> Step:
    """The step that a text such as "1 day", "15 minutes" or "100000" means; raises KanalError."""
    found = _STEP.fullmatch(text.strip())
    number = text.strip().replace("_", "")
    step = Step(int(found[1]), found[2].rstrip("s") + "s") if found else None
    if step is None and number.isascii() and number.isdigit() and len(number) < 19:
        step = Step(int(number))
    if step is None or step.count < 1:
        raise KanalError(
            f'"{shortened(text, 40)}" is no length of a window', 'write one such as "1 day", "15 minutes", or a number'
        )
    if step.is_time:
        step.time  # noqa: B018 - raises if it is too long
    return step


def parse_time(text: str) -> dt.timedelta:
    """The time that a text such as "2 hours" means, or none, as "0 seconds" does; raises KanalError for others."""
    found = _STEP.fullmatch(text.strip())
    step = Step(int(found[1]), found[2].rstrip("s") + "s") if found else None
    if step is None or not step.is_time:
        raise KanalError(
            f'"{shortened(text, 40)}" is not a length of time', 'write one such as "2 hours", "30 minutes" or "1 day"'
        )
    return step.time


def parse_edge(text: str) -> AnyEdge:
    """The edge that a text means: a whole number, a date, or a date and time; raises KanalError."""
    text = text.strip()
    if re.fullmatch(r"-?[0-9]{1,18}", text, re.ASCII):
        return int(text)
    try:
        return dt.date.fromisoformat(text) if len(text) == 10 else dt.datetime.fromisoformat(text)
    except ValueError:
        raise KanalError(
            f'"{shortened(text, 40)}" is no edge of a window',
            'write one such as 2025-01-01, "2025-01-01 12:00" or 1000',
        ) from None


def edge_text(edge: AnyEdge) -> str:
    """An edge as text, which `parse_edge` reads back."""
    return edge.isoformat(sep=" ") if isinstance(edge, dt.datetime) else str(edge)


def windows(since: AnyEdge, until: AnyEdge, step: Step) -> Iterator[Window]:
    """The windows from an edge to before another, in order; the last ends there. Raises KanalError.

    Each is half open: it has its first edge, and not its second, so that no value is in two of them, or in none.
    """
    within_days = step.unit in ("seconds", "minutes", "hours")
    if within_days or (isinstance(since, dt.datetime) != isinstance(until, dt.datetime) and not isinstance(since, int)):
        since, until = (_with_time(edge) for edge in (since, until))
    if type(since) is not type(until) or getattr(since, "tzinfo", None) != getattr(until, "tzinfo", None):
        raise KanalError(f"{edge_text(since)} and {edge_text(until)} are of two kinds", "write both in the same form")
    if not since < until:  # type: ignore[operator]
        raise KanalError(f"{edge_text(since)} is not before {edge_text(until)}", "write the earlier one first")
    low = since
    for number in range(1, MOST + 1):
        high = step.after(since, number)
        yield low, min(high, until)
        if high >= until:  # type: ignore[operator]
            return
        low = high
    raise KanalError(f'these are more than {MOST:,} windows of "{step}"', "write a longer window")


def _with_time(edge: AnyEdge) -> AnyEdge:
    is_date = isinstance(edge, dt.date) and not isinstance(edge, dt.datetime)
    return dt.datetime(edge.year, edge.month, edge.day) if is_date else edge  # type: ignore[union-attr]


def instant(local: dt.datetime, zone: zoneinfo.ZoneInfo) -> dt.datetime:
    """The instant (UTC) at which a local time is reached for the first time; of one that is skipped, the change.

    So that later local times never come before earlier ones.
    """
    first = local.replace(tzinfo=zone, fold=0).astimezone(dt.UTC)
    if first.astimezone(zone).replace(tzinfo=None) == local.replace(fold=0):
        return first
    # In a gap: the offset from before leads beyond the change, the one from after it leads before it.
    low, high = local.replace(tzinfo=zone, fold=1).astimezone(dt.UTC), first
    before = low.astimezone(zone).utcoffset()
    while high - low > dt.timedelta(seconds=1):
        middle = (low + (high - low) / 2).replace(microsecond=0)
        if middle in (low, high):
            break
        low, high = (middle, high) if middle.astimezone(zone).utcoffset() == before else (low, middle)
    return high
