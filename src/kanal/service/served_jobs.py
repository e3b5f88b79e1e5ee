"""The jobs that a service runs, each with the run log that it names."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from pathlib import Path

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import JobDefinition
from kanal.runlog import RunLogStore
from kanal.runner.run import run_log_of
from kanal.service.served import Served, take_in


class ServedJobs:
    """Jobs by name. `unread` has those that could not be read when the service began, and why.

    A job is packed into `folder` when it is read, so that a file that breaks later leaves the last good one in place.
    """

    def __init__(self, environment: str | None, folder: Path) -> None:
        self._environment, self._folder = environment, folder
        self.by_name: dict[str, Served] = {}
        self.unread: dict[Path, str] = {}
        #: The run logs, each opened once however many jobs write to it.
        self.logs: dict[tuple[Hashable, str], RunLogStore] = {}

    def take(self, path: Path) -> None:
        """Read a job for the first time, or note why it cannot be read; raises KanalError for a name that is taken."""
        try:
            served = take_in(path, self._environment, self._folder, self._log_of)
        except KanalError as error:
            self.unread[path] = str(error)
            return
        self.unread.pop(path, None)
        twin = self.by_name.get(served.name)
        if twin is not None and twin.path.resolve() != path.resolve():
            raise KanalError(f'{twin.path} and {path} are both called "{served.name}"', "give one another name")
        self.by_name[served.name] = served
        keep_schedule(served)

    def fresh(self, served: Served) -> Served:
        """A job as its file is now, checked; raises KanalError."""
        found = take_in(served.path, served.environment, self._folder, self._log_of, check=True)
        if found.name != served.name:
            raise KanalError(f'the job is now called "{found.job.job}"', "start the service anew to rename a job")
        self.check_after(found)
        return found

    def named(self, name: str) -> Served | None:
        """The job of a name, with or without its environment."""
        return next((other for other in self.by_name.values() if name in (other.job.job, other.name)), None)

    def check_names(self) -> None:
        """Raise KanalError if a job is to run after one that is not served, or after itself."""
        for served in self.by_name.values() if not self.unread else ():
            self.check_after(served)

    def check_after(self, served: Served) -> None:
        """Raise KanalError if a job is to run after one that is not served, or after itself."""
        schedule = served.job.schedule
        for name in schedule.after_job if schedule is not None else ():
            if self.named(name) is None:
                names = [other.job.job for other in self.by_name.values()]
                raise KanalError(
                    f'{served.path}: it runs after a job "{name}", which is not served',
                    did_you_mean(name, names) or "serve that one too",
                )
        self._check_circle([served])

    def _check_circle(self, chain: Sequence[Served]) -> None:
        """Raise KanalError if jobs run after each other in a circle."""
        schedule = chain[-1].job.schedule
        for name in schedule.after_job if schedule is not None else ():
            other = self.named(name)
            if other is not None and other.name == chain[0].name:
                ring = " → ".join(one.name for one in [*chain, chain[0]])
                raise KanalError(f"These jobs run after each other in a circle: {ring}", "give one of them a time")
            if other is not None and other not in chain:
                self._check_circle([*chain, other])

    def _log_of(self, job: JobDefinition) -> RunLogStore:
        """The run log of a job, which other jobs may have too."""
        log = run_log_of(job)
        key = (log.database.identity, str(log.database.url))
        if key not in self.logs:
            log.prepare()
            self.logs[key] = log
        return self.logs[key]


def keep_schedule(served: Served) -> None:
    """Note in the run log since when the schedule of a job is kept."""
    if served.job.schedule is not None:
        served.log.service.keep_schedule(served.name, served.job.schedule.identity)
