"""kanal serve, next and notify: jobs that run by themselves, when they are due, and who is told."""

from __future__ import annotations

import datetime as dt
import signal
import threading
from pathlib import Path
from types import FrameType

from kanal.cli.jobs import chosen_environment, read_job
from kanal.cli.log import find_run_log, job_name
from kanal.cli.memory import expect_long_work
from kanal.cli.output import console, escape, print_json, show, table
from kanal.core.errors import KanalError, counted
from kanal.core.nearest import did_you_mean


def need_service() -> None:
    """Raises KanalError if the packages of kanal[service] are not installed."""
    try:
        import apprise  # noqa: F401
        import apscheduler  # noqa: F401
        import cronsim  # noqa: F401
        import jinja2  # noqa: F401
        import starlette  # noqa: F401
        import uvicorn  # noqa: F401
    except ImportError as error:
        raise KanalError(f"the package {error.name} is not installed", "install kanal[service]") from None


def serve(
    paths: list[Path],
    port: int | None,
    listen: str,
    allow_actions: str | None,
    allow_viewing: str | None,
    host_names: list[str],
    at_once: int,
    events: Path | None,
) -> int:
    """Run jobs when they are due, until the process is told to stop; the exit status."""
    need_service()
    from kanal.cli.events import writing_events
    from kanal.service.doors import PageAccess
    from kanal.service.service import Service
    from kanal.service.web import Page

    expect_long_work()
    stop = threading.Event()

    def handle(_number: int, _frame: FrameType | None) -> None:
        stop.set()

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, handle)
    service = Service(paths, chosen_environment(), at_once, events=events if str(events) != "-" else None)
    screen = console(stderr=True)
    for path, why in service.jobs.unread.items():
        screen.print(f"[bold red]✗[/] {escape(str(path))} cannot be served yet:\n    {escape(why)}")
    if not service.served and not port:
        raise KanalError("none of the jobs can be served", "correct what is said above")
    page = None
    if port is not None:
        page = Page(service, PageAccess(port, listen, allow_actions, allow_viewing, host_names))
    with writing_events(events), service.at_work():
        for served in service.served.values():
            when = _when(service.decision(served).again)
            screen.print(f"[green]✓[/] {escape(served.name)}  [dim]{when}[/]")
        if page is not None:
            page.start()
            screen.print(f"[green]✓[/] {escape(page.address)}  [dim]the page; Ctrl-C or SIGTERM stops[/]")
        while not stop.wait(3600):
            pass
        if page is not None:
            page.stop()
    screen.print("stopped; runs that were under way are gone on with at the next start.")
    return 0


def _when(moment: dt.datetime | None) -> str:
    return f"next at {moment:%Y-%m-%d %H:%M:%S} UTC" if moment is not None else "has no times of its own"


def coming(paths: list[Path], count: int, json: bool) -> int:
    """Print when jobs are due next; the exit status."""
    need_service()
    from kanal.service.due import first

    found = []
    for path in paths:
        job = read_job(path)
        schedule = job.schedule
        moments = first(schedule, dt.datetime.now(dt.UTC), count) if schedule is not None and schedule.enabled else []
        found.append((job, moments))
    if json:
        print_json(
            [
                {
                    "job": job.job,
                    "environment": job.chosen_environment,
                    "time_zone": job.schedule.time_zone if job.schedule else None,
                    "after_job": job.schedule.after_job if job.schedule else [],
                    "next": [moment.isoformat() for moment in moments],
                }
                for job, moments in found
            ]
        )
        return 0
    screen = console()
    drawn = table("job", "due", "in zone", "UTC", "in")
    now = dt.datetime.now(dt.UTC)
    for job, moments in found:
        schedule = job.schedule
        if schedule is None or not schedule.enabled or schedule.after_job:
            after = f"after {', '.join(schedule.after_job)}" if schedule is not None and schedule.after_job else ""
            off = "no [schedule]" if schedule is None else "not enabled"
            drawn.add_row(escape(job.log_name), escape(after or off), "", "", "")
            continue
        for moment in moments:
            local = moment.astimezone(schedule.zone)
            drawn.add_row(
                escape(job.log_name), f"{local:%a %Y-%m-%d %H:%M:%S}", f"{schedule.time_zone} {local:%z}",
                f"{moment:%Y-%m-%d %H:%M:%S}", _from_now(moment - now),
            )  # fmt: skip
    show(screen, drawn)
    return 0


def _from_now(time: dt.timedelta) -> str:
    minutes = round(time.total_seconds() / 60)
    if minutes < 120:
        return f"{minutes} min"
    return f"{minutes / 60:.1f} h" if minutes < 2880 else f"{minutes / 1440:.1f} days"


def notify(path: Path, name: str | None, json: bool) -> int:
    """Send a test message to the receivers of a job, or to one; the exit status."""
    need_service()
    from kanal.service.messages import send

    job = read_job(path)
    if not job.notify:
        raise KanalError(f"{path} has no receivers", "add [notify.NAME] with to = … and when = …")
    if name is not None and name not in job.notify:
        raise KanalError(f"{path} has no [notify.{name}]", did_you_mean(name, job.notify) or "name one that it has")
    title = f"{job.log_name}: a test"
    text = f"This is a test of the messages of {job.log_name}. Nothing has happened."
    results = {receiver: send(job, receiver, title, text) for receiver in ([name] if name else job.notify)}
    if json:
        print_json({receiver: {"sent": error is None, "error": error} for receiver, error in results.items()})
        return 1 if any(results.values()) else 0
    screen = console()
    for receiver, error in results.items():
        if error is None:
            many = counted(len(job.notify[receiver].to), "address").replace("addresss", "addresses")
            screen.print(
                f"[green]✓[/] {escape(receiver)}: sent to {many}; when: {', '.join(job.notify[receiver].when)}"
            )
        else:
            screen.print(f"[bold red]✗[/] {escape(receiver)}: {escape(error)}")
    return 1 if any(results.values()) else 0


def report(run: int | None, into: Path, job: Path | None, run_log: str | None, json: bool) -> int:
    """Write the page of a run to a file; the exit status."""
    need_service()
    from kanal.service.report import write_report

    log = find_run_log(job, run_log)
    record = log.past.run(run, job_name(job))
    size = write_report(log, record, into)
    if json:
        print_json({"run": record.run, "file": str(into), "bytes": size})
        return 0
    console().print(f"[green]✓[/] {escape(str(into))}: run {record.run} of {escape(record.job)}, {size:,} bytes")
    return 0
