"""Runs, resumes or replays one job in a process of its own; what it is to do comes as JSON on its input."""

from __future__ import annotations

import datetime as dt
import json
import logging
import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kanal.core.errors import KanalError
from kanal.definition import JobDefinition, read_job
from kanal.runlog import AlreadyRunning, Start, clock
from kanal.runner import Run, replay_run, resume_run, run_job
from kanal.runner.elsewhere import cluster_at
from kanal.runner.events import events_to
from kanal.runner.run_options import RunOptions

if TYPE_CHECKING:
    from kanal.runner.elsewhere.crew import Crew

#: How the process ends if the run could not begin, and where another process does it.
NOT_BEGUN, ELSEWHERE = 3, 4


def work(task: dict[str, Any]) -> int:
    """Do what a task says; 0 if it succeeded, 1 if a step failed, NOT_BEGUN or ELSEWHERE."""
    clock.set_ahead(dt.timedelta(seconds=task.get("ahead", 0)))
    try:
        job = read_job(Path(task["bundle"]), JobDefinition, task.get("environment"), Path(task["file"]))
        with _writing_events(task.get("events")), cluster_at(os.environ.get("KANAL_CLUSTER")) as crew:
            outcome = _done(job, task, crew)
    except AlreadyRunning:
        return ELSEWHERE
    except KanalError as error:
        print(error, file=sys.stderr, flush=True)
        return NOT_BEGUN
    return 0 if str(outcome.status) == "succeeded" else 1


@contextmanager
def _writing_events(path: str | None) -> Iterator[None]:
    """While this lasts, events of the run are appended to the file of the service's events, if it has one."""
    if path is None:
        yield
        return
    with events_to(logging.FileHandler(path, encoding="utf-8")):
        yield


def _done(job: JobDefinition, task: dict[str, Any], crew: Crew | None) -> Run:
    if task["act"] == "resume":
        return resume_run(job, task["run"], executor=crew)
    if task["act"] == "replay":
        return replay_run(job, task["run"], executor=crew)
    low, high = task.get("window") or (None, None)
    due = dt.datetime.fromisoformat(task["due"]) if task.get("due") else None
    options = RunOptions(since=low, until=high, zone=task.get("zone"), start=Start(by=task.get("by"), due=due))
    return run_job(job, options, executor=crew)


def main() -> None:
    """The process: reads its task, does it, and ends without waiting for what could not be broken off."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it is the service that a terminal's Ctrl-C is for
    status = work(json.load(sys.stdin))
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(status)


if __name__ == "__main__":
    main()
