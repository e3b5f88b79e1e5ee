"""A job that is served: its last good state, kept as a bundle, and what became of later ones."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from kanal.core.errors import KanalError
from kanal.definition import JobDefinition, read_job
from kanal.definition.bundle import ENDING, texts_of, write_bundle
from kanal.runlog import RunLogStore


class Served(Struct, eq=False):
    """A job as the service has it. `broken` says what is wrong with its file since it was last good."""

    path: Path
    environment: str | None
    job: JobDefinition
    bundle: Path
    log: RunLogStore
    #: What the files looked like when they were last read, good or not, and which files those are.
    seen: dict[str, tuple[int, int]] = field(default_factory=dict)
    #: What they looked like a moment ago, if they are being written.
    changing: dict[str, tuple[int, int]] = field(default_factory=dict)
    broken: str | None = None
    #: When what is broken is tried again, though its files have not changed, and how long after the last time: what is
    #: wrong may be a database that is down.
    tried_again: dt.datetime | None = None
    pause: dt.timedelta = dt.timedelta()
    #: Why its next run could not begin, and until when that is not tried again; whether the run log could not be asked.
    trouble: str | None = None
    unknown: bool = False
    not_before: dt.datetime | None = None
    #: When it is to be looked at again at the latest; whether it waits for another run to end.
    again: dt.datetime | None = None
    waits: bool = False
    #: How often runs were resumed in vain: they could not even begin.
    in_vain: dict[int, int] = field(default_factory=dict)
    child: Child | None = None
    #: The endings of runs that were looked at: run, status, and how often it was resumed.
    told: set[tuple[int, str, int]] = field(default_factory=set)

    @property
    def name(self) -> str:
        """The job's name in the run log."""
        return self.job.log_name

    def changing_to(self, runs: bool) -> str:
        """ "starting" if a process was started and its run has not begun, "stopping" if it is to stop, or ""."""
        child = self.child
        if child is None:
            return ""
        return "stopping" if child.stopping else "" if runs else "starting"

    def looks(self) -> dict[str, tuple[int, int]]:
        """What its files look like now."""
        found = {}
        for name in self.seen:
            try:
                state = Path(name).stat()
                found[name] = state.st_mtime_ns, state.st_size
            except OSError:
                found[name] = 0, 0
        return found


def take_in(
    path: Path,
    environment: str | None,
    folder: Path,
    log_of: Callable[[JobDefinition], RunLogStore],
    check: bool = False,
) -> Served:
    """Read a job to be served, and keep what was read in a folder; raises JobError if it is wrong.

    With `check`, its databases are asked too.
    """
    job = read_job(path, JobDefinition, environment)
    if check:
        checked(path, environment)
    packed = folder / f"{hashlib.sha256(str(path.resolve()).encode()).hexdigest()[:16]}-{environment or ''}{ENDING}"
    if path.name.endswith(ENDING):
        packed.write_bytes(path.read_bytes())
        texts = [path.resolve()]
    else:
        write_bundle(job, packed)
        texts = texts_of(job)
    served = Served(path, environment, job, packed, log_of(job), dict.fromkeys(map(str, texts), (0, 0)))
    served.seen = served.looks()
    return served


def checked(path: Path, environment: str | None) -> None:
    """Raises KanalError if a job is wrong, as a process of its own finds, which can crash without harm."""
    command = [sys.executable, "-m", "kanal", "check", str(path), "--json"]
    command += ["--env", environment] if environment else []
    done = subprocess.run(command, capture_output=True, text=True, stdin=subprocess.DEVNULL, check=False)
    try:
        found = json.loads(done.stdout)
    except ValueError:
        why = f"signal {-done.returncode}" if done.returncode < 0 else f"status {done.returncode}"
        raise KanalError(f"kanal check of {path} ended unexpectedly, by {why}", "run it by hand") from None
    problems = found.get("problems") or ([found["error"]] if "error" in found else [])
    if problems:
        said = "\n".join(f"{one.get('place') or ''} {one['what']}. {one['remedy']}".strip() for one in problems)
        raise KanalError(said)


class Child(Struct):
    """A process that runs a job: what it was told, and whether it was told to stop."""

    task: dict[str, Any]
    process: subprocess.Popen[str]
    stopping: bool = False


def start(task: dict[str, Any]) -> subprocess.Popen[str]:
    """Start the process that does a task; raises KanalError if that cannot be done."""
    try:
        process = subprocess.Popen(
            [sys.executable, "-m", "kanal.service.child"],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        assert process.stdin is not None
        process.stdin.write(json.dumps(task))
        process.stdin.close()
        process.stdin = None
    except OSError as error:
        raise KanalError(f"no process can be started: {error.strerror}", "see whether the machine is full") from None
    return process
