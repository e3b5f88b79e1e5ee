"""kanal run --by and kanal runs --windows: a job window after window, and which windows are loaded."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import asdict, replace

from kanal.cli.events import writing_events
from kanal.cli.jobs import arguments_for, crew, read_job
from kanal.cli.log import find_run_log
from kanal.cli.output import console, escape, mark, number, print_hints, print_json, show, status_text, table
from kanal.cli.run import exit_status, parse_values
from kanal.core.errors import KanalError, counted, duration
from kanal.core.tally import Tally
from kanal.runlog.documents import run_document
from kanal.runner.run_options import RunOptions
from kanal.runner.windows import WindowOutcome, window_states
from kanal.runner.windows import run_windows as run_each

_SIGNS = {"loaded": "succeeded", "failed": "failed", "running": "running", "missing": "waiting"}


def run_windows(path: Path, options: RunOptions, by: str, values: list[str], events: Path | None, json: bool) -> int:
    """Run the job of a file window after window and print a line for each; the exit status."""
    job, job_file = read_job(path), arguments_for(path)
    screen = console()

    def told(outcome: WindowOutcome) -> None:
        if not json:
            screen.print(_line(outcome))

    with writing_events(events), crew() as workers:
        found = list(run_each(job, replace(options, parameters=parse_values(values)), by, told, workers))
    bad = [outcome for outcome in found if not outcome.succeeded]
    status = max((1 if one.run is None else exit_status(one.run) for one in bad), default=0)
    if json:
        documents = [
            {"since": one.low, "until": one.high}
            | (run_document(one.run) if one.run is not None else {"run": None, "error": one.error})
            for one in found
        ]
        print_json({"ok": not bad, "windows": documents})
        return status
    stopped = sum(one.run is not None and str(one.run.status) == "stopped" for one in bad)
    counts = {"failed": len(bad) - stopped, "stopped": stopped}
    ends = [f"[red]{count:,} {end}[/]" for end, count in counts.items() if count]
    screen.print(", ".join([f"\n[bold]{counted(len(found) - len(bad), 'window')}[/] loaded", *ends])
                 + ("; later ones were not begun" if bad else ""))  # fmt: skip
    hints = [(f"kanal runs --windows --job {job_file}", "which windows are loaded, failed or missing")]
    for one in bad[:1]:
        again = f"kanal resume {one.run.run} --job {job_file}" if one.run is not None else f"kanal check {job_file}"
        hints.insert(0, (again, f"go on with the window from {one.low}, once the cause is fixed"))
    print_hints(screen, hints)
    return status


def _line(outcome: WindowOutcome) -> str:
    where = f"{outcome.low} … {outcome.high}"
    if outcome.run is None:
        return f"{status_text('failed')}  {escape(where)}\n    {escape(outcome.error or '')}"
    total = Tally.sum(step.tally for step in outcome.run.steps)
    rejected = f", [red]{total.rejected:,} rejected[/]" if total.rejected else ""
    said = (f"{status_text(str(outcome.run.status))}  {escape(where)}  run {outcome.run.run}: read {total.read:,}, "
            f"written {total.written:,}{rejected}, in {duration(outcome.run.seconds)}")  # fmt: skip
    errors = [step.error for step in outcome.run.steps if step.error]
    return said + (f"\n    {escape(errors[0])}" if errors else "")


def show_windows(path: Path | None, json: bool) -> int:
    """Print which windows of a job are loaded, failed or missing; the exit status."""
    if path is None:
        raise KanalError("--windows is given without a job", "name it by --job FILE")
    job, job_file = read_job(path), arguments_for(path)
    log = find_run_log(path, None)
    states = window_states(log.past.windows_of(job.log_name))
    if json:
        print_json(
            [asdict(one) | {"started": one.started.isoformat() + "Z" if one.started else None} for one in states]
        )
        return 0
    screen = console()
    if not states:
        screen.print(f"No run of {escape(job.log_name)} has loaded a window yet.")
        print_hints(screen, [(f'kanal run {job_file} --since A --until B --by "1 day"', "load window after window")])
        return 0
    drawn = table("", "from", "until before", "state", "#run", "~started (UTC)")
    for one in states:
        sign = mark(_SIGNS[one.state])
        drawn.add_row(sign, escape(one.low), escape(one.high), one.state, str(one.run or ""),
                      f"{one.started:%Y-%m-%d %H:%M:%S}" if one.started else "")  # fmt: skip
    show(screen, drawn)
    counts = {state: sum(one.state == state for one in states) for state in _SIGNS}
    screen.print("\n" + ", ".join(f"{number(count)} {state}" for state, count in counts.items() if count))
    open_ones = [one for one in states if one.state in ("failed", "missing")]
    if open_ones:
        one = open_ones[0]
        again = f"kanal resume {one.run} --job {job_file}" if one.state == "failed" and one.run else (
            f'kanal run {job_file} --since "{one.low}" --until "{one.high}"')  # fmt: skip
        print_hints(screen, [(again, f"load the {one.state} one")])
    return 0
