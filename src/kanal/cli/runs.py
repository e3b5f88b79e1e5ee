"""kanal runs: past runs, or one run with its steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import asdict
from rich.console import Console
from rich.table import Table

from kanal.cli.log import find_run_log, job_and_environment
from kanal.cli.output import (
    console,
    escape,
    example,
    indented,
    number,
    print_hints,
    print_json,
    print_notes,
    rejects_table,
    show,
    status_text,
    table,
    tally_table,
)
from kanal.core.errors import counted, duration
from kanal.runlog import RunLogStore, RunRecord, Usual, WorkerShare, by_worker
from kanal.runlog.documents import run_document
from kanal.runner.unusual import fewer_than_usual


def _more(log: RunLogStore, record: RunRecord) -> dict[str, Any]:
    """Where the time went, and what is usual, by step."""
    times, usual, stages = log.steps.times(record.run), log.past.usual(record), log.steps.stage_times(record.run)
    names = ("reading", "computing", "writing")
    return {
        "times": {step: dict(zip(names, parts, strict=True)) for step, parts in times.items()},
        "stages": stages,
        "usual": {step: asdict(known) for step, known in usual.items()},
        "tasks": [asdict(task) for task in log.steps.tasks(record.run)],
        "far_fewer_rows": [step.step for step in record.steps if fewer_than_usual(step, usual)],
    }


def runs(run: int | None, job: Path | None, run_log: str | None, json: bool) -> int:
    """Print the latest runs, or the run of a number; the exit status."""
    log = find_run_log(job, run_log)
    screen = console()
    if run is None:
        name, environment = job_and_environment(job)
        found = [one for one in log.past.latest(name=name) if environment in (None, one.environment)]
        if json:
            print_json([run_document(record) for record in found])
            return 0
        drawn = table("#run", "~job", "status", "started (UTC)", "#time", "#steps", "#read", "#rejected", "#written")
        for record in found:
            total = record.total
            rejected = f"[red]{total.rejected:,}[/]" if total.rejected else number(0)
            drawn.add_row(
                str(record.run),
                escape(record.job),
                status_text(record.status),
                f"{record.started:%Y-%m-%d %H:%M:%S}",
                duration(record.seconds),
                str(len(record.steps)),
                number(total.read),
                rejected,
                number(total.written),
            )
        show(screen, drawn)
        _say_what_failed(screen, found, f" --job {job}" if job else f" --run-log {run_log}" if run_log else "")
        return 0
    record = log.past.run(run)
    if json:
        print_json(run_document(record) | _more(log, record))
        return 0
    screen.print(
        f"[bold]{escape(record.job)}[/]  run {record.run}  {status_text(record.status)}  "
        f"started {record.started:%Y-%m-%d %H:%M:%S} UTC, took {duration(record.seconds)}"
    )
    begun = [f"by {record.started_by}" if record.started_by else "", f"on {record.host}" if record.host else ""]
    begun += [f"due {record.due:%Y-%m-%d %H:%M:%S}"] if record.due else []
    begun += [f"resumed {counted(record.resumes, 'time')}"] if record.resumes else []
    screen.print(f"[dim]{escape(' '.join(filter(None, begun)))}[/]\n")
    if record.error:
        screen.print("It failed before a step could begin:")
        screen.print(indented(escape(record.error)))
        return 0
    show(screen, tally_table((s.step, s.status, s.tally, s.seconds) for s in record.steps))
    print_notes(screen, record.steps)
    times, usual = log.steps.times(record.run), log.past.usual(record)
    if times:
        screen.print()
        show(screen, _times_table(record, times, usual, log.steps.stage_times(record.run)))
    shares = by_worker(log.steps.tasks(record.run), [s.step for s in record.steps if s.status == "running"])
    if shares:
        screen.print()
        show(screen, _workers_table(shares))
    for step in record.steps:
        if fewer_than_usual(step, usual):
            screen.print(
                f"\n[yellow]![/] [bold]{escape(step.step)}[/] read {step.tally.read:,} rows, far fewer than the "
                f"{usual[step.step].read:,.0f} that are usual: is its source complete?"
            )
    groups = log.rejects.groups(record.run)
    if groups:
        screen.print()
        show(screen, rejects_table(groups))
    for step in record.steps:
        if step.error:
            screen.print(f"\n{status_text(step.status)}  [bold]{escape(step.step)}[/]")
            screen.print(indented(escape(step.error)))
    return 0


def _say_what_failed(screen: Console, found: list[RunRecord], where: str) -> None:
    """Of each job whose latest run did not succeed, which step, why, and how to go on; `where` the run log is."""
    seen: set[str] = set()
    for record in found:
        if record.job in seen:
            continue
        seen.add(record.job)
        if record.status in ("succeeded", "running"):
            continue
        ends = [(step.step, step.error) for step in record.steps if step.status in ("failed", "stopped") and step.error]
        step, why = ends[0] if ends else ("", record.error or "it died")
        shown = f"[bold]{escape(step)}[/]: " if step else ""
        screen.print(f"\n{status_text(record.status)}  run {record.run} of {escape(record.job)}")
        screen.print(indented(f"{shown}{escape(example(why, 300))}"))
        here = where + (f" --env {record.environment}" if record.environment and where else "")
        hints = [(f"kanal runs {record.run}{here}", "all about it")]
        if not record.is_replay:
            hints.append((f"kanal resume {record.run}{here}", "go on with it, once the cause is fixed"))
        print_hints(screen, hints)


def _workers_table(shares: Sequence[WorkerShare]) -> Table:
    """What each worker of a cluster, or process of an executor, did of a run."""
    with_now, with_lost = any(share.now for share in shares), any(share.lost for share in shares)
    more = ["#from lost ones"] if with_lost else []
    more += ["has now"] if with_now else []
    title = "Which worker did what"
    drawn = table("worker", "#tasks", "#rows", "#reading", "#computing", "#writing", *more, title=title)
    for share in shares:
        row = [escape(share.worker), number(share.tasks), number(share.read)]
        row += [duration(part) for part in (share.reading, share.computing, share.writing)]
        row += [number(share.lost)] if with_lost else []
        row += [escape("; ".join(share.now[:3]) + ("; …" if len(share.now) > 3 else ""))] if with_now else []
        drawn.add_row(*row)
    return drawn


def _times_table(
    record: RunRecord,
    times: Mapping[str, tuple[float, float, float]],
    usual: Mapping[str, Usual],
    stages: Mapping[str, Mapping[str, float]],
) -> Table:
    """Where the time of each step went, and what is usual."""
    title = "Where the time went (usually: the median of earlier runs)"
    names = ("~step", "#reading", "#computing", "#writing", "#time", "#usually", "#rows", "#usually", "slowest stages")
    drawn = table(*names, title=title)
    for step in record.steps:
        parts = times.get(step.step, (0.0, 0.0, 0.0))
        known = usual.get(step.step)
        rows = f"[yellow]{step.tally.read:,}[/]" if fewer_than_usual(step, usual) else number(step.tally.read)
        drawn.add_row(
            escape(step.step),
            *(duration(part) if step.step in times else "" for part in parts),
            duration(step.seconds),
            duration(known.seconds) if known else "",
            rows,
            f"{known.read:,.0f}" if known else "",
            _slowest(stages.get(step.step, {})),
        )
    return drawn


def _slowest(stages: Mapping[str, float], count: int = 3) -> str:
    """The stages of a step that took longest, each with its share of the time of all stages."""
    whole = sum(stages.values())
    slowest = sorted(stages.items(), key=lambda stage: -stage[1])[:count]
    return ", ".join(f"{name} {seconds / whole:.0%}" for name, seconds in slowest if seconds >= whole / 20)
