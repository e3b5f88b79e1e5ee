"""Pipelines that load the same tables in both ways, so that each change arrives on either side."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec.structs import replace

from kanal.definition.problems import KeyPath
from kanal.runner.job_plan import ExchangePlan, PipelinePlan, StepPlan
from kanal.runner.planning.combinations import EXCHANGE, Facts, impossible

Say = Callable[[KeyPath, str, str], None]


def link_exchanges(steps: dict[str, StepPlan], problem: Say) -> None:
    """Link the two ways of each exchange, or report why they are none."""
    for name, step in list(steps.items()):
        if not isinstance(step, PipelinePlan) or step.settings.other_way is None:
            continue
        back = steps.get(step.settings.other_way)
        if back is None:
            continue  # its problem has been reported
        wrong = list(_wrong(step, back))
        for key, what, remedy in wrong:
            problem(("pipeline", name, key), what, remedy)
        deletes = isinstance(back, PipelinePlan) and "delete" in (step.settings.missing, back.settings.missing)
        if not wrong and isinstance(back, PipelinePlan) and back.since is not None:
            steps[name] = replace(step, exchange=ExchangePlan(back.name, back.target.journal, back.since, deletes))


def _wrong(step: PipelinePlan, back: StepPlan) -> Iterator[tuple[str, str, str]]:
    """The reasons why two pipelines are no exchange: the key, what is wrong, and what to do."""
    if not isinstance(back, PipelinePlan):
        yield "other_way", f"{back.name} is a command", "name the pipeline that loads the same tables the other way"
        return
    if back.settings.other_way != step.name:
        yield "other_way", f"pipeline {back.name} does not say that this is its other way", (
            f'set other_way = "{step.name}" in [pipeline.{back.name}]')  # fmt: skip
    there = step.target.place_of(step.target_table), step.source.place_of(step.reading.table)
    if there != (back.source.place_of(back.reading.table), back.target.place_of(back.target_table)):
        yield "other_way", f"pipeline {back.name} does not read what this one writes, and write what it reads", (
            "name the pipeline that loads the same tables the other way")  # fmt: skip
        return
    settings = step.settings
    if not step.writing.rule.by_key or step.writing.rule.keeps_versions:
        yield "write", "an exchange needs a merge", 'set write = "merge"'
    elif step.since is None or step.since.column is None:
        yield "since", "an exchange needs the column that says when a row was changed", "set since to its name"
    elif settings.newer_by is None:
        yield "newer_by", "an exchange needs to know which change is the newer one", (
            "set newer_by to the column that says when a row was changed")  # fmt: skip
    elif back.since is not None and back.since.column != settings.newer_by:
        yield "newer_by", f'the other way takes what is new by "{back.since.column}", not by "{settings.newer_by}"', (
            "use the same column in both")  # fmt: skip
    else:
        carried = next((c for c in step.columns if c.name == settings.newer_by), None)
        if carried is None or carried.expression.node.column != (None, step.since.column):
            yield "newer_by", f'"{settings.newer_by}" is not filled by "{step.since.column}", by which rows are new', (
                f'map {settings.newer_by} = "{step.since.column}"')  # fmt: skip
        elif carried.type != carried.expression.type:
            yield "newer_by", f"it is {carried.type}, and the source's column {carried.expression.type}", (
                "give both the same type")  # fmt: skip
    if "delete" in (settings.missing, back.settings.missing):
        yield from _not_with_deletions(step)


def _not_with_deletions(step: PipelinePlan) -> Iterator[tuple[str, str, str]]:
    """Settings that would delete rows in the place they came from, since they never arrived on the other side."""
    settings = step.settings
    facts = Facts(settings=settings, rule=step.writing.rule, exchange_deletes=True)
    for pair in impossible(facts):
        if pair.other.text == EXCHANGE.text:
            yield pair.key, pair.message(facts), pair.remedy
    lost = "rows that do not arrive here would be deleted where they came from"
    if settings.max_rejects != 0 and settings.reject != "all":
        yield "max_rejects", f'with missing = "delete" in an exchange no row may be rejected: {lost}', (
            "set max_rejects = 0")  # fmt: skip
    if step.since is not None and step.since.overlap is None:
        yield "since", 'with missing = "delete" in an exchange, Kanal must know how late a row may come', (
            f'write since = {{ column = "{step.since.change.text}", overlap = "10 minutes" }}: rows that were changed '
            "within it before the last run are not taken for deleted")  # fmt: skip
