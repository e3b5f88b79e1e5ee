"""kanal watermarks: up to which change value each step has loaded, to see and to set."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import asdict

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, print_json, show, table
from kanal.core.errors import KanalError
from kanal.runner import set_watermark, watermarks_of


def watermarks(path: Path, step: str | None, value: str | None, clear: bool, json: bool) -> int:
    """Print the watermarks of a file's job, or set one or take it away; the exit status."""
    job = read_job(path)
    if value is not None or clear:
        if step is None or (value is not None and clear):
            raise KanalError(
                "a watermark is set or cleared for one step",
                "write kanal watermarks JOB STEP, and --set VALUE or --clear",
            )
        set_watermark(job, step, value)
    found = [state for state in watermarks_of(job) if step in (None, state.step)]
    if step is not None and not found:
        raise KanalError(
            f'"{step}" is not a step that loads only new rows', "see kanal watermarks JOB for those that are"
        )
    if json:
        print_json([asdict(state) for state in found])
        return 0
    screen = console()
    if not found:
        screen.print("No pipeline of this job loads only what is new; give one the key since.")
        return 0
    drawn = table("step", "~change column", "watermark", "moved by the run of (UTC)")
    for state in found:
        watermark = escape(state.watermark) if state.watermark is not None else "[dim]none: all rows are new[/]"
        drawn.add_row(escape(state.step), escape(state.column), watermark, state.moved or "")
    show(screen, drawn)
    return 0
