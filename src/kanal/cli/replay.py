"""kanal replay: loads the rejected rows of a run again, and only those."""

from __future__ import annotations

from pathlib import Path

from kanal.cli.jobs import crew, read_job
from kanal.cli.output import console, print_json
from kanal.cli.resume import job_file_of
from kanal.cli.run import exit_status, print_run, watched
from kanal.runlog.documents import run_document
from kanal.runner import replay_run, run_log_of


def replay(
    number: int | None, step: str | None, job: Path | None, run_log: str | None, events: Path | None, json: bool
) -> int:
    """Load rejected rows again and print the log of it; the exit status."""
    path, number = job_file_of(number, job, run_log)
    definition = read_job(path)
    with crew() as found:
        outcome = watched(json, events, lambda watcher: replay_run(definition, number, step, watcher, found))
    if json:
        print_json(run_document(outcome))
        return exit_status(outcome)
    screen = console()
    print_run(screen, outcome, run_log_of(definition), path)
    again = sum(result.tally.rejected for result in outcome.steps)
    read = sum(result.tally.read for result in outcome.steps)
    screen.print(f"\n{read - again:,} of {read:,} rejected rows are resolved.")
    return exit_status(outcome)
