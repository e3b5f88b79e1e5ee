"""What a plan looks like from outside: its steps, what waits for what, and from which columns each column comes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct

from kanal.core.expressions import Expression
from kanal.runner.job_plan import JobPlan, PipelinePlan


class Origin(Struct, frozen=True):
    """From where a target's column comes: the expression, and columns, each as (place, column, part).

    The part is `value` if the column is in the expression itself, `look-up` if it finds a row that is looked up,
    and `filter` if it decides whether the row is loaded at all.
    """

    step: str
    target: str
    column: str
    expression: str
    sources: tuple[tuple[str, str, str], ...]

    @property
    def values(self) -> list[tuple[str, str]]:
        """The columns of its expression alone: place and column."""
        return [(place, column) for place, column, part in self.sources if part == "value"]


def origins_of(plan: JobPlan) -> list[Origin]:
    """From where each column of each target comes, by the expressions themselves."""
    return [origin for step in plan.steps if isinstance(step, PipelinePlan) for origin in _of_step(step)]


def _of_step(step: PipelinePlan) -> Iterable[Origin]:
    source = step.settings.source.label
    tables = {name: lookup.table.label for name, lookup in step.settings.lookup.items()}
    probes = {lookup.name: lookup.probes for lookup, _, _ in step.lookups}

    def columns(expression: Expression | None, part: str) -> Iterable[tuple[str, str, str]]:
        for lookup, column in sorted(expression.uses, key=str) if expression is not None else ():
            yield (source if lookup is None else tables.get(lookup, lookup)), column, part
            for probe in probes.get(lookup, ()) if lookup is not None else ():
                yield from columns(probe, "look-up")

    filters = list(columns(step.where, "filter"))
    for column in step.columns:
        found = dict.fromkeys([*columns(column.expression, "value"), *filters])
        yield Origin(
            step.name, step.settings.target.label, column.name, " ".join(column.expression.text.split()), tuple(found)
        )


def outline_of(plan: JobPlan) -> dict[str, Any]:
    """The same as one document, as the run log keeps it: `steps`, `waits`, `given_up`, `columns`."""
    return {
        "steps": [
            {"name": step.name, "kind": step.kind, "source": step.settings.source.label,
             "target": step.settings.target.label, "write": step.settings.write}
            if isinstance(step, PipelinePlan)
            else {"name": step.name, "kind": step.kind, "target": step.database.name}
            for step in plan.steps
        ],
        "waits": [[wait.step, wait.before, wait.why] for wait in plan.waits],
        "given_up": [[wait.step, wait.before, wait.why] for wait in plan.given_up],
        "columns": [
            [one.step, one.target, one.column, one.expression, [list(source) for source in one.sources]]
            for one in origins_of(plan)
        ],
    }  # fmt: skip


def origins_in(outline: Mapping[str, Any]) -> list[Origin]:
    """The origins that an outline has."""
    return [
        Origin(step, target, column, expression, tuple((place, name, part) for place, name, part in sources))
        for step, target, column, expression, sources in outline.get("columns", [])
    ]
