"""The job as users see it: its definition, and methods to check, run and inspect it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from kanal.definition.models import JobDefinition

if TYPE_CHECKING:
    import datetime as dt
    from collections.abc import Mapping
    from concurrent.futures import Executor

    import pyarrow as pa

    from kanal.explore.compare import Comparison
    from kanal.opened import OpenConnection
    from kanal.runlog import RunLogStore, RunRecord
    from kanal.runner import Run, Watcher, WatermarkState
    from kanal.runner.file_states import FileState


class Job(JobDefinition):
    """Pipelines and commands with their connections, dependencies and rules.

    The keyword arguments are the keys of the job file: `Job(job="…", connection={…}, pipeline={…})`.
    """

    @classmethod
    def read(cls, path: str | Path, environment: str | None = None) -> Self:
        """The job of a TOML file and those it includes, or of a bundle; in an environment of it, if one is named.

        Raises JobError with every mistake in them, in any of their environments.
        """
        from kanal.definition.reading import read_job

        return read_job(Path(path), cls, environment)

    def write(self, path: str | Path) -> None:
        """Write the job as a TOML file that reads back as an equal job; raises KanalError if it cannot be written."""
        from kanal.definition.writing import write_job

        write_job(self, Path(path))

    def check(self) -> list[str]:
        """All problems of the job, offline and with its databases, a sentence each; empty if it can run."""
        from kanal.runner import check_job

        return [str(problem) for problem in check_job(self)]

    def run(
        self,
        *,
        only: list[str] | None = None,
        parameters: Mapping[str, Any] | None = None,
        batch_rows: int | None = None,
        workers: int | None = None,
        since: object = None,
        until: object = None,
        everything: bool = False,
        create: bool = False,
        anew: bool = False,
        dry_run: bool = False,
        rehearse: bool = False,
        watcher: Watcher | None = None,
        executor: Executor | None = None,
    ) -> Run:
        """Run the job, or only the named steps.

        `parameters` replace values of the job's; `batch_rows` is rows, `workers` how many steps may run at once. Of
        pipelines that load what is new, `since` (from it on), `until` (before it) or `everything` say what to take this
        time. `create` makes missing target tables first. `again` loads all rows even if an unfinished run has committed
        some of them, which is otherwise a KanalError if they would be appended twice. `dry_run` does all but write,
        `rehearse` writes too and undoes it, if the targets can; both give a Run without a number. `watcher` is told
        how the run goes. `executor` runs the steps: any `concurrent.futures.Executor`, such as a ProcessPoolExecutor;
        by default they run in threads.

        A step that fails does not raise; its result says why. Raises JobError if the job itself is wrong, before any
        row moves, and KanalError if the run log cannot be written or another run of the job is under way.
        """
        from kanal.runner.run_options import RunOptions, planned

        options = RunOptions(only, parameters, batch_rows, workers, since, until, everything, create, anew=anew)
        if dry_run:
            from kanal.explore.check import dry_run as try_all

            with planned(self, options.kept) as plan:
                return try_all(plan)[0]
        if rehearse:
            from kanal.runner.rehearsal import rehearse_job

            return rehearse_job(self, options, watcher).run
        from kanal.runner import run_job

        return run_job(self, options, watcher, executor)

    def resume(self, run: int | None = None, *, executor: Executor | None = None) -> Run:
        """Resume a run of the job that failed, was stopped or died: the latest, or the one with this number.

        Steps that succeeded are not run again; `executor` as in `run`. Raises KanalError if there is nothing left.
        """
        from kanal.runner import resume_run

        return resume_run(self, run, executor=executor)

    def create(self, *, alter: bool = False) -> list[str]:
        """Create the target tables that are missing, from the mapping; their names. Raises KanalError.

        With `alter`, columns of tables that exist are added and widened too, if that changes nothing that is there.
        """
        from kanal.runner.fit import differences
        from kanal.runner.planning.new_tables import alter_tables, create_tables
        from kanal.runner.run_options import planned

        with planned(self, {"create": True}) as plan:
            made = [new.table.name for new in create_tables(plan)]
            if alter:
                alter_tables(differences(plan))
            return made

    def compare(self, *, quick: bool = False, examples: int = 3) -> list[Comparison]:
        """Compare the mapped rows of the sources with the rows of the targets: one comparison for each table.

        `quick` compares counts and a sum of each column alone; `examples` is how many rows of each kind are kept.
        Whether something is amiss says `Comparison.differs()`.
        """
        from kanal.explore.compare import compare
        from kanal.runner import run_log_of
        from kanal.runner.run_options import planned

        with planned(self, {}) as plan:
            return list(compare(plan, run_log_of(self), quick, examples))

    def files(self) -> list[FileState]:
        """The files of steps that load each file once: when and by which run each was loaded, and which are new."""
        from kanal.runner.file_states import files_of

        return files_of(self)

    def forget_file(self, step: str, name: str) -> None:
        """Forget that a step has loaded a file, so that its next run loads it again; raises KanalError."""
        from kanal.runner.file_states import forget_file

        forget_file(self, step, name)

    def connect(self, name: str) -> OpenConnection:
        """Open a connection of the job, to look at its tables; raises KanalError if the job does not have it."""
        from kanal.core.errors import KanalError
        from kanal.core.nearest import did_you_mean
        from kanal.opened import OpenConnection

        if name not in self.connection:
            remedy = did_you_mean(name, self.connection) or f"it has: {', '.join(self.connection)}"
            raise KanalError(f'the job has no connection "{name}"', remedy)
        return OpenConnection(name, self.connection[name], self.folder)

    def order(self) -> pa.Table:
        """The steps in the order of a run, one row for each: position, step, kind, source, target, and waits, a list of
        steps that it waits for, each with the reason. Raises JobError."""
        import pyarrow as pa

        from kanal.runner.job_plan import PipelinePlan
        from kanal.runner.run_options import planned

        waits = pa.list_(pa.struct({"step": pa.string(), "because": pa.string()}))
        schema = pa.schema({
            "position": pa.int64(), "step": pa.string(), "kind": pa.string(), "source": pa.string(),
            "target": pa.string(), "waits": waits,
        })  # fmt: skip
        with planned(self, {"create": True}) as plan:
            return pa.Table.from_pylist(
                [
                    {
                        "position": position,
                        "step": step.name,
                        "kind": step.kind,
                        "source": step.settings.source.label if isinstance(step, PipelinePlan) else None,
                        "target": step.settings.target.label if isinstance(step, PipelinePlan) else step.database.name,
                        "waits": [
                            {"step": wait.before, "because": wait.why} for wait in plan.waits if wait.step == step.name
                        ],
                    }
                    for position, step in enumerate(plan.steps, 1)
                ],
                schema,
            )

    def lineage(self, of: str | None = None) -> pa.Table:
        """The source columns of each target column, one row for each: step, target, column, expression, place,
        source_column and part (`value`, `look-up` or `filter`).

        `of` names a table or a column, such as `passage` or `passage.toll`. Raises JobError, and KanalError for a name
        that the job does not fill.
        """
        import pyarrow as pa

        from kanal.explore.lineage import chosen
        from kanal.runner.run_options import planned

        names = ("step", "target", "column", "expression", "place", "source_column", "part")
        with planned(self, {"create": True}) as plan:
            rows = [
                (one.step, one.target, one.column, one.expression, *source)
                for one in chosen(plan, of)
                for source in one.sources or ((None, None, None),)
            ]
        schema = pa.schema({name: pa.string() for name in names})
        return pa.Table.from_pylist([dict(zip(names, row, strict=True)) for row in rows], schema)

    def due(self, count: int = 5) -> list[dt.datetime]:
        """The next moments (UTC) when the schedule starts the job; empty without a schedule or if it is off.

        Needs the extra kanal[service].
        """
        import datetime as dt

        from kanal.service.due import first

        on = self.schedule is not None and self.schedule.enabled
        return first(self.schedule, dt.datetime.now(dt.UTC), count) if self.schedule is not None and on else []

    def runs(self, limit: int = 20) -> list[RunRecord]:
        """The latest runs of the job in its environment, newest first, with their steps and counts. Times are UTC."""
        log = self._existing_log()
        return [] if log is None else log.past.runs_of(self.log_name, limit)

    def _existing_log(self) -> RunLogStore | None:
        """The job's run log, with dead runs recorded as failed; None before the first run."""
        from kanal.runner import run_log_of

        log = run_log_of(self)
        if not log.exists():
            return None
        log.prepare()
        log.runs.end_dead_runs()
        return log

    def report(self, into: str | Path, run: int | None = None) -> int:
        """Write the page of a run (default: the latest) to a file that needs no server; returns its size in bytes.

        Needs the extra kanal[service]. Raises KanalError if the run does not exist.
        """
        from kanal.core.errors import KanalError
        from kanal.service.report import write_report

        log = self._existing_log()
        if log is None:
            raise KanalError(f"{self.log_name} has no runs yet", "run it first")
        record = log.past.run(run, self.log_name)
        if record.job != self.log_name:
            raise KanalError(f"run {run} is one of {record.job}, not of {self.log_name}", "see Job.runs")
        return write_report(log, record, Path(into))

    def bundle(self, into: str | Path) -> list[str]:
        """Pack the job, its SQL, functions and descriptions into a file `….kanal.zip`; returns the entries' names.

        Raises KanalError.
        """
        from kanal.definition.bundle import write_bundle

        return write_bundle(self, Path(into))

    def watermarks(self) -> list[WatermarkState]:
        """The watermarks of the steps that load only new rows: the last change value that each has loaded."""
        from kanal.runner import watermarks_of

        return watermarks_of(self)

    def set_watermark(self, step: str, value: object) -> None:
        """Set the watermark from which the next run of a step continues; None removes it, so that all rows are new."""
        from kanal.runner import set_watermark

        set_watermark(self, step, value)

    def replay(self, run: int | None = None, step: str | None = None, *, executor: Executor | None = None) -> Run:
        """Load the rejected rows of a run again, and no others, with the present job; this is a new run.

        Of the latest run or that of a number, of all its steps or of one; `executor` as in `run`. Rows that load are
        recorded as resolved.
        Raises KanalError if there is nothing to load again.
        """
        from kanal.runner import replay_run

        return replay_run(self, run, step, executor=executor)
