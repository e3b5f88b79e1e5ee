"""What is due: the times of a schedule, and what is to be done now, by what the run log knows. Computes only."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import islice

from cronsim import CronSim
from msgspec import Struct, field

from kanal.core.errors import KanalError
from kanal.core.windows import AnyEdge, Step, edge_text, instant, parse_edge, parse_step
from kanal.definition.schedule import Schedule
from kanal.runlog import RunRecord

#: A run that is at most so much late is on time, and not one that was missed.
GRACE = dt.timedelta(seconds=60)
_SECOND = dt.timedelta(seconds=1)
_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)


class Known(Struct, frozen=True):
    """What the run log knows of a job: all times are UTC, with their zone.

    `since` is from when on its schedule is kept; `runs` are its runs that were due, oldest first; `loaded` the windows
    that any run has loaded; `running` whether one is under way; `ends` when each job that it waits for last succeeded;
    `stopped_run` a run that was stopped with its service; `settled` whether later runs did what the last one did not.
    """

    since: dt.datetime
    runs: Sequence[RunRecord] = ()
    loaded: Sequence[tuple[str, str]] = ()
    running: bool = False
    ends: Mapping[str, dt.datetime | None] = field(default_factory=dict)
    stopped_run: int | None = None
    settled: bool = False

    @property
    def last(self) -> RunRecord | None:
        """The latest run that was due."""
        return self.runs[-1] if self.runs else None

    @property
    def handled(self) -> dt.datetime:
        """Up to when all that was due has been started, or was not to be."""
        dues = [aware(run.due) for run in self.runs if run.due is not None]
        return max([self.since, *dues])


class Decision(Struct, frozen=True):
    """What is to be done now: a run due at a moment, of a window if there are windows, or one to be resumed; or else
    nothing, until `again` at the latest."""

    due: dt.datetime | None = None
    window: tuple[str, str] | None = None
    resume: int | None = None
    again: dt.datetime | None = None

    @property
    def acts(self) -> bool:
        """True if something is to be done."""
        return self.due is not None or self.resume is not None


def aware(moment: dt.datetime) -> dt.datetime:
    """A moment of the run log with its zone, UTC."""
    return moment.replace(tzinfo=dt.UTC) if moment.tzinfo is None else moment.astimezone(dt.UTC)


def coming(schedule: Schedule, after: dt.datetime) -> Iterator[dt.datetime]:
    """The moments (UTC) after another one at which a schedule is due; none for one that follows other jobs.

    A time of the day that a clock change skips is due at the change; one that comes twice is due the first time, unless
    the hours of the expression are *.
    """
    if schedule.every is not None:
        step = _every(schedule)
        moment = _EPOCH + ((after - _EPOCH) // step + 1) * step
        while True:
            yield moment
            moment += step
    elif schedule.cron is not None:
        # The walk begins a day before, so that a time which comes twice is known to have come.
        for local in CronSim(schedule.cron, (after - dt.timedelta(days=1)).astimezone(schedule.zone)):
            moment = local.astimezone(dt.UTC)
            if moment > after:
                yield moment


def latest(schedule: Schedule, after: dt.datetime, until: dt.datetime) -> dt.datetime | None:
    """The latest moment, after one and not after another, at which a schedule was due."""
    if schedule.every is not None:
        moment = _EPOCH + (until - _EPOCH) // _every(schedule) * _every(schedule)
        return moment if moment > after else None
    found = None
    # Most often there is one, or none. After a long time, a walk from shortly before the end is enough.
    for start in (max(after, until - dt.timedelta(days=days)) for days in (2, 62, 366, 36_600)):
        for moment in coming(schedule, start):
            if moment > until:
                break
            found = moment
        if found is not None or start == after:
            break
    return found


def _every(schedule: Schedule) -> dt.timedelta:
    return parse_step(schedule.every or "").time


def decide(schedule: Schedule, known: Known, now: dt.datetime) -> Decision:
    """What is to be done now; see `Decision`."""
    upcoming = next(coming(schedule, now), None)
    if known.running or not schedule.enabled:
        return Decision(again=upcoming)
    resumption = _resumption(schedule, known, now)
    if resumption is not None and resumption.acts:
        return resumption
    found = _window_due(schedule, known, now) if schedule.step is not None else _due(schedule, known, now)
    if found is not None:
        return found
    again = [moment for moment in (upcoming, resumption.again if resumption else None) if moment is not None]
    return Decision(again=min(again, default=None))


def _resumption(schedule: Schedule, known: Known, now: dt.datetime) -> Decision | None:
    """The latest run that was due, resumed now or later, if it failed and is to be resumed."""
    last = known.last
    if last is None or known.settled:
        return None
    if last.status == "stopped" and last.run == known.stopped_run:
        return Decision(resume=last.run)
    if last.status != "failed" or last.resumes >= schedule.resume.times or last.finished is None:
        return None
    when = aware(last.finished) + schedule.resume.pause
    return Decision(resume=last.run) if now >= when else Decision(again=when)


def _reached(schedule: Schedule, known: Known, after: dt.datetime, now: dt.datetime) -> dt.datetime | None:
    """The moment that is due now, of all after one; None for none."""
    if schedule.after_job:
        ends = [known.ends.get(name) for name in schedule.after_job]
        found = [aware(end).replace(microsecond=0) for end in ends if end is not None]
        return max(found) if len(found) == len(ends) and min(found) > after else None
    return latest(schedule, after, now)


def _due(schedule: Schedule, known: Known, now: dt.datetime) -> Decision | None:
    """The run that is due now, if it loads no window."""
    after = known.handled
    found = _reached(schedule, known, after, now)
    if found is None:
        return None
    if schedule.missed == "each" and not schedule.after_job:
        found = next(coming(schedule, after))
    if schedule.missed == "skip" and now - found > GRACE:
        return None
    return Decision(due=found)


def _window_due(schedule: Schedule, known: Known, now: dt.datetime) -> Decision | None:
    """The run of the next window that is complete, of those that are due: none is left out, none comes before another.

    A window that failed is tried again when the schedule is next due.
    """
    low = _next_edge(schedule, known)
    if low is None:
        return None
    assert schedule.step is not None
    high = schedule.step.after(low, 1)
    end = instant(_local(high), schedule.zone)
    after = max(known.since, end - _SECOND)
    found = _reached(schedule, known, after, now)
    if found is None:
        return None
    due = found if schedule.after_job else next(coming(schedule, after))
    window = (edge_text(low), edge_text(high))
    tried = [run for run in known.runs if run.window == window]
    if tried:
        last = tried[-1]
        over = aware(last.finished or last.started)
        if _reached(schedule, known, over, now) is None:
            return None
        if last.steps_begun and not known.settled:
            return Decision(resume=last.run)
    return Decision(due=due, window=window)


def _next_edge(schedule: Schedule, known: Known) -> AnyEdge | None:
    """Where the next window begins: behind those that are loaded, or at the first."""
    edge = schedule.first_window or _first_edge(schedule, known.since)
    if edge is None:
        return None
    edge = _local(edge)
    ours = [run.window for run in known.runs if run.status == "succeeded" and run.window is not None]
    reached = [high for _, high in _spans(ours, schedule)]
    edge = max([edge, *reached])
    for low, high in sorted(_spans(known.loaded, schedule)):
        if low <= edge < high:
            edge = high
    return edge


def _spans(windows: Sequence[tuple[str, str]], schedule: Schedule) -> list[tuple[dt.datetime, dt.datetime]]:
    """Windows of times in the schedule's time zone; those of numbers are left out."""
    found = []
    for window in windows:
        with suppress(KanalError):
            low, high = (parse_edge(edge) for edge in window)
            if not isinstance(low, int) and not isinstance(high, int):
                found.append((_local(low, schedule), _local(high, schedule)))
    return found


def _first_edge(schedule: Schedule, since: dt.datetime) -> AnyEdge | None:
    """Where the last window begins that is complete when a schedule is first due."""
    first = since if schedule.after_job else next(coming(schedule, since), None)
    if first is None or schedule.step is None:
        return None
    local = first.astimezone(schedule.zone).replace(tzinfo=None)
    return schedule.step.after(floor(local, schedule.step), -1)


def floor(local: dt.datetime, step: Step) -> dt.datetime:
    """The edge at or before a local time: full hours and so on counted from midnight, days, weeks from Monday."""
    midnight = local.replace(hour=0, minute=0, second=0, microsecond=0)
    if step.unit == "years":
        return midnight.replace(month=1, day=1)
    if step.unit == "months":
        return midnight.replace(day=1)
    if step.unit == "weeks":
        return midnight - dt.timedelta(days=midnight.weekday())
    if step.unit == "days":
        return midnight
    return midnight + (local - midnight) // step.time * step.time


def _local(edge: AnyEdge, schedule: Schedule | None = None) -> dt.datetime:
    assert not isinstance(edge, int)
    if not isinstance(edge, dt.datetime):
        return dt.datetime(edge.year, edge.month, edge.day)
    return (edge.astimezone(schedule.zone) if schedule is not None and edge.tzinfo else edge).replace(tzinfo=None)


def first(schedule: Schedule, now: dt.datetime, count: int) -> list[dt.datetime]:
    """The next so many moments (UTC) at which a schedule is due."""
    return list(islice(coming(schedule, now), count))
