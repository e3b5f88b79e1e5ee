"""What can be wrong with a job as a whole."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from kanal.connections.base import Connection
from kanal.connections.roles import Reads, Writes
from kanal.core.nearest import did_you_mean
from kanal.core.types import Family
from kanal.definition import JobDefinition, Pipeline
from kanal.definition.problems import KeyPath
from kanal.runner.job_plan import Group, PipelinePlan, StepPlan
from kanal.runner.planning.problems import Problems
from kanal.runner.planning.waits import pipelines_by_target


def check_names(job: JobDefinition, connections: Mapping[str, Connection], problems: Problems) -> None:
    """Check that every name used in the job is defined."""
    known = _Names(problems)
    steps = [*job.pipeline, *job.command]
    for name in set(job.pipeline) & set(job.command):
        problems.add(("command", name), f'a pipeline is named "{name}" too', "give one of the two another name")
    for name, pipeline in job.pipeline.items():
        path = ("pipeline", name)
        named = {**job.connection, **connections}
        known.require((*path, "source"), "connection", pipeline.source.connection, named)
        known.require((*path, "target"), "connection", pipeline.target.connection, named)
        for lookup, settings in pipeline.lookup.items():
            known.require((*path, "lookup", lookup), "connection", settings.table.connection, job.connection)
        _check_after(path, pipeline, steps, known, problems)
        if pipeline.other_way is not None:
            known.require((*path, "other_way"), "pipeline", pipeline.other_way, job.pipeline)
        for check in job.effective(name).checks:
            known.require((*path, "checks"), "check", check, job.check_)
        for column, mapped in pipeline.columns.items():
            if mapped.conversion is not None:
                known.require((*path, "columns", column), "conversion", mapped.conversion, job.conversion)
    for name, rule in job.check_.items():
        if rule.table_column is not None:
            known.require(("check", name), "connection", rule.table_column.table.connection, job.connection)
    for name, command in job.command.items():
        known.require(("command", name), "connection", command.connection, job.connection)
        for step in command.after:
            known.require(("command", name, "after"), "step", step, steps)
        _check_waits_for_itself(("command", name), command.after, problems)


class _Names:
    """Reports names that are not defined."""

    def __init__(self, problems: Problems) -> None:
        self._problems = problems

    def require(self, path: KeyPath, kind: str, name: str, names: Collection[str]) -> None:
        """Report a name that is not among those defined."""
        if name not in names:
            remedy = did_you_mean(name, names) or f"add [{kind}.{name}]"
            self._problems.add(path, f'there is no {kind} "{name}" in the job', remedy)


def _check_after(path: KeyPath, pipeline: Pipeline, steps: Sequence[str], known: _Names, problems: Problems) -> None:
    for key in ("after", "not_after"):
        for step in getattr(pipeline, key):
            known.require((*path, key), "step", step, steps)
    _check_waits_for_itself(path, pipeline.after, problems)
    both = sorted(set(pipeline.after) & set(pipeline.not_after))
    if both:
        problems.add((*path, "not_after"), f"{', '.join(both)} is named in after too", "name it in one of the two")


def _check_waits_for_itself(path: KeyPath, after: Sequence[str], problems: Problems) -> None:
    if path[-1] in after:
        problems.add((*path, "after"), f"{path[-1]} would wait for itself", "remove its own name from after")


def check_circles(circles: Sequence[Group], steps: Mapping[str, StepPlan], problems: Problems) -> None:
    """Check that steps which refer to each other can be committed together."""
    for circle in circles:
        for name in circle.steps:
            step = steps[name]
            if not isinstance(step, PipelinePlan) or step.target.identity != circle.database.identity:
                kind = "pipeline" if isinstance(step, PipelinePlan) else "command"
                problems.add(
                    (kind, name),
                    f"it stands between {' and '.join(other for other in circle.steps if other != name)}, which "
                    "refer to each other and are loaded in one transaction",
                    "have it run before or after both",
                )
            elif step.settings.commits.by_batch:
                problems.add(
                    ("pipeline", name, "commit"),
                    f'commit = "batch" cannot be combined with tables that refer to each other '
                    f"({', '.join(circle.steps)}), which are loaded in one transaction",
                    'set commit = "step"',
                )


def check_deletions(steps: Mapping[str, StepPlan], problems: Problems) -> None:
    """Check that no pipeline deletes the rows that another one loads into the same table."""
    for pipelines in pipelines_by_target(steps).values():
        for plan in pipelines if len(pipelines) > 1 else ():
            if plan.settings.missing == "delete":
                other = next(one for one in pipelines if one is not plan)
                problems.add(
                    ("pipeline", plan.name, "missing"),
                    f"it would delete the rows that pipeline {other.name} loads into the same table",
                    'read both in one query, or set missing = "keep"',
                )


def check_files(steps: Mapping[str, StepPlan], problems: Problems) -> None:
    """Check that no two pipelines write files with the same names."""
    plans = [step for step in steps.values() if isinstance(step, PipelinePlan) and Writes.FILES in step.target.writes]
    plans = [plan for plan in plans if Reads.FILES in plan.target.reads]
    for place, plan in enumerate(plans):
        for other in plans[:place]:
            if plan.target.overlaps(plan.target_table, other.target, other.target_table):
                problems.add(
                    ("pipeline", plan.name, "target"),
                    f"pipeline {other.name} writes files of these names too",
                    "give each its own, for instance by {step} in the name",
                )


def check_windows(job: JobDefinition, steps: Mapping[str, StepPlan], problems: Problems) -> None:
    """Check that the windows of the schedule are ranges of what the pipelines load."""
    schedule = job.schedule
    if schedule is None or schedule.step is None:
        return
    changes: dict[str, Any] = {
        step.name: step.since.change
        for step in steps.values()
        if isinstance(step, PipelinePlan) and step.since is not None
    }
    if not changes and not problems.found:
        what = "no pipeline loads only what is new"
        problems.add(("schedule", "window"), what, "give one since, or take the window away")
    for name, change in changes.items():
        if change.type.family not in (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ):
            what = f"{change.text} is of type {change.type}, and the windows of the schedule are times"
            problems.add(("pipeline", name, "since"), what, "take a date or timestamp, or run it by hand with --by")
        elif change.type.family is Family.DATE and schedule.step.unit in ("seconds", "minutes", "hours"):
            what = f"{change.text} is a date, and the windows of the schedule are {schedule.window}"
            problems.add(("pipeline", name, "since"), what, 'make the window "1 day" or longer')
