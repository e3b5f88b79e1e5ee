"""kanal files: which files each step has loaded, when and by which run; and which are new."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import asdict

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, print_json, show, table
from kanal.core.errors import KanalError, listed
from kanal.core.nearest import did_you_mean
from kanal.runner.file_states import files_of, forget_file, loads_each_once

_STATES = {
    "loaded": "[green]loaded[/]",
    "new": "[cyan]new[/]",
    "changed": "[yellow]changed since[/]",
    "moved": "[green]loaded[/], moved",
    "deleted": "[green]loaded[/], deleted",
    "gone": "[dim]no longer there[/]",
}


def files(path: Path, step: str | None, forget: str | None, json: bool) -> int:
    """Print the files of a job's steps that load each once, or forget one; the exit status."""
    job = read_job(path)
    if forget is not None:
        if step is None:
            raise KanalError("a file is forgotten for one step", "write kanal files JOB STEP --forget FILE")
        forget_file(job, step, forget)
    elif step is not None and step not in job.pipeline:
        raise KanalError(f'"{step}" is no step of this job', did_you_mean(step, job.pipeline) or "see kanal check JOB")
    found = [state for state in files_of(job) if step in (None, state.step)]
    if json:
        print_json([asdict(state) for state in found])
        return 0
    screen = console()
    if not found:
        once = [name for name in job.pipeline if step in (None, name) and loads_each_once(job, name)]
        if once:
            screen.print(f"{listed(once)}: no file was loaded yet, and none is there.")
        else:
            screen.print("No pipeline of this job loads each file once; give one files_once = true.")
        return 0
    drawn = table("step", "~file", "state", "#bytes", "loaded (UTC)", "#run", "#rows", "#rejected")
    for state in found:
        shown = f"{_STATES[state.state]}, to be {_pending(state.pending)}" if state.pending else _STATES[state.state]
        counts = [f"{number:,}" if number is not None else "" for number in (state.run, state.rows, state.rejected)]
        loaded = (state.loaded or "")[:19].replace("T", " ")
        drawn.add_row(escape(state.step), escape(state.name), shown, f"{state.size:,}", loaded, *counts)
    show(screen, drawn)
    return 0


def _pending(pending: str) -> str:
    act, _, to = pending.partition(" ")
    return f"moved to {escape(to)}" if act == "move" else "deleted"
