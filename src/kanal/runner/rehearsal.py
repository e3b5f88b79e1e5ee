"""Runs a job in full, and undoes all of it: what its targets would refuse is known before they are changed."""

from __future__ import annotations

import tempfile
import weakref
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kanal.definition import JobDefinition, JobError, Problem, RunLog
from kanal.runlog import RunLogStore
from kanal.runner.execution import Execution
from kanal.runner.job_plan import JobPlan, PipelinePlan
from kanal.runner.results import Run
from kanal.runner.run import run_log_of, seeds_of
from kanal.runner.run_options import RunOptions, planned
from kanal.runner.watcher import NullWatcher, Watcher


class Rehearsal(Struct):
    """How a run would have gone, and a run log of its own, which is gone with it."""

    run: Run
    log: RunLogStore


def rehearse_job(job: JobDefinition, options: RunOptions, watcher: Watcher | None = None) -> Rehearsal:
    """Run a job, all that goes into one target in one transaction, and undo it.

    Raises JobError if that cannot be undone, or where a step would have to see what is not committed.
    """
    folder = tempfile.TemporaryDirectory(prefix="kanal-rehearsal-")
    together = {name: pipeline.model_copy(update={"commit": "job"}) for name, pipeline in job.pipeline.items()}
    log_of_its_own = RunLog(url=f"sqlite:///{Path(folder.name) / 'runs.db'}")
    rehearsed = job.model_copy(update={"pipeline": together, "run_log": log_of_its_own})
    with planned(rehearsed, options.kept) as plan:
        problems = list(_obstacles(plan))
        if problems:
            raise JobError(problems)
        log = run_log_of(rehearsed)
        weakref.finalize(log, folder.cleanup)
        log.prepare()
        record = log.runs.begin_run(job.job, None, seeds_of(plan), {})
        together_anyway = {name for wait in plan.given_up for name in (wait.step, wait.before)}
        apart = {name for name in job.pipeline if not job.effective(name).commits.shared} - together_anyway
        run = Execution(plan, log, record, watcher or NullWatcher(), workers=options.workers, rehearsed=apart).run()
    return Rehearsal(replace(run, run=0), log)


def _obstacles(plan: JobPlan) -> Iterator[Problem]:
    """Why a job cannot be rehearsed."""

    def problem(path: tuple[str, ...], what: str, remedy: str) -> Problem:
        return Problem(path, what, remedy, *plan.job.located(path))

    steps = {step.name: step for step in plan.steps}
    for new in plan.new_tables:
        what = f"table {new.table.name} is not there, and nothing can be loaded into it and be undone"
        yield problem(("pipeline", new.step, "target"), what, "make it by kanal create")
    for step in plan.steps:
        if isinstance(step, PipelinePlan):
            texts: list[tuple[str, Any]] = [(key, getattr(step.settings, key)) for key in ("first_sql", "last_sql")]
            place, database = ("pipeline", step.name), step.target
        else:
            texts, place, database = [("sql", step.sql)], ("command", step.name), step.database
        for key, sql in texts:
            if sql is not None and not database.can_undo(sql):
                what = f"connection {database.name} cannot undo what this SQL does"
                yield problem((*place, key), what, "name the other steps by --only")
    for wait in plan.waits:
        one, other = steps.get(wait.step), steps.get(wait.before)
        if not isinstance(one, PipelinePlan) or not isinstance(other, PipelinePlan) or not wait.needs_rows:
            continue
        if one.target.identity != other.target.identity:
            what = f"it needs rows that {other.name} loads into another database, and sees them only once committed"
            yield problem(("pipeline", one.name), what, "rehearse the two apart, by --only")
