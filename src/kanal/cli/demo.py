"""kanal demo: writes the demo and runs its job."""

from __future__ import annotations

import shlex
from pathlib import Path

from kanal.cli.output import console, print_json
from kanal.cli.run import exit_status, print_run, run_shown
from kanal.demo import write_demo
from kanal.demo.cards import JOB_FILE as CARDS_FILE
from kanal.job import Job
from kanal.runlog.documents import run_document
from kanal.runner import run_log_of


def demo(folder: Path, passages: int, json: bool) -> int:
    """Write the demo to a folder, run its job and print the log of it; the exit status."""
    path = write_demo(folder, passages)
    job = Job.read(path)
    screen = console()
    if not json:
        screen.print(f"Two lock houses and a register are in [bold]{folder}[/], the job in [bold]{path}[/].\n")
    outcome = run_shown(job, json)
    if json:
        print_json(run_document(outcome))
        return exit_status(outcome)
    print_run(screen, outcome, run_log_of(job), path)
    cards = shlex.quote(str(path.parent / CARDS_FILE))
    screen.print(f"\nToll cards arrive as files in [bold]{folder / 'inbox'}[/]; load them by: kanal run {cards}",
                 highlight=False)  # fmt: skip
    return exit_status(outcome)
