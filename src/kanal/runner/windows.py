"""Runs a job window after window, each in a run of its own, and tells which windows are loaded."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from kanal.connections import open_connection
from kanal.core.errors import KanalError
from kanal.core.windows import AnyEdge, Window, edge_text, parse_edge, parse_step, windows
from kanal.definition import JobDefinition, JobError
from kanal.runlog import RunRecord, Start
from kanal.runner.interruption import Interruption, interrupts
from kanal.runner.results import Run
from kanal.runner.run import run_job
from kanal.runner.run_options import RunOptions

if TYPE_CHECKING:
    from kanal.runner.elsewhere.crew import Crew


class WindowOutcome(Struct, frozen=True):
    """What became of a window: its run, or why it could not begin."""

    low: str
    high: str
    run: Run | None = None
    error: str | None = None

    @property
    def succeeded(self) -> bool:
        """True if all of it was loaded."""
        return self.run is not None and str(self.run.status) == "succeeded"


def run_windows(
    job: JobDefinition,
    options: RunOptions,
    by: str,
    told: Callable[[WindowOutcome], None] = lambda _: None,
    executor: Executor | Crew | None = None,
) -> Iterator[WindowOutcome]:
    """Run a job for each window of `by` from `since` to before `until`, and give what became of each, in order.

    Side by side, as many as `workers` says, unless a target is a file, which one load writes at a time. `told` is
    called as each ends. After a window that fails, or Ctrl-C, those that have not begun are left out. Raises KanalError
    if the windows make no sense.
    """
    if options.since is None or options.until is None:
        raise KanalError("--by is given without --since and --until", "name the first value and the one to stop before")
    chosen = list(windows(parse_edge(str(options.since)), parse_edge(str(options.until)), parse_step(by)))
    many = 1 if _writes_files(job) else min(options.workers or job.workers, len(chosen))
    start = replace(options.start or Start(), series=str(uuid.uuid4()))
    options = replace(options, workers=1 if many > 1 else options.workers, start=start)
    failed: list[Window] = []
    interruption = Interruption() if many > 1 else None

    def load(window: Window) -> WindowOutcome | None:
        if failed or (interruption is not None and interruption.seen):
            return None
        low, high = (edge_text(edge) for edge in window)
        alone = replace(options, since=low, until=high)
        try:
            outcome = WindowOutcome(low, high, run_job(job, alone, executor=executor, interruption=interruption))
        except JobError:
            failed.append(window)
            raise
        except KanalError as error:
            outcome = WindowOutcome(low, high, None, str(error))
        if not outcome.succeeded:
            failed.append(window)
        told(outcome)
        return outcome

    if interruption is None:
        yield from filter(None, map(load, chosen))
        return
    with interrupts(interruption), ThreadPoolExecutor(many, thread_name_prefix="kanal-window") as pool:
        yield from filter(None, pool.map(load, chosen))
    if interruption.seen and not failed:
        raise KeyboardInterrupt


def _writes_files(job: JobDefinition) -> bool:
    """True if a connection that is written to is a file, which one transaction writes at a time."""
    for name in {pipeline.target.connection for pipeline in job.pipeline.values()} & set(job.connection):
        connection = open_connection(name, job.connection[name], job.folder)
        try:
            if connection.lock is not None:
                return True
        finally:
            connection.dispose()
    return False


class WindowState(Struct, frozen=True):
    """A window of a job: loaded, failed, running or missing, and the latest run of it."""

    low: str
    high: str
    state: str
    run: int | None = None
    started: dt.datetime | None = None


def window_states(runs: Sequence[RunRecord]) -> list[WindowState]:
    """The windows of a job's runs, in order, with the gaps between them as missing ones.

    A window that was loaded stays loaded, whatever became of later runs of it. Only ranges of one kind are compared.
    """
    latest: dict[tuple[AnyEdge, AnyEdge], WindowState] = {}
    for record in sorted(runs, key=lambda run: run.run):
        if record.window is None:
            continue
        try:
            low, high = (parse_edge(edge) for edge in record.window)
        except KanalError:
            continue
        if type(low) is not type(high) or getattr(low, "tzinfo", None) != getattr(high, "tzinfo", None):
            continue
        state = {"succeeded": "loaded", "running": "running"}.get(record.status, "failed")
        before = latest.get((low, high))
        if before is None or before.state != "loaded" or state == "loaded":
            latest[low, high] = WindowState(edge_text(low), edge_text(high), state, record.run, record.started)
    kinds: dict[object, list[tuple[AnyEdge, AnyEdge]]] = {}
    for window in latest:
        kinds.setdefault((type(window[0]), getattr(window[0], "tzinfo", None)), []).append(window)
    found: list[WindowState] = []
    for of_kind in kinds.values():
        reached: AnyEdge | None = None
        for low, high in sorted(of_kind):
            if reached is not None and low > reached:  # type: ignore[operator]
                found.append(WindowState(edge_text(reached), edge_text(low), "missing"))
            found.append(latest[low, high])
            reached = high if reached is None or high > reached else reached  # type: ignore[operator]
    return found
