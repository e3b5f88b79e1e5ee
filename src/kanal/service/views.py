"""What the pages show, as plain values, from the run log and the jobs that are served."""

from __future__ import annotations

import datetime as dt
import statistics
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from kanal.core.errors import rough_duration
from kanal.core.reasons import NOT_REPLAYED, Reason
from kanal.core.rejects import row_from_json
from kanal.core.tally import COUNTS, Tally
from kanal.runlog import RunGlance, RunLogStore, RunRecord, StepRecord, Usual, WorkerShare, by_worker, clock
from kanal.runlog.records import mark_of
from kanal.runner.outline import Origin, origins_in
from kanal.runner.unusual import fewer_than_usual, more_than_usual
from kanal.service.drawings import order_picture, short, time_bar, trend

_ALWAYS = frozenset({"read", "rejected", "inserted"})
#: Runs that a row of marks shows, and those of a trend.
MARKS, TRENDS = 24, 40
#: Rejected rows that one page shows.
REJECTS = 100


def ago(moment: dt.datetime | None, now: dt.datetime) -> str:
    """How long ago or how far ahead a moment is, for people."""
    if moment is None:
        return ""
    seconds = (now.replace(tzinfo=None) - moment.replace(tzinfo=None)).total_seconds()
    size = abs(seconds)
    for limit, unit, length in ((90, "s", 1), (5400, "min", 60), (129_600, "h", 3600), (float("inf"), "days", 86400)):
        if size < limit:
            said = f"{size / length:.0f} {unit}"
            return f"{said} ago" if seconds >= 0 else f"in {said}"
    return ""


class StepView(Struct, frozen=True):
    """A step of a run as the page shows it."""

    record: StepRecord
    state: str
    tally: Tally
    bar: Any
    usual: Usual | None
    unusual: str
    expected: int
    left: str

    @property
    def share(self) -> int:
        """How much of what is usual it has read, in percent; -1 if that is not known."""
        return min(100, round(100 * self.tally.read / self.expected)) if self.expected else -1


class RunView(Struct, frozen=True):
    """A run as the page shows it."""

    record: RunRecord
    steps: list[StepView]
    total: Tally
    counts: list[str]
    groups: list[dict[str, Any]]
    picture: Any
    elapsed: float
    commands: list[tuple[str, str]]
    shares: list[WorkerShare]

    @property
    def mark(self) -> str:
        """How it went, in a word."""
        return mark_of(self.record.status, self.total.rejected)


def run_view(log: RunLogStore, record: RunRecord) -> RunView:
    """A run with all that is known of it."""
    running = record.status == "running"
    progress = log.steps.progress(record.run) if running else {}
    times, usual = log.steps.times(record.run), log.past.usual(record)
    now = clock.now()
    elapsed = (now - record.started).total_seconds() if running else record.seconds
    longest = max([sum(parts) for parts in times.values()], default=0.0)
    steps = []
    for step in record.steps:
        live = running and step.status == "running"
        tally = progress.get(step.step, step.tally) if live else step.tally
        known = usual.get(step.step)
        expected = round(known.read) if live and known is not None and known.read else 0
        parts = times.get(step.step)
        steps.append(
            StepView(
                step,
                step.status if step.status != "succeeded" or not tally.rejected else "rejects",
                tally,
                time_bar(parts, longest) if parts else "",
                known,
                _unusual(step, usual),
                expected,
                _left(known, tally, expected, sum(parts or ())),
            )
        )
    total = Tally.sum(step.tally for step in steps)
    counts = [name for name in COUNTS if name in _ALWAYS or any(getattr(step.tally, name) for step in steps)]
    outline = log.seen.plan_of(record.run)
    states = {step.record.step: step.state for step in steps}
    groups = log.rejects.groups(record.run)
    return RunView(
        record, steps, total, counts, groups, order_picture(outline, states), elapsed, commands_of(record, groups),
        by_worker(log.steps.tasks(record.run), [step.step for step in record.steps if step.status == "running"]),
    )  # fmt: skip


def _unusual(step: StepRecord, usual: Mapping[str, Usual]) -> str:
    if fewer_than_usual(step, usual):
        return f"far fewer rows than the usual {usual[step.step].read:,.0f}"
    return f"far more rows than the usual {usual[step.step].read:,.0f}" if more_than_usual(step, usual) else ""


def _left(known: Usual | None, tally: Tally, expected: int, spent: float) -> str:
    """The time that a running step will need yet, as earlier runs tell, or its own speed."""
    if known is None or not expected or tally.read >= expected:
        return ""
    rest = expected - tally.read
    speed = tally.read / spent if spent and tally.read else expected / max(known.seconds, 0.01)
    return f"about {rough_duration(rest / speed)} left"


def commands_of(record: RunRecord, groups: Sequence[Mapping[str, Any]]) -> list[tuple[str, str]]:
    """The commands to continue, each with what it is for."""
    job = record.job_arguments
    found = []
    if record.status in ("failed", "stopped") and not record.is_replay:
        found.append((f"kanal resume {record.run} {job}", "go on with it, once the cause is fixed"))
    if groups:
        found.append((f"kanal rejects {record.run} {job}", "the rejected rows, each with its reason"))
    if any(group["reason"] not in NOT_REPLAYED for group in groups) and record.status == "succeeded":
        found.append((f"kanal replay {record.run} {job}", "load them again, once the cause is fixed"))
    found.append((f"kanal runs {record.run} {job}", "all about it, in a terminal"))
    return found


def explained(reason: str) -> str:
    """What a reason for rejects means."""
    return next((known.explanation for known in Reason if known == reason), "")


class RejectsView(Struct, frozen=True):
    """Some rejected rows of a run: groups to choose from, and rows, so many on a page."""

    groups: list[dict[str, Any]]
    rows: list[dict[str, Any]]
    total: int
    page: int
    pages: int


def rejects_view(
    log: RunLogStore, run: int, step: str | None, reason: str | None, column: str | None, page: int
) -> RejectsView:
    """Rejected rows of a run, of one step, reason or column alone where these are given."""
    groups = log.rejects.groups(run)
    chosen = [
        group
        for group in groups
        if step in (None, group["step"]) and reason in (None, group["reason"]) and column in (None, group["column"])
    ]
    total = sum(group["rows"] for group in chosen)
    pages = max(1, -(-total // REJECTS))
    page = min(max(1, page), pages)
    rows = log.rejects.page(run, REJECTS, (page - 1) * REJECTS, step=step, reason=reason, column=column)
    for row in rows:
        row["row"] = row_from_json(row["row"])
    return RejectsView(groups, rows, total, page, pages)


def trends_of(glances: Sequence[RunGlance]) -> list[tuple[str, str, Any]]:
    """Rows, rejects and seconds over a job's runs, as pictures, each with its name, the median and the latest value."""
    runs = [run for run in glances if run.status != "running" and not run.is_replay][-TRENDS:]
    found = []
    for name, unit, value in (
        ("Rows read", "rows", lambda run: float(run.read)),
        ("Rows rejected", "rows", lambda run: float(run.rejected)),
        ("Seconds", "s", lambda run: run.seconds),
    ):
        bars = [(f"run {run.run}, {run.started:%Y-%m-%d %H:%M}, {run.mark}", value(run), run.mark) for run in runs]
        numbers = [number for _, number, _ in bars]
        said = f"median {short(statistics.median(numbers))}, latest {short(numbers[-1])}" if numbers else ""
        found.append((name, said, trend(name, bars, unit)))
    return found


def lineage_of(log: RunLogStore, run: int) -> dict[str, list[Origin]]:
    """From where the columns of each target come, as the plan of a run had it, by target."""
    found: dict[str, list[Origin]] = {}
    for origin in origins_in(log.seen.plan_of(run)):
        found.setdefault(origin.target, []).append(origin)
    return found
