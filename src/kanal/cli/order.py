"""kanal order: the steps of a job in order, with what waits for what and why."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, print_json, show, table
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan
from kanal.runner.planning.circles import opening
from kanal.runner.planning.order import Wait
from kanal.runner.run_options import planned


def order(path: Path, picture: Path | None, json: bool) -> int:
    """Print the order of the steps of a file's job, or draw it; the exit status."""
    with planned(read_job(path), {"create": True}) as plan:
        return _show(plan, picture, json)


def _show(plan: JobPlan, picture: Path | None, json: bool) -> int:
    if picture is not None:
        from kanal.explore.picture import draw_order

        draw_order(plan, picture)
        print(f"kanal: {picture} is drawn", file=sys.stderr)
        return 0
    waits = {step.name: [wait for wait in plan.waits if wait.step == step.name] for step in plan.steps}
    opened = {step.name: [wait for wait in plan.given_up if wait.step == step.name] for step in plan.steps}
    if json:
        print_json(
            [_document(place, step, waits[step.name], opened[step.name]) for place, step in enumerate(plan.steps, 1)]
        )
        return 0
    drawn = table("#", "step", "moves", "waits for", "~because it")
    for place, step in enumerate(plan.steps, 1):
        first = True
        reasons: list[Wait | None] = [*waits[step.name]]
        for wait in reasons or [None]:
            drawn.add_row(
                str(place) if first else "",
                f"[bold]{escape(step.name)}[/]" if first else "",
                escape(_moves(step)) if first else "",
                escape(wait.before) if wait else "[dim]nothing[/]",
                f"[dim]{escape(_because(wait.why))}[/]" if wait else "",
            )
            first = False
        for wait in opened[step.name]:
            drawn.add_row("", "", "", f"[yellow]not for {escape(wait.before)}[/]", f"[dim]{escape(opening(wait))}[/]")
    show(console(), drawn)
    return 0


def _because(why: str) -> str:
    return "says so in after" if why == "after" else why


def _moves(step: StepPlan) -> str:
    if isinstance(step, PipelinePlan):
        return f"{step.settings.source.label} → {step.settings.target.label}"
    return f"SQL on {step.database.name}"


def _document(place: int, step: StepPlan, waits: list[Wait], opened: list[Wait]) -> dict[str, Any]:
    return {
        "position": place,
        "step": step.name,
        "kind": step.kind,
        "waits": [{"for": wait.before, "because": wait.why} for wait in waits],
        "open_references": [
            {"to": wait.before, "columns": list(key.columns), "constraint": key.name}
            for wait in opened
            for key in wait.keys
        ],
    }
