"""What can be known of a job before a row moves: what may not fit, what is missing, and how a sample of rows fares."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from kanal.core.conversions.formats import compiled
from kanal.core.errors import KanalError
from kanal.core.faults import texts_of
from kanal.core.reasons import Reason
from kanal.core.tally import Tally
from kanal.core.types import Family
from kanal.definition import Problem
from kanal.explore.awaited import loaded_by
from kanal.runner.fit import differences
from kanal.runner.job_plan import JobPlan, PipelinePlan
from kanal.runner.planning.circles import opening
from kanal.runner.results import Run, RunStatus, StepResult, StepStatus
from kanal.runner.run import remembered
from kanal.runner.shapes import problems_of, table_changes
from kanal.runner.step import StepContext
from kanal.runner.step import Trial as StepTrial


def remarks(plan: JobPlan, clustered: bool = False) -> list[Problem]:
    """What is worth knowing of a job that can be run: tables that have changed since its last run, types that may not
    fit, keys without an index, columns that go nowhere, rights that are missing, tables that would be made; and what a
    cluster does otherwise, if one is to run it."""
    found = problems_of(plan.job, table_changes(plan.seen, remembered(plan.job), plan))
    found += plan.notes
    for name, database in plan.connections.items():
        if database.missing_file:
            what = f"the file {database.missing_file} is not there; it will be made"
            found.append(_located(plan, ("connection", name), what))
    found += _to_be_made(plan)
    found += _without_memory(plan)
    for wait in plan.given_up:
        what = f"{wait.step} and {wait.before} refer to each other: {opening(wait)}, in one transaction with it"
        found.append(_located(plan, ("pipeline", wait.step), what))
    by_step: dict[str, list[str]] = {}
    for one in differences(plan):
        by_step.setdefault(one.step, []).append(f"{one.column} ({one.wanted} into {one.there})")
    for step_name, columns in by_step.items():
        what = f"columns that do not hold all that they may be given: {', '.join(columns)}"
        remedy = "what does not fit will be rejected; kanal create --alter widens them, --show has the SQL"
        found.append(_located(plan, ("pipeline", step_name, "columns"), what, remedy))
    new_steps = {new.step for new in plan.new_tables}
    for step in plan.steps:
        if isinstance(step, PipelinePlan):
            found += _of_step(plan, step, step.name in new_steps)
            found += _on_cluster(plan, step) if clustered else []
    return found


def _without_memory(plan: JobPlan) -> Iterator[Problem]:
    """Targets that cannot keep what is committed, since the user may not create the table for it."""
    for name, database in plan.connections.items():
        steps = [step for step in plan.steps if isinstance(step, PipelinePlan) and step.target is database
                 and step.can_leave_progress]  # fmt: skip
        if not steps:
            continue
        with suppress(KanalError):
            if steps[0].target.journal.is_ready():
                continue
            missing = [right for right in database.catalogue.rights() if right.name == "create tables"]
            if missing and not missing[0].granted:
                what = (
                    f"the user may not create a table in {name}, so Kanal cannot record its commits there: a process "
                    "that was declared dead may still commit, a step may run twice after a crash at its commit, and "
                    'commit = "batch" fails'
                )
                yield _located(plan, ("connection", name), what, missing[0].ask_for)


def _on_cluster(plan: JobPlan, step: PipelinePlan) -> list[Problem]:
    """What is otherwise if the workers of a cluster run a step."""
    from kanal.runner.elsewhere.portions import why_whole

    found, path = [], ("pipeline", step.name)
    if any(step.name in group.steps for group in plan.groups):
        what = "it shares a transaction with other steps, so it runs where kanal runs, and not on a worker"
        found.append(_located(plan, path, what))
    elif step.settings.split is not None and (why := why_whole(step)) is not None:
        found.append(_located(plan, (*path, "split"), f"one worker reads all of it, for {why}"))
    if not step.can_leave_progress:
        what = (
            f"{step.target.name} does not remember what was loaded, so a worker that is lost may have loaded its rows"
        )
        found.append(_located(plan, path, what, "look there before the run goes on"))
    return found


def _to_be_made(plan: JobPlan) -> list[Problem]:
    """The tables that are missing: each, or where they are many all at once."""
    names = [new.table.name for new in plan.new_tables]
    if len(names) > _MANY:
        listed = f"{', '.join(names[:_MANY])} and {len(names) - _MANY} more"
        return [Problem(("pipeline",), f"{len(names)} tables are not there; they will be made: {listed}")]
    return [
        Problem(("pipeline", new.step, "target"), f"table {new.table.name} is not there; it will be made")
        for new in plan.new_tables
    ]


#: So many tables are named one by one.
_MANY = 5


def _located(plan: JobPlan, path: tuple[str, ...], what: str, remedy: str = "") -> Problem:
    return Problem(path, what, remedy, *plan.job.located(path))


def _of_step(plan: JobPlan, step: PipelinePlan, new: bool) -> Iterator[Problem]:
    path = ("pipeline", step.name)
    settings, target = step.settings, step.target_table
    for name, column in settings.columns.items():
        forms = [compiled(text) for text in column.format] if isinstance(column.format, list) else []
        for place, form in enumerate(forms):
            alike = [other.text for other in forms[:place] if not form.excludes(other)]
            if alike:
                what = f"a text may be read by {' and '.join(alike)} and by {form.text}: the first of them counts"
                yield _located(plan, (*path, "columns", name), what, "leave one out, if it is not sure")
    if settings.commits.by_batch and step.writing.merging.own_references:
        names = ", ".join(name for key in step.writing.merging.own_references for name in key.columns)
        yield _located(plan, (*path, "commit"), f"{target.name} refers to itself by {names}, and each batch is "
                       "committed by itself: rows whose parents come in later batches are rejected",
                       'set commit = "step", or have parents come first by order_by')  # fmt: skip
    own = [lookup.name for lookup, database, table in step.lookups
           if database.place_of(table) == step.target.place_of(target)]  # fmt: skip
    if own and not step.own_lookups:
        yield _located(plan, (*path, "lookup", own[0]), f"it looks up {target.name} as it was before the load: rows of "
                       "the load itself are not seen", 'set commit = "step", to have them seen'
                       if settings.commits.by_batch else "")  # fmt: skip
    if step.writing.rule.needs_key and not new:
        keys = [target.primary_key, *target.unique, *step.target.catalogue.indexes(target)]
        if not any(key and set(key[: len(step.key)]) == set(step.key) for key in keys):
            yield _located(plan, (*path, "key"), f"{target.name} has no index on {', '.join(step.key)}",
                           "each merge looks through the whole table; make one")  # fmt: skip
    known = {name.casefold() for name in (*step.reading.columns, *settings.skip)}
    unused = [name for name in step.reading.table.names if name.casefold() not in known]
    if unused and settings.columns and "*" not in settings.same:
        yield _located(plan, (*path, "columns"), f"source columns that go nowhere: {', '.join(unused)}",
                       "map them, which kanal draft --into does with new ones, or name them in skip")  # fmt: skip
    if new:
        return
    try:
        rights = step.target.catalogue.table_rights(target)
    except KanalError:
        return
    lacking = [right for right in step.writing.rule.rights if rights.get(right) is False]
    if lacking:
        user = step.target.user or "the user"
        kinds = ", ".join(lacking).upper()
        yield _located(plan, (*path, "target"), f"{user} may not {', '.join(lacking)} in {target.name}",
                       f"ask for: GRANT {kinds} ON {target.name} TO {user}")  # fmt: skip


class Trial(Struct):
    """How rows of a pipeline fared without being written.

    `groups` counts rejects by column and reason, with an example; `changes` are some rows before and after: for each
    target column the expression, the value that it came from and what became of it; `longest` has for each text column
    its length and the longest value for it. `awaited` of the rejected rows are so only since the row that they look up
    is not loaded yet: a step before has it.
    """

    step: str
    tally: Tally = field(default_factory=Tally)
    groups: list[dict[str, Any]] = field(default_factory=list)
    changes: list[list[tuple[str, str | None, str | None]]] = field(default_factory=list)
    longest: list[tuple[str, int, int]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    error: str | None = None
    seconds: float = 0.0
    awaited: int = 0


def try_out(plan: JobPlan, rows: int | None, shown: int = 2) -> Iterator[Trial]:
    """Run the pipelines of a plan for this many rows each, or all, and do all but write."""
    moment = dt.datetime.now(dt.UTC)
    filled: dict[Any, list[PipelinePlan]] = {}
    for step in plan.steps:
        if isinstance(step, PipelinePlan):
            filled.setdefault(step.target.place_of(step.target_table), []).append(step)
    new = {table.database.place_of(table.table) for table in plan.new_tables}
    for step in plan.steps:
        if not isinstance(step, PipelinePlan):
            continue
        trial = Trial(step.name)
        waiting = [(lookup, database, table) for lookup, database, table in step.lookups]
        filling: dict[str, PipelinePlan] = {}
        for lookup, database, table in waiting:
            by = filled.get(database.place_of(table), [])
            filling |= {one.name: one for one in by}
            if by:
                names = " and ".join(step.name for step in by)
                verb = "loads" if len(by) == 1 else "load"
                trial.notes.append(
                    f"look-up {lookup.name} was tried with what {table.name} has now, before {names} {verb} it"
                )
        missing = [table.name for _, database, table in waiting if database.place_of(table) in new]
        source_new = step.source.place_of(step.reading.table) in new
        if missing or source_new:
            names = ", ".join(missing or [step.reading.table.name])
            trial.error = f"it needs {names}, which is not there yet. Create it first, by kanal create."
            yield trial
            continue
        started = time.perf_counter()
        try:
            _try_step(StepTrial(StepContext(step, moment, plan.job.job)), trial, rows, shown, tuple(filling.values()))
        except KanalError as error:
            trial.error = str(error)
        trial.seconds = time.perf_counter() - started
        yield trial


def _try_step(tried: StepTrial, trial: Trial, rows: int | None, shown: int, filling: Sequence[PipelinePlan]) -> None:
    groups: dict[tuple[str | None, str, str | None], dict[str, Any]] = {}
    limits = {column.name: column.type.length for column in tried.context.plan.columns
              if column.type.family is Family.TEXT and column.type.length is not None}  # fmt: skip
    longest = dict.fromkeys(limits, 0)
    for batch in tried.batches(rows):
        for reject in batch.rejects:
            looked_up = reject.parent if filling and reject.reason is Reason.NOT_IN_LOOKUP else None
            key = (reject.column, str(reject.reason), looked_up)
            group = groups.setdefault(key, {"step": trial.step, "column": reject.column, "reason": str(reject.reason),
                                            "rows": 0, "longest": None, "value": reject.value,
                                            "message": reject.message})  # fmt: skip
            group["rows"] += 1
            size = len(reject.value) if reject.value is not None else 0
            group["longest"] = max(group["longest"] or 0, size)
            if reject.reason is Reason.TOO_LONG and reject.column in longest:
                longest[reject.column] = max(longest[reject.column], size)
        for name, most in longest.items():
            found = pc.max(pc.utf8_length(batch.stored.column(name))).as_py() or 0
            longest[name] = max(most, found)
        if len(trial.changes) < shown and len(batch.good):
            picked = batch.good[: shown - len(trial.changes)]
            before = batch.source.row_texts(picked.tolist())
            chosen = batch.made.take(pa.array(picked))
            after = {name: texts_of(chosen.column(name)) for name in chosen.schema.names}
            for place, old in enumerate(before):
                trial.changes.append(
                    [_change(column, old, after[column.name][place]) for column in tried.context.plan.columns]
                )
    trial.tally = tried.books.tally
    trial.notes = [*trial.notes, *tried.books.notes]
    unfound = {key[2] for key in groups if key[2]}
    limit = None if rows is None else max(rows, _LOOKED_THROUGH)
    made_by, longer = loaded_by(unfound, filling, tried.context.moment, tried.context.job, limit)
    if longer:
        trial.notes.append(f"what look-ups did not find was sought in the first {limit:,} rows of {', '.join(longer)}")
    trial.groups = sorted(_told_apart(groups, made_by), key=lambda group: -group["rows"])
    trial.awaited = sum(group["rows"] for group in trial.groups if group["reason"] == _AWAITED)
    trial.longest = [(name, limit, longest[name]) for name, limit in limits.items() if limit is not None]


#: Of each step before, this many rows are looked through for what look-ups of a sample did not find.
_LOOKED_THROUGH = 1_000_000
#: What is said instead of not_in_lookup if a step of the job has the row.
_AWAITED = "not_loaded_yet"


def _told_apart(
    groups: Mapping[tuple[str | None, str, str | None], dict[str, Any]], made_by: Mapping[str, str]
) -> list[dict[str, Any]]:
    """The groups by column and reason; rows that look up what a step of the job makes are groups of their own."""
    result: dict[tuple[str | None, str, str | None], dict[str, Any]] = {}
    for (column, reason, looked_up), group in groups.items():
        by = made_by.get(looked_up or "")
        if by is not None:
            group |= {"reason": _AWAITED, "message": f"{group['value']} is not loaded yet: step {by} has it"}
        first = result.setdefault((column, reason, by), group)
        if first is not group:
            first["rows"] += group["rows"]
            first["longest"] = max(first["longest"], group["longest"])
    return list(result.values())


def _change(column: Any, old: dict[str, str | None], made: str | None) -> tuple[str, str | None, str | None]:
    values = [value for name, value in old.items() if (None, name) in column.expression.uses]
    came = ", ".join("NULL" if value is None else value for value in values) if any(values) else None
    return column.name, came, made


def dry_run(plan: JobPlan) -> tuple[Run, list[Trial]]:
    """All of a run but the writing: how it would end, as far as it is known without writing; it has no number."""
    started, moment = time.perf_counter(), dt.datetime.now(dt.UTC)
    results, trials = [], []
    for trial in try_out(plan, None, shown=0):
        trials.append(trial)
        limit = _over_limit(plan, trial)
        error = trial.error or limit
        ended = StepStatus.FAILED if error else StepStatus.SUCCEEDED
        note = "; ".join(trial.notes) or None
        results.append(StepResult(trial.step, "pipeline", ended, trial.tally, 0, trial.seconds, error, note))
    status = RunStatus.FAILED if any(result.error for result in results) else RunStatus.SUCCEEDED
    return Run(0, plan.job.job, status, moment, time.perf_counter() - started, tuple(results)), trials


def _over_limit(plan: JobPlan, trial: Trial) -> str | None:
    settings = plan.job.effective(trial.step)
    rejected = trial.tally.rejected - trial.awaited
    if rejected and settings.reject == "all":
        return f'{rejected:,} rows do not fit, and reject = "all" refuses the whole load for one.'
    if settings.allows_rejects(rejected, trial.tally.read):
        return None
    return f"{rejected:,} rows would be rejected, more than max_rejects = {settings.max_rejects} allows."
