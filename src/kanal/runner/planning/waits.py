"""Which steps of a job wait for which, and why; and which of them commit together."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from kanal.connections import ForeignKey, TableInfo
from kanal.connections.base import Connection
from kanal.definition import JobDefinition
from kanal.runner.job_plan import CommandPlan, Group, PipelinePlan, StepPlan
from kanal.runner.planning.order import Wait
from kanal.runner.planning.problems import Problems


def waits_of(job: JobDefinition, steps: Mapping[str, StepPlan]) -> list[Wait]:
    """What each step waits for: what the job names, what fills a table that it uses, what comes first in a table."""
    waits = _Waits(job)
    afters = {name: step.after for name, step in job.pipeline.items()}
    afters |= {name: step.after for name, step in job.command.items()}
    for name, befores in afters.items():
        for before in befores:
            waits.add(name, before, "after")
    fillers = _Fillers(steps)
    for plan in fillers.pipelines:
        for other, why, key in fillers.used_by(plan):
            waits.add(plan.name, other.name, why, *([key] if key is not None else []))
    for same in fillers.by_target.values():
        for place, plan in enumerate(same):
            for later in same[place + 1 :]:
                if not waits.has(plan.name, later.name):
                    label = later.settings.target.label
                    waits.add(later.name, plan.name, f"writes {label} too, and comes later in the job")
    return waits.found


def groups_of(steps: Mapping[str, StepPlan], problems: Problems) -> list[Group]:
    """The steps whose pipelines set commit = "job", by target, with the commands there."""
    pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
    groups = []
    together = dict.fromkeys(plan.target.identity for plan in pipelines if plan.settings.commits.shared)
    for identity in together:
        members = [plan for plan in pipelines if plan.target.identity == identity]
        for plan in members:
            if not plan.settings.commits.shared:
                problems.add(
                    ("pipeline", plan.name, "commit"),
                    'other pipelines into this target say commit = "job", and this one does not',
                    "set it for all of them, for instance in [defaults]",
                )
        commands = [p.name for p in steps.values() if isinstance(p, CommandPlan) and p.database.identity == identity]
        groups.append(Group(members[0].target, (*(plan.name for plan in members), *commands)))
    return groups


def waits_for_whole(group: Group, waits: Sequence[Wait]) -> list[Wait]:
    """The waits of steps for all steps of a group, because they wait for one of them."""
    why = 'is committed together with the step that it waits for, by commit = "job"'
    outside = {wait.step for wait in waits if wait.before in group.steps and wait.step not in group.steps}
    known = {(wait.step, wait.before) for wait in waits}
    return [
        Wait(step, member, f"{member} {why}")
        for step in sorted(outside)
        for member in group.steps
        if (step, member) not in known
    ]


def pipelines_by_target(steps: Mapping[str, StepPlan]) -> dict[Hashable, list[PipelinePlan]]:
    """The pipelines that fill each table, in the order of the job."""
    found: dict[Hashable, list[PipelinePlan]] = {}
    for plan in steps.values():
        if isinstance(plan, PipelinePlan):
            found.setdefault(plan.target.place_of(plan.target_table), []).append(plan)
    return found


class _Waits:
    """The waits of a job, one for each pair of steps."""

    def __init__(self, job: JobDefinition) -> None:
        self._job = job
        self._order = list(job.pipeline)
        self._waits: dict[tuple[str, str], Wait] = {}

    @property
    def found(self) -> list[Wait]:
        """All waits."""
        return list(self._waits.values())

    def has(self, step: str, other: str) -> bool:
        """True if one of two steps waits for the other."""
        return (step, other) in self._waits or (other, step) in self._waits

    def add(self, step: str, before: str, why: str, *keys: ForeignKey) -> None:
        """Let a step wait for another one, unless the job excludes it; `keys` are foreign keys that are the reason."""
        pipeline = self._job.pipeline.get(step)
        if step == before or (why != "after" and pipeline is not None and before in pipeline.not_after):
            return
        both_ways = pipeline is not None and pipeline.other_way == before
        if both_ways and self._order.index(before) > self._order.index(step):
            return  # of the two ways of an exchange, the one that the job names first runs first
        known = self._waits.setdefault((step, before), Wait(step, before, why, keys))
        if known.keys and not keys:  # there is another reason too
            self._waits[step, before] = Wait(step, before, why)
        elif known.keys and keys[0] not in known.keys:
            self._waits[step, before] = replace(known, keys=(*known.keys, *keys))


class _Fillers:
    """The tables that a job fills."""

    def __init__(self, steps: Mapping[str, StepPlan]) -> None:
        self.pipelines = [plan for plan in steps.values() if isinstance(plan, PipelinePlan)]
        self.by_target = pipelines_by_target(steps)
        self._by_reference: dict[tuple[Hashable, str], list[PipelinePlan]] = {}
        #: The first pipeline of each table, by database: the table may be a part of another one.
        self._by_database: dict[Hashable, list[PipelinePlan]] = {}
        for same in self.by_target.values():
            first = same[0]
            key = (first.target.identity, first.target_table.name.casefold())
            self._by_reference.setdefault(key, []).extend(same)
            self._by_database.setdefault(first.target.identity, []).append(first)

    def used_by(self, step: PipelinePlan) -> Iterator[tuple[PipelinePlan, str, ForeignKey | None]]:
        """The pipelines that a step has to wait for, each with the reason, and the foreign key if that is it."""
        if step.settings.source.query is None:
            for other in self._filling(step.source, step.reading.table):
                yield other, f"reads {other.settings.target.label}", None
        for _, database, table in step.lookups:
            for other in self._filling(database, table):
                yield other, f"looks up {other.settings.target.label}", None
        for check in step.checks:
            if check.members is not None:
                for other in self._filling(*check.members[:2]):
                    yield other, f"checks against {other.settings.target.label}", None
        for key in step.target_table.foreign_keys:
            if key.refers_to(step.target_table):
                continue  # pipelines into one table run in the order of the job
            for other in self._by_reference.get((step.target.identity, key.table.casefold()), []):
                if key.refers_to(other.target_table):
                    yield other, f"refers to {other.settings.target.label} by a foreign key", key

    def _filling(self, database: Connection, table: TableInfo) -> Iterator[PipelinePlan]:
        """The pipelines that fill a table, or one that has some of its rows."""
        direct = self.by_target.get(database.place_of(table), [])
        yield from direct
        if database.has_parts(table):
            for first in self._by_database.get(database.identity, []):
                if first not in direct and database.overlaps(table, first.target, first.target_table):
                    yield from self.by_target[first.target.place_of(first.target_table)]
