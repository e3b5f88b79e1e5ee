"""kanal runs: past runs, or one run with its steps."""

from __future__ import annotations

from pathlib import Path

from rich.markup import escape

from kanal.cli.log import find_run_log
from kanal.cli.output import (
    console,
    indented,
    number,
    print_json,
    print_notes,
    rejects_table,
    seconds,
    show,
    status_text,
    table,
    tally_table,
)
from kanal.core.tally import Tally
from kanal.runlog import RunRecord
from kanal.runner import run_document


def runs(run: int | None, job: Path | None, run_log: str | None, json: bool) -> int:
    """Print the latest runs, or the run of a number; the exit status."""
    log = find_run_log(job, run_log)
    screen = console()
    if run is None:
        found = log.runs()
        if json:
            print_json([run_document(record) for record in found])
            return 0
        drawn = table("#run", "~job", "status", "started (UTC)", "#time", "#steps", "#read", "#rejected", "#written")
        for record in found:
            total = _total(record)
            rejected = f"[red]{total.rejected:,}[/]" if total.rejected else number(0)
            drawn.add_row(
                str(record.run),
                escape(record.job),
                status_text(record.status),
                f"{record.started:%Y-%m-%d %H:%M:%S}",
                seconds(record.seconds),
                str(len(record.steps)),
                number(total.read),
                rejected,
                number(total.written),
            )
        show(screen, drawn)
        return 0
    record = log.run(run)
    if json:
        print_json(run_document(record))
        return 0
    screen.print(
        f"[bold]{escape(record.job)}[/]  run {record.run}  {status_text(record.status)}  "
        f"started {record.started:%Y-%m-%d %H:%M:%S} UTC, took {seconds(record.seconds)}\n"
    )
    show(screen, tally_table((s.step, s.status, s.tally, s.seconds) for s in record.steps))
    print_notes(screen, record.steps)
    groups = log.reject_groups(record.run)
    if groups:
        screen.print()
        show(screen, rejects_table(groups))
    for step in record.steps:
        if step.error:
            screen.print(f"\n{status_text(step.status)}  [bold]{escape(step.step)}[/]")
            screen.print(indented(escape(step.error)))
    return 0


def _total(record: RunRecord) -> Tally:
    total = Tally()
    for step in record.steps:
        total.add(step.tally)
    return total
