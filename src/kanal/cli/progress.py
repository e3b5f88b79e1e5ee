"""Shows a run as it goes on: a line for each step, on standard error, and only on a terminal."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from rich.table import Table

from kanal.cli.memory import expect_long_work
from kanal.cli.output import console, escape, number, status_text, table
from kanal.core.errors import duration, rough_duration
from kanal.core.tally import Tally
from kanal.runner import StepResult, Watcher


class Progress:
    """A watcher that keeps the state of every step and draws it when asked."""

    #: It is told how many rows steps have to read, as far as that is known.
    wants_expected = True

    def __init__(self) -> None:
        self.expected: dict[str, int] = {}
        self.steps: dict[str, str] = {}
        self.tallies: dict[str, Tally] = {}
        self.began: dict[str, float] = {}
        self.took: dict[str, float] = {}
        self.workers: dict[str, list[str]] = {}

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """All steps wait."""
        self.steps = {step: "waiting" for step, _ in steps}

    def rows_expected(self, step: str, rows: int) -> None:
        """So many rows are expected, about."""
        self.expected[step] = rows

    def step_begins(self, step: str) -> None:
        """A step runs."""
        self.steps[step] = "running"
        self.began[step] = time.perf_counter()

    def works_at(self, step: str, worker: str) -> None:
        """A worker of a cluster begins with a step, or a part of it."""
        self.workers[step] = list(dict.fromkeys([worker, *self.workers.get(step, [])]))

    def batch_ends(self, step: str, tally: Tally) -> None:
        """A step has got further."""
        self.tallies[step] = tally

    def step_ends(self, result: StepResult) -> None:
        """A step has ended."""
        self.steps[result.step] = str(result.status)
        self.tallies[result.step] = result.tally
        self.took[result.step] = result.seconds

    def __rich__(self) -> Table:
        drawn = table("step", "status", "#read", "#of", "#written", "#rejected", "#rows/s", "#time", "#left")
        for step, status in self.steps.items():
            tally = self.tallies.get(step)
            elapsed = self.took.get(step)
            if elapsed is None and step in self.began:
                elapsed = time.perf_counter() - self.began[step]
            shown = status_text(status) + self._where(step)
            if tally is None or elapsed is None:
                taken = duration(elapsed) if elapsed else ""
                drawn.add_row(escape(step), shown, "", self._share(step), "", "", "", taken, "")
                continue
            rejected = f"[red]{tally.rejected:,}[/]" if tally.rejected else number(0)
            speed = number(int(tally.read / elapsed)) if elapsed else ""
            drawn.add_row(
                escape(step),
                shown,
                number(tally.read),
                self._share(step, tally.read),
                number(tally.written),
                rejected,
                speed,
                duration(elapsed),
                self._left(step, tally.read, elapsed),
            )
        return drawn

    def _where(self, step: str) -> str:
        """The workers that have or had a step, the latest first."""
        names = self.workers.get(step, [])
        return f" [dim]{escape(', '.join(names[:2]))}{', …' if len(names) > 2 else ''}[/]" if names else ""

    def _share(self, step: str, read: int = 0) -> str:
        """How much of what a step has to read it has read."""
        expected = self.expected.get(step)
        if not expected or step in self.took:
            return ""
        if not read:
            return f"[dim]{expected:,}[/]"
        return "[dim]all read[/]" if read >= expected else f"[dim]{100 * read // expected} % of {expected:,}[/]"

    def _left(self, step: str, read: int, elapsed: float) -> str:
        """The time that a step will need yet, as it has gone so far."""
        expected = self.expected.get(step)
        if not expected or not read or step in self.took or read >= expected:
            return ""
        return rough_duration(elapsed * (expected - read) / read)


@contextmanager
def shown_progress(quiet: bool) -> Iterator[Watcher]:
    """A watcher whose state is drawn while this lasts, unless quiet or no terminal is there to see it."""
    expect_long_work()
    progress = Progress()
    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        progress.wants_expected = False
        yield progress
        return
    from rich.live import Live

    with Live(progress, console=screen, refresh_per_second=8, transient=True):
        yield progress
