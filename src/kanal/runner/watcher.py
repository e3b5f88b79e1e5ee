"""What an interface is told while a job runs."""

from __future__ import annotations

from typing import Protocol

from kanal.core.tally import Tally
from kanal.runner.results import StepResult


class Watcher(Protocol):
    """Is told how a run continues; the interface's, for example a progress display."""

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """A run begins, with its steps by name and kind."""

    def step_begins(self, step: str) -> None:
        """A step begins."""

    def batch_ends(self, step: str, tally: Tally) -> None:
        """A batch of a step is done; the tally is the step's so far."""

    def step_ends(self, result: StepResult) -> None:
        """A step has ended."""


class NullWatcher:
    """A watcher that does nothing."""

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """Nothing."""

    def step_begins(self, step: str) -> None:
        """Nothing."""

    def batch_ends(self, step: str, tally: Tally) -> None:
        """Nothing."""

    def step_ends(self, result: StepResult) -> None:
        """Nothing."""
