"""kanal check: all that is wrong with a job, before a row moves."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rich.console import Console
from rich.markup import escape

from kanal.cli.output import console, indented, print_json
from kanal.core.errors import capital
from kanal.definition import JobError, Problem
from kanal.job import Job
from kanal.runner import plan_job


def check(path: Path, json: bool) -> int:
    """Check the job of a file and print what is wrong with it; the exit status."""
    problems: list[Problem] = []
    notes: list[Problem] = []
    steps = 0
    try:
        plan = plan_job(Job.read(path))
        notes, steps = plan.notes, len(plan.steps)
    except JobError as error:
        problems = error.problems
    if json:
        print_json(
            {
                "job": str(path),
                "ok": not problems,
                "problems": [_document(p) for p in problems],
                "notes": [_document(n) for n in notes],
            }
        )
        return 2 if problems else 0
    screen = console()
    for problem in problems:
        _print(screen, "[bold red]✗[/]", problem)
    for note in notes:
        _print(screen, "[yellow]![/]", note)
    if problems:
        count = "1 thing is" if len(problems) == 1 else f"{len(problems)} things are"
        screen.print(f"[bold]{count} wrong with {escape(str(path))}.[/] Nothing was moved.")
        return 2
    screen.print(f"[green]✓[/] {escape(str(path))}: {steps} steps, ready to run")
    return 0


def _print(screen: Console, mark: str, problem: Problem) -> None:
    where = f"{problem.file.name}:{problem.line}" if problem.file and problem.line else ""
    screen.print(f"{mark} [bold]{escape(where)}[/]  {escape(problem.place)}")
    screen.print(indented(escape(capital(problem.what))))
    if problem.remedy:
        screen.print(indented(f"[cyan]→[/] {escape(capital(problem.remedy))}"))
    screen.print()


def _document(problem: Problem) -> dict[str, Any]:
    return {
        "file": str(problem.file) if problem.file else None,
        "line": problem.line,
        "place": problem.place,
        "what": problem.what,
        "remedy": problem.remedy,
    }
