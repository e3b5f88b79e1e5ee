"""Breaks circles of foreign keys, if a reference can be filled in later or be checked at the commit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from kanal.connections import ForeignKey
from kanal.connections.roles import Writes
from kanal.runner.job_plan import Group, PipelinePlan, StepPlan
from kanal.runner.planning.order import CircleError, Wait, in_order


class Broken(Struct, frozen=True):
    """The order of a job: its steps, what they wait for, and the waits that were given up, one for each reference that
    a step leaves open until a later step has loaded the rows that it refers to."""

    ordered: list[str]
    waits: list[Wait]
    given_up: list[Wait]


def break_circles(names: Sequence[str], waits: Sequence[Wait], steps: Mapping[str, StepPlan]) -> Broken:
    """The steps in order; raises CircleError for a circle in which no reference can be left open for a while."""
    left, given_up = list(waits), list[Wait]()
    places = {name: place for place, name in enumerate(names)}
    while True:
        try:
            return Broken(in_order(names, left), left, given_up)
        except CircleError as error:
            for wait in sorted(error.circle, key=lambda wait: places[wait.step]):
                if wait.keys and can_wait(steps[wait.step], wait.keys):
                    break
            else:
                raise CircleError(error.circle, _ways_out(error.circle, steps)) from None
            left.remove(wait)
            given_up.append(wait)


def can_wait(step: StepPlan, keys: Sequence[ForeignKey]) -> bool:
    """True if a step can load its rows before those that they refer to by these keys."""
    if not isinstance(step, PipelinePlan) or step.settings.commits.by_batch:
        return False
    if Writes.MERGE not in step.target.writes or Writes.SHARE not in step.target.writes:
        return False
    table = step.target_table
    filled = all(key.deferrable or all(c.nullable for c in table.chosen(key.columns)) for key in keys)
    return filled and bool(step.filling_key(keys))


def _ways_out(circle: Sequence[Wait], steps: Mapping[str, StepPlan]) -> str:
    """What would have to be different for the circle to be broken."""
    ways = []
    for wait in circle:
        step = steps[wait.step]
        if not isinstance(step, PipelinePlan):
            continue
        for key in wait.keys:
            table = step.target_table
            name = f" {key.name}" if key.name else ""
            needed = [column.name for column in table.chosen(key.columns) if not column.nullable]
            if step.settings.commits.by_batch:
                ways.append(f'commit pipeline {step.name} by "step"')
            elif needed:
                columns = " and ".join(needed)
                ways.append(f"make {columns} of {table.name} nullable, or its foreign key{name} deferrable")
            elif not step.filling_key(wait.keys):
                ways.append(f"map the key of {table.name} in pipeline {step.name}")
    return ", or ".join([*ways, "take one of these waits away, by not_after"])


def with_open_references(steps: dict[str, StepPlan], given_up: Sequence[Wait]) -> None:
    """Tell the steps which references they leave open."""
    for wait in given_up:
        step = steps[wait.step]
        assert isinstance(step, PipelinePlan)
        mapped = {column.name for column in step.columns}
        keys = tuple(key for key in wait.keys if set(key.columns) <= mapped)
        steps[wait.step] = replace(step, open_references=(*step.open_references, *keys))


def circle_groups(waits: Sequence[Wait], broken: Broken, steps: Mapping[str, StepPlan]) -> list[Group]:
    """The steps of each circle that was broken, which one transaction makes visible together."""
    befores: dict[str, set[str]] = {}
    for wait in waits:
        befores.setdefault(wait.step, set()).add(wait.before)
    found: list[set[str]] = []
    for wait in broken.given_up:
        circle = {wait.step} | {name for name in _reached(befores, wait.before) if wait.step in _reached(befores, name)}
        for other in [other for other in found if other & circle]:
            circle |= other
            found.remove(other)
        found.append(circle)
    groups = []
    for circle in found:
        first = steps[next(iter(circle))]
        assert isinstance(first, PipelinePlan)
        groups.append(Group(first.target, tuple(name for name in broken.ordered if name in circle)))
    return groups


def _reached(befores: Mapping[str, set[str]], start: str) -> set[str]:
    """The steps that a step waits for, directly or not, and itself."""
    seen, left = {start}, [start]
    while left:
        for before in befores.get(left.pop(), ()):
            if before not in seen:
                seen.add(before)
                left.append(before)
    return seen


def opening(wait: Wait) -> str:
    """What becomes of the references of a step that does not wait for the rows that it refers to."""
    columns = ", ".join(dict.fromkeys(name for key in wait.keys for name in key.columns))
    return f"{columns} is filled in once {wait.before} is loaded"
