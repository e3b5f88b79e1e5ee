"""Which steps of a run can begin now: by their dependencies, by the room that is left, and by files in use."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from kanal.runner.attempt import AnyAttempt
from kanal.runner.job_plan import JobPlan, StepPlan
from kanal.runner.results import StepResult, StepStatus
from kanal.runner.transactions import Transactions

if TYPE_CHECKING:
    from kanal.runner.elsewhere.crew import Crew


class Schedule:
    """The steps of a run that run or have ended.

    `running` are the attempts under way by step, and `results` the steps that have ended. `limit` is the number of
    steps that may run at once; if it is None, the workers of the crew decide, or the job.
    """

    def __init__(
        self,
        plan: JobPlan,
        results: Mapping[str, StepResult],
        transactions: Transactions,
        limit: int | None,
        crew: Crew | None,
    ) -> None:
        self._plan, self._results, self._transactions = plan, results, transactions
        self._limit, self._crew = limit, crew
        self.workers = 1
        self.count_workers()
        self.running: dict[str, AnyAttempt] = {}
        #: Steps that nobody waits for any more; and the files that they still hold.
        self.abandoned: set[str] = set()
        self._held: set[Any] = set()
        self.steps = {step.name: step for step in plan.steps}
        self._befores: dict[str, list[str]] = {name: [] for name in self.steps}
        for wait in plan.waits:
            if wait.step in self.steps and wait.before in self.steps:
                self._befores[wait.step].append(wait.before)

    def count_workers(self) -> None:
        """Find out how many steps may run at once; workers of a crew come and go."""
        slots = self._crew.slots if self._crew is not None and self._limit is None else None
        self.workers = self._limit or slots or self._plan.job.workers

    @property
    def is_full(self) -> bool:
        """True if no further step can begin."""
        return len(self.running) >= self.workers

    def waits_for_others(self, step: StepPlan) -> bool:
        """True if a step that has to come before is not over."""
        return any(name not in self._results or name in self.running for name in self._befores[step.name])

    def why_blocked(self, step: StepPlan) -> str:
        """Why a step cannot run any more; empty if it can."""
        for name in self._befores[step.name]:
            if self._results[name].status is not StepStatus.SUCCEEDED:
                return f"{name} did not succeed, and this step waits for it"
        if files_of(step) & self._held:
            return "a step that could not be broken off still holds the file that this one uses"
        transaction = self._transactions.of(step)
        return transaction.undone if transaction is not None else ""

    def has_room(self, step: StepPlan) -> bool:
        """True if a step may run now, next to those that run already."""
        transaction = self._transactions.of(step)
        if transaction is not None and time.monotonic() < transaction.not_before:
            return False
        others = [self.steps[name] for name in list(self.running)]
        if transaction is not None and any(other.name in transaction.steps for other in others):
            return False
        return self._has_connections(step, others) and not any(_conflict(step, other) for other in others)

    def abandon(self, step: StepPlan) -> None:
        """Wait no longer for a step that cannot be stopped; it holds its files until it ends by itself."""
        self.abandoned.add(step.name)
        self._held |= files_of(step)
        del self.running[step.name]

    def _has_connections(self, step: StepPlan, others: Sequence[StepPlan]) -> bool:
        for database, weight in step.uses.items():
            taken = sum(other.uses.get(database, 0) for other in others)
            limit = self._plan.limits.get(database.name)
            if limit is not None and taken and taken + weight > limit:
                return False
        return True


def files_of(step: StepPlan, written: bool = False) -> set[Any]:
    """The files that a step uses, or writes to."""
    return {database.lock for database in (step.writes if written else step.uses)} - {None}


def _conflict(step: StepPlan, other: StepPlan) -> bool:
    """True if two steps cannot run at once: a file is read by many or written by one."""
    return bool(files_of(step) & files_of(other, written=True) or files_of(step, written=True) & files_of(other))
