"""kanal clean: takes away what runs that were killed have left in the targets of a job."""

from __future__ import annotations

from pathlib import Path

from kanal.cli.jobs import crew, read_job
from kanal.cli.output import console, escape, print_json
from kanal.explore.left_over import clean as take_away


def clean(path: Path, json: bool) -> int:
    """Drop the tables that runs of the job of a file have left, but those of runs under way; the exit status."""
    job = read_job(path)
    with crew() as workers:
        gone = take_away(job, workers)
    if json:
        print_json([{"connection": name, "table": table} for name, table in gone])
        return 0
    screen = console()
    for name, table in gone:
        screen.print(f"dropped  [bold]{escape(table)}[/] on {escape(name)}")
    if not gone:
        screen.print(f"Nothing is left of runs of {escape(job.log_name)} that have ended.")
    return 0
