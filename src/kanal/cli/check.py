"""kanal check: all that can be known of a job before a row moves."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict
from rich.console import Console

from kanal.cli.jobs import ALL, chosen_environment, crew
from kanal.cli.output import console, escape, example, indented, print_json, rejects_table, show, table
from kanal.core.errors import KanalError, capital, counted, masked
from kanal.definition import JobError, Problem
from kanal.explore.check import Trial, remarks, try_out
from kanal.job import Job
from kanal.runner.elsewhere import known_of
from kanal.runner.run import remembered
from kanal.runner.run_options import planned
from kanal.runner.shapes import UnplannedJob


class _Findings(Struct):
    """What is wrong with a job and worth knowing of it, in one environment."""

    problems: list[Problem] = field(default_factory=list)
    notes: list[Problem] = field(default_factory=list)
    trials: list[Trial] = field(default_factory=list)
    steps: int = 0


def check(path: Path, sample: int | None, json: bool) -> int:
    """Check the job of a file and print what is wrong with it, and how a sample of rows fares; the exit status."""
    if chosen_environment() != ALL:
        found = _look(path, chosen_environment(), sample)
        return _say(path, found, sample, "", json)
    try:
        names = list(Job.read(path).environment)
    except JobError as error:
        return _say(path, _Findings(error.problems), sample, "", json)
    if not names:
        raise KanalError(f"{path} has no environments", "add [environment.NAME] tables, or leave --env out")
    all_found = {name: _look(path, name, sample) for name in names}
    if json:
        documents = {name: _document_of(path, found) for name, found in all_found.items()}
        print_json({"ok": not any(found.problems for found in all_found.values()), "environments": documents})
        return 2 if any(found.problems for found in all_found.values()) else 0
    return max([_say(path, found, sample, name, json) for name, found in all_found.items()])


def _look(path: Path, environment: str | None, sample: int | None) -> _Findings:
    found = _Findings()
    try:
        job = Job.read(path, environment)
        with crew() as workers, planned(job, {}, known_of(job, workers)) as plan:
            found.notes, found.steps = remarks(plan, clustered=workers is not None), len(plan.steps)
            found.trials = list(try_out(plan, sample)) if sample else []
    except UnplannedJob as error:
        found.problems, found.notes = error.problems, error.changes(remembered(error.job))
    except JobError as error:
        found.problems = error.problems
    return found


def _document_of(path: Path, found: _Findings) -> dict[str, Any]:
    return {
        "job": masked(str(path)),
        "ok": not found.problems,
        "problems": [_document(p) for p in found.problems],
        "notes": [_document(n) for n in found.notes],
        "sample": [_trial_document(trial) for trial in found.trials],
    }


def _say(path: Path, found: _Findings, sample: int | None, environment: str, json: bool) -> int:
    """Print what was found; the exit status."""
    problems = found.problems
    if json:
        print_json(_document_of(path, found))
        return 2 if problems else 0
    screen = console()
    for problem in problems:
        _print(screen, "[bold red]✗[/]", problem)
    for note in found.notes:
        _print(screen, "[yellow]![/]", note)
    for trial in found.trials:
        _print_trial(screen, trial)
    if found.trials and not problems:
        screen.print("[dim]The constraints of the targets were not tried; kanal run --rehearse tries them.[/]\n")
    where = escape(masked(str(path))) + (f" in {escape(environment)}" if environment else "")
    if problems:
        count = f"{counted(len(problems), 'thing')} {'is' if len(problems) == 1 else 'are'}"
        screen.print(f"[bold]{count} wrong with {where}.[/] Nothing was moved.")
        return 2
    hint = "" if sample else f"; kanal check --sample 1000 {escape(masked(str(path)))} tries some rows"
    screen.print(f"[green]✓[/] {where}: {counted(found.steps, 'step')}, ready to run{'' if environment else hint}")
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
    document = asdict(trial)
    document["tally"] = asdict(trial.tally)
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
