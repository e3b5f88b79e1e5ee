"""When jobs are due: times through clock changes, what was missed, what is resumed, and windows, each loaded once."""

from __future__ import annotations

import datetime as dt
import itertools
import random
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanal.core.errors import KanalError
from kanal.core.tally import Tally
from kanal.core.windows import Step, instant, parse_edge, parse_step, windows
from kanal.definition.schedule import Resumption, Schedule
from kanal.runlog import RunRecord, StepRecord
from kanal.service.due import Decision, Known, aware, coming, decide, first, latest

AMSTERDAM = ZoneInfo("Europe/Amsterdam")
SECOND, MINUTE, HOUR, DAY = (dt.timedelta(**{unit: 1}) for unit in ("seconds", "minutes", "hours", "days"))


def utc(text: str) -> dt.datetime:
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


# --- times -------------------------------------------------------------------------------------------------------

CHANGES = [  # expression, from (UTC), the next times as they stand on the clock in Amsterdam
    ("30 2 * * *", "2026-03-28T12:00", ["03-29 03:00+02:00", "03-30 02:30+02:00"]),  # skipped: at the change
    ("30 2 * * *", "2026-10-24T12:00", ["10-25 02:30+02:00", "10-26 02:30+01:00"]),  # twice: the first time
    ("30 2 * * *", "2026-10-25T00:45", ["10-26 02:30+01:00"]),  # asked between the two
    ("15 3 * * *", "2026-10-24T12:00", ["10-25 03:15+01:00"]),
    ("0 * * * *", "2026-10-24T23:30", ["10-25 02:00+02:00", "10-25 02:00+01:00", "10-25 03:00+01:00"]),
    ("0 * * * *", "2026-03-29T00:30", ["03-29 03:00+02:00", "03-29 04:00+02:00"]),
    ("0 0 31 * *", "2026-01-31T12:00", ["03-31 00:00+02:00"]),
    ("0 6 * * MON-FRI", "2026-11-27T12:00", ["11-30 06:00+01:00"]),
    ("0 0 29 2 *", "2026-01-01T00:00", ["02-29 00:00+01:00"]),
]


@pytest.mark.parametrize(("cron", "after", "expected"), CHANGES, ids=[f"{c[0]} {c[1]}" for c in CHANGES])
def test_times_through_both_clock_changes(cron: str, after: str, expected: list[str]) -> None:
    schedule = Schedule(cron=cron, time_zone="Europe/Amsterdam")
    found = [moment.astimezone(AMSTERDAM) for moment in first(schedule, utc(after), len(expected))]
    assert [f"{m:%m-%d %H:%M}{m:%z}"[:14] + ":00" for m in found] == expected


@given(
    minute=st.integers(0, 59), hour=st.one_of(st.none(), st.integers(0, 23)),
    day=st.sampled_from(["2026-03-28", "2026-03-29", "2026-10-24", "2026-10-25", "2026-06-01"]), skip=st.integers(0, 2800),
)  # fmt: skip
@settings(max_examples=150, deadline=None)
def test_each_day_has_its_times_once_whenever_one_asks(minute: int, hour: int | None, day: str, skip: int) -> None:
    """However the walk through the days is cut into questions, the same moments come, each once."""
    schedule = Schedule(cron=f"{minute} {'*' if hour is None else hour} * * *", time_zone="Europe/Amsterdam")
    start = utc(day) - DAY
    end = start + 4 * DAY
    whole = []
    for moment in coming(schedule, start):
        if moment > end:
            break
        whole.append(moment)
    middle = start + skip * MINUTE
    later = [moment for moment in first(schedule, middle, 120) if moment <= end]
    assert later == [moment for moment in whole if moment > middle]
    assert latest(schedule, start, middle) == max([m for m in whole if m <= middle], default=None)
    local = [moment.astimezone(AMSTERDAM) for moment in whole]
    if hour is not None:  # once on each day
        assert len({moment.date() for moment in local}) == len(local) >= 3


def test_every_is_counted_without_drift() -> None:
    schedule = Schedule(every="90 seconds")
    assert first(schedule, utc("2026-10-25T00:00"), 3) == [utc("2026-10-25T00:01:30"), utc("2026-10-25T00:03"),
                                                           utc("2026-10-25T00:04:30")]  # fmt: skip
    assert latest(schedule, utc("2020-01-01T00:00"), utc("2026-10-25T00:02")) == utc("2026-10-25T00:01:30")


MISTAKES = [
    ({}, "neither cron, every nor after_job"),
    ({"cron": "15 2 * * *", "every": "1 hour"}, "cron and every are given"),
    ({"cron": "15 2 * *"}, "minute, hour, day, month and weekday"),
    ({"cron": "99 2 * * *"}, "not a cron expression"),
    ({"every": "soon"}, "is not a length of time"),
    ({"every": "0 minutes"}, "no length of a window"),
    ({"every": "15 mins"}, "is not a length of time"),
    ({"every": "1 month"}, "is not a length of time"),
    ({"cron": "15 2 * * *", "time_zone": "Europe/Atlantis"}, "is not a time zone"),
    ({"cron": "15 2 * * *", "first_window": dt.date(2026, 1, 1)}, "first_window is given without window"),
    ({"cron": "15 2 * * *", "window": "1 day", "first_window": utc("2026-01-01T00:00")}, "has a zone"),
    ({"every": "1 hour", "resume": {"after": "1 year"}}, "is not a length of time"),
]


@pytest.mark.parametrize(("given_keys", "said"), MISTAKES, ids=[m[1] for m in MISTAKES])
def test_what_is_wrong_with_a_schedule_is_said(given_keys: dict[str, object], said: str) -> None:
    with pytest.raises(KanalError, match=said):
        Schedule(**given_keys)  # type: ignore[arg-type]


# --- what is due -------------------------------------------------------------------------------------------------


def run(number: int, due: str, status: str = "succeeded", finished: str | None = None, **more: object) -> RunRecord:
    ended = dt.datetime.fromisoformat(finished or due) + MINUTE
    steps = (StepRecord("s", "pipeline", status, Tally(), 0, 0.0, None),)
    return replace(
        RunRecord(
            number, "j", status, dt.datetime.fromisoformat(due), ended, steps, due=dt.datetime.fromisoformat(due)
        ),
        **more,  # type: ignore[arg-type]
    )


NIGHTLY = Schedule(cron="0 2 * * *", resume=Resumption(times=2, after="10 minutes"))
SINCE = utc("2026-06-01T12:00")
DUE = [  # name, schedule, what is known, now, what is to be done
    ("not yet", NIGHTLY, Known(SINCE), "2026-06-02T01:59", Decision(again=utc("2026-06-02T02:00"))),
    ("now", NIGHTLY, Known(SINCE), "2026-06-02T02:00", Decision(due=utc("2026-06-02T02:00"))),
    ("what was due before the service knew the job is not missed", NIGHTLY, Known(utc("2026-06-02T02:01")),
     "2026-06-02T03:00", Decision(again=utc("2026-06-03T02:00"))),
    ("missed: once", NIGHTLY, Known(SINCE), "2026-06-05T09:00", Decision(due=utc("2026-06-05T02:00"))),
    ("missed: each", NIGHTLY.model_copy(update={"missed": "each"}), Known(SINCE), "2026-06-05T09:00",
     Decision(due=utc("2026-06-02T02:00"))),
    ("missed: skip", NIGHTLY.model_copy(update={"missed": "skip"}), Known(SINCE), "2026-06-05T09:00",
     Decision(again=utc("2026-06-06T02:00"))),
    ("missed: skip, on time", NIGHTLY.model_copy(update={"missed": "skip"}), Known(SINCE), "2026-06-05T02:00:30",
     Decision(due=utc("2026-06-05T02:00"))),
    ("one is under way", NIGHTLY, Known(SINCE, running=True), "2026-06-05T09:00",
     Decision(again=utc("2026-06-06T02:00"))),
    ("done", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00")]), "2026-06-02T02:05",
     Decision(again=utc("2026-06-03T02:00"))),
    ("failed: resumed later", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "failed")]), "2026-06-02T02:05",
     Decision(again=utc("2026-06-02T02:11"))),
    ("failed: resumed now", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "failed")]), "2026-06-02T02:11",
     Decision(resume=1)),
    ("failed too often", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "failed", resumes=2)]), "2026-06-02T09:00",
     Decision(again=utc("2026-06-03T02:00"))),
    ("failed too often, and due again", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "failed", resumes=2)]),
     "2026-06-03T02:00", Decision(due=utc("2026-06-03T02:00"))),
    ("failed, done since by hand", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "failed")], settled=True),
     "2026-06-02T09:00", Decision(again=utc("2026-06-03T02:00"))),
    ("stopped by a person", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "stopped")]), "2026-06-02T09:00",
     Decision(again=utc("2026-06-03T02:00"))),
    ("stopped with the service", NIGHTLY, Known(SINCE, [run(1, "2026-06-02T02:00", "stopped")], stopped_run=1),
     "2026-06-02T09:00", Decision(resume=1)),
    ("off", NIGHTLY.model_copy(update={"enabled": False}), Known(SINCE), "2026-06-05T09:00",
     Decision(again=utc("2026-06-06T02:00"))),
    ("after another: not yet", Schedule(after_job=["a", "b"]), Known(SINCE, ends={"a": utc("2026-06-02T03:00"), "b": None}),
     "2026-06-02T09:00", Decision()),
    ("after others: now", Schedule(after_job=["a", "b"]),
     Known(SINCE, ends={"a": utc("2026-06-02T03:00"), "b": utc("2026-06-02T02:00")}), "2026-06-02T09:00",
     Decision(due=utc("2026-06-02T03:00"))),
    ("after another: once for each time", Schedule(after_job=["a"]),
     Known(SINCE, [run(1, "2026-06-02T03:00")], ends={"a": utc("2026-06-02T03:00:00.5")}), "2026-06-02T09:00", Decision()),
]  # fmt: skip


@pytest.mark.parametrize(("schedule", "known", "now", "expected"), [d[1:] for d in DUE], ids=[d[0] for d in DUE])
def test_what_is_to_be_done(schedule: Schedule, known: Known, now: str, expected: Decision) -> None:
    assert decide(schedule, known, utc(now)) == expected


# --- windows -----------------------------------------------------------------------------------------------------

edges = st.datetimes(dt.datetime(2020, 1, 1), dt.datetime(2030, 1, 1)).map(lambda moment: moment.replace(microsecond=0))
steps = st.tuples(st.integers(1, 40), st.sampled_from(["minutes", "hours", "days", "weeks", "months", "years"]))


@given(edges, st.integers(1, 400), steps)
@settings(deadline=None)
def test_windows_divide_a_range(since: dt.datetime, hours: int, step: tuple[int, str]) -> None:
    """Each value of the range is in one window, and none beyond it; none is longer than was asked for."""
    until = since + hours * HOUR
    found = list(windows(since, until, Step(*step)))
    assert found[0][0] == since and found[-1][1] == until
    assert all(low < high for low, high in found)
    assert [high for _, high in found[:-1]] == [low for low, _ in found[1:]]
    assert all(Step(*step).after(since, place + 1) >= high for place, (_, high) in enumerate(found))


WINDOWS = [
    ("2026-01-31", "2026-05-01", "1 month", ["2026-02-28", "2026-03-31", "2026-04-30", "2026-05-01"]),
    ("2024-02-29", "2026-03-01", "1 year", ["2025-02-28", "2026-02-28", "2026-03-01"]),
    ("1000", "2500", "1000", ["2000", "2500"]),
    ("2026-01-01", "2026-01-02", "12 hours", ["2026-01-01 12:00:00", "2026-01-02 00:00:00"]),
    ("2026-01-01", "2026-01-02 12:00", "1 day", ["2026-01-02 00:00:00", "2026-01-02 12:00:00"]),
]


@pytest.mark.parametrize(("since", "until", "by", "highs"), WINDOWS, ids=[w[2] for w in WINDOWS])
def test_windows(since: str, until: str, by: str, highs: list[str]) -> None:
    assert [str(high) for _, high in windows(parse_edge(since), parse_edge(until), parse_step(by))] == highs


NO_WINDOWS = [
    ("2026-01-01", "2026-01-01", "1 day", "is not before"),
    ("2026-01-01", "500", "1 day", "are of two kinds"),
    ("2026-01-01", "2026-01-02 00:00+01:00", "1 day", "are of two kinds"),
    ("1", "500", "1 day", "does not go with the number"),
    ("2026-01-01", "2026-02-01", "5", "does not go with the date"),
    ("2020-01-01 00:00", "2026-02-01 00:00", "1 second", "more than 100,000 windows"),
    ("2020-01-01", "9999-12-31", "999999999 years", "too long"),
    ("2026-13-01", "2026-02-01", "1 day", "no edge of a window"),
    ("2026-01-01", "2026-02-01", "0 days", "no length of a window"),
]


@pytest.mark.parametrize(("since", "until", "by", "said"), NO_WINDOWS, ids=[w[3] for w in NO_WINDOWS])
def test_windows_that_make_no_sense(since: str, until: str, by: str, said: str) -> None:
    with pytest.raises(KanalError, match=said):
        list(windows(parse_edge(since), parse_edge(until), parse_step(by)))


@pytest.mark.parametrize("zone", ["Europe/Amsterdam", "America/St_Johns", "Australia/Lord_Howe", "UTC"])
def test_instants_of_local_times_never_go_back(zone: str) -> None:
    """At half-hour steps through a year: so windows of local times neither overlap nor leave gaps."""
    local, place = dt.datetime(2026, 1, 1), ZoneInfo(zone)
    moments = []
    for _ in range(2 * 24 * 365):
        moments.append(instant(local, place))
        local += 30 * MINUTE
    assert moments == sorted(moments)
    assert all(later - earlier <= 2 * HOUR for earlier, later in itertools.pairwise(moments))
    back = [moment.astimezone(place).replace(tzinfo=None) for moment in moments]
    assert sum(there != dt.datetime(2026, 1, 1) + place_ * 30 * MINUTE for place_, there in enumerate(back)) <= 3


class World:
    """A run log of no database, for a job that loads windows, with a clock of its own."""

    def __init__(self, schedule: Schedule, chance: random.Random) -> None:
        self.schedule, self.chance = schedule, chance
        self.now = self.since = utc("2026-03-27T12:00")
        self.runs: list[RunRecord] = []
        self.loaded: list[tuple[str, str]] = []

    def tick(self) -> None:
        known = Known(
            self.since, self.runs[-50:], [r.window for r in self.runs if r.status == "succeeded" and r.window]
        )
        decision = decide(self.schedule, known, self.now)
        if not decision.acts:
            self.now += DAY * self.chance.choice([1, 1, 1, 9]) if self.chance.random() < 0.03 else MINUTE * 53
            return
        fate = self.chance.choice(["succeeded", "succeeded", "failed", "not begun"])
        ended = self.now.replace(tzinfo=None) + MINUTE
        if decision.resume is not None:
            place = next(p for p, r in enumerate(self.runs) if r.run == decision.resume)
            record = self.runs[place]
            self.runs[place] = replace(record, status="succeeded" if fate == "succeeded" else "failed", finished=ended,
                                       resumes=record.resumes + 1)  # fmt: skip
        else:
            assert decision.due is not None and decision.window is not None
            status = "succeeded" if fate == "succeeded" else "failed"
            record = run(len(self.runs) + 1, decision.due.replace(tzinfo=None).isoformat(), status, self.now.replace(
                tzinfo=None).isoformat(), options={"since": decision.window[0], "until": decision.window[1]})  # fmt: skip
            self.runs.append(replace(record, steps=() if fate == "not begun" else record.steps))
        if fate == "succeeded":
            self.loaded.append(self.runs[-1].window if decision.resume is None else record.window)  # type: ignore[arg-type]
        self.now += MINUTE


@pytest.mark.parametrize("window", ["1 day", "6 hours", "1 hour", "1 week"])
@pytest.mark.parametrize("seed", range(2))
def test_each_window_once_and_in_order_whatever_fails(window: str, seed: int) -> None:
    """Through a clock change, outages of days, runs that fail, and runs that cannot even begin."""
    cron = {"1 hour": "5 * * * *", "1 week": "0 3 * * MON"}.get(window, "15 */6 * * *")
    schedule = Schedule(
        cron=cron, window=window, time_zone="Europe/Amsterdam", resume={"times": 1, "after": "5 minutes"}
    )
    world = World(schedule, random.Random(seed))
    end = utc("2026-03-27T12:00") + (20 if window == "1 hour" else 60) * DAY
    for _ in range(20_000):
        world.tick()
        if world.now > end:
            break
    assert len(world.loaded) == len(set(world.loaded)) > 3
    assert [high for _, high in world.loaded[:-1]] == [low for low, _ in world.loaded[1:]]
    # Nothing is loaded before it is complete.
    for record in world.runs:
        assert record.window is not None and record.due is not None
        high = parse_edge(record.window[1])
        assert isinstance(high, dt.date)
        local = high if isinstance(high, dt.datetime) else dt.datetime(high.year, high.month, high.day)
        assert instant(local, AMSTERDAM) <= aware(record.due)
