"""Runs one step: moves the rows of a pipeline in batches, from reading to commit."""

from __future__ import annotations

from typing import Protocol

from kanal.runner.step.books import Books
from kanal.runner.step.by_batches import ByBatches
from kanal.runner.step.context import StepContext
from kanal.runner.step.one_transaction import OneTransaction
from kanal.runner.step.parts import StepParts
from kanal.runner.step.shared_load import SharedLoad
from kanal.runner.step.signal import StopSignal


class Way(Protocol):
    """How the rows of a step get into the target."""

    def adapt(self, parts: StepParts) -> None:
        """Change the parts of the step before it begins."""

    def run(self, parts: StepParts) -> None:
        """Load all rows; raises KanalError."""


class PipelineStep:
    """One execution of a pipeline. `books` counts as it goes."""

    def __init__(self, context: StepContext, way: Way | None = None) -> None:
        self.context = context
        self.books = Books(context)
        self._signal = StopSignal()
        self._parts: StepParts | None = None
        self._way: Way = way or (ByBatches() if context.plan.settings.commits.by_batch else OneTransaction())

    def run(self, shared: SharedLoad | None = None) -> None:
        """Load all batches and commit them; raises KanalError, with the target as it was.

        In a transaction shared with other steps, neither commit it nor undo it.
        """
        self._parts = StepParts(self.context, self.books, self._signal, shared)
        self._way.adapt(self._parts)
        self._way.run(self._parts)

    def after_commit(self) -> None:
        """Move or delete the loaded files, as the pipeline requires."""
        if self._parts is not None:
            self._parts.after_commit()

    def stop(self) -> None:
        """Ask, from another thread, that the step ends and is undone; running statements are cancelled."""
        self._signal.stop()
