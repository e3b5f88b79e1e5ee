"""What the targets of a run remember about it: who may commit its steps, and what is committed."""

from __future__ import annotations

from contextlib import suppress

from kanal.connections.base import Target
from kanal.connections.journal import Progress
from kanal.connections.roles import Writes
from kanal.core.errors import KanalError
from kanal.runlog import RunLogStore
from kanal.runner.job_plan import CommandPlan, JobPlan, PipelinePlan
from kanal.runner.new_files import finish_files
from kanal.runner.run_context import Mark, RunIdentity


class TargetRecords:
    """The entries of a run in its targets. In a rehearsal, nothing is recorded."""

    def __init__(self, plan: JobPlan, identity: RunIdentity, rehearsal: bool, with_commands: bool) -> None:
        """`with_commands` is true if commands are recorded too, since other workers may carry them out."""
        self._plan, self._identity = plan, identity
        self._rehearsal, self._with_commands = rehearsal, with_commands
        self._claimed: set[str] = set()

    def mark_of(self, step: PipelinePlan) -> Mark:
        """Whether the target records what a step commits."""
        if self._rehearsal or not step.can_leave_progress:
            return Mark.NONE
        return Mark.CLAIMED if step.name in self._claimed else Mark.TO_BE_CLAIMED

    def prepare(self) -> None:
        """Create what targets keep for Kanal, before any load begins, and claim the steps of a new run.

        Errors are left to the step, which will meet them again.
        """
        if self._rehearsal:
            return
        pipelines = self._pipelines
        for target in self._targets():
            with suppress(KanalError):
                target.journal.make_ready()
                names = [step.name for step in pipelines if step.target is target]
                if names and not self._identity.resumed and not self._with_commands:
                    target.journal.claim_first(self._identity.token, names, self._identity.owner)
                    self._claimed |= set(names)
        for step in pipelines:
            if step.since is not None:
                with suppress(KanalError):
                    step.target.journal.make_watermarks_ready()
            if step.takes_files:
                with suppress(KanalError):
                    step.target.journal.make_files_ready()
                    finish_files(step, self._identity.job)

    def committed(self, step: PipelinePlan) -> Progress | None:
        """What the target of a step has committed of all its rows; None if it has not, or cannot be asked."""
        if self.mark_of(step) is Mark.NONE:
            return None
        try:
            found = step.target.journal.recorded(self._identity.token, step.name)
        except KanalError:
            return None
        return found if found is not None and found.done else None

    def tidy(self, log: RunLogStore) -> None:
        """Remove what no run will need any more, from the targets first, then from the run log."""
        name = self._plan.job.log_name
        abandoned, overdue = log.kept.abandoned(name), log.kept.overdue(name)
        tokens = {*log.past.tokens_of_done(name), *(token for _, token in [*abandoned, *overdue] if token)}
        # Whether a replay that died has committed is still to be asked.
        tokens -= {token for _, token, _ in log.rejects.unresolved_replays(name)}
        for target in self._targets():
            with suppress(KanalError):
                target.journal.forget(tokens)
        log.kept.give_up([run for run, _ in abandoned])
        log.kept.remove([run for run, _ in overdue])

    @property
    def _pipelines(self) -> list[PipelinePlan]:
        return [step for step in self._plan.steps if isinstance(step, PipelinePlan)]

    def _targets(self) -> list[Target]:
        """The targets that record something."""
        found = [step.target for step in self._pipelines if self.mark_of(step) is not Mark.NONE]
        if self._with_commands:
            commands = (step.database for step in self._plan.steps if isinstance(step, CommandPlan))
            found += [database for database in commands if Writes.REMEMBER in database.writes]
        return list(dict.fromkeys(found))
