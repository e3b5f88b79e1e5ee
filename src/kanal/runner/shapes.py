"""What has changed in the tables of a job since its last run, and what that means for each step."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping

from msgspec import Struct
from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Connection
from kanal.core.errors import listed
from kanal.core.shapes import Changed, ColumnShape, ShapeChange, TableShape, changes
from kanal.definition import JobDefinition, JobError, Problem
from kanal.runlog import SeenTable
from kanal.runner.fit import too_narrow
from kanal.runner.job_plan import JobPlan, PipelinePlan

#: What a step does with a table: it reads it, or writes it; or else the name of the look-up that reads it.
SOURCE, TARGET = "source", "target"


def seen_table(step: str, role: str, connection: Connection, table: TableInfo, query: str | None = None) -> SeenTable:
    """A table, or what a query gives, as a step sees it now."""
    name = f"query {hashlib.sha256(query.encode()).hexdigest()[:16]}" if query is not None else (
        f"{table.schema}.{table.name}" if table.schema else table.name)  # fmt: skip
    columns = tuple(
        ColumnShape(
            column.name, column.declared, str(column.type) if column.type else None, column.nullable, column.filled
        )
        for column in table.columns
    )
    return SeenTable(step, role, f"{connection.shown_url}:{name}", TableShape(columns, table.primary_key))


class TableChange(Struct, frozen=True):
    """What has changed in a table of a step since a run."""

    step: str
    role: str
    since: str
    said: tuple[str, ...]

    @property
    def text(self) -> str:
        """All of it in a sentence."""
        table = f"the {self.role}" if self.role in (SOURCE, TARGET) else f"the table of look-up {self.role}"
        return f"{table} has changed since {self.since}: {'; '.join(self.said)}"


def table_changes(
    seen: Iterable[SeenTable], remembered: Mapping[tuple[str, str], SeenTable], plan: JobPlan | None
) -> list[TableChange]:
    """What has changed since each table was remembered, and what that means if the job could be planned."""
    steps = {step.name: step for step in plan.steps if isinstance(step, PipelinePlan)} if plan is not None else {}
    found = []
    for one in seen:
        before = remembered.get((one.step, one.role))
        if before is None or before.place != one.place or before.shape == one.shape:
            continue
        step = steps.get(one.step)
        said = []
        for change in changes(before.shape, one.shape):
            meaning = _meaning(change, one.role, step) if step else ""
            said.append(f"{change.what}{meaning and ', '}{meaning}")
        if said:
            since = f"run {before.run}" + (f" ({before.when:%Y-%m-%d})" if before.when else "")
            found.append(TableChange(one.step, one.role, since, tuple(said)))
    return found


def with_notes(plan: JobPlan, found: Iterable[TableChange]) -> None:
    """Have the steps of a plan say in their notes what has changed."""
    said: dict[str, list[str]] = {}
    for change in found:
        said.setdefault(change.step, []).append(change.text)
    plan.steps = [
        replace(step, notes=(*step.notes, *said.get(step.name, ()))) if isinstance(step, PipelinePlan) else step
        for step in plan.steps
    ]


def problems_of(job: JobDefinition, found: Iterable[TableChange]) -> list[Problem]:
    """The same as remarks with their place in the job."""
    problems = []
    for change in found:
        last = (change.role,) if change.role in (SOURCE, TARGET) else ("lookup", change.role)
        path = ("pipeline", change.step, *last)
        problems.append(Problem(path, change.text, "", *job.located(path)))
    return problems


class UnplannedJob(JobError):
    """A job that cannot be planned, with the tables of it that could be seen."""

    def __init__(self, error: JobError, job: JobDefinition, seen: Iterable[SeenTable]) -> None:
        super().__init__(error.problems, error.passing)
        self.job = job
        self.seen = tuple(seen)

    def changes(self, remembered: Mapping[tuple[str, str], SeenTable]) -> list[Problem]:
        """What has changed in those tables, which may be why."""
        return problems_of(self.job, table_changes(self.seen, remembered, None))


def _meaning(change: Changed, role: str, step: PipelinePlan) -> str:
    """What a change means for a step; nothing if it means nothing."""
    if role == SOURCE:
        return _meaning_at_source(change, step)
    if role == TARGET:
        return _meaning_at_target(change, step)
    return ""


def _meaning_at_source(change: Changed, step: PipelinePlan) -> str:
    fills = [column.name for column in step.columns if (None, change.column) in column.expression.uses]
    narrow = {info.name: info for info, _ in too_narrow(step) if info.name in fills}
    used = change.column in step.reading.columns
    match change.kind:
        case ShapeChange.ADDED | ShapeChange.RENAMED:
            said = f"and fills {listed(fills)}" if fills else "" if used else "which goes nowhere"
            return "; ".join(filter(None, (said, _left_empty(change.former, step))))
        case ShapeChange.DROPPED:
            return _left_empty(change.column, step) or "and is not used here"
        case ShapeChange.WIDENED | ShapeChange.RETYPED if narrow:
            kept = listed([f"{name} ({info.declared})" for name, info in narrow.items()])
            return f"and {kept} does not hold all of it: {_REJECTED}"
        case ShapeChange.WIDENED | ShapeChange.RETYPED if fills:
            return f"which {listed(fills)} can hold"
        case ShapeChange.NULLABLE:
            strict = [name for name in fills if (info := step.target_table.column(name)) and not info.nullable]
            return f"and rows without it are rejected, since {listed(strict)} is NOT NULL" if strict else ""
    return ""


def _left_empty(former: str | None, step: PipelinePlan) -> str:
    """Whether a column of the target of that name was filled by it, and gets no value any more."""
    info = step.target_table.column(former) if former is not None else None
    if info is None or info.name in [column.name for column in step.columns]:
        return ""
    return f"{info.name} of the target gets no value any more"


#: What happens to values that a column does not hold.
_REJECTED = "what does not fit is rejected"


def _meaning_at_target(change: Changed, step: PipelinePlan) -> str:
    filled = change.column in [column.name for column in step.columns]
    narrow = change.column in [info.name for info, _ in too_narrow(step)]
    match change.kind:
        case ShapeChange.ADDED | ShapeChange.RENAMED:
            return "and is filled" if filled else "which the mapping does not fill"
        case ShapeChange.NARROWED | ShapeChange.RETYPED if filled:
            return _REJECTED if narrow else "which holds what comes"
        case ShapeChange.NOT_NULL if filled:
            return "so rows without a value are rejected"
    return ""
