"""kanal resume: continues a run that failed, was stopped or died."""

from __future__ import annotations

from pathlib import Path

from kanal.cli.jobs import choose_environment, chosen_environment, crew, read_job
from kanal.cli.log import find_run_log
from kanal.cli.output import console, print_json
from kanal.cli.run import exit_status, print_run, watched
from kanal.core.errors import KanalError
from kanal.runlog.documents import run_document
from kanal.runner import resume_run, run_log_of


def resume(number: int | None, job: Path | None, run_log: str | None, events: Path | None, json: bool) -> int:
    """Go on with a run and print the log of it; the exit status."""
    path, number = job_file_of(number, job, run_log, to_go_on=True)
    definition = read_job(path)
    with crew() as found:
        outcome = watched(json, events, lambda watcher: resume_run(definition, number, watcher, found))
    if json:
        print_json(run_document(outcome))
    else:
        print_run(console(), outcome, run_log_of(definition), path)
    return exit_status(outcome)


def job_file_of(
    number: int | None, job: Path | None, run_log: str | None, to_go_on: bool = False
) -> tuple[Path, int | None]:
    """The job file given, or that of a run in the run log, and the run's number; raises KanalError if there is none.

    Without a number, the latest run is meant; or to go on, the one that is unfinished, if it is one job's alone.
    """
    if job is not None:
        return job, number
    log = find_run_log(None, run_log)
    record = log.past.run(number)
    if number is None and to_go_on:
        latest = {found.job: found for found in reversed(log.past.unfinished())}
        if len(latest) > 1:
            names = ", ".join(f"run {found.run} of {found.job}" for found in latest.values())
            raise KanalError(f"Runs of several jobs are unfinished: {names}", "name one by its number")
        record = next(iter(latest.values()), record)
    if chosen_environment() is None:
        choose_environment(record.environment)
    if record.file is None:
        raise KanalError(f"Run {record.run} was started from Python", "go on with it there, by its job")
    return Path(record.file), record.run
