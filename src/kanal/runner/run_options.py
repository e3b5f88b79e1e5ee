"""From a job and what a run of it is told to a plan that is ready, and closed afterwards."""

from __future__ import annotations

import logging
import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict, replace

from kanal.core.errors import KanalError
from kanal.core.hidden import hide
from kanal.core.nearest import did_you_mean
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import Start
from kanal.runner.events import tell
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan
from kanal.runner.planning.job_planner import Known, plan_job
from kanal.runner.planning.new_tables import create_tables
from kanal.runner.planning.order import Wait
from kanal.runner.retrying import retrying


class RunOptions(Struct, frozen=True):
    """What a run is told besides its job: see `Job.run`."""

    only: list[str] | None = None
    parameters: Mapping[str, Any] | None = None
    batch_rows: int | None = None
    workers: int | None = None
    since: object = None
    until: object = None
    everything: bool = False
    create: bool = False
    #: The time zone of `since` and `until`, if they have none of their own.
    zone: str | None = None
    start: Start | None = None
    #: Load all rows even if an unfinished run has committed some of them.
    anew: bool = False

    @property
    def kept(self) -> dict[str, Any]:
        """The same in the form in which the run log keeps it."""
        options = asdict(self) | {"parameters": dict(self.parameters or {}), "all": self.everything}
        options |= {name: str(options[name]) for name in ("since", "until") if options[name] is not None}
        del options["everything"], options["start"], options["anew"]
        return {name: value for name, value in options.items() if value}


def without_secrets(job: JobDefinition, options: Mapping[str, Any]) -> dict[str, Any]:
    """What a run was told, without values of parameters that the job declares to be secret."""
    given = options.get("parameters") or {}
    open_ones = {name: value for name, value in given.items() if not job.is_secret(name)}
    return {name: value for name, value in {**options, "parameters": open_ones}.items() if value}


def with_options(job: JobDefinition, options: Mapping[str, Any]) -> JobDefinition:
    """The job with the parameters and the rows a batch that a run was told; raises JobError for no parameter of it."""
    for name in options.get("parameters") or ():
        if name not in job.parameters:
            remedy = did_you_mean(name, job.parameters) or "add it to [parameters]"
            raise JobError([Problem(("parameters",), f'the job has no parameter "{name}"', remedy)])
        if job.is_secret(name):
            hide(str(options["parameters"][name]))
    if options.get("parameters"):
        job = job.with_parameters(options["parameters"])
    if options.get("batch_rows"):
        rows = {"batch_rows": options["batch_rows"]}
        job = job.model_copy(update={"pipeline": {n: p.model_copy(update=rows) for n, p in job.pipeline.items()}})
    return job


@contextmanager
def planned(
    job: JobDefinition, options: Mapping[str, Any] | None = None, known: Known | None = None
) -> Iterator[JobPlan]:
    """The plan of a job as a run with these options would have it, for looking only; closed afterwards.

    With the option `create`, target tables may be missing, and are planned. Raises JobError if the job is wrong.
    """
    options = options or {}
    plan = plan_job(with_options(job, options), bool(options.get("create")), known)
    try:
        choose(plan, options)
        yield plan
    finally:
        plan.dispose()


def plan_to_run(job: JobDefinition, options: Mapping[str, Any], known: Known | None = None) -> JobPlan:
    """The plan of a job for a run, its missing tables made; tried again if a trouble passes. Raises JobError."""
    create = bool(options.get("create"))

    def plan_now() -> JobPlan:
        plan = plan_job(job, create, known)
        if not plan.new_tables:
            return plan
        try:
            create_tables(plan)
        finally:
            plan.dispose()
        return plan_job(job, known=known)  # as the databases describe what was made

    def failed_for_now(state: Any) -> None:
        error, number = str(state.outcome.exception()), state.attempt_number
        said = f"{error}\nThe job is tried again in {state.next_action.sleep:.0f} s, {number} of {settings.retries}."
        tell("try_failed", logging.WARNING, said, job=job.job, attempt=number, error=error)

    settings = job.defaults
    return retrying(settings.retries, settings.retry_wait, time.sleep, failed_for_now)(plan_now)


def choose(plan: JobPlan, options: Mapping[str, Any]) -> None:
    """Keep of a plan the steps, and of what is new the range, that a run was told; raises JobError."""
    if options.get("only"):
        keep_only(plan, options["only"])
    if any(options.get(name) for name in ("since", "until", "all")):
        _set_range(plan, options)


def keep_only(plan: JobPlan, only: list[str]) -> None:
    """Keep these steps alone; raises JobError for one that there is not."""
    names = [step.name for step in plan.steps]
    for name in only:
        if name not in names:
            raise JobError([Problem((), f'the job has no step "{name}"', did_you_mean(name, names))])
    plan.steps = [_alone(step, plan.given_up, only) for step in plan.steps if step.name in only]
    kept = (replace(group, steps=tuple(name for name in group.steps if name in only)) for group in plan.groups)
    plan.groups = [group for group in kept if group.steps]
    plan.seen = [seen for seen in plan.seen if seen.step in only]


def _alone(step: StepPlan, given_up: Sequence[Wait], only: Collection[str]) -> StepPlan:
    """A step that leaves no reference open for steps that are not run."""
    if not isinstance(step, PipelinePlan) or not step.open_references:
        return step
    gone = {key for wait in given_up if wait.step == step.name and wait.before not in only for key in wait.keys}
    return replace(step, open_references=tuple(key for key in step.open_references if key not in gone))


def _set_range(plan: JobPlan, options: Mapping[str, Any]) -> None:
    """Take, of pipelines that load what is new, what the run was told."""
    if options.get("all") and (options.get("since") or options.get("until")):
        raise JobError([Problem((), "all rows, and rows of a range, are asked for at once", "ask for one of the two")])
    found = [step for step in plan.steps if isinstance(step, PipelinePlan) and step.since is not None]
    if options.get("all"):
        plan.steps = [
            replace(step, all_files=True) if isinstance(step, PipelinePlan) and step.takes_files else step
            for step in plan.steps
        ]
    if not found and not any(isinstance(step, PipelinePlan) and step.all_files for step in plan.steps):
        raise JobError([Problem((), "no step of this run loads only what is new", "give a pipeline the key since")])
    for step in found:
        assert step.since is not None
        try:
            since = step.since.given(options)
        except KanalError as error:
            raise JobError([Problem(("pipeline", step.name, "since"), error.what, error.remedy)]) from None
        plan.steps[plan.steps.index(step)] = replace(step, since=since)
