"""Finds the run log that a command is to read."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec import Struct

from kanal.connections import open_log
from kanal.core.errors import KanalError
from kanal.runlog import RunLogStore


class _Place(Struct, frozen=True):
    """Where a run log is: what a job's [run_log] says of it."""

    url: str
    password: None = None


DEFAULT_FILE = "kanal-runs.db"


def find_run_log(job: Path | None, url: str | None) -> RunLogStore:
    """The run log of a URL, of a job, or `kanal-runs.db` in this folder; raises KanalError if there is none."""
    if url is not None and job is not None:
        raise KanalError("--job and --run-log both name a run log", "give one of the two")
    if url is not None:
        return _existing(RunLogStore(open_log(_Place(url), Path.cwd())))
    if job is not None:
        from kanal.cli.jobs import read_job
        from kanal.runner import run_log_of

        return _existing(run_log_of(read_job(job)))
    if not Path(DEFAULT_FILE).exists():
        raise KanalError(f"There is no {DEFAULT_FILE} in this folder", "name the job with --job FILE, or --run-log URL")
    return _existing(RunLogStore(open_log(_Place(f"sqlite:///{DEFAULT_FILE}"), Path.cwd())))


def _existing(store: RunLogStore) -> RunLogStore:
    if not store.exists():
        raise KanalError(f"There is no run log at {store.database.shown_url} yet", "run a job first")
    store.prepare()
    store.runs.end_dead_runs()
    return store


def job_name(job: Path | None) -> str | None:
    """The name of a file's job; None if no file is given."""
    if job is None:
        return None
    from kanal.cli.jobs import read_job

    return read_job(job).log_name


def job_and_environment(job: Path | None) -> tuple[str | None, str | None]:
    """The name of a file's job and the chosen environment; None for each that is not given."""
    if job is None:
        return None, None
    from kanal.cli.jobs import read_job

    found = read_job(job)
    return found.job, found.chosen_environment


def private(path: str, flags: int) -> int:
    """Open a file for its owner alone, if it is new."""
    return os.open(path, flags, 0o600)
