"""Shows a run as it goes on: a line for each step, on standard error, and only on a terminal."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from rich.live import Live
from rich.table import Table

from kanal.cli.output import console, escape, number, seconds, status_text, table
from kanal.core.tally import Tally
from kanal.runner import StepResult, Watcher


class Progress:
    """A watcher that keeps the state of every step and draws it when asked."""

    def __init__(self) -> None:
        self.steps: dict[str, str] = {}
        self.tallies: dict[str, Tally] = {}
        self.began: dict[str, float] = {}
        self.took: dict[str, float] = {}

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """All steps wait."""
        self.steps = {step: "waiting" for step, _ in steps}

    def step_begins(self, step: str) -> None:
        """A step runs."""
        self.steps[step] = "running"
        self.began[step] = time.perf_counter()

    def batch_ends(self, step: str, tally: Tally) -> None:
        """A step has got further."""
        self.tallies[step] = tally

    def step_ends(self, result: StepResult) -> None:
        """A step has ended."""
        self.steps[result.step] = str(result.status)
        self.tallies[result.step] = result.tally
        self.took[result.step] = result.seconds

    def __rich__(self) -> Table:
        drawn = table("step", "status", "#read", "#written", "#rejected", "#rows/s", "#time")
        for step, status in self.steps.items():
            tally = self.tallies.get(step)
            elapsed = self.took.get(step)
            if elapsed is None and step in self.began:
                elapsed = time.perf_counter() - self.began[step]
            if tally is None or elapsed is None:
                drawn.add_row(escape(step), status_text(status), "", "", "", "", seconds(elapsed) if elapsed else "")
                continue
            rejected = f"[red]{tally.rejected:,}[/]" if tally.rejected else number(0)
            speed = number(int(tally.read / elapsed)) if elapsed else ""
            drawn.add_row(
                escape(step),
                status_text(status),
                number(tally.read),
                number(tally.written),
                rejected,
                speed,
                seconds(elapsed),
            )
        return drawn


@contextmanager
def shown_progress(quiet: bool) -> Iterator[Watcher]:
    """A watcher whose state is drawn while this lasts, unless quiet or no terminal is there to see it."""
    progress = Progress()
    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield progress
        return
    with Live(progress, console=screen, refresh_per_second=8, transient=True):
        yield progress
