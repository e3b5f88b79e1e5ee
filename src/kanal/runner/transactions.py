"""The transactions that steps of a run share."""

from __future__ import annotations

import queue
from collections.abc import Callable, Collection, Sequence

from msgspec.structs import replace

from kanal.connections.journal import Progress
from kanal.connections.loading import Load
from kanal.core.errors import KanalError, passes
from kanal.runner.attempt import failed_try
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan
from kanal.runner.messages import Failure, StepOutcome
from kanal.runner.results import StepResult, StepStatus
from kanal.runner.retrying import pause
from kanal.runner.run_context import Mark, RunIdentity
from kanal.runner.run_report import RunReport, undone
from kanal.runner.step import OpenEnds, PipelineStep
from kanal.runner.target_records import TargetRecords
from kanal.runner.transaction import Transaction


class Transactions:
    """Commits each shared transaction once all its steps have ended, and undoes or repeats it if one fails.

    Steps that are to run again are put into `again`. `halted` is true if no more steps begin.
    """

    def __init__(
        self,
        plan: JobPlan,
        identity: RunIdentity,
        report: RunReport,
        records: TargetRecords,
        halted: Callable[[], bool],
        rehearsed: Collection[str] | None = None,
    ) -> None:
        self._plan, self._identity, self._report, self._records = plan, identity, report, records
        self._halted = halted
        self.all = [Transaction(group, plan.steps, report.results, rehearsed) for group in plan.groups]
        self._by_step = {step: transaction for transaction in self.all for step in transaction.steps}
        self.again: queue.SimpleQueue[StepPlan] = queue.SimpleQueue()

    def of(self, step: StepPlan) -> Transaction | None:
        """The transaction that a step shares with others."""
        return self._by_step.get(step.name)

    def step_ends(self, step: StepPlan, outcome: StepOutcome | None = None) -> None:
        """Go on after a step has ended, or has been refused: commit after the last one, undo if one failed."""
        transaction = self.of(step)
        if transaction is None:
            return
        results = self._report.results
        failure: str | None = None
        error: KanalError | Failure | None = outcome.failure if outcome is not None else None
        if results[step.name].status is not StepStatus.SUCCEEDED:
            failure = f"{step.name} did not succeed, which commits together with it"
        elif all(name in results for name in transaction.steps):
            error = transaction.commit(lambda load: self._record(load, transaction))
            if error is None:
                self._end_all(transaction)
            else:
                failure = str(error)
        if error is not None and passes(error) and self._try_again(transaction, step, error):
            return
        if isinstance(error, OpenEnds) and not self._halted() and transaction.leave_out(error):
            self._run_again([plan for plan in self._plan.steps if plan.name in transaction.steps])
            return
        if outcome is not None and results[step.name].status is not StepStatus.SUCCEEDED:
            self._report.end(results[step.name])
        if failure is not None and not transaction.undone:
            self._undo(transaction, step, failure)

    def _end_all(self, transaction: Transaction) -> None:
        """Record the steps of a committed transaction."""
        for running in transaction.running.values():
            running.after_commit()
        for name in transaction.steps:
            self._report.end(_with_later_rows(self._report.results[name], transaction.running.get(name)))

    def _undo(self, transaction: Transaction, step: StepPlan, failure: str) -> None:
        """Roll a transaction back for good, and record its steps as undone."""
        transaction.undo(failure)
        results = self._report.results
        status = StepStatus.STOPPED if results[step.name].status is StepStatus.STOPPED else StepStatus.FAILED
        for name in transaction.steps:
            result = results.get(name)
            if result is not None and result.status is StepStatus.SUCCEEDED:
                self._report.end(
                    replace(result, status=status, error=f"undone: {failure}", tally=undone(result.tally))
                )  # fmt: skip

    def _try_again(self, transaction: Transaction, step: StepPlan, error: KanalError | Failure) -> bool:
        """Roll a transaction back and have its steps run again, after a pause; False after too many tries."""
        settings = [plan.settings for plan in self._plan.steps
                    if isinstance(plan, PipelinePlan) and plan.name in transaction.steps]  # fmt: skip
        if self._halted() or transaction.tries > max(each.retries for each in settings):
            return False
        self._report.try_failed(step.name, transaction.tries, str(error))
        self._report.add_note(step.name, failed_try(transaction.tries, error, ", and all that commits with it"))
        ran = [plan for plan in self._plan.steps if plan.name in transaction.ran]
        transaction.undo_for_now(pause(transaction.tries, max(each.retry_wait for each in settings)))
        self._run_again(ran)
        return True

    def _run_again(self, steps: Sequence[StepPlan]) -> None:
        for plan in steps:
            self._report.results.pop(plan.name, None)
            self.again.put(plan)

    def _record(self, load: Load, transaction: Transaction) -> None:
        """Record in the target, within the transaction, that its steps are committed with it."""
        plans, results = transaction.plans, self._report.results
        if plans and self._records.mark_of(plans[0]) is not Mark.NONE and plans[0].target.journal.is_ready():
            for plan in plans:
                if plan.name in results:
                    done = Progress(results[plan.name].tally, results[plan.name].batches, done=True)
                    plan.target.journal.record(load, done, self._identity.token, plan.name, self._identity.owner)


def _with_later_rows(result: StepResult, running: PipelineStep | None) -> StepResult:
    """The result of a step, with what was left to do until the other steps of its transaction had ended."""
    if running is None or running.books.batches == result.batches:
        return result
    books = running.books
    notes = [result.note or "", *(note for note in books.notes if note not in (result.note or ""))]
    return replace(result, tally=books.tally, batches=books.batches, note="; ".join(filter(None, notes)) or None)
