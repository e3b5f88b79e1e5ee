"""kanal run: runs a job and shows what became of every row."""

from __future__ import annotations

import signal
import sys
import tomllib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from rich.console import Console

from kanal.cli.events import writing_events
from kanal.cli.jobs import arguments_for, crew, read_job
from kanal.cli.memory import expect_long_work
from kanal.cli.output import (
    console,
    escape,
    indented,
    print_hints,
    print_json,
    print_notes,
    rejects_table,
    show,
    status_text,
    tally_table,
)
from kanal.cli.progress import shown_progress
from kanal.core.errors import KanalError, duration
from kanal.job import Job
from kanal.runlog import RunLogStore
from kanal.runlog.documents import run_document
from kanal.runner import Run, Watcher, run_job, run_log_of
from kanal.runner.rehearsal import rehearse_job
from kanal.runner.run_options import RunOptions, planned


def run(
    path: Path, options: RunOptions, values: list[str], events: Path | None, json: bool, notify: bool = False
) -> int:
    """Run the job of a file and print the log of it; the exit status."""
    job = read_job(path)
    if notify and not job.notify:
        raise KanalError(f"--notify is given, and {path} has no receivers", "add [notify.NAME], or leave --notify out")
    outcome = run_shown(job, json, events, replace(options, parameters=parse_values(values)))
    if json:
        print_json(run_document(outcome))
    else:
        print_run(console(), outcome, run_log_of(job), path)
    if notify:
        _notify(job, outcome.run)
    return exit_status(outcome)


def _notify(job: Job, run: int) -> None:
    """Send the messages about a run; if one cannot be sent, say so: it harms no load."""
    from kanal.cli.service import need_service

    need_service()
    from kanal.service.messages import tell_of_run

    for error in tell_of_run(job, run_log_of(job), run):
        print(f"kanal: {error}", file=sys.stderr)


def dry_run(path: Path, options: RunOptions, values: list[str], json: bool) -> int:
    """Do all of a run but the writing, and print how it would end; the exit status."""
    from kanal.explore.check import dry_run as try_all

    job = read_job(path)
    expect_long_work()
    with planned(job, replace(options, parameters=parse_values(values)).kept) as plan:
        outcome, trials = try_all(plan)
    if json:
        print_json(run_document(outcome) | {"run": None, "dry_run": True})
        return exit_status(outcome)
    screen = console()
    screen.print(f"[bold]{escape(job.job)}[/]  dry run: nothing was written; inserted is what would be\n")
    _print_steps(screen, outcome, [group for trial in trials for group in trial.groups])
    hint = "try the constraints of the targets too, which this did not"
    print_hints(screen, [(f"kanal run {arguments_for(path)} --rehearse", hint)])
    return exit_status(outcome)


def rehearse(path: Path, options: RunOptions, values: list[str], json: bool) -> int:
    """Run the job of a file, undo all of it, and print how it went; the exit status."""
    job = read_job(path)
    given = replace(options, parameters=parse_values(values))
    with shown_progress(json) as watcher:
        rehearsal = rehearse_job(job, given, watcher)
    outcome = rehearsal.run
    if json:
        print_json(run_document(outcome) | {"run": None, "rehearsal": True})
        return exit_status(outcome)
    screen = console()
    screen.print(f"[bold]{escape(job.job)}[/]  rehearsal: all was done, and undone  {status_text(outcome.status)}\n")
    _print_steps(screen, outcome, rehearsal.log.rejects.groups(1))
    return exit_status(outcome)


def _print_steps(screen: Console, outcome: Run, groups: list[dict[str, Any]]) -> None:
    """The steps of a run that leaves nothing behind, with their notes, rejects and errors."""
    show(screen, tally_table((s.step, str(s.status), s.tally, s.seconds) for s in outcome))
    print_notes(screen, outcome.steps)
    if groups:
        screen.print()
        show(screen, rejects_table(groups))
    _print_errors(screen, outcome)


def _print_errors(screen: Console, outcome: Run) -> None:
    for step in outcome.steps:
        if step.error is not None:
            screen.print()
            screen.print(f"{status_text(step.status)}  [bold]{escape(step.step)}[/]")
            screen.print(indented(escape(step.error)))


def run_shown(job: Job, quiet: bool, events: Path | None = None, options: RunOptions | None = None) -> Run:
    """Run a job with its progress on the terminal."""
    with crew() as found:
        return watched(quiet, events, lambda watcher: run_job(job, options, watcher, found))


def watched(quiet: bool, events: Path | None, running: Callable[[Watcher], Run]) -> Run:
    """What a run gives, its progress shown on the terminal meanwhile, and its events written if that is wanted."""
    with writing_events(events), shown_progress(quiet) as watcher:
        outcome = running(watcher)
    # What comes now is but to tell how it went: an interruption changes nothing of that.
    with suppress(ValueError):
        signal.signal(signal.SIGINT, signal.SIG_IGN)
    return outcome


def exit_status(outcome: Run) -> int:
    """0 if all went well, 130 if it was interrupted, else 1."""
    return {"succeeded": 0, "stopped": 130}.get(str(outcome.status), 1)


def parse_values(texts: list[str]) -> dict[str, Any]:
    """NAME=VALUE pairs; a value is read as TOML has it, else as a text."""
    values: dict[str, Any] = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals or not name.strip():
            raise KanalError(f'--set "{text}" is not NAME=VALUE', "write for instance --set season=2026")
        try:
            values[name.strip()] = tomllib.loads(f"value = {value}")["value"]
        except (tomllib.TOMLDecodeError, ValueError, RecursionError):
            values[name.strip()] = value
    return values


def print_run(screen: Console, outcome: Run, log: RunLogStore, path: Path) -> None:
    """The table of steps, what was rejected, what failed and why, and what to do next."""
    with suppress(ValueError):  # as it is found from here
        path = path.resolve().relative_to(Path.cwd())
    status, named = status_text(outcome.status), arguments_for(path)
    where = f" in {escape(outcome.environment)}" if outcome.environment else ""
    screen.print(f"[bold]{escape(outcome.job)}[/]{where}  run {outcome.run}  {status}  in {duration(outcome.seconds)}")
    screen.print()
    show(screen, tally_table((s.step, str(s.status), s.tally, s.seconds) for s in outcome.steps))
    print_notes(screen, outcome.steps)
    rejected = sum(step.tally.rejected for step in outcome.steps)
    if rejected:
        screen.print()
        show(screen, rejects_table(log.rejects.groups(outcome.run)))
    _print_errors(screen, outcome)
    hints = []
    if str(outcome.status) != "succeeded":
        hints.append((f"kanal resume {outcome.run} --job {named}", "go on with it, once the cause is fixed"))
    if rejected:
        hints.append((f"kanal rejects {outcome.run} --job {named}", "the rejected rows, each with its reason"))
    hints += [(f"kanal order {named}", "what waits for what, and why"), (f"kanal runs --job {named}", "past runs")]
    if str(outcome.status) == "succeeded":
        hints.append((f"kanal run {named}", "run it again"))
    print_hints(screen, hints)
