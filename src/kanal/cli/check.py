"""kanal check: all that can be known of a job before a row moves."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rich.console import Console

from kanal.cli.output import console, escape, example, indented, print_json, rejects_table, show, table
from kanal.core.errors import capital, counted, masked
from kanal.definition import JobError, Problem
from kanal.explore.check import Trial, remarks, try_out
from kanal.job import Job
from kanal.runner.run import remembered
from kanal.runner.run_options import planned
from kanal.runner.shapes import UnplannedJob


def check(path: Path, sample: int | None, json: bool) -> int:
    """Check the job of a file and print what is wrong with it, and how a sample of rows fares; the exit status."""
    problems: list[Problem] = []
    notes: list[Problem] = []
    trials: list[Trial] = []
    steps = 0
    try:
        with planned(Job.read(path)) as plan:
            notes, steps = remarks(plan), len(plan.steps)
            trials = list(try_out(plan, sample)) if sample else []
    except UnplannedJob as error:
        problems, notes = error.problems, error.changes(remembered(error.job))
    except JobError as error:
        problems = error.problems
    if json:
        print_json(
            {
                "job": masked(str(path)),
                "ok": not problems,
                "problems": [_document(p) for p in problems],
                "notes": [_document(n) for n in notes],
                "sample": [_trial_document(trial) for trial in trials],
            }
        )
        return 2 if problems else 0
    screen = console()
    for problem in problems:
        _print(screen, "[bold red]✗[/]", problem)
    for note in notes:
        _print(screen, "[yellow]![/]", note)
    for trial in trials:
        _print_trial(screen, trial)
    if trials and not problems:
        screen.print("[dim]The constraints of the targets were not tried; kanal run --rehearse tries them.[/]\n")
    if problems:
        count = f"{counted(len(problems), 'thing')} {'is' if len(problems) == 1 else 'are'}"
        screen.print(f"[bold]{count} wrong with {escape(masked(str(path)))}.[/] Nothing was moved.")
        return 2
    hint = "" if sample else f"; kanal check --sample 1000 {escape(masked(str(path)))} tries some rows"
    screen.print(f"[green]✓[/] {escape(masked(str(path)))}: {counted(steps, 'step')}, ready to run{hint}")
    return 0


def _print(screen: Console, mark: str, problem: Problem) -> None:
    where = f"{problem.file.name}:{problem.line}" if problem.file and problem.line else ""
    screen.print(f"{mark} [bold]{escape(where)}[/]  {escape(problem.place)}")
    screen.print(indented(escape(problem.what)))
    if problem.remedy:
        screen.print(indented(f"[cyan]→[/] {escape(capital(problem.remedy))}"))
    screen.print()


def _print_trial(screen: Console, trial: Trial) -> None:
    tally = trial.tally
    if trial.error:
        screen.print(f"[yellow]![/] [bold]{escape(trial.step)}[/] could not be tried")
        screen.print(indented(escape(trial.error)))
        screen.print()
        return
    parts = [f"{counted(tally.read, 'row')} tried", f"{tally.inserted:,} would load"]
    others = (("filtered", tally.filtered), ("superseded", tally.superseded))
    parts += [f"{count:,} {name}" for name, count in others if count]
    rejected = tally.rejected - trial.awaited
    parts += [f"{trial.awaited:,} look up what is not loaded yet"] if trial.awaited else []
    parts += [f"[red]{rejected:,} rejected[/]" if rejected else "none rejected"]
    screen.print(f"[bold]{escape(trial.step)}[/]  {', '.join(parts)}")
    for note in trial.notes:
        screen.print(indented(f"[dim]{escape(note)}[/]", 2))
    if trial.groups:
        show(screen, rejects_table(trial.groups, of_one_step=True))
    for name, limit, longest in trial.longest:
        if longest > limit:
            screen.print(indented(f"[yellow]{escape(name)}: longest {longest:,}, column takes {limit:,}[/]", 2))
    if trial.changes:
        columns = table("  column", *(f"~row {place}" for place in range(1, len(trial.changes) + 1)))
        for cells in zip(*trial.changes, strict=True):
            columns.add_row(f"  {escape(cells[0][0])}", *(_became(came, made) for _, came, made in cells))
        show(screen, columns)
    screen.print()


def _became(came: str | None, made: str | None) -> str:
    new = "[dim]NULL[/]" if made is None else escape(example(made, 24))
    if came is None or came == made:
        return new
    if example(came, 24) == example(made, 24):
        return f"[dim]{escape(example(repr(came), 24))} →[/] {new}"
    return f"[dim]{escape(example(came, 24))} →[/] {new}"


def _trial_document(trial: Trial) -> dict[str, Any]:
    document = dict(vars(trial))
    document["tally"] = vars(trial.tally)
    document["changes"] = [
        {name: {"from": came, "to": made} for name, came, made in row} for row in trial.changes
    ]  # fmt: skip
    document["longest"] = {name: {"takes": limit, "longest": longest} for name, limit, longest in trial.longest}
    return document


def _document(problem: Problem) -> dict[str, Any]:
    return {
        "file": str(problem.file) if problem.file else None,
        "line": problem.line,
        "place": problem.place,
        "what": problem.what,
        "remedy": problem.remedy,
    }
