"""The job as its users have it: the definition, with the doors to what can be done with it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from kanal.definition.models import JobDefinition

if TYPE_CHECKING:
    from kanal.explore.compare import Comparison
    from kanal.runner import MarkState, Run


class Job(JobDefinition):
    """Pipelines and commands with their connections, dependencies and rules.

    The keyword arguments are the keys of the job file: `Job(job="…", connection={…}, pipeline={…})`.
    """

    @classmethod
    def read(cls, path: str | Path) -> Self:
        """The job of a TOML file and those it includes; raises JobError with every mistake in them."""
        from kanal.definition.reading import read_job

        return read_job(Path(path), cls)

    def write(self, path: str | Path) -> None:
        """Write the job as a TOML file that reads back as an equal job; raises KanalError if it cannot be written."""
        from kanal.definition.writing import write_job

        write_job(self, Path(path))

    def check(self) -> list[str]:
        """All that is wrong with the job, offline and against its databases: a sentence each; empty if it can run."""
        from kanal.runner import check_job

        return [str(problem) for problem in check_job(self)]

    def run(self, **options: Any) -> Run:
        """Run the job.

        Options: `only` (names of steps), `parameters` (other values for some), `batch_rows`, `workers` (steps at once);
        for pipelines that load what is new, `since` and `until` (a range of change values) or `everything`. A step
        that fails does not raise; its result says why. Raises JobError where the job itself is wrong, before any row
        moves.
        """
        from kanal.runner import run_job

        return run_job(self, **options)

    def resume(self, run: int | None = None) -> Run:
        """Go on with a run of the job that failed, was stopped or died: the latest, or that of a number.

        Steps that succeeded are not run again. Raises KanalError where there is nothing to go on with.
        """
        from kanal.runner import resume_run

        return resume_run(self, run)

    def create(self) -> list[str]:
        """Create the target tables that are missing, from the mapping; their names. Raises KanalError."""
        from kanal.runner.new_tables import create_tables
        from kanal.runner.planning import planned

        with planned(self, {"create": True}) as plan:
            return [new.table.name for new in create_tables(plan)]

    def compare(self, *, quick: bool = False, examples: int = 3) -> list[Comparison]:
        """Compare what the sources hold, after the mapping, with what stands in the targets: one for each table.

        `quick` compares counts and a sum of each column alone; `examples` is how many rows of each kind are kept.
        Whether something is amiss says `Comparison.differs()`.
        """
        from kanal.explore.compare import compare
        from kanal.runner import run_log_of
        from kanal.runner.planning import planned

        with planned(self, {}) as plan:
            return list(compare(plan, run_log_of(self), quick, examples))

    def marks(self) -> list[MarkState]:
        """The marks of the steps that load only what is new: up to which change value each has come."""
        from kanal.runner import marks_of

        return marks_of(self)

    def set_mark(self, step: str, value: object) -> None:
        """Set the mark of a step, from which its next run goes on; None takes it away, so that all rows are new."""
        from kanal.runner import set_mark

        set_mark(self, step, value)

    def replay(self, run: int | None = None, step: str | None = None) -> Run:
        """Load the rejected rows of a run again, and only those, through the job as it is now; a run of its own.

        Of the latest run or that of a number, of all its steps or of one. Rows that load are recorded as mended. Raises
        KanalError where there is nothing to load again.
        """
        from kanal.runner import replay_run

        return replay_run(self, run, step)
