"""A transaction that several steps share."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import ExitStack, suppress

from kanal.connections.journal import Progress
from kanal.connections.loading import Load, RefusedRow
from kanal.core.errors import KanalError
from kanal.runner.job_plan import Group, PipelinePlan, StepPlan
from kanal.runner.run_context import Mark, RunContext
from kanal.runner.step import OpenEnds, PipelineStep, SharedLoad

#: So often steps that refer to each other are loaded again without rows that refer to nothing.
_TIMES = 50


class Transaction:
    """One transaction for the steps of a group, tried again as a whole.

    `steps` are the steps of the run, in order, and `done` has those that have ended, by name.
    """

    def __init__(
        self,
        group: Group,
        steps: Sequence[StepPlan],
        done: Mapping[str, object],
        rehearsed: Collection[str] | None = None,
    ) -> None:
        self.plans = [step for step in steps if isinstance(step, PipelinePlan) and step.name in group.steps]
        self._done = done
        self.rehearsal = rehearsed is not None
        #: Steps that a run would commit by themselves.
        self.apart = frozenset(rehearsed or ())
        self.database = group.database
        self.steps = group.steps
        #: Why it was undone, if it was.
        self.undone = ""
        #: The steps that ran within it, in this try, of which it had so many before, and when another may begin.
        self.ran: set[str] = set()
        self.tries = 1
        self.not_before = 0.0
        #: By step, rows that are known to refer to rows which do not come.
        self.open_ends: dict[str, dict[str, RefusedRow]] = {}
        self._left_out = 0
        #: The pipelines that ran within it, by step.
        self.running: dict[str, PipelineStep] = {}
        self._stack = ExitStack()
        self._shared: SharedLoad | None = None
        self._committed: dict[str, Progress] | None = None

    def committed(self, run: RunContext) -> dict[str, Progress]:
        """What an earlier try has committed, by step, if its answer was lost; all of it or nothing."""
        if self._committed is None:
            marks = {plan.name: run.mark_of(plan) for plan in self.plans}
            self._committed = {}
            if self.tries == 1 and all(mark is Mark.CLAIMED for mark in marks.values()):
                return self._committed
            for plan in self.plans:
                journal = plan.target.journal
                if marks[plan.name] is not Mark.NONE and journal.is_ready():
                    done = journal.claim(run.identity.token, plan.name, run.identity.owner)
                    if done is not None and done.done:
                        self._committed[plan.name] = done
        return self._committed

    def shared(self) -> SharedLoad:
        """The transaction; when it begins, tables are emptied, those that refer to others before them.

        The targets of steps that an earlier try of the run has done are not emptied.
        """
        if self._shared is None:
            self._shared = SharedLoad(self._stack.enter_context(self.database.load()))
            plans = [plan for plan in self.plans if plan.name not in self._done]
            for plan in plans:
                if plan.open_references and plan.writing.rule.empties:
                    self._shared.load.unlink(plan.target_table, plan.open_references)
            for plan in reversed(plans):
                if plan.name not in self.apart:
                    self._shared.empty(plan)
        return self._shared

    def commit(self, before: Callable[[Load], None]) -> KanalError | None:
        """Commit, after what is to be done before; why it could not be, if it could not."""
        try:
            if self._shared is not None:
                self._shared.finish()
                if not self.rehearsal:
                    before(self._shared.load)
                    self._shared.load.commit()
            self._stack.close()
        except KanalError as error:
            return error
        return None

    def undo(self, why: str) -> None:
        """Roll it back, for good."""
        self.undone = why
        with suppress(Exception):
            self._stack.close()

    def undo_for_now(self, seconds: float) -> None:
        """Roll it back, to be tried again after a time."""
        self._begin_anew()
        self.tries += 1
        self.not_before = time.monotonic() + seconds

    def leave_out(self, ends: OpenEnds) -> bool:
        """Roll it back, to be done again without rows that refer to rows which do not come; False if that was of no
        use so often that it is given up."""
        self._left_out += 1
        for step, rows in ends.rows.items():
            self.open_ends.setdefault(step, {}).update(rows)
        if self._left_out > _TIMES:
            return False
        self._begin_anew()
        return True

    def _begin_anew(self) -> None:
        with suppress(Exception):
            self._stack.close()
        self._stack, self._shared, self._committed = ExitStack(), None, None
        self.ran.clear()
